//! Confirmation after the restart: whether the application returned.

use std::sync::Arc;
use std::time::Duration;

use vaka_base::duration;
use vaka_base::version::Version;
use vaka_core::event::{ApplicationInfo, RestartState};
use vaka_core::sheet::{DescriptorPattern, Ids, Route, Sheet, Variant, VersionSource};
use vaka_core::unit::{Mode, ReportedProperty, UnitFacts};
use vaka_dialect::Dialect;
use vaka_usb::{DeviceInfo, HotplugEvent};

use crate::bench::buses::Bench;
use crate::bench::candidate::{dfu_mode, id_of};
use crate::bench::connection::{Connection, OpenTransport};
use crate::bench::open_error::OpenError;
use crate::bench::tracking::{PortMatch, TrackedUnit};
use crate::bench::unit_event;
use crate::bench::waiting::{UnitWatch, Wait};
use crate::context::Context;
use crate::event::Event;
use crate::protocol::dialect;
use crate::protocol::identity;
use crate::protocol::serial::LineReader;
use crate::protocol::session_error::SessionError;
use crate::warning::{VersionPair, Warning};

/// The observations after the restart.
pub struct RestartOutcome {
    /// The restart state for the result.
    pub after: RestartState,
    /// A sentence.
    pub words: String,
    /// The application, if it returned.
    pub next: Option<ApplicationInfo>,
    /// The last device seen on the port.
    pub device: Option<DeviceInfo>,
    /// The unit, opened, if it is back.
    pub opened: Option<Connection>,
}

impl RestartOutcome {
    fn not_back(words: String) -> Self {
        Self { after: RestartState::NotBack, words, next: None, device: None, opened: None }
    }
}

/// The expected application.
#[derive(Clone, Debug)]
pub struct ExpectedApplication<'a> {
    /// The product.
    pub sheet: &'a Sheet,
    /// Expected ids; `None` if unknown or if it has no USB device.
    pub ids: Option<&'a Ids>,
    /// Alternative ids: after a stage that kept the application, the application may start at
    /// once.
    pub or: Option<&'a Ids>,
    /// Required descriptors.
    pub signs: DescriptorPattern,
    /// The way by which it was updated.
    pub route: &'a Route,
    /// Source of its version.
    pub source: &'a VersionSource,
    /// The version that it must report.
    pub version: Option<Version>,
    /// The version in the file name, which it should report.
    pub named: Option<Version>,
    /// Whether the device disconnects first; otherwise it stays attached.
    pub leaves: bool,
    /// The unit's serial number, if it is stable.
    pub serial: Option<String>,
}

impl<'a> ExpectedApplication<'a> {
    /// The expected application according to the sheet.
    pub fn of(sheet: &'a Sheet, variant: Option<&'a Variant>, route: &'a Route) -> Self {
        let after = sheet.after();
        Self {
            sheet,
            or: sheet.comes_back.is_some().then_some(sheet.application.id.as_ref()).flatten(),
            ids: variant.map_or(after.id.as_ref(), |variant| sheet.application_ids(variant)),
            signs: variant.map_or_else(|| after.signs.clone(), |variant| sheet.application_signs(variant)),
            route,
            source: variant.map_or(&after.version, |variant| sheet.version_source(variant)),
            version: None,
            named: None,
            leaves: true,
            serial: None,
        }
    }
}

/// Waits for the application of `unit` on its port.
///
/// `unit` is the device as it was in update mode. Infallible: seeing nothing is a result.
pub fn confirm(
    bench: &Bench<'_>,
    expected: &ExpectedApplication<'_>,
    unit: &DeviceInfo,
    cx: &mut Context<'_>,
) -> RestartOutcome {
    let within = expected.sheet.after().back_within;
    let watch = UnitWatch::from_nothing(bench, unit, within, cx.clock());
    let Ok(mut watch) = watch else { return RestartOutcome::not_back("its bus is gone".into()) };
    let confirmation = Confirmation { bench, expected, unit };
    let mut last: Option<DeviceInfo> = None;
    loop {
        // An unreachable server may return in time.
        let (changes, error) = watch.next_or_error(cx);
        for change in changes {
            last = confirmation.observe(change, last, watch.devices(), cx);
        }
        if let Some(outcome) = last.as_ref().and_then(|device| confirmation.recognise(device, &watch, cx)) {
            return outcome;
        }
        match (watch.wait().check(|| "the application to return".to_owned(), cx), error) {
            (None, _) => {}
            (Some(_), Some(error)) => {
                return RestartOutcome::not_back(format!("the bus could not be watched: {error}"));
            }
            (Some(_), None) => break,
        }
    }
    let has_returned = last.as_ref().is_some_and(|device| watch.has_returned_as(device));
    confirmation.not_seen(last, has_returned, within)
}

/// Waits for the application of a unit that was reached through a programmer: it shows up as itself, on a
/// port that is not known. A device that was attached `before` the restart does not count, nor does one
/// of several that appear, nor any device if those before are not known.
pub fn confirm_anywhere(
    bench: &Bench<'_>,
    expected: &ExpectedApplication<'_>,
    before: Option<&[DeviceInfo]>,
    cx: &mut Context<'_>,
) -> RestartOutcome {
    let Some(before) = before else {
        let words = "the devices could not be listed before the restart, so a new one cannot be recognized".into();
        return RestartOutcome::not_back(words);
    };
    let within = expected.sheet.after().back_within;
    let mut wait = Wait::new(within, cx.clock());
    let ids = [expected.ids, expected.or];
    loop {
        let there = bench.devices().unwrap_or_default();
        let is_it = |device: &&DeviceInfo| ids.iter().flatten().any(|ids| ids.is(id_of(device)));
        let came: Vec<&DeviceInfo> = there.iter().filter(|device| !before.contains(device)).filter(is_it).collect();
        match came[..] {
            [] => {}
            [device] => {
                cx.tell(Event::Attached(Box::new(unit_event::seen(bench, device))));
                let is_own = expected.ids.is_some_and(|ids| ids.is(id_of(device)));
                return match is_own {
                    true => check_application(bench, expected, device, cx),
                    false => kept_app_returned(bench, device),
                };
            }
            _ => {
                let words = "several units appeared at once; which of them was written is not known".into();
                return RestartOutcome::not_back(words);
            }
        }
        match wait.check(|| "the application to appear".to_owned(), cx) {
            None => wait.pause(bench, cx),
            Some(_) => {
                let words = format!("no unit appeared on any port within {}", duration::words(within));
                return RestartOutcome::not_back(words);
            }
        }
    }
}

/// The state of waiting for the application.
struct Confirmation<'c> {
    bench: &'c Bench<'c>,
    expected: &'c ExpectedApplication<'c>,
    /// The unit as it was in update mode.
    unit: &'c DeviceInfo,
}

impl Confirmation<'_> {
    /// Judges a device on the unit's port; `None` if it proves nothing yet.
    fn recognise(&self, device: &DeviceInfo, watch: &UnitWatch<'_>, cx: &mut Context<'_>) -> Option<RestartOutcome> {
        let Self { bench, expected, .. } = *self;
        let (id, route) = (id_of(device), expected.route);
        // If the application has the same ids, only a new enumeration proves anything.
        let is_new = !expected.leaves || !route.id.is(id) || watch.has_returned_as(device);
        let is_it = expected.ids.is_some_and(|ids| ids.is(id));
        if is_it && is_new {
            return Some(check_application(bench, expected, device, cx));
        }
        if expected.or.is_some_and(|ids| ids.is(id)) && is_new {
            return Some(kept_app_returned(bench, device));
        }
        let still = (route.id.is(id) && !is_it) || dfu_mode(device) == Some(Mode::Update);
        if expected.ids.is_none() && !still {
            return Some(unknown_device(bench, device));
        }
        (still && watch.has_returned_as(device)).then(|| {
            let words = "it returned in update mode: the image does not start, or a button or switch is still set";
            RestartOutcome { device: Some(device.clone()), ..RestartOutcome::not_back(words.into()) }
        })
    }

    /// The result if nothing was recognized in time.
    fn not_seen(&self, last: Option<DeviceInfo>, has_returned: bool, within: Duration) -> RestartOutcome {
        let time = duration::words(within);
        if self.expected.ids.is_none() && last.is_none() {
            let words = "it disconnected, and its port stayed empty; whether its application runs is not known".into();
            return RestartOutcome { after: RestartState::Restarted, ..RestartOutcome::not_back(words) };
        }
        let words = match &last {
            None => format!("no device appeared on its port within {time}"),
            Some(_) if !has_returned => format!("it is still in update mode after {time}"),
            Some(device) => format!("it returned as {}, which is not its application", id_of(device)),
        };
        RestartOutcome { device: last, ..RestartOutcome::not_back(words) }
    }

    /// Emits an event on the unit's port and returns the device there, or a device elsewhere that
    /// is provably the same unit.
    fn observe(
        &self,
        change: HotplugEvent,
        before: Option<DeviceInfo>,
        there: &[DeviceInfo],
        cx: &mut Context<'_>,
    ) -> Option<DeviceInfo> {
        let Self { bench, expected, unit } = *self;
        let tracked = TrackedUnit { unit, serial: expected.serial.as_deref() };
        let could_be = |device: &DeviceInfo| {
            let id = id_of(device);
            [expected.ids, expected.or].into_iter().flatten().any(|ids| ids.is(id))
        };
        match change {
            HotplugEvent::Attached(device)
                if bench.is_same_port(&unit.location, &device.location)
                    || (could_be(&device) && tracked.meets(bench, &device, there) == PortMatch::Moved) =>
            {
                if device.address != unit.address {
                    cx.tell(Event::Attached(Box::new(unit_event::seen(bench, &device))));
                }
                Some(device)
            }
            HotplugEvent::Detached(device) if before.as_ref() == Some(&device) => {
                cx.tell(Event::Detached { unit: bench.place(&device.location), id: id_of(&device) });
                None
            }
            _ => before,
        }
    }
}

/// The application returned at once after a stage.
fn kept_app_returned(bench: &Bench<'_>, device: &DeviceInfo) -> RestartOutcome {
    let place = bench.place(&device.location);
    let facts = bench.facts(device);
    let words = format!("{} returned at {place}: its former application is running", facts.id);
    let next =
        Some(ApplicationInfo { port: place, nodes: Vec::new(), id: facts.id, serial: facts.serial, version: None });
    RestartOutcome {
        after: RestartState::Confirmed,
        next,
        device: Some(device.clone()),
        ..RestartOutcome::not_back(words)
    }
}

/// A device without a sheet appeared, and it is not in update mode.
fn unknown_device(bench: &Bench<'_>, device: &DeviceInfo) -> RestartOutcome {
    let place = bench.place(&device.location);
    let facts = bench.facts(device);
    let name = facts.product.as_ref().map(|name| format!(" \"{name}\"")).unwrap_or_default();
    let words = format!(
        "{}{name} appeared at {place}; without a product sheet it is not known whether that is its application",
        facts.id
    );
    let next =
        Some(ApplicationInfo { port: place, nodes: Vec::new(), id: facts.id, serial: facts.serial, version: None });
    RestartOutcome {
        after: RestartState::Restarted,
        next,
        device: Some(device.clone()),
        ..RestartOutcome::not_back(words)
    }
}

/// The application's ids match; checks its other properties.
fn check_application(
    bench: &Bench<'_>,
    expected: &ExpectedApplication<'_>,
    device: &DeviceInfo,
    cx: &mut Context<'_>,
) -> RestartOutcome {
    let place = bench.place(&device.location);
    let id = id_of(device);
    let (facts, opened) = match bench.look(device, cx) {
        Ok(opened) => (opened.identity.facts.clone(), Some(opened)),
        // Another program may have claimed it at once; the enumeration suffices.
        Err(OpenError::Bus(_)) => (identity::from_list(device), None),
        Err(error) => {
            let words = format!("{id} returned at {place}, but does not reply: {error}");
            return RestartOutcome { device: Some(device.clone()), ..RestartOutcome::not_back(words) };
        }
    };
    let (mut facts, mut opened) = listen((bench, device), expected.source, facts, opened, cx);
    if let Some(dialect) = &expected.sheet.after().confirm {
        match confirmed_in(dialect, bench, device, opened.take(), cx) {
            Ok(told) => facts.told = told,
            Err(reason) => {
                let words = format!("{id} returned at {place}, but does not confirm: {reason}");
                return RestartOutcome { device: Some(device.clone()), ..RestartOutcome::not_back(words) };
            }
        }
    }
    let tells = expected.source.of(&facts);
    let next = Some(ApplicationInfo {
        port: place.clone(),
        nodes: Vec::new(),
        id: facts.id,
        serial: facts.serial.clone(),
        version: tells.clone(),
    });
    let (after, words) = judge(expected, &facts, tells.as_ref(), &place, cx);
    RestartOutcome { after, words, next, device: Some(device.clone()), opened }
}

/// Asks the application in its dialect; returns the properties that it reports.
///
/// # Errors
/// A sentence: it does not confirm, or cannot be asked.
fn confirmed_in(
    dialect: &Arc<Dialect>,
    bench: &Bench<'_>,
    device: &DeviceInfo,
    opened: Option<Connection>,
    cx: &mut Context<'_>,
) -> Result<Vec<ReportedProperty>, String> {
    let opened = match opened.map(|opened| opened.transport) {
        Some(OpenTransport::Device(usb)) => Some(usb),
        _ => None,
    };
    let usb = bench.open_for(device, dialect, opened).map_err(|error| error.to_string())?;
    dialect::confirm(usb, dialect, device.node.as_deref(), cx).map_err(|error| error.to_string())
}

/// The application's output on its serial port, if its version is reported there. A
/// unit of which nothing can be heard tells no version.
fn listen(
    (bench, device): (&Bench<'_>, &DeviceInfo),
    source: &VersionSource,
    mut facts: UnitFacts,
    opened: Option<Connection>,
    cx: &mut Context<'_>,
) -> (UnitFacts, Option<Connection>) {
    let VersionSource::Line { send, after, within, interface } = source else { return (facts, opened) };
    let usb = match opened.map(|opened| opened.transport) {
        Some(OpenTransport::Device(usb)) => bench.open_serial(device, *interface, Some(usb)),
        Some(OpenTransport::Disk(_) | OpenTransport::Dialect(_)) => return (facts, None),
        Some(OpenTransport::Listed) | None => bench.open_serial(device, *interface, None),
    };
    let usb = usb.map_err(|error| SessionError::Transport(error.to_string()));
    let heard = usb.and_then(|usb| LineReader::open(usb, *interface)).and_then(|port| {
        let Some(mut port) = port else { return Ok(Vec::new()) };
        if let Some(line) = send {
            port.send(line)?;
        }
        port.until(*within, cx, |line| line.contains(after.as_str()))
    });
    match heard {
        Ok(lines) => facts.lines = lines,
        Err(error) => cx.warn(Warning::SerialPort(error)),
    }
    (facts, None)
}

/// Compares the application's own report with the sheet and the image.
fn judge(
    expected: &ExpectedApplication<'_>,
    facts: &UnitFacts,
    tells: Option<&Version>,
    place: &str,
    cx: &mut Context<'_>,
) -> (RestartState, String) {
    let id = facts.id;
    if let (Some(wanted), Some(found)) = (&expected.serial, &facts.serial)
        && wanted != found
    {
        return (
            RestartState::NotBack,
            format!("another unit is at {place}: its serial number is {found}, expected {wanted}"),
        );
    }
    let signs = expected.signs.of(facts);
    if let Some(sign) = signs.iter().find(|sign| sign.is_so == Some(false)) {
        let found = sign.found.as_deref().unwrap_or("none");
        return (RestartState::NotBack, format!("it returned at {place} as {found}, not as {}", sign.wanted));
    }
    match (&expected.version, tells) {
        (Some(wanted), Some(found)) if wanted != found => {
            (RestartState::NotBack, format!("it returned at {place} with version {found}; the image has {wanted}"))
        }
        (_, Some(found)) => {
            if let (None, Some(named)) = (&expected.version, expected.named.as_ref().filter(|named| *named != found)) {
                cx.warn(Warning::OtherVersion(VersionPair { reported: found.clone(), named: named.clone() }));
            }
            (RestartState::Confirmed, format!("{id} returned at {place} and reports version {found}"))
        }
        (wanted, None) => {
            let (file, none) = match expected.source {
                VersionSource::Text { file, .. } => (format!("; {file} has no version"), wanted.is_some()),
                VersionSource::Line { after, within, .. } => {
                    let time = duration::words(*within);
                    (format!("; no line with \"{after}\" on its serial port within {time}"), wanted.is_some())
                }
                VersionSource::Told { name } => (format!("; '{name}' is not a version"), wanted.is_some()),
                VersionSource::DescriptorString { after, .. } => {
                    (format!("; \"{after}\" is not in its text"), wanted.is_some())
                }
                _ => ("; it reports no version".to_owned(), false),
            };
            (
                if none { RestartState::NotBack } else { RestartState::Confirmed },
                format!("{id} returned at {place}{file}"),
            )
        }
    }
}
