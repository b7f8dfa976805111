//! Division of an image's segments into runs of blocks.
//!
//! A run is a contiguous range that needs one address command. Segments whose gap is smaller than
//! a block are joined (the gap is erased anyway and written with 0xFF, which programs nothing). A
//! run starts at a multiple of 8, and its last block is padded with 0xFF to full size if that
//! stays inside erased sectors, because units differ in their handling of short blocks. No block
//! crosses a zone boundary.

use serde::Serialize;

use crate::memory::SectorMap;
use crate::plan::error::PlanError;
use crate::plan::geometry::WriteLimits;
use vaka_image::address::{Address, Span};

/// Alignment of a run. Flash words have at most this size on the chips with a boot mode of this
/// kind; some refuse a run that starts inside a word. Chosen by us.
const ALIGNMENT: u64 = 8;

/// Bytes that are written from one address on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Run {
    span: Span,
    block_size: Option<u32>,
}

/// One block of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Block {
    /// Address range.
    pub span: Span,
}

impl Run {
    /// A run that is sent block by block without addresses.
    pub(super) fn stream(span: Span, block_size: Option<u32>) -> Self {
        Self { span, block_size }
    }

    /// All addresses that the run writes, including padding.
    pub fn span(&self) -> Span {
        self.span
    }

    /// The size of its blocks; all but the last have it.
    pub fn block_size(&self) -> Option<u32> {
        self.block_size
    }

    /// The blocks in order; none if the block size is unknown.
    pub fn blocks(&self) -> impl Iterator<Item = Block> + use<> {
        let Self { span, block_size } = *self;
        let size = u64::from(block_size.unwrap_or(0));
        let count = if size == 0 { 0 } else { span.len().div_ceil(size) };
        (0..count).filter_map(move |index| {
            let start = span.start().checked_add(index * size)?;
            let len = size.min(span.end().offset_from(start)?);
            Some(Block { span: Span::new(start, len)? })
        })
    }
}

/// The runs for `spans`; `erased` are the erased ranges, merged.
pub(super) fn runs(spans: &[Span], erased: &[Span], geometry: &WriteLimits<'_>) -> Result<Vec<Run>, PlanError> {
    let Some(size) = geometry.block_size else {
        return Ok(spans.iter().map(|span| Run { span: *span, block_size: None }).collect());
    };
    if size == 0 {
        return Err(PlanError::NoBlockSize);
    }
    let pieces = split_at_zones(&join(spans, erased, u64::from(size)), geometry.sectors);
    let mut runs: Vec<Run> = Vec::new();
    for (index, piece) in pieces.iter().enumerate() {
        let before = runs.last().map(|run| run.span.end());
        let limit = limits(*piece, before, pieces.get(index + 1), erased, geometry.sectors);
        runs.extend(
            padded(*piece, limit, u64::from(size)).into_iter().map(|span| Run { span, block_size: Some(size) }),
        );
    }
    Ok(runs)
}

/// Joins spans with a gap smaller than a block, if the gap is erased.
fn join(spans: &[Span], erased: &[Span], size: u64) -> Vec<Span> {
    let mut joined: Vec<Span> = Vec::new();
    for span in spans {
        let whole = joined.last().and_then(|last| {
            let near = span.start().offset_from(last.end())? < size;
            Span::between(last.start(), span.end()).filter(|whole| near && erased.iter().any(|e| e.covers(*whole)))
        });
        match (whole, joined.last_mut()) {
            (Some(whole), Some(last)) => *last = whole,
            _ => joined.push(*span),
        }
    }
    joined
}

fn split_at_zones(spans: &[Span], map: &SectorMap) -> Vec<Span> {
    let parts = |span: &Span| map.zones().iter().filter_map(|zone| zone.span().common(*span)).collect::<Vec<_>>();
    spans.iter().flat_map(parts).collect()
}

/// The range that the padding of a piece may use: inside its zone and the erased ranges, after the
/// end of the run before it, and before the word in which the next piece starts.
fn limits(piece: Span, before: Option<Address>, after: Option<&Span>, erased: &[Span], map: &SectorMap) -> Span {
    let zone = map.zone_at(piece.start()).map(|zone| zone.span());
    let around = erased.iter().find(|range| range.covers(piece)).copied();
    let room = zone.zip(around).and_then(|(zone, around)| zone.common(around)).unwrap_or(piece);
    let from = before.map_or(room.start(), |end| end.max(room.start()));
    let to = after.map_or(room.end(), |next| next.start().align_down(ALIGNMENT).max(piece.end()).min(room.end()));
    Span::between(from, to).unwrap_or(piece)
}

/// The piece with its padding; split in two if the last block must stay short and needs its own
/// address.
fn padded(piece: Span, limit: Span, size: u64) -> Vec<Span> {
    let start = piece.start().align_down(ALIGNMENT).max(limit.start());
    let len = piece.end().offset_from(start).unwrap_or(piece.len());
    let rest = len % size;
    let whole = Span::new(start, len - rest);
    let fits = |len: u64| Span::new(start, len).filter(|span| limit.covers(*span));
    if let Some(all) = fits(len.next_multiple_of(size)) {
        return vec![all];
    }
    let short_len = len.next_multiple_of(ALIGNMENT);
    let end = fits(short_len).unwrap_or(Span::new(start, len).unwrap_or(piece)).end();
    let tail = whole.and_then(|whole| Span::between(whole.end(), end));
    [whole, tail].into_iter().flatten().filter(|span| !span.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::memory::{Access, Zone};

    fn span(from: u64, to: u64) -> Span {
        Span::between(Address::new(from), Address::new(to)).unwrap()
    }

    fn map(zones: &[(u64, u32, u32)]) -> SectorMap {
        let zone = |(start, count, size): &(u64, u32, u32)| {
            Zone::new(Address::new(*start), *count, *size, Access::FULL).unwrap()
        };
        SectorMap::new(zones.iter().map(zone).collect()).unwrap()
    }

    fn plan(spans: &[Span], map: &SectorMap, size: u32) -> Vec<Run> {
        let mut sectors: Vec<Span> = spans.iter().flat_map(|span| map.sectors_in(*span).unwrap()).collect();
        sectors.sort();
        sectors.dedup();
        let geometry =
            WriteLimits { sectors: map, block_size: Some(size), can_read: true, attributes: None, offer: None };
        runs(spans, &Span::joined(sectors), &geometry).unwrap()
    }

    fn spans(runs: &[Run]) -> Vec<Span> {
        runs.iter().map(Run::span).collect()
    }

    #[test]
    fn the_last_block_is_filled_up_where_there_is_room() {
        let map = map(&[(0, 16, 0x300)]);
        let runs = plan(&[span(0, 0x6E4)], &map, 0x100);
        assert_eq!(spans(&runs), [span(0, 0x700)]);
        assert_eq!(runs[0].blocks().count(), 7);
    }

    #[test]
    fn it_stays_short_at_the_end_of_what_was_erased() {
        let map = map(&[(0, 16, 0x300)]);
        assert_eq!(spans(&plan(&[span(0, 0x2FD)], &map, 0x200)), [span(0, 0x200), span(0x200, 0x300)]);
        assert_eq!(spans(&plan(&[span(0, 0x100)], &map, 0x400)), [span(0, 0x100)]);
    }

    #[test]
    fn near_segments_join_and_far_ones_do_not() {
        let map = map(&[(0, 16, 0x1000)]);
        assert_eq!(spans(&plan(&[span(0, 0x10), span(0x20, 0x30)], &map, 0x100)), [span(0, 0x100)]);
        let far = plan(&[span(0x3, 0x10), span(0x805, 0x810)], &map, 0x100);
        assert_eq!(spans(&far), [span(0, 0x100), span(0x800, 0x900)]);
    }

    /// A block size that is not a multiple of 8 and a gap of one block: the padding of the first run
    /// ends before the word in which the second starts.
    #[test]
    fn padding_does_not_overlap_the_next_run() {
        let map = map(&[(0, 16, 0x300)]);
        let runs = plan(&[span(2109, 2279), span(2308, 2309)], &map, 29);
        assert_eq!(spans(&runs), [span(2104, 2278), span(2278, 2280), span(2304, 2333)]);
        // Two pieces in one word: the second run starts at the end of the first.
        assert_eq!(spans(&plan(&[span(0, 3), span(5, 6)], &map, 2)), [span(0, 2), span(2, 3), span(3, 7)]);
    }

    #[test]
    fn no_block_crosses_a_zone() {
        let map = map(&[(0, 1, 0x180), (0x180, 4, 0x200)]);
        assert_eq!(
            spans(&plan(&[span(0, 0x280)], &map, 0x100)),
            [span(0, 0x100), span(0x100, 0x180), span(0x180, 0x280)]
        );
    }

    proptest! {
        /// Every byte of the image is written once, nothing outside erased sectors is written,
        /// and only last blocks are short.
        #[test]
        fn runs_cover_the_image_and_stay_inside(
            pieces in proptest::collection::vec((0u64..0x900, 1u64..0x500), 1..6),
            size in 1u32..0x300,
        ) {
            let map = map(&[(0, 8, 0x300), (0x1800, 40, 0x150)]);
            let mut at = 0;
            let mut image = Vec::new();
            for (gap, len) in pieces {
                image.push(span(at + gap, at + gap + len));
                at += gap + len + 1;
            }
            let runs = plan(&image, &map, size);
            let blocks: Vec<Span> = runs.iter().flat_map(|run| run.blocks()).map(|block| block.span).collect();
            prop_assert!(blocks.windows(2).all(|pair| pair[0].end() <= pair[1].start()));
            prop_assert!(blocks.iter().all(|block| block.len() <= u64::from(size)));
            for piece in &image {
                let covered: u64 = blocks.iter().filter_map(|block| block.common(*piece)).map(Span::len).sum();
                prop_assert_eq!(covered, piece.len());
            }
            for block in &blocks {
                let sectors = map.sectors_in(*block).unwrap();
                prop_assert!(sectors.iter().all(|sector| image.iter().any(|piece| piece.common(*sector).is_some())));
            }
        }
    }
}
