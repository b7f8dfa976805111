//! The machine's own USB ports on untested operating systems: refused, with an alternative. See
//! `docs/other-systems.md`.

use crate::bus::{Bus, BusError, DeviceInfo};
use crate::device::UsbDevice;

/// The machine's own ports as a bus that cannot be used here.
#[derive(Debug, Default)]
pub struct NativeBus;

impl NativeBus {
    /// The name of this bus.
    pub const NAME: &'static str = "usb";

    /// The bus.
    pub fn new() -> Self {
        Self
    }

    fn refused() -> BusError {
        BusError::Unavailable("its own ports are supported on Linux only; see 'vaka help other-systems'".to_owned())
    }
}

impl Bus for NativeBus {
    fn name(&self) -> &str {
        Self::NAME
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        Err(Self::refused())
    }

    fn open(&self, _: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        Err(Self::refused())
    }
}
