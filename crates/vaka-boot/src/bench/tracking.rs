//! Tracking of a unit across re-enumeration. Between modes a unit changes its ids, often its
//! serial number, and sometimes its speed and with it the bus number of its port. Its connector
//! stays the same, and so does the serial number if the sheet declares it stable.

use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::warning::Warning;

/// A unit that is tracked while it leaves the bus and returns.
#[derive(Clone, Copy, Debug)]
pub struct TrackedUnit<'a> {
    /// The unit as last seen.
    pub unit: &'a DeviceInfo,
    /// Its serial number, if it is stable.
    pub serial: Option<&'a str>,
}

/// Whether a unit has left its port since it was last seen. The enumeration number is not
/// sufficient: a server may reuse it.
#[derive(Clone, Debug)]
pub struct Absence<'a> {
    unit: &'a DeviceInfo,
    was_absent: bool,
}

impl<'a> Absence<'a> {
    /// Creates it for a unit that was present until now.
    pub fn of(unit: &'a DeviceInfo) -> Self {
        Self { unit, was_absent: false }
    }

    /// Notes a list of the bus.
    pub fn observe(&mut self, bench: &Bench<'_>, there: &[DeviceInfo]) {
        let is_here = |device: &DeviceInfo| bench.is_same_port(&self.unit.location, &device.location);
        self.was_absent |= !there.iter().any(is_here);
    }

    /// Whether a device on the unit's port was attached after an absence: it has another
    /// enumeration, or the port was seen empty.
    pub fn has_ended_with(&self, device: &DeviceInfo) -> bool {
        self.was_absent || device.address != self.unit.address || device.location != self.unit.location
    }
}

/// The relation of a device to the tracked unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PortMatch {
    /// On the unit's port.
    Here,
    /// On another port with the unit's serial number, while the unit's own port is empty.
    Moved,
    /// A different device, as far as can be determined.
    Elsewhere,
}

impl TrackedUnit<'_> {
    /// Classifies a newly attached device; `there` lists everything attached now.
    ///
    /// A device elsewhere is opened for its serial number, unless closing it would end its
    /// update mode: ask only of one that could be the unit.
    pub fn meets(&self, bench: &Bench<'_>, device: &DeviceInfo, there: &[DeviceInfo]) -> PortMatch {
        let is_here = |other: &DeviceInfo| bench.is_same_port(&self.unit.location, &other.location);
        if is_here(device) {
            return PortMatch::Here;
        }
        let is_it = || self.serial.is_some() && bench.serial_if_safe(device).as_deref() == self.serial;
        if !there.iter().any(is_here) && is_it() { PortMatch::Moved } else { PortMatch::Elsewhere }
    }
}

/// Reports that the unit returned on another port.
pub(crate) fn moved(bench: &Bench<'_>, device: &DeviceInfo) -> Warning {
    Warning::Moved { place: bench.place(&device.location) }
}
