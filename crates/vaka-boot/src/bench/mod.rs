//! The bench: recognition, discovery, opening and tracking of units on the given buses.

pub mod adapter_source;
pub mod buses;
pub mod candidate;
pub mod companion_devices;
pub mod connection;
pub mod discovery;
pub mod lock;
pub mod node_bus;
pub mod open_error;
pub mod programmer_bus;
pub mod returning;
pub mod selector;
pub mod serial_access;
mod shared_device;
pub mod target;
pub mod tracking;
pub mod unit_event;
pub(crate) mod waiting;
