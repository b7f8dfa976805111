//! A unit on its way into update mode.

use std::time::Duration;

use vaka_core::sheet::BusEvent;
use vaka_usb::DeviceInfo;

use super::procedure::EntryProcedure;
use crate::bench::buses::Bench;
use crate::bench::waiting::UnitWatch;
use crate::context::Context;
use crate::failure::PortEvent;
use crate::operator::Operator;

/// The state of one entry into update mode.
pub(super) struct EntryRunner<'e, 'p> {
    pub(super) bench: &'e Bench<'e>,
    pub(super) way: EntryProcedure<'e>,
    pub(super) place: String,
    pub(super) watch: UnitWatch<'e>,
    pub(super) operator: &'e mut dyn Operator,
    pub(super) cx: &'e mut Context<'p>,
    /// When the unit's port became empty; `None` once a hint about it was emitted.
    pub(super) absent_since: Option<Duration>,
    /// The last event on the unit's port, for the message of a time-out.
    pub(super) last_event: PortEvent,
    /// Devices that appeared on other ports.
    pub(super) appeared: Vec<DeviceInfo>,
    /// The devices that were attached at the start, if the unit is a node of a CAN bus: its chip's boot mode
    /// is on a USB port.
    pub(super) before: Option<Vec<DeviceInfo>>,
}

/// The event that ends the wait for a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum StepEnd {
    /// The unit is in update mode.
    UpdateMode,
    /// The bus shows the event that the sheet declares for the step.
    BusEvent(BusEvent),
    /// The user confirms the step, or the bus shows that the next one was done.
    Acknowledged,
}

/// The end of a wait.
pub(super) enum StepOutcome {
    Reached(DeviceInfo),
    /// The step was done.
    Done,
    /// The application started again: all steps must be repeated.
    Retry,
    TimedOut,
}

/// The consequence of a bus event for the entry.
pub(super) enum ChangeKind {
    /// The unit is in update mode.
    Reached(DeviceInfo),
    /// The application started again.
    Again,
    /// Another event happened on its port.
    Moved,
    Nothing,
}

impl EntryRunner<'_, '_> {
    /// The device on the unit's port at the last observation.
    pub(super) fn there(&self) -> Option<&DeviceInfo> {
        self.watch.on_port()
    }

    /// The kernel's message about the unit's port, if it could not enumerate a device there.
    pub(super) fn kernel_report(&self) -> Option<String> {
        let bus = self.bench.bus(&self.way.unit.location).filter(|_| self.there().is_none())?;
        bus.trouble(&self.way.unit.location.port)
    }
}
