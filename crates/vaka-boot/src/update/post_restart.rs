//! A unit that installed a file reports the result once it has returned: in a text file, and by
//! showing the installed file.

use vaka_base::size::Grouped;
use vaka_core::event::{Check, ExitCode, RestartState, RunOutcome, StepName, StepState};
use vaka_core::plan::{ApprovedPlan, RestartMethod};
use vaka_core::sheet::{FileTarget, ResultFile, UpdateMedium, VolumeRoute};
use vaka_image::compare;
use vaka_usb::DeviceInfo;

use super::drafted::UpdateTask;
use super::executor::Statistics;
use super::progress::Progress;
use super::resolved::Resolved;
use super::stop::{StepError, Stop};
use super::update_run::UpdateRun;
use super::written::{Restarted, Written};
use crate::bench::connection::{Connection, OpenTransport};
use crate::entry::{self, EntryProcedure};
use crate::failure::{Failure, FailureKind};
use crate::protocol::session_error::{Loss, SessionError};
use crate::protocol::volume;
use crate::remedy::Remedy;
use crate::update::confirm::{self, ExpectedApplication, RestartOutcome};
use crate::warning::Warning;

impl UpdateRun<'_, '_> {
    /// Reads the disk of a unit that returned: its result file and its application file. Returns
    /// whether the result file reports success.
    pub(super) fn check_shown_files(
        &mut self,
        restarted: &Restarted<'_>,
        seen: &mut RestartOutcome,
    ) -> Result<bool, Stop> {
        let (resolved, plan) = (&restarted.task.resolved, restarted.plan.plan());
        let Some(route) = resolved.route.kind.volume() else { return Ok(false) };
        let UpdateMedium::File(file) = &route.takes else { return Ok(false) };
        if plan.runs().is_empty() {
            return Ok(false);
        }
        let back = match (seen.opened.take(), &seen.device) {
            (Some(opened), _) => Some(opened),
            // It came back in an unexpected state, so its result file matters even more.
            (None, Some(device)) => self.bench.look(device, self.cx).ok(),
            (None, None) => None,
        };
        let Some(opened) = back else {
            let was_there = plan.compares_shown_file() && seen.after != RestartState::NotBack;
            return if was_there { Err(left_while_read(&restarted.unit)) } else { Ok(false) };
        };
        let is_accepted = self.check_result_file(file, &opened)?;
        if plan.compares_shown_file() {
            self.compare_shown_file(restarted, route, file, opened)?;
        }
        Ok(is_accepted)
    }

    /// Brings a unit that disconnected before it could be read into update mode again, compares,
    /// and restarts it. If that fails, the check level stays as weak as before.
    pub(super) fn reverify(
        &mut self,
        restarted: &Restarted<'_>,
        expected: &ExpectedApplication<'_>,
        running: &DeviceInfo,
    ) -> Result<(), Stop> {
        if !restarted.plan.plan().rereads() {
            return Ok(());
        }
        let booted = match self.enter_again(&restarted.task.resolved, running) {
            Ok(booted) => booted,
            Err(failure) if failure.code == ExitCode::Stopped => return Err(failure.into()),
            Err(failure) => {
                self.cx.warn(Warning::NotRead(failure.kind));
                return Ok(self.must_run_again(expected, running)?);
            }
        };
        self.read_in_update_mode(&booted, &restarted.task, &restarted.plan)?;
        Ok(self.must_run_again(expected, &booted)?)
    }

    /// Brings a unit from its application into update mode again.
    fn enter_again(&mut self, resolved: &Resolved<'_>, running: &DeviceInfo) -> Result<DeviceInfo, Failure> {
        let serial = self.progress.report.serial.clone();
        let (sheet, route, timeout) = (resolved.sheet, resolved.route, self.request.wait);
        let procedure = EntryProcedure::of(sheet, route, running, serial.as_deref(), timeout);
        entry::enter(self.bench, procedure, self.operator, self.cx)
    }

    /// Reads a unit that re-entered update mode, compares, and restarts it.
    fn read_in_update_mode(
        &mut self,
        booted: &DeviceInfo,
        task: &UpdateTask<'_>,
        plan: &ApprovedPlan,
    ) -> Result<(), Stop> {
        let resolved = &task.resolved;
        self.progress.unit.in_update_mode = true;
        self.progress.report.after = RestartState::NotRestarted;
        let opened = self.open(booted)?;
        let connection = opened
            .by_route(resolved.route, Some(resolved.variant))
            .ok_or_else(|| Failure::new(FailureKind::NoInterfaceAgain))?;
        let mut session = connection.open(self.cx).map_err(|error| self.not_opened(&error, booted))?;
        let mut statistics = Statistics::default();
        let read = self.executor(plan, task, &mut statistics, &mut *session).reverify(&[resolved.image.span()]);
        let progress = &mut self.progress;
        progress.report.durations_ms.append(&mut statistics.durations);
        progress.report.transfers.add(&statistics.transfers);
        read.map_err(|error| error.of_unit(booted))?;
        progress.ledger.regain_track();
        if progress.ledger.bytes_checked(&progress.written.spans) == resolved.image.len() {
            progress.report.check = Check::ReadBack;
        }
        // Nothing was written this time, so it does not leave by itself.
        self.leave_update_mode(RestartMethod::BusReset, &mut *session)?;
        Ok(())
    }

    /// Handles a plain DFU unit that returned other bytes than it accepted. Some units activate
    /// the image only at a reset: the unit is reset and read again before it is judged, if the
    /// host can bring it into update mode by itself. All other failures stand.
    pub(super) fn read_after_reset<'s>(
        &mut self,
        error: StepError,
        written: Written<'s>,
    ) -> Result<Restarted<'s>, Stop> {
        let may_retry = error.failure.code == ExitCode::Differs && written.may_show_earlier_content();
        let (task, mut session, plan) = written.into_parts();
        if !may_retry || std::mem::replace(&mut self.progress.attempts.reread_after_reset, true) {
            return Err(error.of_unit(&task.unit));
        }
        self.cx.warn(Warning::DiffersBeforeReset);
        self.leave_update_mode(RestartMethod::BusReset, &mut *session)?;
        drop(session);
        let resolved = &task.resolved;
        let expected = ExpectedApplication::of(resolved.sheet, Some(resolved.variant), resolved.route);
        let mut seen = confirm::confirm(self.bench, &expected, &task.unit, self.cx);
        self.note_seen(&mut seen, resolved.route);
        // Whichever image that is shows only once it is read.
        self.progress.report.after = RestartState::Restarted;
        self.progress.ledger.lose_track();
        drop(seen.opened);
        let unit = match seen.device {
            Some(device) if self.progress.unit.in_update_mode => device,
            Some(device) if resolved.route.is_unattended() => self.enter_again(resolved, &device)?,
            _ => return Err(error.of_unit(&task.unit)),
        };
        self.read_in_update_mode(&unit, &task, &plan)?;
        self.discard_preserved();
        Ok(Restarted { unit, task, plan, finished: None, before: None })
    }

    /// Waits for the application after the unit was only read.
    fn must_run_again(&mut self, expected: &ExpectedApplication<'_>, unit: &DeviceInfo) -> Result<(), Failure> {
        let mut seen = confirm::confirm(self.bench, expected, unit, self.cx);
        self.note_seen(&mut seen, expected.route);
        if seen.after == RestartState::NotBack {
            let failure = Failure::new(FailureKind::NotBackAgain { observed: seen.words });
            return Err(failure.remedy(Remedy::ResetOrReplug));
        }
        self.emit_step(StepName::Confirm, StepState::Done, seen.words);
        Ok(())
    }

    /// Evaluates the unit's result file; returns whether it reports success.
    fn check_result_file(&mut self, file: &FileTarget, opened: &Connection) -> Result<bool, Failure> {
        let Some(ResultFile { file: name, success, failure }) = &file.result else { return Ok(false) };
        let disk = opened.identity.facts.volume.as_ref();
        let Some(lines) = disk.and_then(|disk| disk.text(name)) else {
            self.cx.warn(Warning::NoResultFile { file: name.clone() });
            return Ok(false);
        };
        let found = |words: &str| lines.iter().find(|line| line.contains(words));
        if let Some(line) = found(failure) {
            self.progress.ledger.lose_track();
            self.progress.report.outcome = RunOutcome::Failed;
            let failure = Failure::new(FailureKind::FileRefused { file: name.clone(), line: line.clone() });
            return Err(failure.remedy(Remedy::CheckFileIsForUnit));
        }
        if let Some(line) = found(success) {
            self.emit_step(StepName::Finish, StepState::Done, format!("{name} says: {line}"));
            return Ok(true);
        }
        let line = lines.first().map_or("nothing", String::as_str).to_owned();
        self.cx.warn(Warning::UnclearResult { file: name.clone(), line });
        Ok(false)
    }

    /// Compares the application that the unit shows with the image.
    fn compare_shown_file(
        &mut self,
        restarted: &Restarted<'_>,
        route: &VolumeRoute,
        file: &FileTarget,
        opened: Connection,
    ) -> Result<(), Stop> {
        let name = route.application_file.as_deref().unwrap_or(&file.name);
        let OpenTransport::Disk(mut disk) = opened.transport else { return Ok(()) };
        self.emit_step(StepName::ReadBack, StepState::Started, format!("read {name} and compare it with the image"));
        let before = disk.transfers();
        let read = disk.read_file(name, &volume::read_all, self.cx);
        self.progress.report.transfers.read_back += disk.transfers() - before;
        let shown = match read {
            Ok(shown) => shown.unwrap_or_default(),
            Err(SessionError::Disconnected | SessionError::Transport(_)) => {
                return Err(left_while_read(&restarted.unit));
            }
            Err(error) => {
                self.cx.warn(Warning::ShownFileUnreadable { file: name.to_string(), error });
                return Ok(());
            }
        };
        let image = &restarted.task.resolved.image;
        let Some(found) = volume::decode(route, image.start(), &shown) else {
            self.cx.warn(Warning::NoApplicationShown { file: name.to_string() });
            return Ok(());
        };
        let Progress { report, ledger, written, .. } = &mut self.progress;
        let result = compare::compare(image, &found, &[]);
        if result.first_difference.is_none() && result.unread == 0 {
            ledger.regain_track();
            written.spans.iter().for_each(|span| ledger.record_equal(*span));
            report.check = Check::ReadBack;
            let words = format!("{} bytes are equal", Grouped(image.len()));
            self.emit_step(StepName::ReadBack, StepState::Done, words);
            return Ok(());
        }
        if restarted.was_lost_at_end() {
            // The unit is attached again, so the run can resume.
            let failure = Failure::new(FailureKind::LostBeforeFile).remedy(Remedy::CheckCable);
            return Err(Stop::lost(&restarted.unit, Loss::Unit, failure));
        }
        report.outcome = RunOutcome::Failed;
        written.spans.iter().for_each(|span| ledger.record_difference(*span));
        let (bytes, from) = (result.different + result.unread, result.first_difference.map(|first| first.at));
        let failure = Failure::new(FailureKind::ShownDiffers { file: name.to_string(), bytes, from });
        Err(failure.remedy(Remedy::RunAgainOrFlashWorn).into())
    }
}

/// The unit returned and disconnected again: it may return once more.
fn left_while_read(unit: &DeviceInfo) -> Stop {
    let failure = Failure::new(FailureKind::LeftWhileRead).remedy(Remedy::CheckCableAndResume);
    Stop::lost(unit, Loss::Unit, failure)
}
