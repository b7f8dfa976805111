//! Comparison of two images: a file with the content of a unit, or two files.

use serde::Serialize;

use crate::address::{Address, Span};
use crate::model::Image;

/// The comparison of one cell of memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cell {
    /// All bytes of the first image are equal in the second.
    Equal,
    /// Some bytes of the first image differ.
    Different,
    /// The second image is blank (0xFF) where the first has data.
    Blank,
    /// The second image could not be read here.
    Unread,
    /// The first image has no data here; the second is blank.
    Free,
    /// The first image has no data here; the second has.
    Other,
}

/// The first byte that differs, and the bytes around it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FirstDifference {
    /// Address of the byte.
    pub at: Address,
    /// Start of the surrounding bytes: a multiple of 16.
    pub from: Address,
    /// Surrounding bytes of the first image; `None` where it has no data.
    pub first: Vec<Option<u8>>,
    /// Surrounding bytes of the second image; `None` where it has no data.
    pub other: Vec<Option<u8>>,
}

/// The result of a comparison.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Comparison {
    /// Bytes of the first image that are equal in the second.
    pub equal: u64,
    /// Bytes of the first image that differ in the second.
    pub different: u64,
    /// Bytes of the first that could not be read of the other.
    pub unread: u64,
    /// Each cell, in rising order.
    pub cells: Vec<(Span, Cell)>,
    /// The first difference, if any.
    pub first_difference: Option<FirstDifference>,
}

/// Surrounding bytes before and after a difference: three lines of 16.
const AROUND: u64 = 48;

/// Compares `first` with `other`, cell by cell. Bytes of `first` outside all cells are counted
/// but not shown in a cell.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::compare::compare;
/// use vaka_image::Image;
///
/// let image = |bytes: &[u8]| Image::from_memory(&[(Address::new(0), bytes.to_vec())]).unwrap();
/// let found = compare(&image(&[1, 2, 3]), &image(&[1, 9, 3]), &[]);
/// assert_eq!((found.different, found.unread), (1, 0));
/// assert_eq!(found.first_difference.unwrap().at, Address::new(1));
/// ```
pub fn compare(first: &Image, other: &Image, cells: &[Span]) -> Comparison {
    let (mut equal, mut different, mut unread, mut where_first) = (0, 0, 0, None);
    for segment in first.segments() {
        let span = segment.span();
        let mut known = 0;
        for (common, b) in other.parts_in(span) {
            let Some(a) = first.bytes(common) else { continue };
            known += common.len();
            let differing = a.iter().zip(b).filter(|(a, b)| a != b).count() as u64;
            different += differing;
            equal += common.len() - differing;
            if differing > 0 && where_first.is_none() {
                let at = a.iter().zip(b).position(|(a, b)| a != b).unwrap_or(0);
                where_first = common.start().checked_add(at as u64);
            }
        }
        unread += span.len() - known;
    }
    Comparison {
        equal,
        different,
        unread,
        cells: cells.iter().map(|cell| (*cell, judge(first, other, *cell))).collect(),
        first_difference: where_first.map(|at| surroundings(first, other, at)),
    }
}

fn judge(first: &Image, other: &Image, cell: Span) -> Cell {
    let (mut held, mut differs, mut blank, mut read) = (0, false, true, 0);
    for (part, _) in first.parts_in(cell) {
        held += part.len();
        for (common, b) in other.parts_in(part) {
            let Some(a) = first.bytes(common) else { continue };
            read += common.len();
            differs |= a != b;
            blank &= b.iter().all(|byte| *byte == 0xFF);
        }
    }
    let theirs = || other.parts_in(cell).map(|(_, bytes)| bytes);
    match (held, read) {
        (0, _) if theirs().next().is_none() => Cell::Unread,
        (0, _) if theirs().flatten().all(|byte| *byte == 0xFF) => Cell::Free,
        (0, _) => Cell::Other,
        (_, 0) => Cell::Unread,
        _ if !differs && read == held => Cell::Equal,
        _ if blank && differs => Cell::Blank,
        _ => Cell::Different,
    }
}

fn surroundings(first: &Image, other: &Image, at: Address) -> FirstDifference {
    let from = at.align_down(16);
    let from = from.get().checked_sub(AROUND / 3).map_or(from, Address::new);
    let bytes = |image: &Image| -> Vec<Option<u8>> {
        let byte = |offset| image.bytes(Span::new(from.checked_add(offset)?, 1)?).map(|bytes| bytes[0]);
        (0..AROUND).map(byte).collect()
    };
    FirstDifference { at, from, first: bytes(first), other: bytes(other) }
}

/// A range that repeats one word: usually memory that was filled once and never used, such as the
/// end of a stack.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Pattern {
    /// The four bytes that repeat, in the order of their addresses.
    pub word: [u8; 4],
    /// The range.
    pub span: Span,
}

/// Shorter stretches are chance. Chosen by us.
const LEAST_PATTERN: u64 = 256;

/// The ranges of an image that repeat one aligned word, including erased flash.
pub fn patterns(image: &Image) -> Vec<Pattern> {
    let mut found = Vec::new();
    for segment in image.segments() {
        let skip = segment.start().get().next_multiple_of(4) - segment.start().get();
        let words = segment.data().get(usize::try_from(skip).unwrap_or(usize::MAX)..).unwrap_or_default();
        let start = segment.start().get() + skip;
        let (words, _) = words.as_chunks::<4>();
        let mut first = 0;
        for end in 1..=words.len() {
            if end < words.len() && words[end] == words[first] {
                continue;
            }
            let span = Span::new(Address::new(start + first as u64 * 4), (end - first) as u64 * 4);
            found.extend(
                span.filter(|span| span.len() >= LEAST_PATTERN).map(|span| Pattern { word: words[first], span }),
            );
            first = end;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn image(parts: &[(u64, &[u8])]) -> Image {
        Image::from_memory(&parts.iter().map(|(at, bytes)| (Address::new(*at), bytes.to_vec())).collect::<Vec<_>>())
            .unwrap()
    }

    #[test]
    fn cells_are_distinguished() {
        let first = image(&[(0, &[1; 16]), (16, &[2; 16]), (32, &[3; 16]), (64, &[4; 8]), (96, &[5; 16])]);
        let mut memory = vec![1; 16];
        memory.extend([2; 15]);
        memory.push(9);
        memory.extend([0xFF; 48]);
        memory.extend([7; 16]);
        let other = image(&[(0, &memory)]);
        let cells: Vec<Span> = (0..8).map(|n| Span::new(Address::new(n * 16), 16).unwrap()).collect();
        let found = compare(&first, &other, &cells);
        let kinds: Vec<Cell> = found.cells.iter().map(|(_, cell)| *cell).collect();
        use Cell::{Blank, Different, Equal, Free, Other, Unread};
        assert_eq!(kinds, [Equal, Different, Blank, Free, Blank, Other, Unread, Unread]);
        // By hand: 16 + 15 equal; 1 + 16 + 8 different; the last 16 were not read.
        assert_eq!((found.equal, found.different, found.unread), (31, 25, 16));
        let first_difference = found.first_difference.unwrap();
        assert_eq!((first_difference.at, first_difference.from), (Address::new(31), Address::new(0)));
        assert_eq!((first_difference.first[31], first_difference.other[31]), (Some(2), Some(9)));
        assert_eq!(first_difference.first[47], Some(3));
        assert_eq!(compare(&first, &first, &cells).different, 0);
    }

    #[test]
    fn repeated_words_are_found() {
        let mut bytes = vec![0, 1, 2];
        bytes.extend([0xDE, 0xAD, 0xBE, 0xEF].repeat(64));
        bytes.extend([0xFF; 300]);
        bytes.extend([7; 8]);
        let found = patterns(&image(&[(0x2001, &bytes)]));
        assert_eq!(found.len(), 2);
        assert_eq!(
            (found[0].word, found[0].span.start(), found[0].span.len()),
            ([0xDE, 0xAD, 0xBE, 0xEF], Address::new(0x2004), 256)
        );
        assert_eq!((found[1].word, found[1].span.start(), found[1].span.len()), ([0xFF; 4], Address::new(0x2104), 300));
    }

    #[test]
    fn a_blank_end_is_cut_off() {
        let mut bytes = vec![5; 20];
        bytes.extend([0xFF; 100]);
        let cut = image(&[(0x100, &bytes)]).trim_trailing_blank(16).unwrap();
        assert_eq!(cut.span(), Span::new(Address::new(0x100), 32).unwrap());
        assert!(image(&[(0x100, &[0xFF; 32])]).trim_trailing_blank(16).is_none());
    }
}
