//! A device that a product sheet, or its interfaces, show to be a unit.

use vaka_core::dfu;
use vaka_core::sheet::{Sheet, Variant};
use vaka_core::unit::{Mode, UsbId};
use vaka_usb::{DeviceInfo, InterfaceClass, Location};

pub use crate::protocol::identity::id_of;

/// A device that a sheet describes.
#[derive(Clone, Debug)]
pub struct Candidate<'a> {
    /// The device, as listed.
    pub device: DeviceInfo,
    /// Current mode.
    pub mode: Mode,
    /// The sheets that describe its ids; several if products share a boot id.
    pub sheets: Vec<&'a Sheet>,
}

impl<'a> Candidate<'a> {
    /// USB ids.
    pub fn id(&self) -> UsbId {
        id_of(&self.device)
    }

    /// Location.
    pub fn location(&self) -> &Location {
        &self.device.location
    }

    /// The variants of a sheet that its ids leave open.
    pub fn variants_of(&self, sheet: &'a Sheet) -> Vec<&'a Variant> {
        match self.mode {
            Mode::Update => sheet.variants_with_route(self.id()).collect(),
            _ => sheet.variants.iter().collect(),
        }
    }
}

/// The mode of a device with a DFU interface, by its classes alone.
pub fn dfu_mode(device: &DeviceInfo) -> Option<Mode> {
    let has = |protocol: u8| {
        let class = InterfaceClass { class: dfu::CLASS, subclass: dfu::SUBCLASS, protocol };
        device.interfaces.contains(&class)
    };
    if has(dfu::PROTOCOL_DFU_MODE) {
        return Some(Mode::Update);
    }
    has(dfu::PROTOCOL_RUN_TIME).then_some(Mode::Application)
}
