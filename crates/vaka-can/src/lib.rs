//! CAN buses: frames, the transport of longer messages, and two ways to the wire.
//!
//! An [`Adapter`] sends and receives frames over a USB device that has the requests and pipes of the
//! kernel's driver `gs_usb`: an adapter on a USB port, or a network interface of this system, which
//! [`interface`] presents in the same form. [`isotp`] is the pure state machine of ISO 15765-2.

pub mod adapter;
pub mod error;
pub mod frame;
#[cfg(target_os = "linux")]
pub mod interface;
pub mod isotp;
mod timing;
pub mod wire;

pub use adapter::{Adapter, BusSettings};
pub use error::CanError;
pub use frame::{CanFrame, CanId};
