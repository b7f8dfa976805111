//! Time, events and the wish to stop: what every engine is given.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use vaka_core::event::{Event, milliseconds};
use vaka_usb::Clock;

/// A silence of this length is told. Chosen by us: about when people begin to
/// wonder whether it hangs.
const SIGN_OF_LIFE: Duration = Duration::from_secs(2);

/// Waits, tells, and knows whether somebody wants it to end.
pub struct Pace<'a> {
    clock: &'a dyn Clock,
    tell: &'a mut dyn FnMut(Event),
    stop: &'a AtomicBool,
}

impl<'a> Pace<'a> {
    /// `tell` gets every event; `stop` is set when a person wants it to end.
    pub fn new(clock: &'a dyn Clock, tell: &'a mut dyn FnMut(Event), stop: &'a AtomicBool) -> Self {
        Self { clock, tell, stop }
    }

    /// The clock.
    pub fn clock(&self) -> &'a dyn Clock {
        self.clock
    }

    /// The time.
    pub fn now(&self) -> Duration {
        self.clock.now()
    }

    /// Tells an event.
    pub fn tell(&mut self, event: Event) {
        (self.tell)(event);
    }

    /// Tells a warning.
    pub fn warn(&mut self, text: impl Into<String>) {
        self.tell(Event::Warning { text: text.into() });
    }

    /// Whether a person wants it to end at the next safe point.
    pub fn wants_stop(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    /// Waits until `moment`, with a sign of life where that is long. Does not
    /// end early: a unit at work must be left alone.
    pub fn wait_until(&mut self, moment: Duration, what: &str) {
        loop {
            let left = moment.saturating_sub(self.now());
            if left.is_zero() {
                return;
            }
            self.clock.sleep(left.min(SIGN_OF_LIFE));
            if left > SIGN_OF_LIFE {
                self.waiting(what, moment);
            }
        }
    }

    /// Tells what is waited for, and how long that may still take.
    pub fn waiting(&mut self, what: &str, until: Duration) {
        let left_ms = Some(milliseconds(until.saturating_sub(self.now())));
        self.tell(Event::Waiting { waiting_for: what.to_owned(), left_ms });
    }
}
