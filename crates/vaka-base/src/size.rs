//! Sizes in bytes as users write and read them.

use crate::ParseError;
use std::fmt;

/// A number of bytes that prints in the largest binary unit that divides it:
/// `3 KiB`, `1 MiB`, `20 772 bytes`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bytes(pub u64);

impl fmt::Display for Bytes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            1 => f.write_str("1 byte"),
            n if n > 0 && n.is_multiple_of(1 << 20) => write!(f, "{} MiB", n >> 20),
            n if n > 0 && n.is_multiple_of(1 << 10) => write!(f, "{} KiB", n >> 10),
            n => write!(f, "{} bytes", Grouped(n)),
        }
    }
}

/// A number with its digits in groups of three: `20 772`.
#[derive(Clone, Copy, Debug)]
pub struct Grouped(pub u64);

impl fmt::Display for Grouped {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let digits = self.0.to_string();
        for (index, digit) in digits.chars().enumerate() {
            if index > 0 && (digits.len() - index).is_multiple_of(3) {
                f.write_str(" ")?;
            }
            write!(f, "{digit}")?;
        }
        Ok(())
    }
}

/// Reads `3 KiB`, `3KiB`, `3 MiB`, `512 bytes`, `512 B` or `512`.
///
/// # Errors
/// The text has none of these forms, or is too large.
///
/// # Examples
/// ```
/// use vaka_base::size::parse;
///
/// assert_eq!(parse("16 KiB"), Ok(16 * 1024));
/// assert_eq!(parse("512 bytes"), Ok(512));
/// ```
pub fn parse(text: &str) -> Result<u64, ParseError> {
    let text = text.trim();
    let split = text.find(|c: char| !c.is_ascii_digit() && c != '_').unwrap_or(text.len());
    let (digits, unit) = text.split_at(split);
    let factor: u64 = match unit.trim() {
        "" | "B" | "byte" | "bytes" => 1,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        _ => 0,
    };
    let count = digits.replace('_', "").parse::<u64>().ok();
    count.filter(|_| factor > 0).and_then(|count| count.checked_mul(factor)).ok_or_else(|| {
        ParseError::new(format!("'{text}' is not a size; write it like \"3 KiB\", \"1 MiB\" or \"512 bytes\""))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_print_in_the_unit_that_divides_them() {
        for (bytes, text) in
            [(0, "0 bytes"), (1, "1 byte"), (3072, "3 KiB"), (1 << 20, "1 MiB"), (20_772, "20 772 bytes")]
        {
            assert_eq!(Bytes(bytes).to_string(), text);
        }
    }

    #[test]
    fn sizes_are_read_in_every_form_that_is_documented() {
        for (text, bytes) in [("3 KiB", 3072), ("3KiB", 3072), (" 2 MiB ", 2 << 20), ("512", 512), ("1_024 B", 1024)] {
            assert_eq!(parse(text), Ok(bytes), "{text}");
        }
        for bad in ["", "KiB", "3 KB", "3 GiB", "-3", "3.5 KiB", "99999999999999999 MiB"] {
            assert!(parse(bad).is_err(), "{bad}");
        }
    }
}
