//! Expressions: integers, bytes and booleans, computed from captured values and built-in names.
//! They have no side effects and always terminate: loops run over the bytes of a value or a
//! number of rounds that is known in advance, and every evaluation has a budget.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::cipher::Way;
use super::lexer::{Parsed, Problem, Token, TokenStream};
use super::value::{Integer, Name, Names, Value};
use vaka_base::checksum::CrcSum;

/// A range of the frame that contains an expression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// Everything before the field.
    Above,
    /// Everything after the field.
    Below,
    /// From one field to another, inclusive.
    Fields(Name, Name),
}

/// An expression and its position in the file.
#[derive(Clone, Debug)]
pub struct Expression {
    pub(super) node: Node,
    pub(super) at: usize,
}

#[derive(Clone, Debug)]
pub(super) enum Node {
    Value(Value),
    Name(Name),
    Part(Part),
    Unary(Unary, Box<Expression>),
    Binary(Binary, Box<Expression>, Box<Expression>),
    Choice(Box<[Expression; 3]>),
    Call(Function, Vec<Expression>),
    Map { item: Name, over: ChecksumScope, each: Box<Expression> },
    Fold { state: Name, from: Box<Expression>, item: Name, over: ChecksumScope, each: Box<Expression> },
    Rounds { count: Box<Expression>, state: Name, from: Box<Expression>, each: Box<Expression> },
}

impl Expression {
    /// Whether the expression uses one of these names.
    pub(super) fn mentions(&self, names: &BTreeSet<Name>) -> bool {
        let mut found = false;
        self.visit_names(&mut |name| found |= names.contains(&name));
        found
    }

    /// Calls `see` with every name that the expression uses.
    fn visit_names(&self, see: &mut dyn FnMut(Name)) {
        let of_scope = |over: &ChecksumScope, see: &mut dyn FnMut(Name)| {
            over.bytes.visit_names(see);
            over.by.iter().for_each(|by| by.visit_names(see));
        };
        match &self.node {
            Node::Value(_) | Node::Part(Part::Above | Part::Below) => {}
            Node::Name(name) => see(*name),
            Node::Part(Part::Fields(from, to)) => [*from, *to].into_iter().for_each(see),
            Node::Unary(_, of) => of.visit_names(see),
            Node::Binary(_, a, b) => [a, b].into_iter().for_each(|of| of.visit_names(see)),
            Node::Choice(parts) => parts.iter().for_each(|of| of.visit_names(see)),
            Node::Call(_, arguments) => arguments.iter().for_each(|of| of.visit_names(see)),
            Node::Map { over, each, .. } => {
                of_scope(over, see);
                each.visit_names(see);
            }
            Node::Fold { from, over, each, .. } => {
                of_scope(over, see);
                [from, each].into_iter().for_each(|of| of.visit_names(see));
            }
            Node::Rounds { count, from, each, .. } => {
                [count, from, each].into_iter().for_each(|of| of.visit_names(see));
            }
        }
    }
}

/// The bytes that are gone over: each as a number, or in pieces.
#[derive(Clone, Debug)]
pub(super) struct ChecksumScope {
    pub(super) bytes: Box<Expression>,
    pub(super) by: Option<Box<Expression>>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Unary {
    Minus,
    Invert,
    Not,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Binary {
    Or,
    And,
    Equal,
    Unequal,
    Less,
    LessOrEqual,
    More,
    MoreOrEqual,
    BitOr,
    BitXor,
    BitAnd,
    Left,
    Right,
    Join,
    Add,
    Subtract,
    Multiply,
    Divide,
    Remainder,
}

/// Binary operators from the lowest to the highest precedence.
const LEVELS: &[&[(&str, Binary)]] = &[
    &[("or", Binary::Or)],
    &[("and", Binary::And)],
    &[
        ("==", Binary::Equal),
        ("!=", Binary::Unequal),
        ("<=", Binary::LessOrEqual),
        (">=", Binary::MoreOrEqual),
        ("<", Binary::Less),
        (">", Binary::More),
    ],
    &[("|", Binary::BitOr)],
    &[("^", Binary::BitXor)],
    &[("&", Binary::BitAnd)],
    &[("<<", Binary::Left), (">>", Binary::Right)],
    &[("++", Binary::Join), ("+", Binary::Add), ("-", Binary::Subtract)],
    &[("*", Binary::Multiply), ("/", Binary::Divide), ("%", Binary::Remainder)],
];

#[derive(Clone, Debug)]
pub(super) enum Function {
    Len,
    Sum,
    Xor,
    Crc32,
    Crc(Arc<CrcSum>),
    Md5,
    Sha1,
    Sha256,
    HmacSha1,
    HmacSha256,
    AesCmac,
    AesEcb(Way),
    AesCbc(Way),
    Base64,
    ReadBase64,
    Deflate,
    Zlib,
    Inflate,
    Runs,
    Byte,
    Slice,
    Le,
    Be,
    Min,
    Max,
    Pad,
    Fill,
    Reverse,
    Hex,
    LowerHex,
    Dec,
    ReadHex,
    ReadDec,
    Number(Integer),
}

/// Parameters of each function for messages: I integer, B bytes.
const FUNCTIONS: &[(&str, Function, &str)] = &[
    ("len", Function::Len, "B"),
    ("sum", Function::Sum, "B"),
    ("xor", Function::Xor, "B"),
    ("crc32", Function::Crc32, "B"),
    ("md5", Function::Md5, "B"),
    ("sha1", Function::Sha1, "B"),
    ("sha256", Function::Sha256, "B"),
    ("hmac_sha1", Function::HmacSha1, "BB"),
    ("hmac_sha256", Function::HmacSha256, "BB"),
    ("aes_cmac", Function::AesCmac, "BB"),
    ("aes_ecb_encrypt", Function::AesEcb(Way::Encrypt), "BB"),
    ("aes_ecb_decrypt", Function::AesEcb(Way::Decrypt), "BB"),
    ("aes_cbc_encrypt", Function::AesCbc(Way::Encrypt), "BBB"),
    ("aes_cbc_decrypt", Function::AesCbc(Way::Decrypt), "BBB"),
    ("base64", Function::Base64, "B"),
    ("read_base64", Function::ReadBase64, "B"),
    ("deflate", Function::Deflate, "B"),
    ("zlib", Function::Zlib, "B"),
    ("inflate", Function::Inflate, "B"),
    ("runs", Function::Runs, "B"),
    ("byte", Function::Byte, "BI"),
    ("slice", Function::Slice, "BII"),
    ("le", Function::Le, "B"),
    ("be", Function::Be, "B"),
    ("min", Function::Min, "II"),
    ("max", Function::Max, "II"),
    ("pad", Function::Pad, "BII"),
    ("fill", Function::Fill, "II"),
    ("reverse", Function::Reverse, "B"),
    ("hex", Function::Hex, "II"),
    ("lower_hex", Function::LowerHex, "II"),
    ("dec", Function::Dec, "II"),
    ("read_hex", Function::ReadHex, "B"),
    ("read_dec", Function::ReadDec, "B"),
];

/// Reserved words.
const RESERVED: &[&str] =
    &["and", "or", "not", "if", "else", "in", "by", "above", "below", "map", "fold", "rounds", "random", "_"];

/// The word for random bytes: a step of its own, because an expression has the same value each time.
pub(super) const RANDOM: &str = "random";

/// The number of the item that `map`, `fold`, `rounds`, `each` and `repeat` are at.
pub(super) const NTH: &str = "nth";

pub(super) fn is_reserved(word: &str) -> bool {
    RESERVED.contains(&word) || FUNCTIONS.iter().any(|(name, ..)| *name == word) || Integer::parse(word).is_some()
}

/// The parser of expressions.
pub(super) struct Reader<'a> {
    pub(super) words: TokenStream,
    pub(super) names: &'a mut Names,
    pub(super) crcs: &'a BTreeMap<String, Arc<CrcSum>>,
    pub(super) depth: u32,
    /// Operators of the present expression.
    pub(super) operators: u32,
}

/// Maximum depth of nested brackets.
const MOST_DEPTH: u32 = 64;

/// Maximum number of operators of an expression. Chosen by us: a chain of operators becomes a tree
/// as deep as the chain is long, and each evaluation recurses through it.
const MOST_OPERATORS: u32 = 256;

impl Reader<'_> {
    pub(super) fn expression(&mut self) -> Parsed<Expression> {
        self.operators = 0;
        self.nested()
    }

    /// An expression inside another one.
    fn nested(&mut self) -> Parsed<Expression> {
        self.depth += 1;
        if self.depth > MOST_DEPTH {
            return Err(Problem::new(self.words.at(), "the nesting is too deep"));
        }
        let condition = self.level(0)?;
        self.depth -= 1;
        if !self.words.takes("?") {
            return Ok(condition);
        }
        self.count_operator()?;
        let at = condition.at;
        let yes = self.nested()?;
        self.words.expect(":")?;
        let no = self.nested()?;
        Ok(Expression { node: Node::Choice(Box::new([condition, yes, no])), at })
    }

    fn count_operator(&mut self) -> Parsed<()> {
        self.operators += 1;
        match self.operators > MOST_OPERATORS {
            true => {
                let message = format!("the expression has more than {MOST_OPERATORS} operators");
                Err(Problem::new(self.words.at(), message))
            }
            false => Ok(()),
        }
    }

    fn level(&mut self, level: usize) -> Parsed<Expression> {
        let Some(operators) = LEVELS.get(level) else { return self.unary() };
        let mut left = self.level(level + 1)?;
        loop {
            let found = operators.iter().find(|(sign, _)| self.words.takes(sign) || self.words.takes_word(sign));
            let Some((_, operator)) = found else { return Ok(left) };
            self.count_operator()?;
            let right = self.level(level + 1)?;
            let at = left.at;
            left = Expression { node: Node::Binary(*operator, Box::new(left), Box::new(right)), at };
        }
    }

    fn unary(&mut self) -> Parsed<Expression> {
        let at = self.words.at();
        let operator = if self.words.takes("-") {
            Unary::Minus
        } else if self.words.takes("~") {
            Unary::Invert
        } else if self.words.takes_word("not") {
            Unary::Not
        } else {
            return self.atom();
        };
        self.depth += 1;
        if self.depth > MOST_DEPTH {
            return Err(Problem::new(at, "the nesting is too deep"));
        }
        let of = self.unary()?;
        self.depth -= 1;
        Ok(Expression { node: Node::Unary(operator, Box::new(of)), at })
    }

    fn atom(&mut self) -> Parsed<Expression> {
        let at = self.words.at();
        let node = match self.words.peek().clone() {
            Token::Number(number) => {
                self.words.take();
                Node::Value(Value::Int(number))
            }
            Token::Bytes(bytes) => {
                self.words.take();
                Node::Value(bytes.into())
            }
            Token::Sign("(") => {
                self.words.take();
                let inner = self.nested()?;
                self.words.expect(")")?;
                inner.node
            }
            Token::Name(word) => {
                self.words.take();
                self.word(&word, at)?
            }
            _ => return Err(self.words.unexpected("a number, a name or a text")),
        };
        Ok(Expression { node, at })
    }

    fn word(&mut self, word: &str, at: usize) -> Parsed<Node> {
        match word {
            "above" => return Ok(Node::Part(Part::Above)),
            "below" => return Ok(Node::Part(Part::Below)),
            "map" => return self.map(),
            "fold" => return self.fold(),
            "rounds" => return self.rounds(),
            RANDOM => return Err(Problem::new(at, "random bytes need a step of their own: let name = random(16)")),
            _ => {}
        }
        if matches!(self.words.peek(), Token::Sign("(")) {
            return self.call(word, at);
        }
        if is_reserved(word) {
            return Err(Problem::new(at, format!("'{word}' is a reserved word")));
        }
        let name = self.names.number(word);
        if self.words.takes("..") {
            let (last, _) = self.words.name("the name of a field of this frame")?;
            let last = self.names.number(&last);
            return Ok(Node::Part(Part::Fields(name, last)));
        }
        Ok(Node::Name(name))
    }

    fn call(&mut self, word: &str, at: usize) -> Parsed<Node> {
        let known = FUNCTIONS.iter().find(|(name, ..)| *name == word);
        let (function, takes) = match (known, self.crcs.get(word), Integer::parse(word)) {
            (Some((_, function, takes)), ..) => (function.clone(), *takes),
            (None, Some(crc), _) => (Function::Crc(crc.clone()), "B"),
            (None, None, Some(integer)) => (Function::Number(integer), "I"),
            _ => {
                let names: Vec<&str> =
                    FUNCTIONS.iter().map(|(name, ..)| *name).chain(self.crcs.keys().map(String::as_str)).collect();
                let message = format!("'{word}' is not a function; functions: {}, map, fold, rounds", names.join(", "));
                return Err(Problem::new(at, message));
            }
        };
        self.words.expect("(")?;
        let mut given = Vec::new();
        while !self.words.takes(")") {
            if !given.is_empty() {
                self.words.expect(",")?;
            }
            given.push(self.nested()?);
        }
        let optional = matches!(function, Function::Hex | Function::LowerHex | Function::Dec) && given.len() == 1;
        if given.len() != takes.len() && !optional {
            let wanted: Vec<&str> = takes.chars().map(|c| if c == 'B' { "bytes" } else { "a number" }).collect();
            return Err(Problem::new(at, format!("{word} takes {}", wanted.join(", "))));
        }
        Ok(Node::Call(function, given))
    }

    /// Parses the name of a loop variable.
    fn local(&mut self) -> Parsed<Name> {
        let (word, at) = self.words.name("a name")?;
        if is_reserved(&word) {
            return Err(Problem::new(at, format!("'{word}' is a reserved word")));
        }
        Ok(self.names.number(&word))
    }

    fn over(&mut self) -> Parsed<ChecksumScope> {
        self.words.expect_word("in")?;
        let bytes = Box::new(self.nested()?);
        let by = if self.words.takes_word("by") { Some(Box::new(self.nested()?)) } else { None };
        Ok(ChecksumScope { bytes, by })
    }

    /// `map(b in BYTES: EXPR)`
    fn map(&mut self) -> Parsed<Node> {
        self.words.expect("(")?;
        let item = self.local()?;
        let over = self.over()?;
        let each = self.last()?;
        Ok(Node::Map { item, over, each })
    }

    /// `fold(state = EXPR, b in BYTES: EXPR)`
    fn fold(&mut self) -> Parsed<Node> {
        self.words.expect("(")?;
        let (state, from) = self.state()?;
        self.words.expect(",")?;
        let item = self.local()?;
        let over = self.over()?;
        let each = self.last()?;
        Ok(Node::Fold { state, from, item, over, each })
    }

    /// `rounds(COUNT, state = EXPR: EXPR)`
    fn rounds(&mut self) -> Parsed<Node> {
        self.words.expect("(")?;
        let count = Box::new(self.nested()?);
        self.words.expect(",")?;
        let (state, from) = self.state()?;
        let each = self.last()?;
        Ok(Node::Rounds { count, state, from, each })
    }

    fn state(&mut self) -> Parsed<(Name, Box<Expression>)> {
        let state = self.local()?;
        self.words.expect("=")?;
        Ok((state, Box::new(self.nested()?)))
    }

    fn last(&mut self) -> Parsed<Box<Expression>> {
        self.words.expect(":")?;
        let each = Box::new(self.nested()?);
        self.words.expect(")")?;
        Ok(each)
    }
}

impl Expression {
    /// A synthesized constant with no source position.
    pub(super) fn int(number: i128, at: usize) -> Self {
        Self { node: Node::Value(Value::Int(number)), at }
    }
}
