//! The sectors that a plan erases, and the spans to preserve in them.

use crate::sheet::{BOOTLOADER, Region, Variant};
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_image::span_set::SpanSet;

use crate::plan::error::{ErasesOption, PlanError};
use crate::plan::model::PlanInput;
use crate::plan::step::Step;

/// Refuses options that require a route with addresses.
pub(super) fn unit_decides(job: &PlanInput<'_>) -> Result<(), PlanError> {
    let option = match (job.erase_all, job.keep) {
        (true, _) => ErasesOption::EraseAll,
        (false, [_, ..]) => ErasesOption::Keep,
        (false, []) => return Ok(()),
    };
    Err(PlanError::UnitDecides { route: job.route.kind.to_string(), option })
}

pub(super) fn bootloader(variant: &Variant) -> Option<&Region> {
    variant.regions.iter().find(|region| region.name == BOOTLOADER)
}

/// Every sector that can be erased, but for the bootloader's.
pub(super) fn all_sectors(job: &PlanInput<'_>) -> Vec<Span> {
    let keep = bootloader(job.variant).map(|region| region.span);
    let zones = job.geometry.sectors.zones().iter().filter(|zone| zone.access().is_programmable());
    let all = zones.flat_map(|zone| job.geometry.sectors.sectors_in(zone.span()).unwrap_or_default());
    let stays = |sector: &Span| job.keeps().any(|region| region.span.covers(*sector));
    all.filter(|sector| keep.is_none_or(|keep| sector.common(keep).is_none()) && !stays(sector)).collect()
}

/// The spans of preserved regions in erased sectors, without the image. Without a sheet the
/// content next to the image is unknown: all of it is preserved if the unit can be read.
pub(super) fn to_be_preserved(job: &PlanInput<'_>, sectors: &[Span]) -> Result<Vec<Span>, PlanError> {
    if !job.sheet.is_described {
        let rest = rest_of_sectors(job.image, sectors);
        return Ok(if job.erase_all || !job.geometry.can_read { Vec::new() } else { rest });
    }
    let of_sector = |sector: &Span| job.keeps().filter_map(|region| region.span.common(*sector)).collect::<Vec<_>>();
    let is_open = |span: &Span| job.image.bytes(*span).is_none();
    let kept = Span::joined(sectors.iter().flat_map(of_sector).filter(is_open));
    if kept.is_empty() || job.geometry.can_read { Ok(kept) } else { Err(PlanError::CannotKeep) }
}

/// The rest of the sectors outside an image.
pub fn rest_of_sectors(image: &Image, sectors: &[Span]) -> Vec<Span> {
    let mut rest = SpanSet::default();
    sectors.iter().for_each(|sector| rest.insert(*sector));
    image.segments().iter().for_each(|segment| rest.remove(segment.span()));
    rest.spans().to_vec()
}

/// The step that reads the preserved spans, if there are any.
pub(super) fn keep(job: &PlanInput<'_>, kept: &[Span]) -> Option<Step> {
    if !job.sheet.is_described {
        let regions = vec!["content of the unit".to_owned()];
        return (!kept.is_empty()).then(|| Step::Keep { regions, spans: kept.to_vec() });
    }
    let is_in = |region: &&Region| kept.iter().any(|span| region.span.common(*span).is_some());
    let regions = job.keeps().filter(is_in).map(|region| region.name.clone()).collect();
    (!kept.is_empty()).then(|| Step::Keep { regions, spans: kept.to_vec() })
}

/// All sectors that contain a byte of the image, once each. Each must lie completely in regions
/// that the route writes or that are preserved, because whole sectors are erased.
pub(super) fn sectors_of(spans: &[Span], job: &PlanInput<'_>) -> Result<Vec<Span>, PlanError> {
    let mut sectors = Vec::new();
    for span in spans {
        sectors.extend(job.geometry.sectors.sectors_in(*span).ok_or(PlanError::NoSector(*span))?);
    }
    sectors.sort();
    sectors.dedup();
    let written = |region: &Region| job.route.writes.iter().any(|other| other.name == region.name);
    let may_go = |region: &&Region| written(region) || job.keeps().any(|kept| kept.name == region.name);
    let spills = |sector: &&Span| {
        let regions = job.variant.regions.iter().filter(may_go);
        regions.filter_map(|region| region.span.common(**sector)).map(Span::len).sum::<u64>() < sector.len()
    };
    let Some(sector) = sectors.iter().find(spills).copied() else { return Ok(sectors) };
    let in_the_way = |region: &&Region| region.span.common(sector).is_some() && !may_go(region);
    let regions = job.variant.regions.iter().filter(in_the_way).filter(|region| region.name != BOOTLOADER);
    Err(PlanError::Spills { sector, regions: regions.map(|region| region.name.clone()).collect() })
}
