//! The way into update mode: what the host does, and what a person does, one thing after
//! the other as the bus shows each of them done.

mod host_trigger;
mod mistake_hints;

use std::fmt;
use std::time::Duration;

use vaka_base::duration;
use vaka_core::event::{Event, ExitCode, Failure, StepName, StepState};
use vaka_core::sheet::{BusEvent, EntryStep, Ids, ManualStep, Route, Sheet};
use vaka_core::unit::{Mode, UsbId};
use vaka_usb::{Bus, Change, DeviceInfo, PolledWatch};

use crate::bench::buses::Bench;
use crate::bench::candidate::dfu_mode;
use crate::bench::open_error::bus_failure;
use crate::bench::tracking::{Absence, PortMatch, TrackedUnit};
use crate::context::Context;
use crate::operator::Operator;
use crate::protocol::identity;

/// A sign of life comes this often while a unit is waited for.
pub(crate) const REMINDER: Duration = Duration::from_secs(5);

/// What the bus cannot show, such as taking a battery out, gets at least so long where a
/// person is there to say that it is done. Chosen by us.
const PREPARING: Duration = Duration::from_secs(15 * 60);

/// How often the wish to stop is looked at while a bus is waited on.
const LOOK_UP: Duration = Duration::from_millis(100);

/// Stopped by a person.
pub(crate) fn stopped(state: &str) -> Failure {
    let failure = Failure::new(ExitCode::Stopped, "Stopped, as you asked.");
    failure.state(state).cure("Run the same command again to go on.")
}

/// The way from an application into update mode.
#[derive(Clone, Copy, Debug)]
pub struct Way<'a> {
    /// What the unit is called.
    pub name: &'a str,
    /// What is done, in order.
    pub entry: &'a [EntryStep],
    /// What must come.
    pub wanted: Wanted<'a>,
    /// The application's ids, to tell when it came back instead.
    pub application: UsbId,
    /// The unit's serial number, where the sheet says that it stays the same.
    pub serial: Option<&'a str>,
}

impl<'a> Way<'a> {
    /// The way of a route.
    pub fn of(sheet: &'a Sheet, route: &'a Route, unit: &DeviceInfo, serial: Option<&'a str>) -> Self {
        Self {
            name: &sheet.product.name,
            entry: &route.entry,
            wanted: Wanted::Id(&route.id),
            application: identity::from_list(unit).id,
            serial: serial.filter(|_| sheet.product.serial_stays),
        }
    }
}

/// What comes when update mode is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted<'a> {
    /// A device with these ids.
    Id(&'a Ids),
    /// Any device with an interface in DFU mode.
    DfuMode,
}

impl Wanted<'_> {
    fn is(self, device: &DeviceInfo) -> bool {
        match self {
            Self::Id(ids) => ids.is(identity::from_list(device).id),
            Self::DfuMode => dfu_mode(device) == Some(Mode::Update),
        }
    }
}

impl fmt::Display for Wanted<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Id(id) => id.fmt(f),
            Self::DfuMode => f.write_str("a DFU mode"),
        }
    }
}

/// Brings a unit from its application into update mode: does what the host can
/// do, shows what a person has to do, and waits until the bus shows that it is
/// done. `wait` is how long all of it may take; where a person is there, each step
/// that they are shown has that time.
///
/// The unit is the one that comes on the same port, or elsewhere with a serial number
/// that the sheet calls stable; what else comes is told, and left alone.
///
/// # Errors
/// It did not come in time; the application refused; a person stopped it; the
/// bus is unusable. Nothing was changed in the unit.
pub fn enter(
    bench: &Bench<'_>,
    way: Way<'_>,
    unit: &DeviceInfo,
    wait: Duration,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<DeviceInfo, Failure> {
    let place = bench.place(&unit.location);
    let bus = bus_of(bench, unit)?;
    let watch = PolledWatch::new(bus, cx.clock()).map_err(|error| bus_failure(&error))?;
    cx.tell(step(&place, StepState::Started, format!("until {} is seen at {place}", way.wanted)));
    let last = format!("{} went on running its application", way.name);
    let (deadline, next_reminder) = (cx.now() + wait, cx.now() + REMINDER);
    let mut entering = EntryRunner {
        bench,
        way,
        unit,
        place,
        watch,
        wait,
        operator,
        cx,
        deadline,
        next_reminder,
        empty_since: None,
        last,
        appeared: Vec::new(),
        absence: Absence::of(unit),
    };
    let reached = entering.all()?;
    // What a person typed meanwhile is no answer to what they are asked next.
    entering.operator.acknowledges();
    entering.cx.tell(step(&entering.place, StepState::Done, "update mode reached; nothing was changed".to_owned()));
    Ok(reached)
}

/// A unit on its way.
struct EntryRunner<'e, 'p> {
    bench: &'e Bench<'e>,
    way: Way<'e>,
    unit: &'e DeviceInfo,
    place: String,
    watch: PolledWatch<'e>,
    wait: Duration,
    operator: &'e mut dyn Operator,
    cx: &'e mut Context<'p>,
    deadline: Duration,
    next_reminder: Duration,
    /// Since when nothing is on the unit's port, until that was told.
    empty_since: Option<Duration>,
    /// What was seen last, for the message.
    last: String,
    /// Devices that appeared on other ports.
    appeared: Vec<DeviceInfo>,
    /// Whether the unit has left its port since the entry began.
    absence: Absence<'e>,
}

/// What ends the wait for a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Until {
    /// The unit is in update mode.
    Mode,
    /// The bus shows what the sheet says.
    Shows(BusEvent),
    /// A person says so, or goes on.
    Said,
}

/// How a wait ended.
enum StepOutcome {
    Reached(DeviceInfo),
    /// The step was done.
    Done,
    /// The application started again: all steps are to be done once more.
    Again,
    Late,
}

impl<'e> EntryRunner<'e, '_> {
    fn all(&mut self) -> Result<DeviceInfo, Failure> {
        let steps = self.way.entry;
        let mut index = 0;
        while index < steps.len() {
            let hand = self.begin(index)?;
            index += 1;
            let Some(until) = self.until(hand, index == steps.len()) else { continue };
            match self.wait(until, hand)? {
                StepOutcome::Reached(device) => return Ok(device),
                StepOutcome::Done => {}
                StepOutcome::Again => index = 0,
                StepOutcome::Late => return Err(self.late(until, hand)),
            }
        }
        // A way that ends before the unit is there has no steps at all.
        match self.wait(Until::Mode, None)? {
            StepOutcome::Reached(device) => Ok(device),
            _ => Err(self.late(Until::Mode, None)),
        }
    }

    /// Gives a signal, or shows a hand step.
    fn begin(&mut self, index: usize) -> Result<Option<&'e ManualStep>, Failure> {
        match &self.way.entry[index] {
            EntryStep::Signal(signal) => {
                host_trigger::give(self.bench, self.unit, signal, self.cx)?;
                Ok(None)
            }
            EntryStep::Hand(hand) => {
                let (unit, number, of) = (self.place.clone(), index + 1, self.way.entry.len());
                self.cx.tell(Event::Hand { unit, number, of, hand: (**hand).clone() });
                Ok(Some(hand))
            }
        }
    }

    /// What ends the wait after a step; nothing where the next one follows at once: what
    /// the bus cannot show, and nobody is there to say, is shown with what comes then.
    fn until(&self, hand: Option<&ManualStep>, is_last: bool) -> Option<Until> {
        match hand {
            _ if is_last => Some(Until::Mode),
            None => None,
            Some(hand) => hand.shows.map(Until::Shows).or(self.operator.is_there().then_some(Until::Said)),
        }
    }

    fn wait(&mut self, until: Until, hand: Option<&ManualStep>) -> Result<StepOutcome, Failure> {
        if self.operator.is_there() && hand.is_some() {
            let time = if until == Until::Said { self.wait.max(PREPARING) } else { self.wait };
            self.deadline = self.cx.now() + time;
        }
        if hand.is_some() {
            self.remind(until);
        }
        // What a person typed before they were shown this is no answer to it.
        self.operator.acknowledges();
        loop {
            if self.cx.wants_stop() {
                return Err(stopped("Nothing was changed in the unit."));
            }
            let left = self.deadline.saturating_sub(self.cx.now());
            let changes = self.watch.next(LOOK_UP.min(left)).map_err(|error| bus_failure(&error))?;
            self.absence.observe(self.bench, self.watch.there());
            let mut has_moved = false;
            for change in changes {
                match self.judge(&change, until, hand) {
                    mistake_hints::ChangeKind::Reached(device) => return Ok(StepOutcome::Reached(device)),
                    mistake_hints::ChangeKind::Again if self.has_steps_before() => return Ok(StepOutcome::Again),
                    mistake_hints::ChangeKind::Moved | mistake_hints::ChangeKind::Again => has_moved = true,
                    mistake_hints::ChangeKind::Nothing => {}
                }
            }
            let is_done = match until {
                Until::Mode => false,
                Until::Shows(BusEvent::Gone) => self.there().is_none(),
                Until::Shows(BusEvent::Back) => self.there().is_some_and(|device| self.absence.has_ended_with(device)),
                Until::Said => has_moved || self.operator.acknowledges(),
            };
            if is_done {
                return Ok(StepOutcome::Done);
            }
            if self.cx.now() >= self.deadline {
                return Ok(StepOutcome::Late);
            }
            self.tell_emptiness(until, hand);
            if self.cx.now() >= self.next_reminder {
                self.remind(until);
            }
        }
    }

    /// Whether the steps are several things that a person does one after the other.
    fn has_steps_before(&self) -> bool {
        self.way.entry.len() > 1 && self.has_hands()
    }

    fn has_hands(&self) -> bool {
        self.way.entry.iter().any(|step| matches!(step, EntryStep::Hand(_)))
    }

    /// What is on the unit's port now.
    fn there(&self) -> Option<&DeviceInfo> {
        self.watch.there().iter().find(|device| self.bench.is_same_port(&self.unit.location, &device.location))
    }

    fn remind(&mut self, until: Until) {
        let name = self.way.name;
        let what = match until {
            Until::Mode => format!("{name} to show up in update mode"),
            Until::Shows(BusEvent::Gone) => format!("{name} to leave the bus"),
            Until::Shows(BusEvent::Back) => format!("{name} to come back on the bus"),
            Until::Said => "Enter, or for what comes next on the bus".to_owned(),
        };
        self.cx.waiting(&what, self.deadline);
        self.next_reminder = self.cx.now() + REMINDER;
    }

    fn late(&self, until: Until, hand: Option<&ManualStep>) -> Failure {
        let time = duration::words(self.wait);
        let trouble = self.trouble().map(|words| format!(" {words}")).unwrap_or_default();
        let (place, action) = (&self.place, hand.map_or("", |hand| hand.action.trim_end_matches('.')));
        let what = match until {
            Until::Mode => format!("{} did not appear at {place} in update mode within {time}", self.way.name),
            Until::Shows(BusEvent::Gone) => {
                format!("{} did not leave the bus at {place} within {time}, as it does after: {action}", self.way.name)
            }
            Until::Shows(BusEvent::Back) => {
                format!("{} did not come back at {place} within {time}, as it does after: {action}", self.way.name)
            }
            Until::Said => format!("nobody confirmed within {time} that this was done: {action}"),
        };
        let message = format!("Looked for {}: {what}. {}{trouble}", self.way.wanted, self.seen_instead());
        let steps = self.steps_in_order();
        let cure = match self.has_hands() {
            true if self.there().is_none() => {
                format!(
                    "Try the cable on a unit that works (some cables only charge) and check the power. Then, in this order: {steps}. --wait gives more time."
                )
            }
            true => format!("Do the steps again, in this order: {steps}. --wait gives more time."),
            false => {
                "Check cable and power, unplug the unit, plug it in again and run the same command; --wait gives more time."
                    .to_owned()
            }
        };
        Failure::new(ExitCode::NoUnit, message).cure(cure)
    }

    /// Describes the device on the unit's port and the devices that appeared on other ports.
    fn seen_instead(&self) -> String {
        let describe = |device: &DeviceInfo| {
            let serial = self.bench.recognise(device).and_then(|_| self.bench.told_serial(device));
            let serial = serial.map(|serial| format!(", serial number {serial}")).unwrap_or_default();
            format!("{} at {}{serial}", identity::from_list(device).id, self.bench.place(&device.location))
        };
        let here = match self.there() {
            Some(device) => format!("Seen instead: {} ({}).", describe(device), self.last),
            None => format!("Nothing is on that port: {}.", self.last),
        };
        let others: Vec<String> =
            self.watch.there().iter().filter(|device| self.is_stranger(device)).map(describe).collect();
        if others.is_empty() { here } else { format!("{here} Appeared elsewhere: {}.", others.join("; ")) }
    }

    /// Whether a device appeared on another port since the entry began.
    fn is_stranger(&self, device: &DeviceInfo) -> bool {
        self.appeared.iter().any(|other| other.location == device.location && other.address == device.address)
    }

    /// The manual steps of the entry, numbered, in one line.
    fn steps_in_order(&self) -> String {
        let hands = self.way.entry.iter().filter_map(|step| match step {
            EntryStep::Hand(hand) => Some(hand.action.trim_end_matches('.')),
            EntryStep::Signal(_) => None,
        });
        let steps: Vec<String> = (1..).zip(hands).map(|(number, action)| format!("{number}. {action}")).collect();
        steps.join("; ")
    }

    /// What the system says of the unit's port, where it could not make out what is there.
    fn trouble(&self) -> Option<String> {
        let bus = self.bench.bus(&self.unit.location).filter(|_| self.there().is_none())?;
        bus.trouble(&self.unit.location.port).map(|words| format!("The system says: {words}."))
    }
}

/// The bus that a unit was found on.
fn bus_of<'b>(bench: &'b Bench<'_>, unit: &DeviceInfo) -> Result<&'b dyn Bus, Failure> {
    bench.bus(&unit.location).map(|bus| &**bus).ok_or_else(no_bus)
}

fn no_bus() -> Failure {
    Failure::new(ExitCode::Internal, "The unit's bus is not on the bench.")
}

fn step(place: &str, state: StepState, text: String) -> Event {
    Event::Step { unit: place.to_owned(), step: StepName::Enter, state, text, bytes: None, transfers: None }
}

/// Waits until the unit is there again: with another enumeration than before or after its port
/// was seen empty, unless it may have stayed. That is what comes on its port, or elsewhere with
/// its serial number where that is known to stay. A server that does not answer is asked again
/// until the time is over.
///
/// # Errors
/// It did not come in time; a person stopped it; the bus is unusable.
pub fn come_back(
    bench: &Bench<'_>,
    followed: TrackedUnit<'_>,
    may_stay: bool,
    wait: Duration,
    cx: &mut Context<'_>,
) -> Result<DeviceInfo, Failure> {
    let unit = followed.unit;
    let mut watch = PolledWatch::from_nothing(bus_of(bench, unit)?, cx.clock());
    let mut absence = Absence::of(unit);
    let deadline = cx.now() + wait;
    let mut next_reminder = cx.now() + REMINDER;
    let mut last_error = None;
    while cx.now() < deadline {
        if cx.wants_stop() {
            return Err(stopped("Nothing was changed in the unit."));
        }
        let slice = LOOK_UP.min(deadline.saturating_sub(cx.now()));
        let changes = match watch.next(slice) {
            Ok(changes) => changes,
            Err(error) => {
                last_error = Some(error);
                cx.clock().sleep(slice);
                continue;
            }
        };
        last_error = None;
        absence.observe(bench, watch.there());
        for change in changes {
            let Change::Came(device) = change else { continue };
            match followed.meets(bench, &device, watch.there()) {
                PortMatch::Here if may_stay || absence.has_ended_with(&device) => return Ok(device),
                PortMatch::Moved => {
                    cx.warn(moved(bench, &device));
                    return Ok(device);
                }
                _ => {}
            }
        }
        if cx.now() >= next_reminder {
            cx.waiting("the unit to come back", deadline);
            next_reminder = cx.now() + REMINDER;
        }
    }
    if let Some(error) = last_error {
        return Err(bus_failure(&error));
    }
    let (place, time) = (bench.place(&unit.location), duration::words(wait));
    Err(Failure::new(ExitCode::NoUnit, format!("The unit at {place} did not come back within {time}."))
        .cure("Check cable and power, put the unit into update mode again and run the same command."))
}

/// The unit came on another port than it was on.
fn moved(bench: &Bench<'_>, device: &DeviceInfo) -> String {
    format!(
        "It came at {}, another port, with the same serial number: it is the same unit.",
        bench.place(&device.location)
    )
}
