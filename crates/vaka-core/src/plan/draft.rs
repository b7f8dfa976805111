//! Drafting a plan from all facts.

use crate::matching::image_version;
use crate::sheet::{Region, VersionSource};
use crate::sheet::{RouteKind, UpdateMedium};
use crate::sheet::{Undo, UndoPhase, undone};

use crate::plan::dfu;
use crate::plan::error::PlanError;
use crate::plan::model::{Plan, PlanInput};
use crate::plan::step::Step;

impl Plan {
    /// Drafts the plan of a job.
    ///
    /// # Errors
    /// [`PlanError`]: image, sheet and unit do not go together. A verdict that
    /// fits rules that out; this does not rely on it.
    pub fn draft(job: &PlanInput<'_>) -> Result<Self, PlanError> {
        let (after, id) = (job.sheet.after(), job.sheet.application_ids(job.variant).cloned());
        let tells = *job.sheet.version_source(job.variant) != VersionSource::Nowhere;
        let version = image_version(job.variant, job.image).filter(|_| tells);
        let mut steps = Vec::new();
        if job.needs_entry {
            steps.extend([Step::Enter { entry: job.route.entry.clone(), id: job.route.id.clone() }, Step::Identify]);
        }
        let mut kept = Vec::new();
        let sectors = match &job.route.kind {
            RouteKind::Dfu { .. } => dfu::addressed(job, &mut steps, &mut kept)?,
            RouteKind::PlainDfu { uploads_image, .. } => dfu::streamed(job, *uploads_image, &mut steps)?,
            RouteKind::Volume(route) => match &route.takes {
                UpdateMedium::Uf2 { .. } => crate::plan::disk::blocks(job, route, &mut steps)?,
                UpdateMedium::File(file) => crate::plan::disk::file(job, route, file, &mut steps)?,
            },
            RouteKind::Dialect(route) => crate::plan::dialect::steps(job, route, &mut steps, &mut kept)?,
        };
        let streamed = match &job.route.kind {
            RouteKind::Dfu { .. } | RouteKind::Dialect(_) => false,
            RouteKind::PlainDfu { .. } => true,
            RouteKind::Volume(route) => matches!(route.takes, UpdateMedium::File(_)),
        };
        let restart = steps.iter().rposition(|step| matches!(step, Step::Restart { .. })).unwrap_or(steps.len());
        let entered = steps.iter().position(|step| *step == Step::Identify).map_or(0, |at| at + 1);
        for (at, when) in [(restart, UndoPhase::Written), (entered, UndoPhase::Entered)] {
            if let Some(undo) = undo(job, when) {
                steps.insert(at, undo);
            }
        }
        steps.push(Step::Confirm { id, version, within_ms: after.back_within, see: after.see.clone() });
        steps.extend(once_more(job, &steps));
        steps.extend(undo(job, UndoPhase::End));
        let is_untouched = |region: &&Region| sectors.iter().all(|sector| sector.common(region.span).is_none());
        let untouched = match &job.route.kind {
            RouteKind::Dfu { .. } | RouteKind::Volume(_) | RouteKind::Dialect(_) => {
                job.variant.regions.iter().filter(is_untouched).map(|r| r.name.clone()).collect()
            }
            RouteKind::PlainDfu { .. } => Vec::new(),
        };
        let (variant, route) = (job.variant.id.clone(), job.route.kind.to_string());
        Ok(Self { variant, route, steps, untouched, sectors, streamed, kept })
    }
}

/// A unit that disconnected before it could be read re-enters update mode to be read, if the
/// entry is unattended and an upload returns the written content.
fn once_more(job: &PlanInput<'_>, steps: &[Step]) -> Option<Step> {
    let RouteKind::PlainDfu { uploads_image: true, .. } = job.route.kind else { return None };
    let finishes = steps.iter().any(|step| matches!(step, Step::Finish { .. }));
    let leaves = job.geometry.attributes.is_some_and(|attributes| !attributes.manifestation_tolerant());
    let wanted = finishes && leaves && job.geometry.can_read && job.route.is_unattended();
    wanted.then(|| Step::ReadOnceMore { spans: vec![job.image.span()] })
}

/// The undo step of a phase, if there is one.
fn undo(job: &PlanInput<'_>, when: UndoPhase) -> Option<Step> {
    let steps = undone(&job.route.manual_steps(), when).unwrap_or_default();
    let steps: Vec<Undo> = steps.into_iter().map(|(_, undo)| undo.clone()).collect();
    (!steps.is_empty()).then_some(Step::Undo { when, steps })
}
