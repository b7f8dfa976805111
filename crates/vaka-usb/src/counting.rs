//! A device that counts its transfers.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::device::{EndpointInfo, Setup, TransferError, UsbDevice};

/// Wraps a device and counts every transfer that is begun on it.
pub struct CountingDevice {
    device: Box<dyn UsbDevice>,
    count: Arc<AtomicU64>,
}

/// Reads the count of a [`CountingDevice`] device.
#[derive(Clone, Debug, Default)]
pub struct TransferCount(Arc<AtomicU64>);

impl TransferCount {
    /// Transfers so far.
    pub fn get(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

impl CountingDevice {
    /// Wraps `device`; the second value reads the count.
    pub fn new(device: Box<dyn UsbDevice>) -> (Self, TransferCount) {
        let count = TransferCount::default();
        (Self { device, count: count.0.clone() }, count)
    }

    fn one_more(&self) {
        self.count.fetch_add(1, Ordering::Relaxed);
    }
}

impl UsbDevice for CountingDevice {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.one_more();
        self.device.control_in(setup, length, timeout)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.one_more();
        self.device.control_out(setup, data, timeout)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        self.one_more();
        self.device.claim(interface, alternate)
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        self.one_more();
        self.device.read_endpoint(pipe, length, timeout)
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.one_more();
        self.device.write_endpoint(pipe, data, timeout)
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        self.one_more();
        self.device.clear_halt(pipe)
    }

    fn takes_notes(&self) -> bool {
        self.device.takes_notes()
    }

    fn conceal(&mut self, is_secret: bool) {
        self.device.conceal(is_secret);
    }

    fn note(&mut self, dialect: &str, operation: &str, given: &[(String, String)]) {
        self.device.note(dialect, operation, given);
    }

    fn node(&self) -> Option<&Path> {
        self.device.node()
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.device.wait_for_disconnect(within)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.one_more();
        self.device.reset()
    }
}
