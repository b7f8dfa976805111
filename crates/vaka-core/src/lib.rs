//! The product model and its rules; performs no I/O.
//!
//! The crate performs no I/O and has no clock, threads or output. From bottom to top: [`memory`],
//! [`dfu`] and [`volume`] (reports of units); [`sheet`] (products); [`matching`] (which image
//! fits which unit, and why); [`input`] (the files of an update); [`plan`] (the steps of an update); [`release`]; [`event`] (reports
//! of the work).

pub mod attached_unit;
pub mod dfu;
pub mod event;
pub mod input;
pub mod matching;
pub mod memory;
pub mod placeholder;
pub mod plan;
pub mod release;
pub mod schema;
pub mod settings_transfer;
pub mod sheet;
pub mod unit;
pub mod unit_state;
pub mod volume;
