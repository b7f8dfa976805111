//! The lexer for fields, steps and expressions. Every token knows its position in the file.

use std::ops::Range;

/// Text inside a TOML file, with its position.
#[derive(Clone, Debug)]
pub(super) struct Source<'a> {
    value: &'a str,
    /// The literal as written, including quotes.
    raw: &'a str,
    start: usize,
}

impl<'a> Source<'a> {
    /// `span` is the position of the TOML string `value` in `file`.
    pub(super) fn new(file: &'a str, span: &Range<usize>, value: &'a str) -> Self {
        Self { value, raw: file.get(span.clone()).unwrap_or_default(), start: span.start }
    }

    /// A walk from the start of the literal.
    fn walk(&self) -> Walk<'a> {
        let quotes = if self.raw.starts_with("'''") || self.raw.starts_with("\"\"\"") { 3 } else { 1 };
        let mut at = quotes.min(self.raw.len());
        if quotes == 3 {
            at += self.raw[at..].len() - self.raw[at..].trim_start_matches('\r').len();
            at += usize::from(self.raw[at..].starts_with('\n'));
        }
        Walk { raw: self.raw, start: self.start, at, made: 0, has_escapes: self.raw.starts_with('"') }
    }
}

/// Finds the positions in the file that belong to the bytes of a value, in rising order.
struct Walk<'a> {
    raw: &'a str,
    start: usize,
    /// Position in the literal.
    at: usize,
    /// Bytes of the value so far.
    made: usize,
    has_escapes: bool,
}

impl Walk<'_> {
    /// The position in the file of the byte at `offset` of the value. Offsets must not fall.
    fn place(&mut self, offset: usize) -> usize {
        while self.made < offset {
            let Some(c) = self.raw[self.at..].chars().next() else { break };
            if c != '\\' || !self.has_escapes {
                self.made += c.len_utf8();
                self.at += c.len_utf8();
                continue;
            }
            let len = match self.raw[self.at + 1..].chars().next() {
                Some('x') => 4,
                Some('u') => 6,
                Some('U') => 10,
                Some(other) => 1 + other.len_utf8(),
                None => break,
            };
            self.at = (self.at + len).min(self.raw.len());
            self.made += 1;
        }
        self.start + self.at
    }
}

/// An error with its position in the file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Problem {
    pub(super) at: usize,
    pub(super) message: String,
}

impl Problem {
    pub(super) fn new(at: usize, message: impl Into<String>) -> Self {
        Self { at, message: message.into() }
    }
}

pub(super) type Parsed<T> = Result<T, Problem>;

/// One token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Token {
    Name(String),
    Number(i128),
    Bytes(Vec<u8>),
    Sign(&'static str),
    /// A new line; only outside of brackets.
    Line,
    End,
}

impl std::fmt::Display for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Name(name) => write!(f, "'{name}'"),
            Self::Number(number) => write!(f, "'{number}'"),
            Self::Bytes(_) => f.write_str("a text"),
            Self::Sign(sign) => write!(f, "'{sign}'"),
            Self::Line => f.write_str("the end of the line"),
            Self::End => f.write_str("the end"),
        }
    }
}

/// The longest first.
const SIGNS: [&str; 28] = [
    "..", "++", "<<", ">>", "==", "!=", "<=", ">=", "+", "-", "*", "/", "%", "&", "|", "^", "~", "(", ")", "{", "}",
    ",", ";", ":", "=", "<", ">", "?",
];

/// The tokens of a text in order.
pub(super) struct TokenStream {
    tokens: Vec<(Token, usize)>,
    next: usize,
}

impl TokenStream {
    pub(super) fn new(source: &Source<'_>) -> Parsed<Self> {
        let mut tokens = Vec::new();
        let mut depth = 0_u32;
        let text = source.value;
        let mut walk = source.walk();
        let mut at = 0;
        while let Some(c) = text[at..].chars().next() {
            let rest = &text[at..];
            let place = walk.place(at);
            if c == '\n' {
                if depth == 0 && !matches!(tokens.last(), None | Some((Token::Line, _))) {
                    tokens.push((Token::Line, place));
                }
                at += 1;
            } else if c.is_whitespace() {
                at += c.len_utf8();
            } else if c == '#' {
                at += rest.find('\n').unwrap_or(rest.len());
            } else if c.is_ascii_digit() {
                let len = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
                let number = number(&rest[..len]).ok_or_else(|| {
                    Problem::new(place, format!("'{}' is not a number; write it like 12, 0x1F or 0b1010", &rest[..len]))
                })?;
                tokens.push((Token::Number(number), place));
                at += len;
            } else if c == '"' || c == '\'' {
                let (bytes, len) = literal(rest, place)?;
                tokens.push((Token::Bytes(bytes), place));
                at += len;
            } else if c == 'x' && matches!(rest.as_bytes().get(1), Some(b'"' | b'\'')) {
                let (digits, len) = literal(&rest[1..], place)?;
                let bytes = vaka_base::text::parse_hex(&digits).ok_or_else(|| {
                    Problem::new(place, "expected pairs of hex digits in the quotes, such as x'0A FF'")
                })?;
                tokens.push((Token::Bytes(bytes), place));
                at += 1 + len;
            } else if c.is_ascii_alphabetic() || c == '_' {
                let len = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
                tokens.push((Token::Name(rest[..len].to_owned()), place));
                at += len;
            } else if let Some(sign) = SIGNS.into_iter().find(|sign| rest.starts_with(sign)) {
                match sign {
                    "(" => depth += 1,
                    ")" => depth = depth.saturating_sub(1),
                    _ => {}
                }
                tokens.push((Token::Sign(sign), place));
                at += sign.len();
            } else {
                return Err(Problem::new(place, format!("unexpected '{}'", c.escape_default())));
            }
        }
        while matches!(tokens.last(), Some((Token::Line, _))) {
            tokens.pop();
        }
        let end = source.walk().place(text.trim_end().len());
        tokens.push((Token::End, end));
        Ok(Self { tokens, next: 0 })
    }

    pub(super) fn peek(&self) -> &Token {
        &self.tokens[self.next].0
    }

    pub(super) fn at(&self) -> usize {
        self.tokens[self.next].1
    }

    pub(super) fn take(&mut self) -> Token {
        let token = self.peek().clone();
        if self.next + 1 < self.tokens.len() {
            self.next += 1;
        }
        token
    }

    /// Consumes the sign if it is the next token.
    pub(super) fn takes(&mut self, sign: &str) -> bool {
        let is_it = matches!(self.peek(), Token::Sign(found) if *found == sign);
        if is_it {
            self.take();
        }
        is_it
    }

    /// Consumes the word if it is the next token.
    pub(super) fn takes_word(&mut self, word: &str) -> bool {
        let is_it = self.is_word(word);
        if is_it {
            self.take();
        }
        is_it
    }

    pub(super) fn is_word(&self, word: &str) -> bool {
        matches!(self.peek(), Token::Name(found) if found == word)
    }

    pub(super) fn expect(&mut self, sign: &str) -> Parsed<()> {
        if self.takes(sign) { Ok(()) } else { Err(self.unexpected(&format!("'{sign}'"))) }
    }

    pub(super) fn expect_word(&mut self, word: &str) -> Parsed<()> {
        if self.takes_word(word) { Ok(()) } else { Err(self.unexpected(&format!("'{word}'"))) }
    }

    pub(super) fn name(&mut self, what: &str) -> Parsed<(String, usize)> {
        let at = self.at();
        match self.peek() {
            Token::Name(name) => {
                let name = name.clone();
                self.take();
                Ok((name, at))
            }
            _ => Err(self.unexpected(what)),
        }
    }

    pub(super) fn unexpected(&self, wanted: &str) -> Problem {
        Problem::new(self.at(), format!("expected {wanted}, found {}", self.peek()))
    }

    /// Skips separators between items: line breaks and `separator`.
    pub(super) fn skip_separators(&mut self, separator: &str) -> bool {
        let mut any = false;
        while *self.peek() == Token::Line || matches!(self.peek(), Token::Sign(sign) if *sign == separator) {
            self.take();
            any = true;
        }
        any
    }
}

fn number(text: &str) -> Option<i128> {
    let digits: String = text.chars().filter(|c| *c != '_').collect();
    let parsed = match digits.get(..2) {
        Some("0x" | "0X") => u64::from_str_radix(&digits[2..], 16),
        Some("0b" | "0B") => u64::from_str_radix(&digits[2..], 2),
        _ => digits.parse::<u64>(),
    };
    parsed.ok().map(i128::from)
}

/// Reads a quoted text at the start of `rest`; returns its length in the source.
fn literal(rest: &str, place: usize) -> Parsed<(Vec<u8>, usize)> {
    let mut chars = rest.char_indices();
    let quote = chars.next().map(|(_, c)| c);
    let mut bytes = Vec::new();
    while let Some((at, c)) = chars.next() {
        if Some(c) == quote {
            return Ok((bytes, at + 1));
        }
        if c != '\\' {
            bytes.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
            continue;
        }
        let escaped = match chars.next().map(|(_, c)| c) {
            Some('n') => Some(b'\n'),
            Some('r') => Some(b'\r'),
            Some('t') => Some(b'\t'),
            Some('0') => Some(0),
            Some('\\') => Some(b'\\'),
            Some('"') => Some(b'"'),
            Some('\'') => Some(b'\''),
            Some('x') => {
                let high = chars.next().and_then(|(_, c)| c.to_digit(16));
                let low = chars.next().and_then(|(_, c)| c.to_digit(16));
                high.zip(low).and_then(|(high, low)| u8::try_from(high * 16 + low).ok())
            }
            _ => None,
        };
        let message = "expected one of n r t 0 \\ \" ' or x and two hex digits after the backslash";
        bytes.push(escaped.ok_or_else(|| Problem::new(place, message))?);
    }
    Err(Problem::new(place, "unterminated text"))
}
