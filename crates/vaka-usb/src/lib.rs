//! USB as the engines need it, and what stands behind it.
//!
//! Three small traits: a [`Bus`] lists and opens devices, a [`UsbDevice`]
//! performs transfers, a [`Clock`] tells and waits. Everything is blocking:
//! a USB port has few requests in flight, and a thread for each unit is
//! enough. Behind the traits stand backends; [`usbip`] is one, stand-ins in
//! process (in `vaka-sim`) are another, and the machine's own USB will be a
//! third, in a module `native`.

pub mod bus;
pub mod clock;
pub mod counting;
pub mod descriptor;
pub mod device;
pub mod strings;
pub mod usbip;

pub use bus::{Bus, BusError, Change, DeviceInfo, InterfaceClass, Location, PolledWatch, Speed};
pub use clock::{Clock, SystemClock};
pub use device::{Setup, TransferError, UsbDevice};
