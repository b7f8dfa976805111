//! A simulated unit driven by raw DFU requests, in virtual time.

#![allow(dead_code, unreachable_pub, clippy::unwrap_used)] // no test uses all of it; a panic is its message

use std::sync::Arc;
use std::time::Duration;

use vaka_sim::World;
use vaka_sim::clock::VirtualClock;
use vaka_sim::unit::Unit;
use vaka_sim::usb::{Answer, Setup};
use vaka_usb::Clock;

/// A unit at port 1-1, and one of its interfaces.
pub struct Raw {
    pub world: World,
    clock: Arc<VirtualClock>,
    enumeration: u32,
    interface: u16,
}

impl Raw {
    pub fn new(unit: impl Unit + 'static, interface: u16) -> Self {
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        world.plug("1-1", Box::new(unit), Vec::new());
        let enumeration = world.unit("1-1").unwrap().descriptors().unwrap().0;
        Self { world, clock, enumeration, interface }
    }

    /// `None` once the unit has left.
    #[allow(clippy::too_many_arguments)] // the parts of a control request
    pub fn try_send(&mut self, kind: u8, request: u8, value: u16, length: u16, data: &[u8]) -> Option<Answer> {
        let setup = Setup { kind, request, value, index: self.interface, length };
        self.world.control("1-1", self.enumeration, setup, data)
    }

    #[allow(clippy::too_many_arguments)] // the parts of a control request
    pub fn send(&mut self, kind: u8, request: u8, value: u16, length: u16, data: &[u8]) -> Answer {
        self.try_send(kind, request, value, length, data).unwrap()
    }

    pub fn download(&mut self, block: u16, data: &[u8]) -> Answer {
        self.send(0x21, 1, block, u16::try_from(data.len()).unwrap(), data)
    }

    /// Status, poll time in ms, state.
    pub fn status(&mut self) -> (u8, u32, u8) {
        match self.send(0xA1, 3, 0, 6, &[]) {
            Answer::Data(bytes) => (bytes[0], u32::from_le_bytes([bytes[1], bytes[2], bytes[3], 0]), bytes[4]),
            other => panic!("{other:?}"),
        }
    }

    /// Whether it was still there.
    pub fn bus_reset(&mut self) -> bool {
        self.world.bus_reset("1-1", self.enumeration)
    }

    /// Goes on with what the unit has come back as.
    pub fn open_again(&mut self) {
        self.enumeration = self.unit().descriptors().unwrap().0;
    }

    pub fn unit(&mut self) -> &mut (dyn Unit + 'static) {
        self.world.unit("1-1").unwrap()
    }

    pub fn wait(&self, ms: u64) {
        self.clock.sleep(Duration::from_millis(ms));
    }
}
