//! A picture of memory in the terminal: one sign for each sector.

use vaka_base::size::Bytes;
use vaka_image::address::Span;
use vaka_image::compare::Cell;
use vaka_image::occupancy::Occupancy;

/// Signs in a line.
const LINE: usize = 64;

/// What the signs mean.
pub const LEGEND: &str = "# full   + partly   . blank (0xFF)   - not in the file";

/// What the signs of a comparison mean.
pub const COMPARISON_LEGEND: &str =
    "= equal   x different   . blank in the other   ? not readable   (blank) free   o not in the file";

/// The same for a comparison.
pub fn comparison(cells: &[(Span, Cell)]) -> Vec<String> {
    let sign = |cell: &Cell| match cell {
        Cell::Equal => '=',
        Cell::Different => 'x',
        Cell::Blank => '.',
        Cell::Unread => '?',
        Cell::Free => ' ',
        Cell::Other => 'o',
    };
    lines(cells.iter().map(|(cell, kind)| (*cell, sign(kind)))).into_iter().map(MapRow::text).collect()
}

/// Lines with the first address of each and a sign for each cell. A jump in
/// the addresses begins a new line; lines that hold nothing are left out.
pub fn picture(cells: &[(Span, Occupancy)]) -> Vec<String> {
    let lines = lines(cells.iter().map(|(cell, fill)| (*cell, sign(*fill))));
    let held = lines.into_iter().filter(|line| line.signs.contains(|sign| sign != '-'));
    held.map(MapRow::text).collect()
}

fn lines(cells: impl Iterator<Item = (Span, char)>) -> Vec<MapRow> {
    let mut lines: Vec<MapRow> = Vec::new();
    for (cell, sign) in cells {
        match lines.last_mut() {
            Some(line)
                if line.last.end() == cell.start() && line.last.len() == cell.len() && line.signs.len() < LINE =>
            {
                line.last = cell;
                line.signs.push(sign);
            }
            _ => lines.push(MapRow { first: cell, last: cell, signs: sign.to_string() }),
        }
    }
    lines
}

struct MapRow {
    first: Span,
    last: Span,
    signs: String,
}

impl MapRow {
    fn text(self) -> String {
        format!("{} {}  ({} each)", self.first.start(), self.signs, Bytes(self.first.len()))
    }
}

fn sign(fill: Occupancy) -> char {
    match fill {
        Occupancy::Absent => '-',
        Occupancy::Blank => '.',
        Occupancy::Part => '+',
        Occupancy::Full => '#',
    }
}
