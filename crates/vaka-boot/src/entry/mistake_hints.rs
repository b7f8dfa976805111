//! Interpretation of hotplug events during entry, with hints about probable mistakes.

use std::time::Duration;

use vaka_core::sheet::{ManualStep, MistakeHints};
use vaka_core::unit::Mode;
use vaka_usb::{DeviceInfo, HotplugEvent};

use super::runner::{ChangeKind, EntryRunner, StepEnd};
use crate::bench::candidate::{dfu_mode, id_of};
use crate::bench::tracking::{PortMatch, TrackedUnit, moved};
use crate::bench::unit_event::seen;
use crate::event::Event;
use crate::failure::{KnownAs, OtherDevice, PortEvent};
use crate::warning::Warning;

/// Report a port that has been empty this long. Chosen by us: longer than a unit needs to appear,
/// shorter than a user's patience.
const ABSENT_HINT_AFTER: Duration = Duration::from_secs(5);

/// The hint of the sheet for a mistake, if the step has one.
fn hint(step: Option<&ManualStep>, of: impl Fn(&MistakeHints) -> &Option<String>) -> Option<String> {
    step.and_then(|step| of(&step.mistakes).clone())
}

impl EntryRunner<'_, '_> {
    /// Reports an event and returns its meaning.
    pub(super) fn judge(&mut self, change: &HotplugEvent, until: StepEnd, step: Option<&ManualStep>) -> ChangeKind {
        match change {
            HotplugEvent::Detached(device) => self.left(device),
            HotplugEvent::Attached(device) => {
                self.cx.tell(Event::Attached(Box::new(seen(self.bench, device))));
                let is_here = self.bench.is_same_port(&self.way.unit.location, &device.location);
                if self.way.target.is(device) {
                    return self.wanted_came(device);
                }
                if !is_here {
                    self.appeared.push(device.clone());
                    return ChangeKind::Nothing;
                }
                self.absent_since = None;
                // Between steps it may return as its application.
                if until != StepEnd::UpdateMode {
                    return ChangeKind::Moved;
                }
                if id_of(device) == id_of(self.way.unit) {
                    self.application_came(step)
                } else {
                    self.other_came(device, step)
                }
            }
        }
    }

    fn left(&mut self, device: &DeviceInfo) -> ChangeKind {
        self.cx.tell(Event::Detached { unit: self.bench.place(&device.location), id: id_of(device) });
        if !self.bench.is_same_port(&self.way.unit.location, &device.location) {
            return ChangeKind::Nothing;
        }
        self.last_event = PortEvent::Left;
        self.absent_since = Some(self.cx.now());
        ChangeKind::Moved
    }

    fn wanted_came(&mut self, device: &DeviceInfo) -> ChangeKind {
        let followed = TrackedUnit { unit: self.way.unit, serial: self.way.serial };
        match followed.meets(self.bench, device, self.watch.devices()) {
            PortMatch::Here => ChangeKind::Reached(device.clone()),
            PortMatch::Moved => {
                self.cx.warn(moved(self.bench, device));
                ChangeKind::Reached(device.clone())
            }
            PortMatch::Elsewhere => {
                self.appeared.push(device.clone());
                let place = self.bench.place(&device.location);
                self.cx.warn(Warning::OtherPort { place });
                ChangeKind::Nothing
            }
        }
    }

    fn application_came(&mut self, step: Option<&ManualStep>) -> ChangeKind {
        self.last_event = PortEvent::ApplicationAgain { after_manual_step: step.is_some() };
        if step.is_some() {
            self.cx.warn(Warning::ApplicationAgain { hint: hint(step, |mistakes| &mistakes.application) });
        }
        ChangeKind::Again
    }

    fn other_came(&mut self, device: &DeviceInfo, step: Option<&ManualStep>) -> ChangeKind {
        let known = self.bench.recognise(device).filter(|found| found.mode == Mode::Update);
        let known = match known.as_ref().and_then(|found| found.sheets.first()) {
            Some(sheet) => KnownAs::UpdateModeOf(sheet.product.name.clone()),
            None if dfu_mode(device) == Some(Mode::Update) => KnownAs::DfuMode,
            None => KnownAs::Unknown,
        };
        let device = OtherDevice { id: id_of(device), known, expected: self.way.target.to_string() };
        self.last_event = PortEvent::Other(device.clone());
        self.cx.warn(Warning::OtherDevice { device, hint: hint(step, |mistakes| &mistakes.other) });
        ChangeKind::Moved
    }

    /// Reports once that no device appears, with the probable cause.
    pub(super) fn tell_emptiness(&mut self, until: StepEnd, step: Option<&ManualStep>) {
        let is_due = self.absent_since.is_some_and(|since| self.cx.now() >= since + ABSENT_HINT_AFTER);
        if !is_due || until != StepEnd::UpdateMode {
            return;
        }
        self.absent_since = None;
        let hint = hint(step, |mistakes| &mistakes.nothing);
        let (time, kernel_report) = (ABSENT_HINT_AFTER, self.kernel_report());
        self.cx.warn(Warning::EmptyPort { time, hint, kernel_report });
    }
}
