//! `vaka survey`

use vaka_boot::bench::{Bench, OpenError, bus_failure};
use vaka_boot::entry;
use vaka_core::event::{Code, Event, Seen};
use vaka_core::matching::labels;
use vaka_core::text;
use vaka_core::unit::{MemoryChoice, Mode};
use vaka_usb::{BusError, DeviceInfo};

use super::say;
use crate::Outcome;
use crate::args::{Common, Format};
use crate::render::{json, table};
use crate::setting::{self, Setting};

pub fn run(common: &Common, setting: &Setting) -> Outcome {
    let sheets = setting::sheets(common)?;
    let bench = Bench::new(setting::buses(common)?, &sheets);
    let devices = bench.devices().map_err(|error| bus_failure(&error))?;
    let chosen = match &common.unit {
        Some(selector) => {
            let fits = bench.select(Some(selector), true).map_err(|error| bus_failure(&error))?;
            devices.into_iter().filter(|device| fits.iter().any(|unit| unit.device == *device)).collect()
        }
        None => devices,
    };
    let units: Vec<Seen> = chosen.iter().map(|device| look(&bench, device)).collect();
    match setting.format {
        Format::Json => units.into_iter().for_each(|unit| json::line(&Event::Seen(unit))),
        Format::Text => print(&bench, &units, setting),
    }
    Ok(Code::Done)
}

/// What can be said of a device. One that no sheet knows is not opened.
fn look(bench: &Bench<'_>, device: &DeviceInfo) -> Seen {
    let mut unit = entry::seen(bench, device);
    let Some(candidate) = bench.recognise(device) else {
        if unit.mode == Mode::Update {
            unit.next.push(format!("vaka sheet new --unit port={}", unit.unit));
        }
        return unit;
    };
    match bench.may_look(&candidate).then(|| bench.identity(&device.location)).transpose() {
        // It would leave its update mode when it is closed again.
        Ok(None) => {}
        Ok(Some(identity)) => {
            unit.serial.clone_from(&identity.facts.serial);
            let memories = identity.facts.memories(&MemoryChoice::default());
            let layout = memories.iter().find_map(|memory| memory.alternate.layout.as_ref());
            unit.layout = layout.map(|layout| {
                let same = candidate.sheets.iter().flat_map(|sheet| candidate.variants_of(sheet));
                let same: Vec<&str> = same.filter(|v| v.flash == layout.map).map(|v| v.id.as_str()).collect();
                let like = if same.is_empty() {
                    ", as no variant has".to_owned()
                } else {
                    format!(", as {} has", same.join(" and "))
                };
                format!("{}{like}", layout.map)
            });
        }
        Err(OpenError::Bus(BusError::Busy(_))) => unit.obstacle = Some("another program uses it".into()),
        Err(error) => unit.obstacle = Some(error.to_string()),
    }
    if let Some(sheet) = candidate.sheets.first() {
        for variant in candidate.variants_of(sheet) {
            if unit.variants.len() > 1 && !variant.look_at.is_empty() {
                unit.next.push(format!("{} if it reads {}", variant.id, labels(&variant.look_at)));
            }
        }
        let variant = if unit.variants.len() > 1 { " --variant ID" } else { "" };
        unit.next.push(format!("vaka update FILE --unit port={}{variant}", unit.unit));
    }
    unit
}

fn print(bench: &Bench<'_>, units: &[Seen], setting: &Setting) {
    let buses: Vec<&str> = bench.buses().iter().map(|bus| bus.name()).collect();
    say(&format!("{} on {}", text::count(units.len(), "unit"), buses.join(", ")));
    if units.is_empty() {
        match bench.emptiness() {
            Some(reason) => say(&format!("Nothing is there: {reason}.")),
            None => say("Nothing is plugged in there, or other programs use all of it."),
        }
        return;
    }
    say("");
    let dash = || "-".to_owned();
    let row = |unit: &Seen| {
        let variants: Vec<&str> = unit.variants.iter().map(|id| id.as_str()).collect();
        vec![
            unit.unit.clone(),
            unit.mode.to_string(),
            unit.product.clone().unwrap_or_else(|| "no sheet knows it".to_owned()),
            if variants.is_empty() { dash() } else { variants.join(" or ") },
            unit.id.to_string(),
            unit.version.map_or_else(dash, |version| version.to_string()),
            unit.serial.clone().unwrap_or_else(dash),
        ]
    };
    let head = ["port", "mode", "product", "variant", "id", "version", "serial number"];
    print_block(&table::plain(setting.width, &head, units.iter().map(row).collect()));
    for unit in units.iter().filter(|unit| unit.mode != Mode::Unknown) {
        say("");
        detail(unit);
    }
}

fn print_block(block: &str) {
    block.lines().for_each(say);
}

/// What is known beyond the table, and what can be done.
fn detail(unit: &Seen) {
    say(&format!("{}:", unit.unit));
    if let Some(layout) = &unit.layout {
        say(&format!("  reports {layout}"));
    }
    if let Some(obstacle) = &unit.obstacle {
        say(&format!("  in the way: {obstacle}"));
    }
    if let Some((command, labels)) = unit.next.split_last() {
        if !labels.is_empty() {
            say("  its ids do not tell the variant; look at the unit:");
        }
        labels.iter().for_each(|label| say(&format!("    {label}")));
        say(&format!("  next: {command}"));
    }
}
