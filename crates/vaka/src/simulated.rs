//! Simulated units that are made from product sheets.

use std::path::Path;
use std::sync::Arc;

use vaka_core::sheet::{Sheet, UndoPhase};
use vaka_image::{Image, ReadOptions};
use vaka_sheet_sim::{BUS, Design, DesignError, NamedStep, SheetProgrammer, SheetUnit};
use vaka_sim::World;
use vaka_sim::scene::{self, StartMode};
use vaka_sim::unit::Unit;
use vaka_sim::unit::can_adapter::CanAdapter;

use crate::cli_error::CliError;
use crate::{environment, files, input_file};
use vaka_messages::CommandError;

/// The port of the adapter for nodes of a CAN bus.
const ADAPTER_PORT: &str = "2-1";

/// The bus of programmers.
const PROGRAMMER_BUS: u8 = 3;

/// Serial number of the unit with this number.
pub fn serial(number: usize) -> String {
    format!("SIM-{number:04}")
}

/// Reads a sheet with the dialects next to it.
pub fn sheet(path: &Path) -> Result<Arc<Sheet>, CliError> {
    let text = input_file::text(path)?;
    let dialects = environment::dialects_beside(path)?;
    Ok(Arc::new(Sheet::parse_with(&path.display().to_string(), &text, &dialects)?))
}

/// Plugs in a unit; returns lines about it. `folder` is that of the scene.
pub fn plug(spec: &scene::SheetUnitSpec, folder: &Path, world: &mut World) -> Result<Vec<String>, CliError> {
    let path = folder.join(&spec.sheet);
    plug_of(&sheet(&path)?, &path, spec, folder, world)
}

/// The same with a sheet that was read from `path`.
pub fn plug_of(
    sheet: &Arc<Sheet>,
    path: &Path,
    spec: &scene::SheetUnitSpec,
    folder: &Path,
    world: &mut World,
) -> Result<Vec<String>, CliError> {
    let variant = spec.variant.clone().or_else(|| Some(sheet.variants.first()?.id.to_string())).unwrap_or_default();
    let wrong = |error| CommandError::Scene { name: path.display().to_string(), reason: reason(&error) };
    let design = Arc::new(Design::new(sheet.clone(), &variant).map_err(wrong)?);
    let image = spec.image.as_ref().map(|image| firmware(&folder.join(image), sheet, &variant)).transpose()?;
    let unit = SheetUnit::new(design.clone(), &spec.serial, spec.mode, image.as_ref());
    let mut lines = describe(&design, spec, unit.serial());
    spec.plug(Box::new(unit) as Box<dyn Unit>, world);
    let board_port = format!("{PROGRAMMER_BUS}-{}", spec.port.rsplit('-').next().unwrap_or("1"));
    if let Some(board) = SheetProgrammer::new(design.clone(), &spec.port, "SIM-PROGRAMMER") {
        lines.push(format!("{board_port}  programmer, wired to {}", spec.port));
        world.plug(&board_port, Box::new(board), Vec::new());
    }
    if design.is_node() && !world.ports().iter().any(|port| port == ADAPTER_PORT) {
        let adapter = match design.adapter_ids() {
            Some(ids) => CanAdapter::posing_as(ids, BUS, "SIM-ADAPTER"),
            None => CanAdapter::new(BUS, "SIM-ADAPTER"),
        };
        world.plug(ADAPTER_PORT, Box::new(adapter), Vec::new());
        lines.push(format!("{ADAPTER_PORT}  CAN adapter of these nodes"));
    }
    Ok(lines)
}

/// The firmware that a unit runs; a raw binary begins where its region does.
fn firmware(path: &Path, sheet: &Sheet, variant: &str) -> Result<Image, CliError> {
    let rules = sheet.variant(variant).map(|variant| &variant.image);
    let at = rules.map(|rules| rules.binary_at.unwrap_or(rules.region.span.start()));
    files::read(path, ReadOptions { at, ..ReadOptions::default() })
}

pub fn reason(error: &DesignError) -> String {
    match error {
        DesignError::NoVariant(id) => format!("it has no variant '{id}'"),
        DesignError::Flash(bytes) => {
            format!("the flash of the variant spans {bytes} bytes, more than a simulated unit has")
        }
        DesignError::TooHigh => "the flash of the variant ends above the addresses of a simulated unit".to_owned(),
        DesignError::NoRoute => "the variant has no route".to_owned(),
        DesignError::NoApplication => "its application has no USB ids and is not a node of a CAN bus".to_owned(),
    }
}

/// Lines about a unit: what it is, what is left out, and its manual steps.
fn describe(design: &Design, spec: &scene::SheetUnitSpec, serial: &str) -> Vec<String> {
    let mode = match spec.mode {
        StartMode::Application => "application mode",
        StartMode::Update => "update mode",
        StartMode::Damaged => "damaged application",
        StartMode::Blank => "blank",
        StartMode::Unplugged => "unplugged",
    };
    let mut lines = vec![format!("{}  {}, serial number {serial}, {mode}", spec.port, design.name())];
    lines.extend(design.left_out.iter().map(|part| format!("     left out: {}: {}", part.part, part.reason)));
    for (mode, entry, recovery) in design.entry_ways() {
        lines.push(format!("     into update mode {mode}: {}", entry.join(", ")));
        if !recovery.is_empty() {
            lines.push(format!("     recovery: {}", recovery.join(", ")));
        }
    }
    for NamedStep { name, step } in design.steps() {
        lines.push(format!("     do {} {name}: {}", spec.port, step.action));
        if let Some(undo) = &step.undo {
            let when = match undo.when {
                UndoPhase::Entered => "once in update mode",
                UndoPhase::Written => "before the restart",
                UndoPhase::End => "at the end",
            };
            lines.push(format!("     undo {} {name}: {} ({when})", spec.port, undo.action));
        }
    }
    lines
}
