//! The final plan is executed, and the unit leaves update mode.

use vaka_core::event::{Check, StepName, StepState, milliseconds};
use vaka_core::plan::{ApprovedPlan, KnownContent, RestartMethod};
use vaka_core::sheet::{RouteKind, UndoPhase};
use vaka_usb::DeviceInfo;

use super::drafted::UpdateTask;
use super::executor::{Executor, Statistics};
use super::leaving::request_restart;
use super::resolved::Resolved;
use super::stop::{StepError, Stop};
use super::surveyed::Approved;
use super::update_run::UpdateRun;
use crate::failure::Failure;
use crate::protocol::session::{FinishOutcome, Session};

/// The end of an execution.
pub(super) enum Executed<'s> {
    /// The plan was executed, and the content was verified accordingly.
    Written(Written<'s>),
    /// The content differed, and matches after a reset; the unit was restarted.
    EqualAfterReset(Restarted<'s>),
}

/// A unit with the complete image, still in update mode.
pub(super) struct Written<'s> {
    task: UpdateTask<'s>,
    session: Box<dyn Session>,
    plan: ApprovedPlan,
    finished: Option<FinishOutcome>,
}

/// A unit that received the request to leave update mode.
pub(super) struct Restarted<'s> {
    /// The unit as listed in update mode.
    pub(super) unit: DeviceInfo,
    pub(super) task: UpdateTask<'s>,
    pub(super) plan: ApprovedPlan,
    /// The behaviour of the unit at the end of the download.
    pub(super) finished: Option<FinishOutcome>,
    /// The devices that were attached before the restart, for a unit that shows up elsewhere; `None` if they
    /// are not known.
    pub(super) before: Option<Vec<DeviceInfo>>,
}

impl<'s> Approved<'s> {
    /// Executes the plan's steps on the unit's memory.
    pub(super) fn execute(self, run: &mut UpdateRun<'_, '_>) -> Result<Executed<'s>, Stop> {
        let Self { mut task, mut session, plan } = self;
        let (executed, finished) = run.execute(&task, &plan, &mut *session);
        // The unit may have disconnected and returned meanwhile.
        if let Some(device) = session.device() {
            task.unit = device.clone();
        }
        match executed {
            Ok(()) => Ok(Executed::Written(Written { task, session, plan, finished })),
            Err(error) => {
                let restarted = run.read_after_reset(error, Written { task, session, plan, finished })?;
                Ok(Executed::EqualAfterReset(restarted))
            }
        }
    }
}

impl<'s> Executed<'s> {
    /// Makes the unit leave update mode, unless it has left already.
    pub(super) fn restart(self, run: &mut UpdateRun<'_, '_>) -> Result<Restarted<'s>, Stop> {
        match self {
            Self::Written(written) => written.restart(run),
            Self::EqualAfterReset(restarted) => Ok(restarted),
        }
    }
}

impl<'s> Written<'s> {
    fn restart(self, run: &mut UpdateRun<'_, '_>) -> Result<Restarted<'s>, Stop> {
        let Self { task, mut session, plan, finished } = self;
        run.discard_preserved();
        // A node that gets its supply back is on its bus before the undo is complete.
        let before = run.bench.devices().ok();
        run.undo(plan.plan().undo(UndoPhase::Written), UndoPhase::Written, None);
        let wait_for_disconnect = run.leave_update_mode(plan.plan().restart(), &mut *session)?;
        let is_uf2 = task.resolved.route.kind.family().is_some();
        if wait_for_disconnect || !is_uf2 || run.progress.ledger.has_changed_unit() {
            return Ok(Restarted { unit: task.unit.clone(), task, plan, finished, before });
        }
        run.send_again(task, session)
    }

    /// The parts, for a unit that is reset and read again.
    pub(super) fn into_parts(self) -> (UpdateTask<'s>, Box<dyn Session>, ApprovedPlan) {
        (self.task, self.session, self.plan)
    }

    /// Whether a difference may be the unit's earlier content, shown until a reset.
    pub(super) fn may_show_earlier_content(&self) -> bool {
        matches!(self.task.resolved.route.kind, RouteKind::PlainDfu { .. })
    }
}

impl<'b> UpdateRun<'_, 'b> {
    pub(super) fn executor<'e>(
        &'e mut self,
        plan: &'e ApprovedPlan,
        task: &'e UpdateTask<'_>,
        statistics: &'e mut Statistics,
        session: &'e mut dyn Session,
    ) -> Executor<'e, 'b> {
        let Resolved { image, variant, route, .. } = &task.resolved;
        let regions = variant.images().map(|rules| &rules.region);
        let written = regions.filter(|region| image.parts_in(region.span).next().is_some());
        let names: Vec<&str> = written.map(|region| region.name.as_str()).collect();
        Executor {
            plan,
            image,
            unit: self.progress.place().into(),
            region: names.join(", ").into(),
            gives_earlier_content: matches!(route.kind, RouteKind::PlainDfu { .. }),
            ledger: &mut self.progress.ledger,
            tally: statistics,
            session,
            cx: self.cx,
        }
    }

    fn execute(
        &mut self,
        task: &UpdateTask<'_>,
        plan: &ApprovedPlan,
        session: &mut dyn Session,
    ) -> (Result<(), StepError>, Option<FinishOutcome>) {
        let mut statistics = Statistics::default();
        let executed = self.executor(plan, task, &mut statistics, session).run();
        if executed.is_err() && self.cx.stop_requested() {
            session.rest(self.cx);
        }
        let progress = &mut self.progress;
        let report = &mut progress.report;
        report.bytes_padded += statistics.padded;
        report.transfers.add(&statistics.transfers);
        report.durations_ms.append(&mut statistics.durations);
        if executed.is_ok() {
            let is_checked = progress.ledger.bytes_checked(&progress.written.spans) == task.resolved.image.len();
            report.check = match is_checked {
                true if plan.plan().checks_by_device() || !session.limits().can_read => Check::DeviceChecked,
                true => Check::ReadBack,
                false => Check::Accepted,
            };
        }
        (executed, statistics.finished)
    }

    /// Handles a UF2 unit that had the complete image and did not leave update mode: only its
    /// last block makes it leave, so all blocks are sent again, as the plan announced.
    fn send_again<'s>(&mut self, task: UpdateTask<'s>, mut session: Box<dyn Session>) -> Result<Restarted<'s>, Stop> {
        let plan = task.draft(self.request, KnownContent::Rewrite)?.sending_again();
        self.emit_plan(task.resolved.verdict.phase, &plan);
        let plan = task.approve(plan)?;
        session.reload();
        let (executed, finished) = self.execute(&task, &plan, &mut *session);
        executed.map_err(|error| error.of_unit(&task.unit))?;
        self.leave_update_mode(plan.plan().restart(), &mut *session)?;
        Ok(Restarted { unit: task.unit.clone(), task, plan, finished, before: None })
    }

    /// Makes the unit leave update mode. Only a rejection by the unit is a failure here: the bus
    /// shows afterwards whether it left. Returns whether the session reported no problem.
    pub(super) fn leave_update_mode(&mut self, by: RestartMethod, session: &mut dyn Session) -> Result<bool, Failure> {
        let at = match by {
            RestartMethod::Address(at) => Some(at),
            _ => None,
        };
        let started = self.cx.now();
        self.emit_step(StepName::Restart, StepState::Started, by.to_string());
        let may_be_gone = !self.progress.report.undo.is_empty();
        let wait_for_disconnect = request_restart(session, at, may_be_gone, self.cx)?;
        self.progress.report.durations_ms.push((StepName::Restart, milliseconds(self.cx.now() - started)));
        Ok(wait_for_disconnect)
    }
}
