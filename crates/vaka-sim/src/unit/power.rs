//! What every unit has, whatever runs in it: power, a place on the bus, buttons.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use super::{Condition, UserAction};
use crate::usb::Descriptors;

/// From power-on or a jump until the unit is enumerated. Chosen by us.
const START_TIME: Duration = Duration::from_millis(250);

/// A number that no enumeration had before: a host counts over all of a bus, so two units
/// never have the same one at one port. It fits the 16 bits that USB/IP has for it.
fn next_number() -> u32 {
    static LAST: AtomicU32 = AtomicU32::new(0);
    LAST.fetch_add(1, Ordering::Relaxed) % 0xFFFF + 1
}

/// The outside of a unit whose modes are `M`.
#[derive(Debug)]
pub(super) struct Power<M> {
    state: State<M>,
    enumeration: u32,
    held: BTreeSet<String>,
}

#[derive(Debug)]
enum State<M> {
    Unplugged,
    /// Dark until a time, then it comes up in the mode.
    Starting(Duration, M),
    Up(M, Box<Descriptors>),
    Silent,
    Bricked,
}

/// What a hand did to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ActionEffect<'a> {
    /// Nothing that takes effect at once.
    Nothing,
    /// A button was tapped while it has power and can still run.
    Tapped(&'a str),
    /// The power goes: what is under way is cut, then [`Power::unplug`].
    Pulled,
    /// The power comes.
    Plugged,
}

impl<M> Power<M> {
    /// Not plugged in.
    pub(super) fn new() -> Self {
        Self { state: State::Unplugged, enumeration: 0, held: BTreeSet::new() }
    }

    /// Shows up on the bus.
    pub(super) fn boot(&mut self, mode: M, face: Descriptors) {
        self.enumeration = next_number();
        self.state = State::Up(mode, Box::new(face));
    }

    /// Leaves the bus, to come up in a mode; without one it is bricked.
    pub(super) fn start(&mut self, now: Duration, mode: Option<M>) {
        self.state = mode.map_or(State::Bricked, |mode| State::Starting(now + START_TIME, mode));
    }

    /// Leaves the bus, and shows nothing while it has power.
    pub(super) fn hang(&mut self) {
        self.state = State::Silent;
    }

    /// The mode that it comes up in by now, if it was starting.
    pub(super) fn due(&mut self, now: Duration) -> Option<M> {
        if !matches!(self.state, State::Starting(until, _) if now >= until) {
            return None;
        }
        match std::mem::replace(&mut self.state, State::Unplugged) {
            State::Starting(_, mode) => Some(mode),
            _ => None,
        }
    }

    /// The mode that it shows on the bus.
    pub(super) fn mode(&mut self) -> Option<&mut M> {
        match &mut self.state {
            State::Up(mode, _) => Some(mode),
            _ => None,
        }
    }

    /// What it shows, and the number of that enumeration.
    pub(super) fn face(&self) -> Option<(u32, &Descriptors)> {
        match &self.state {
            State::Up(_, face) => Some((self.enumeration, face)),
            _ => None,
        }
    }

    /// What it is really doing; `of` says what a mode is.
    pub(super) fn condition(&self, of: impl FnOnce(&M) -> Condition) -> Condition {
        match &self.state {
            State::Unplugged => Condition::Unplugged,
            State::Starting(..) => Condition::Starting,
            State::Up(mode, _) => of(mode),
            State::Silent => Condition::Silent,
            State::Bricked => Condition::Bricked,
        }
    }

    /// Whether a button is held down.
    pub(super) fn holds(&self, button: &str) -> bool {
        self.held.contains(button)
    }

    /// Lets all buttons go.
    pub(super) fn release_all(&mut self) {
        self.held.clear();
    }

    /// Takes notice of a hand.
    pub(super) fn apply<'a>(&mut self, action: &'a UserAction) -> ActionEffect<'a> {
        let runs = matches!(self.state, State::Starting(..) | State::Up(..) | State::Silent);
        match action {
            UserAction::Hold(button) => {
                self.held.insert(button.clone());
                ActionEffect::Nothing
            }
            UserAction::Release(button) => {
                self.held.remove(button);
                ActionEffect::Nothing
            }
            UserAction::Tap(button) if runs => ActionEffect::Tapped(button),
            UserAction::Pull if runs => ActionEffect::Pulled,
            UserAction::Plug if matches!(self.state, State::Unplugged) => ActionEffect::Plugged,
            UserAction::Tap(_) | UserAction::Pull | UserAction::Plug | UserAction::BadCable | UserAction::GoodCable => {
                ActionEffect::Nothing
            }
        }
    }

    /// It has no power any more.
    pub(super) fn unplug(&mut self) {
        self.state = State::Unplugged;
    }
}
