//! A first product sheet from what a unit reports of itself.

use std::fmt::{Result, Write};

use vaka_base::size::Bytes;
use vaka_boot::bench::candidate::dfu_mode;
use vaka_core::memory::{SectorMap, Zone};
use vaka_core::unit::{DfuMemory, MemoryChoice, Mode, UnitFacts};
use vaka_core::volume::{BOARD_FILE, VolumeFacts};
use vaka_image::address::Span;
use vaka_usb::DeviceInfo;

/// The placeholder for values that only the maintainer knows; a sheet that contains it is
/// refused.
pub const FILL_IN: &str = "FILL IN";

/// A unit in one of its modes.
pub struct SeenUnit {
    pub device: DeviceInfo,
    pub facts: UnitFacts,
}

impl SeenUnit {
    fn disk(&self) -> Option<&VolumeFacts> {
        self.facts.volume.as_ref()
    }

    /// Whether its interfaces or its disk show update mode.
    fn is_booted(&self) -> bool {
        dfu_mode(&self.device) == Some(Mode::Update) || self.disk().is_some_and(|disk| disk.board().is_some())
    }

    fn has(&self, class: u8) -> bool {
        self.device.interfaces.iter().any(|interface| interface.class == class)
    }
}

/// The unit in the modes in which it was seen.
#[derive(Clone, Copy)]
struct Modes<'u> {
    application: Option<&'u SeenUnit>,
    booted: Option<&'u SeenUnit>,
}

impl<'u> Modes<'u> {
    fn of(first: &'u SeenUnit, second: Option<&'u SeenUnit>) -> Self {
        match second {
            Some(second) if first.is_booted() && !second.is_booted() => {
                Self { application: Some(second), booted: Some(first) }
            }
            Some(_) => Self { application: Some(first), booted: second },
            None if first.is_booted() => Self { application: None, booted: Some(first) },
            None => Self { application: Some(first), booted: None },
        }
    }

    /// The unit as an update would find it, or else as it was seen.
    fn updated(self) -> Option<&'u SeenUnit> {
        self.booted.or(self.application)
    }
}

/// A sheet from the unit's own description, in one mode or in both.
pub fn draft(first: &SeenUnit, second: Option<&SeenUnit>, choice: &MemoryChoice) -> String {
    let modes = Modes::of(first, second);
    let mut out = String::new();
    let Some(unit) = modes.updated() else { return out };
    let memories = unit.facts.memories(choice);
    let writable = |memory: &&DfuMemory<'_>| {
        memory.alternate.layout.as_ref().is_some_and(|layout| layout.map.zones().iter().any(can_be_written))
    };
    let memory = memories.iter().find(writable).or(memories.first());
    // Writing into a string cannot fail.
    let _ = head(&mut out, modes);
    let _ = variant(&mut out, unit, memory);
    let _ = route(&mut out, modes, unit, memory);
    out
}

fn head(out: &mut String, modes: Modes<'_>) -> Result {
    let Some(unit) = modes.application.or(modes.booted).map(|unit| &unit.facts) else { return Ok(()) };
    let name = unit.product.clone().unwrap_or_else(|| format!("Unit {}", unit.id));
    let mode = match (modes.application, modes.booted) {
        (Some(_), Some(booted)) => {
            format!("while its application was running, and as {} in update mode", booted.facts.id)
        }
        (Some(unit), None) if unit.facts.run_time_dfu().is_some() => "while its application was running".to_owned(),
        (Some(_), None) => "in one of its modes".to_owned(),
        _ => "in update mode".to_owned(),
    };
    writeln!(out, "# A first product sheet, from the report of the unit {} {mode}.", unit.id)?;
    writeln!(out, "# Review every line: the unit's own report is not complete.")?;
    writeln!(out, "sheet = 1\n\n[product]")?;
    writeln!(out, "id = {}", quoted(&slug(&name)))?;
    writeln!(out, "name = {}", quoted(&name))?;
    writeln!(out, "maker = {}", quoted(unit.maker.as_deref().unwrap_or(FILL_IN)))?;
    if let (Some(one), Some(other)) = (modes.application, modes.booted)
        && one.facts.serial.is_some()
    {
        match one.facts.serial == other.facts.serial {
            true => writeln!(
                out,
                "# It had the same serial number in both modes. If each unit has a number of its own:\n# stable_serial = true"
            )?,
            false => writeln!(out, "# Its serial number differed between the modes.")?,
        }
    }
    writeln!(out, "\n# The unit while its application runs.\n[application]")?;
    let Some(unit) = modes.application.map(|unit| &unit.facts) else {
        return writeln!(out, "id = \"{FILL_IN}\" # VID:PID in 'vaka survey' while the application runs\n");
    };
    if modes.booted.is_none() && unit.run_time_dfu().is_none() {
        writeln!(out, "# Nothing showed whether this was the application or update mode.")?;
    }
    writeln!(out, "id = \"{}\"", unit.id)?;
    if let Some(product) = &unit.product {
        writeln!(out, "product = {}", quoted(product))?;
    }
    writeln!(out, "# If its release number, now {}, is the firmware's version:", unit.release)?;
    writeln!(out, "# version = \"release-number\"\n")
}

fn variant(out: &mut String, unit: &SeenUnit, memory: Option<&DfuMemory<'_>>) -> Result {
    writeln!(out, "[[variant]]\nid = \"a\"\nname = \"The only known variant\"")?;
    writeln!(out, "# Its label, if there are several variants:")?;
    writeln!(out, "# look_at = [{{ place = \"where on the board\", reads = \"the printed text\" }}]")?;
    let map = memory.and_then(|memory| memory.alternate.layout.as_ref()).map(|layout| &layout.map);
    let Some(region) = map.and_then(first_writable) else {
        let start = unit.disk().and_then(|disk| disk.shown_start);
        let start = start.map_or_else(|| format!("\"{FILL_IN}\""), |start| start.to_string());
        if unit.disk().is_some_and(|disk| disk.shown_start.is_some()) {
            writeln!(out, "# The installed application begins at {start}.")?;
        }
        writeln!(out, "flash = [{{ start = {start}, sectors = 1, size = \"{FILL_IN}\" }}]\n")?;
        writeln!(out, "[variant.image]\nregion = \"application\"\n")?;
        writeln!(out, "[[variant.region]]\nname = \"application\"")?;
        return writeln!(out, "start = {start}\nsize = \"{FILL_IN}\"\n");
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

fn route(out: &mut String, modes: Modes<'_>, unit: &SeenUnit, memory: Option<&DfuMemory<'_>>) -> Result {
    writeln!(out, "[[route]]")?;
    // An application may show the disk that takes its update.
    let is_there = modes.booted.is_some() || unit.disk().is_some();
    let id = match is_there {
        true => format!("id = \"{}\"", unit.facts.id),
        false => format!("id = \"{FILL_IN}\" # VID:PID in update mode"),
    };
    match (unit.disk(), memory) {
        (Some(disk), _) => disk_route(out, &id, disk)?,
        (None, Some(_)) => dfu_route(out, &id, memory)?,
        (None, None) if unit.facts.run_time_dfu().is_some() => dfu_route(out, &id, None)?,
        (None, None) => dialect_route(out, &id, unit)?,
    }
    if let (Some(booted), None) = (modes.booted, unit.disk())
        && let Some(product) = &booted.facts.product
    {
        writeln!(out, "product = {}", quoted(product))?;
    }
    match modes.application.and_then(|unit| unit.facts.run_time_dfu()) {
        Some(_) => writeln!(out, "\n[[route.entry]]\nsignal = \"dfu-detach\""),
        None => {
            writeln!(out, "\n# Manual steps into update mode:\n# [[route.entry]]\n# do = \"Hold …, tap …, let go.\"")
        }
    }
}

fn dfu_route(out: &mut String, id: &str, memory: Option<&DfuMemory<'_>>) -> Result {
    let addressed = memory.is_some_and(DfuMemory::is_addressed);
    writeln!(out, "kind = \"{}\"\n{id}", if addressed { "dfu" } else { "plain-dfu" })?;
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
    Ok(())
}

/// The route of a disk: UF2 blocks if it has board information, else a file.
fn disk_route(out: &mut String, id: &str, disk: &VolumeFacts) -> Result {
    writeln!(out, "kind = \"volume\"\n{id}")?;
    if let Some(label) = &disk.label {
        writeln!(out, "label = {}", quoted(label))?;
    }
    if let Some(fault) = &disk.fault {
        writeln!(out, "# Its content could not be read: {fault}")?;
    }
    for (name, lines) in &disk.texts {
        writeln!(out, "# {name} says: {}", lines.iter().take(4).cloned().collect::<Vec<_>>().join("; "))?;
    }
    let Some(board) = disk.board() else {
        let files: Vec<String> = disk.files.iter().map(|file| format!("{}, {}", file.name, Bytes(file.size))).collect();
        writeln!(
            out,
            "# Files on the disk: {}",
            if files.is_empty() { "none seen".to_owned() } else { files.join("; ") }
        )?;
        writeln!(out, "takes = \"{FILL_IN}\" # \"hex\" or \"binary\" for firmware, \"file\" for any file")?;
        writeln!(out, "file = \"{FILL_IN}\" # the name under which the unit takes it")?;
        writeln!(out, "# application_file = \"…\" # if a file shows the installed firmware")?;
        return writeln!(out, "writes = [\"application\"]");
    };
    writeln!(out, "takes = \"uf2\"")?;
    match (&disk.families[..], disk.shown_blocks()) {
        ([family], Some(file)) => {
            writeln!(out, "family = 0x{family:08X} # of the blocks in {}", file.name)?;
            writeln!(out, "application_file = {}", quoted(&file.name))?;
        }
        _ => writeln!(out, "family = \"{FILL_IN}\" # of the unit's chip; 'vaka check FILE.uf2' shows that of a file")?,
    }
    match &board.board_id {
        Some(board) => writeln!(out, "board_id = {}", quoted(board))?,
        None => writeln!(out, "# {BOARD_FILE} has no Board-ID.")?,
    }
    writeln!(out, "writes = [\"application\"]")
}

/// The route of a vendor's own bootloader, with the carriers that the unit's interfaces allow. Source of
/// the class codes: *USB Defined Class Codes*.
fn dialect_route(out: &mut String, id: &str, unit: &SeenUnit) -> Result {
    const CARRIERS: [(u8, &str, &str); 3] = [
        (0x02, "serial", "a serial port (CDC-ACM)"),
        (0x03, "hid", "HID reports"),
        (0xFF, "pipes", "a vendor interface; without endpoints the carrier is \"control\""),
    ];
    writeln!(out, "kind = \"dialect\"\n{id}")?;
    for (_, carrier, what) in CARRIERS.iter().filter(|(class, ..)| unit.has(*class)) {
        writeln!(out, "# It has {what}: vaka dialect new --carrier {carrier}")?;
    }
    writeln!(out, "dialect = \"{FILL_IN}\" # the name of the dialect")?;
    writeln!(out, "writes = [\"application\"]")
}

fn can_be_written(zone: &Zone) -> bool {
    zone.access().is_programmable()
}

/// The first stretch that can be erased and written.
fn first_writable(map: &SectorMap) -> Option<Span> {
    let spans = map.zones().iter().filter(|zone| can_be_written(zone)).map(Zone::span);
    Span::joined(spans).first().copied()
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
