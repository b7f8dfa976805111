//! The way to a unit's serial port: its own interfaces, or the port that the system made of it.

use vaka_usb::strings::{self, Patience};
use vaka_usb::{Bus, BusError, SystemClock, UsbDevice};

use crate::protocol::serial::SerialPort;

/// Which serial port of a unit is used, and how.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SerialAccess {
    /// bInterfaceNumber of the interface with the data; the first one without it.
    pub interface: Option<u8>,
    /// Whether only the port of the system is used.
    pub system_only: bool,
}

impl SerialAccess {
    /// Opens the port on the unit at `port`, or takes the unit that is open: through its own interfaces
    /// if they are those of CDC-ACM and the user may use them, otherwise through the system's port.
    ///
    /// # Errors
    /// The unit cannot be opened either way. A unit without any port is opened.
    pub fn open(
        self,
        bus: &dyn Bus,
        port: &str,
        opened: Option<Box<dyn UsbDevice>>,
    ) -> Result<Box<dyn UsbDevice>, BusError> {
        if self.system_only {
            drop(opened);
            return bus.open_serial(port, self.interface);
        }
        match opened.map_or_else(|| bus.open(port), Ok) {
            Err(denied @ BusError::PermissionDenied { .. }) => match bus.open_serial(port, self.interface) {
                Err(BusError::NoSerialPort(_)) => Err(denied),
                opened => opened,
            },
            Err(error) => Err(error),
            Ok(mut device) => {
                if device.node().is_some() || self.is_own(&mut *device) || bus.serial_ports(port).is_empty() {
                    return Ok(device);
                }
                drop(device);
                bus.open_serial(port, self.interface)
            }
        }
    }

    /// Whether the unit's own interfaces are the port. If it does not describe them, its next user meets
    /// the same error.
    fn is_own(self, device: &mut dyn UsbDevice) -> bool {
        let described = strings::configuration(device, &mut Patience::new(&SystemClock));
        described.is_ok_and(|found| SerialPort::is_in(&found, self.interface))
    }
}
