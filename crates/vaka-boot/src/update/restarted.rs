//! Confirmation of the application and its reports after the restart.

use vaka_base::text;
use vaka_core::dfu::Status;
use vaka_core::event::{Check, ExitCode, RestartState, RunOutcome, StepName, StepState, milliseconds};
use vaka_core::matching::image_version;
use vaka_core::plan::{Plan, RestartMethod};
use vaka_core::sheet::{Route, UndoPhase, VersionSource};
use vaka_core::unit::Mode;
use vaka_usb::DeviceInfo;

use super::resolved::Resolved;
use super::stop::Stop;
use super::update_run::UpdateRun;
use super::written::Restarted;
use crate::bench::candidate::{dfu_mode, id_of};
use crate::failure::{Failure, FailureKind};
use crate::protocol::dfu;
use crate::protocol::session::FinishOutcome;
use crate::protocol::session_error::Loss;
use crate::remedy::Remedy;
use crate::update::confirm::{self, ExpectedApplication, RestartOutcome};

impl<'s> Restarted<'s> {
    /// Waits for the application, and checks its reports.
    pub(super) fn confirm(self, run: &mut UpdateRun<'_, '_>) -> Result<(), Stop> {
        let Self { task, plan, unit, .. } = &self;
        let expected = run.expected_application(&task.resolved, plan.plan());
        let started = run.cx.now();
        let is_elsewhere = shows_up_elsewhere(&task.resolved);
        let place = if is_elsewhere { "any port" } else { "the same port" };
        let wanted = match task.resolved.sheet.application_ids(task.resolved.variant) {
            Some(id) => format!("wait for {id} on {place}"),
            None => format!("wait for the next device on {place}"),
        };
        run.emit_step(StepName::Confirm, StepState::Started, wanted);
        let mut seen = match is_elsewhere {
            true => confirm::confirm_anywhere(run.bench, &expected, self.before.as_deref(), run.cx),
            false => confirm::confirm(run.bench, &expected, unit, run.cx),
        };
        run.progress.report.durations_ms.push((StepName::Confirm, milliseconds(run.cx.now() - started)));
        run.note_seen(&mut seen, task.resolved.route);
        if is_elsewhere {
            run.progress.note_own_serial();
        }
        run.progress.report.outcome = match run.progress.ledger.has_changed_unit() {
            true => RunOutcome::Updated,
            false => RunOutcome::Unchanged,
        };
        let is_file_accepted = run.check_shown_files(&self, &mut seen)?;
        run.confirm_visually(&task.resolved.sheet.after().see, &mut seen);
        if seen.after == RestartState::NotBack {
            return Err(run.not_back(&seen, task.resolved.route).into());
        }
        if !is_file_accepted {
            run.check_end(&self, &expected, &seen)?;
        }
        run.emit_step(StepName::Confirm, StepState::Done, std::mem::take(&mut seen.words));
        drop(seen.opened);
        if let Some(running) = &seen.device {
            run.reverify(&self, &expected, running)?;
            run.note_nodes(running);
        }
        run.undo(plan.plan().undo(UndoPhase::End), UndoPhase::End, seen.device.as_ref());
        run.progress.report.code = ExitCode::Done;
        Ok(())
    }

    /// Whether the unit disconnected while the download was ended.
    pub(super) fn was_lost_at_end(&self) -> bool {
        self.finished == Some(FinishOutcome::LostDuringFinish)
    }
}

/// Whether a unit shows up on another port than it was written on: after a programmer, or as a node of a
/// CAN bus after it was a USB device.
fn shows_up_elsewhere(resolved: &Resolved<'_>) -> bool {
    let becomes_node = resolved.sheet.application_ids(resolved.variant).is_some_and(|ids| !ids.is_usb());
    resolved.route.kind.programmer().is_some() || (resolved.route.id.is_usb() && becomes_node)
}

impl UpdateRun<'_, '_> {
    /// The expected application after the unit has left update mode.
    fn expected_application<'s>(&self, resolved: &Resolved<'s>, plan: &Plan) -> ExpectedApplication<'s> {
        let Resolved { sheet, variant, route, image, .. } = resolved;
        let reports = *sheet.version_source(variant) != VersionSource::Nowhere;
        // The number of a chip's boot mode is not that of a node.
        let has_same_serial = sheet.product.stable_serial && !shows_up_elsewhere(resolved);
        ExpectedApplication {
            version: image_version(variant, image).filter(|_| reports),
            named: image.facts().named_version.clone(),
            leaves: plan.restart() != RestartMethod::Nothing,
            serial: self.progress.report.serial.clone().filter(|_| has_same_serial),
            ..ExpectedApplication::of(sheet, Some(variant), route)
        }
    }

    /// The failure when the application does not return.
    fn not_back(&mut self, seen: &RestartOutcome, route: &Route) -> Failure {
        let status = self.dfu_status_of(seen, route);
        let remedies = match route.kind.programmer() {
            Some(_) => vec![Remedy::PlugTargetIn],
            None => self.recovery_hint(status == Some(Status::Firmware)),
        };
        Failure { remedies, ..Failure::new(FailureKind::NotBack { observed: seen.words.clone(), status }) }
    }

    /// Records the observations after a restart.
    pub(super) fn note_seen(&mut self, seen: &mut RestartOutcome, route: &Route) {
        self.progress.report.after = seen.after;
        self.progress.report.application = seen.next.take();
        let is_booted = |device: &DeviceInfo| {
            let is_route = route.id.is(id_of(device)) && seen.after == RestartState::NotBack;
            is_route || dfu_mode(device) == Some(Mode::Update)
        };
        self.progress.unit.in_update_mode = seen.device.as_ref().is_some_and(is_booted);
        self.progress.unit.leaves_when_closed = false;
    }

    /// A unit that disconnected at the end of the download may run its old firmware. Its return
    /// proves nothing; a new version, different from the reported earlier one, does. So does its
    /// memory, if it is read again.
    fn check_end(
        &mut self,
        restarted: &Restarted<'_>,
        expected: &ExpectedApplication<'_>,
        seen: &RestartOutcome,
    ) -> Result<(), Stop> {
        let (progress, plan) = (&mut self.progress, restarted.plan.plan());
        let is_read_back = progress.report.check == Check::ReadBack && plan.held_back().is_none();
        if !restarted.was_lost_at_end() || plan.rereads() || is_read_back {
            return Ok(());
        }
        let reported = progress.report.application.as_ref().and_then(|application| application.version.as_ref());
        let is_new = expected.version.is_some()
            && reported == expected.version.as_ref()
            && progress.report.version_before.as_ref().is_some_and(|before| Some(before) != reported);
        if is_new {
            progress.ledger.regain_track();
            plan.held_back().into_iter().for_each(|last| progress.ledger.finish_write(last));
            return Ok(());
        }
        progress.report.after = RestartState::Restarted;
        let failure = Failure::new(FailureKind::LostAtEnd { observed: seen.words.clone() }).remedy(Remedy::RunAgain);
        // The host can bring it back by itself, so the update is repeated once.
        let is_repeated = restarted.task.resolved.route.is_unattended()
            && !std::mem::replace(&mut progress.attempts.end_repeated, true);
        Err(match is_repeated {
            true => Stop::lost(&restarted.unit, Loss::Unit, failure),
            false => failure.into(),
        })
    }

    /// Records the nodes that the system created for the application, for the next program.
    fn note_nodes(&mut self, running: &DeviceInfo) {
        let bus = self.bench.bus(&running.location);
        let nodes = bus.map(|bus| bus.nodes(&running.location.port)).unwrap_or_default();
        if let Some(application) = &mut self.progress.report.application {
            application.nodes = nodes.iter().map(|node| text::sanitize(&node.to_string_lossy())).collect();
        }
    }

    /// The remedies for an application that did not return. If the bootloader reports bad
    /// firmware, neither a switch nor a reset helps.
    fn recovery_hint(&self, firmware_is_bad: bool) -> Vec<Remedy> {
        let next = if firmware_is_bad { Remedy::WriteAgain } else { Remedy::SetSwitchesBackAndLook };
        let saved = self.progress.content.backup_name.clone().filter(|name| !name.is_empty());
        std::iter::once(next).chain(saved.map(|file| Remedy::RestoreSaved { file })).collect()
    }

    /// The error that the bootloader of a unit in DFU mode reports about its firmware, if any.
    /// Source: DFU 1.1, section 6.1.2 (bStatus).
    fn dfu_status_of(&mut self, seen: &RestartOutcome, route: &Route) -> Option<Status> {
        let device = seen.device.as_ref().filter(|device| dfu_mode(device) == Some(Mode::Update))?;
        let opened = self.bench.look(device, self.cx).ok()?;
        let (device, params) = opened.by_route(route, None)?.into_dfu()?;
        let reply = dfu::read_status(device, &params, self.cx).ok()?;
        // A reset or a loss of power is expected here.
        let says_nothing = matches!(reply.status, Status::Ok | Status::UsbReset | Status::PowerOnReset);
        (!says_nothing).then_some(reply.status)
    }
}
