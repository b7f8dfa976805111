//! Scenes in TOML: units, their content and their faults.
//!
//! The format is specified in `docs/formats/scene.md`.

use std::path::PathBuf;
use std::time::Duration;

use serde::Deserialize;
use thiserror::Error;

use crate::bootloader::dfu::{Poll, Quirks, Staging};
use crate::bootloader::dfu_plain::Traits;
use crate::bootloader::{disk, uf2};
use crate::fault::{Fault, FaultKind};
use crate::flash::StuckBit;
use crate::pins::Wiring;
use crate::unit::auk::auk;
use crate::unit::avocet::avocet;
use crate::unit::can_adapter::CanAdapter;
use crate::unit::dunlin::dunlin;
use crate::unit::fulmar::{bridged, fulmar};
use crate::unit::gannet::Gannet;
use crate::unit::heron::{self, Heron};
use crate::unit::linnet::Linnet;
use crate::unit::petrel::{self, Board, Petrel};
use crate::unit::skua::skua;
use crate::unit::stick::Stick;
use crate::unit::tern::{Revision, Tern};
use crate::unit::turnstone::{Chip, Turnstone};
use crate::unit::vendor_unit::VendorUnit;
use crate::unit::{Unit, UserAction};
use crate::world::World;

/// A scene that was read and checked.
#[derive(Clone, Debug)]
pub struct Scene {
    units: Vec<SceneUnit>,
    sheet_units: Vec<SheetUnitSpec>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawScene {
    #[serde(default)]
    unit: Vec<SceneUnit>,
    #[serde(default)]
    sheet_unit: Vec<SheetUnitSpec>,
}

/// A unit that is made from a product sheet. This crate does not know sheets: the caller makes the unit.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SheetUnitSpec {
    /// The sheet's file, from the folder of the scene.
    pub sheet: PathBuf,
    /// The variant; without it the first one.
    pub variant: Option<String>,
    /// The firmware that it runs, from the folder of the scene; without it, made for the sheet's rules.
    pub image: Option<PathBuf>,
    /// Port on the simulated bus.
    pub port: String,
    /// Serial number.
    pub serial: String,
    /// How it is found.
    #[serde(default)]
    pub mode: StartMode,
    #[serde(default)]
    stuck_bits: Vec<RawStuckBit>,
    #[serde(default)]
    faults: Vec<RawFault>,
    #[serde(default)]
    actions: Vec<RawAction>,
}

impl SheetUnitSpec {
    /// Plugs the unit that was made for it into a world.
    pub fn plug(&self, unit: Box<dyn Unit>, world: &mut World) {
        plug(&self.port, unit, (&self.stuck_bits, &self.faults, &self.actions), world);
    }
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct SceneUnit {
    product: Product,
    variant: Option<Variant>,
    port: String,
    serial: String,
    #[serde(default)]
    mode: StartMode,
    #[serde(default)]
    read_protected: bool,
    /// Whether its serial port is a bridge chip.
    #[serde(default)]
    bridge: bool,
    /// The CAN bus that it is a member of.
    #[serde(default)]
    bus: String,
    /// Its number on that bus.
    #[serde(default)]
    number: u8,
    /// The port of the unit that a programmer is wired to.
    #[serde(default)]
    target: String,
    /// The wires of a programmer.
    #[serde(default)]
    wiring: RawWiring,
    /// Whether its chip is locked.
    #[serde(default)]
    locked: bool,
    #[serde(default)]
    dfu: RawDfu,
    #[serde(default)]
    disk: RawDisk,
    #[serde(default)]
    stuck_bits: Vec<RawStuckBit>,
    #[serde(default)]
    faults: Vec<RawFault>,
    #[serde(default)]
    actions: Vec<RawAction>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Product {
    Tern,
    Gannet,
    Petrel,
    Heron,
    Dunlin,
    Auk,
    Avocet,
    Fulmar,
    Skua,
    /// A node of a CAN bus.
    Turnstone,
    /// An adapter for a CAN bus.
    CanAdapter,
    /// A programmer.
    Linnet,
    /// An ordinary USB stick.
    Stick,
}

/// The wires between a programmer and its unit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum RawWiring {
    #[default]
    Right,
    Crossed,
    Off,
}

/// Deviations of a unit's disk.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct RawDisk {
    write_protected: bool,
    full: bool,
    broken: bool,
    shows_nothing: bool,
    drops_last_reply: bool,
    never_complete: bool,
    refuses: bool,
    tells_nothing: bool,
    empty: bool,
}

impl RawDisk {
    fn disk(&self) -> disk::Quirks {
        disk::Quirks { protected: self.write_protected, ..disk::Quirks::default() }
    }

    fn petrel(&self) -> petrel::Quirks {
        let loader = uf2::Quirks {
            drops_last_reply: self.drops_last_reply,
            never_complete: self.never_complete,
            shows_nothing: self.shows_nothing,
            ..uf2::Quirks::default()
        };
        petrel::Quirks { disk: self.disk(), loader, broken_fat: self.broken }
    }

    fn heron(&self) -> heron::Quirks {
        let Self { refuses, tells_nothing, full, .. } = *self;
        heron::Quirks { disk: self.disk(), refuses, tells_nothing, full }
    }
}

/// Deviations of a unit's DFU.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawDfu {
    upload: Option<bool>,
    tolerant: Option<bool>,
    will_detach: Option<bool>,
    #[serde(default)]
    poll: RawPoll,
    #[serde(default)]
    no_functional_descriptor: bool,
    advertised_block_size: Option<u16>,
    max_block_size: Option<u16>,
    #[serde(default)]
    drops_last_reply: bool,
    #[serde(default)]
    ignores_detach: bool,
}

#[derive(Clone, Copy, Debug, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum RawPoll {
    #[default]
    Accurate,
    Zero,
    Excessive,
}

impl RawDfu {
    fn manner(&self) -> Quirks {
        Quirks {
            poll: match self.poll {
                RawPoll::Accurate => Poll::Accurate,
                RawPoll::Zero => Poll::Zero,
                RawPoll::Excessive => Poll::Excessive,
            },
            no_functional_descriptor: self.no_functional_descriptor,
            advertised_block_size: self.advertised_block_size,
            max_block_size: self.max_block_size,
            drops_last_reply: self.drops_last_reply,
            ignores_detach: self.ignores_detach,
            staging: Staging::default(),
        }
    }

    fn traits(&self) -> Traits {
        Traits {
            can_upload: self.upload.unwrap_or(Gannet::TRAITS.can_upload),
            tolerant: self.tolerant.unwrap_or(Gannet::TRAITS.tolerant),
            will_detach: self.will_detach.unwrap_or(Gannet::TRAITS.will_detach),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Variant {
    R1,
    R2,
    Pb1,
    Pb2,
    T1,
    T2,
}

/// How a unit is found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StartMode {
    /// Its application runs.
    #[default]
    Application,
    /// In update mode.
    Update,
    /// Its firmware is damaged.
    Damaged,
    /// Never programmed.
    Blank,
    /// Not attached.
    Unplugged,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawStuckBit {
    at: u32,
    bit: u8,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFault {
    at: u64,
    kind: FaultWord,
    back_after_ms: Option<u64>,
}

#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum FaultWord {
    Stall,
    Timeout,
    Short,
    Pull,
    LostReply,
    Garbled,
    PowerFail,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RawAction {
    after_ms: u64,
    action: String,
}

/// An error in a scene.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum SceneError {
    /// It is not valid TOML of this form.
    #[error("{0}")]
    Toml(String),
    /// Two units have the same port, or the name of a port is invalid.
    #[error("port '{0}' is used twice, is empty, or is longer than 31 characters")]
    Port(String),
    /// An invalid value.
    #[error("{0}")]
    Value(String),
}

impl Scene {
    /// Reads a scene.
    ///
    /// # Errors
    /// [`SceneError`]: its author is to blame.
    pub fn parse(text: &str) -> Result<Self, SceneError> {
        let raw: RawScene = toml::from_str(text).map_err(|error| SceneError::Toml(error.to_string()))?;
        let of_sheets = raw.sheet_unit.iter().map(|unit| &unit.port[..]);
        check_ports(raw.unit.iter().map(|unit| &unit.port[..]).chain(of_sheets))?;
        if raw.unit.is_empty() && raw.sheet_unit.is_empty() {
            return Err(SceneError::Value("it has no [[unit]] and no [[sheet_unit]]".into()));
        }
        raw.sheet_unit.iter().try_for_each(|unit| check_common(&unit.stuck_bits, &unit.actions))?;
        for unit in &raw.unit {
            check_common(&unit.stuck_bits, &unit.actions)?;
            match (unit.product, unit.variant) {
                (Product::Tern, Some(Variant::R1 | Variant::R2)) => {}
                (Product::Tern, _) => return Err(SceneError::Value("a Tern requires a variant: r1 or r2".into())),
                (Product::Petrel, Some(Variant::Pb1 | Variant::Pb2)) => {}
                (Product::Petrel, _) => {
                    return Err(SceneError::Value("a Petrel requires a variant: pb1 or pb2".into()));
                }
                (Product::Turnstone, Some(Variant::T1 | Variant::T2)) => {}
                (Product::Turnstone, _) => {
                    return Err(SceneError::Value("a Turnstone requires a variant: t1 or t2".into()));
                }
                (_, Some(_)) => return Err(SceneError::Value("this product has no variants".into())),
                (_, None) => {}
            }
            if unit.bridge && unit.product != Product::Fulmar {
                return Err(SceneError::Value("only a Fulmar has a bridge chip".into()));
            }
            let is_found = match unit.mode {
                StartMode::Application | StartMode::Update => true,
                StartMode::Damaged => unit.product.is_loaded() || unit.product == Product::Turnstone,
                StartMode::Unplugged => unit.product.is_loaded() || unit.product == Product::Tern,
                StartMode::Blank => matches!(unit.product, Product::Tern | Product::Dunlin | Product::Turnstone),
            };
            if !is_found {
                return Err(SceneError::Value("this product does not support that mode".into()));
            }
            unit.check_bus()?;
            if (unit.product == Product::Linnet) == unit.target.is_empty() {
                return Err(SceneError::Value(
                    "a Linnet has a `target`, the port of a unit, and others have none".into(),
                ));
            }
            if unit.locked && unit.product != Product::Dunlin {
                return Err(SceneError::Value("only the chip of a Dunlin can be locked".into()));
            }
        }
        Ok(Self { units: raw.unit, sheet_units: raw.sheet_unit })
    }

    /// The units that are made from sheets; [`build`](Self::build) leaves them out.
    pub fn sheet_units(&self) -> &[SheetUnitSpec] {
        &self.sheet_units
    }

    /// Port and description of each unit: `("1-1", "tern r1, serial number T1-00217, update mode")`.
    pub fn units(&self) -> impl Iterator<Item = (&str, String)> {
        self.units.iter().map(|unit| (unit.port.as_str(), unit.describe()))
    }

    /// Plugs its units into a world.
    pub fn build(&self, world: &mut World) {
        for unit in &self.units {
            unit.build(world);
        }
    }
}

impl Product {
    /// Whether it has a vendor bootloader.
    fn is_loaded(self) -> bool {
        matches!(self, Self::Dunlin | Self::Auk | Self::Avocet | Self::Fulmar | Self::Skua)
    }
}

/// Checks the port of each unit; no two have the same.
fn check_ports<'s>(ports: impl Iterator<Item = &'s str>) -> Result<(), SceneError> {
    let mut known: Vec<&str> = Vec::new();
    for port in ports {
        if known.contains(&port) || port.is_empty() || port.len() > 31 {
            return Err(SceneError::Port(port.to_owned()));
        }
        known.push(port);
    }
    Ok(())
}

fn check_common(bits: &[RawStuckBit], actions: &[RawAction]) -> Result<(), SceneError> {
    if let Some(bit) = bits.iter().find(|bit| bit.bit > 7) {
        return Err(SceneError::Value(format!("a byte has bits 0 to 7, not {}", bit.bit)));
    }
    for action in actions {
        action.action.parse::<UserAction>().map_err(|error| SceneError::Value(error.into()))?;
    }
    Ok(())
}

/// Plugs in a unit with its stuck bits, faults and actions.
fn plug(
    port: &str,
    mut unit: Box<dyn Unit>,
    (bits, faults, actions): (&[RawStuckBit], &[RawFault], &[RawAction]),
    world: &mut World,
) {
    for bit in bits {
        unit.flash_mut().add_stuck_bit(StuckBit { address: bit.at, bit: bit.bit });
    }
    world.plug(port, unit, faults.iter().map(RawFault::fault).collect());
    for action in actions {
        // Checked when the scene was read.
        if let Ok(does) = action.action.parse::<UserAction>() {
            world.act_later(port, Duration::from_millis(action.after_ms), does);
        }
    }
}

/// A unit in the initial mode of the scene.
fn found(unit: VendorUnit, mode: StartMode) -> VendorUnit {
    match mode {
        StartMode::Application => unit,
        StartMode::Update => unit.in_boot_mode(),
        StartMode::Damaged => unit.damaged(),
        StartMode::Unplugged | StartMode::Blank => unit.unplugged(),
    }
}

impl SceneUnit {
    /// A node has a bus, a number and a unique id of its own.
    fn check_bus(&self) -> Result<(), SceneError> {
        let is_member = matches!(self.product, Product::Turnstone | Product::CanAdapter);
        let is_node = self.product == Product::Turnstone;
        let wrong = |words: &str| Err(SceneError::Value(words.into()));
        match () {
            () if is_member == self.bus.is_empty() => {
                wrong("a Turnstone and an adapter have a `bus`, and others have none")
            }
            () if is_node != (1..64).contains(&self.number) => {
                wrong("a Turnstone has a `number` of 1 to 63, and others have none")
            }
            () if is_node && self.unique().is_none() => {
                wrong("the serial number of a Turnstone is its unique id: 8 hex digits")
            }
            () => Ok(()),
        }
    }

    /// The unique id of a node.
    fn unique(&self) -> Option<u32> {
        u32::from_str_radix(&self.serial, 16).ok().filter(|_| self.serial.len() == 8)
    }

    fn turnstone(&self) -> Turnstone {
        let chip = if self.variant == Some(Variant::T2) { Chip::T2 } else { Chip::T1 };
        let node = Turnstone::new(chip, &self.bus, self.number, self.unique().unwrap_or_default());
        match self.mode {
            StartMode::Update => node.in_boot_mode(),
            StartMode::Damaged => node.damaged(),
            StartMode::Blank => node.blank(),
            _ => node,
        }
    }

    fn wires(&self) -> Wiring {
        match self.wiring {
            RawWiring::Right => Wiring::Right,
            RawWiring::Crossed => Wiring::Crossed,
            RawWiring::Off => Wiring::Off,
        }
    }

    fn describe(&self) -> String {
        let variant = self.variant.map(|variant| format!(" {variant:?}").to_lowercase()).unwrap_or_default();
        let mode = match self.mode {
            StartMode::Application => "application mode",
            StartMode::Update => "update mode",
            StartMode::Damaged => "update mode, without a valid application",
            StartMode::Unplugged => "unplugged",
            StartMode::Blank if self.product == Product::Dunlin => "blank",
            StartMode::Blank => "unplugged, blank",
        };
        let Self { product, serial, .. } = self;
        format!("{product:?}{variant}, serial number {serial}, {mode}")
    }

    fn unit(&self) -> Box<dyn Unit> {
        let revision = match self.variant {
            Some(Variant::R2) => Revision::R2,
            _ => Revision::R1,
        };
        let board = if self.variant == Some(Variant::Pb2) { Board::Pb2 } else { Board::Pb1 };
        let manner = self.dfu.manner();
        match (self.product, self.mode) {
            (Product::Tern, mode) => {
                let tern = match mode {
                    StartMode::Update => Tern::in_boot_mode(revision, &self.serial),
                    StartMode::Blank => Tern::blank(revision, &self.serial),
                    _ => Tern::new(revision, &self.serial),
                };
                let tern = tern.with_manner(manner, self.read_protected);
                let lies_there = matches!(mode, StartMode::Blank | StartMode::Unplugged);
                Box::new(if lies_there { tern.unplugged() } else { tern })
            }
            (Product::Gannet, mode) if mode != StartMode::Update => {
                Box::new(Gannet::with(&self.serial, self.dfu.traits(), manner))
            }
            (Product::Gannet, _) => Box::new(Gannet::with(&self.serial, self.dfu.traits(), manner).in_boot_mode()),
            (Product::Petrel, mode) => {
                let petrel = Petrel::with(board, &self.serial, self.disk.petrel());
                Box::new(if mode == StartMode::Update { petrel.in_boot_mode() } else { petrel })
            }
            (Product::Heron, mode) => {
                let heron = Heron::with(&self.serial, self.disk.heron());
                let heron = if self.disk.empty { heron.without_display() } else { heron };
                Box::new(if mode == StartMode::Update { heron.in_service_mode() } else { heron })
            }
            (Product::Dunlin, StartMode::Blank) => Box::new(dunlin(&self.serial).blank()),
            (Product::Dunlin, mode) => Box::new(found(dunlin(&self.serial), mode)),
            (Product::Auk, mode) => Box::new(found(auk(&self.serial), mode)),
            (Product::Avocet, mode) => Box::new(found(avocet(&self.serial), mode)),
            (Product::Fulmar, mode) if self.bridge => Box::new(found(bridged(&self.serial), mode)),
            (Product::Fulmar, mode) => Box::new(found(fulmar(&self.serial), mode)),
            (Product::Skua, mode) => Box::new(found(skua(&self.serial), mode)),
            (Product::Turnstone, _) => Box::new(self.turnstone()),
            (Product::CanAdapter, _) => Box::new(CanAdapter::new(&self.bus, &self.serial)),
            (Product::Linnet, _) => Box::new(Linnet::new(&self.target, &self.serial, self.wires())),
            (Product::Stick, _) => Box::new(Stick::new(&self.serial)),
        }
    }

    fn build(&self, world: &mut World) {
        let mut unit = self.unit();
        if let Some(pins) = unit.pins().filter(|_| self.locked) {
            pins.lock();
        }
        plug(&self.port, unit, (&self.stuck_bits, &self.faults, &self.actions), world);
    }
}

impl RawFault {
    fn fault(&self) -> Fault {
        let kind = match self.kind {
            FaultWord::Stall => FaultKind::Stall,
            FaultWord::Timeout => FaultKind::Timeout,
            FaultWord::Short => FaultKind::Short,
            FaultWord::Pull => FaultKind::Pull(self.back_after_ms.map(Duration::from_millis)),
            FaultWord::LostReply => FaultKind::LostReply,
            FaultWord::Garbled => FaultKind::Garbled,
            FaultWord::PowerFail => FaultKind::PowerFail(Duration::from_millis(self.back_after_ms.unwrap_or(700))),
        };
        Fault { at: self.at, kind }
    }
}

/// The default scene: a Tern r1 in update mode, a Tern r2 and a Gannet that run their
/// applications, a Petrel that shows its update disk, a Heron, and an ordinary USB stick.
pub const DEFAULT: &str = r#"
[[unit]]
product = "tern"
variant = "r1"
port = "1-1"
serial = "T1-00217"
mode = "update"

[[unit]]
product = "tern"
variant = "r2"
port = "1-2"
serial = "T2-00054"

[[unit]]
product = "gannet"
port = "1-3"
serial = "G-00031"

[[unit]]
product = "petrel"
variant = "pb1"
port = "1-4"
serial = "P-00112"
mode = "update"

[[unit]]
product = "heron"
port = "1-5"
serial = "S-00007"

[[unit]]
product = "stick"
port = "1-6"
serial = "BZ88"
"#;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scenes_are_checked() {
        assert_eq!(Scene::parse(DEFAULT).unwrap().units.len(), 6);
        for (from, to, words) in [
            ("port = \"1-2\"", "port = \"1-1\"", "used twice"),
            ("variant = \"r2\"", "variant = \"r9\"", "r9"),
            ("variant = \"r2\"\n", "", "r1 or r2"),
            ("product = \"gannet\"", "product = \"gannet\"\nvariant = \"r1\"", "no variants"),
            ("serial = \"G-00031\"", "serial = \"x\"\nbridge = true", "bridge chip"),
            ("variant = \"r2\"", "variannt = \"r2\"", "variannt"),
            ("serial = \"T2-00054\"", "serial = \"x\"\nstuck_bits = [{ at = 0, bit = 8 }]", "bits 0 to 7"),
            (
                "serial = \"T2-00054\"",
                "serial = \"x\"\nactions = [{ after_ms = 0, action = \"dance\" }]",
                "is not an action",
            ),
        ] {
            let error = Scene::parse(&DEFAULT.replace(from, to)).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
    }
}
