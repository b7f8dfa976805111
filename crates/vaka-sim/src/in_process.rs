//! A world as a bus, with no wire between.

use std::sync::Arc;
use std::time::Duration;

use vaka_usb::{
    Bus, BusError, Clock, DeviceInfo, EndpointInfo, InterfaceClass, Location, Setup, Speed, TransferError, UsbDevice,
};

use crate::usb::{self, Answer, Bulk};
use crate::world::{DeviceListing, OpenError, SharedWorld, lock};

/// A world as a bus. Transfers take no time; waiting happens on `clock`, which must be the clock
/// of the world.
pub struct SimBus {
    world: SharedWorld,
    clock: Arc<dyn Clock>,
}

impl SimBus {
    /// The name of every such bus.
    pub const NAME: &'static str = "sim";

    /// A bus of `world`, which goes by `clock`.
    pub fn new(world: SharedWorld, clock: Arc<dyn Clock>) -> Self {
        Self { world, clock }
    }
}

impl Bus for SimBus {
    fn name(&self) -> &str {
        Self::NAME
    }

    fn resets_on_close(&self) -> bool {
        true
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        Ok(lock(&self.world).list().into_iter().map(info).collect())
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let location = Location { bus: Self::NAME.into(), port: port.to_owned() };
        let listed = lock(&self.world).open(port).map_err(|error| match error {
            OpenError::NotThere => BusError::NotFound(location.clone()),
            OpenError::InUse => BusError::Busy(location.clone()),
        })?;
        let (world, clock) = (self.world.clone(), self.clock.clone());
        Ok(Box::new(SimDevice { world, clock, port: listed.port, enumeration: listed.enumeration }))
    }
}

fn info(listed: DeviceListing) -> DeviceInfo {
    let (vendor, product, release) = listed.ids;
    let interface = |[class, subclass, protocol]: [u8; 3]| InterfaceClass { class, subclass, protocol };
    DeviceInfo {
        location: Location { bus: SimBus::NAME.into(), port: listed.port },
        address: listed.enumeration,
        speed: Speed::Full,
        vendor,
        product,
        release,
        interfaces: listed.classes.into_iter().map(interface).collect(),
        product_text: None,
        serial: None,
        node: None,
    }
}

struct SimDevice {
    world: SharedWorld,
    clock: Arc<dyn Clock>,
    port: String,
    enumeration: u32,
}

/// Intervals at which a host asks a busy endpoint again. Source: USB 2.0, section 8.4.3: microframes at first;
/// then longer, so that a long work costs few steps.
const FIRST_POLL: Duration = Duration::from_micros(125);
const SLOWEST_POLL: Duration = Duration::from_millis(1);

impl SimDevice {
    fn control(&mut self, setup: [u8; 8], data: &[u8], timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let setup = usb::Setup::parse(setup);
        let answer = lock(&self.world).control(&self.port, self.enumeration, setup, data);
        match answer {
            None => Err(TransferError::Disconnected),
            Some(Answer::Data(bytes)) if bytes.len() > usize::from(setup.length) => Err(TransferError::Overflow),
            Some(Answer::Data(bytes)) => Ok(bytes),
            Some(Answer::Done) => Ok(Vec::new()),
            Some(Answer::Stall) => Err(TransferError::Stall),
            Some(Answer::Silent | Answer::Busy) => {
                self.clock.sleep(timeout);
                Err(TransferError::Timeout)
            }
        }
    }

    /// A bulk transfer, repeated while the unit is busy.
    fn bulk(&mut self, transfer: Bulk<'_>, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let deadline = self.clock.now() + timeout;
        let (mut again, mut pause) = (false, FIRST_POLL);
        loop {
            let answer = lock(&self.world).bulk(&self.port, self.enumeration, transfer, again);
            let left = deadline.saturating_sub(self.clock.now());
            match answer {
                None => return Err(TransferError::Disconnected),
                Some(Answer::Data(bytes)) => match transfer {
                    Bulk::In(_, length) if bytes.len() <= length => return Ok(bytes),
                    _ => return Err(TransferError::Overflow),
                },
                Some(Answer::Done) => return Ok(Vec::new()),
                Some(Answer::Stall) => return Err(TransferError::Stall),
                Some(Answer::Silent) => {
                    self.clock.sleep(left);
                    return Err(TransferError::Timeout);
                }
                Some(Answer::Busy) if left.is_zero() => return Err(TransferError::Timeout),
                Some(Answer::Busy) => {
                    self.clock.sleep(left.min(pause));
                    pause = (pause * 2).min(SLOWEST_POLL);
                }
            }
            again = true;
        }
    }
}

impl UsbDevice for SimDevice {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.control(setup.bytes(length), &[], timeout)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let length = u16::try_from(data.len()).map_err(|_| TransferError::Unsupported("more than 65535 bytes"))?;
        self.control(setup.bytes(length), data, timeout).map(drop)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        let setup = Setup { kind: 0x01, request: 11, value: u16::from(alternate), index: u16::from(interface) };
        self.control_out(setup, &[], Duration::from_secs(5))
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        self.bulk(Bulk::In(pipe.address & 0x0F, length), timeout)
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.bulk(Bulk::Out(pipe.address, data), timeout).map(drop)
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        // Source: USB 2.0, section 9.4.1.
        let setup = Setup { kind: 0x02, request: 1, value: 0, index: u16::from(pipe.address) };
        self.control_out(setup, &[], Duration::from_secs(5))
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        const LOOK: Duration = Duration::from_millis(1);
        let deadline = self.clock.now() + within;
        while lock(&self.world).is_present(&self.port, self.enumeration) {
            if self.clock.now() >= deadline {
                return false;
            }
            self.clock.sleep(LOOK);
        }
        true
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        match lock(&self.world).bus_reset(&self.port, self.enumeration) {
            true => Ok(()),
            false => Err(TransferError::Disconnected),
        }
    }
}

impl Drop for SimDevice {
    fn drop(&mut self) {
        lock(&self.world).close(&self.port, self.enumeration);
    }
}
