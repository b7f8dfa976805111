//! Update modes and applications that speak a dialect. The device side is derived from the dialect.

mod dfu;
mod engine;
mod hid;
mod mode;
mod node;
mod pipes;
mod scsi;
mod serial;

pub(crate) use engine::{Engine, Role};
pub(crate) use mode::DialectMode;
pub(crate) use serial::{SerialCarrier, VersionLine};
