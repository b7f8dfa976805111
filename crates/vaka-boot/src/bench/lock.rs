//! Locks that keep two processes from working on one unit.

use std::any::Any;

use vaka_usb::Location;

use crate::warning::Warning;

/// Locks units against other processes.
pub trait UnitLock: Send + Sync {
    /// Locks a unit until the returned value is dropped. `warn` learns whom the lock does not
    /// exclude.
    ///
    /// # Errors
    /// The process that holds the lock, as text for brackets.
    fn hold(&self, location: &Location, warn: &mut dyn FnMut(Warning)) -> Result<Box<dyn Any + Send>, String>;

    /// Names the other process that has locked a unit, without locking it.
    fn held_elsewhere(&self, location: &Location) -> Option<String> {
        let _ = location;
        None
    }

    /// Announces that a unit on a bus is wanted, until the returned value is dropped.
    fn want(&self, bus: &str) -> Box<dyn Any + Send> {
        let _ = bus;
        Box::new(())
    }
}
