//! The end of an update: the restart, what shows after it, and the way back to the application.

use vaka_base::text;
use vaka_core::dfu::Status;
use vaka_core::event::{Check, ExitCode, Failure, RestartState, RunOutcome, StepName, StepState, milliseconds};
use vaka_core::matching::image_version;
use vaka_core::plan::{ApprovedPlan, Plan, RestartMethod, Step};
use vaka_core::sheet::{Route, UndoPhase, VersionSource};
use vaka_core::unit::Mode;
use vaka_usb::DeviceInfo;

use super::planning::restart_by;
use super::resolved::Resolved;
use super::run::UpdateRun;
use crate::bench::candidate::dfu_mode;
use crate::bench::connection::{Connection, Link, Opening};
use crate::protocol::dfu;
use crate::protocol::identity;
use crate::protocol::session::{Session, SessionError};
use crate::update::confirm::{self, ExpectedApplication, Seen};

impl UpdateRun<'_, '_> {
    /// Makes the unit leave update mode. Only a refusal by the unit is a failure here: whether
    /// it left shows on the bus afterwards. Returns whether the session saw nothing against it.
    pub(super) fn restart(&mut self, by: RestartMethod, session: &mut dyn Session) -> Result<bool, Failure> {
        let at = match by {
            RestartMethod::Address(at) => Some(at),
            _ => None,
        };
        let started = self.cx.now();
        self.tell_step(StepName::Restart, StepState::Started, by.to_string());
        let has_left = match session.restart(at, self.cx) {
            Ok(()) => true,
            Err(error) if error.is_refusal() => {
                return Err(Failure::new(
                    ExitCode::NotBack,
                    format!("The unit refused to leave update mode: {error}."),
                )
                .cure("Press reset on the unit, or unplug it and plug it in again."));
            }
            Err(error) => {
                self.cx.warn(format!("The request to leave update mode ended with: {error}."));
                false
            }
        };
        self.report.durations_ms.push((StepName::Restart, milliseconds(self.cx.now() - started)));
        Ok(has_left)
    }

    pub(super) fn confirm(
        &mut self,
        unit: &DeviceInfo,
        settled: &Resolved<'_>,
        approved: &ApprovedPlan,
    ) -> Result<(), Failure> {
        let plan = approved.plan();
        let tells = *settled.sheet.version_source(settled.variant) != VersionSource::Nowhere;
        let version = image_version(settled.variant, &settled.image).filter(|_| tells);
        let named = settled.image.facts().named_version.clone();
        let leaves = restart_by(plan) != RestartMethod::Nothing;
        let started = self.cx.now();
        let ids = settled.sheet.application_ids(settled.variant);
        let wanted = match ids {
            Some(id) => format!("wait for {id} on the same port"),
            None => "wait for what comes on the same port".to_owned(),
        };
        self.tell_step(StepName::Confirm, StepState::Started, wanted);
        let expected = ExpectedApplication::of(settled.sheet, Some(settled.variant), settled.route);
        let serial = self.report.serial.clone().filter(|_| settled.sheet.product.serial_stays);
        let expected = ExpectedApplication { version, named, leaves, serial, ..expected };
        let mut seen = confirm::confirm(self.bench, &expected, unit, self.cx);
        self.report.durations_ms.push((StepName::Confirm, milliseconds(self.cx.now() - started)));
        self.note_seen(&mut seen, settled.route);
        self.report.outcome = if self.ledger.has_changed_unit() { RunOutcome::Updated } else { RunOutcome::Unchanged };
        self.look_again(settled, plan, &mut seen)?;
        self.ask_what_is_seen(&settled.sheet.after().see, &mut seen);
        if seen.after == RestartState::NotBack {
            let failure =
                Failure::new(ExitCode::NotBack, format!("The application did not come back: {}.", seen.words));
            let status = self.dfu_status_of(&seen, settled.route);
            let failure = match &status {
                Some((_, words)) => Failure { message: format!("{} {words}", failure.message), ..failure },
                None => failure,
            };
            let is_bad = status.is_some_and(|(status, _)| status == Status::Firmware);
            return Err(failure.cure(self.way_back(is_bad)));
        }
        self.must_have_ended(settled, plan, &expected, &seen)?;
        self.tell_step(StepName::Confirm, StepState::Done, seen.words);
        drop(seen.opened);
        if let Some(running) = seen.device {
            self.read_once_more(settled, approved, &expected, &running)?;
            self.note_nodes(&running);
            self.undo(plan, UndoPhase::End, Some(&running));
        } else {
            self.undo(plan, UndoPhase::End, None);
        }
        self.report.code = ExitCode::Done;
        Ok(())
    }

    /// Notes what was observed after a restart.
    pub(super) fn note_seen(&mut self, seen: &mut Seen, route: &Route) {
        self.report.after = seen.after;
        self.report.next = seen.next.take();
        let is_booted = |device: &DeviceInfo| {
            let is_route = route.id.is(identity::from_list(device).id) && seen.after == RestartState::NotBack;
            is_route || dfu_mode(device) == Some(Mode::Update)
        };
        self.in_update_mode = seen.device.as_ref().is_some_and(is_booted);
        self.leaves_when_closed = false;
    }

    /// A unit that was lost while it was told that the image is complete may run its old
    /// firmware. That it came back proves nothing; that it reports the new version, after it
    /// reported another one before, does. So does its memory, if it is read once more.
    pub(super) fn must_have_ended(
        &mut self,
        settled: &Resolved<'_>,
        plan: &Plan,
        expected: &ExpectedApplication<'_>,
        seen: &Seen,
    ) -> Result<(), Failure> {
        let reads_again = plan.steps.iter().any(|step| matches!(step, Step::ReadOnceMore { .. }));
        let is_proven = self.is_file_accepted || self.report.check == Check::ReadBack && plan.held_back().is_none();
        if !self.vanished || reads_again || is_proven {
            return Ok(());
        }
        let reported = self.report.next.as_ref().and_then(|next| next.version.as_ref());
        let is_new = expected.version.is_some()
            && reported == expected.version.as_ref()
            && self.report.version_before.as_ref().is_some_and(|before| Some(before) != reported);
        if is_new {
            self.ledger.regain_track();
            plan.held_back().into_iter().for_each(|last| self.ledger.finish_write(last));
            return Ok(());
        }
        // The host can bring it back by itself, so the update is repeated, once.
        self.lost = settled.route.enters_by_itself() && !std::mem::replace(&mut self.end_repeated, true);
        self.report.after = RestartState::Restarted;
        Err(Failure::new(
            ExitCode::Transfer,
            format!("The unit was lost before it confirmed that the image is complete. Then {}, and nothing shows which firmware that is.", seen.words),
        )
        .cure("Run the same command again."))
    }

    /// What the system made of the application: its serial port, for the next program.
    pub(super) fn note_nodes(&mut self, running: &DeviceInfo) {
        let bus = self.bench.bus(&running.location);
        let nodes = bus.map(|bus| bus.nodes(&running.location.port)).unwrap_or_default();
        if let Some(next) = &mut self.report.next {
            next.nodes = nodes.iter().map(|node| text::tame(&node.to_string_lossy())).collect();
        }
    }

    /// What can be done about an application that did not come back. If the bootloader reports
    /// that its firmware is bad, no switch or reset helps.
    pub(super) fn way_back(&self, firmware_is_bad: bool) -> String {
        let next = match firmware_is_bad {
            true => {
                "Run the same command again: it writes the image once more. If it repeats, this image does not run on this unit."
            }
            false => {
                "Set switches and buttons back and press reset, or unplug the unit and plug it in again; 'vaka survey' shows what it is then."
            }
        };
        match self.saved.as_deref().filter(|name| !name.is_empty()) {
            None => next.to_owned(),
            Some(name) => format!("{next} The old firmware goes back with: vaka update {name} --agree older-version"),
        }
    }

    /// What the bootloader of a unit that came back in DFU mode says about its firmware, if it
    /// reports an error. Source: DFU 1.1, section 6.1.2 (bStatus).
    pub(super) fn dfu_status_of(&mut self, seen: &Seen, route: &Route) -> Option<(Status, String)> {
        let device = seen.device.as_ref().filter(|device| dfu_mode(device) == Some(Mode::Update))?;
        let opened = self.bench.look(device, self.cx).ok()?;
        let Some(Opening::Dfu(opening)) = opened.opening(route, None) else { return None };
        let Link::Device(device) = opened.link else { return None };
        let reply = dfu::read_status(device, &opening, self.cx).ok()?;
        // A reset or a loss of power is what just happened to it.
        let says_nothing = matches!(reply.status, Status::Ok | Status::UsbReset | Status::PowerOnReset);
        (!says_nothing).then(|| (reply.status, format!("Its bootloader reports {}.", reply.status)))
    }

    /// The final verdict refuses what the provisional one let through: sends the unit back to
    /// its application, and looks whether it went there.
    pub(super) fn go_back(
        &mut self,
        unit: &DeviceInfo,
        opened: Connection,
        before: &Resolved<'_>,
        failure: Failure,
    ) -> Failure {
        let route = before.route;
        let left = opened
            .opening(route, None)
            .ok_or(SessionError::Gone)
            .and_then(|opening| opened.open(opening, self.cx))
            .and_then(|mut session| session.restart(route.restart_at, self.cx));
        self.observe_return(left.is_ok(), unit, before);
        failure
    }

    /// A refusal after the session was opened: sends the unit back to its application if that
    /// ran before.
    pub(super) fn leave_unchanged(
        &mut self,
        unit: &DeviceInfo,
        settled: &Resolved<'_>,
        mut session: Box<dyn Session>,
        failure: Failure,
    ) -> Failure {
        if !self.was_running || failure.code != ExitCode::Refused {
            session.rest(self.cx);
            return failure;
        }
        let left = session.restart(settled.route.restart_at, self.cx);
        drop(session);
        self.observe_return(left.is_ok(), unit, settled);
        failure
    }

    /// Looks whether a unit that was sent back went to its application.
    pub(super) fn observe_return(&mut self, was_told: bool, unit: &DeviceInfo, settled: &Resolved<'_>) {
        if was_told {
            let expected = ExpectedApplication::of(settled.sheet, None, settled.route);
            let seen = confirm::confirm(self.bench, &expected, unit, self.cx);
            self.in_update_mode = seen.after == RestartState::NotBack && seen.device.is_some();
            self.leaves_when_closed = false;
        }
    }
}
