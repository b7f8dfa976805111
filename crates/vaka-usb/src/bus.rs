//! A bus: what is plugged in, what comes and goes, and opening it.

use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

use thiserror::Error;

use crate::clock::Clock;
use crate::device::UsbDevice;
use crate::mounts::Mounted;

/// Where a device is plugged in.
///
/// The port stays the same when a unit comes back in another mode; that is how
/// it is found again. Over USB/IP the port is the server's bus id.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Location {
    /// The bus, as `--bus` takes it.
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

/// What a list of devices tells of each, without opening it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceInfo {
    /// Where it is.
    pub location: Location,
    /// A number that changes whenever the device is enumerated anew.
    pub address: u32,
    /// How fast it is.
    pub speed: Speed,
    /// idVendor.
    pub vendor: u16,
    /// idProduct.
    pub product: u16,
    /// bcdDevice.
    pub release: u16,
    /// The interfaces of the present configuration.
    pub interfaces: Vec<InterfaceClass>,
}

/// Why a bus or a device on it cannot be used.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum BusError {
    /// The server of a remote bus cannot be reached.
    #[error("no answer from {bus}: {reason}")]
    Unreachable {
        /// The bus.
        bus: String,
        /// What the system says.
        reason: String,
    },
    /// The server does not speak as it should.
    #[error("{bus} does not speak USB/IP as expected: {what}")]
    Protocol {
        /// The bus.
        bus: String,
        /// What was wrong.
        what: String,
    },
    /// Nothing is there any more.
    #[error("nothing that is free is plugged in at {0}")]
    NotFound(Location),
    /// Another program has it.
    #[error("another program uses the unit at {0}")]
    Busy(Location),
    /// This user may not use it.
    #[error("this user may not use the unit at {location} ({node})")]
    PermissionDenied {
        /// Where it is.
        location: Location,
        /// The system's node for it.
        node: String,
        /// idVendor, for a rule that cures it.
        vendor: u16,
    },
    /// This machine has no USB, or does not show it to this program.
    #[error("this machine shows no USB: {0}")]
    Unavailable(String),
    /// The system refused something that has no other name here.
    #[error("the system refused the unit at {location}: {reason}")]
    System {
        /// Where it is.
        location: Location,
        /// What the system says.
        reason: String,
    },
    /// The server says that the device is in an error state.
    #[error("the server says that the unit at {0} is in an error state")]
    DeviceError(Location),
}

/// A set of ports that devices are plugged into.
pub trait Bus: Send + Sync {
    /// The bus, as `--bus` takes it.
    fn name(&self) -> &str;

    /// Everything that is plugged in now. Over USB/IP, a device that somebody
    /// uses is not in the list.
    ///
    /// # Errors
    /// The bus as a whole cannot be used.
    fn list(&self) -> Result<Vec<DeviceInfo>, BusError>;

    /// Opens what is plugged in at `port`.
    ///
    /// # Errors
    /// It is gone, in use, or the bus cannot be used.
    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError>;

    /// Why nothing is on the bus, where that has another reason than that
    /// nothing is plugged in.
    fn empty_reason(&self) -> Option<String> {
        None
    }

    /// The disks of a device that this system has mounted. A server's are not
    /// known here, and nothing is mounted of them.
    fn mounted(&self, port: &str) -> Vec<Mounted> {
        let _ = port;
        Vec::new()
    }

    /// Whether a device is reset when it is closed. A unit that leaves its
    /// update mode at a reset must not be opened there only to look at it.
    fn resets_on_close(&self) -> bool {
        false
    }

    /// Whether two places are one socket. A socket for several speeds has a port on a bus
    /// of each, so a unit that comes back at another speed has moved in the system's eyes
    /// only.
    fn is_same_port(&self, one: &Location, other: &Location) -> bool {
        one == other
    }

    /// Serial ports and raw HID devices that the system made of a device, such as
    /// `/dev/ttyACM0`; those of serial ports are given a moment to come.
    fn nodes(&self, port: &str) -> Vec<PathBuf> {
        let _ = port;
        Vec::new()
    }

    /// What the system noted lately of a device at `port` that it could not enumerate, in
    /// words.
    fn trouble(&self, port: &str) -> Option<String> {
        let _ = port;
        None
    }

    /// Waits until something may have changed on the bus, `at_most` so long. A
    /// bus that is not told of changes waits for `interval` and lets the caller
    /// look.
    fn await_change(&self, clock: &dyn Clock, interval: Duration, at_most: Duration) {
        clock.sleep(at_most.min(interval));
    }
}

/// What changed on a bus.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HotplugEvent {
    /// It came, or came back as something else.
    Attached(DeviceInfo),
    /// It left.
    Detached(DeviceInfo),
}

/// Sees changes by listing again and again, as often as the bus finds useful.
pub struct PolledWatch<'a> {
    bus: &'a dyn Bus,
    clock: &'a dyn Clock,
    known: Vec<DeviceInfo>,
    began: Duration,
}

impl<'a> PolledWatch<'a> {
    /// How often the list is asked for where the bus cannot tell. Short
    /// against what a unit takes to start, long against what a list costs
    /// (under a millisecond on one machine). Chosen by us.
    pub const INTERVAL: Duration = Duration::from_millis(25);

    /// At first it looks more often: most units come back within a second, and
    /// somebody waits for that.
    const KEEN: (Duration, Duration) = (Duration::from_secs(1), Duration::from_millis(8));

    /// Watches from now on; what is there now is not a change.
    ///
    /// # Errors
    /// The bus cannot be listed.
    pub fn new(bus: &'a dyn Bus, clock: &'a dyn Clock) -> Result<Self, BusError> {
        Ok(Self { bus, clock, known: bus.list()?, began: clock.now() })
    }

    /// Watches from a time on when these devices were there.
    pub fn since(bus: &'a dyn Bus, clock: &'a dyn Clock, known: Vec<DeviceInfo>) -> Self {
        Self { bus, clock, known, began: clock.now() }
    }

    /// Watches from a time on when nothing was there.
    pub fn from_nothing(bus: &'a dyn Bus, clock: &'a dyn Clock) -> Self {
        Self { bus, clock, known: Vec::new(), began: clock.now() }
    }

    /// What was there at the last look.
    pub fn there(&self) -> &[DeviceInfo] {
        &self.known
    }

    /// What changed since the last call. Returns at the first change, or with
    /// nothing once `wait` has passed. Lists at least once.
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
