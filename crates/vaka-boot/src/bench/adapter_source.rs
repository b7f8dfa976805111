//! Where CAN adapters are found: a network interface of the system, or USB ports.

use std::sync::Arc;

use vaka_core::sheet::Ids;
use vaka_core::unit::UsbId;
use vaka_usb::{Bus, BusError, DeviceInfo, UsbDevice};

/// The name of the bus of all nodes.
pub(super) const NODES: &str = "can";

/// Where adapters are found.
pub struct AdapterSource(Place);

enum Place {
    /// A network interface of the system, by its name.
    #[cfg(target_os = "linux")]
    Interface(String),
    /// The adapter at a USB port, which the user named.
    Port(Arc<dyn Bus>, String),
    /// Every adapter with one of these ids.
    Ids(Arc<dyn Bus>, Vec<Ids>),
}

impl AdapterSource {
    /// The network interface with this name.
    #[cfg(target_os = "linux")]
    pub fn interface(name: &str) -> Self {
        Self(Place::Interface(name.to_owned()))
    }

    /// The adapter at a port of a USB bus.
    pub fn port(bus: Arc<dyn Bus>, port: &str) -> Self {
        Self(Place::Port(bus, port.to_owned()))
    }

    /// Every adapter on a USB bus with one of these ids.
    pub fn with_ids(bus: Arc<dyn Bus>, ids: Vec<Ids>) -> Self {
        Self(Place::Ids(bus, ids))
    }

    /// Whether the user named it; otherwise its failures are not reported.
    pub(super) fn is_named(&self) -> bool {
        !matches!(self.0, Place::Ids(..))
    }

    /// Its name for messages.
    pub(super) fn name(&self) -> &str {
        match &self.0 {
            #[cfg(target_os = "linux")]
            Place::Interface(name) => name,
            Place::Port(_, port) => port,
            Place::Ids(bus, _) => bus.name(),
        }
    }

    /// The adapters that are there, by the name of an interface or a port.
    pub(super) fn adapters(&self) -> Result<Vec<String>, BusError> {
        match &self.0 {
            #[cfg(target_os = "linux")]
            Place::Interface(name) => Ok(Vec::from_iter(vaka_can::interface::exists(name).then(|| name.clone()))),
            Place::Port(bus, port) => {
                let found = bus.list()?.into_iter().map(|device| device.location.port);
                Ok(found.filter(|found| found == port).collect())
            }
            Place::Ids(bus, ids) => {
                let devices = bus.list()?;
                let fits = devices.into_iter().filter(|device| is_adapter(ids, device));
                Ok(fits.map(|device| device.location.port).collect())
            }
        }
    }

    /// Opens an adapter: through the network interface that the system's driver made of it, if it did.
    /// `rate` is the bit rate of the nodes, for messages.
    pub(super) fn open(&self, adapter: &str, rate: u32) -> Result<Box<dyn UsbDevice>, BusError> {
        match &self.0 {
            #[cfg(target_os = "linux")]
            Place::Interface(name) => open_interface(name, rate),
            Place::Port(bus, port) => open_port(&**bus, port, rate),
            Place::Ids(bus, _) => open_port(&**bus, adapter, rate),
        }
    }
}

/// Whether a device is an adapter that a sheet names by its USB ids.
fn is_adapter(ids: &[Ids], device: &DeviceInfo) -> bool {
    let id = UsbId { vendor: device.vendor, product: device.product };
    device.node.is_none() && ids.iter().any(|known| known.is(id.into()))
}

#[cfg_attr(not(target_os = "linux"), allow(unused_variables))] // only Linux has interfaces
fn open_port(bus: &dyn Bus, port: &str, rate: u32) -> Result<Box<dyn UsbDevice>, BusError> {
    match bus.network_interface(port) {
        #[cfg(target_os = "linux")]
        Some(name) => open_interface(&name, rate),
        _ => bus.open(port),
    }
}

#[cfg(target_os = "linux")]
fn open_interface(name: &str, rate: u32) -> Result<Box<dyn UsbDevice>, BusError> {
    use std::io::ErrorKind;
    use vaka_can::interface::InterfaceDevice;
    let location = vaka_usb::Location { bus: NODES.into(), port: name.to_owned() };
    match InterfaceDevice::open(name) {
        Ok(device) => Ok(Box::new(device)),
        Err(error) => Err(match error.kind() {
            ErrorKind::NetworkDown => BusError::InterfaceDown { name: name.to_owned(), rate },
            ErrorKind::NotFound => BusError::NotFound(location),
            _ => BusError::System { location, reason: vaka_base::text::sanitize(&error.to_string()) },
        }),
    }
}
