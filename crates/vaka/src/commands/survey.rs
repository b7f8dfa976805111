//! `vaka survey`

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::{Candidate, dfu_mode, id_of};
use vaka_boot::bench::companion_devices;
use vaka_boot::bench::node_bus::NodeBus;
use vaka_boot::bench::open_error::{bus_failure, open_failure};
use vaka_boot::bench::programmer_bus::ProgrammerBus;
use vaka_boot::bench::target::{self, programmer_of};
use vaka_boot::bench::unit_event;
use vaka_boot::context::Context;
use vaka_core::attached_unit::{ApplicationFile, AttachedUnit};
use vaka_core::event::{Event, ExitCode};
use vaka_core::matching::{all_self_identifying, filter_by_board_info, labels};
use vaka_core::sheet::Variant;
use vaka_core::unit::{MemoryChoice, Mode, ReportedProperty, UnitFacts};
use vaka_core::volume::{VisibleFile, VolumeFacts};
use vaka_usb::{Bus, DeviceInfo, SystemClock};

use super::{print_line, watch};
use crate::args::{Common, OutputFormat, Survey};
use crate::catalogue_memory;
use crate::cli_error::Outcome;
use crate::environment;
use crate::output_options::OutputOptions;
use crate::render::{json, table};
use crate::signals;

pub fn run(args: &Survey, common: &Common, setting: &OutputOptions) -> Outcome {
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let devices = bench.devices().map_err(|error| bus_failure(&error))?;
    let there = devices.clone();
    let chosen = match &common.unit {
        Some(selector) => {
            let fits = bench.select(Some(selector), true).map_err(|error| bus_failure(&error))?;
            devices.into_iter().filter(|device| fits.iter().any(|unit| unit.device == *device)).collect()
        }
        None => devices,
    };
    let seen = look_at_all(&bench, &chosen);
    if signals::flag().load(Ordering::SeqCst) {
        return Ok(ExitCode::Stopped);
    }
    let units = as_units(&bench, &chosen, seen);
    match setting.format {
        OutputFormat::Json => units.into_iter().for_each(|unit| json::line::<Event>(&Event::Attached(Box::new(unit)))),
        OutputFormat::Text => print(&bench, &units, setting),
    }
    if args.watch {
        return watch::run(&bench, &there, common);
    }
    Ok(ExitCode::Done)
}

/// Number of units that are read in parallel. Chosen by us: most of the time is waiting for
/// replies.
const AT_ONCE: usize = 8;

/// The description of each device, in order.
fn look_at_all(bench: &Bench<'_>, devices: &[DeviceInfo]) -> Vec<AttachedUnit> {
    let next = AtomicUsize::new(0);
    let found: Mutex<BTreeMap<usize, AttachedUnit>> = Mutex::default();
    let look_at_next = || {
        if signals::flag().load(Ordering::SeqCst) {
            return None;
        }
        let index = next.fetch_add(1, Ordering::Relaxed);
        let seen = look(bench, devices.get(index)?);
        found.lock().unwrap_or_else(PoisonError::into_inner).insert(index, seen);
        Some(())
    };
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE.min(devices.len()) {
            scope.spawn(|| while look_at_next().is_some() {});
        }
    });
    found.into_inner().unwrap_or_else(PoisonError::into_inner).into_values().collect()
}

/// The command that goes through a programmer, if the device is one.
fn programs(bench: &Bench<'_>, device: &DeviceInfo) -> Option<String> {
    let mut programmers = bench.sheets().iter().flat_map(|sheet| &sheet.programmers);
    let own = programmer_of(bench, device);
    let programmer = own.or_else(|| programmers.find(|programmer| programmer.id.is(id_of(device))))?;
    Some(format!("vaka update FILE --unit programmer={} --variant LABEL", programmer.name))
}

/// Groups devices into units: companion devices are listed with their unit.
fn as_units(bench: &Bench<'_>, devices: &[DeviceInfo], seen: Vec<AttachedUnit>) -> Vec<AttachedUnit> {
    let beside = devices.iter().map(|device| companion_devices::beside(bench, device, devices)).collect::<Vec<_>>();
    let mut also: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut units = Vec::new();
    for ((unit, beside), device) in seen.into_iter().zip(beside).zip(devices) {
        match beside.and_then(|beside| Some((beside.name, beside.of?))) {
            Some((name, of)) => {
                let line = format!("{} ({}) at {}", text::sanitize(name), unit.id, bench.place(&device.location));
                also.entry(bench.place(&of.location)).or_default().push(line);
            }
            None => units.push(unit),
        }
    }
    for unit in &mut units {
        unit.companions = also.remove(&unit.unit).unwrap_or_default();
    }
    units
}

/// The description of a device. Devices without a sheet are not opened.
fn look(bench: &Bench<'_>, device: &DeviceInfo) -> AttachedUnit {
    let mut unit = unit_event::seen(bench, device);
    unit.next.extend(programs(bench, device));
    let Some(candidate) = bench.recognise(device) else {
        match dfu_mode(device) {
            Some(Mode::Update) => unit.next.push(format!("vaka sheet new --unit port={} --out FILE.toml", unit.unit)),
            Some(_) => unit.next.push(format!("vaka update FILE --unit port={} --allow no-sheet --plan", unit.unit)),
            None => {}
        }
        return unit;
    };
    let mut quiet = |_| {};
    let mut cx = Context::new(&SystemClock, &mut quiet, signals::flag());
    if programmer_of(bench, device).is_some() {
        match target::ask(bench, device, &mut cx) {
            Ok(found) => unit.layout = told(&found),
            Err(failure) => {
                let failure = vaka_messages::failure(&failure);
                (unit.obstacle, unit.remedy) = (Some(failure.message), failure.remedy);
            }
        }
        return unit;
    }
    let mut open: Vec<&Variant> = candidate.sheets.iter().flat_map(|sheet| candidate.variants_of(sheet)).collect();
    match bench.can_probe(&candidate).then(|| bench.look(device, &mut cx)).transpose() {
        // Closing it would end its update mode.
        Ok(None) => {}
        Ok(Some(opened)) => {
            let facts = &opened.identity.facts;
            unit.serial.clone_from(&facts.serial);
            unit.warnings.clone_from(&opened.identity.oddities);
            open = filter_by_board_info(facts, open);
            unit.variants = open.iter().map(|variant| variant.id.clone()).collect();
            unit.layout = layout(&open, facts).or_else(|| told(&facts.told));
            if let Some(disk) = &facts.volume {
                disk_of(&mut unit, disk, &open);
            }
            let told = |variant: &&Variant| candidate.sheets.first()?.version_source(variant).of_booted(facts);
            unit.version = unit.version.or_else(|| open.iter().find_map(told));
        }
        Err(error) => {
            let failure = vaka_messages::failure(&open_failure(&error, &unit.unit));
            (unit.obstacle, unit.remedy) = (Some(failure.message), failure.remedy);
        }
    }
    if let (Some(sheet), Some(version)) = (candidate.sheets.first(), &unit.version) {
        match catalogue_memory::withdrawal_of_version(&sheet.product.id, version) {
            Ok(withdrawn) => unit.withdrawn = withdrawn,
            Err(error) => unit.warnings.push(error.0.message),
        }
    }
    if !candidate.sheets.is_empty() {
        let must_say = open.len() > 1 && !(unit.mode == Mode::Application && all_self_identifying(&open));
        let other_parts = other_parts(&candidate, &open);
        if let [only] = open[..]
            && let Some(instead) = &only.instead
        {
            unit.obstacle = Some(format!("{} cannot be updated over USB: {instead}", only.name));
        }
        for variant in open {
            if must_say && !variant.look_at.is_empty() {
                unit.next.push(format!("{} if it reads {}", variant.id, labels(&variant.look_at)));
            }
        }
        let variant = if must_say { " --variant ID" } else { "" };
        unit.next.push(format!("vaka update FILE --unit port={}{variant}{other_parts}", unit.unit));
    }
    unit
}

/// The parts of the product that are updated in another mode.
fn other_parts(candidate: &Candidate<'_>, open: &[&Variant]) -> String {
    let own: Vec<&str> = open.iter().filter_map(|variant| variant.part.as_deref()).collect();
    let all = candidate.sheets.iter().flat_map(|sheet| &sheet.parts);
    let others: Vec<String> = all
        .filter(|part| !own.is_empty() && !own.contains(&part.id.as_str()))
        .map(|part| format!(", or with --part {} ({})", part.id, part.name))
        .collect();
    others.concat()
}

/// The properties that a unit reported in its dialect.
fn told(told: &[ReportedProperty]) -> Option<String> {
    let told: Vec<String> = told.iter().map(|told| format!("{} {}", told.name, told.value)).collect();
    (!told.is_empty()).then(|| told.join(", "))
}

/// The memory layout that a unit reports, and the variants it belongs to.
fn layout(open: &[&Variant], facts: &UnitFacts) -> Option<String> {
    let memories = facts.memories(&MemoryChoice::default());
    let layout = memories.iter().find_map(|memory| memory.alternate.layout.as_ref())?;
    let same: Vec<&str> = open.iter().filter(|v| v.flash == layout.map).map(|v| v.id.as_str()).collect();
    let like = match &same[..] {
        [] => ", matching no variant".to_owned(),
        same => format!(", as {} has", same.join(" and ")),
    };
    Some(format!("{}{like}", layout.map))
}

/// Adds the description of a unit's disk.
fn disk_of(unit: &mut AttachedUnit, disk: &VolumeFacts, open: &[&Variant]) {
    unit.disk.clone_from(&disk.label);
    unit.folder.clone_from(&disk.folder);
    if let Some(fault) = &disk.fault {
        unit.obstacle = Some(fault.clone());
    } else if disk.read_only {
        unit.obstacle = Some("its disk is write-protected".to_owned());
    }
    let id = unit.id;
    if disk.fault.is_none() {
        let any = open.iter().filter(|variant| variant.image.any_file.is_some());
        let shown = any.flat_map(|variant| variant.files_on_disk()).filter_map(|target| disk.file(&target.name));
        unit.files = shown.cloned().collect();
    }
    let mut firmware = open.iter().filter(|variant| variant.image.any_file.is_none());
    let present = |variant: &&Variant| variant.route(id)?.kind.volume()?.application_file.clone();
    let Some(name) = firmware.find_map(present).filter(|_| disk.fault.is_none()) else {
        return;
    };
    unit.application_file =
        Some(disk.file(&name).cloned().map_or(ApplicationFile::Missing(name), ApplicationFile::File));
}

fn print(bench: &Bench<'_>, units: &[AttachedUnit], setting: &OutputOptions) {
    // The bus of nodes is there for every sheet that names an adapter; it has a reason if the user named it.
    let is_used = |bus: &&Arc<dyn Bus>| {
        let has_units = || units.iter().any(|unit| unit.bus == bus.name());
        bus.name() != ProgrammerBus::NAME
            && (bus.name() != NodeBus::NAME || has_units() || bus.empty_reason().is_some())
    };
    let buses: Vec<&str> = bench.buses().iter().filter(is_used).map(|bus| bus.name()).collect();
    print_line(&format!("{} on {}", text::count(units.len(), "unit"), buses.join(", ")));
    if units.is_empty() {
        match bench.empty_reason() {
            Some(reason) => print_line(&format!("No units: {reason}.")),
            None => print_line("No free device is attached."),
        }
        return;
    }
    print_line("");
    let dash = || "-".to_owned();
    let row = |unit: &AttachedUnit| {
        let variants: Vec<&str> = unit.variants.iter().map(|id| id.as_str()).collect();
        let called = unit.place.as_ref().map(|place| format!(" {place}")).unwrap_or_default();
        vec![
            format!("{}{called}", unit.unit),
            unit.mode.to_string(),
            unit.product.clone().unwrap_or_else(|| {
                let description = unit.description.as_ref().map(|words| format!(": {words}"));
                format!("no product sheet{}", description.unwrap_or_default())
            }),
            if variants.is_empty() { dash() } else { variants.join(" or ") },
            unit.id.to_string(),
            unit.version.as_ref().map_or_else(dash, ToString::to_string),
            unit.serial.clone().unwrap_or_else(dash),
        ]
    };
    let head = ["port", "mode", "product", "variant", "id", "version", "serial number"];
    print_block(&table::plain(&head, units.iter().map(row).collect()));
    let is_usable = |unit: &&AttachedUnit| unit.mode != Mode::Unknown || unit.hint.is_some();
    let is_programmer = |unit: &&AttachedUnit| unit.mode == Mode::Unknown && !unit.next.is_empty();
    let is_told =
        |unit: &&AttachedUnit| is_programmer(unit) || (is_usable(unit) && (setting.details || needs_action(unit)));
    let detailed = units.iter().filter(is_told);
    for unit in detailed.clone() {
        print_line("");
        detail(unit, setting.details);
    }
    if detailed.filter(is_usable).count() < units.iter().filter(is_usable).count() {
        print_line("\nNext: vaka update FILE --unit port=PORT; -v shows details of each unit.");
    }
}

/// Whether the user must do something before an update.
fn needs_action(unit: &AttachedUnit) -> bool {
    let is_missing = matches!(unit.application_file, Some(ApplicationFile::Missing(_)));
    unit.obstacle.is_some()
        || unit.withdrawn.is_some()
        || !unit.warnings.is_empty()
        || unit.hint.is_some()
        || is_missing
        || unit.next.len() > 1
}

fn print_block(block: &str) {
    block.lines().for_each(print_line);
}

/// Prints details beyond the table, and the next actions.
fn detail(unit: &AttachedUnit, is_verbose: bool) {
    print_line(&format!("{}{}:", unit.unit, unit.place.as_ref().map(|place| format!(", {place}")).unwrap_or_default()));
    if let Some(hint) = unit.hint {
        print_line(&format!("  no product sheet; {hint}"));
    }
    for line in &unit.companions {
        print_line(&format!("  companion {line}"));
    }
    if let Some(speed) = unit.speed.filter(|_| is_verbose) {
        print_line(&format!("  connected at {speed}"));
    }
    if let Some(layout) = &unit.layout {
        print_line(&format!("  reports {layout}"));
    }
    if let Some(disk) = &unit.disk {
        let folder = unit.folder.as_ref().map(|folder| format!(", mounted at {folder}")).unwrap_or_default();
        print_line(&format!("  disk {disk}{folder}"));
    }
    match &unit.application_file {
        Some(ApplicationFile::File(VisibleFile { name, size, date })) => {
            let date = date.as_ref().map(|date| format!(", {date}")).unwrap_or_default();
            print_line(&format!("  installed application: {name}, {}{date}", Bytes(*size)));
        }
        Some(ApplicationFile::Missing(name)) => print_line(&format!("  no {name}: no application is installed")),
        None => {}
    }
    for VisibleFile { name, size, .. } in &unit.files {
        print_line(&format!("  file: {name}, {}", Bytes(*size)));
    }
    if let Some(withdrawn) = &unit.withdrawn {
        let version = unit.version.as_ref().map(ToString::to_string).unwrap_or_default();
        print_line(&format!("  WITHDRAWN: its version {version}, on {}: {}", withdrawn.date, withdrawn.why));
        print_line(&format!("    vaka update --from {} --unit port={}", withdrawn.from, unit.unit));
    }
    for odd in &unit.warnings {
        print_line(&format!("  odd: {odd}"));
    }
    if let Some(obstacle) = &unit.obstacle {
        print_line(&format!("  obstacle: {obstacle}"));
        unit.remedy.iter().flat_map(|remedy| remedy.lines()).for_each(|line| print_line(&format!("    {line}")));
    }
    if let Some((command, labels)) = unit.next.split_last() {
        if !labels.is_empty() {
            print_line("  the ids do not determine the variant; read the label:");
        }
        labels.iter().for_each(|label| print_line(&format!("    {label}")));
        print_line(&format!("  next: {command}"));
    }
}
