//! The targets of programmers as one bus: each programmer has one, whether or not a chip is wired to it.

use std::sync::Arc;

use vaka_core::sheet::{Programmer, Sheet};
use vaka_core::unit::UsbId;
use vaka_usb::{Behind, Bus, BusError, Clock, DeviceInfo, Location, NodeInfo, SerialNode, Speed, UsbDevice};

use crate::bench::shared_device::SharedDevice;

/// The targets of all programmers that sheets describe.
pub struct ProgrammerBus {
    /// The buses with the programmers.
    buses: Vec<Arc<dyn Bus>>,
    programmers: Vec<Arc<Programmer>>,
}

impl ProgrammerBus {
    /// The name of this bus.
    pub const NAME: &'static str = "programmer";

    /// The targets of the programmers on these buses.
    pub fn new(buses: Vec<Arc<dyn Bus>>, sheets: &[Sheet]) -> Self {
        let mut programmers: Vec<Arc<Programmer>> = Vec::new();
        for programmer in sheets.iter().flat_map(|sheet| &sheet.programmers) {
            if !programmers.iter().any(|known| known.name == programmer.name) {
                programmers.push(programmer.clone());
            }
        }
        Self { buses, programmers }
    }

    /// The port of a target: that of its programmer, with the bus if there are several.
    fn port_of(&self, location: &Location) -> String {
        if self.buses.len() == 1 { location.port.clone() } else { location.to_string() }
    }

    /// The bus and the port of the programmer at `port`.
    fn place(&self, port: &str) -> Option<(&Arc<dyn Bus>, String)> {
        let own = |bus: &Arc<dyn Bus>| match self.buses.len() {
            1 => Some(port.to_owned()),
            _ => port.strip_prefix(bus.name())?.strip_prefix('/').map(str::to_owned),
        };
        self.buses.iter().find_map(|bus| Some((bus, own(bus)?)))
    }

    fn programmer(&self, device: &DeviceInfo) -> Option<&Programmer> {
        let id = UsbId { vendor: device.vendor, product: device.product };
        let fits = |programmer: &&Arc<Programmer>| device.node.is_none() && programmer.id.is(id.into());
        self.programmers.iter().find(fits).map(|programmer| &**programmer)
    }

    fn target(&self, device: DeviceInfo) -> Option<DeviceInfo> {
        let kind = self.programmer(&device)?.name.clone();
        let location = Location { bus: Self::NAME.into(), port: self.port_of(&device.location) };
        let id = device.serial.unwrap_or_default();
        let node = NodeInfo { behind: Behind::Programmer, kind, id, told: Vec::new(), answers: 1 };
        Some(DeviceInfo {
            location,
            address: device.address,
            speed: Speed::Unknown,
            vendor: 0,
            product: 0,
            release: 0,
            interfaces: Vec::new(),
            product_text: None,
            serial: None,
            node: Some(Box::new(node)),
        })
    }
}

fn absent(port: &str) -> BusError {
    BusError::NotFound(Location { bus: ProgrammerBus::NAME.into(), port: port.to_owned() })
}

impl Bus for ProgrammerBus {
    fn name(&self) -> &str {
        Self::NAME
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        let mut all = Vec::new();
        for bus in &self.buses {
            all.extend(bus.list()?.into_iter().filter_map(|device| self.target(device)));
        }
        Ok(all)
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let (bus, own) = self.place(port).ok_or_else(|| absent(port))?;
        Ok(Box::new(SharedDevice::new(bus.open(&own)?, Box::new(()))))
    }

    fn serial_ports(&self, port: &str) -> Vec<SerialNode> {
        self.place(port).map_or_else(Vec::new, |(bus, own)| bus.serial_ports(&own))
    }

    fn open_serial(&self, port: &str, interface: Option<u8>) -> Result<Box<dyn UsbDevice>, BusError> {
        let (bus, own) = self.place(port).ok_or_else(|| absent(port))?;
        Ok(Box::new(SharedDevice::new(bus.open_serial(&own, interface)?, Box::new(()))))
    }

    fn nodes(&self, port: &str) -> Vec<std::path::PathBuf> {
        self.place(port).map_or_else(Vec::new, |(bus, own)| bus.nodes(&own))
    }

    fn await_change(&self, clock: &dyn Clock, interval: std::time::Duration, at_most: std::time::Duration) {
        match &self.buses[..] {
            [only] => only.await_change(clock, interval, at_most),
            _ => clock.sleep(at_most.min(interval)),
        }
    }
}
