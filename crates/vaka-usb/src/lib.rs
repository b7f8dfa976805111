//! USB access for the engines, with its backends.
//!
//! Three small traits: a [`Bus`] lists and opens devices, a [`UsbDevice`] performs transfers, a
//! [`Clock`] measures time and waits. All calls block: a USB port has few requests in flight, and
//! one thread per unit suffices. The backends are [`native`] for the machine's own ports,
//! [`usbip`] for a server, and simulated units in process (in `vaka-sim`).

pub mod bus;
pub mod clock;
pub mod counting;
pub mod descriptor;
pub mod device;
pub mod kernel_log;
pub mod mounts;
#[cfg(target_os = "linux")]
pub mod native;
#[cfg(not(target_os = "linux"))]
#[path = "native_elsewhere.rs"]
pub mod native;
#[cfg(target_os = "linux")]
pub mod port_device;
mod sockets;
pub mod strings;
pub mod system;
#[cfg(target_os = "linux")]
pub mod system_port;
pub mod trace;
pub mod trace_format;
pub mod usbip;

pub use bus::{
    Behind, Bus, BusError, DeviceInfo, HotplugEvent, InterfaceClass, Location, NodeInfo, NodeValue, PolledWatch,
    SerialNode, Speed,
};
pub use clock::{Clock, SystemClock};
pub use device::{EndpointInfo, MAX_PIPE_TRANSFER, PipeKind, Setup, TransferError, UsbDevice};
