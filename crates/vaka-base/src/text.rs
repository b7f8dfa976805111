//! Sanitizing of untrusted text for display; bytes as text.

/// Makes text from a device or a file safe to display: [`visible`] without blanks and NULs at its
/// ends. Text over 200 characters is truncated and ends in `…`.
///
/// # Examples
/// ```
/// // What a unit says may not move the cursor.
/// assert!(!vaka_base::text::sanitize("Tern\u{1b}[2J").contains('\u{1b}'));
/// ```
pub fn sanitize(text: &str) -> String {
    let trimmed = text.trim_matches(|c: char| c == '\0' || c.is_whitespace());
    match trimmed.char_indices().nth(200) {
        Some((end, _)) => visible(&trimmed[..end]) + "…",
        None => visible(trimmed),
    }
}

/// Text in which every hidden character is written as `\u{…}`: control characters, format
/// characters, and others without a form of their own that change or hide the text beside them.
///
/// # Examples
/// ```
/// use vaka_base::text::visible;
///
/// assert_eq!(visible("gauge\u{202E}xeh.1"), "gauge\\u{202e}xeh.1");
/// assert_eq!(visible("\u{E4}\n"), "\u{E4}\\u{a}");
/// ```
pub fn visible(text: &str) -> String {
    let mut made = String::with_capacity(text.len());
    text.chars().for_each(|c| push_visible(&mut made, c));
    made
}

/// Text of several lines: as [`visible`], but line ends and tabs stay.
pub fn visible_lines(text: &str) -> String {
    let mut made = String::with_capacity(text.len());
    text.chars().for_each(|c| push_visible_in_lines(&mut made, c));
    made
}

/// Appends a character as [`visible_lines`] writes it.
pub fn push_visible_in_lines(made: &mut String, c: char) {
    if matches!(c, '\n' | '\t') { made.push(c) } else { push_visible(made, c) }
}

/// Appends a character as [`visible`] writes it.
fn push_visible(made: &mut String, c: char) {
    if is_hidden(c) { made.extend(c.escape_unicode()) } else { made.push(c) }
}

/// Whether a character has no form of its own, or changes the text beside it.
///
/// Source: Unicode 16, general categories Cc, Cf, Zl and Zp (DerivedGeneralCategory.txt), and
/// characters that are ignored by default (Default_Ignorable_Code_Point in
/// DerivedCoreProperties.txt), of which the variation selectors and tags are the most common.
pub fn is_hidden(c: char) -> bool {
    // Format characters outside the ranges below.
    const FORMAT: [std::ops::RangeInclusive<char>; 9] = [
        '\u{600}'..='\u{605}',
        '\u{6DD}'..='\u{6DD}',
        '\u{70F}'..='\u{70F}',
        '\u{890}'..='\u{891}',
        '\u{8E2}'..='\u{8E2}',
        '\u{FFF9}'..='\u{FFFB}',
        '\u{110BD}'..='\u{110BD}',
        '\u{110CD}'..='\u{110CD}',
        '\u{13430}'..='\u{1343F}',
    ];
    // Ignored by default.
    const IGNORED: [std::ops::RangeInclusive<char>; 17] = [
        '\u{AD}'..='\u{AD}',
        '\u{34F}'..='\u{34F}',
        '\u{61C}'..='\u{61C}',
        '\u{115F}'..='\u{1160}',
        '\u{17B4}'..='\u{17B5}',
        '\u{180B}'..='\u{180F}',
        '\u{200B}'..='\u{200F}',
        '\u{2028}'..='\u{202E}',
        '\u{2060}'..='\u{206F}',
        '\u{3164}'..='\u{3164}',
        '\u{FE00}'..='\u{FE0F}',
        '\u{FEFF}'..='\u{FEFF}',
        '\u{FFA0}'..='\u{FFA0}',
        '\u{FFF0}'..='\u{FFF8}',
        '\u{1BCA0}'..='\u{1BCA3}',
        '\u{1D173}'..='\u{1D17A}',
        '\u{E0000}'..='\u{E0FFF}',
    ];
    match c {
        ' '..='~' => false,
        c => c.is_control() || FORMAT.iter().chain(&IGNORED).any(|range| range.contains(&c)),
    }
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
        assert_eq!(visible_lines("a\n\tb\r\x1b"), "a\n\tb\\u{d}\\u{1b}");
    }

    #[test]
    fn every_hidden_character_is_shown_and_every_letter_stays() {
        let hidden = "\0\x07\x1b\x7f\u{80}\u{9b}\u{ad}\u{34f}\u{61c}\u{115f}\u{180e}\u{200b}\u{200f}\u{2028}\u{2066}\u{3164}\u{fe0f}\u{feff}\u{fff9}\u{1d173}\u{e0001}\u{e0041}\u{e0100}";
        for c in hidden.chars() {
            assert_eq!(visible(&c.to_string()), c.escape_unicode().to_string());
        }
        let letters = "aZ09 ~äßéñЖאعहカ漢字한글🔧—…´";
        assert_eq!(visible(letters), letters);
    }

    /// The table against the character database of another program.
    #[test]
    fn the_table_has_every_format_character_that_python_knows() {
        if !vaka_testkit::program::is_there("python3") {
            return;
        }
        let script = "import sys, unicodedata\nprint(*[c for c in range(0x110000) if unicodedata.category(chr(c)) in ('Cc', 'Cf', 'Zl', 'Zp')])";
        let listed = std::process::Command::new("python3").args(["-c", script]).output().unwrap();
        let listed = String::from_utf8(listed.stdout).unwrap();
        let characters: Vec<char> =
            listed.split_whitespace().map(|n| char::from_u32(n.parse().unwrap()).unwrap()).collect();
        assert!(characters.len() > 200, "only {} characters", characters.len());
        for c in characters {
            assert!(is_hidden(c), "{}", c.escape_unicode());
        }
    }
}
