//! Large letters, to be read from some metres away.

use font8x8::legacy::BASIC_LEGACY;

/// Columns of a letter.
const LETTER: usize = 8;

/// The text in letters of eight columns and four lines; two rows of dots are one line. Characters that the font does not
/// have are shown as `?`; what does not fit into `columns` is left out at the end.
pub fn lines(text: &str, columns: usize) -> Vec<String> {
    let glyph = |c: char| BASIC_LEGACY.get(c as usize).copied().unwrap_or(BASIC_LEGACY[usize::from(b'?')]);
    let glyphs: Vec<[u8; 8]> = text.chars().take(columns / LETTER).map(glyph).collect();
    let line = |row: usize| {
        let dots = glyphs.iter().flat_map(|glyph| (0..LETTER).map(move |bit| is_set(glyph, row, bit)));
        dots.collect::<String>().trim_end().to_owned()
    };
    (0..8).step_by(2).map(line).collect()
}

/// The two dots below each other at a place, as one character. In the font, bit 0 is the leftmost dot.
fn is_set(glyph: &[u8; 8], row: usize, bit: usize) -> char {
    let dot = |row: usize| glyph[row] >> bit & 1 == 1;
    match (dot(row), dot(row + 1)) {
        (true, true) => '█',
        (true, false) => '▀',
        (false, true) => '▄',
        (false, false) => ' ',
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_are_drawn_with_half_blocks() {
        assert_eq!(lines("L", 80), ["▀██▀", " ██", " ██  ▄█", "▀▀▀▀▀▀▀"]);
        assert_eq!(lines("LONG", 20), lines("LO", 80), "what does not fit is left out");
        assert_eq!(lines("ö", 80), lines("?", 80));
    }
}
