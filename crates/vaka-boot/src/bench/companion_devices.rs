//! A unit that shows up as several devices: which of them belong together.

use vaka_core::sheet::Sheet;
use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::bench::candidate::id_of;

/// Another USB device of a unit, beside the one that is updated.
#[derive(Clone, Debug)]
pub struct CompanionDevice<'a> {
    /// Description.
    pub name: &'a str,
    /// The product that shows it.
    pub sheet: &'a Sheet,
    /// The unit that it belongs to; `None` if there are several candidates or none.
    pub of: Option<DeviceInfo>,
}

/// The companion device, if a sheet lists it.
///
/// If several units of the product are attached, it belongs to the one with the same serial
/// number, else to the only one on the same hub (a board with a hub of its own), else to the only
/// one on its bus.
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
        // The sheet lists this device, so opening it is allowed.
        let serial = bench.serial(device);
        let same: Vec<&DeviceInfo> =
            units.iter().copied().filter(|unit| serial.is_some() && bench.serial_if_safe(unit) == serial).collect();
        let near: Vec<&DeviceInfo> =
            units.iter().copied().filter(|unit| hub(unit).is_some() && hub(unit) == hub(device)).collect();
        only(&same).or_else(|| only(&near))
    });
    Some(CompanionDevice { name, sheet, of })
}
