//! The steps for a unit that is updated in a dialect.
//!
//! Chunks start at multiples of the dialect's alignment and are padded with 0xFF inside erased
//! sectors. If the unit can only erase everything, the plan contains all that the route writes.

use crate::plan::blocks::Run;
use crate::plan::error::{ErasesOption, PlanError};
use crate::plan::geometry::DialectCapabilities;
use crate::plan::model::{KnownContent, PlanInput};
use crate::plan::sectors::{all_sectors, bootloader, keep, sectors_of, to_be_preserved};
use crate::plan::step::{FinishMethod, RestartMethod, Step};
use crate::sheet::DialectRoute;
use vaka_dialect::{ChecksumScope, EraseBy, Erases, Order};
use vaka_image::address::{Address, Span};

pub(super) fn steps(
    job: &PlanInput<'_>,
    route: &DialectRoute,
    steps: &mut Vec<Step>,
    kept: &mut Vec<Span>,
) -> Result<Vec<Span>, PlanError> {
    let offer = job.geometry.offer.unwrap_or_else(|| DialectCapabilities::of(&route.dialect));
    let covers = offer.erases_itself == Some(Erases::Covered);
    let spans: Vec<Span> = match offer.stream {
        true => vec![job.image.span()],
        false => job.image.segments().iter().map(|segment| segment.span()).collect(),
    };
    // Such a unit erases the gaps between two segments too.
    let of_image = if covers { sectors_of(&[job.image.span()], job)? } else { sectors_of(&spans, job)? };
    let is_there = of_image.iter().all(|sector| job.content.is_equal(*sector));
    let erases_all = offer.erase == Some(EraseBy::All) || offer.erases_itself == Some(Erases::Everything);
    check_erase_all(job, &offer)?;
    if erases_all && job.keeps().next().is_some() {
        return Err(PlanError::UnitDecides { route: job.route.kind.to_string(), option: ErasesOption::Keep });
    }
    let mut sectors = match (erases_all, job.erase_all) {
        (true, _) => written_sectors(job),
        (false, true) => all_sectors(job),
        (false, false) => of_image.clone(),
    };
    let at_once = erases_all || covers || offer.stream;
    match at_once && is_there {
        true => sectors.clear(),
        false if at_once => {}
        false => sectors.retain(|sector| !job.content.is_equal(*sector)),
    }
    *kept = to_be_preserved(job, &sectors)?;
    steps.extend(keep(job, kept));
    let can_look = job.geometry.can_read || (offer.check.is_some() && offer.decides);
    if job.content == KnownContent::Unseen && can_look && !job.erase_all {
        steps.push(Step::Compare { sectors: of_image, whole: at_once });
    }
    if !sectors.is_empty() {
        match offer.erase {
            Some(EraseBy::All) => steps.push(Step::EraseAll { sectors: sectors.clone() }),
            Some(_) => steps.push(Step::Erase { sectors: sectors.clone() }),
            None => {
                steps.extend(offer.erases_itself.map(|erases| Step::UnitErases {
                    sectors: sectors.clone(),
                    everything: erases == Erases::Everything,
                }))
            }
        }
        let erased = Span::joined(sectors.iter().copied());
        let runs = runs(job, &offer, &spans, &erased)?;
        let written: Vec<Span> = Span::joined(runs.iter().map(Run::span));
        steps.push(Step::Write { runs });
        if offer.ends {
            steps.push(Step::Finish { by: FinishMethod::Request });
        }
        steps.extend(check(job, &offer, written, &sectors));
    } else if offer.ends && offer.needs_end {
        steps.push(Step::Finish { by: FinishMethod::Request });
    }
    let by = if offer.restarts { RestartMethod::Request } else { RestartMethod::PowerCycle };
    steps.push(Step::Restart { by });
    Ok(sectors)
}

/// Erasing everything first requires an erase request, or a unit that erases exactly that by
/// itself.
fn check_erase_all(job: &PlanInput<'_>, offer: &DialectCapabilities) -> Result<(), PlanError> {
    let erases_that = match (offer.erase, offer.erases_itself) {
        (Some(EraseBy::Page | EraseBy::Range), _) => true,
        (Some(EraseBy::All), _) | (None, Some(Erases::Everything)) => {
            all_sectors(job).iter().all(|sector| written_sectors(job).contains(sector))
        }
        (None, _) => false,
    };
    match job.erase_all && !erases_that {
        true => Err(PlanError::UnitDecides { route: job.route.kind.to_string(), option: ErasesOption::EraseAll }),
        false => Ok(()),
    }
}

/// The verification of written content: by reading, or else by the unit's own checksum.
fn check(job: &PlanInput<'_>, offer: &DialectCapabilities, written: Vec<Span>, sectors: &[Span]) -> Option<Step> {
    if job.geometry.can_read {
        return Some(Step::ReadBack { spans: written, vouched: true });
    }
    let spans = match offer.check? {
        ChecksumScope::Written => written,
        ChecksumScope::Chunk => written
            .iter()
            .flat_map(|span| Run::stream(*span, job.geometry.block_size).blocks().map(|block| block.span))
            .collect(),
        ChecksumScope::Region => {
            let has_data = |span: &Span| job.image.parts_in(*span).next().is_some();
            let regions: Vec<Span> = job.variant.images().map(|rules| rules.region.span).filter(has_data).collect();
            // The content outside the image is known only in erased sectors.
            let is_erased = |region: &Span| {
                let all = job.geometry.sectors.sectors_in(*region);
                all.is_some_and(|all| all.iter().all(|sector| sectors.contains(sector)))
            };
            if !regions.iter().all(is_erased) {
                return None;
            }
            regions
        }
    };
    Some(Step::DeviceCheck { spans })
}

/// All sectors that the route writes.
fn written_sectors(job: &PlanInput<'_>) -> Vec<Span> {
    let regions = job.route.writes.iter().filter_map(|region| job.geometry.sectors.sectors_in(region.span));
    let mut sectors: Vec<Span> = regions.flatten().collect();
    let keep = bootloader(job.variant).map(|region| region.span);
    sectors.retain(|sector| keep.is_none_or(|keep| sector.common(keep).is_none()));
    sectors.sort();
    sectors.dedup();
    sectors
}

/// The chunks, in the order in which they are written.
fn runs(
    job: &PlanInput<'_>,
    offer: &DialectCapabilities,
    spans: &[Span],
    erased: &[Span],
) -> Result<Vec<Run>, PlanError> {
    let changed = || erased.iter().flat_map(|range| spans.iter().filter_map(|span| span.common(*range)));
    let Some(size) = job.geometry.block_size else {
        return Ok(changed().map(|span| Run::stream(span, None)).collect());
    };
    if size == 0 {
        return Err(PlanError::NoBlockSize);
    }
    let origin = job.geometry.sectors.zones().first().map_or(Address::new(0), |zone| zone.span().start());
    let shape = ChunkShape { origin, align: u64::from(offer.align.max(1)), size, pad: offer.pad };
    let grown = changed().map(|span| shape.grow(span, erased));
    let whole = Span::joined(grown);
    let ascending: Vec<Run> = whole.iter().map(|span| Run::stream(*span, Some(size))).collect();
    Ok(ordered(&ascending, offer.order, size))
}

/// Runs in another order are single chunks.
fn ordered(ascending: &[Run], order: Order, size: u32) -> Vec<Run> {
    let singles = || ascending.iter().flat_map(Run::blocks).map(|block| Run::stream(block.span, Some(size)));
    let mut all: Vec<Run> = match order {
        Order::Ascending => return ascending.to_vec(),
        Order::Descending | Order::FirstLast => singles().collect(),
    };
    match order {
        Order::Descending => all.reverse(),
        _ if !all.is_empty() => all.rotate_left(1),
        _ => {}
    }
    all
}

/// The alignment and padding of chunks.
#[derive(Clone, Copy)]
struct ChunkShape {
    /// Chunks begin at multiples of `align` from here.
    origin: Address,
    /// At least 1.
    align: u64,
    /// Bytes of a whole chunk; at least 1.
    size: u32,
    /// Whether the last chunk is padded.
    pad: bool,
}

impl ChunkShape {
    /// Extends a span to chunk boundaries at its start and, if chunks are padded, at its end,
    /// inside erased sectors.
    fn grow(self, span: Span, erased: &[Span]) -> Span {
        let Some(range) = erased.iter().find(|range| range.covers(span)) else { return span };
        let from = span.start().offset_from(self.origin).unwrap_or(0);
        let start = self.origin.checked_add(from - from % self.align).unwrap_or(span.start()).max(range.start());
        let len = span.end().offset_from(start).unwrap_or(span.len());
        let len = if self.pad { len.next_multiple_of(u64::from(self.size)) } else { len };
        let end = start.checked_add(len).unwrap_or(span.end()).min(range.end());
        Span::between(start, end.max(span.end())).unwrap_or(span)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn span(from: u64, to: u64) -> Span {
        Span::between(Address::new(from), Address::new(to)).unwrap()
    }

    /// Chunks start at multiples from the origin, are padded inside erased sectors only, and
    /// never start before it.
    #[test]
    fn a_span_grows_to_whole_chunks_inside_what_is_erased() {
        let erased = [span(0x100, 0x200)];
        for (image, align, size, pad, wanted) in [
            (span(0x100, 0x1F0), 32, 32, true, span(0x100, 0x200)),
            (span(0x110, 0x121), 32, 32, true, span(0x100, 0x140)),
            (span(0x110, 0x121), 32, 32, false, span(0x100, 0x121)),
            (span(0x110, 0x1F1), 8, 64, true, span(0x110, 0x200)),
            (span(0x101, 0x103), 4096, 16, true, span(0x100, 0x110)),
        ] {
            let grown = ChunkShape { origin: Address::new(0), align, size, pad }.grow(image, &erased);
            assert_eq!(grown, wanted, "{image} aligned to {align}, chunks of {size}");
        }
    }

    #[test]
    fn chunks_are_sent_in_the_requested_order() {
        let whole = [Run::stream(span(0, 12), Some(4)), Run::stream(span(32, 34), Some(4))];
        let starts = |order| ordered(&whole, order, 4).iter().map(|run| run.span().start().get()).collect::<Vec<_>>();
        assert_eq!(starts(Order::Ascending), [0, 32]);
        assert_eq!(starts(Order::Descending), [32, 8, 4, 0]);
        assert_eq!(starts(Order::FirstLast), [4, 8, 32, 0]);
    }
}
