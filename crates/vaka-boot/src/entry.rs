//! Waiting for a unit, and the way into update mode.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use vaka_core::dialect::Dialect;
use vaka_core::event::{Code, Event, Failure, Seen, StepName, StepState};
use vaka_core::sheet::{EntryStep, Ids, Route, Sheet, Signal, VersionSource};
use vaka_core::unit::{Mode, UsbId};
use vaka_core::{duration, text};
use vaka_usb::{Bus, Change, DeviceInfo, PolledWatch};

use crate::bench::{Bench, Candidate, Selector, bus_failure, dfu_mode, held, open_failure};
use crate::pace::Pace;
use crate::session::SessionError;
use crate::{dfu, dialect, identify};

/// A sign of life comes this often while a unit is waited for.
const REMINDER: Duration = Duration::from_secs(5);

/// How often the wish to stop is looked at while a bus is waited on.
const LOOK_UP: Duration = Duration::from_millis(100);

/// Which unit is looked for.
#[derive(Clone, Debug)]
pub struct Hunt<'a> {
    /// The one that was named.
    pub selector: Option<&'a Selector>,
    /// Whether one that no sheet knows will do, if no other fits.
    pub undescribed: bool,
    /// Sheets whose units are hoped for; for what a person is told.
    pub hopes: Vec<&'a Sheet>,
}

impl<'a> Hunt<'a> {
    /// For any unit of the bench's sheets that the selector means.
    pub fn any(bench: &Bench<'a>, selector: Option<&'a Selector>, undescribed: bool) -> Self {
        Self { selector, undescribed, hopes: bench.sheets().iter().collect() }
    }
}

/// A unit that did not show up by then may be a damaged one. Chosen by us: longer
/// than it takes to plug one in.
const SILENT_AFTER: Duration = Duration::from_secs(4);

/// Waits until exactly one unit fits.
///
/// # Errors
/// None came in time; several fit; a person stopped it; a bus is unusable.
pub fn find<'a>(
    bench: &Bench<'a>,
    hunt: &Hunt<'_>,
    wait: Duration,
    pace: &mut Pace<'_>,
) -> Result<Candidate<'a>, Failure> {
    let selector = hunt.selector;
    let _wanted = bench.want();
    let deadline = pace.now() + wait;
    let mut next_reminder = pace.now();
    let mut recovery_at = Some(pace.now() + SILENT_AFTER);
    loop {
        let mut found = bench.select(selector, hunt.undescribed).map_err(|error| bus_failure(&error))?;
        if found.iter().any(|candidate| !candidate.sheets.is_empty()) {
            found.retain(|candidate| !candidate.sheets.is_empty());
        }
        match found.len() {
            0 => {}
            1 => return Ok(found.remove(0)),
            _ => return Err(several(bench, &found)),
        }
        if pace.wants_stop() {
            return Err(stopped("Nothing was changed."));
        }
        if pace.now() >= deadline {
            return Err(none(bench, hunt, wait));
        }
        if pace.now() >= next_reminder {
            pace.waiting(&waited_for(hunt), deadline);
            next_reminder = pace.now() + REMINDER;
        }
        if recovery_at.is_some_and(|at| pace.now() >= at) {
            recovery_at = None;
            tell_recovery(hunt, pace);
        }
        pace.clock().sleep(PolledWatch::INTERVAL.min(deadline.saturating_sub(pace.now())));
    }
}

/// What a person is told to plug in.
fn expected(hunt: &Hunt<'_>) -> String {
    match hunt.selector {
        Some(Selector::Name(name)) => text::tame(name),
        Some(_) => "the unit that --unit names".to_owned(),
        None if hunt.hopes.is_empty() => "a unit with a DFU interface".to_owned(),
        None => {
            let names: Vec<&str> = hunt.hopes.iter().map(|sheet| sheet.product.name.as_str()).collect();
            names.join(" or ")
        }
    }
}

/// The sheets whose units are waited for: those of the name that was given, else
/// those that are hoped for.
fn hoped<'a>(hunt: &Hunt<'a>) -> Vec<&'a Sheet> {
    let named = |sheet: &&Sheet| match hunt.selector {
        Some(Selector::Name(name) | Selector::Any(name)) => {
            [&sheet.product.id, &sheet.product.name].iter().any(|known| known.eq_ignore_ascii_case(name))
        }
        _ => true,
    };
    hunt.hopes.iter().copied().filter(named).collect()
}

/// What is waited for. A unit that listens only for a moment after it was plugged in
/// is missed by whoever plugs it in before the tool waits.
fn waited_for(hunt: &Hunt<'_>) -> String {
    let hoped = hoped(hunt);
    let listens = |sheet: &&&Sheet| {
        let mut routes = sheet.variants.iter().flat_map(|variant| &variant.routes);
        routes.any(|route| route.listens.is_some())
    };
    match hoped.len() == hoped.iter().filter(listens).count() && !hoped.is_empty() {
        true => {
            let names: Vec<&str> = hoped.iter().map(|sheet| sheet.product.name.as_str()).collect();
            format!("{}: if it is already connected, pull it first, then connect it", names.join(" or "))
        }
        false => format!("{} to be plugged in", expected(hunt)),
    }
}

/// What helps with a unit that shows nothing, where its sheet says so.
fn tell_recovery(hunt: &Hunt<'_>, pace: &mut Pace<'_>) {
    for sheet in hoped(hunt) {
        let mut routes = sheet.variants.iter().flat_map(|variant| &variant.routes);
        let Some(route) = routes.find(|route| !route.recovery.is_empty()) else { continue };
        pace.warn(format!("If the {} shows nothing at all, its firmware may be damaged. Then:", sheet.product.name));
        for (number, hand) in (1..).zip(&route.recovery) {
            let (unit, of) = (String::new(), route.recovery.len());
            pace.tell(Event::Hand { unit, number, of, hand: hand.clone() });
        }
    }
}

fn several(bench: &Bench<'_>, found: &[Candidate<'_>]) -> Failure {
    let line = |candidate: &Candidate<'_>| {
        let name = candidate.sheets.first().map_or("no sheet knows it", |sheet| &sheet.product.name);
        format!("{} ({name}, {} mode, {})", bench.place(candidate.location()), candidate.mode, candidate.id())
    };
    let list: Vec<String> = found.iter().map(line).collect();
    Failure::new(Code::Refused, format!("{} units fit: {}.", found.len(), list.join("; ")))
        .state("Nothing was changed.")
        .cure(format!("Choose one, for example with --unit port={}.", bench.place(found[0].location())))
}

fn none(bench: &Bench<'_>, hunt: &Hunt<'_>, wait: Duration) -> Failure {
    let time = if wait.is_zero() { String::new() } else { format!(" within {}", duration::words(wait)) };
    let there = bench.devices().unwrap_or_default();
    let seen = match there.len() {
        0 => match bench.emptiness() {
            Some(reason) => format!("No USB device is there at all: {reason}."),
            None => "No USB device is there at all.".to_owned(),
        },
        count => {
            let ids: Vec<String> =
                there.iter().take(6).map(|device| identify::from_list(device).id.to_string()).collect();
            format!("{} there, but not it: {}.", text::count(count, "device"), ids.join(", "))
        }
    };
    Failure::new(Code::NoUnit, format!("No sign of {}{time}.", expected(hunt)))
        .state(seen)
        .cure("Try the cable on a unit that works (some only charge), and see 'vaka survey'. A unit that another program uses is not listed.")
}

/// Stopped by a person.
pub(crate) fn stopped(state: &str) -> Failure {
    Failure::new(Code::Stopped, "Stopped, as you asked.").state(state)
}

/// A unit as an event.
pub fn seen(bench: &Bench<'_>, device: &DeviceInfo) -> Seen {
    let candidate = bench.recognise(device);
    let facts = identify::from_list(device);
    let sheet = candidate.as_ref().and_then(|candidate| candidate.sheets.first().copied());
    let by_class = dfu_mode(device).filter(|mode| *mode == Mode::Update).unwrap_or(Mode::Unknown);
    let mode = candidate.as_ref().map_or(by_class, |candidate| candidate.mode);
    // Where the application itself shows the update disk, that is what runs.
    let runs = sheet.is_some_and(|sheet| sheet.runs(facts.id));
    let is_between = sheet.is_some_and(|sheet| sheet.comes_back.as_ref().is_some_and(|after| after.is(facts.id)));
    let mode = match runs {
        // What a stage left there is neither the application nor the stage's update mode.
        true if is_between => Mode::Unknown,
        true => Mode::Application,
        false => mode,
    };
    let variants = candidate.as_ref().zip(sheet).map(|(candidate, sheet)| candidate.variants_of(sheet));
    Seen {
        unit: bench.place(&device.location),
        bus: device.location.bus.clone(),
        port: text::tame(&device.location.port),
        id: facts.id,
        mode,
        product: sheet.map(|sheet| sheet.product.name.clone()).or_else(|| companion(bench, facts.id)),
        variants: variants.unwrap_or_default().iter().map(|variant| variant.id.clone()).collect(),
        serial: None,
        version: sheet
            .filter(|_| runs)
            .filter(|sheet| is_between || sheet.application.version == VersionSource::ReleaseNumber)
            .map(|_| facts.release.into()),
        layout: None,
        disk: None,
        folder: None,
        present: None,
        obstacle: None,
        next: Vec::new(),
    }
}

/// What a device is that a unit shows beside the one that is updated.
fn companion(bench: &Bench<'_>, id: UsbId) -> Option<String> {
    let of = |sheet: &Sheet| {
        let companion = sheet.product.companions.iter().find(|companion| companion.id.is(id))?;
        Some(format!("{}: {}", sheet.product.name, companion.name))
    };
    bench.sheets().iter().find_map(of)
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
}

impl<'a> Way<'a> {
    /// The way of a route.
    pub fn of(sheet: &'a Sheet, route: &'a Route, unit: &DeviceInfo) -> Self {
        Self {
            name: &sheet.product.name,
            entry: &route.entry,
            wanted: Wanted::Id(&route.id),
            application: identify::from_list(unit).id,
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
            Self::Id(ids) => ids.is(identify::from_list(device).id),
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
/// done.
///
/// The unit is the one that comes on the same port; what comes elsewhere is
/// told, and left alone.
///
/// # Errors
/// It did not come in time; the application refused; a person stopped it; the
/// bus is unusable. Nothing was changed in the unit.
pub fn enter(
    bench: &Bench<'_>,
    way: Way<'_>,
    unit: &DeviceInfo,
    wait: Duration,
    pace: &mut Pace<'_>,
) -> Result<DeviceInfo, Failure> {
    let place = bench.place(&unit.location);
    let bus = bus_of(bench, unit)?;
    let mut watch = PolledWatch::new(bus, pace.clock()).map_err(|error| bus_failure(&error))?;
    pace.tell(step(&place, StepState::Started, format!("until {} is seen at {place}", way.wanted)));
    for (index, entry) in way.entry.iter().enumerate() {
        match entry {
            EntryStep::Hand(hand) => {
                let (number, of) = (index + 1, way.entry.len());
                pace.tell(Event::Hand { unit: place.clone(), number, of, hand: hand.clone() });
            }
            EntryStep::Signal(Signal::DfuDetach) => detach(bench, unit)?,
            EntryStep::Signal(Signal::Dialect { dialect }) => ask_in_dialect(bench, unit, dialect, pace)?,
        }
    }
    let mut last = format!("{} went on running its application", way.name);
    let reached = await_device(&mut watch, wait, way.name, pace, |change, pace| {
        judge_change(bench, way, unit, change, &mut last, pace)
    })?;
    if let Some(device) = reached {
        pace.tell(step(&place, StepState::Done, "update mode reached; nothing was changed".to_owned()));
        return Ok(device);
    }
    let by_hand = way.entry.iter().any(|step| matches!(step, EntryStep::Hand(_)));
    Err(Failure::new(
        Code::NoUnit,
        format!("The unit at {place} did not come into update mode within {}.", duration::words(wait)),
    )
    .state(format!("Seen last: {last}. Nothing was changed in the unit."))
    .cure(match by_hand {
        true => "Do the steps again, in their order; --wait gives more time.",
        false => "Unplug the unit, plug it in again and run the same command; --wait gives more time.",
    }))
}

/// The bus that a unit was found on.
fn bus_of<'b>(bench: &'b Bench<'_>, unit: &DeviceInfo) -> Result<&'b dyn Bus, Failure> {
    let bus = bench.bus(&unit.location).map(|bus| &**bus);
    bus.ok_or_else(|| Failure::new(Code::Internal, "The unit's bus is not on the bench."))
}

fn step(place: &str, state: StepState, text: String) -> Event {
    Event::Step { unit: place.to_owned(), step: StepName::Enter, state, text, bytes: None, transfers: None }
}

/// Waits until a change is the one that `judge` waits for; `None` if the time
/// is over.
fn await_device(
    watch: &mut PolledWatch<'_>,
    wait: Duration,
    name: &str,
    pace: &mut Pace<'_>,
    mut judge: impl FnMut(Change, &mut Pace<'_>) -> Option<DeviceInfo>,
) -> Result<Option<DeviceInfo>, Failure> {
    let deadline = pace.now() + wait;
    let mut next_reminder = pace.now() + REMINDER;
    while pace.now() < deadline {
        if pace.wants_stop() {
            return Err(stopped("Nothing was changed in the unit."));
        }
        let slice = LOOK_UP.min(deadline.saturating_sub(pace.now()));
        for change in watch.next(slice).map_err(|error| bus_failure(&error))? {
            if let Some(device) = judge(change, pace) {
                return Ok(Some(device));
            }
        }
        if pace.now() >= next_reminder {
            pace.waiting(&format!("{name} to show up in update mode"), deadline);
            next_reminder = pace.now() + REMINDER;
        }
    }
    Ok(None)
}

/// Asks the application in its dialect to leave for its update mode.
fn ask_in_dialect(
    bench: &Bench<'_>,
    unit: &DeviceInfo,
    dialect: &Arc<Dialect>,
    pace: &mut Pace<'_>,
) -> Result<(), Failure> {
    let place = bench.place(&unit.location);
    let device = bench.open(&unit.location).map_err(|error| bus_failure(&error))?;
    dialect::enter(device, dialect.clone(), pace).map_err(|error| match error {
        SessionError::Held(by) => held(&place, &by),
        error => Failure::new(
            Code::Transfer,
            format!("The application at {place} does not go into update mode ({}): {error}.", dialect.name),
        )
        .state("Nothing was changed in the unit; its application runs.")
        .cure("Bring the unit into update mode by hand, then run the same command."),
    })
}

/// Asks the application to leave for its DFU mode.
fn detach(bench: &Bench<'_>, unit: &DeviceInfo) -> Result<(), Failure> {
    let place = bench.place(&unit.location);
    let mut device = bench.open(&unit.location).map_err(|error| bus_failure(&error))?;
    let identity = identify::identify(&mut *device).map_err(|error| open_failure(&error.into(), &place))?;
    let Some(dfu) = identity.facts.run_time_dfu() else {
        return Err(Failure::new(
            Code::Refused,
            format!("The application at {place} has no DFU interface that could be asked to detach."),
        )
        .state("Nothing was changed in the unit.")
        .cure(
            "An older application may lack it: bring the unit into update mode by hand, then run the same command.",
        ));
    };
    dfu::detach::detach(device, dfu).map_err(|error| match error {
        SessionError::Held(by) => held(&place, &by),
        error => Failure::new(Code::Transfer, format!("The application at {place} does not detach: {error}."))
            .state("Nothing was changed in the unit; its application runs.")
            .cure("Bring the unit into update mode by hand, then run the same command."),
    })
}

/// Waits until a device is on the unit's port: another enumeration than
/// before, unless the unit may have stayed.
///
/// # Errors
/// It did not come in time; a person stopped it; the bus is unusable.
pub fn come_back(
    bench: &Bench<'_>,
    unit: &DeviceInfo,
    may_stay: bool,
    wait: Duration,
    pace: &mut Pace<'_>,
) -> Result<DeviceInfo, Failure> {
    let place = bench.place(&unit.location);
    let bus = bus_of(bench, unit)?;
    let mut watch = PolledWatch::from_nothing(bus, pace.clock());
    let back = |change, _: &mut Pace<'_>| match change {
        Change::Came(device) if device.location == unit.location => {
            Some(device).filter(|device| may_stay || device.address != unit.address)
        }
        _ => None,
    };
    await_device(&mut watch, wait, "the unit", pace, back)?.ok_or_else(|| {
        Failure::new(Code::NoUnit, format!("The unit at {place} did not come back within {}.", duration::words(wait)))
            .state("Nothing was written to it.")
            .cure("Unplug it, put it into update mode again and run the same command.")
    })
}

/// Tells what a change means; the device, if it is the unit in update mode.
fn judge_change(
    bench: &Bench<'_>,
    way: Way<'_>,
    unit: &DeviceInfo,
    change: Change,
    last: &mut String,
    pace: &mut Pace<'_>,
) -> Option<DeviceInfo> {
    let id = |device: &DeviceInfo| -> UsbId { identify::from_list(device).id };
    match change {
        Change::Left(device) => {
            if device.location == unit.location {
                "the unit left the bus and did not come back".clone_into(last);
            }
            pace.tell(Event::Gone { unit: bench.place(&device.location), id: id(&device) });
        }
        Change::Came(device) => {
            pace.tell(Event::Seen(seen(bench, &device)));
            let here = device.location == unit.location;
            let by_hand = way.entry.iter().any(|step| matches!(step, EntryStep::Hand(_)));
            if here && way.wanted.is(&device) {
                return Some(device);
            }
            if here && id(&device) == way.application && by_hand {
                "the application started again; was a button let go too early".clone_into(last);
                pace.warn(
                    "The application started again: perhaps a button was let go too early. Do the steps once more.",
                );
            } else if here && id(&device) == way.application {
                "the application started again".clone_into(last);
            } else if here {
                *last = format!("{} came on the unit's port, which is not its update mode", id(&device));
            } else if way.wanted.is(&device) {
                let place = bench.place(&device.location);
                pace.warn(format!("A unit in update mode came at {place}. That is another port; it is left alone."));
            }
        }
    }
    None
}
