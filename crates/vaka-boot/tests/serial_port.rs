//! The two ways to a unit's serial port.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use vaka_boot::bench::serial_access::SerialAccess;
use vaka_sim::in_process::SimBus;
use vaka_sim::unit::fulmar::{bridged, fulmar};
use vaka_sim::unit::vendor_unit::VendorUnit;
use vaka_sim::world::World;
use vaka_usb::{Bus, BusError, DeviceInfo, Location, SerialNode, Setup, SystemClock, TransferError, UsbDevice};

/// A bus with one unit, whose rights and system's port are given; notes what is opened.
struct OnePort {
    bus: Box<dyn Bus>,
    is_denied: bool,
    /// The result of opening the system's port; `None` if the system made none.
    system: Option<Result<(), BusError>>,
    opened: Mutex<Vec<&'static str>>,
}

/// An open port of the system.
struct Node;

impl UsbDevice for Node {
    fn control_in(&mut self, _: Setup, _: u16, _: Duration) -> Result<Vec<u8>, TransferError> {
        Err(TransferError::Stall)
    }

    fn control_out(&mut self, _: Setup, _: &[u8], _: Duration) -> Result<(), TransferError> {
        Err(TransferError::Stall)
    }

    fn claim(&mut self, _: u8, _: u8) -> Result<(), TransferError> {
        Ok(())
    }

    fn node(&self) -> Option<&Path> {
        Some(Path::new("/dev/ttyUSB7"))
    }

    fn wait_for_disconnect(&mut self, _: Duration) -> bool {
        false
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        Ok(())
    }
}

fn place() -> Location {
    Location { bus: "sim".into(), port: "1-1".into() }
}

fn denied() -> BusError {
    BusError::PermissionDenied { location: place(), node: "/dev/bus/usb/001/002".into(), vendor: 0x1209 }
}

impl Bus for OnePort {
    fn name(&self) -> &str {
        "sim"
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        self.bus.list()
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        self.opened.lock().unwrap().push("usb");
        if self.is_denied { Err(denied()) } else { self.bus.open(port) }
    }

    fn serial_ports(&self, _: &str) -> Vec<SerialNode> {
        let port = SerialNode { interface: 1, node: "/dev/ttyUSB7".into(), driver: "generic".into() };
        self.system.iter().map(|_| port.clone()).collect()
    }

    fn open_serial(&self, _: &str, _: Option<u8>) -> Result<Box<dyn UsbDevice>, BusError> {
        self.opened.lock().unwrap().push("system");
        match self.system.clone() {
            None => Err(BusError::NoSerialPort(place())),
            Some(Err(error)) => Err(error),
            Some(Ok(())) => Ok(Box::new(Node)),
        }
    }
}

/// Builds a unit with a serial number.
type Product = fn(&str) -> VendorUnit;

/// The way that is taken: what was opened, and whether the system's port is used in the end.
fn way(unit: VendorUnit, is_denied: bool, system: Option<Result<(), BusError>>, access: SerialAccess) -> String {
    let clock = Arc::new(SystemClock);
    let mut world = World::new(clock.clone());
    world.plug("1-1", Box::new(unit), Vec::new());
    let bus = Box::new(SimBus::new(world.shared(), clock));
    let bus = OnePort { bus, is_denied, system, opened: Mutex::default() };
    let end = match access.open(&bus, "1-1", None) {
        Ok(device) => device.node().map_or("the unit".to_owned(), |node| node.display().to_string()),
        Err(error) => error.to_string(),
    };
    format!("{}: {end}", bus.opened.lock().unwrap().join(", "))
}

#[test]
fn the_units_own_port_is_used_where_it_has_one_and_the_user_may() {
    let any = SerialAccess::default();
    let system = SerialAccess { system_only: true, ..any };
    let third = SerialAccess { interface: Some(3), ..any };
    let held = BusError::PortBusy { location: place(), node: "/dev/ttyUSB7".into(), by: " (program 'talk')".into() };
    let group = BusError::PortDenied { location: place(), node: "/dev/ttyUSB7".into(), group: Some("dialout".into()) };
    let cases: [(Product, bool, _, _, &str); 11] = [
        (fulmar, false, Some(Ok(())), any, "usb: the unit"),
        (fulmar, false, None, any, "usb: the unit"),
        // A bridge chip has no port of its own.
        (bridged, false, Some(Ok(())), any, "usb, system: /dev/ttyUSB7"),
        // Without a driver it is opened, and the session reports the missing port.
        (bridged, false, None, any, "usb: the unit"),
        // The interface that is wanted is not that of the unit's own port.
        (fulmar, false, Some(Ok(())), third, "usb, system: /dev/ttyUSB7"),
        (fulmar, true, Some(Ok(())), any, "usb, system: /dev/ttyUSB7"),
        (fulmar, true, None, any, "usb, system: this user has no permission to use the unit at sim/1-1"),
        (fulmar, true, Some(Err(group)), any, "usb, system: this user has no permission to use /dev/ttyUSB7"),
        (bridged, false, Some(Err(held)), any, "usb, system: /dev/ttyUSB7 of the unit at sim/1-1 is in use (program"),
        (fulmar, false, Some(Ok(())), system, "system: /dev/ttyUSB7"),
        (fulmar, false, None, system, "system: the system has no serial port for the unit at sim/1-1"),
    ];
    for (index, (unit, is_denied, node, access, expected)) in cases.into_iter().enumerate() {
        let found = way(unit("F-1"), is_denied, node, access);
        assert!(found.starts_with(expected), "case {index}: {found}");
    }
}
