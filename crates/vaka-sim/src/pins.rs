//! The pins by which a programmer writes the chip of another unit.

use std::time::Duration;

use crate::flash::Flash;

/// The chip of a unit, as a programmer reaches it.
pub trait Pins {
    /// Its signature: the kind of chip.
    fn signature(&self) -> u32;

    /// Whether it is locked: then its flash can neither be read nor written.
    fn is_locked(&self) -> bool;

    /// Locks it.
    fn lock(&mut self);

    /// Erases all of its flash, and lifts the lock.
    fn wipe(&mut self);

    /// Holds it in reset: the unit leaves the bus.
    fn hold(&mut self);

    /// Releases it: the unit starts as after power-on, if it has power of its own.
    fn release(&mut self, now: Duration);

    /// Its flash.
    fn flash(&mut self) -> &mut Flash;
}

/// A board that is wired to the pins of another unit.
pub trait Probe {
    /// The port of that unit.
    fn target(&self) -> &str;

    /// Does on the pins what it was asked for. `pins` is `None` if that unit has none.
    fn work(&mut self, now: Duration, pins: Option<&mut dyn Pins>);
}

/// The wires between a programmer and a unit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Wiring {
    /// As they should be.
    #[default]
    Right,
    /// Two of them are swapped.
    Crossed,
    /// None.
    Off,
}
