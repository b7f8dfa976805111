//! What it means that something came or left while a unit is brought into update mode,
//! and what was probably done wrong.

use std::time::Duration;

use vaka_base::duration;
use vaka_core::event::Event;
use vaka_core::sheet::{ManualStep, MistakeHints};
use vaka_core::unit::Mode;
use vaka_usb::{DeviceInfo, HotplugEvent};

use super::runner::{ChangeKind, EntryRunner, StepEnd};
use crate::bench::candidate::{dfu_mode, id_of};
use crate::bench::tracking::{PortMatch, TrackedUnit, moved};
use crate::bench::unit_event::seen;

/// A port that is empty for so long is told. Chosen by us: longer than a unit needs to
/// show up, shorter than a person's patience.
const ABSENT_HINT_AFTER: Duration = Duration::from_secs(5);

/// The sheet's words for a slip, else the tool's.
fn guess<'g>(
    hand: Option<&'g ManualStep>,
    of: impl Fn(&'g MistakeHints) -> Option<&'g String>,
    own: &'g str,
) -> &'g str {
    hand.and_then(|hand| of(&hand.slips)).map_or(own, String::as_str)
}

impl EntryRunner<'_, '_> {
    /// Tells a change, and what it means.
    pub(super) fn judge(&mut self, change: &HotplugEvent, until: StepEnd, hand: Option<&ManualStep>) -> ChangeKind {
        match change {
            HotplugEvent::Detached(device) => self.left(device),
            HotplugEvent::Attached(device) => {
                self.cx.tell(Event::Seen(Box::new(seen(self.bench, device))));
                let is_here = self.bench.is_same_port(&self.way.unit.location, &device.location);
                if self.way.target.is(device) {
                    return self.wanted_came(device);
                }
                if !is_here {
                    self.appeared.push(device.clone());
                    return ChangeKind::Nothing;
                }
                self.absent_since = None;
                // On the way there it may well come back as its application.
                if until != StepEnd::UpdateMode {
                    return ChangeKind::Moved;
                }
                if id_of(device) == id_of(self.way.unit) {
                    self.application_came(hand)
                } else {
                    self.other_came(device, hand)
                }
            }
        }
    }

    fn left(&mut self, device: &DeviceInfo) -> ChangeKind {
        self.cx.tell(Event::Gone { unit: self.bench.place(&device.location), id: id_of(device) });
        if !self.bench.is_same_port(&self.way.unit.location, &device.location) {
            return ChangeKind::Nothing;
        }
        "the unit left the bus and did not come back".clone_into(&mut self.last_event);
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
                self.cx.warn(format!("A unit in update mode came at {place}. That is another port; it is left alone."));
                ChangeKind::Nothing
            }
        }
    }

    fn application_came(&mut self, hand: Option<&ManualStep>) -> ChangeKind {
        let Some(hand) = hand else {
            "the application started again".clone_into(&mut self.last_event);
            return ChangeKind::Again;
        };
        "the application started again; was a button let go too early".clone_into(&mut self.last_event);
        let own = "Perhaps a button was let go too early, or the steps were done in another order.";
        let guess = guess(Some(hand), |slips| slips.application.as_ref(), own);
        self.cx.warn(format!("The application started again. {guess} Do the steps once more."));
        ChangeKind::Again
    }

    fn other_came(&mut self, device: &DeviceInfo, hand: Option<&ManualStep>) -> ChangeKind {
        let (id, wanted) = (id_of(device), self.way.target);
        let known = self.bench.recognise(device).filter(|found| found.mode == Mode::Update);
        let what = match known.as_ref().and_then(|found| found.sheets.first()) {
            Some(sheet) => format!(" ({}, another of its update modes)", sheet.product.name),
            None if dfu_mode(device) == Some(Mode::Update) => " (another DFU mode)".to_owned(),
            None => String::new(),
        };
        self.last_event = format!("{id} came on the unit's port{what}, which is not {wanted}");
        let own = "Perhaps another button, switch or pad was used than the step says.";
        let guess = guess(hand, |slips| slips.other.as_ref(), own);
        self.cx.warn(format!("{id} came{what}; {wanted} was expected. {guess} Do the steps once more."));
        ChangeKind::Moved
    }

    /// Tells once that nothing shows up, and what that can be.
    pub(super) fn tell_emptiness(&mut self, until: StepEnd, hand: Option<&ManualStep>) {
        let is_due = self.absent_since.is_some_and(|since| self.cx.now() >= since + ABSENT_HINT_AFTER);
        if !is_due || until != StepEnd::UpdateMode {
            return;
        }
        self.absent_since = None;
        let own = "If it is plugged in: try the cable on a unit that works (some only charge), and look at its power.";
        let guess = guess(hand, |slips| slips.nothing.as_ref(), own);
        let trouble = self.trouble().map(|words| format!(" {words}")).unwrap_or_default();
        let time = duration::words(ABSENT_HINT_AFTER);
        self.cx.warn(format!("Nothing has come on its port for {time}. {guess}{trouble}"));
    }
}
