//! After the restart: did the application come back?

use std::time::Duration;

use vaka_core::event::{After, Next};
use vaka_core::sheet::{Route, Sheet};
use vaka_core::unit::{Mode, ReleaseNumber};
use vaka_core::{duration, event::Event};
use vaka_usb::{DeviceInfo, PolledWatch};

use crate::bench::{Bench, OpenError, dfu_mode};
use crate::entry;
use crate::identify;
use crate::pace::Pace;

/// What was seen after the restart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// The result's word for it.
    pub after: After,
    /// A sentence.
    pub words: String,
    /// What is needed next, if it is back.
    pub next: Option<Next>,
}

/// Waits for the application of `unit` on its port.
///
/// `unit` is the device as it was in update mode. Cannot fail: not to see
/// anything is a result.
pub fn confirm(
    bench: &Bench<'_>,
    sheet: &Sheet,
    route: &Route,
    unit: &DeviceInfo,
    version: Option<ReleaseNumber>,
    pace: &mut Pace<'_>,
) -> Seen {
    let not_back = |words: String| Seen { after: After::NotBack, words, next: None };
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
            if Some(id) == sheet.application.id {
                return back(bench, sheet, device, version);
            }
            let still = id == route.id || dfu_mode(device) == Some(Mode::Update);
            if sheet.application.id.is_none() && !still {
                return came(bench, device);
            }
            if still && device.address != unit.address {
                return not_back(
                    "it came back in update mode: the image does not start, or a button or switch is still set".into(),
                );
            }
        }
        if left.is_zero() || pace.wants_stop() {
            break;
        }
    }
    let time = duration::words(within);
    if sheet.application.id.is_none() && last.is_none() {
        let words = "it left the bus, and nothing came on its port; whether its application runs is not known".into();
        return Seen { after: After::Restarted, words, next: None };
    }
    not_back(match &last {
        None => format!("nothing showed up on its port within {time}"),
        Some(device) if device.address == unit.address => format!("it is still in update mode after {time}"),
        Some(device) => format!("it came back as {}, which is not its application", identify::from_list(device).id),
    })
}

/// Something came that nobody described, and it is not in update mode.
fn came(bench: &Bench<'_>, device: &DeviceInfo) -> Seen {
    let place = bench.place(&device.location);
    let facts = bench.identity(&device.location).map_or_else(|_| identify::from_list(device), |found| found.facts);
    let name = facts.product.as_ref().map(|name| format!(" \"{name}\"")).unwrap_or_default();
    let words = format!("{}{name} came at {place}; no sheet says whether that is its application", facts.id);
    let next = Some(Next { port: place, id: facts.id, serial: facts.serial, version: None });
    Seen { after: After::Restarted, words, next }
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
fn back(bench: &Bench<'_>, sheet: &Sheet, device: &DeviceInfo, version: Option<ReleaseNumber>) -> Seen {
    let place = bench.place(&device.location);
    let id = identify::from_list(device).id;
    let facts = match bench.identity(&device.location) {
        Ok(identity) => identity.facts,
        // Another program may have taken it at once; the list tells enough.
        Err(OpenError::Bus(_)) => identify::from_list(device),
        Err(OpenError::Transfer(error)) => {
            let words = format!("{id} came back at {place}, but does not answer: {error}");
            return Seen { after: After::NotBack, words, next: None };
        }
    };
    let tells = sheet.application.tells_version.then_some(facts.release);
    let next = Some(Next { port: place.clone(), id: facts.id, serial: facts.serial, version: tells });
    if let (Some(found), Some(wanted)) = (facts.product, &sheet.application.product)
        && found != *wanted
    {
        let words = format!("it came back at {place} as \"{found}\", not as \"{wanted}\"");
        return Seen { after: After::NotBack, words, next };
    }
    match (version, tells) {
        (Some(wanted), Some(found)) if wanted != found => {
            let words = format!("it came back at {place} with version {found}; the image has {wanted}");
            Seen { after: After::NotBack, words, next }
        }
        (Some(_), Some(found)) => {
            let words = format!("{id} came back at {place} and says that it is version {found}");
            Seen { after: After::Confirmed, words, next }
        }
        _ => {
            let words = format!("{id} came back at {place}; it tells no version");
            Seen { after: After::Confirmed, words, next }
        }
    }
}
