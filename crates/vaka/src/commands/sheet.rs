//! `vaka sheet new` and `vaka sheet check`.

use serde_json::json;
use vaka_base::text;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::id_of;
use vaka_boot::bench::open_error::{bus_failure, open_failure};
use vaka_boot::bench::returning;
use vaka_boot::bench::selector::Selector;
use vaka_boot::bench::tracking::TrackedUnit;
use vaka_boot::context::Context;
use vaka_core::event::ExitCode;
use vaka_core::sheet::{Sheet, Variant};
use vaka_core::unit::MemoryChoice;
use vaka_usb::{DeviceInfo, SystemClock};

use super::{print_line, print_raw, print_result, sheet_show};
use crate::args::{Common, NewSheet, SheetCommand};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment::{self, announce};
use crate::files;
use crate::input_file;
use crate::output_options::OutputOptions;
use crate::render;
use crate::sheet_draft::{self, FILL_IN, SeenUnit};
use crate::signals;
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

fn make(new: &NewSheet, common: &Common) -> Outcome {
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?.with_named_disk(common.unit.clone());
    let device = the_unit(&bench, common)?;
    let place = bench.place(&device.location);
    let first = look(&bench, device)?;
    // The user named this port, whatever the unit shows there next.
    let bench = bench.with_named_disk(common.unit.is_some().then(|| Selector::Port(place.clone())));
    let second = new.both_modes.then(|| other_mode(&bench, &first, common)).transpose()?;
    let choice = new.memory.as_deref().map(MemoryChoice::parse).unwrap_or_default();
    let sheet = sheet_draft::draft(&first, second.as_ref(), &choice);
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

/// The descriptors of a unit, and the content of its disk if the user named it.
fn look(bench: &Bench<'_>, device: DeviceInfo) -> Result<SeenUnit, CliError> {
    let place = bench.place(&device.location);
    // A unit with a sheet is not asked in its dialect.
    let identity = match bench.recognise(&device) {
        Some(_) => bench.identity(&device.location),
        None => {
            let opened = bench.look(&device, &mut Context::new(&SystemClock, &mut |_| {}, signals::flag()));
            opened.map(|opened| opened.identity)
        }
    };
    let identity = identity.map_err(|error| open_failure(&error, &place))?;
    Ok(SeenUnit { device, facts: identity.facts })
}

/// The same unit once the user has brought it into its other mode.
fn other_mode(bench: &Bench<'_>, first: &SeenUnit, common: &Common) -> Result<SeenUnit, CliError> {
    let place = bench.place(&first.device.location);
    announce(common, format!("Bring the unit at {place} into its other mode now; the cable may be pulled for it."));
    let clock = SystemClock;
    let mut ignore = |_| {};
    let mut cx = Context::new(&clock, &mut ignore, signals::flag());
    let end = cx.now() + common.wait;
    let mut last = first.device.clone();
    loop {
        // Devices on other ports are not opened for their serial numbers.
        let tracked = TrackedUnit { unit: &last, serial: None };
        let left = end.saturating_sub(cx.now());
        let back = returning::come_back(bench, tracked, false, left, &mut cx)?;
        if id_of(&back) != first.facts.id {
            return look(bench, back);
        }
        announce(common, format!("It came back as {} again, in the same mode.", first.facts.id));
        last = back;
    }
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
