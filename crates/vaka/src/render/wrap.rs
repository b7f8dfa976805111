//! Line breaks: text never breaks inside a word, an id, an address or a number.

use std::fmt::Arguments;
use std::io::Write;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use terminal_size::{Width, terminal_size_of};
use unicode_width::UnicodeWidthStr;

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

/// Writes a document as it is, such as a JSON line. A closed pipe must not abort an update.
pub fn write_raw(text: &str) {
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
    let _ = writeln!(out, "{}", wrapped(&text.to_string(), width().into()));
    let _ = out.flush();
}

/// Prints wrapped text on standard error.
pub fn print_error(text: Arguments<'_>) {
    let _ = writeln!(anstream::stderr().lock(), "{}", wrapped(&text.to_string(), width().into()));
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
