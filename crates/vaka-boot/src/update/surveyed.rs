//! Survey of the unit's content: backup, preservation and comparison before anything is erased.
//! Then the one final plan.

use vaka_base::text;
use vaka_core::event::{Check, ExitCode, StepName, StepState};
use vaka_core::plan::{ApprovedPlan, KnownContent, Step};
use vaka_image::address::Span;

use super::drafted::{Connected, UpdateTask};
use super::executor::Statistics;
use super::stop::Stop;
use super::update_run::UpdateRun;
use crate::failure::Failure;
use crate::protocol::session::Session;

/// A unit with known content. Nothing was changed in it.
pub(super) struct Surveyed<'s> {
    task: UpdateTask<'s>,
    session: Box<dyn Session>,
    content: InitialContent,
}

/// The known content before the plan.
enum InitialContent {
    /// Assumed without a comparison.
    Assumed(KnownContent<'static>),
    /// Compared: these sectors match the image.
    Compared(Vec<Span>),
}

/// A unit with its final plan.
pub(super) struct Approved<'s> {
    pub(super) task: UpdateTask<'s>,
    pub(super) session: Box<dyn Session>,
    pub(super) plan: ApprovedPlan,
}

impl<'s> Connected<'s> {
    /// Saves the backup, reads preserved content, and compares the rest.
    pub(super) fn survey(self, run: &mut UpdateRun<'_, '_>) -> Result<Surveyed<'s>, Stop> {
        let Self { mut task, mut session, mut plan, content } = self;
        if let Err(stop) = run.check_downgrade(&task, &mut *session) {
            return Err(run.leave_unchanged(&task, session, stop));
        }
        run.save(&task, &mut *session)?;
        if let Some(image) = run.preserve(&task, &plan, &mut *session)? {
            task.resolved.image = image;
            plan = task.approve(task.draft(run.request, content)?)?;
        }
        run.progress.set_image(&task.resolved.image, plan.plan());
        let equal = run.compare(&task, &plan, &mut *session)?;
        let content = equal.map_or(InitialContent::Assumed(content), InitialContent::Compared);
        Ok(Surveyed { task, session, content })
    }
}

impl<'s> Surveyed<'s> {
    /// The final plan, from everything that is known about the unit.
    pub(super) fn plan(self, run: &mut UpdateRun<'_, '_>) -> Result<Approved<'s>, Stop> {
        let Self { task, session, content } = self;
        let content = match &content {
            InitialContent::Assumed(content) => *content,
            InitialContent::Compared(equal) => KnownContent::Equal(equal),
        };
        let plan = task.approve(task.draft(run.request, content)?)?;
        Ok(Approved { task, session, plan })
    }
}

impl UpdateRun<'_, '_> {
    /// The sectors that already match the image; `None` if the plan compares nothing.
    fn compare(
        &mut self,
        task: &UpdateTask<'_>,
        plan: &ApprovedPlan,
        session: &mut dyn Session,
    ) -> Result<Option<Vec<Span>>, Stop> {
        let Some((&Step::Compare { whole, .. }, sectors)) = plan.plan().comparison() else { return Ok(None) };
        let mut statistics = Statistics::default();
        let found = self.executor(plan, task, &mut statistics, session).equal_sectors();
        let report = &mut self.progress.report;
        report.check = Check::None;
        report.transfers.compare += statistics.transfers.compare;
        report.durations_ms.append(&mut statistics.durations);
        let equal = found.map_err(|error| error.of_unit(&task.unit))?;
        let count = sectors.len();
        let words = match whole && equal.len() < count {
            true => "a difference was found, so all of it is written".to_owned(),
            false => format!("{} of {} equal", equal.len(), text::count(count, "sector")),
        };
        self.emit_step(StepName::Compare, StepState::Done, words);
        Ok(Some(equal))
    }

    /// A refusal after the session was opened: sends the unit back to its application if that
    /// was running before.
    fn leave_unchanged(&mut self, task: &UpdateTask<'_>, mut session: Box<dyn Session>, stop: Stop) -> Stop {
        let is_refusal = |failure: &Failure| failure.code == ExitCode::Refused;
        if !self.progress.unit.was_running || !matches!(&stop, Stop::Failed(failure) if is_refusal(failure)) {
            session.rest(self.cx);
            return stop;
        }
        let left = session.restart(task.resolved.route.restart_at, self.cx);
        drop(session);
        if left.is_ok() {
            self.observe_return(&task.unit, &task.resolved);
        }
        stop
    }
}
