//! Expressions: whole numbers, bytes and truths, made of captured and given
//! names. They have no side effect and always end: what repeats goes over the
//! bytes of a value or a number of rounds that is known before, and the whole has
//! a budget.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

use super::checksum::{self, CrcSum};
use super::token::{Parsed, Problem, Token, Words};

/// A name, by its number in its dialect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(pub(super) u16);

/// All names of a dialect.
#[derive(Clone, Debug, Default)]
pub(super) struct Names {
    list: Vec<String>,
    numbers: BTreeMap<String, u16>,
}

impl Names {
    pub(super) fn number(&mut self, text: &str) -> Name {
        if let Some(number) = self.numbers.get(text) {
            return Name(*number);
        }
        // More names than that need a file beyond the size limit.
        let number = u16::try_from(self.list.len()).unwrap_or(u16::MAX);
        self.list.push(text.to_owned());
        self.numbers.insert(text.to_owned(), number);
        Name(number)
    }

    pub(super) fn find(&self, text: &str) -> Option<Name> {
        self.numbers.get(text).map(|number| Name(*number))
    }

    pub(super) fn text(&self, name: Name) -> &str {
        self.list.get(usize::from(name.0)).map_or("?", String::as_str)
    }

    pub(super) fn len(&self) -> usize {
        self.list.len()
    }
}

/// What an expression gives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A whole number.
    Int(i128),
    /// Bytes; a text is one too.
    Bytes(Arc<[u8]>),
    /// What a comparison gives.
    Truth(bool),
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Int(number @ 0..10) => write!(f, "{number}"),
            Self::Int(number) if *number > 0 => write!(f, "{number} (0x{number:X})"),
            Self::Int(number) => write!(f, "{number}"),
            Self::Bytes(bytes) => {
                let is_text = !bytes.is_empty() && bytes.iter().all(|byte| (0x20..0x7F).contains(byte));
                match is_text {
                    true => write!(f, "\"{}\"", String::from_utf8_lossy(bytes)),
                    false => f.write_str(&shortened(bytes)),
                }
            }
            Self::Truth(truth) => write!(f, "{truth}"),
        }
    }
}

/// Bytes for a person: all of few, the ends of many.
pub(super) fn shortened(bytes: &[u8]) -> String {
    const MOST: usize = 24;
    match bytes {
        [] => "nothing".to_owned(),
        bytes if bytes.len() <= MOST => crate::text::hex_pairs(bytes),
        bytes => {
            let (head, tail) = (&bytes[..MOST - 6], &bytes[bytes.len() - 4..]);
            let (head, tail) = (crate::text::hex_pairs(head), crate::text::hex_pairs(tail));
            format!("{head} … {tail} ({} bytes)", bytes.len())
        }
    }
}

impl From<Vec<u8>> for Value {
    fn from(bytes: Vec<u8>) -> Self {
        Self::Bytes(bytes.into())
    }
}

/// What kind of value an expression gives, and of a number how large it can be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// From, up to and including.
    Int(i128, i128),
    /// So many, where that is known.
    Bytes(Option<usize>),
    Truth,
}

/// Numbers of which nothing is known.
pub(super) const ANY_INT: Kind = Kind::Int(i128::MIN, i128::MAX);

impl Kind {
    pub(super) fn words(self) -> &'static str {
        match self {
            Self::Int(..) => "a number",
            Self::Bytes(_) => "bytes",
            Self::Truth => "a comparison",
        }
    }

    pub(super) fn is_like(self, other: Self) -> bool {
        matches!(
            (self, other),
            (Self::Int(..), Self::Int(..)) | (Self::Bytes(_), Self::Bytes(_)) | (Self::Truth, Self::Truth)
        )
    }

    /// Both, for a name that can be either.
    pub(super) fn joined(self, other: Self) -> Self {
        match (self, other) {
            (Self::Int(a, b), Self::Int(c, d)) => Self::Int(a.min(c), b.max(d)),
            (Self::Bytes(a), Self::Bytes(b)) => Self::Bytes(a.filter(|_| a == b)),
            (kind, _) => kind,
        }
    }
}

/// The form of an integer: `u8`, `u16le`, `i32be`; 1 to 8 bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Integer {
    pub(super) bytes: usize,
    pub(super) big: bool,
    pub(super) signed: bool,
}

impl Integer {
    /// Reads a form; `None` if it is none.
    pub(super) fn parse(word: &str) -> Option<Self> {
        let signed = word.starts_with('i');
        let rest = word.strip_prefix(['u', 'i'])?;
        let (digits, order) = rest.split_at(rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len()));
        let bits: usize = digits.parse().ok()?;
        let bytes = bits / 8;
        let big = match order {
            "be" => true,
            "le" => false,
            "" if bits == 8 => false,
            _ => return None,
        };
        (bits.is_multiple_of(8) && (1..=8).contains(&bytes)).then_some(Self { bytes, big, signed })
    }

    pub(super) fn range(self) -> (i128, i128) {
        let bits = u32::try_from(self.bytes * 8).unwrap_or(64);
        match self.signed {
            true => (-(1_i128 << (bits - 1)), (1_i128 << (bits - 1)) - 1),
            false => (0, (1_i128 << bits) - 1),
        }
    }

    pub(super) fn holds(self, number: i128) -> bool {
        let (low, high) = self.range();
        (low..=high).contains(&number)
    }

    /// The bytes of a number; `None` if it does not fit.
    pub(super) fn emit(self, number: i128) -> Option<Vec<u8>> {
        if !self.holds(number) {
            return None;
        }
        let all = number.to_le_bytes();
        let mut bytes = all[..self.bytes].to_vec();
        if self.big {
            bytes.reverse();
        }
        Some(bytes)
    }

    /// Adds the bytes of a number; false if it does not fit.
    pub(super) fn emit_to(self, number: i128, out: &mut Vec<u8>) -> bool {
        if !self.holds(number) {
            return false;
        }
        let all = number.to_le_bytes();
        match self.big {
            true => out.extend(all[..self.bytes].iter().rev()),
            false => out.extend_from_slice(&all[..self.bytes]),
        }
        true
    }

    /// The number in exactly so many bytes.
    pub(super) fn read(self, bytes: &[u8]) -> i128 {
        let shift = |number: i128, byte: &u8| number << 8 | i128::from(*byte);
        let number = if self.big { bytes.iter().fold(0, shift) } else { bytes.iter().rev().fold(0, shift) };
        let (_, high) = self.range();
        if self.signed && number > high { number - (1_i128 << (self.bytes * 8)) } else { number }
    }
}

impl fmt::Display for Integer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let order = match (self.bytes, self.big) {
            (1, _) => "",
            (_, true) => "be",
            (_, false) => "le",
        };
        write!(f, "{}{}{order}", if self.signed { 'i' } else { 'u' }, self.bytes * 8)
    }
}

/// A stretch of the frame that an expression stands in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// Everything before the field.
    Above,
    /// Everything behind it.
    Below,
    /// From a field up to and with another.
    Fields(Name, Name),
}

/// An expression, and where in the file it stands.
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
    Map { item: Name, over: Over, each: Box<Expression> },
    Fold { state: Name, from: Box<Expression>, item: Name, over: Over, each: Box<Expression> },
    Rounds { count: Box<Expression>, state: Name, from: Box<Expression>, each: Box<Expression> },
}

/// The bytes that are gone over: each as a number, or in pieces.
#[derive(Clone, Debug)]
pub(super) struct Over {
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
    Rest,
}

/// From the loosest to the tightest.
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
    &[("*", Binary::Multiply), ("/", Binary::Divide), ("%", Binary::Rest)],
];

#[derive(Clone, Debug)]
pub(super) enum Function {
    Len,
    Sum,
    Xor,
    Crc32,
    Crc(Arc<CrcSum>),
    Md5,
    Sha256,
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

/// What each function takes, in words for messages: I number, B bytes.
const FUNCTIONS: &[(&str, Function, &str)] = &[
    ("len", Function::Len, "B"),
    ("sum", Function::Sum, "B"),
    ("xor", Function::Xor, "B"),
    ("crc32", Function::Crc32, "B"),
    ("md5", Function::Md5, "B"),
    ("sha256", Function::Sha256, "B"),
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

/// Words that are no names.
const RESERVED: &[&str] =
    &["and", "or", "not", "if", "else", "in", "by", "above", "below", "map", "fold", "rounds", "_"];

/// The number of the item that `map`, `fold`, `rounds`, `each` and `repeat` are at.
pub(super) const NTH: &str = "nth";

pub(super) fn is_reserved(word: &str) -> bool {
    RESERVED.contains(&word) || FUNCTIONS.iter().any(|(name, ..)| *name == word) || Integer::parse(word).is_some()
}

/// What expressions are read with.
pub(super) struct Reader<'a> {
    pub(super) words: Words,
    pub(super) names: &'a mut Names,
    pub(super) crcs: &'a BTreeMap<String, Arc<CrcSum>>,
    pub(super) depth: u32,
}

/// Brackets in brackets, at the most.
const MOST_DEPTH: u32 = 64;

impl Reader<'_> {
    pub(super) fn expression(&mut self) -> Parsed<Expression> {
        self.depth += 1;
        if self.depth > MOST_DEPTH {
            return Err(Problem::new(self.words.at(), "this is nested too deeply"));
        }
        let condition = self.level(0)?;
        self.depth -= 1;
        if !self.words.takes("?") {
            return Ok(condition);
        }
        let at = condition.at;
        let yes = self.expression()?;
        self.words.expect(":")?;
        let no = self.expression()?;
        Ok(Expression { node: Node::Choice(Box::new([condition, yes, no])), at })
    }

    fn level(&mut self, level: usize) -> Parsed<Expression> {
        let Some(operators) = LEVELS.get(level) else { return self.unary() };
        let mut left = self.level(level + 1)?;
        loop {
            let found = operators.iter().find(|(sign, _)| self.words.takes(sign) || self.words.takes_word(sign));
            let Some((_, operator)) = found else { return Ok(left) };
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
            return Err(Problem::new(at, "this is nested too deeply"));
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
                let inner = self.expression()?;
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
            _ => {}
        }
        if matches!(self.words.peek(), Token::Sign("(")) {
            return self.call(word, at);
        }
        if is_reserved(word) {
            return Err(Problem::new(at, format!("'{word}' is a word of the language, not a name")));
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
                let message = format!("'{word}' is no function; there are: {}, map, fold, rounds", names.join(", "));
                return Err(Problem::new(at, message));
            }
        };
        self.words.expect("(")?;
        let mut given = Vec::new();
        while !self.words.takes(")") {
            if !given.is_empty() {
                self.words.expect(",")?;
            }
            given.push(self.expression()?);
        }
        let optional = matches!(function, Function::Hex | Function::LowerHex | Function::Dec) && given.len() == 1;
        if given.len() != takes.len() && !optional {
            let wanted: Vec<&str> = takes.chars().map(|c| if c == 'B' { "bytes" } else { "a number" }).collect();
            return Err(Problem::new(at, format!("{word} takes {}", wanted.join(", "))));
        }
        Ok(Node::Call(function, given))
    }

    /// A name that stands for an item or a state.
    fn local(&mut self) -> Parsed<Name> {
        let (word, at) = self.words.name("a name")?;
        if is_reserved(&word) {
            return Err(Problem::new(at, format!("'{word}' is a word of the language, not a name")));
        }
        Ok(self.names.number(&word))
    }

    fn over(&mut self) -> Parsed<Over> {
        self.words.expect_word("in")?;
        let bytes = Box::new(self.expression()?);
        let by = if self.words.takes_word("by") { Some(Box::new(self.expression()?)) } else { None };
        Ok(Over { bytes, by })
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
        let count = Box::new(self.expression()?);
        self.words.expect(",")?;
        let (state, from) = self.state()?;
        let each = self.last()?;
        Ok(Node::Rounds { count, state, from, each })
    }

    fn state(&mut self) -> Parsed<(Name, Box<Expression>)> {
        let state = self.local()?;
        self.words.expect("=")?;
        Ok((state, Box::new(self.expression()?)))
    }

    fn last(&mut self) -> Parsed<Box<Expression>> {
        self.words.expect(":")?;
        let each = Box::new(self.expression()?);
        self.words.expect(")")?;
        Ok(each)
    }
}

/// What is known of names before anything runs.
pub(super) trait Knowledge {
    /// The kind of a name; a sentence if it is not known here.
    fn kind(&self, name: Name, at: usize) -> Parsed<Kind>;
    /// The name of the number of an item.
    fn nth(&self) -> Name;
    /// Whether a stretch of the frame is there.
    fn part(&self, part: Part, at: usize) -> Parsed<()>;
}

/// Knowledge with one more name.
struct With<'a> {
    below: &'a dyn Knowledge,
    name: Name,
    kind: Kind,
}

impl Knowledge for With<'_> {
    fn kind(&self, name: Name, at: usize) -> Parsed<Kind> {
        if name == self.name { Ok(self.kind) } else { self.below.kind(name, at) }
    }

    fn nth(&self) -> Name {
        self.below.nth()
    }

    fn part(&self, part: Part, at: usize) -> Parsed<()> {
        self.below.part(part, at)
    }
}

/// Rounds of a `rounds` or `repeat`, at the most.
pub(super) const MOST_ROUNDS: i128 = 65_536;

impl Expression {
    /// A constant that stands nowhere in the file.
    pub(super) fn int(number: i128, at: usize) -> Self {
        Self { node: Node::Value(Value::Int(number)), at }
    }

    /// The kind of its value; finds wrong types and unknown names.
    pub(super) fn kind(&self, known: &dyn Knowledge) -> Parsed<Kind> {
        match &self.node {
            Node::Value(Value::Int(number)) => Ok(Kind::Int(*number, *number)),
            Node::Value(Value::Bytes(bytes)) => Ok(Kind::Bytes(Some(bytes.len()))),
            Node::Value(Value::Truth(_)) => Ok(Kind::Truth),
            Node::Name(name) => known.kind(*name, self.at),
            Node::Part(part) => known.part(*part, self.at).map(|()| Kind::Bytes(None)),
            Node::Unary(Unary::Not, of) => of.truth(known).map(|()| Kind::Truth),
            Node::Unary(Unary::Minus, of) => {
                of.int_kind(known).map(|(low, high)| Kind::Int(high.saturating_neg(), low.saturating_neg()))
            }
            Node::Unary(Unary::Invert, of) => of.int_kind(known).map(|(low, high)| Kind::Int(!high, !low)),
            Node::Binary(operator, left, right) => self.binary_kind(*operator, left, right, known),
            Node::Choice(parts) => {
                let [condition, yes, no] = &**parts;
                condition.truth(known)?;
                let (yes_kind, no_kind) = (yes.kind(known)?, no.kind(known)?);
                if !yes_kind.is_like(no_kind) {
                    let message =
                        format!("one side of this choice is {}, the other {}", yes_kind.words(), no_kind.words());
                    return Err(Problem::new(no.at, message));
                }
                Ok(yes_kind.joined(no_kind))
            }
            Node::Call(function, given) => call_kind(function, given, known),
            Node::Map { item, over, each } => {
                let inner = over.kind(known)?;
                let within = With { below: known, name: *item, kind: inner };
                let within = With { below: &within, name: known.nth(), kind: Kind::Int(0, i128::from(u32::MAX)) };
                match each.kind(&within)? {
                    Kind::Int(low, high) if high < 0 || low > 255 => {
                        Err(Problem::new(each.at, "a byte holds 0 to 255; this never is one"))
                    }
                    Kind::Truth => Err(Problem::new(each.at, "each byte becomes a number or bytes, not a comparison")),
                    _ => Ok(Kind::Bytes(None)),
                }
            }
            Node::Fold { state, from, item, over, each } => {
                let inner = over.kind(known)?;
                let within = With { below: known, name: *item, kind: inner };
                fold_kind(*state, from, each, &within, known)
            }
            Node::Rounds { count, state, from, each } => {
                let (_, high) = count.int_kind(known)?;
                if high > MOST_ROUNDS {
                    let message = format!(
                        "that could be {high} rounds; at most {MOST_ROUNDS} are made, so say it with min(…, {MOST_ROUNDS})"
                    );
                    return Err(Problem::new(count.at, message));
                }
                fold_kind(*state, from, each, known, known)
            }
        }
    }

    /// Finds out that it is a number, and how large it can be.
    pub(super) fn int_kind(&self, known: &dyn Knowledge) -> Parsed<(i128, i128)> {
        match self.kind(known)? {
            Kind::Int(low, high) => Ok((low, high)),
            other => Err(Problem::new(self.at, format!("{} stands where a number is needed", other.words()))),
        }
    }

    pub(super) fn bytes_kind(&self, known: &dyn Knowledge) -> Parsed<Option<usize>> {
        match self.kind(known)? {
            Kind::Bytes(len) => Ok(len),
            other => Err(Problem::new(self.at, format!("{} stands where bytes are needed", other.words()))),
        }
    }

    pub(super) fn truth(&self, known: &dyn Knowledge) -> Parsed<()> {
        match self.kind(known)? {
            Kind::Truth => Ok(()),
            other => {
                let message = format!("{} stands where a comparison is needed, such as x != 0", other.words());
                Err(Problem::new(self.at, message))
            }
        }
    }

    fn binary_kind(&self, operator: Binary, left: &Self, right: &Self, known: &dyn Knowledge) -> Parsed<Kind> {
        use Binary as B;
        match operator {
            B::Or | B::And => {
                left.truth(known)?;
                right.truth(known)?;
                return Ok(Kind::Truth);
            }
            B::Equal | B::Unequal => {
                let (a, b) = (left.kind(known)?, right.kind(known)?);
                if !a.is_like(b) {
                    let message = format!("{} is compared with {}", a.words(), b.words());
                    return Err(Problem::new(right.at, message));
                }
                return Ok(Kind::Truth);
            }
            B::Join => {
                let (a, b) = (left.bytes_kind(known)?, right.bytes_kind(known)?);
                return Ok(Kind::Bytes(a.zip(b).map(|(a, b)| a.saturating_add(b))));
            }
            _ => {}
        }
        let ((a, b), (c, d)) = (left.int_kind(known)?, right.int_kind(known)?);
        let corners = |of: fn(i128, i128) -> i128| {
            let all = [of(a, c), of(a, d), of(b, c), of(b, d)];
            Kind::Int(all.into_iter().min().unwrap_or(a), all.into_iter().max().unwrap_or(b))
        };
        // All bits below the highest one that either can have.
        let mask = |number: i128| (u128::MAX >> 1 >> (number.max(0).leading_zeros().max(1) - 1)).cast_signed();
        Ok(match operator {
            B::Less | B::LessOrEqual | B::More | B::MoreOrEqual => Kind::Truth,
            B::BitAnd if c >= 0 && a >= 0 => Kind::Int(0, b.min(d)),
            B::BitAnd if c >= 0 => Kind::Int(0, d),
            B::BitAnd if a >= 0 => Kind::Int(0, b),
            B::BitOr | B::BitXor if a >= 0 && c >= 0 => Kind::Int(0, mask(b.max(d))),
            B::Left if a >= 0 && c >= 0 && d < 64 => {
                Kind::Int(a << c.min(63), b.checked_mul(1_i128 << d).unwrap_or(i128::MAX))
            }
            B::Right if a >= 0 && c >= 0 => Kind::Int(a >> d.min(126), b >> c.min(126)),
            B::Add => corners(i128::saturating_add),
            B::Subtract => corners(i128::saturating_sub),
            B::Multiply => corners(i128::saturating_mul),
            B::Divide | B::Rest if c == 0 && d == 0 => {
                return Err(Problem::new(right.at, "this divides by 0"));
            }
            B::Divide if a >= 0 && c > 0 => Kind::Int(a / d, b / c),
            B::Rest if a >= 0 && c > 0 => Kind::Int(0, b.min(d - 1)),
            _ => ANY_INT,
        })
    }
}

impl Over {
    fn kind(&self, known: &dyn Knowledge) -> Parsed<Kind> {
        self.bytes.bytes_kind(known)?;
        let Some(by) = &self.by else { return Ok(Kind::Int(0, 255)) };
        if by.int_kind(known)?.1 < 1 {
            return Err(Problem::new(by.at, "pieces have at least one byte"));
        }
        Ok(Kind::Bytes(None))
    }
}

fn fold_kind(
    state: Name,
    from: &Expression,
    each: &Expression,
    inside: &dyn Knowledge,
    outside: &dyn Knowledge,
) -> Parsed<Kind> {
    let kind = match from.kind(outside)? {
        Kind::Int(..) => ANY_INT,
        Kind::Bytes(_) => Kind::Bytes(None),
        Kind::Truth => Kind::Truth,
    };
    let within = With { below: inside, name: state, kind };
    let within = With { below: &within, name: inside.nth(), kind: Kind::Int(0, i128::from(u32::MAX)) };
    let made = each.kind(&within)?;
    if !made.is_like(kind) {
        let message = format!("it begins as {} and becomes {}", kind.words(), made.words());
        return Err(Problem::new(each.at, message));
    }
    // What a last mask leaves is known; but for no round at all.
    Ok(made.joined(from.kind(outside)?))
}

fn call_kind(function: &Function, given: &[Expression], known: &dyn Knowledge) -> Parsed<Kind> {
    use Function as F;
    let int = |index: usize| given[index].int_kind(known);
    let bytes = |index: usize| given[index].bytes_kind(known);
    const WORD: i128 = u64::MAX as i128;
    const LENGTH: i128 = u32::MAX as i128;
    Ok(match function {
        F::Len => bytes(0)?.map_or(Kind::Int(0, WORD), |len| Kind::Int(len as i128, len as i128)),
        F::Sum => bytes(0).map(|_| Kind::Int(0, WORD))?,
        F::Xor => bytes(0).map(|_| Kind::Int(0, 255))?,
        F::Crc32 => bytes(0).map(|_| Kind::Int(0, LENGTH))?,
        F::Crc(crc) => bytes(0).map(|_| Kind::Int(0, i128::from(crc.highest())))?,
        F::Md5 => bytes(0).map(|_| Kind::Bytes(Some(16)))?,
        F::Sha256 => bytes(0).map(|_| Kind::Bytes(Some(32)))?,
        F::Byte => {
            bytes(0)?;
            int(1).map(|_| Kind::Int(0, 255))?
        }
        F::Slice => {
            bytes(0)?;
            int(1)?;
            let (low, high) = int(2)?;
            Kind::Bytes(usize::try_from(low).ok().filter(|_| low == high))
        }
        F::Le | F::Be => match bytes(0)? {
            Some(len) if len > 8 => return Err(Problem::new(given[0].at, "a number has at most 8 bytes")),
            Some(len) => Kind::Int(0, (1_i128 << (len * 8)) - 1),
            None => Kind::Int(0, WORD),
        },
        F::Min => {
            let ((a, b), (c, d)) = (int(0)?, int(1)?);
            Kind::Int(a.min(c), b.min(d))
        }
        F::Max => {
            let ((a, b), (c, d)) = (int(0)?, int(1)?);
            Kind::Int(a.max(c), b.max(d))
        }
        F::Pad => {
            let (len, (low, high), _) = (bytes(0)?, int(1)?, byte_value(&given[2], known)?);
            let to = usize::try_from(low).ok().filter(|_| low == high);
            Kind::Bytes(len.zip(to).map(|(len, to)| len.max(to)))
        }
        F::Fill => {
            let (low, high) = int(0)?;
            byte_value(&given[1], known)?;
            Kind::Bytes(usize::try_from(low).ok().filter(|_| low == high))
        }
        F::Reverse => Kind::Bytes(bytes(0)?),
        F::Hex | F::LowerHex | F::Dec => {
            int(0)?;
            if given.len() == 2 {
                int(1)?;
            }
            Kind::Bytes(None)
        }
        F::ReadHex | F::ReadDec => bytes(0).map(|_| Kind::Int(0, WORD))?,
        F::Number(integer) => {
            fits(&given[0], *integer, known)?;
            Kind::Bytes(Some(integer.bytes))
        }
    })
}

fn byte_value(of: &Expression, known: &dyn Knowledge) -> Parsed<()> {
    match of.int_kind(known)? {
        (low, high) if high < 0 || low > 255 => Err(Problem::new(of.at, "a byte holds 0 to 255; this never is one")),
        _ => Ok(()),
    }
}

/// A number can be what a form holds; a constant is.
pub(super) fn fits(of: &Expression, form: Integer, known: &dyn Knowledge) -> Parsed<()> {
    let (low, high) = of.int_kind(known)?;
    let (least, most) = form.range();
    if high < least || low > most {
        let value = if low == high { format!("{low} (0x{low:X})") } else { format!("a number of at least {low}") };
        return Err(Problem::new(of.at, format!("{form} holds {least} to {most}; {value} does not fit")));
    }
    Ok(())
}

/// Why an expression has no value. The author of the dialect is to blame, or a
/// unit that sent something nobody expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Fault {
    /// A name has no value yet.
    Unknown(Name),
    /// It needs a part of the frame that is not made yet.
    NotYet,
    /// Anything else, in words.
    Words(String),
}

/// Stretches of the frame that an expression stands in.
pub(super) trait Parts {
    fn bytes(&self, part: Part) -> Option<Vec<u8>>;
    fn length(&self, part: Part) -> Option<usize>;
    fn value(&self, name: Name) -> Option<Value>;
}

/// Steps that one evaluation may take, so that it ends. Chosen by us: a loop over a
/// megabyte with a dozen operations.
const BUDGET: u64 = 16 << 20;

/// Most bytes in a value. Chosen by us: no frame and no image of this kind is larger.
const MOST_BYTES: usize = 16 << 20;

/// One evaluation.
pub(super) struct Evaluation<'a> {
    pub(super) values: &'a [Option<Value>],
    pub(super) parts: Option<&'a dyn Parts>,
    locals: Vec<(Name, Value)>,
    extra: Option<(Name, &'a Value)>,
    nth: Name,
    budget: u64,
}

type Evaluated<T> = Result<T, Fault>;

/// Bytes, wherever they are.
enum Held {
    Own(Vec<u8>),
    Shared(Arc<[u8]>),
}

impl std::ops::Deref for Held {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        match self {
            Self::Own(bytes) => bytes,
            Self::Shared(bytes) => bytes,
        }
    }
}

fn wrong<T>(words: impl Into<String>) -> Evaluated<T> {
    Err(Fault::Words(words.into()))
}

impl<'a> Evaluation<'a> {
    pub(super) fn new(values: &'a [Option<Value>], nth: Name, parts: Option<&'a dyn Parts>) -> Self {
        Self { values, parts, locals: Vec::new(), extra: None, nth, budget: BUDGET }
    }

    /// The same with one more name.
    pub(super) fn with_name(mut self, name: Name, value: &'a Value) -> Self {
        self.extra = Some((name, value));
        self
    }

    pub(super) fn int(&mut self, of: &Expression) -> Evaluated<i128> {
        if let Node::Value(Value::Int(number)) = &of.node {
            return Ok(*number);
        }
        match self.value(of)? {
            Value::Int(number) => Ok(number),
            _ => wrong("it is no number"),
        }
    }

    pub(super) fn bytes(&mut self, of: &Expression) -> Evaluated<Arc<[u8]>> {
        match self.value(of)? {
            Value::Bytes(bytes) => Ok(bytes),
            _ => wrong("these are no bytes"),
        }
    }

    /// Bytes that are only looked at.
    fn held(&mut self, of: &Expression) -> Evaluated<Held> {
        match &of.node {
            Node::Part(part) => self.parts.and_then(|parts| parts.bytes(*part)).map(Held::Own).ok_or(Fault::NotYet),
            _ => self.bytes(of).map(Held::Shared),
        }
    }

    pub(super) fn truth(&mut self, of: &Expression) -> Evaluated<bool> {
        match self.value(of)? {
            Value::Truth(truth) => Ok(truth),
            _ => wrong("it is no comparison"),
        }
    }

    /// A length or a count.
    pub(super) fn size(&mut self, of: &Expression) -> Evaluated<usize> {
        let number = self.int(of)?;
        match usize::try_from(number) {
            Ok(size) if size <= MOST_BYTES => Ok(size),
            _ => wrong(format!("{number} is no length")),
        }
    }

    #[inline]
    fn spend(&mut self, steps: u64) -> Evaluated<()> {
        self.budget = self.budget.checked_sub(steps).ok_or_else(|| Fault::Words("it takes too many steps".into()))?;
        Ok(())
    }

    fn name(&self, name: Name) -> Evaluated<Value> {
        if let Some((_, value)) = self.locals.iter().rev().find(|(local, _)| *local == name) {
            return Ok(value.clone());
        }
        if let Some((_, value)) = self.extra.filter(|(extra, _)| *extra == name) {
            return Ok(value.clone());
        }
        if let Some(value) = self.parts.and_then(|parts| parts.value(name)) {
            return Ok(value);
        }
        self.values.get(usize::from(name.0)).cloned().flatten().ok_or(Fault::Unknown(name))
    }

    pub(super) fn value(&mut self, of: &Expression) -> Evaluated<Value> {
        self.spend(1)?;
        match &of.node {
            Node::Value(value) => Ok(value.clone()),
            Node::Name(name) => self.name(*name),
            Node::Part(part) => {
                let bytes = self.parts.and_then(|parts| parts.bytes(*part)).ok_or(Fault::NotYet)?;
                self.spend(bytes.len() as u64 / 16)?;
                Ok(bytes.into())
            }
            Node::Unary(operator, of) => match operator {
                Unary::Not => Ok(Value::Truth(!self.truth(of)?)),
                Unary::Invert => Ok(Value::Int(!self.int(of)?)),
                Unary::Minus => self.int(of)?.checked_neg().map(Value::Int).ok_or_else(too_large),
            },
            Node::Binary(operator, left, right) => self.binary(*operator, left, right),
            Node::Choice(parts) => {
                let [condition, yes, no] = &**parts;
                let chosen = if self.truth(condition)? { yes } else { no };
                self.value(chosen)
            }
            Node::Call(function, given) => self.call(function, given),
            Node::Map { item, over, each } => {
                let mut made = Vec::new();
                self.over(over, |this, nth, piece| {
                    match this.with(&[(*item, piece), (this.nth, nth)], each)? {
                        Value::Int(number) => made.push(byte(number)?),
                        Value::Bytes(bytes) => made.extend_from_slice(&bytes),
                        Value::Truth(_) => return wrong("it is no number"),
                    }
                    if made.len() > MOST_BYTES { wrong("that becomes too long") } else { Ok(()) }
                })?;
                Ok(made.into())
            }
            Node::Fold { state, from, item, over, each } => {
                let mut now = self.value(from)?;
                self.over(over, |this, nth, piece| {
                    now = this.with(&[(*item, piece), (*state, now.clone()), (this.nth, nth)], each)?;
                    Ok(())
                })?;
                Ok(now)
            }
            Node::Rounds { count, state, from, each } => {
                let mut now = self.value(from)?;
                for round in 0..self.int(count)?.clamp(0, MOST_ROUNDS) {
                    now = self.with(&[(*state, now.clone()), (self.nth, Value::Int(round))], each)?;
                }
                Ok(now)
            }
        }
    }

    fn with(&mut self, locals: &[(Name, Value)], each: &Expression) -> Evaluated<Value> {
        let before = self.locals.len();
        self.locals.extend_from_slice(locals);
        let value = self.value(each);
        self.locals.truncate(before);
        value
    }

    fn over(&mut self, over: &Over, mut each: impl FnMut(&mut Self, Value, Value) -> Evaluated<()>) -> Evaluated<()> {
        let bytes = self.bytes(&over.bytes)?;
        let size = over.by.as_ref().map(|by| self.size(by)).transpose()?;
        match size {
            None => {
                for (nth, byte) in (0..).zip(bytes.iter()) {
                    each(self, Value::Int(nth), Value::Int(i128::from(*byte)))?;
                }
            }
            Some(0) => return wrong("pieces have at least one byte"),
            Some(size) => {
                for (nth, piece) in (0..).zip(bytes.chunks(size)) {
                    self.spend(piece.len() as u64 / 16)?;
                    each(self, Value::Int(nth), piece.to_vec().into())?;
                }
            }
        }
        Ok(())
    }

    fn binary(&mut self, operator: Binary, left: &Expression, right: &Expression) -> Evaluated<Value> {
        use Binary as B;
        match operator {
            B::Or => return Ok(Value::Truth(self.truth(left)? || self.truth(right)?)),
            B::And => return Ok(Value::Truth(self.truth(left)? && self.truth(right)?)),
            B::Equal => return Ok(Value::Truth(self.value(left)? == self.value(right)?)),
            B::Unequal => return Ok(Value::Truth(self.value(left)? != self.value(right)?)),
            B::Join => {
                let (left, right) = (self.bytes(left)?, self.bytes(right)?);
                if left.len() + right.len() > MOST_BYTES {
                    return wrong("that becomes too long");
                }
                self.spend((left.len() + right.len()) as u64 / 16)?;
                return Ok([&left[..], &right[..]].concat().into());
            }
            _ => {}
        }
        let (a, b) = (self.int(left)?, self.int(right)?);
        let shift = |b: i128| u32::try_from(b).ok().filter(|b| *b < 64);
        let number = match operator {
            B::Less => return Ok(Value::Truth(a < b)),
            B::LessOrEqual => return Ok(Value::Truth(a <= b)),
            B::More => return Ok(Value::Truth(a > b)),
            B::MoreOrEqual => return Ok(Value::Truth(a >= b)),
            B::BitOr => Some(a | b),
            B::BitXor => Some(a ^ b),
            B::BitAnd => Some(a & b),
            B::Left => match shift(b) {
                Some(b) => a.checked_mul(1 << b),
                None => return wrong(format!("{b} is no number of bits to shift by")),
            },
            B::Right => match shift(b) {
                Some(b) => Some(a >> b),
                None => return wrong(format!("{b} is no number of bits to shift by")),
            },
            B::Add => a.checked_add(b),
            B::Subtract => a.checked_sub(b),
            B::Multiply => a.checked_mul(b),
            B::Divide | B::Rest if b == 0 => return wrong("it divides by 0"),
            B::Divide => a.checked_div_euclid(b),
            _ => a.checked_rem_euclid(b),
        };
        number.map(Value::Int).ok_or_else(too_large)
    }

    fn call(&mut self, function: &Function, given: &[Expression]) -> Evaluated<Value> {
        use Function as F;
        if let (F::Len, [Expression { node: Node::Part(part), .. }]) = (function, given) {
            let length = self.parts.and_then(|parts| parts.length(*part)).ok_or(Fault::NotYet)?;
            return Ok(Value::Int(length as i128));
        }
        match function {
            F::Min | F::Max | F::Fill | F::Hex | F::LowerHex | F::Dec | F::Number(_) => {
                return self.call_on_number(function, given);
            }
            _ => {}
        }
        let bytes = self.held(&given[0])?;
        self.spend(bytes.len() as u64 / 16)?;
        Ok(match function {
            F::Len => Value::Int(bytes.len() as i128),
            F::Sum => Value::Int(bytes.iter().map(|byte| i128::from(*byte)).sum()),
            F::Xor => Value::Int(i128::from(bytes.iter().fold(0, |sum, byte| sum ^ byte))),
            F::Crc32 => Value::Int(i128::from(crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(&bytes))),
            F::Crc(crc) => Value::Int(i128::from(crc.of(&bytes))),
            F::Md5 => checksum::md5(&bytes).into(),
            F::Sha256 => checksum::sha256(&bytes).into(),
            F::Byte => {
                let index = self.size(&given[1])?;
                match bytes.get(index) {
                    Some(byte) => Value::Int(i128::from(*byte)),
                    None => return wrong(format!("there is no byte {index} in {}", bytes.len())),
                }
            }
            F::Slice => {
                let (from, len) = (self.size(&given[1])?, self.size(&given[2])?);
                match bytes.get(from..from.saturating_add(len)) {
                    Some(slice) => slice.to_vec().into(),
                    None => return wrong(format!("there are no {len} bytes from {from} on in {}", bytes.len())),
                }
            }
            F::Le | F::Be if bytes.len() > 8 => return wrong("a number has at most 8 bytes"),
            F::Le | F::Be => {
                let form = Integer { bytes: bytes.len(), big: matches!(function, F::Be), signed: false };
                Value::Int(if bytes.is_empty() { 0 } else { form.read(&bytes) })
            }
            F::Pad => {
                let (to, with) = (self.size(&given[1])?, byte(self.int(&given[2])?)?);
                let mut bytes = bytes.to_vec();
                bytes.resize(to.max(bytes.len()), with);
                bytes.into()
            }
            F::Reverse => bytes.iter().rev().copied().collect::<Vec<_>>().into(),
            F::ReadHex => Value::Int(digits(&bytes, 16)?),
            _ => Value::Int(digits(&bytes, 10)?),
        })
    }

    fn call_on_number(&mut self, function: &Function, given: &[Expression]) -> Evaluated<Value> {
        use Function as F;
        let number = self.int(&given[0])?;
        let width = match (function, given) {
            (F::Hex | F::LowerHex | F::Dec, [_, width]) => self.size(width)?,
            _ => 0,
        };
        if number < 0 && width == 0 && matches!(function, F::Hex | F::LowerHex | F::Dec) || width > 64 {
            return wrong(format!("{number} cannot be written so"));
        }
        Ok(match function {
            F::Min => Value::Int(number.min(self.int(&given[1])?)),
            F::Max => Value::Int(number.max(self.int(&given[1])?)),
            F::Fill => {
                let (size, with) = (self.size(&given[0])?, byte(self.int(&given[1])?)?);
                vec![with; size].into()
            }
            F::Hex => format!("{number:0width$X}").into_bytes().into(),
            F::LowerHex => format!("{number:0width$x}").into_bytes().into(),
            F::Dec => format!("{number:0width$}").into_bytes().into(),
            F::Number(form) => match form.emit(number) {
                Some(bytes) => bytes.into(),
                None => return wrong(format!("{number} does not fit {form}")),
            },
            _ => return wrong("it is no number"),
        })
    }
}

fn too_large() -> Fault {
    Fault::Words("the number becomes too large".into())
}

fn byte(number: i128) -> Evaluated<u8> {
    u8::try_from(number).map_err(|_| Fault::Words(format!("{number} is no byte")))
}

/// The number that digits write; at most 64 bits.
pub(super) fn digits(bytes: &[u8], base: u32) -> Evaluated<i128> {
    let text = std::str::from_utf8(bytes).unwrap_or_default();
    let plain = !text.is_empty() && text.chars().all(|c| c.is_digit(base));
    let number = plain.then(|| u64::from_str_radix(text, base).ok()).flatten();
    number.map(i128::from).ok_or_else(|| Fault::Words(format!("{} is no number", shortened(bytes))))
}
