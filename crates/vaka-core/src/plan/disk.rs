//! The steps for a unit that is updated through its disk.

use crate::plan::blocks::Run;
use crate::plan::error::PlanError;
use crate::plan::geometry::WriteLimits;
use crate::plan::model::{KnownContent, PlanInput};
use crate::plan::sectors::{sectors_of, unit_decides};
use crate::plan::step::{FinishMethod, RestartMethod, Step};
use crate::sheet::{ExitMethod, FileForm, FileTarget, VolumeRoute};
use vaka_image::address::{Address, Span};
use vaka_image::uf2;

const PAGE: u64 = uf2::PAYLOAD as u64;

impl From<ExitMethod> for RestartMethod {
    fn from(leave: ExitMethod) -> Self {
        match leave {
            ExitMethod::Eject => Self::Eject,
            ExitMethod::PowerCycle => Self::PowerCycle,
            ExitMethod::Nothing => Self::Nothing,
            ExitMethod::LastBlock => Self::Itself,
        }
    }
}

/// UF2 blocks. The unit erases a sector when it receives a block in it, and restarts after as
/// many blocks as the blocks state: so whole sectors are sent or skipped, and the last block is
/// deferred until the others are read back.
pub(super) fn blocks(job: &PlanInput<'_>, route: &VolumeRoute, steps: &mut Vec<Step>) -> Result<Vec<Span>, PlanError> {
    unit_decides(job)?;
    let spans: Vec<Span> = job.image.segments().iter().map(|segment| segment.span()).collect();
    let of_image = sectors_of(&spans, job)?;
    let WriteLimits { can_read, block_size, .. } = job.geometry;
    if job.content == KnownContent::Unseen && can_read {
        steps.push(Step::Compare { sectors: of_image.clone(), whole: false });
    }
    let is_there = of_image.iter().all(|sector| job.content.is_equal(*sector));
    let sends_again = is_there && route.leave == ExitMethod::LastBlock;
    if sends_again {
        steps.push(Step::SendAgain);
    }
    let (sectors, equal): (Vec<Span>, Vec<Span>) =
        of_image.into_iter().partition(|sector| sends_again || !job.content.is_equal(*sector));
    let in_sectors = |sectors: &[Span]| -> Vec<Span> {
        let sectors = Span::joined(sectors.iter().copied());
        sectors.iter().flat_map(|sector| spans.iter().filter_map(|span| span.common(*sector))).collect()
    };
    let pages = Span::joined(in_sectors(&sectors).into_iter().filter_map(whole_pages));
    let last = pages.last().and_then(|run| Some((*run, run.end().get().checked_sub(PAGE).map(Address::new)?)));
    let Some((last_run, at)) = last else {
        steps.push(Step::Restart { by: route.leave.into() });
        return Ok(sectors);
    };
    let held_back = Span::new(at, PAGE).unwrap_or(last_run);
    steps.push(Step::Write { runs: pages.iter().map(|span| Run::stream(*span, block_size)).collect() });
    if can_read {
        let before = Span::between(last_run.start(), at).filter(|span| !span.is_empty());
        // Skipped sectors are read again: some units erase more than they state.
        let spans =
            pages[..pages.len() - 1].iter().copied().chain(before).chain(in_sectors(&equal)).collect::<Vec<_>>();
        if !spans.is_empty() {
            steps.push(Step::ReadBack { spans, vouched: true });
        }
    }
    steps.push(Step::Finish { by: FinishMethod::LastBlock(held_back) });
    steps.push(Step::Restart { by: RestartMethod::Itself });
    Ok(sectors)
}

/// The whole blocks of 256 bytes that contain a span.
fn whole_pages(span: Span) -> Option<Span> {
    let end = Address::new(span.end().get().next_multiple_of(PAGE));
    Span::between(span.start().align_down(PAGE), end)
}

/// The steps for a unit that takes a whole file.
pub(super) fn file(
    job: &PlanInput<'_>,
    route: &VolumeRoute,
    file: &FileTarget,
    steps: &mut Vec<Step>,
) -> Result<Vec<Span>, PlanError> {
    unit_decides(job)?;
    let span = job.image.span();
    let sectors = sectors_of(&[span], job)?;
    if job.content == KnownContent::Unseen && job.geometry.can_read {
        steps.push(Step::Compare { sectors: sectors.clone(), whole: true });
    }
    if sectors.iter().all(|sector| job.content.is_equal(*sector)) {
        steps.push(Step::Restart { by: route.leave.into() });
        return Ok(Vec::new());
    }
    steps.push(Step::Write { runs: vec![Run::stream(span, job.geometry.block_size)] });
    steps.push(Step::Finish { by: FinishMethod::File(file.name.clone()) });
    if file.form == FileForm::AsIs {
        // The unit installs nothing: the file stays on the disk.
        if job.geometry.can_read {
            steps.push(Step::ReadBack { spans: vec![span], vouched: true });
        }
        steps.push(Step::Restart { by: route.leave.into() });
        return Ok(sectors);
    }
    steps.push(Step::Restart { by: RestartMethod::Itself });
    if let Some(present) = route.application_file.as_ref().filter(|_| job.geometry.can_read) {
        steps.push(Step::LookAgain { file: present.clone() });
    }
    Ok(sectors)
}
