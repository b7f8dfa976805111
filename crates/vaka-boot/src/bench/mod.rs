//! The bench: the units on the given buses, how each is recognised, found, opened and
//! followed when it re-enumerates.

pub mod buses;
pub mod candidate;
pub mod companion_devices;
pub mod connection;
pub mod discovery;
pub mod lock;
pub mod open_error;
pub mod returning;
pub mod selector;
pub mod tracking;
pub mod unit_event;
pub(crate) mod waiting;
