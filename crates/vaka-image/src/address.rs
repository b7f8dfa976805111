//! Addresses in a unit's memory, and ranges of them.

use std::fmt;
use std::str::FromStr;

use serde::{Serialize, Serializer};
use vaka_base::ParseError;

/// An address in a unit's memory.
///
/// 64 bits wide, so that the sum of a 32-bit address and a length does not overflow. Printed as
/// `0x0A00_2400`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Address(u64);

impl Address {
    /// An address from its number.
    pub const fn new(value: u64) -> Self {
        Self(value)
    }

    /// The number.
    pub const fn get(self) -> u64 {
        self.0
    }

    /// The address `len` bytes on, or `None` past the end of 64 bits.
    pub const fn checked_add(self, len: u64) -> Option<Self> {
        match self.0.checked_add(len) {
            Some(value) => Some(Self(value)),
            None => None,
        }
    }

    /// Bytes from `base` up to here; `None` if this lies below `base`.
    pub const fn offset_from(self, base: Self) -> Option<u64> {
        self.0.checked_sub(base.0)
    }

    /// The highest multiple of `step` not above this address. `step` 0 counts as 1.
    #[must_use]
    pub const fn align_down(self, step: u64) -> Self {
        Self(self.0 - self.0 % if step == 0 { 1 } else { step })
    }

    /// The address as 32 bits, the width that DFU and most bootloaders support.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::Address;
    ///
    /// assert_eq!(Address::new(0x0800_0000).to_u32(), Some(0x0800_0000));
    /// assert_eq!(Address::new(1 << 32).to_u32(), None);
    /// ```
    pub fn to_u32(self) -> Option<u32> {
        u32::try_from(self.0).ok()
    }
}

/// Reads `0x0A002400`, `0x0A00_2400`, `0X…`, or a decimal number.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
///
/// assert_eq!("0x0800_4000".parse::<Address>(), Ok(Address::new(0x0800_4000)));
/// assert!("here".parse::<Address>().is_err());
/// ```
impl FromStr for Address {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        let digits = text.trim().replace('_', "");
        let value = match digits.strip_prefix("0x").or(digits.strip_prefix("0X")) {
            Some(hex) => u64::from_str_radix(hex, 16),
            None => digits.parse(),
        };
        value.map(Self).map_err(|_| ParseError::new(format!("'{text}' is not an address; write it like 0x0A002400")))
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let digits = format!("{:08X}", self.0);
        f.write_str("0x")?;
        for (index, digit) in digits.chars().enumerate() {
            if index > 0 && (digits.len() - index).is_multiple_of(4) {
                f.write_str("_")?;
            }
            write!(f, "{digit}")?;
        }
        Ok(())
    }
}

impl fmt::Debug for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl<'de> serde::Deserialize<'de> for Address {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

impl Serialize for Address {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// A range of addresses: a start and a length in bytes that never wraps.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Span {
    start: Address,
    len: u64,
}

impl Span {
    /// `len` bytes from `start`; `None` if they would run past 64 bits.
    pub const fn new(start: Address, len: u64) -> Option<Self> {
        match start.checked_add(len) {
            Some(_) => Some(Self { start, len }),
            None => None,
        }
    }

    /// The range from `start` to `end`, exclusive. Returns `None` if `end` is below `start`.
    pub const fn between(start: Address, end: Address) -> Option<Self> {
        match end.offset_from(start) {
            Some(len) => Some(Self { start, len }),
            None => None,
        }
    }

    /// First address.
    pub const fn start(self) -> Address {
        self.start
    }

    /// Length in bytes.
    pub const fn len(self) -> u64 {
        self.len
    }

    /// Whether the range contains no byte.
    pub const fn is_empty(self) -> bool {
        self.len == 0
    }

    /// The first address after the range.
    pub const fn end(self) -> Address {
        Address(self.start.0 + self.len)
    }

    /// Whether `address` is inside the range.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    ///
    /// let span = Span::between(Address::new(16), Address::new(32)).unwrap();
    /// assert!(span.contains(Address::new(16)) && !span.contains(Address::new(32)));
    /// ```
    pub fn contains(self, address: Address) -> bool {
        self.start <= address && address < self.end()
    }

    /// Whether the range contains all of `other`.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// assert!(span(0, 64).covers(span(16, 64)));
    /// assert!(!span(0, 64).covers(span(16, 65)));
    /// ```
    pub fn covers(self, other: Self) -> bool {
        self.start <= other.start && other.end() <= self.end()
    }

    /// The intersection with `other`, or `None` if it is empty.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// assert_eq!(span(0, 32).common(span(16, 64)), Some(span(16, 32)));
    /// assert_eq!(span(0, 16).common(span(16, 64)), None);
    /// ```
    pub fn common(self, other: Self) -> Option<Self> {
        let start = self.start.max(other.start);
        let end = self.end().min(other.end());
        Self::between(start, end).filter(|span| !span.is_empty())
    }

    /// Sorts ranges and merges those that overlap or touch.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// assert_eq!(Span::joined([span(0, 16), span(16, 32), span(48, 64)]), [span(0, 32), span(48, 64)]);
    /// ```
    pub fn joined(spans: impl IntoIterator<Item = Self>) -> Vec<Self> {
        let mut joined: Vec<Self> = Vec::new();
        for span in spans {
            match joined.last_mut() {
                Some(last) if last.end() == span.start => last.len += span.len,
                _ => joined.push(span),
            }
        }
        joined
    }
}

impl fmt::Display for Span {
    /// `0x0A00_2400..0x0A00_3000`, the end not included.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}..{}", self.start, self.end())
    }
}

impl fmt::Debug for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

#[cfg(feature = "schema")]
vaka_base::text_schema!(Address, "Address", "^0x[0-9A-F_]+$");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_print_in_groups_of_four_and_read_back() {
        for (value, text) in [
            (0, "0x0000_0000"),
            (0x0A00_2400, "0x0A00_2400"),
            (u64::from(u32::MAX), "0xFFFF_FFFF"),
            (0x1_2345_6789, "0x1_2345_6789"),
        ] {
            assert_eq!(Address::new(value).to_string(), text);
            assert_eq!(text.parse::<Address>(), Ok(Address::new(value)));
        }
        assert_eq!("4096".parse::<Address>(), Ok(Address::new(4096)));
        for bad in ["", "0x", "0x1G", "-1", "here"] {
            assert!(bad.parse::<Address>().unwrap_err().to_string().contains(bad));
        }
    }

    #[test]
    fn spans_never_wrap() {
        assert_eq!(Span::new(Address::new(u64::MAX), 1), None);
        assert_eq!(Span::between(Address::new(2), Address::new(1)), None);
        let span = Span::new(Address::new(10), 5).unwrap();
        assert!(span.contains(Address::new(14)) && !span.contains(Address::new(15)));
        let next = Span::new(Address::new(15), 5).unwrap();
        assert_eq!(span.common(next), None);
        assert_eq!(span.common(Span::new(Address::new(12), 9).unwrap()).unwrap().len(), 3);
    }
}
