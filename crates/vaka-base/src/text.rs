//! Sanitizing of untrusted text for display; bytes as text.

/// Makes text from a device or a file safe to display.
///
/// Control characters, bidirectional controls and invisible characters become `\u{…}`; leading
/// and trailing blanks and NULs are removed; text over 200 characters is truncated and ends in
/// `…`.
///
/// # Examples
/// ```
/// // What a unit says may not move the cursor.
/// assert!(!vaka_base::text::sanitize("Tern\u{1b}[2J").contains('\u{1b}'));
/// ```
pub fn sanitize(text: &str) -> String {
    let trimmed = text.trim_matches(|c: char| c == '\0' || c.is_whitespace());
    let mut read_string = String::with_capacity(trimmed.len());
    for (index, c) in trimmed.chars().enumerate() {
        if index == 200 {
            read_string.push('…');
            break;
        }
        if c.is_control() || is_invisible(c) {
            read_string.extend(c.escape_unicode());
        } else {
            read_string.push(c);
        }
    }
    read_string
}

/// Unicode format characters that hide or reorder adjacent text.
fn is_invisible(c: char) -> bool {
    matches!(c, '\u{200B}'..='\u{200F}' | '\u{2028}'..='\u{202E}' | '\u{2060}'..='\u{206F}' | '\u{FEFF}' | '\u{FFF9}'..='\u{FFFB}')
}

/// Two lower-case digits for each byte, without separators: `0a1b`.
///
/// # Examples
/// ```
/// assert_eq!(vaka_base::text::hex(&[0x0A, 0xFF]), "0aff");
/// ```
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Decodes pairs of hex digits, in either case; white space between pairs is ignored.
/// `None` for an odd number of digits or any other character.
///
/// # Examples
/// ```
/// use vaka_base::text::parse_hex;
///
/// assert_eq!(parse_hex("0aFF"), Some(vec![0x0A, 0xFF]));
/// assert_eq!(parse_hex("0g"), None);
/// assert_eq!(parse_hex("0"), None);
/// ```
pub fn parse_hex(text: impl AsRef<[u8]>) -> Option<Vec<u8>> {
    let digits = text.as_ref().iter().filter(|byte| !byte.is_ascii_whitespace());
    let digits: Option<Vec<u8>> = digits.map(|byte| hex_digit(*byte)).collect();
    let (pairs, []) = digits.as_deref()?.as_chunks::<2>() else { return None };
    Some(pairs.iter().map(|[high, low]| high << 4 | low).collect())
}

fn hex_digit(byte: u8) -> Option<u8> {
    char::from(byte).to_digit(16).and_then(|digit| u8::try_from(digit).ok())
}

/// Bytes as separated hex pairs: `0A 1B`.
pub fn hex_pairs(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect::<Vec<_>>().join(" ")
}

/// `1 sector`, `3 sectors`.
pub fn count(number: usize, noun: &str) -> String {
    format!("{number} {noun}{}", if number == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hex_is_decoded_or_refused() {
        for (text, bytes) in [("", Some(vec![])), ("0a1B", Some(vec![10, 27])), (" 54 52\n", Some(vec![0x54, 0x52]))] {
            assert_eq!(parse_hex(text), bytes, "{text:?}");
        }
        for wrong in ["0", "0a1", "0x0a", "zz", "é1", "+1"] {
            assert_eq!(parse_hex(wrong), None, "{wrong:?}");
        }
    }

    #[test]
    fn nothing_from_outside_can_steer_a_terminal() {
        assert_eq!(sanitize(" Tern\0\0"), "Tern");
        assert_eq!(sanitize("a\x1b[2Jb"), "a\\u{1b}[2Jb");
        assert_eq!(sanitize("a\u{202E}b\nc"), "a\\u{202e}b\\u{a}c");
        assert_eq!(sanitize(&"x".repeat(500)).chars().count(), 201);
    }
}
