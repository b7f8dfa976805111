//! How an image fills memory: per cell, what it holds.

use serde::Serialize;

use crate::address::{Address, Span};
use crate::model::Image;

/// The part of a memory cell that an image contains.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Occupancy {
    /// Nothing.
    Absent,
    /// Nothing but 0xFF, as erased flash has.
    Blank,
    /// Some of it.
    Part,
    /// All of it.
    Full,
}

impl Image {
    /// The part of a cell that the image contains.
    pub fn fill(&self, cell: Span) -> Occupancy {
        let parts: Vec<&[u8]> = self.parts_in(cell).map(|(_, bytes)| bytes).collect();
        let held: u64 = parts.iter().map(|part| part.len() as u64).sum();
        match held {
            0 => Occupancy::Absent,
            _ if parts.iter().all(|part| part.iter().all(|byte| *byte == 0xFF)) => Occupancy::Blank,
            _ if held == cell.len() => Occupancy::Full,
            _ => Occupancy::Part,
        }
    }

    /// Cells of a round size that cover the image, where no sectors are known:
    /// at most 512 of them. Long gaps between segments are left out.
    pub fn cells(&self) -> Vec<Span> {
        let held = self.segments().len() as u64;
        let size = (self.len() / 256 + 1).next_power_of_two().max(256) * (held / 256 + 1);
        let mut cells: Vec<Span> = Vec::new();
        for segment in self.segments() {
            let mut at = segment.start().align_down(size).max(cells.last().map_or(Address::new(0), |last| last.end()));
            while at < segment.span().end() {
                let Some(cell) = Span::new(at, size) else { break };
                cells.push(cell);
                at = cell.end();
            }
        }
        cells
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read::{ReadOptions, read};

    #[test]
    fn cells_are_full_part_blank_or_absent() {
        let mut bytes = vec![0xFF; 600];
        bytes[..300].fill(7);
        let image = read(&bytes, ReadOptions { at: Some(Address::new(0x110)), ..ReadOptions::default() }).unwrap();
        let fill = |from: u64, len| image.fill(Span::new(Address::new(from), len).unwrap());
        assert_eq!(fill(0x100, 0x10), Occupancy::Absent);
        assert_eq!(fill(0x100, 0x20), Occupancy::Part);
        assert_eq!(fill(0x110, 0x100), Occupancy::Full);
        assert_eq!(fill(0x300, 0x100), Occupancy::Blank);
        let cells = image.cells();
        assert_eq!(cells.first().map(|cell| cell.start()), Some(Address::new(0x100)));
        assert!(cells.last().is_some_and(|cell| cell.end() >= image.span().end()));
    }
}
