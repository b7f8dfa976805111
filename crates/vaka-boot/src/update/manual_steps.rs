//! What a person undoes, and what only a person can see.

use std::time::Duration;

use vaka_core::event::{Event, RestartState, UndoRecord};
use vaka_core::sheet::{BusEvent, ManualStep, Undo, UndoPhase};
use vaka_usb::DeviceInfo;

use super::update_run::UpdateRun;
use crate::bench::tracking::Absence;
use crate::update::confirm::Seen;

/// How often the bus is looked at while a person undoes something.
const LOOK: Duration = Duration::from_millis(100);

impl UpdateRun<'_, '_> {
    /// Shows what the user undoes at one moment, and waits for it where somebody is there.
    /// At the end nothing depends on it any more; then only what the bus shows is
    /// waited for.
    pub(super) fn undo(&mut self, steps: &[Undo], when: UndoPhase, unit: Option<&DeviceInfo>) {
        let of = steps.len();
        for (number, undo) in (1..).zip(steps) {
            let hand = ManualStep { action: undo.action.clone(), ..ManualStep::default() };
            let unit_name = self.progress.place().to_owned();
            self.cx.tell(Event::Hand { unit: unit_name, number, of, hand });
            let seen = match (undo.shows, unit) {
                (Some(sign), Some(unit)) if self.operator.is_there() => self.await_bus_event(sign, unit),
                _ if when == UndoPhase::End => None,
                _ => self.operator.has_done(&undo.action).then_some(true),
            };
            self.record_undo(undo, seen);
        }
    }

    fn record_undo(&mut self, undo: &Undo, seen: Option<bool>) {
        if seen == Some(true) {
            let unit = self.progress.place().to_owned();
            self.cx.mark_undone(&unit, &undo.action);
        }
        if seen == Some(false) {
            self.cx.warn(format!("Nothing on the bus shows yet that this was done: {}", undo.action));
        }
        self.progress.report.undo.push(UndoRecord { action: undo.action.clone(), seen: seen == Some(true) });
    }

    /// Waits until the bus shows what a person does.
    fn await_bus_event(&mut self, sign: BusEvent, unit: &DeviceInfo) -> Option<bool> {
        let bus = self.bench.bus(&unit.location)?.clone();
        let deadline = self.cx.now() + self.request.wait;
        let mut absence = Absence::of(unit);
        while self.cx.now() < deadline && !self.cx.wants_stop() {
            let there = bus.list().ok()?;
            absence.observe(self.bench, &there);
            let now = there.iter().find(|device| self.bench.is_same_port(&unit.location, &device.location));
            let is_seen = match sign {
                BusEvent::Gone => now.is_none(),
                BusEvent::Back => now.is_some_and(|device| absence.has_ended_with(device)),
            };
            if is_seen {
                return Some(true);
            }
            self.cx.clock().sleep(LOOK);
        }
        Some(false)
    }

    /// Asks a person what the unit shows, where the sheet says what that should be.
    pub(super) fn confirm_visually(&mut self, what: &[String], seen: &mut Seen) {
        if what.is_empty() || seen.after == RestartState::NotBack {
            return;
        }
        let list = what.join("; ");
        match self.operator.sees(what) {
            Some(true) => {
                seen.words = format!("{}; a person sees: {list}", seen.words);
                if seen.after == RestartState::Restarted {
                    seen.after = RestartState::Seen;
                }
            }
            Some(false) => {
                seen.after = RestartState::NotBack;
                seen.words = format!("{}, but a person does not see: {list}", seen.words);
            }
            None => self.cx.warn(format!("Nobody was asked what the unit shows; it should be: {list}.")),
        }
        self.progress.report.after = seen.after;
    }
}
