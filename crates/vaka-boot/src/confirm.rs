//! After the restart: did the application come back?

use std::time::Duration;

use vaka_core::event::{After, Next};
use vaka_core::sheet::{Route, Sheet, VersionSource};
use vaka_core::unit::{Mode, UnitFacts};
use vaka_core::version::Version;
use vaka_core::{duration, event::Event};
use vaka_usb::{DeviceInfo, PolledWatch};

use crate::bench::{Bench, OpenError, dfu_mode};
use crate::entry;
use crate::identify;
use crate::opened::Opened;
use crate::pace::Pace;

/// What was seen after the restart.
pub struct Seen {
    /// The result's word for it.
    pub after: After,
    /// A sentence.
    pub words: String,
    /// What is needed next, if it is back.
    pub next: Option<Next>,
    /// What stood on its port last.
    pub device: Option<DeviceInfo>,
    /// The unit, opened, if it is back.
    pub opened: Option<Opened>,
}

impl Seen {
    fn not_back(words: String) -> Self {
        Self { after: After::NotBack, words, next: None, device: None, opened: None }
    }
}

/// What must be seen.
#[derive(Clone, Debug)]
pub struct Expected<'a> {
    /// The product.
    pub sheet: &'a Sheet,
    /// The way by which it was updated.
    pub route: &'a Route,
    /// Where its version is told.
    pub source: &'a VersionSource,
    /// The version that it must tell.
    pub version: Option<Version>,
    /// The version in the file's name, which it should tell.
    pub named: Option<Version>,
    /// Whether it leaves the bus first; else it is there all the time.
    pub leaves: bool,
}

/// Waits for the application of `unit` on its port.
///
/// `unit` is the device as it was in update mode. Cannot fail: not to see
/// anything is a result.
pub fn confirm(bench: &Bench<'_>, expected: &Expected<'_>, unit: &DeviceInfo, pace: &mut Pace<'_>) -> Seen {
    let (sheet, route) = (expected.sheet, expected.route);
    // Where the application shows the same ids, only a new enumeration proves anything.
    let is_new = |device: &DeviceInfo| {
        !expected.leaves || route.id != identify::from_list(device).id || device.address != unit.address
    };
    let not_back = Seen::not_back;
    let Some(bus) = bench.bus(&unit.location) else { return not_back("its bus is gone".into()) };
    let mut watch = PolledWatch::from_nothing(&**bus, pace.clock());
    let within = sheet.application.back_within;
    let deadline = pace.now() + within;
    let mut last: Option<DeviceInfo> = None;
    loop {
        let left = deadline.saturating_sub(pace.now());
        let changes = match watch.next(left.min(Duration::from_secs(1))) {
            Ok(changes) => changes,
            Err(error) => return not_back(format!("the bus could not be watched: {error}")),
        };
        for change in changes {
            last = look(bench, unit, change, last, pace);
        }
        if let Some(device) = &last {
            let id = identify::from_list(device).id;
            if Some(id) == sheet.application.id && is_new(device) {
                return back(bench, expected, device, pace);
            }
            let still = (id == route.id && Some(id) != sheet.application.id) || dfu_mode(device) == Some(Mode::Update);
            if sheet.application.id.is_none() && !still {
                return came(bench, device);
            }
            if still && device.address != unit.address {
                let words = "it came back in update mode: the image does not start, or a button or switch is still set";
                return Seen { device: Some(device.clone()), ..not_back(words.into()) };
            }
        }
        if left.is_zero() || pace.wants_stop() {
            break;
        }
    }
    let time = duration::words(within);
    if sheet.application.id.is_none() && last.is_none() {
        let words = "it left the bus, and nothing came on its port; whether its application runs is not known".into();
        return Seen { after: After::Restarted, ..not_back(words) };
    }
    let words = match &last {
        None => format!("nothing showed up on its port within {time}"),
        Some(device) if device.address == unit.address => format!("it is still in update mode after {time}"),
        Some(device) => format!("it came back as {}, which is not its application", identify::from_list(device).id),
    };
    Seen { device: last, ..not_back(words) }
}

/// Something came that nobody described, and it is not in update mode.
fn came(bench: &Bench<'_>, device: &DeviceInfo) -> Seen {
    let place = bench.place(&device.location);
    let facts = bench.identity(&device.location).map_or_else(|_| identify::from_list(device), |found| found.facts);
    let name = facts.product.as_ref().map(|name| format!(" \"{name}\"")).unwrap_or_default();
    let words = format!("{}{name} came at {place}; no sheet says whether that is its application", facts.id);
    let next = Some(Next { port: place, id: facts.id, serial: facts.serial, version: None });
    Seen { after: After::Restarted, next, device: Some(device.clone()), ..Seen::not_back(words) }
}

/// Tells a change on the unit's port, and what is there now.
fn look(
    bench: &Bench<'_>,
    unit: &DeviceInfo,
    change: vaka_usb::Change,
    before: Option<DeviceInfo>,
    pace: &mut Pace<'_>,
) -> Option<DeviceInfo> {
    match change {
        vaka_usb::Change::Came(device) if device.location == unit.location => {
            if device.address != unit.address {
                pace.tell(Event::Seen(entry::seen(bench, &device)));
            }
            Some(device)
        }
        vaka_usb::Change::Left(device) if before.as_ref() == Some(&device) => {
            pace.tell(Event::Gone { unit: bench.place(&device.location), id: identify::from_list(&device).id });
            None
        }
        _ => before,
    }
}

/// The application's id is there; checks the rest of what the sheet says.
fn back(bench: &Bench<'_>, expected: &Expected<'_>, device: &DeviceInfo, pace: &mut Pace<'_>) -> Seen {
    let place = bench.place(&device.location);
    let id = identify::from_list(device).id;
    let (facts, opened) = match bench.look(device, pace) {
        Ok(opened) => (opened.identity.facts.clone(), Some(opened)),
        // Another program may have taken it at once; the list tells enough.
        Err(OpenError::Bus(_)) => (identify::from_list(device), None),
        Err(error) => {
            let words = format!("{id} came back at {place}, but does not answer: {error}");
            return Seen { device: Some(device.clone()), ..Seen::not_back(words) };
        }
    };
    let tells = expected.source.of(&facts);
    let next = Some(Next { port: place.clone(), id: facts.id, serial: facts.serial.clone(), version: tells.clone() });
    let (after, words) = judge(expected, &facts, tells.as_ref(), &place, pace);
    Seen { after, words, next, device: Some(device.clone()), opened }
}

/// What the application says of itself, against what the sheet and the image say.
fn judge(
    expected: &Expected<'_>,
    facts: &UnitFacts,
    tells: Option<&Version>,
    place: &str,
    pace: &mut Pace<'_>,
) -> (After, String) {
    let id = facts.id;
    if let (Some(found), Some(wanted)) = (&facts.product, &expected.sheet.application.product)
        && found != wanted
    {
        return (After::NotBack, format!("it came back at {place} as \"{found}\", not as \"{wanted}\""));
    }
    match (&expected.version, tells) {
        (Some(wanted), Some(found)) if wanted != found => {
            (After::NotBack, format!("it came back at {place} with version {found}; the image has {wanted}"))
        }
        (_, Some(found)) => {
            if let (None, Some(named)) = (&expected.version, expected.named.as_ref().filter(|named| *named != found)) {
                pace.warn(format!("The unit says that it is version {found}; the file's name says {named}."));
            }
            (After::Confirmed, format!("{id} came back at {place} and says that it is version {found}"))
        }
        (wanted, None) => {
            let (file, none) = match expected.source {
                VersionSource::Text { file, .. } => (format!("; {file} tells no version"), wanted.is_some()),
                _ => ("; it tells no version".to_owned(), false),
            };
            (if none { After::NotBack } else { After::Confirmed }, format!("{id} came back at {place}{file}"))
        }
    }
}
