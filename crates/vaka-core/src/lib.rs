//! The product model and its rules; performs no I/O.
//!
//! Bytes and values come in, values go out: no clock, no threads, no output. From bottom to
//! top: [`memory`], [`dfu`] and [`volume`] (what units report); [`sheet`] (a product);
//! [`matching`] (which image fits which unit, and why); [`plan`] (what is done); [`release`];
//! [`event`] (what is reported).

pub mod dfu;
pub mod event;
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
