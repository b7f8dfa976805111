//! The steps of a plan over DFU, with addresses or as one stream.

use crate::plan::blocks::Run;

use crate::dfu::Attributes;
use vaka_image::address::Span;

use crate::plan::error::PlanError;
use crate::plan::model::{KnownContent, PlanInput};
use crate::plan::sectors::{all_sectors, bootloader, keep, sectors_of, to_be_preserved, unit_decides};
use crate::plan::step::{FinishMethod, RestartMethod, Step};

/// The steps for a unit that is erased and written by address; returns the
/// sectors that are erased.
pub(super) fn addressed(
    job: &PlanInput<'_>,
    steps: &mut Vec<Step>,
    kept: &mut Vec<Span>,
) -> Result<Vec<Span>, PlanError> {
    let spans: Vec<Span> = job.image.segments().iter().map(|segment| segment.span()).collect();
    let of_image = sectors_of(&spans, job)?;
    let mut sectors = if job.erase_all { all_sectors(job) } else { of_image.clone() };
    sectors.retain(|sector| !job.content.is_equal(*sector));
    *kept = to_be_preserved(job, &sectors)?;
    steps.extend(keep(job, kept));
    if job.content == KnownContent::Unseen && job.geometry.can_read && !job.erase_all {
        steps.push(Step::Compare { sectors: of_image, whole: false });
    }
    if !sectors.is_empty() {
        let erased = Span::joined(sectors.iter().copied());
        let changed: Vec<Span> = erased.iter().flat_map(|e| spans.iter().filter_map(|span| span.common(*e))).collect();
        let runs = crate::plan::blocks::runs(&changed, &erased, &job.geometry)?;
        let written = runs.iter().map(Run::span).collect();
        let at_once = job.erase_all && bootloader(job.variant).is_none() && job.keeps().next().is_none();
        steps.push(match at_once {
            true => Step::EraseAll { sectors: sectors.clone() },
            false => Step::Erase { sectors: sectors.clone() },
        });
        steps.push(Step::Write { runs });
        if job.geometry.can_read {
            steps.push(Step::ReadBack { spans: written, vouched: true });
        }
    }
    let at = job.route.restart_at.unwrap_or(job.image.start());
    steps.push(Step::Restart { by: RestartMethod::Address(at) });
    Ok(sectors)
}

/// The steps for a unit that takes the whole image as one stream of bytes.
pub(super) fn streamed(
    job: &PlanInput<'_>,
    uploads_image: bool,
    steps: &mut Vec<Step>,
) -> Result<Vec<Span>, PlanError> {
    unit_decides(job)?;
    if job.geometry.block_size == Some(0) {
        return Err(PlanError::NoBlockSize);
    }
    let span = job.image.span();
    let sectors = sectors_of(&[span], job)?;
    // Only content that an upload returns unchanged can be compared.
    if job.content == KnownContent::Unseen && job.geometry.can_read && uploads_image {
        steps.push(Step::Compare { sectors: sectors.clone(), whole: true });
    }
    if sectors.iter().all(|sector| job.content.is_equal(*sector)) {
        steps.push(Step::Restart { by: RestartMethod::BusReset });
        return Ok(Vec::new());
    }
    steps.push(Step::Write { runs: vec![Run::stream(span, job.geometry.block_size)] });
    steps.push(Step::Finish { by: FinishMethod::Request });
    let stays = job.geometry.attributes.is_none_or(Attributes::manifestation_tolerant);
    if job.geometry.can_read && stays {
        steps.push(Step::ReadBack { spans: vec![span], vouched: uploads_image });
    }
    let by = match job.geometry.attributes {
        None => RestartMethod::NotKnownYet,
        Some(attributes) if attributes.manifestation_tolerant() || !attributes.will_detach() => RestartMethod::BusReset,
        Some(_) => RestartMethod::Itself,
    };
    steps.push(Step::Restart { by });
    Ok(sectors)
}
