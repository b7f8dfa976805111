//! Carries out firmware updates: engines for each way of updating, the ways
//! into and out of update mode, and the executor.
//!
//! Everything here is blocking, runs over `&dyn Bus` and `&dyn Clock`, and
//! tells what happens as [`Event`](vaka_core::event::Event)s. It prints
//! nothing. [`update::run`] is the whole job from the first look to the
//! confirmation.

pub mod bench;
pub mod companions;
pub mod confirm;
pub mod dfu;
pub mod dialect;
pub mod entry;
pub mod executor;
pub mod hunt;
pub mod identify;
pub mod opened;
pub mod pace;
pub mod person;
pub mod same;
pub mod seen;
pub mod serial;
pub mod session;
pub mod staged;
pub mod update;
pub mod visit;
pub mod volume;
