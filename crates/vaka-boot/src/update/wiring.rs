//! Units that are reached through a programmer, which is wired to their chip.

use std::time::Duration;

use vaka_core::event::RestartState;
use vaka_core::sheet::{Programmer, Route};
use vaka_usb::DeviceInfo;

use super::stop::Stop;
use super::update_run::UpdateRun;
use crate::bench::candidate::Candidate;
use crate::bench::open_error::OpenError;
use crate::bench::target::{self, programmer_of, target_failure, wiring};
use crate::bench::waiting::{Wait, WaitEnd};
use crate::context::stopped;
use crate::event::Event;
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;

/// Interval between two attempts to reach a chip: each holds it in reset for a moment. Chosen by us.
const RETRY: Duration = Duration::from_millis(500);

/// A unit whose application runs is not reached by a route through a programmer.
pub(super) fn needs_no_programmer(route: &Route) -> Result<(), Failure> {
    let Some(programmer) = route.kind.programmer() else { return Ok(()) };
    let failure = Failure::new(FailureKind::NeedsProgrammer { programmer: programmer.about.clone() });
    Err(failure.unchanged().remedy(Remedy::UseProgrammer { name: programmer.name.clone() }))
}

impl<'a> UpdateRun<'a, '_> {
    /// Waits until a programmer reaches a chip: shows the manual steps that wire it, unless it is wired
    /// already.
    pub(super) fn await_wiring(&mut self, found: &Candidate<'a>) -> Result<(), Stop> {
        let Some(programmer) = programmer_of(self.bench, &found.device) else { return Ok(()) };
        let mut pending = Wait::new(self.request.wait, self.cx.clock());
        let mut is_first = true;
        loop {
            let error = match self.bench.look(&found.device, self.cx) {
                Ok(_) => return Ok(()),
                Err(error) => error,
            };
            let may_be_wired = matches!(&error, OpenError::Dialect { error, .. } if error.is_refusal());
            if !may_be_wired {
                return Err(self.not_identified(&error, &found.device));
            }
            if std::mem::take(&mut is_first) {
                self.show_wiring(programmer, found);
            }
            match pending.check(|| "a chip to be wired to the programmer".to_owned(), self.cx) {
                None => self.cx.clock().sleep(RETRY),
                Some(WaitEnd::Stopped) => return Err(stopped().unchanged().into()),
                Some(WaitEnd::TimedOut) => return Err(target_failure(self.bench, &found.device, &error).into()),
            }
        }
    }

    fn show_wiring(&mut self, programmer: &Programmer, found: &Candidate<'_>) {
        let (unit, of) = (self.bench.place(found.location()), programmer.wiring.len());
        for (number, step) in (1..).zip(wiring(programmer)) {
            self.cx.tell(Event::ManualStep { unit: unit.clone(), number, of, step: step.clone() });
        }
    }

    /// Releases a chip that a programmer holds, if the run changed nothing in it. Best effort.
    pub(super) fn release_target(&mut self) {
        let progress = &self.progress;
        let is_held = progress.report.programmer.is_some() && progress.report.after == RestartState::NotRestarted;
        if !is_held || progress.ledger.has_changed_unit() {
            return;
        }
        let Ok(devices) = self.bench.devices() else { return };
        let is_it = |device: &&DeviceInfo| {
            let is_here = self.bench.place(&device.location) == self.progress.place();
            is_here && programmer_of(self.bench, device).is_some()
        };
        let Some(device) = devices.iter().find(is_it) else { return };
        if target::ask(self.bench, device, self.cx).is_ok() {
            self.progress.unit.in_update_mode = false;
        }
    }
}
