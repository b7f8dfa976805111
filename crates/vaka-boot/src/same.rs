//! The same unit afterwards. From mode to mode it changes its ids, often its serial
//! number, sometimes its speed, and with that the bus number that the system gives its
//! port. What stays is where it is plugged in; and the serial number, where the sheet says
//! so.

use vaka_usb::DeviceInfo;

use crate::bench::Bench;

/// A unit that is followed while it leaves the bus and comes back.
#[derive(Clone, Copy, Debug)]
pub struct Followed<'a> {
    /// The unit, as it was.
    pub unit: &'a DeviceInfo,
    /// Its serial number, where that is known to stay the same.
    pub serial: Option<&'a str>,
}

/// How a device stands to the unit that is followed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stands {
    /// It is on the unit's port.
    Here,
    /// It is on another port, shows the unit's serial number, and nothing is on the
    /// unit's own port any more.
    Moved,
    /// It is another one, for all that is known.
    Elsewhere,
}

impl Followed<'_> {
    /// Where a device that came stands; `there` is all that the bus shows now.
    ///
    /// A device elsewhere is opened for its serial number, unless closing it would end its
    /// update mode: ask only of one that could be the unit.
    pub fn meets(&self, bench: &Bench<'_>, device: &DeviceInfo, there: &[DeviceInfo]) -> Stands {
        let is_here = |other: &DeviceInfo| bench.is_same_port(&self.unit.location, &other.location);
        if is_here(device) {
            return Stands::Here;
        }
        let is_it = || self.serial.is_some() && bench.told_serial(device).as_deref() == self.serial;
        if !there.iter().any(is_here) && is_it() { Stands::Moved } else { Stands::Elsewhere }
    }
}
