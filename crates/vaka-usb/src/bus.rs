//! A USB bus: attached devices, hotplug events, and opening a device.

use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

use thiserror::Error;

use crate::clock::Clock;
use crate::device::UsbDevice;
use crate::mounts::Mounted;

/// The location of a device.
///
/// The port stays the same when a unit returns in another mode; units are tracked by it. Over
/// USB/IP the port is the server's bus id.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Location {
    /// The bus, in the form of `--bus`.
    pub bus: String,
    /// The port on it, such as `1-2.4`.
    pub port: String,
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.bus, self.port)
    }
}

/// The speed of a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the standard's names
pub enum Speed {
    Low,
    Full,
    High,
    Super,
    SuperPlus,
    Unknown,
}

/// Class codes of an interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InterfaceClass {
    /// bInterfaceClass.
    pub class: u8,
    /// bInterfaceSubClass.
    pub subclass: u8,
    /// bInterfaceProtocol.
    pub protocol: u8,
}

/// The description of a device in the bus enumeration, without opening it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceInfo {
    /// Location.
    pub location: Location,
    /// A number that changes with every enumeration of the device.
    pub address: u32,
    /// USB speed.
    pub speed: Speed,
    /// idVendor.
    pub vendor: u16,
    /// idProduct.
    pub product: u16,
    /// bcdDevice.
    pub release: u16,
    /// The interfaces of the present configuration.
    pub interfaces: Vec<InterfaceClass>,
    /// The product string, if the system read it before.
    pub product_text: Option<String>,
    /// The serial number, if the system read it before.
    pub serial: Option<String>,
    /// The node of a CAN bus or the target of a programmer, if it is one and no USB device.
    pub node: Option<Box<NodeInfo>>,
}

/// A value that a node reported.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NodeValue {
    /// A number.
    Number(i128),
    /// A text.
    Text(String),
}

/// The kind of device that leads to a unit without a USB connection of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Behind {
    /// An adapter of a CAN bus.
    Adapter,
    /// A programmer.
    Programmer,
}

/// A node of a CAN bus, or the target of a programmer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodeInfo {
    /// The kind of device through which it is reached.
    pub behind: Behind,
    /// The name of the dialect in which it answers, or that of its programmer.
    pub kind: String,
    /// Unique id, in hex digits; for a programmer its own serial number, if it is known.
    pub id: String,
    /// Names and values that it reported.
    pub told: Vec<(String, NodeValue)>,
    /// The number of nodes that answer with its unique id; more than one is a conflict.
    pub answers: usize,
}

/// Why a bus or a device on it cannot be used.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum BusError {
    /// The server of a remote bus cannot be reached.
    #[error("no reply from {bus}: {reason}")]
    Unreachable {
        /// The bus.
        bus: String,
        /// Reason that the system gives.
        reason: String,
    },
    /// The server violates the protocol.
    #[error("{bus} violates the USB/IP protocol: {what}")]
    Protocol {
        /// The bus.
        bus: String,
        /// The violation.
        what: String,
    },
    /// No free device is attached there.
    #[error("no free device is attached at {0}")]
    NotFound(Location),
    /// Another program uses the device.
    #[error("another program uses the unit at {0}")]
    Busy(Location),
    /// The user has no permission to use the device.
    #[error("this user has no permission to use the unit at {location} ({node})")]
    PermissionDenied {
        /// Location.
        location: Location,
        /// The system's node for it.
        node: String,
        /// idVendor, for a rule that cures it.
        vendor: u16,
    },
    /// The system made no serial port of the device, or none of the interface that is asked for.
    #[error("the system has no serial port for the unit at {0}")]
    NoSerialPort(Location),
    /// Another program uses the serial port of the device.
    #[error("{node} of the unit at {location} is in use{by}")]
    PortBusy {
        /// Location.
        location: Location,
        /// The port.
        node: String,
        /// The program, if it is known, in brackets.
        by: String,
    },
    /// The user has no permission to use the serial port of the device.
    #[error("this user has no permission to use {node} of the unit at {location}")]
    PortDenied {
        /// Location.
        location: Location,
        /// The port.
        node: String,
        /// The group that may use it.
        group: Option<String>,
    },
    /// A CAN bus cannot be used.
    #[error("the CAN bus at {location} cannot be used: {reason}")]
    Can {
        /// The adapter.
        location: Location,
        /// The reason.
        reason: String,
    },
    /// A CAN network interface is not up.
    #[error("the CAN interface {name} is not up")]
    InterfaceDown {
        /// Its name.
        name: String,
        /// The bit rate of the nodes.
        rate: u32,
    },
    /// This machine has no USB, or does not show it to this program.
    #[error("this machine has no USB: {0}")]
    Unavailable(String),
    /// The system rejected the request for another reason.
    #[error("the system rejected access to the unit at {location}: {reason}")]
    System {
        /// Location.
        location: Location,
        /// Reason that the system gives.
        reason: String,
    },
    /// The server reports the device in an error state.
    #[error("the server reports an error state of the unit at {0}")]
    DeviceError(Location),
}

/// A serial port that the system's driver made of an interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialNode {
    /// bInterfaceNumber of the interface with the data.
    pub interface: u8,
    /// The port, such as `/dev/ttyUSB0`.
    pub node: PathBuf,
    /// The driver.
    pub driver: String,
}

/// A set of ports that devices are plugged into.
pub trait Bus: Send + Sync {
    /// The bus, in the form of `--bus`.
    fn name(&self) -> &str;

    /// All attached devices. Over USB/IP the list omits devices in use.
    ///
    /// # Errors
    /// The bus as a whole cannot be used.
    fn list(&self) -> Result<Vec<DeviceInfo>, BusError>;

    /// Opens the device at `port`.
    ///
    /// # Errors
    /// The device is detached or in use, or the bus is not usable.
    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError>;

    /// The serial ports that the system's drivers made of the device at `port`; waits a moment for
    /// those of a new device. Always empty for the devices of a server.
    fn serial_ports(&self, port: &str) -> Vec<SerialNode> {
        let _ = port;
        Vec::new()
    }

    /// Opens the device at `port` through a serial port of the system: that of an interface, or the
    /// first one. It has the requests and pipes of CDC-ACM, whatever its own interface has.
    ///
    /// # Errors
    /// The system made no such port, another program uses it, or the user may not.
    fn open_serial(&self, port: &str, interface: Option<u8>) -> Result<Box<dyn UsbDevice>, BusError> {
        let _ = interface;
        Err(BusError::NoSerialPort(Location { bus: self.name().to_owned(), port: port.to_owned() }))
    }

    /// The CAN network interface that the system's driver made of the adapter at `port`.
    fn network_interface(&self, port: &str) -> Option<String> {
        let _ = port;
        None
    }

    /// Explains an empty bus when the cause is not simply that no device is attached.
    fn empty_reason(&self) -> Option<String> {
        None
    }

    /// The disks of a device that this system has mounted. Always empty for the devices of a
    /// server.
    fn mounted(&self, port: &str) -> Vec<Mounted> {
        let _ = port;
        Vec::new()
    }

    /// Whether closing a device resets it. A unit that leaves update mode at a reset must not be
    /// opened there just for inspection.
    fn resets_on_close(&self) -> bool {
        false
    }

    /// Whether two locations are one connector. A connector for several speeds has a port on a
    /// bus of each, so a unit that returns at another speed has another location.
    fn is_same_port(&self, one: &Location, other: &Location) -> bool {
        one == other
    }

    /// Serial ports and raw HID devices that the system created for a device, such as
    /// `/dev/ttyACM0`; waits a moment for those of serial ports.
    fn nodes(&self, port: &str) -> Vec<PathBuf> {
        let _ = port;
        Vec::new()
    }

    /// A recent kernel message about a device at `port` that could not be enumerated.
    fn trouble(&self, port: &str) -> Option<String> {
        let _ = port;
        None
    }

    /// Waits for a possible change on the bus, at most `at_most`. A bus without notifications
    /// waits for `interval`, after which the caller lists the devices.
    fn await_change(&self, clock: &dyn Clock, interval: Duration, at_most: Duration) {
        clock.sleep(at_most.min(interval));
    }
}

/// A hotplug event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HotplugEvent {
    /// A device was attached, or was enumerated again with other descriptors.
    Attached(DeviceInfo),
    /// A device was detached.
    Detached(DeviceInfo),
}

/// Detects hotplug events by listing the devices repeatedly, at an interval that suits the bus.
pub struct PolledWatch<'a> {
    bus: &'a dyn Bus,
    clock: &'a dyn Clock,
    known: Vec<DeviceInfo>,
    began: Duration,
}

impl<'a> PolledWatch<'a> {
    /// Interval between lists on a bus without notifications. Short compared with the start time
    /// of a unit, long compared with the cost of a list (under a millisecond on one machine).
    /// Chosen by us.
    pub const INTERVAL: Duration = Duration::from_millis(25);

    /// Initially the interval is shorter: most units return within a second, and the user waits
    /// for it.
    const KEEN: (Duration, Duration) = (Duration::from_secs(1), Duration::from_millis(8));

    /// Watches from now on; devices present now are not reported.
    ///
    /// # Errors
    /// The bus cannot be listed.
    pub fn new(bus: &'a dyn Bus, clock: &'a dyn Clock) -> Result<Self, BusError> {
        Ok(Self { bus, clock, known: bus.list()?, began: clock.now() })
    }

    /// Watches from a moment at which these devices were present.
    pub fn since(bus: &'a dyn Bus, clock: &'a dyn Clock, known: Vec<DeviceInfo>) -> Self {
        Self { bus, clock, known, began: clock.now() }
    }

    /// Watches from a moment at which no device was present.
    pub fn from_nothing(bus: &'a dyn Bus, clock: &'a dyn Clock) -> Self {
        Self { bus, clock, known: Vec::new(), began: clock.now() }
    }

    /// The devices in the last list.
    pub fn there(&self) -> &[DeviceInfo] {
        &self.known
    }

    /// The events since the last call. Returns at the first event, or with none after `wait`.
    /// Lists the devices at least once.
    ///
    /// # Errors
    /// The bus cannot be listed.
    pub fn next(&mut self, wait: Duration) -> Result<Vec<HotplugEvent>, BusError> {
        let deadline = self.clock.now() + wait;
        loop {
            let now = self.bus.list()?;
            let left = self.known.iter().filter(|device| !now.contains(device)).cloned().map(HotplugEvent::Detached);
            let came = now.iter().filter(|device| !self.known.contains(device)).cloned().map(HotplugEvent::Attached);
            let changes: Vec<HotplugEvent> = left.chain(came).collect();
            self.known = now;
            let rest = deadline.saturating_sub(self.clock.now());
            if !changes.is_empty() || rest.is_zero() {
                return Ok(changes);
            }
            let (keen_for, keenly) = Self::KEEN;
            let is_keen = self.clock.now() < self.began + keen_for;
            self.bus.await_change(self.clock, if is_keen { keenly } else { Self::INTERVAL }, rest);
        }
    }
}
