//! Parser for the fields of a frame: `u16be address`, `bytes(4) challenge`, `u8 = 0x5A`, `u8
//! status in results`.

use std::collections::BTreeMap;
use std::fmt;

use super::expression::{Expression, Node, Reader, is_reserved};
use super::lexer::{Parsed, Problem, Token};
use super::types::{Knowledge, Type, fits};
use super::value::{Integer, MOST_BYTES, Name, Value};

/// One field of a frame.
#[derive(Clone, Debug)]
pub(super) struct Field {
    pub(super) form: Form,
    /// The name; `None` if it has none.
    pub(super) name: Option<Name>,
    /// The value to send or to expect.
    pub(super) value: Option<Expression>,
    /// The table that explains its values.
    pub(super) table: Option<usize>,
    /// The condition under which the field exists.
    pub(super) only_if: Option<Expression>,
    /// The bytes, if they are constant and the field has no name.
    pub(super) constant: Option<Vec<u8>>,
    /// The field as written, for tables and messages.
    pub(super) text: String,
    pub(super) at: usize,
}

/// The layout of a field.
#[derive(Clone, Debug)]
pub(super) enum Form {
    Integer(Integer),
    /// Bit fields, from the highest bit on; they fill the integer.
    Bits(Integer, Vec<Bit>),
    /// This many bytes; without a number all remaining bytes.
    Bytes(Option<Expression>),
    /// A number as hex digits.
    Hex {
        digits: Option<Expression>,
        lower: bool,
    },
    /// A number as decimal digits.
    Dec {
        digits: Option<Expression>,
    },
    /// Bytes as pairs of hex digits; the number counts bytes.
    HexBytes {
        bytes: Option<Expression>,
        lower: bool,
    },
    /// This many padding bytes.
    Pad(Expression),
    /// Padding bytes up to this length of the whole frame.
    PadTo(Expression),
}

/// One bit field.
#[derive(Clone, Debug)]
pub(super) struct Bit {
    pub(super) bits: u32,
    pub(super) name: Option<Name>,
    pub(super) value: Option<Expression>,
    pub(super) table: Option<usize>,
}

/// The direction of a frame; it decides the meaning of a field without a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Direction {
    ToUnit,
    FromUnit,
}

/// The meaning of a code in a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Meaning {
    /// Success.
    Ok,
    /// The unit is busy; retry.
    Busy,
    /// The unit did not receive the frame intact.
    Nak,
    /// The unit refuses, and why.
    Refused(String),
}

/// A table of codes.
#[derive(Clone, Debug)]
pub(super) struct Table {
    pub(super) name: String,
    pub(super) codes: BTreeMap<i128, Meaning>,
}

impl Table {
    pub(super) fn meaning(&self, code: i128) -> Meaning {
        let unknown = || {
            Meaning::Refused(format!(
                "status {code} (0x{code:02X}), which is not in the dialect's table '{}'",
                self.name
            ))
        };
        self.codes.get(&code).cloned().unwrap_or_else(unknown)
    }
}

const FORMS: &str = "u8, i8, u16le, u16be, … u64be, bits8(…), bytes, bytes(N), hex(N), dec(N), hexbytes(N), pad(N), pad_to(N) or a text";

impl Reader<'_> {
    /// Parses all fields of a frame, separated by commas or line breaks.
    pub(super) fn fields(&mut self, way: Direction, tables: &[Table], source: &str) -> Parsed<Vec<Field>> {
        let mut fields = Vec::new();
        self.words.skip_separators(",");
        while *self.words.peek() != Token::End {
            fields.push(self.field(way, tables)?);
            if !self.words.skip_separators(",") && *self.words.peek() != Token::End {
                return Err(self.words.unexpected("',' or a line break"));
            }
        }
        describe(&mut fields, source);
        Ok(fields)
    }

    fn field(&mut self, way: Direction, tables: &[Table]) -> Parsed<Field> {
        let at = self.words.at();
        // A text or number alone is its own value.
        let literal = match self.words.peek().clone() {
            Token::Bytes(bytes) => Some((Form::Bytes(None), Value::from(bytes))),
            Token::Number(number) => {
                if !(0..256).contains(&number) {
                    return Err(Problem::new(
                        at,
                        format!("a number alone is one byte; for {number} give its form, such as u16le = {number}"),
                    ));
                }
                Some((Form::Integer(Integer { bytes: 1, big: false, signed: false }), Value::Int(number)))
            }
            _ => None,
        };
        if let Some((form, value)) = literal {
            self.words.take();
            let value = Some(Expression { node: Node::Value(value), at });
            let only_if = self.condition()?;
            return Ok(Field {
                form,
                name: None,
                value,
                table: None,
                only_if,
                constant: None,
                text: String::new(),
                at,
            });
        }
        let form = self.form(way, tables)?;
        let name = self.field_name()?;
        let is_padding = matches!(form, Form::Pad(_) | Form::PadTo(_));
        let has_parts = matches!(form, Form::Bits(..));
        let mut value = if self.words.takes("=") { Some(self.expression()?) } else { None };
        let table = self.table(tables)?;
        let only_if = self.condition()?;
        let named = name.flatten();
        if value.is_none() && way == Direction::ToUnit && !is_padding && !has_parts {
            let name = named.ok_or_else(|| {
                Problem::new(at, "a sent field requires a name, such as u16be address, or a value, such as u8 = 0x31")
            })?;
            value = Some(Expression { node: Node::Name(name), at });
        }
        if name.is_none() && value.is_none() && table.is_none() && !is_padding && !has_parts {
            return Err(Problem::new(at, "a received field requires a name to capture it, or _ to ignore it"));
        }
        Ok(Field { form, name: named, value, table, only_if, constant: None, text: String::new(), at })
    }

    /// `Some(None)` for `_`.
    fn field_name(&mut self) -> Parsed<Option<Option<Name>>> {
        let at = self.words.at();
        match self.words.peek().clone() {
            Token::Name(word) if word == "_" => {
                self.words.take();
                Ok(Some(None))
            }
            Token::Name(word) if word == "in" || word == "if" => Ok(None),
            Token::Name(word) => {
                if is_reserved(&word) {
                    return Err(Problem::new(at, format!("'{word}' is a reserved word")));
                }
                self.words.take();
                Ok(Some(Some(self.names.number(&word))))
            }
            _ => Ok(None),
        }
    }

    fn table(&mut self, tables: &[Table]) -> Parsed<Option<usize>> {
        if !self.words.takes_word("in") {
            return Ok(None);
        }
        let (word, at) = self.words.name("the name of a table")?;
        let found = tables.iter().position(|table| table.name == word);
        found.map(Some).ok_or_else(|| {
            let known: Vec<&str> = tables.iter().map(|table| table.name.as_str()).collect();
            Problem::new(
                at,
                format!(
                    "there is no [table.{word}]; existing tables: {}",
                    if known.is_empty() { "none".to_owned() } else { known.join(", ") }
                ),
            )
        })
    }

    fn condition(&mut self) -> Parsed<Option<Expression>> {
        if self.words.takes_word("if") { self.expression().map(Some) } else { Ok(None) }
    }

    fn form(&mut self, way: Direction, tables: &[Table]) -> Parsed<Form> {
        let (word, at) = self.words.name(FORMS)?;
        if let Some(integer) = Integer::parse(&word) {
            return Ok(Form::Integer(integer));
        }
        if let Some(integer) = word.strip_prefix("bits").and_then(|rest| Integer::parse(&format!("u{rest}"))) {
            return Ok(Form::Bits(integer, self.bits(way, integer, tables, at)?));
        }
        let mut in_brackets = || -> Parsed<Option<Expression>> {
            if !self.words.takes("(") {
                return Ok(None);
            }
            let inner = self.expression()?;
            self.words.expect(")")?;
            match inner.node {
                Node::Value(Value::Int(number)) if number > MOST_BYTES as i128 => {
                    Err(Problem::new(at, format!("a field has at most {MOST_BYTES} bytes, not {number}")))
                }
                _ => Ok(Some(inner)),
            }
        };
        let needed = |inner: Option<Expression>| {
            inner.ok_or_else(|| Problem::new(at, format!("a length is required, such as {word}(4)")))
        };
        Ok(match word.as_str() {
            "bytes" => Form::Bytes(in_brackets()?),
            "hex" => Form::Hex { digits: in_brackets()?, lower: false },
            "lower_hex" => Form::Hex { digits: in_brackets()?, lower: true },
            "dec" => Form::Dec { digits: in_brackets()? },
            "hexbytes" => Form::HexBytes { bytes: in_brackets()?, lower: false },
            "lower_hexbytes" => Form::HexBytes { bytes: in_brackets()?, lower: true },
            "pad" => Form::Pad(needed(in_brackets()?)?),
            "pad_to" => Form::PadTo(needed(in_brackets()?)?),
            _ if Integer::parse(&format!("{word}le")).is_some() => {
                return Err(Problem::new(at, format!("the byte order is required: {word}le or {word}be")));
            }
            _ => return Err(Problem::new(at, format!("'{word}' is not a field type; types: {FORMS}"))),
        })
    }

    /// `(ready:1, _:3, code:4 in errors)`, from the highest bit on.
    fn bits(&mut self, way: Direction, integer: Integer, tables: &[Table], at: usize) -> Parsed<Vec<Bit>> {
        self.words.expect("(")?;
        let mut parts: Vec<Bit> = Vec::new();
        loop {
            let place = self.words.at();
            let name = self.field_name()?.ok_or_else(|| self.words.unexpected("a name or _"))?;
            self.words.expect(":")?;
            let bits = match self.words.take() {
                Token::Number(bits @ 1..=64) => u32::try_from(bits).unwrap_or(1),
                _ => return Err(Problem::new(place, "expected the number of bits, 1 to 64, after the colon")),
            };
            let mut value = if self.words.takes("=") { Some(self.expression()?) } else { None };
            let table = self.table(tables)?;
            if way == Direction::ToUnit && value.is_none() {
                value = Some(match name {
                    Some(name) => Expression { node: Node::Name(name), at: place },
                    None => Expression::int(0, place),
                });
            }
            parts.push(Bit { bits, name, value, table });
            if self.words.takes(")") {
                break;
            }
            self.words.expect(",")?;
        }
        let sum: u32 = parts.iter().map(|part| part.bits).sum();
        let all = u32::try_from(integer.bytes * 8).unwrap_or(64);
        if sum < all {
            let message = format!("{} of its {all} bits are in no part; name them _", all - sum);
            return Err(Problem::new(at, message));
        }
        if sum > all {
            return Err(Problem::new(at, format!("its parts have {sum} bits, but it has {all}")));
        }
        Ok(parts)
    }
}

/// Attaches the source text to each field.
fn describe(fields: &mut [Field], file: &str) {
    for index in 0..fields.len() {
        let from = fields[index].at;
        let next = fields.get(index + 1).map_or(usize::MAX, |next| next.at);
        let rest = file.get(from..next.min(file.len())).unwrap_or_default();
        let end = if next == usize::MAX { end_of_field(rest) } else { rest.len() };
        let words = rest[..end].lines().map(|line| line.split('#').next().unwrap_or_default().trim());
        let text = words.collect::<Vec<_>>().join(" ");
        fields[index].text = text.trim_end_matches([',', ' ']).to_owned();
        let field = &fields[index];
        let is_plain = field.name.is_none() && field.table.is_none() && field.only_if.is_none();
        let is_whole = matches!(field.form, Form::Integer(_) | Form::Bytes(None));
        fields[index].constant = if is_plain && is_whole { field.literal() } else { None };
    }
}

/// The end of the last field of a list in the file: the quotes around the list.
fn end_of_field(rest: &str) -> usize {
    let mut quote = None;
    let mut depth = 0_i32;
    for (at, c) in rest.char_indices() {
        match (c, quote) {
            ('\n', _) if depth <= 0 => return at,
            (c, Some(open)) if c == open => quote = None,
            ('(', None) => depth += 1,
            (')', None) => depth -= 1,
            // A quote that opens nothing ends the TOML string.
            ('\'' | '"', None) => {
                let closes = rest[at + 1..].split('\n').next().is_some_and(|line| line.contains(c));
                if !closes || rest[at..].starts_with("'''") || rest[at..].starts_with("\"\"\"") {
                    return at;
                }
                quote = Some(c);
            }
            _ => {}
        }
    }
    rest.len()
}

impl Form {
    /// The length in bytes, if it is constant.
    pub(super) fn fixed_len(&self) -> Option<usize> {
        let constant = |of: &Expression| match of.node {
            Node::Value(Value::Int(number)) => usize::try_from(number).ok(),
            _ => None,
        };
        match self {
            Self::Integer(integer) | Self::Bits(integer, _) => Some(integer.bytes),
            Self::Bytes(size) => size.as_ref().and_then(constant),
            Self::Hex { digits, .. } | Self::Dec { digits } => digits.as_ref().and_then(constant),
            Self::HexBytes { bytes, .. } => bytes.as_ref().and_then(constant).map(|bytes| bytes * 2),
            Self::Pad(size) => constant(size),
            Self::PadTo(_) => None,
        }
    }

    /// The expression for the length.
    pub(super) fn size(&self) -> Option<&Expression> {
        match self {
            Self::Bytes(size) | Self::HexBytes { bytes: size, .. } => size.as_ref(),
            Self::Hex { digits, .. } | Self::Dec { digits } => digits.as_ref(),
            Self::Pad(size) | Self::PadTo(size) => Some(size),
            Self::Integer(_) | Self::Bits(..) => None,
        }
    }

    /// The type of the value that is captured under the name.
    pub(super) fn kind(&self) -> Type {
        match self {
            Self::Integer(integer) | Self::Bits(integer, _) => {
                let (low, high) = integer.range();
                Type::Int(low, high)
            }
            Self::Hex { .. } | Self::Dec { .. } => Type::Int(0, i128::from(u64::MAX)),
            Self::Bytes(_) | Self::HexBytes { .. } | Self::Pad(_) | Self::PadTo(_) => Type::Bytes(self.fixed_len()),
        }
    }
}

impl Field {
    /// The length in bytes, if it is constant.
    pub(super) fn fixed_len(&self) -> Option<usize> {
        if self.only_if.is_some() {
            return None;
        }
        match (&self.form, &self.value) {
            (Form::Bytes(None), Some(Expression { node: Node::Value(Value::Bytes(bytes)), .. })) => Some(bytes.len()),
            (form, _) => form.fixed_len(),
        }
    }

    /// The constant bytes that it must be, if it is a constant.
    pub(super) fn literal(&self) -> Option<Vec<u8>> {
        match (&self.form, &self.value.as_ref()?.node) {
            (Form::Bytes(_), Node::Value(Value::Bytes(bytes))) => Some(bytes.to_vec()),
            (Form::Integer(form), Node::Value(Value::Int(number))) => form.emit(*number),
            _ => None,
        }
    }

    /// A field that matches any remaining bytes.
    pub(super) fn anything(at: usize) -> Self {
        let (form, text) = (Form::Bytes(None), "bytes _".to_owned());
        Self { form, name: None, value: None, table: None, only_if: None, constant: None, text, at }
    }

    /// Whether it takes all remaining bytes.
    pub(super) fn is_open(&self) -> bool {
        matches!(self.form, Form::Bytes(None)) && self.value.is_none()
    }

    /// Whether the field contains only the value of `name`.
    pub(super) fn is_just(&self, name: Name) -> bool {
        matches!(&self.value, Some(Expression { node: Node::Name(found), .. }) if *found == name)
    }

    /// Reports values that can never fit into the field.
    pub(super) fn check(&self, known: &dyn Knowledge) -> Parsed<()> {
        if let Some(condition) = &self.only_if {
            condition.truth(known)?;
        }
        if let Some(size) = self.form.size() {
            let (_, high) = size.int_kind(known)?;
            if high < 0 {
                return Err(Problem::new(size.at, "a length must not be negative"));
            }
        }
        if let Form::Bits(_, parts) = &self.form {
            parts.iter().try_for_each(|part| part.check(known))?;
        }
        let Some(value) = &self.value else { return Ok(()) };
        match &self.form {
            Form::Integer(integer) => fits(value, *integer, known),
            Form::Bits(integer, _) => fits(value, *integer, known),
            Form::Hex { .. } | Form::Dec { .. } => {
                let (_, high) = value.int_kind(known)?;
                let base = if matches!(self.form, Form::Hex { .. }) { 16_i128 } else { 10 };
                let holds = self.form.fixed_len().and_then(|len| base.checked_pow(u32::try_from(len).ok()?));
                let (low, _) = value.int_kind(known)?;
                match holds {
                    Some(holds) if low >= holds => Err(Problem::new(
                        value.at,
                        format!("{low} needs more than {} digits", self.form.fixed_len().unwrap_or(0)),
                    )),
                    _ if high < 0 => Err(Problem::new(value.at, "digits cannot represent negative numbers")),
                    _ => Ok(()),
                }
            }
            Form::Bytes(_) | Form::HexBytes { .. } => {
                let found = value.bytes_kind(known)?;
                let hex = if matches!(self.form, Form::HexBytes { .. }) { 2 } else { 1 };
                match (found, self.form.fixed_len().map(|len| len / hex)) {
                    (Some(found), Some(wanted)) if found != wanted => {
                        Err(Problem::new(value.at, format!("the field has {wanted} bytes, but the value has {found}")))
                    }
                    _ => Ok(()),
                }
            }
            Form::Pad(_) | Form::PadTo(_) => match value.int_kind(known)? {
                (low, high) if high < 0 || low > 255 => Err(Problem::new(value.at, "padding must be a byte, 0 to 255")),
                _ => Ok(()),
            },
        }
    }

    /// Reports a value that may be too large for the field.
    pub(super) fn may_not_fit(&self, known: &dyn Knowledge) -> Option<(usize, i128, Integer)> {
        let (Form::Integer(integer), Some(value)) = (&self.form, &self.value) else { return None };
        let (_, high) = value.int_kind(known).ok()?;
        let told = high < UNKNOWN;
        (told && high > integer.range().1).then_some((value.at, high, *integer))
    }
}

impl Bit {
    fn check(&self, known: &dyn Knowledge) -> Parsed<()> {
        let Some(value) = &self.value else { return Ok(()) };
        let most = (1_i128 << self.bits) - 1;
        match value.int_kind(known)? {
            (low, high) if high < 0 || low > most => Err(Problem::new(
                value.at,
                format!(
                    "{} can represent 0 to {most}; {low} does not fit",
                    vaka_base::text::count(self.bits as usize, "bit")
                ),
            )),
            _ => Ok(()),
        }
    }

    pub(super) fn kind(&self) -> Type {
        Type::Int(0, (1_i128 << self.bits) - 1)
    }
}

impl fmt::Display for Field {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// From this size on the range of a number is considered unknown.
pub(super) const UNKNOWN: i128 = 1 << 40;

/// Numbers of a table's keys: `0x1F` or `31`.
pub(super) fn code(text: &str) -> Option<i128> {
    let digits: String = text.chars().filter(|c| *c != '_').collect();
    let number = match digits.get(..2) {
        Some("0x" | "0X") => u64::from_str_radix(&digits[2..], 16).ok(),
        _ => digits.parse().ok(),
    };
    number.map(i128::from)
}

/// The kinds that a field's names have from then on.
pub(super) fn captured(field: &Field) -> Vec<(Name, Type)> {
    let mut names: Vec<(Name, Type)> = Vec::new();
    if let Form::Bits(_, parts) = &field.form {
        names.extend(parts.iter().filter_map(|part| Some((part.name?, part.kind()))));
    }
    names.extend(field.name.map(|name| (name, field.form.kind())));
    names
}
