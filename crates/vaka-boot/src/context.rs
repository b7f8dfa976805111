//! The context of every engine: clock, events and stop requests.

use crate::event::Event;
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;
use crate::warning::Warning;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use vaka_core::event::milliseconds;
use vaka_core::sheet::{ManualStep, undo_order};
use vaka_usb::Clock;

/// Emit a sign of life after this time of silence. Chosen by us: about when users begin to
/// suspect a hang.
const SIGN_OF_LIFE: Duration = Duration::from_secs(2);

/// Interval for checking stop requests during such a silence.
const LOOK_UP: Duration = Duration::from_millis(250);

/// Clock, event sink and stop request of a run.
pub struct Context<'a> {
    clock: &'a dyn Clock,
    tell: &'a mut dyn FnMut(Event),
    stop: &'a AtomicBool,
    /// Manual steps that were shown and are not known to be undone.
    pending_undo: Vec<ManualStep>,
}

impl<'a> Context<'a> {
    /// `tell` receives every event; `stop` is set when the user requests a stop.
    pub fn new(clock: &'a dyn Clock, tell: &'a mut dyn FnMut(Event), stop: &'a AtomicBool) -> Self {
        Self { clock, tell, stop, pending_undo: Vec::new() }
    }

    /// The clock.
    pub fn clock(&self) -> &'a dyn Clock {
        self.clock
    }

    /// The time.
    pub fn now(&self) -> Duration {
        self.clock.now()
    }

    /// Emits an event. A manual step with an undo becomes pending when it is shown to the user.
    pub fn tell(&mut self, event: Event) {
        let shown = match &event {
            // Advice without a unit is not a step of this run.
            Event::ManualStep { unit, step, .. } if step.undo.is_some() && !unit.is_empty() => {
                Some((unit.clone(), step.clone()))
            }
            _ => None,
        };
        (self.tell)(event);
        let Some((unit, step)) = shown.filter(|(_, step)| !self.pending_undo.contains(step)) else { return };
        self.pending_undo.push(step);
        self.emit_pending_undo(unit);
    }

    /// The pending undo actions, in order.
    pub fn pending_undo(&self) -> Vec<String> {
        let steps: Vec<&ManualStep> = self.pending_undo.iter().collect();
        undo_order(&steps).into_iter().map(|undo| undo.action.clone()).collect()
    }

    /// Removes a step from the pending ones: it was observed, or the user confirmed it.
    pub fn mark_undone(&mut self, unit: &str, action: &str) {
        let before = self.pending_undo.len();
        self.pending_undo.retain(|step| step.undo.as_ref().is_none_or(|undo| undo.action != action));
        if self.pending_undo.len() != before {
            self.emit_pending_undo(unit.to_owned());
        }
    }

    fn emit_pending_undo(&mut self, unit: String) {
        let steps = self.pending_undo();
        (self.tell)(Event::PendingUndo { unit, steps });
    }

    /// Emits a warning.
    pub fn warn(&mut self, warning: Warning) {
        self.tell(Event::Warning { text: warning });
    }

    /// Whether the user requested a stop at the next safe point.
    pub fn stop_requested(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    /// Waits until `moment`, with a sign of life if that is long. Does not end early: a busy unit
    /// must not be disturbed. If a stop is requested meanwhile, a warning explains why the wait
    /// continues.
    pub fn wait_until(&mut self, moment: Duration, what: &str) {
        let mut next_sign = self.now() + SIGN_OF_LIFE;
        let mut is_reported = false;
        loop {
            let left = moment.saturating_sub(self.now());
            if left.is_zero() {
                return;
            }
            if self.stop_requested() && left > LOOK_UP && !std::mem::replace(&mut is_reported, true) {
                self.warn(Warning::StoppingLater { left, waiting_for: what.to_owned() });
            }
            self.clock.sleep(left.min(LOOK_UP));
            if self.now() >= next_sign && self.now() < moment {
                self.waiting(what, moment);
                next_sign = self.now() + SIGN_OF_LIFE;
            }
        }
    }

    /// Emits the awaited event and the remaining time.
    pub fn waiting(&mut self, what: &str, until: Duration) {
        let left_ms = Some(milliseconds(until.saturating_sub(self.now())));
        self.tell(Event::Waiting { waiting_for: what.to_owned(), left_ms });
    }
}

/// The failure of a run that the user stops.
pub(crate) fn stopped() -> Failure {
    Failure::new(FailureKind::Stopped).remedy(Remedy::RunAgainToResume)
}

#[cfg(test)]
mod tests {
    use vaka_sim::clock::VirtualClock;
    use vaka_usb::Clock;

    use super::*;

    /// A long wait runs to its end; a stop request gets one warning with the reason.
    #[test]
    fn a_unit_at_work_is_left_alone_and_that_is_reported() {
        for (length, stop_requested, told, signs) in
            [(10, false, 0, 4), (10, true, 1, 4), (1, true, 1, 0), (0, true, 0, 0)]
        {
            let (clock, stop) = (VirtualClock::default(), AtomicBool::new(stop_requested));
            let (mut warnings, mut waits) = (Vec::new(), 0);
            let mut tell = |event: Event| match event {
                Event::Warning { text } => warnings.push(text),
                Event::Waiting { .. } => waits += 1,
                _ => {}
            };
            let mut cx = Context::new(&clock, &mut tell, &stop);
            let until = cx.now() + Duration::from_secs(length);
            cx.wait_until(until, "the unit to erase all");
            assert_eq!((clock.now(), waits), (until, signs), "{length} {stop_requested}");
            assert_eq!(warnings.len(), told, "{warnings:?}");
            let says_why = |warning: &Warning| matches!(warning, Warning::StoppingLater { waiting_for, .. } if waiting_for == "the unit to erase all");
            assert!(warnings.iter().all(says_why), "{warnings:?}");
        }
    }
}
