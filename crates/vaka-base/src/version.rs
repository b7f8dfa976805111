//! Firmware versions as units and files report them.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use crate::ParseError;
use serde::{Serialize, Serializer};

use crate::text;

/// A version as reported: numbers separated by points, with an optional suffix. `1.5` equals
/// `1.5.0`; `2.0-rc1` is lower than `2.0`.
#[derive(Clone, Debug)]
pub struct Version {
    text: String,
    /// Without trailing zeros.
    numbers: Vec<u64>,
    rest: String,
}

impl Version {
    /// Reads a version; a `v` before its first digit is left out. Any text is
    /// one, though such without a number can only be equal to itself.
    ///
    /// # Examples
    /// ```
    /// use vaka_base::version::Version;
    ///
    /// assert!(Version::parse("1.10.0") > Version::parse("1.9.3"));
    /// ```
    pub fn parse(told: &str) -> Self {
        let text = text::sanitize(told);
        let plain = text.strip_prefix(['v', 'V']).filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
        let mut rest = plain.unwrap_or(&text);
        let mut numbers = Vec::new();
        while let Some((number, behind)) = leading_number(rest) {
            numbers.push(number);
            rest = behind;
            match rest.strip_prefix('.').filter(|more| more.starts_with(|c: char| c.is_ascii_digit())) {
                Some(more) => rest = more,
                None => break,
            }
        }
        while numbers.last() == Some(&0) {
            numbers.pop();
        }
        let rest = rest.trim().to_owned();
        Self { numbers, rest, text }
    }

    /// Extracts the version from a file name such as `heron-3.1.0.hex`: the first two or more
    /// numbers separated by points. Returns `None` if there is none.
    ///
    /// # Examples
    /// ```
    /// use vaka_base::version::Version;
    ///
    /// assert_eq!(Version::from_file_name("tern-r1-1.5.0.hex").unwrap().as_str(), "1.5.0");
    /// assert!(Version::from_file_name("firmware.bin").is_none());
    /// ```
    pub fn from_file_name(name: &str) -> Option<Self> {
        let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
        let is_part = |c: char| c.is_ascii_digit() || c == '.';
        let runs = stem.split(|c| !is_part(c)).map(|run| run.trim_matches('.'));
        runs.into_iter().find(|run| run.contains('.')).map(Self::parse)
    }

    /// The version as reported.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    fn key(&self) -> (&[u64], bool, &str) {
        (&self.numbers, self.rest.is_empty(), &self.rest)
    }
}

fn leading_number(text: &str) -> Option<(u64, &str)> {
    let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    Some((text[..end].parse().ok()?, &text[end..]))
}

impl From<ReleaseNumber> for Version {
    fn from(number: ReleaseNumber) -> Self {
        Self::parse(&number.to_string())
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.key() == other.key()
    }
}

impl Eq for Version {}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.key().cmp(&other.key())
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Serialize for Version {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

/// A release number in packed decimal, as USB's bcdDevice: 0x0150 is `1.5.0`.
///
/// Source: USB 2.0, section 9.6.1 (the form is bcdUSB's: JJ.M.N).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ReleaseNumber(pub u16);

/// Reads `1.5.0` or `1.50`: the part before the first point has one or two digits, each digit
/// after it counts alone.
impl FromStr for ReleaseNumber {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        let wrong = || ParseError::new(format!("'{text}' is not a release number; write it like 1.5.0"));
        let (major, minor) = text.trim().split_once('.').ok_or_else(wrong)?;
        let minor: String = minor.chars().filter(|c| *c != '.').collect();
        let fits = (1..=2).contains(&major.len()) && (1..=2).contains(&minor.len());
        let digits = format!("{major}{minor:0<2}");
        u16::from_str_radix(&digits, 16).ok().filter(|_| fits).map(Self).ok_or_else(wrong)
    }
}

impl fmt::Display for ReleaseNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:x}.{:x}.{:x}", self.0 >> 8, self.0 >> 4 & 0xF, self.0 & 0xF)
    }
}

impl Serialize for ReleaseNumber {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_ordered_by_their_numbers() {
        let rising = ["0.9", "1.5.0", "1.5.1", "1.10", "2.0-rc1", "2.0", "10.0"];
        for pair in rising.windows(2) {
            assert!(Version::parse(pair[0]) < Version::parse(pair[1]), "{pair:?}");
        }
        for (a, b) in [("1.5", "1.5.0"), ("v2", "2.0.0"), (" 3.1 ", "3.1"), ("blue", "blue")] {
            assert_eq!(Version::parse(a), Version::parse(b));
        }
        assert_ne!(Version::parse("blue"), Version::parse("green"));
        assert_eq!(Version::from(ReleaseNumber(0x0150)).as_str(), "1.5.0");
    }

    #[test]
    fn a_version_is_found_in_a_files_name() {
        let found = |name| Version::from_file_name(name).map(|version| version.to_string());
        assert_eq!(found("heron-display-3.1.0.hex").as_deref(), Some("3.1.0"));
        assert_eq!(found("HERON_v2.4.uf2").as_deref(), Some("2.4"));
        assert_eq!(found("r2-1.5.0-tide.bin").as_deref(), Some("1.5.0"));
        assert_eq!(found("petrel7.uf2"), None);
        assert_eq!(found("..."), None);
    }
}
