//! The same unit afterwards. From mode to mode it changes its ids, often its serial
//! number, sometimes its speed, and with that the bus number that the system gives its
//! port. What stays is where it is plugged in; and the serial number, where the sheet says
//! so.

use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::warning::Warning;

/// A unit that is followed while it leaves the bus and comes back.
#[derive(Clone, Copy, Debug)]
pub struct TrackedUnit<'a> {
    /// The unit, as it was.
    pub unit: &'a DeviceInfo,
    /// Its serial number, where that is known to stay the same.
    pub serial: Option<&'a str>,
}

/// Whether a unit has left its port since it was last known to be there. Its number alone does
/// not tell: a server may give the same one again.
#[derive(Clone, Debug)]
pub struct Absence<'a> {
    unit: &'a DeviceInfo,
    was_absent: bool,
}

impl<'a> Absence<'a> {
    /// For a unit that was there until now.
    pub fn of(unit: &'a DeviceInfo) -> Self {
        Self { unit, was_absent: false }
    }

    /// Notes a list of the bus.
    pub fn observe(&mut self, bench: &Bench<'_>, there: &[DeviceInfo]) {
        let is_here = |device: &DeviceInfo| bench.is_same_port(&self.unit.location, &device.location);
        self.was_absent |= !there.iter().any(is_here);
    }

    /// Whether a device on the unit's port is there after an absence: with another enumeration,
    /// or after the port was seen empty.
    pub fn has_ended_with(&self, device: &DeviceInfo) -> bool {
        self.was_absent || device.address != self.unit.address || device.location != self.unit.location
    }
}

/// How a device stands to the unit that is followed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PortMatch {
    /// It is on the unit's port.
    Here,
    /// It is on another port, shows the unit's serial number, and nothing is on the
    /// unit's own port any more.
    Moved,
    /// It is another one, for all that is known.
    Elsewhere,
}

impl TrackedUnit<'_> {
    /// Where a device that came stands; `there` is all that the bus shows now.
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

/// The unit came on another port than it was on.
pub(crate) fn moved(bench: &Bench<'_>, device: &DeviceInfo) -> Warning {
    Warning::Moved { place: bench.place(&device.location) }
}
