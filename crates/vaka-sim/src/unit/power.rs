//! The common part of all units: power, enumeration, buttons.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use super::{Condition, UserAction};
use crate::usb::Descriptors;

/// Time from power-on or a jump to enumeration. Chosen by us.
const START_TIME: Duration = Duration::from_millis(250);

/// A number that no enumeration had before: a host counts over all of a bus, so two units
/// never have the same one at one port. It fits the 16 bits that USB/IP has for it.
pub(crate) fn next_number() -> u32 {
    static LAST: AtomicU32 = AtomicU32::new(0);
    LAST.fetch_add(1, Ordering::Relaxed) % 0xFFFF + 1
}

/// Power and bus state of a unit with modes `M`.
#[derive(Debug)]
pub struct Power<M> {
    state: State<M>,
    enumeration: u32,
    held: BTreeSet<String>,
}

#[derive(Debug)]
enum State<M> {
    Unplugged,
    /// Off the bus until a time, then in the mode.
    Starting(Duration, M),
    Up(M, Box<Descriptors>),
    Silent,
    Bricked,
}

/// The effect of a user action.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ActionEffect<'a> {
    /// No immediate effect.
    Nothing,
    /// A button was tapped while the unit is powered and can run.
    Tapped(&'a str),
    /// Power is lost: the current operation is aborted, then [`Power::unplug`] is called.
    Pulled,
    /// Power is supplied.
    Plugged,
}

impl<M> Default for Power<M> {
    fn default() -> Self {
        Self::new()
    }
}

impl<M> Power<M> {
    /// A unit that is not plugged in.
    pub fn new() -> Self {
        Self { state: State::Unplugged, enumeration: 0, held: BTreeSet::new() }
    }

    /// Shows up on the bus.
    pub fn boot(&mut self, mode: M, descriptors: Descriptors) {
        self.enumeration = next_number();
        self.state = State::Up(mode, Box::new(descriptors));
    }

    /// Leaves the bus, to appear in a mode; without one it is bricked.
    pub fn start(&mut self, now: Duration, mode: Option<M>) {
        self.state = mode.map_or(State::Bricked, |mode| State::Starting(now + START_TIME, mode));
    }

    /// Leaves the bus while powered.
    pub fn hang(&mut self) {
        self.state = State::Silent;
    }

    /// The mode in which it appears now, if it was starting.
    pub fn due(&mut self, now: Duration) -> Option<M> {
        if !matches!(self.state, State::Starting(until, _) if now >= until) {
            return None;
        }
        match std::mem::replace(&mut self.state, State::Unplugged) {
            State::Starting(_, mode) => Some(mode),
            _ => None,
        }
    }

    /// The mode that it shows on the bus.
    pub fn mode(&mut self) -> Option<&mut M> {
        match &mut self.state {
            State::Up(mode, _) => Some(mode),
            _ => None,
        }
    }

    /// The same, to look at.
    pub fn shown(&self) -> Option<&M> {
        match &self.state {
            State::Up(mode, _) => Some(mode),
            _ => None,
        }
    }

    /// The descriptors, and the number of the enumeration.
    pub fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        match &self.state {
            State::Up(_, descriptors) => Some((self.enumeration, descriptors)),
            _ => None,
        }
    }

    /// The true condition; `of` gives that of a mode.
    pub fn condition(&self, of: impl FnOnce(&M) -> Condition) -> Condition {
        match &self.state {
            State::Unplugged => Condition::Unplugged,
            State::Starting(..) => Condition::Starting,
            State::Up(mode, _) => of(mode),
            State::Silent => Condition::Silent,
            State::Bricked => Condition::Bricked,
        }
    }

    /// Whether a button is held.
    pub fn holds(&self, button: &str) -> bool {
        self.held.contains(button)
    }

    /// Releases all buttons.
    pub fn release_all(&mut self) {
        self.held.clear();
    }

    /// Applies a user action.
    pub fn apply<'a>(&mut self, action: &'a UserAction) -> ActionEffect<'a> {
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
            UserAction::Tap(_)
            | UserAction::Pull
            | UserAction::Plug
            | UserAction::BadCable
            | UserAction::GoodCable
            | UserAction::Wire(_)
            | UserAction::Do(_)
            | UserAction::Undo(_)
            | UserAction::Slip(..) => ActionEffect::Nothing,
        }
    }

    /// Whether it has power.
    pub fn is_on(&self) -> bool {
        !matches!(self.state, State::Unplugged)
    }

    /// Removes the power.
    pub fn unplug(&mut self) {
        self.state = State::Unplugged;
    }
}
