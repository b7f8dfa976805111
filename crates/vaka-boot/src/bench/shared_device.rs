//! A device through which units are reached: an adapter or a programmer.

use std::any::Any;
use std::path::Path;
use std::time::Duration;

use vaka_usb::{EndpointInfo, Setup, TransferError, UsbDevice};

/// An open device through which a unit is reached.
pub(super) struct SharedDevice {
    // The device is closed before its use ends.
    device: Box<dyn UsbDevice>,
    _use: Box<dyn Any + Send>,
}

impl SharedDevice {
    /// The device, with a value that is dropped after it is closed.
    pub(super) fn new(device: Box<dyn UsbDevice>, end: Box<dyn Any + Send>) -> Self {
        Self { device, _use: end }
    }
}

impl UsbDevice for SharedDevice {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.device.control_in(setup, length, timeout)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.device.control_out(setup, data, timeout)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        self.device.claim(interface, alternate)
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        self.device.read_endpoint(pipe, length, timeout)
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.device.write_endpoint(pipe, data, timeout)
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        self.device.clear_halt(pipe)
    }

    fn takes_notes(&self) -> bool {
        self.device.takes_notes()
    }

    fn note(&mut self, dialect: &str, operation: &str, given: &[(String, String)]) {
        self.device.note(dialect, operation, given);
    }

    fn conceal(&mut self, is_secret: bool) {
        self.device.conceal(is_secret);
    }

    fn node(&self) -> Option<&Path> {
        self.device.node()
    }

    /// It stays when that unit leaves.
    fn wait_for_disconnect(&mut self, _: Duration) -> bool {
        false
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.device.reset()
    }
}
