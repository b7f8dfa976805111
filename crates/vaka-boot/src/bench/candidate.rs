//! A device that a product sheet, or its interfaces, show to be a unit.

use vaka_core::dfu;
use vaka_core::sheet::{DescriptorPattern, Sheet, Variant};
use vaka_core::unit::{DeviceId, Mode, UnitFacts};
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
    pub fn id(&self) -> DeviceId {
        id_of(&self.device)
    }

    /// Location.
    pub fn location(&self) -> &Location {
        &self.device.location
    }

    /// The same with the sheets that its descriptors do not contradict; all of them if they
    /// contradict each.
    #[must_use]
    pub fn told_apart(mut self, facts: &UnitFacts) -> Self {
        let (mode, id) = (self.mode, self.id());
        let contradicts = |signs: &DescriptorPattern| signs.of(facts).iter().any(|sign| sign.is_so == Some(false));
        let fits = |sheet: &&Sheet| match mode {
            Mode::Update => sheet.routes_of(id).any(|route| !contradicts(&route.signs)),
            _ => sheet.variants.iter().any(|variant| !contradicts(&sheet.application_signs(variant))),
        };
        if self.sheets.iter().any(fits) {
            self.sheets.retain(fits);
        }
        self
    }

    /// Whether descriptors may tell its sheets apart.
    pub fn has_signs(&self) -> bool {
        let of_route = |sheet: &Sheet| sheet.routes_of(self.id()).any(|route| !route.signs.is_empty());
        let of_application =
            |sheet: &Sheet| sheet.variants.iter().any(|variant| !sheet.application_signs(variant).is_empty());
        self.sheets.iter().any(|sheet| if self.mode == Mode::Update { of_route(sheet) } else { of_application(sheet) })
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
