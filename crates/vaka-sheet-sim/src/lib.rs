//! Simulated units that are made from a product sheet.
//!
//! A [`Design`] is what a sheet states of one variant: flash, modes, firmware, manual steps. A
//! [`SheetUnit`] is a unit of that design in a world of `vaka-sim`. Such a unit follows the sheet, so it
//! rehearses procedures, sheets and releases. It proves nothing about the real bootloader: if the sheet is
//! wrong, the simulated unit is wrong in the same way.

mod application;
mod design;
mod dfu;
mod dialect;
mod disk;
mod firmware;
mod mode;
mod procedures;
mod programmer;
mod unit;

pub use design::{Design, DesignError, Unsupported};
pub use procedures::NamedStep;
pub use programmer::SheetProgrammer;
pub use unit::{BUS, SheetUnit};
