//! A unit that shows up as several devices: which of them belong together.

use vaka_core::sheet::Sheet;
use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::bench::candidate::id_of;

/// A device that a unit shows beside the one that is updated.
#[derive(Clone, Debug)]
pub struct CompanionDevice<'a> {
    /// What it is.
    pub name: &'a str,
    /// The product that shows it.
    pub sheet: &'a Sheet,
    /// The unit that it belongs to; none if several could show it, or none is there.
    pub of: Option<DeviceInfo>,
}

/// What a device is to a unit, if a sheet says that it is one shown beside.
///
/// Of several units of the product it belongs to the one with its serial number, else to
/// the only one on the same hub (a board with a hub of its own), else to the only one on
/// its bus.
pub fn beside<'a>(bench: &Bench<'a>, device: &DeviceInfo, all: &[DeviceInfo]) -> Option<CompanionDevice<'a>> {
    let id = id_of(device);
    let named = |sheet: &'a Sheet| {
        let companion = sheet.product.companions.iter().find(|companion| companion.id.is(id))?;
        Some((sheet, companion.name.as_str()))
    };
    let (sheet, name) = bench.sheets().iter().find_map(named)?;
    let is_unit = |other: &&DeviceInfo| {
        let of_sheet = |found: &crate::bench::candidate::Candidate<'_>| {
            found.sheets.iter().any(|known| std::ptr::eq(*known, sheet))
        };
        other.location.bus == device.location.bus && bench.recognise(other).as_ref().is_some_and(of_sheet)
    };
    let units: Vec<&DeviceInfo> = all.iter().filter(is_unit).collect();
    let only = |units: &[&DeviceInfo]| match units {
        [only] => Some((*only).clone()),
        _ => None,
    };
    let hub = |device: &DeviceInfo| device.location.port.rsplit_once('.').map(|(hub, _)| hub.to_owned());
    let of = only(&units).or_else(|| {
        // A sheet speaks of it, so it is no stranger that is better left alone.
        let serial = bench.serial(device);
        let same: Vec<&DeviceInfo> =
            units.iter().copied().filter(|unit| serial.is_some() && bench.serial_if_safe(unit) == serial).collect();
        let near: Vec<&DeviceInfo> =
            units.iter().copied().filter(|unit| hub(unit).is_some() && hub(unit) == hub(device)).collect();
        only(&same).or_else(|| only(&near))
    });
    Some(CompanionDevice { name, sheet, of })
}
