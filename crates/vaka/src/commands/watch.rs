//! `vaka survey --watch`: hotplug events as sentences.

use std::collections::BTreeMap;
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::time::{Duration, Instant};

use vaka_base::duration;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::id_of;
use vaka_boot::bench::unit_event;
use vaka_core::attached_unit::AttachedUnit;
use vaka_core::event::{Event, ExitCode};
use vaka_core::unit::Mode;
use vaka_usb::{Bus, BusError, DeviceInfo, HotplugEvent, PolledWatch, SystemClock};

use super::print_line;
use crate::args::{Common, OutputFormat};
use crate::cli_error::Outcome;
use crate::render::json;
use crate::signals;

/// Within this time a device that appears on a port is the unit that left it. Chosen by us:
/// longer than any restart.
const SAME_UNIT: Duration = Duration::from_secs(20);

/// Interval for checking stop requests.
const LOOK_UP: Duration = Duration::from_millis(100);

/// The last device on a port.
struct PortHistory {
    unit: AttachedUnit,
    /// When it left, if it has.
    left: Option<Instant>,
}

/// Prints hotplug events of all buses until Ctrl-C, starting from these devices.
pub fn run(bench: &Bench<'_>, there: &[DeviceInfo], common: &Common) -> Outcome {
    signals::end_quietly();
    let (sender, changes) = mpsc::channel();
    std::thread::scope(|scope| {
        for bus in bench.buses() {
            let sender = sender.clone();
            let known = there.iter().filter(|device| device.location.bus == bus.name()).cloned().collect();
            scope.spawn(move || watch(&**bus, known, &sender));
        }
        drop(sender);
        tell_all(bench, there, common, &changes)
    })
}

/// Forwards the events of one bus. A failing bus is reported once and watched further.
fn watch(bus: &dyn Bus, known: Vec<DeviceInfo>, sender: &mpsc::Sender<Result<HotplugEvent, BusError>>) {
    let mut watch = Some(PolledWatch::since(bus, &SystemClock, known));
    let mut is_reported = false;
    while !signals::flag().load(Ordering::SeqCst) {
        let next = match &mut watch {
            Some(watch) => watch.next(LOOK_UP),
            None => PolledWatch::new(bus, &SystemClock).map(|new| {
                watch = Some(new);
                is_reported = false;
                Vec::new()
            }),
        };
        let sent = match next {
            Ok(changes) => changes.into_iter().try_for_each(|change| sender.send(Ok(change)).map_err(drop)),
            Err(error) => {
                watch = None;
                let first = !std::mem::replace(&mut is_reported, true);
                std::thread::sleep(LOOK_UP * 5);
                if first { sender.send(Err(error)).map_err(drop) } else { Ok(()) }
            }
        };
        if sent.is_err() {
            return;
        }
    }
}

fn tell_all(
    bench: &Bench<'_>,
    there: &[DeviceInfo],
    common: &Common,
    changes: &mpsc::Receiver<Result<HotplugEvent, BusError>>,
) -> Outcome {
    let mut ports: BTreeMap<String, PortHistory> = BTreeMap::new();
    for device in there {
        let unit = unit_event::seen(bench, device);
        ports.insert(unit.unit.clone(), PortHistory { unit, left: None });
    }
    for change in changes {
        match change {
            Err(error) => print_line(&format!("A bus cannot be watched: {error}. Retrying.")),
            Ok(HotplugEvent::Detached(device)) => {
                let place = bench.place(&device.location);
                if common.format == OutputFormat::Json {
                    json::line::<Event>(&Event::Detached { unit: place.clone(), id: id_of(&device) });
                } else {
                    print_line(&now(&left(&unit_event::seen(bench, &device))));
                }
                let unit = unit_event::seen(bench, &device);
                ports.insert(place, PortHistory { unit, left: Some(Instant::now()) });
            }
            Ok(HotplugEvent::Attached(device)) => {
                let unit = unit_event::seen(bench, &device);
                let before =
                    ports.get(&unit.unit).filter(|before| before.left.is_some_and(|at| at.elapsed() < SAME_UNIT));
                let gone_for = before.and_then(|before| before.left).map(|at| at.elapsed());
                if common.format == OutputFormat::Json {
                    json::line::<Event>(&Event::Attached(Box::new(unit.clone())));
                } else {
                    print_line(&now(&came(before.map(|before| &before.unit), gone_for, &unit)));
                }
                ports.insert(unit.unit.clone(), PortHistory { unit, left: None });
            }
        }
    }
    Ok(ExitCode::Done)
}

/// A sentence, with the time of day before it.
fn now(sentence: &str) -> String {
    format!("{}  {sentence}", jiff::Zoned::now().strftime("%H:%M:%S%.3f"))
}

/// The location: port and configured name.
fn at(unit: &AttachedUnit) -> String {
    unit.place.as_ref().map_or_else(|| unit.unit.clone(), |place| format!("{place} ({})", unit.unit))
}

fn name(unit: &AttachedUnit) -> String {
    unit.product.clone().unwrap_or_else(|| format!("a device without a product sheet ({})", unit.id))
}

fn left(unit: &AttachedUnit) -> String {
    format!("{}: {} disconnected.", at(unit), name(unit))
}

/// The meaning of a device that appears after another one left the port.
fn came(before: Option<&AttachedUnit>, gone_for: Option<Duration>, unit: &AttachedUnit) -> String {
    let version = unit.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
    let what = match unit.mode {
        Mode::Update => format!("in update mode ({})", unit.id),
        Mode::Application => format!("with its application running ({}{version})", unit.id),
        Mode::Unknown => format!("as {}{version}", unit.id),
    };
    let time = gone_for.map(|time| format!(" after {}", duration::measured(time))).unwrap_or_default();
    let same = before.filter(|before| before.product.is_some() && before.product == unit.product);
    let meaning = match (same.map(|before| before.mode), unit.mode) {
        (Some(Mode::Application), Mode::Update) => ": it entered update mode",
        (Some(Mode::Update), Mode::Application) => ": it left update mode",
        (Some(Mode::Application), Mode::Application) => ": the application started again",
        (Some(Mode::Update), Mode::Update) => ": it is still in update mode",
        (None, Mode::Unknown) if unit.product.is_none() => ": no product sheet",
        _ => "",
    };
    match same {
        Some(_) => format!("{}: {} returned on the same port{time} {what}{meaning}.", at(unit), name(unit)),
        None if unit.product.is_none() => format!("{}: a device was attached {what}{meaning}.", at(unit)),
        None => format!("{}: {} was attached {what}{meaning}.", at(unit), name(unit)),
    }
}
