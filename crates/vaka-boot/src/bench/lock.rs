//! Locks that keep two processes from working on one unit.

use std::any::Any;

use vaka_usb::Location;

/// Keeps two processes from working on one unit.
pub trait UnitLock: Send + Sync {
    /// Holds a unit until the returned value is dropped.
    ///
    /// # Errors
    /// Who holds it, in words that stand in brackets.
    fn hold(&self, location: &Location) -> Result<Box<dyn Any + Send>, String>;

    /// Names the process that locks a unit, if it is another process. Takes no lock.
    fn held_elsewhere(&self, location: &Location) -> Option<String> {
        let _ = location;
        None
    }

    /// Says that a unit of a bus is wanted, until the returned value is dropped.
    fn want(&self, bus: &str) -> Box<dyn Any + Send> {
        let _ = bus;
        Box::new(())
    }
}
