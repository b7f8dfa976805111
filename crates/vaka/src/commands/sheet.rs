//! `vaka sheet new` and `vaka sheet check`.

use std::fmt::Write;

use serde_json::json;
use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::dfu_mode;
use vaka_boot::bench::open_error::{bus_failure, open_failure};
use vaka_core::event::ExitCode;
use vaka_core::memory::{SectorMap, Zone};
use vaka_core::sheet::{Sheet, Variant};
use vaka_core::unit::{DfuMemory, MemoryChoice, Mode, UnitFacts};
use vaka_image::address::Span;
use vaka_usb::DeviceInfo;

use super::{print_line, print_raw, print_result, sheet_show};
use crate::args::{Common, NewSheet, SheetCommand};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment;
use crate::files;
use crate::input_file;
use crate::output_options::OutputOptions;
use crate::render;
use vaka_messages::CommandError;

pub fn run(command: &SheetCommand, common: &Common, setting: &OutputOptions) -> Outcome {
    match command {
        SheetCommand::New(new) => make(new, common),
        SheetCommand::Check { files } => Ok(check(files, setting)),
        SheetCommand::Show { file } => sheet_show::run(file, setting.format),
        SheetCommand::Schema => {
            print_raw(vaka_core::schema::PRODUCT_SHEET);
            Ok(ExitCode::Done)
        }
    }
}

/// Checks sheets and prints their errors.
fn check(files: &[std::path::PathBuf], setting: &OutputOptions) -> ExitCode {
    let mut worst = ExitCode::Done;
    for file in files {
        let name = file.display().to_string();
        let read = input_file::text(file);
        let parsed = read.and_then(|text| {
            let dialects = environment::dialects_beside(file)?;
            Ok(Sheet::parse_with(&name, &text, &dialects)?)
        });
        match parsed {
            Ok(sheet) => {
                let variants: Vec<&str> = sheet.variants.iter().map(|variant| variant.id.as_str()).collect();
                let stages: Vec<&str> = sheet.stages.iter().map(|stage| stage.id.as_str()).collect();
                let stages = if stages.is_empty() { String::new() } else { format!(", stages {}", stages.join(", ")) };
                let event = json!({
                    "event": "sheet",
                    "file": name,
                    "product": sheet.product.id,
                    "variants": variants,
                    "unproven": without_proof(&sheet),
                });
                print_result(setting.format, &event, || {
                    print_line(&format!(
                        "{name}: valid product sheet for {}, variants {}{stages}",
                        sheet.product.name,
                        variants.join(", ")
                    ));
                    completeness_hint(&sheet);
                });
            }
            Err(problem) => {
                render::problem(&problem, setting);
                worst = ExitCode::File;
            }
        }
    }
    worst
}

/// The variants whose sheet has no key that proves completeness.
fn without_proof(sheet: &Sheet) -> Vec<&str> {
    let proves_nothing = |variant: &&Variant| {
        let rules = &variant.image;
        let has_none = rules.length.is_none() && rules.checksum.is_none() && rules.stamp_offset.is_none();
        has_none && !rules.is_opaque
    };
    sheet.variants.iter().filter(proves_nothing).map(|variant| variant.id.as_str()).collect()
}

/// Suggests keys that prove completeness.
fn completeness_hint(sheet: &Sheet) {
    let without = without_proof(sheet);
    if !without.is_empty() {
        print_line(&format!(
            "  hint: a raw binary for {} cannot prove that it is complete. If the image contains its length or a checksum, describe it in [variant.image], for example: length = {{ offset = 0x44, form = \"u32le\" }} and checksum = {{ kind = \"crc32\", form = \"u32le\" }}; or add a stamp with 'vaka stamp'.",
            without.join(", ")
        ));
    }
}

/// The placeholder for values that only the maintainer knows; a sheet that contains it is
/// refused.
const FILL_IN: &str = "FILL IN";

fn make(new: &NewSheet, common: &Common) -> Outcome {
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let device = the_unit(&bench, common)?;
    let place = bench.place(&device.location);
    let identity = bench.identity(&device.location).map_err(|error| open_failure(&error, &place))?;
    let choice = new.memory.as_deref().map(MemoryChoice::parse).unwrap_or_default();
    let sheet = draft(&identity.facts, dfu_mode(&device), &choice);
    match &new.out {
        None => print_raw(&sheet),
        Some(path) => {
            // The first sheet also creates the folder of sheets.
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            folder.map_or(Ok(()), std::fs::create_dir_all).map_err(|error| CliError::file(path, error))?;
            files::store_new(path, &sheet)?;
            print_line(&format!("{}: first product sheet of the unit at {place}.", path.display()));
            let open = sheet.lines().filter(|line| line.contains(FILL_IN)).count();
            print_line(&match open {
                0 => "Review every line: the unit's own report is not complete.".to_owned(),
                open => format!("{} to fill in; 'vaka sheet check' lists them.", text::count(open, "line")),
            });
        }
    }
    Ok(ExitCode::Done)
}

/// The unit: the one given by `--unit`, else the only one without a sheet.
pub(super) fn the_unit(bench: &Bench<'_>, common: &Common) -> Result<DeviceInfo, CliError> {
    let found = match &common.unit {
        Some(selector) => bench.devices_with(selector),
        None => bench
            .devices()
            .map(|devices| devices.into_iter().filter(|device| bench.recognise(device).is_none()).collect()),
    };
    let mut found: Vec<DeviceInfo> = found.map_err(|error| bus_failure(&error))?;
    match found.len() {
        1 => Ok(found.remove(0)),
        0 => Err(CommandError::NoUnit.into()),
        count => Err(CommandError::SeveralUnits { count }.into()),
    }
}

/// A sheet from the unit's own description.
fn draft(unit: &UnitFacts, mode: Option<Mode>, choice: &MemoryChoice) -> String {
    let memories = unit.memories(choice);
    let writable = |memory: &&DfuMemory<'_>| {
        memory.alternate.layout.as_ref().is_some_and(|layout| layout.map.zones().iter().any(can_be_written))
    };
    let memory = memories.iter().find(writable).or(memories.first());
    let booted = mode == Some(Mode::Update);
    let mut out = String::new();
    // Writing into a string cannot fail.
    let _ = head(&mut out, unit, booted);
    let _ = variant(&mut out, memory);
    let _ = route(&mut out, unit, booted, memory);
    out
}

fn head(out: &mut String, unit: &UnitFacts, booted: bool) -> std::fmt::Result {
    let name = unit.product.clone().unwrap_or_else(|| format!("Unit {}", unit.id));
    let mode = if booted { "in update mode" } else { "while its application was running" };
    writeln!(out, "# A first product sheet, from the report of the unit {} {mode}.", unit.id)?;
    writeln!(out, "# Review every line: the unit's own report is not complete.")?;
    writeln!(out, "sheet = 1\n\n[product]")?;
    writeln!(out, "id = {}", quoted(&slug(&name)))?;
    writeln!(out, "name = {}", quoted(&name))?;
    writeln!(out, "maker = {}\n", quoted(unit.maker.as_deref().unwrap_or(FILL_IN)))?;
    writeln!(out, "# The unit while its application runs.\n[application]")?;
    if booted {
        return writeln!(out, "id = \"{FILL_IN}\" # VID:PID in 'vaka survey' while the application runs\n");
    }
    writeln!(out, "id = \"{}\"", unit.id)?;
    if let Some(product) = &unit.product {
        writeln!(out, "product = {}", quoted(product))?;
    }
    writeln!(out, "# If its release number, now {}, is the firmware's version:", unit.release)?;
    writeln!(out, "# version = \"release-number\"\n")
}

fn variant(out: &mut String, memory: Option<&DfuMemory<'_>>) -> std::fmt::Result {
    writeln!(out, "[[variant]]\nid = \"a\"\nname = \"The only known variant\"")?;
    writeln!(out, "# Its label, if there are several variants:")?;
    writeln!(out, "# look_at = [{{ place = \"where on the board\", reads = \"the printed text\" }}]")?;
    let map = memory.and_then(|memory| memory.alternate.layout.as_ref()).map(|layout| &layout.map);
    let Some(region) = map.and_then(first_writable) else {
        writeln!(out, "flash = [{{ start = \"{FILL_IN}\", sectors = 1, size = \"{FILL_IN}\" }}]\n")?;
        writeln!(out, "[variant.image]\nregion = \"application\"\n")?;
        writeln!(out, "[[variant.region]]\nname = \"application\"")?;
        return writeln!(out, "start = \"{FILL_IN}\"\nsize = \"{FILL_IN}\"\n");
    };
    writeln!(out, "flash = [")?;
    for zone in map.into_iter().flat_map(SectorMap::zones) {
        let size = Bytes(u64::from(zone.sector_size()));
        writeln!(out, "    {{ start = {}, sectors = {}, size = \"{size}\" }},", zone.span().start(), zone.count())?;
    }
    writeln!(out, "]\n\n[variant.image]\nregion = \"application\"")?;
    writeln!(out, "# If images begin with Cortex-M start vectors:\n# vectors = \"cortex-m\"\n")?;
    writeln!(out, "# The memory that the unit reports as erasable and writable. If it has a bootloader of")?;
    writeln!(out, "# its own, or settings, declare a region for each of them and make this one smaller.")?;
    writeln!(out, "[[variant.region]]\nname = \"application\"")?;
    writeln!(out, "start = {}\nsize = {}\n", region.start(), region.len())
}

fn can_be_written(zone: &Zone) -> bool {
    zone.access().is_programmable()
}

/// The first stretch that can be erased and written.
fn first_writable(map: &SectorMap) -> Option<Span> {
    let spans = map.zones().iter().filter(|zone| can_be_written(zone)).map(Zone::span);
    Span::joined(spans).first().copied()
}

fn route(out: &mut String, unit: &UnitFacts, booted: bool, memory: Option<&DfuMemory<'_>>) -> std::fmt::Result {
    let addressed = memory.is_some_and(DfuMemory::is_addressed);
    writeln!(out, "[[route]]\nkind = \"{}\"", if addressed { "dfu" } else { "plain-dfu" })?;
    match booted {
        true => writeln!(out, "id = \"{}\"", unit.id)?,
        false => writeln!(out, "id = \"{FILL_IN}\" # VID:PID in update mode")?,
    }
    match memory.map(|memory| (memory, memory.alternate.label())) {
        Some((_, Some(name))) => writeln!(out, "memory = {}", quoted(name))?,
        Some((memory, None)) => {
            writeln!(out, "interface = {}\nalternate = {}", memory.interface.interface, memory.alternate.number)?;
        }
        None => {}
    }
    writeln!(out, "writes = [\"application\"]")?;
    if addressed {
        let layout = memory.and_then(|memory| memory.alternate.layout.as_ref());
        match layout.and_then(|layout| first_writable(&layout.map)) {
            Some(span) => writeln!(out, "restart_at = {}", span.start())?,
            None => writeln!(out, "restart_at = \"{FILL_IN}\"")?,
        }
    }
    match unit.run_time_dfu() {
        Some(_) => writeln!(out, "\n[[route.entry]]\nsignal = \"dfu-detach\""),
        None => {
            writeln!(out, "\n# Manual steps into update mode:\n# [[route.entry]]\n# do = \"Hold …, tap …, let go.\"")
        }
    }
}

/// A TOML string. JSON's escapes are among TOML's.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

fn slug(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let slug: String = name.chars().map(plain).take(32).collect();
    slug.split('-').filter(|part| !part.is_empty()).collect::<Vec<_>>().join("-")
}
