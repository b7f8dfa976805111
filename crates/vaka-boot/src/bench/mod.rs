//! The bench: the units on the given buses, how each is recognised, found, opened and
//! followed when it re-enumerates.

pub mod buses;
pub mod companion_devices;
pub mod connection;
pub mod discovery;
pub mod tracking;
pub mod unit_event;
