//! Waiting for a unit, and the way into update mode.

use std::time::Duration;

use vaka_core::event::{Code, Event, Failure, Seen, StepName, StepState};
use vaka_core::sheet::{Route, Sheet};
use vaka_core::unit::{Mode, UsbId};
use vaka_core::{duration, text};
use vaka_usb::{Change, DeviceInfo, PolledWatch};

use crate::bench::{Bench, Candidate, Selector, bus_failure};
use crate::identify;
use crate::pace::Pace;

/// A sign of life comes this often while a unit is waited for.
const REMINDER: Duration = Duration::from_secs(5);

/// Waits until exactly one unit fits the selector.
///
/// # Errors
/// None came in time; several fit; a person stopped it; a bus is unusable.
pub fn find<'a>(
    bench: &Bench<'a>,
    selector: Option<&Selector>,
    wait: Duration,
    pace: &mut Pace<'_>,
) -> Result<Candidate<'a>, Failure> {
    let deadline = pace.now() + wait;
    let mut next_reminder = pace.now();
    loop {
        let mut found = bench.select(selector).map_err(|error| bus_failure(&error))?;
        match found.len() {
            0 => {}
            1 => return Ok(found.remove(0)),
            _ => return Err(several(bench, &found)),
        }
        if pace.wants_stop() {
            return Err(stopped("Nothing was changed."));
        }
        if pace.now() >= deadline {
            return Err(none(bench, selector, wait));
        }
        if pace.now() >= next_reminder {
            pace.waiting(&format!("{} to be plugged in", expected(bench, selector)), deadline);
            next_reminder = pace.now() + REMINDER;
        }
        pace.clock().sleep(PolledWatch::INTERVAL.min(deadline.saturating_sub(pace.now())));
    }
}

/// What a person is told to plug in.
fn expected(bench: &Bench<'_>, selector: Option<&Selector>) -> String {
    match selector {
        Some(_) => "the unit that --unit names".to_owned(),
        None => {
            let names: Vec<&str> = bench.sheets().iter().map(|sheet| sheet.product.name.as_str()).collect();
            names.join(" or ")
        }
    }
}

fn several(bench: &Bench<'_>, found: &[Candidate<'_>]) -> Failure {
    let line = |candidate: &Candidate<'_>| {
        let name = candidate.sheets.first().map_or("", |sheet| &sheet.product.name);
        format!("{} ({name}, {} mode, {})", bench.place(candidate.location()), candidate.mode, candidate.id())
    };
    let list: Vec<String> = found.iter().map(line).collect();
    Failure::new(Code::Refused, format!("{} units fit: {}.", found.len(), list.join("; ")))
        .state("Nothing was changed.")
        .cure(format!("Choose one, for example with --unit port={}.", bench.place(found[0].location())))
}

fn none(bench: &Bench<'_>, selector: Option<&Selector>, wait: Duration) -> Failure {
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
    Failure::new(Code::NoUnit, format!("No sign of {}{time}.", expected(bench, selector)))
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
    let mode = candidate.as_ref().map_or(Mode::Unknown, |candidate| candidate.mode);
    let variants = candidate.as_ref().zip(sheet).map(|(candidate, sheet)| candidate.variants_of(sheet));
    Seen {
        unit: bench.place(&device.location),
        bus: device.location.bus.clone(),
        port: text::tame(&device.location.port),
        id: facts.id,
        mode,
        product: sheet.map(|sheet| sheet.product.name.clone()),
        variants: variants.unwrap_or_default().iter().map(|variant| variant.id.clone()).collect(),
        serial: None,
        version: sheet
            .filter(|sheet| mode == Mode::Application && sheet.application.tells_version)
            .map(|_| facts.release),
        layout: None,
        obstacle: None,
        next: Vec::new(),
    }
}

/// Brings a unit from its application into update mode: shows what a person
/// has to do, and waits until the bus shows that it is done.
///
/// The unit is the one that comes on the same port; what comes elsewhere is
/// told, and left alone.
///
/// # Errors
/// It did not come in time; a person stopped it; the bus is unusable. Nothing
/// was changed in the unit.
pub fn enter(
    bench: &Bench<'_>,
    sheet: &Sheet,
    route: &Route,
    unit: &DeviceInfo,
    wait: Duration,
    pace: &mut Pace<'_>,
) -> Result<DeviceInfo, Failure> {
    let place = bench.place(&unit.location);
    let step = |state, text: String| Event::Step {
        unit: place.clone(),
        step: StepName::Enter,
        state,
        text,
        bytes: None,
        transfers: None,
    };
    let bus =
        bench.bus(&unit.location).ok_or_else(|| Failure::new(Code::Internal, "The unit's bus is not on the bench."))?;
    let mut watch = PolledWatch::new(&**bus, pace.clock()).map_err(|error| bus_failure(&error))?;
    pace.tell(step(StepState::Started, format!("until {} is seen at {place}", route.id)));
    for (index, hand) in route.entry.iter().enumerate() {
        pace.tell(Event::Hand { unit: place.clone(), number: index + 1, of: route.entry.len(), hand: hand.clone() });
    }
    let deadline = pace.now() + wait;
    let mut next_reminder = pace.now() + REMINDER;
    let mut last = format!("{} went on running its application", sheet.product.name);
    while pace.now() < deadline {
        if pace.wants_stop() {
            return Err(stopped("Nothing was changed in the unit."));
        }
        let slice = PolledWatch::INTERVAL.min(deadline.saturating_sub(pace.now()));
        for change in watch.next(slice).map_err(|error| bus_failure(&error))? {
            if let Some(device) = judge_change(bench, sheet, route, unit, change, &mut last, pace) {
                pace.tell(step(StepState::Done, "update mode reached; nothing was changed".to_owned()));
                return Ok(device);
            }
        }
        if pace.now() >= next_reminder {
            pace.waiting(&format!("{} to show up in update mode", sheet.product.name), deadline);
            next_reminder = pace.now() + REMINDER;
        }
    }
    Err(Failure::new(
        Code::NoUnit,
        format!("The unit at {place} did not come into update mode within {}.", duration::words(wait)),
    )
    .state(format!("Seen last: {last}. Nothing was changed in the unit."))
    .cure("Do the steps again, in their order; --wait gives more time."))
}

/// Tells what a change means; the device, if it is the unit in update mode.
fn judge_change(
    bench: &Bench<'_>,
    sheet: &Sheet,
    route: &Route,
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
            if here && id(&device) == route.id {
                return Some(device);
            }
            if here && id(&device) == sheet.application.id {
                "the application started again; was a button let go too early".clone_into(last);
                pace.warn(
                    "The application started again: perhaps a button was let go too early. Do the steps once more.",
                );
            } else if here {
                *last = format!("{} came on the unit's port, which is not its update mode", id(&device));
            } else if id(&device) == route.id {
                let place = bench.place(&device.location);
                pace.warn(format!("A unit in update mode came at {place}. That is another port; it is left alone."));
            }
        }
    }
    None
}
