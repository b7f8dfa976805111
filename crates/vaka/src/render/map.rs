//! A picture of memory in the terminal: one sign for each sector.

use vaka_base::size::Bytes;
use vaka_image::address::Span;
use vaka_image::compare::Cell;
use vaka_image::occupancy::Occupancy;

/// Signs in a line.
const LINE: usize = 64;

/// Legend of the symbols.
pub const LEGEND: &str = "# full   + partly   . blank (0xFF)   - not in the file";

/// Legend of the symbols of a comparison.
pub const COMPARISON_LEGEND: &str =
    "= equal   x different   . blank in the other   ? not readable   (blank) free   o not in the file";

/// The rows of a comparison.
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

/// Rows with the first address of each and a symbol for each cell. A gap in the addresses starts
/// a new row; rows without content are omitted.
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
