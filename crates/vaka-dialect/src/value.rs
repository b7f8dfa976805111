//! Names and values: integers, bytes and booleans.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;

/// Maximum size of a value in bytes. Chosen by us: larger than any frame or image.
pub(super) const MOST_BYTES: usize = 16 << 20;

/// A name, as an index into the names of its dialect.
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

/// The value of an expression.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A whole number.
    Int(i128),
    /// Bytes; a text is one too.
    Bytes(Arc<[u8]>),
    /// The result of a comparison.
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

/// Bytes as readable text, shortened in the middle if there are many.
pub(super) fn shortened(bytes: &[u8]) -> String {
    const MOST: usize = 24;
    match bytes {
        [] => "nothing".to_owned(),
        bytes if bytes.len() <= MOST => vaka_base::text::hex_pairs(bytes),
        bytes => {
            let (head, tail) = (&bytes[..MOST - 6], &bytes[bytes.len() - 4..]);
            let (head, tail) = (vaka_base::text::hex_pairs(head), vaka_base::text::hex_pairs(tail));
            format!("{head} … {tail} ({} bytes)", bytes.len())
        }
    }
}

impl From<Vec<u8>> for Value {
    fn from(bytes: Vec<u8>) -> Self {
        Self::Bytes(bytes.into())
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

    /// Decodes an integer from exactly these bytes.
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
