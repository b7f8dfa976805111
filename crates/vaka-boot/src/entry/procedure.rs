//! The procedure that brings a unit from its application into update mode.

use std::fmt;
use std::time::Duration;

use vaka_core::sheet::{EntryStep, Ids, Route, Sheet};
use vaka_core::unit::{DeviceId, Mode};
use vaka_usb::DeviceInfo;

use crate::bench::candidate::{dfu_mode, id_of};
use crate::protocol::identity::Identity;

/// The procedure that brings a unit from its application into update mode.
#[derive(Clone, Copy, Debug)]
pub struct EntryProcedure<'a> {
    /// The name of the unit, for messages.
    pub name: &'a str,
    /// The unit, as listed while its application runs.
    pub unit: &'a DeviceInfo,
    /// The identity of the running application, if it was read before.
    pub identity: Option<&'a Identity>,
    /// The entry steps, in order.
    pub entry: &'a [EntryStep],
    /// The device that appears once update mode is reached.
    pub target: EntryTarget<'a>,
    /// The unit's serial number, if it is stable.
    pub serial: Option<&'a str>,
    /// Time limit of the whole entry. With an operator present it applies to each step that is
    /// shown.
    pub timeout: Duration,
}

impl<'a> EntryProcedure<'a> {
    /// The entry procedure that a route of the sheet describes.
    pub fn of(
        sheet: &'a Sheet,
        route: &'a Route,
        unit: &'a DeviceInfo,
        serial: Option<&'a str>,
        timeout: Duration,
    ) -> Self {
        Self {
            name: &sheet.product.name,
            unit,
            identity: None,
            entry: &route.entry,
            target: EntryTarget::Id(&route.id),
            // The number of a chip's boot mode is not that of a node.
            serial: serial.filter(|_| sheet.product.stable_serial && !leaves_its_bus(unit, route)),
            timeout,
        }
    }
}

/// Whether a unit is a node of a CAN bus that shows its update mode on a USB port.
fn leaves_its_bus(unit: &DeviceInfo, route: &Route) -> bool {
    matches!(id_of(unit), DeviceId::Node(_)) && route.id.is_usb()
}

/// The device that appears once update mode is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EntryTarget<'a> {
    /// A device with these ids.
    Id(&'a Ids),
    /// Any device with an interface in DFU mode.
    DfuMode,
}

impl EntryTarget<'_> {
    pub(super) fn is(self, device: &DeviceInfo) -> bool {
        match self {
            Self::Id(ids) => ids.is(id_of(device)),
            Self::DfuMode => dfu_mode(device) == Some(Mode::Update),
        }
    }
}

impl fmt::Display for EntryTarget<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Id(id) => id.fmt(f),
            Self::DfuMode => f.write_str("a DFU mode"),
        }
    }
}
