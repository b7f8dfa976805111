//! Undo of manual steps, and visible signs.

use vaka_core::event::{RestartState, UndoRecord};
use vaka_core::sheet::{BusEvent, ManualStep, Undo, UndoPhase};
use vaka_usb::DeviceInfo;

use super::update_run::UpdateRun;
use crate::bench::waiting::UnitWatch;
use crate::event::Event;
use crate::update::confirm::RestartOutcome;
use crate::warning::Warning;

impl UpdateRun<'_, '_> {
    /// Shows the undo actions of a phase, and waits for each if an operator is present. At the
    /// end nothing depends on them any more, so only bus events are awaited.
    pub(super) fn undo(&mut self, steps: &[Undo], when: UndoPhase, unit: Option<&DeviceInfo>) {
        let of = steps.len();
        for (number, undo) in (1..).zip(steps) {
            let step = ManualStep { action: undo.action.clone(), ..ManualStep::default() };
            let unit_name = self.progress.place().to_owned();
            self.cx.tell(Event::ManualStep { unit: unit_name, number, of, step });
            let seen = match (undo.shows, unit) {
                (Some(sign), Some(unit)) if self.operator.is_there() => self.await_bus_event(sign, unit),
                _ if when == UndoPhase::End => None,
                _ => self.operator.await_done(&undo.action).then_some(true),
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
            self.cx.warn(Warning::UndoNotSeen { action: undo.action.clone() });
        }
        self.progress.report.undo.push(UndoRecord { action: undo.action.clone(), done: seen == Some(true) });
    }

    /// Waits for the bus event of a manual step; `None` if the bus cannot be watched.
    fn await_bus_event(&mut self, sign: BusEvent, unit: &DeviceInfo) -> Option<bool> {
        let mut watch = UnitWatch::from_nothing(self.bench, unit, self.request.wait, self.cx.clock()).ok()?;
        loop {
            watch.next(self.cx).ok()?;
            let is_seen = match sign {
                BusEvent::Gone => watch.on_port().is_none(),
                BusEvent::Back => watch.on_port().is_some_and(|device| watch.has_returned_as(device)),
            };
            if is_seen {
                return Some(true);
            }
            let what = || match sign {
                BusEvent::Gone => "the unit to leave the bus".to_owned(),
                BusEvent::Back => "the unit to return to the bus".to_owned(),
            };
            if watch.wait().check(what, self.cx).is_some() {
                return Some(false);
            }
        }
    }

    /// Asks the operator whether the unit shows the signs in the sheet.
    pub(super) fn confirm_visually(&mut self, what: &[String], seen: &mut RestartOutcome) {
        if what.is_empty() || seen.after == RestartState::NotBack {
            return;
        }
        let list = what.join("; ");
        match self.operator.sees(what) {
            Some(true) => {
                seen.words = format!("{}; confirmed by the operator: {list}", seen.words);
                if seen.after == RestartState::Restarted {
                    seen.after = RestartState::Seen;
                }
            }
            Some(false) => {
                seen.after = RestartState::NotBack;
                seen.words = format!("{}, but the operator did not see: {list}", seen.words);
            }
            None => self.cx.warn(Warning::NotAsked { expected: list }),
        }
        self.progress.report.after = seen.after;
    }
}
