//! A unit on its way into update mode.

use std::time::Duration;

use vaka_core::sheet::BusEvent;
use vaka_usb::DeviceInfo;

use super::procedure::EntryProcedure;
use crate::bench::buses::Bench;
use crate::bench::waiting::UnitWatch;
use crate::context::Context;
use crate::operator::Operator;

/// A unit on its way.
pub(super) struct EntryRunner<'e, 'p> {
    pub(super) bench: &'e Bench<'e>,
    pub(super) way: EntryProcedure<'e>,
    pub(super) place: String,
    pub(super) watch: UnitWatch<'e>,
    pub(super) operator: &'e mut dyn Operator,
    pub(super) cx: &'e mut Context<'p>,
    /// Since when nothing is on the unit's port, until that was told.
    pub(super) absent_since: Option<Duration>,
    /// What was seen last, for the message.
    pub(super) last_event: String,
    /// Devices that appeared on other ports.
    pub(super) appeared: Vec<DeviceInfo>,
}

/// What ends the wait for a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum StepEnd {
    /// The unit is in update mode.
    UpdateMode,
    /// The bus shows what the sheet says.
    BusEvent(BusEvent),
    /// A person says so, or goes on.
    Acknowledged,
}

/// How a wait ended.
pub(super) enum StepOutcome {
    Reached(DeviceInfo),
    /// The step was done.
    Done,
    /// The application started again: all steps are to be done once more.
    Retry,
    TimedOut,
}

/// What a change means.
pub(super) enum ChangeKind {
    /// The unit is in update mode.
    Reached(DeviceInfo),
    /// Its application started again, which it should not have.
    Again,
    /// Something happened on its port.
    Moved,
    Nothing,
}

impl EntryRunner<'_, '_> {
    /// What is on the unit's port now.
    pub(super) fn there(&self) -> Option<&DeviceInfo> {
        self.watch.on_port()
    }

    /// What the system says of the unit's port, where it could not make out what is there.
    pub(super) fn trouble(&self) -> Option<String> {
        let bus = self.bench.bus(&self.way.unit.location).filter(|_| self.there().is_none())?;
        bus.trouble(&self.way.unit.location.port).map(|words| format!("The system says: {words}."))
    }
}
