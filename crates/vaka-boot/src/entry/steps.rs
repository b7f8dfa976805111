//! The steps into update mode, in order, as the bus shows each one done.

use std::time::Duration;

use vaka_core::event::{StepName, StepState};
use vaka_core::sheet::{BusEvent, EntryStep, ManualStep};
use vaka_core::unit::DeviceId;
use vaka_usb::DeviceInfo;

use super::host_trigger;
use super::procedure::EntryProcedure;
use super::runner::{ChangeKind, EntryRunner, StepEnd, StepOutcome};
use crate::bench::buses::Bench;
use crate::bench::candidate::id_of;
use crate::bench::open_error::bus_failure;
use crate::bench::unit_event::seen;
use crate::bench::waiting::{UnitWatch, WaitEnd};
use crate::context::{Context, stopped};
use crate::event::Event;
use crate::failure::{AwaitedEnd, EntryTimeout, Failure, FailureKind, PortEvent};
use crate::operator::Operator;
use crate::remedy::Remedy;
use crate::warning::Warning;

/// Minimum timeout for steps that the bus cannot observe, such as removing a battery, with an
/// operator present. Chosen by us.
const MIN_MANUAL_TIMEOUT: Duration = Duration::from_secs(15 * 60);

/// Brings a unit from its application into update mode: sends host signals, shows manual steps,
/// and waits until the bus shows that they are done.
///
/// The unit is the device that appears on the same port, or elsewhere with a stable serial
/// number; other devices are reported and left alone.
///
/// # Errors
/// Timeout, rejection by the application, interruption by the user, or bus failure. Nothing was
/// changed in the unit.
pub fn enter(
    bench: &Bench<'_>,
    way: EntryProcedure<'_>,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<DeviceInfo, Failure> {
    let place = bench.place(&way.unit.location);
    let watch = UnitWatch::new(bench, way.unit, way.timeout, cx.clock()).map_err(|error| bus_failure(&error))?;
    cx.tell(step(&place, StepState::Started, format!("until {} appears at {place}", way.target)));
    let last_event = PortEvent::KeptRunning(way.name.to_owned());
    let (absent_since, appeared, before) = (None, Vec::new(), usb_devices_before(bench, way.unit));
    let mut entering =
        EntryRunner { bench, way, place, watch, operator, cx, absent_since, last_event, appeared, before };
    let reached = entering.run()?;
    // Discard input typed so far so that it does not answer the next prompt.
    entering.operator.take_ack();
    entering.cx.tell(step(&entering.place, StepState::Done, "update mode entered; nothing was changed".to_owned()));
    Ok(reached)
}

impl<'e> EntryRunner<'e, '_> {
    fn run(&mut self) -> Result<DeviceInfo, Failure> {
        let steps = self.way.entry;
        let mut index = 0;
        while index < steps.len() {
            let step = self.begin(index)?;
            index += 1;
            let Some(until) = self.until(step, index == steps.len()) else { continue };
            match self.wait(until, step)? {
                StepOutcome::Reached(device) => return Ok(device),
                StepOutcome::Done => {}
                StepOutcome::Retry => index = 0,
                StepOutcome::TimedOut => return Err(self.late(until, step)),
            }
        }
        // Reached only if there are no entry steps.
        match self.wait(StepEnd::UpdateMode, None)? {
            StepOutcome::Reached(device) => Ok(device),
            _ => Err(self.late(StepEnd::UpdateMode, None)),
        }
    }

    /// Sends a signal, or shows a manual step.
    fn begin(&mut self, index: usize) -> Result<Option<&'e ManualStep>, Failure> {
        match &self.way.entry[index] {
            EntryStep::Signal(signal) => {
                host_trigger::give(self.bench, &self.way, signal, self.cx)?;
                Ok(None)
            }
            EntryStep::Manual(step) => {
                let (unit, number, of) = (self.place.clone(), index + 1, self.way.entry.len());
                self.cx.tell(Event::ManualStep { unit, number, of, step: (**step).clone() });
                Ok(Some(step))
            }
        }
    }

    /// The event that ends a step; `None` if the next step follows at once, because the bus
    /// cannot show the step and no operator can confirm it.
    fn until(&self, step: Option<&ManualStep>, is_last: bool) -> Option<StepEnd> {
        match step {
            _ if is_last => Some(StepEnd::UpdateMode),
            None => None,
            Some(step) => {
                step.shows.map(StepEnd::BusEvent).or(self.operator.is_there().then_some(StepEnd::Acknowledged))
            }
        }
    }

    fn wait(&mut self, until: StepEnd, step: Option<&ManualStep>) -> Result<StepOutcome, Failure> {
        if self.operator.is_there() && step.is_some() {
            let time = if until == StepEnd::Acknowledged {
                self.way.timeout.max(MIN_MANUAL_TIMEOUT)
            } else {
                self.way.timeout
            };
            self.watch.wait().restart(time, self.cx);
        }
        // Discard input typed before this step was shown, and nothing that is typed after the prompt.
        self.operator.take_ack();
        if step.is_some() {
            let what = self.waited_for(until);
            self.watch.wait().sign(&what, self.cx);
        }
        loop {
            let changes = self.watch.next(self.cx).map_err(|error| bus_failure(&error))?;
            let mut has_moved = false;
            for change in changes {
                match self.judge(&change, until, step) {
                    ChangeKind::Reached(device) => return Ok(StepOutcome::Reached(device)),
                    ChangeKind::Again if self.has_steps_before() => return Ok(StepOutcome::Retry),
                    ChangeKind::Moved | ChangeKind::Again => has_moved = true,
                    ChangeKind::Nothing => {}
                }
            }
            if let Some(device) = self.node_on_usb() {
                return Ok(StepOutcome::Reached(device));
            }
            if self.is_done(until, has_moved) {
                return Ok(StepOutcome::Done);
            }
            self.tell_emptiness(until, step);
            let what = self.waited_for(until);
            match self.watch.wait().check(|| what, self.cx) {
                None => {}
                Some(WaitEnd::TimedOut) => return Ok(StepOutcome::TimedOut),
                Some(WaitEnd::Stopped) => return Err(stopped().unchanged()),
            }
        }
    }

    /// The chip's boot mode of a node that left its bus: the one device in update mode that appeared since.
    fn node_on_usb(&mut self) -> Option<DeviceInfo> {
        let before = self.before.as_ref().filter(|_| self.there().is_none())?;
        let there = self.bench.devices().ok()?;
        let mut came = there.into_iter().filter(|device| self.way.target.is(device) && !before.contains(device));
        let device = came.next().filter(|_| came.next().is_none())?;
        self.cx.tell(Event::Attached(Box::new(seen(self.bench, &device))));
        self.cx.warn(Warning::NodeOnUsb { place: self.bench.place(&device.location) });
        Some(device)
    }

    fn is_done(&mut self, until: StepEnd, has_moved: bool) -> bool {
        match until {
            StepEnd::UpdateMode => false,
            StepEnd::BusEvent(BusEvent::Gone) => self.there().is_none(),
            StepEnd::BusEvent(BusEvent::Back) => self.there().is_some_and(|device| self.watch.has_returned_as(device)),
            StepEnd::Acknowledged => has_moved || self.operator.take_ack(),
        }
    }

    /// Whether the user performs several steps in order.
    fn has_steps_before(&self) -> bool {
        self.way.entry.len() > 1 && self.has_manual_steps()
    }

    fn has_manual_steps(&self) -> bool {
        self.way.entry.iter().any(|step| matches!(step, EntryStep::Manual(_)))
    }

    fn waited_for(&self, until: StepEnd) -> String {
        let name = self.way.name;
        match until {
            StepEnd::UpdateMode => format!("{name} to appear in update mode"),
            StepEnd::BusEvent(BusEvent::Gone) => format!("{name} to disconnect"),
            StepEnd::BusEvent(BusEvent::Back) => format!("{name} to return to the bus"),
            StepEnd::Acknowledged => "Enter, or for the next bus event".to_owned(),
        }
    }

    fn late(&self, until: StepEnd, step: Option<&ManualStep>) -> Failure {
        let describe = |device: &DeviceInfo| {
            let serial = self.bench.recognise(device).and_then(|_| self.bench.serial_if_safe(device));
            let serial = serial.map(|serial| format!(", serial number {serial}")).unwrap_or_default();
            format!("{} at {}{serial}", id_of(device), self.bench.place(&device.location))
        };
        let timeout = EntryTimeout {
            target: self.way.target.to_string(),
            name: self.way.name.to_owned(),
            place: self.place.clone(),
            awaited: match until {
                StepEnd::UpdateMode => AwaitedEnd::UpdateMode,
                StepEnd::BusEvent(BusEvent::Gone) => AwaitedEnd::Gone,
                StepEnd::BusEvent(BusEvent::Back) => AwaitedEnd::Back,
                StepEnd::Acknowledged => AwaitedEnd::Acknowledged,
            },
            action: step.map(|step| step.action.trim_end_matches('.').to_owned()),
            waited: self.way.timeout,
            present: self.there().map(describe),
            last_event: self.last_event.clone(),
            elsewhere: self.watch.devices().iter().filter(|device| self.is_stranger(device)).map(describe).collect(),
            kernel_report: self.kernel_report(),
        };
        let remedy = match self.has_manual_steps() {
            true => Remedy::RepeatEntrySteps { steps: self.steps_in_order(), is_absent: timeout.present.is_none() },
            false => Remedy::ReplugOrWaitLonger,
        };
        Failure::new(FailureKind::EntryTimeout(Box::new(timeout))).remedy(remedy)
    }

    /// Whether a device appeared on another port since the entry started.
    fn is_stranger(&self, device: &DeviceInfo) -> bool {
        self.appeared.iter().any(|other| other.location == device.location && other.address == device.address)
    }

    /// The manual steps of the entry, in order.
    fn steps_in_order(&self) -> Vec<String> {
        let steps = self.way.entry.iter().filter_map(|step| match step {
            EntryStep::Manual(step) => Some(step.action.trim_end_matches('.').to_owned()),
            EntryStep::Signal(_) => None,
        });
        steps.collect()
    }
}

/// The devices that are attached before a node leaves its bus. `None` for a unit that is not a node, and if
/// they cannot be listed: a device that was there before must not be taken for the node.
fn usb_devices_before(bench: &Bench<'_>, unit: &DeviceInfo) -> Option<Vec<DeviceInfo>> {
    if matches!(id_of(unit), DeviceId::Node(_)) { bench.devices().ok() } else { None }
}

fn step(place: &str, state: StepState, text: String) -> Event {
    Event::Step { unit: place.to_owned(), step: StepName::Enter, state, text, bytes: None, transfers: None }
}
