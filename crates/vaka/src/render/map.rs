//! A picture of memory in the terminal: one sign for each sector.

use vaka_core::address::Span;
use vaka_core::image::fill::Fill;
use vaka_core::size::Bytes;

/// Signs in a line.
const LINE: usize = 64;

/// What the signs mean.
pub const LEGEND: &str = "# full   + partly   . blank (0xFF)   - not in the file";

/// Lines with the first address of each and a sign for each cell. A jump in
/// the addresses begins a new line; lines that hold nothing are left out.
pub fn picture(cells: &[(Span, Fill)]) -> Vec<String> {
    let mut lines: Vec<Line> = Vec::new();
    for (cell, fill) in cells {
        match lines.last_mut() {
            Some(line)
                if line.last.end() == cell.start() && line.last.len() == cell.len() && line.signs.len() < LINE =>
            {
                line.last = *cell;
                line.signs.push(sign(*fill));
            }
            _ => lines.push(Line { first: *cell, last: *cell, signs: sign(*fill).to_string() }),
        }
    }
    let held = lines.into_iter().filter(|line| line.signs.contains(|sign| sign != '-'));
    held.map(|line| format!("{} {}  ({} each)", line.first.start(), line.signs, Bytes(line.first.len()))).collect()
}

struct Line {
    first: Span,
    last: Span,
    signs: String,
}

fn sign(fill: Fill) -> char {
    match fill {
        Fill::Absent => '-',
        Fill::Blank => '.',
        Fill::Part => '+',
        Fill::Full => '#',
    }
}
