//! A device that counts its transfers.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use crate::device::{Pipe, Setup, TransferError, UsbDevice};

/// Wraps a device and counts every transfer that is begun on it.
pub struct Counting {
    device: Box<dyn UsbDevice>,
    count: Arc<AtomicU64>,
}

/// Reads the count of a [`Counting`] device.
#[derive(Clone, Debug, Default)]
pub struct TransferCount(Arc<AtomicU64>);

impl TransferCount {
    /// Transfers so far.
    pub fn get(&self) -> u64 {
        self.0.load(Ordering::Relaxed)
    }
}

impl Counting {
    /// Wraps `device`; the second value reads the count.
    pub fn new(device: Box<dyn UsbDevice>) -> (Self, TransferCount) {
        let count = TransferCount::default();
        (Self { device, count: count.0.clone() }, count)
    }

    fn one_more(&self) {
        self.count.fetch_add(1, Ordering::Relaxed);
    }
}

impl UsbDevice for Counting {
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

    fn pipe_in(&mut self, pipe: Pipe, length: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.one_more();
        self.device.pipe_in(pipe, length, timeout)
    }

    fn pipe_out(&mut self, pipe: Pipe, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.one_more();
        self.device.pipe_out(pipe, data, timeout)
    }

    fn clear_halt(&mut self, pipe: Pipe) -> Result<(), TransferError> {
        self.one_more();
        self.device.clear_halt(pipe)
    }

    fn takes_notes(&self) -> bool {
        self.device.takes_notes()
    }

    fn note(&mut self, dialect: &str, operation: &str, given: &[(String, String)]) {
        self.device.note(dialect, operation, given);
    }

    fn has_left(&mut self, within: Duration) -> bool {
        self.device.has_left(within)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.one_more();
        self.device.reset()
    }
}
