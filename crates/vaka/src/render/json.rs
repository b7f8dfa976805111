//! Events as JSON Lines on standard output, with their time.

use std::io::Write;

use serde::Serialize;
use serde_json::ser::{CharEscape, CompactFormatter, Formatter};
use vaka_base::text::is_hidden;
use vaka_core::event::Event;

use super::{Renderer, wrap};

/// Writes JSON Lines.
pub struct Json;

#[derive(Serialize)]
struct Stamped<'a, T> {
    time: jiff::Timestamp,
    #[serde(flatten)]
    event: &'a T,
}

/// Writes one value as a line. A closed pipe must not abort the update.
pub fn line<T: Serialize>(value: &T) {
    let stamped = Stamped { time: jiff::Timestamp::now(), event: value };
    let text = to_string(&stamped).unwrap_or_else(|error| format!("{{\"event\":\"error\",\"message\":\"{error}\"}}"));
    wrap::write_raw(&format!("{text}\n"));
}

/// A value as JSON in one line. Strings have no hidden characters, so that neither a terminal nor a
/// later reader of a string is misled.
pub fn to_string<T: Serialize>(value: &T) -> serde_json::Result<String> {
    let mut text = Vec::new();
    value.serialize(&mut serde_json::Serializer::with_formatter(&mut text, Visible))?;
    Ok(String::from_utf8_lossy(&text).into_owned())
}

/// Writes strings as [`vaka_base::text::visible_lines`] does.
struct Visible;

impl Formatter for Visible {
    fn write_string_fragment<W: ?Sized + Write>(&mut self, out: &mut W, fragment: &str) -> std::io::Result<()> {
        if fragment.is_ascii() && !fragment.contains('\x7f') {
            return out.write_all(fragment.as_bytes());
        }
        // A backslash is escaped once more in JSON.
        let write = |c: char| if is_hidden(c) { format!("\\{}", c.escape_unicode()) } else { c.to_string() };
        out.write_all(fragment.chars().map(write).collect::<String>().as_bytes())
    }

    fn write_char_escape<W: ?Sized + Write>(&mut self, out: &mut W, escape: CharEscape) -> std::io::Result<()> {
        let hidden = match escape {
            CharEscape::AsciiControl(byte) => byte,
            CharEscape::Backspace => 0x08,
            CharEscape::FormFeed => 0x0C,
            CharEscape::CarriageReturn => b'\r',
            shown => return CompactFormatter.write_char_escape(out, shown),
        };
        write!(out, "\\\\u{{{hidden:x}}}")
    }
}

impl Renderer for Json {
    fn event(&mut self, event: Event) {
        line(&event);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strings_have_no_hidden_characters() {
        let text = to_string(&"a\u{1b}[2J\u{202e}\u{e0041}\r\x7f\x08b\n\t\"\\c").unwrap();
        assert_eq!(text, r#""a\\u{1b}[2J\\u{202e}\\u{e0041}\\u{d}\\u{7f}\\u{8}b\n\t\"\\c""#);
        let back: String = serde_json::from_str(&text).unwrap();
        assert_eq!(back, "a\\u{1b}[2J\\u{202e}\\u{e0041}\\u{d}\\u{7f}\\u{8}b\n\t\"\\c");
    }
}
