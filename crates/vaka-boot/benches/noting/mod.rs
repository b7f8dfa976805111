//! A bus that notes when a unit is spoken to for the first time.

#![allow(unreachable_pub)] // programs of their own use it

use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use vaka_usb::{Bus, BusError, Clock, DeviceInfo, Setup, TransferError, UsbDevice};

/// When the first transfer began.
pub type First = Arc<Mutex<Option<Instant>>>;

/// A bus that notes the first transfer.
pub struct Noting<B>(pub B, pub First);

impl<B: Bus> Bus for Noting<B> {
    fn name(&self) -> &str {
        self.0.name()
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        self.0.list()
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        Ok(Box::new(Noted(self.0.open(port)?, self.1.clone())))
    }

    fn resets_on_close(&self) -> bool {
        self.0.resets_on_close()
    }

    fn await_change(&self, clock: &dyn Clock, interval: Duration, at_most: Duration) {
        self.0.await_change(clock, interval, at_most);
    }
}

struct Noted(Box<dyn UsbDevice>, First);

impl Noted {
    fn began(&self) {
        self.1.lock().unwrap().get_or_insert_with(Instant::now);
    }
}

impl UsbDevice for Noted {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let reply = self.0.control_in(setup, length, timeout);
        self.began();
        reply
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.0.control_out(setup, data, timeout)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        self.0.claim(interface, alternate)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.0.reset()
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.0.wait_for_disconnect(within)
    }
}
