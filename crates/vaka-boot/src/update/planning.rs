//! The plan of one update, made from the resolved inputs, and remade when more is known about the
//! unit.

use vaka_core::plan::{KnownContent, Plan, PlanError, PlanInput, WriteLimits};
use vaka_core::sheet::{Region, Route, Sheet, Undo, UndoPhase, Variant, undone};
use vaka_image::Image;

use super::request::Request;
use super::resolved::Parts;
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;

pub(super) fn plan(
    parts: Parts<'_>,
    geometry: WriteLimits<'_>,
    needs_entry: bool,
    request: &Request<'_>,
    content: KnownContent<'_>,
) -> Result<Plan, Failure> {
    let (erase_all, keep) = (request.erase_all, &request.keep[..]);
    let Parts { sheet, variant, route, image } = parts;
    let job = PlanInput { sheet, variant, route, image, geometry, needs_entry, erase_all, content, keep };
    let at_the_end = |mut plan: Plan| {
        if request.undo_later {
            plan.defer_undo();
        } else {
            plan.append_undo(request.append_undo);
        }
        plan
    };
    Plan::draft(&job).map(at_the_end).map_err(|error| {
        let remedy = match &error {
            PlanError::Spills { regions, .. } if !regions.is_empty() => Remedy::Keep(regions.clone()),
            _ => Remedy::CompareGeometry,
        };
        Failure::new(FailureKind::NoPlan(error)).unchanged().remedy(remedy)
    })
}

/// Regions to preserve exist, and the files have no data for them.
pub(super) fn check_keep(parts: Parts<'_>, request: &Request<'_>) -> Result<(), Failure> {
    let Parts { variant, image, .. } = parts;
    let is_written = |region: &Region| image.parts_in(region.span).next().is_some();
    let can_stay = |name: &&String| {
        let region = variant.regions.iter().find(|region| region.name == **name);
        region.is_some_and(|region| !is_written(region))
    };
    let Some(name) = request.keep.iter().find(|name| !can_stay(name)) else { return Ok(()) };
    let others = variant.regions.iter().filter(|region| !is_written(region));
    let known = others.map(|region| region.name.clone()).collect();
    let failure = Failure::new(FailureKind::NoRegionToKeep { name: name.clone() });
    Err(failure.unchanged().remedy(Remedy::KeepableRegions(known)))
}

/// The plan for a variant without its unit, as far as the sheet determines it.
///
/// # Errors
/// No plan is possible, or the variant has no route.
pub fn draft(sheet: &Sheet, variant: &Variant, image: &Image, request: &Request<'_>) -> Result<Plan, Failure> {
    let route = variant.routes.first().ok_or_else(|| {
        let failure = Failure::new(FailureKind::NoRoute { variant: variant.name.clone() });
        let instead = variant.instead.clone().map(Remedy::Instead);
        Failure { remedies: instead.into_iter().collect(), ..failure }
    })?;
    let geometry = of_sheet(variant, route, request);
    let parts = Parts { sheet, variant, route, image };
    check_keep(parts, request)?;
    plan(parts, geometry, true, request, content(request))
}

/// The write limits of the unit according to the sheet, before update mode.
pub(super) fn of_sheet<'v>(variant: &'v Variant, route: &Route, request: &Request<'_>) -> WriteLimits<'v> {
    let kind = &route.kind;
    let can_read = request.read_back
        && !variant.image.is_opaque
        && kind.volume().is_none_or(|disk| disk.application_file.is_some())
        && kind.dialect().is_none_or(|route| route.dialect.can_read());
    WriteLimits { sectors: &variant.flash, block_size: None, can_read, attributes: None, offer: None }
}

/// The undo actions at the end of a route.
pub(crate) fn undo_of(route: &Route) -> Vec<Undo> {
    let steps = undone(&route.manual_steps(), UndoPhase::End).unwrap_or_default();
    steps.into_iter().map(|(_, undo)| undo.clone()).collect()
}

/// The known content before the unit is read.
pub(super) fn content(request: &Request<'_>) -> KnownContent<'static> {
    if request.rewrite { KnownContent::Rewrite } else { KnownContent::Unseen }
}
