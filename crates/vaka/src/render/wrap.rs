//! Line breaks: text never breaks inside a word, an id, an address or a number.

use std::fmt::Arguments;
use std::io::Write;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use terminal_size::{Width, terminal_size_of};
use unicode_width::UnicodeWidthStr;
use vaka_base::text::{push_visible_in_lines, visible_lines};

/// Prints a wrapped line on standard output.
macro_rules! out {
    ($($arg:tt)*) => { $crate::render::wrap::print(format_args!($($arg)*)) };
}

/// Prints a wrapped line on standard error.
macro_rules! err {
    ($($arg:tt)*) => { $crate::render::wrap::print_error(format_args!($($arg)*)) };
}

pub(crate) use {err, out};

/// Limits of the width in columns: below the lower limit the terminal breaks the lines, above the
/// upper limit they are hard to read.
const WIDTHS: std::ops::RangeInclusive<u16> = 40..=140;

/// Width if standard output is not a terminal, for example a pipe to `grep`: no wrapping.
const UNLIMITED: u16 = 1000;

/// Continuation lines start at most at this column.
const MAX_INDENT: usize = 24;

/// Width of the output in columns: `COLUMNS` if set, or the width of the terminal at standard output, or
/// unlimited.
pub fn width() -> u16 {
    static COLUMNS: OnceLock<u16> = OnceLock::new();
    *COLUMNS.get_or_init(|| {
        let set = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
        let columns = set.or_else(|| terminal_size_of(std::io::stdout()).map(|(Width(columns), _)| columns));
        columns.map_or(UNLIMITED, |columns| columns.clamp(*WIDTHS.start(), *WIDTHS.end()))
    })
}

/// Whether standard output is reserved for the content of a file.
static STDOUT_HAS_CONTENT: AtomicBool = AtomicBool::new(false);

/// From now on, standard output is for the content of a file, and messages go to standard error.
pub fn messages_to_standard_error() {
    STDOUT_HAS_CONTENT.store(true, Ordering::Relaxed);
}

/// Text that may go to a terminal: hidden characters are shown, except the styles of this program.
fn safe(text: &str) -> String {
    let mut made = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let len = match style_len(rest) {
            Some(len) => {
                made.push_str(&rest[..len]);
                len
            }
            None => {
                push_visible_in_lines(&mut made, c);
                c.len_utf8()
            }
        };
        rest = &rest[len..];
    }
    made
}

/// The length of a style at the start of a text: `ESC [`, numbers and `m`. Source: ECMA-48, 8.3.117.
fn style_len(text: &str) -> Option<usize> {
    let rest = text.strip_prefix("\x1b[")?;
    let end = rest.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    rest[end..].starts_with('m').then_some(2 + end + 1)
}

/// Writes a document without line breaks of its own, such as a JSON line. A closed pipe must not
/// abort an update.
pub fn write_raw(text: &str) {
    let text = visible_lines(text);
    let write = |out: &mut dyn Write| out.write_all(text.as_bytes()).and_then(|()| out.flush());
    let _ = match STDOUT_HAS_CONTENT.load(Ordering::Relaxed) {
        true => write(&mut std::io::stderr().lock()),
        false => write(&mut std::io::stdout().lock()),
    };
}

/// Prints wrapped text on standard output. A closed pipe must not abort an update.
pub fn print(text: Arguments<'_>) {
    if STDOUT_HAS_CONTENT.load(Ordering::Relaxed) {
        return print_error(text);
    }
    let mut out = anstream::stdout().lock();
    let _ = writeln!(out, "{}", wrapped(&safe(&text.to_string()), width().into()));
    let _ = out.flush();
}

/// Prints wrapped text on standard error.
pub fn print_error(text: Arguments<'_>) {
    let _ = writeln!(anstream::stderr().lock(), "{}", wrapped(&safe(&text.to_string()), width().into()));
}

/// The text with each line broken at `width` columns. Continuation lines are indented: in a line
/// such as `  check      read-back: …` to the second column of text, otherwise by two more than
/// the line itself.
pub fn wrapped(text: &str, width: usize) -> String {
    let lines = text.split('\n').map(|line| if columns(line) <= width { line.to_owned() } else { broken(line, width) });
    lines.collect::<Vec<_>>().join("\n")
}

fn broken(line: &str, width: usize) -> String {
    let indent = hanging_indent(line);
    let (start, rest) = line.split_at(line.len() - line.trim_start_matches(' ').len());
    let mut done = String::from(start);
    let mut column = start.len();
    for (index, token) in tokens(rest).into_iter().enumerate() {
        let word = token.trim_start_matches(' ');
        if index > 0 && column + columns(token) > width {
            done.push('\n');
            done.push_str(&" ".repeat(indent));
            done.push_str(word);
            column = indent + columns(word);
        } else {
            done.push_str(token);
            column += columns(token);
        }
    }
    done
}

/// Column of the continuation lines.
fn hanging_indent(line: &str) -> usize {
    let start = line.len() - line.trim_start_matches(' ').len();
    let text = &line[start..];
    let second = text.find("  ").map(|gap| {
        let blanks = text[gap..].len() - text[gap..].trim_start_matches(' ').len();
        start + columns(&text[..gap]) + blanks
    });
    second.filter(|&column| column <= MAX_INDENT).unwrap_or(start + 2)
}

/// The words, each with the blanks before it. A group of digits is part of the number before it,
/// and a unit of measure part of its number: `20 772`, `96 KiB`.
pub fn tokens(text: &str) -> Vec<&str> {
    let mut tokens = Vec::new();
    let mut start = 0;
    let bytes = text.as_bytes();
    for (index, _) in text.match_indices(' ') {
        if index > start && bytes[index - 1] != b' ' && !is_in_number(text, index) {
            tokens.push(&text[start..index]);
            start = index;
        }
    }
    tokens.push(&text[start..]);
    tokens
}

/// Whether the blank at `index` stands inside a number or before its unit of measure.
fn is_in_number(text: &str, index: usize) -> bool {
    const UNITS: [&str; 9] = ["KiB", "MiB", "B", "bytes", "ms", "s", "min", "%", "Mbit"];
    let is_after_digit = text[..index].ends_with(|c: char| c.is_ascii_digit());
    let next = text[index + 1..].split(|c: char| !(c.is_alphanumeric() || c == '%')).next().unwrap_or_default();
    let is_group = next.len() == 3 && next.bytes().all(|byte| byte.is_ascii_digit());
    is_after_digit && (is_group || UNITS.contains(&next))
}

/// Columns of a text on a terminal; escape sequences take none.
pub fn columns(text: &str) -> usize {
    let mut parts = text.split('\x1b');
    let plain = parts.next().map_or(0, UnicodeWidthStr::width);
    plain + parts.map(|part| part.split_once('m').map_or(0, |(_, rest)| rest.width())).sum::<usize>()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_styles_steer_the_terminal() {
        let styled = "\x1b[1;31mred\x1b[0m\n\tnext";
        assert_eq!(safe(styled), styled);
        assert_eq!(safe("\x1b[2J\x1b]0;title\x07\u{202e}\r"), "\\u{1b}[2J\\u{1b}]0;title\\u{7}\\u{202e}\\u{d}");
        assert_eq!(safe("\x1b[31"), "\\u{1b}[31");
    }

    #[test]
    fn lines_break_between_words() {
        let cases = [
            ("short", 10, "short"),
            ("one two three", 8, "one two\n  three"),
            ("  check      all bytes are equal", 24, "  check      all bytes\n             are equal"),
            ("they hold 20 772 bytes", 16, "they hold\n  20 772 bytes"),
            ("  of 96 KiB in 1-1.2.3.4.5.6.7.8", 20, "  of 96 KiB in\n    1-1.2.3.4.5.6.7.8"),
            ("serial-number-as-long-as-a-line and more", 20, "serial-number-as-long-as-a-line\n  and more"),
            ("first\nsecond line is long", 12, "first\nsecond line\n  is long"),
            ("\x1b[1mbold\x1b[0m word", 9, "\x1b[1mbold\x1b[0m word"),
            ("größer als acht", 10, "größer als\n  acht"),
        ];
        for (text, width, expected) in cases {
            assert_eq!(wrapped(text, width), expected);
        }
    }
}
