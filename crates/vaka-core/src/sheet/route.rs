//! The ways to update a variant.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::sheet::ids::Ids;
use crate::sheet::manual_step::ManualStep;
use crate::sheet::region::Region;
use crate::sheet::signs::DescriptorPattern;
use crate::unit::{MemoryChoice, ReportedProperty, UnitFacts};
use vaka_dialect::Dialect;
use vaka_image::address::Address;

/// One way to update a variant.
#[derive(Clone, Debug)]
pub struct Route {
    /// The protocol.
    pub kind: RouteKind,
    /// The unit's ids in update mode.
    pub id: Ids,
    /// What it must say of itself there.
    pub signs: DescriptorPattern,
    /// The regions it may write; each ends where a sector ends.
    pub writes: Vec<Region>,
    /// Where the unit starts when it leaves update mode, on routes that can
    /// say so; without it at the start of the image.
    pub restart_at: Option<Address>,
    /// What brings the unit into update mode, in order.
    pub entry: Vec<EntryStep>,
    /// How long the unit listens after it was plugged in, where that is short.
    pub listens: Option<Duration>,
    /// What a person does with a unit that shows nothing any more.
    pub recovery: Vec<ManualStep>,
    /// Where the way in is documented.
    pub documented: Option<String>,
}

impl Route {
    /// Whether the unit tells in update mode which variant it is.
    pub fn is_self_identifying(&self) -> bool {
        self.kind.is_self_identifying() || !self.signs.is_empty()
    }

    /// Whether a unit says of itself that it is the one of this route: yes, no, or
    /// nothing.
    pub fn is_told(&self, unit: &UnitFacts) -> Option<bool> {
        let signs = self.signs.of(unit);
        let told = signs.iter().filter_map(|sign| sign.is_so).chain(self.kind.is_told(unit));
        told.fold(None, |all, one| Some(all.unwrap_or(true) && one))
    }

    /// Whether two routes under one id are told apart by what the unit says.
    pub fn differs_as_told(&self, other: &Self) -> bool {
        self.kind.differs_as_told(&other.kind) || self.signs.exclude(&other.signs)
    }

    /// What a person does on the way in, in order.
    pub fn manual_steps(&self) -> Vec<&ManualStep> {
        let steps = self.entry.iter();
        let hands = steps.filter_map(|step| if let EntryStep::Manual(hand) = step { Some(&**hand) } else { None });
        hands.collect()
    }

    /// Whether the unit comes into update mode with nobody's hands.
    pub fn is_unattended(&self) -> bool {
        !self.entry.is_empty() && self.entry.iter().all(|step| matches!(step, EntryStep::Signal(_)))
    }

    /// The same route for a carried region; a plain DFU unit must offer it as a
    /// memory of its own.
    pub(super) fn for_transferable(&self, region: &Region, memory: Option<&String>) -> Option<Self> {
        let kind = match (&self.kind, memory) {
            (RouteKind::Dfu { .. }, None) => self.kind.clone(),
            (RouteKind::Dfu { .. }, Some(name)) => RouteKind::Dfu { memory: named(name) },
            // What such a memory gives back is what was put in, or carrying has no sense.
            (RouteKind::PlainDfu { .. }, Some(name)) => {
                RouteKind::PlainDfu { memory: named(name), uploads_image: true }
            }
            (RouteKind::Dialect(route), None) if route.dialect.can_read() => self.kind.clone(),
            (RouteKind::PlainDfu { .. }, None) | (RouteKind::Volume(_) | RouteKind::Dialect(_), _) => return None,
        };
        Some(Self { kind, writes: vec![region.clone()], ..self.clone() })
    }
}

fn named(name: &str) -> MemoryChoice {
    MemoryChoice { name: Some(name.to_owned()), ..MemoryChoice::default() }
}

/// The protocol of a route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RouteKind {
    /// DFU with memory addresses.
    Dfu {
        /// Which memory, where the unit has several.
        memory: MemoryChoice,
    },
    /// Plain DFU: the unit decides where the blocks go, and erases by itself.
    PlainDfu {
        /// Which memory, where the unit has several.
        memory: MemoryChoice,
        /// Whether an upload gives back what was downloaded. DFU 1.1 leaves
        /// that to the unit; the maintainer vouches for it.
        uploads_image: bool,
    },
    /// The unit shows a small disk, and takes what is written to it.
    Volume(VolumeRoute),
    /// A vendor's own protocol, described in a dialect.
    Dialect(DialectRoute),
}

/// How a unit is updated in a dialect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DialectRoute {
    /// The protocol.
    pub dialect: Arc<Dialect>,
    /// What the unit must tell of itself.
    pub tells: Vec<ReportedProperty>,
}

/// Dialects by their names.
pub type Dialects = BTreeMap<String, Arc<Dialect>>;

/// How a unit is updated through its disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VolumeRoute {
    /// What it takes.
    pub takes: UpdateMedium,
    /// The labels that the disk may have; any if there are none.
    pub labels: Vec<String>,
    /// The file in which it shows the present application.
    pub application_file: Option<String>,
    /// How it goes back to its application with nothing written.
    pub leave: ExitMethod,
}

impl VolumeRoute {
    /// Whether its disk may have this label.
    pub fn knows_label(&self, label: Option<&str>) -> bool {
        let label = label.unwrap_or_default();
        self.labels.is_empty() || self.labels.iter().any(|known| known.eq_ignore_ascii_case(label))
    }
}

/// What a unit's disk takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UpdateMedium {
    /// UF2 blocks, in any sectors.
    Uf2 {
        /// The family of its chip.
        family: u32,
        /// What its board information must say.
        board_id: Option<String>,
    },
    /// A whole file.
    File(FileTarget),
}

/// A file that a unit takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileTarget {
    /// Its format.
    pub form: FileForm,
    /// Its name on the disk.
    pub name: String,
    /// In which order it reaches the disk.
    pub order: WriteOrder,
    /// Whether the file with the present application is deleted first.
    pub remove_first: bool,
    /// Whether the unit takes it only once its disk is ejected.
    pub eject_after: bool,
    /// The file in which the unit says what became of it.
    pub result: Option<ResultFile>,
}

/// The format of a file that a unit takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileForm {
    /// Intel HEX.
    Hex,
    /// Raw binary, from the first address of the image.
    Binary,
}

/// In which order a file reaches a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WriteOrder {
    /// Its data, then the table of clusters and its directory entry.
    #[default]
    DataFirst,
    /// An empty directory entry, its data, the table, the entry with its size.
    EntryFirst,
}

/// Where a unit says what became of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResultFile {
    /// Its name.
    pub file: String,
    /// Words that mean success.
    pub success: String,
    /// Words that mean failure.
    pub failure: String,
}

/// How a unit leaves its update mode with nothing written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ExitMethod {
    /// Its disk is ejected.
    #[default]
    Eject,
    /// It is unplugged and plugged in.
    PowerCycle,
    /// It needs not: its application is what shows the disk.
    Nothing,
    /// Only after the last block of an image: all blocks are sent again. Of UF2 only.
    LastBlock,
}

impl RouteKind {
    /// Which memory, where the unit has several; a disk has none.
    pub fn memory(&self) -> MemoryChoice {
        match self {
            Self::Dfu { memory } | Self::PlainDfu { memory, .. } => memory.clone(),
            Self::Volume(_) | Self::Dialect(_) => MemoryChoice::default(),
        }
    }

    /// The route by a disk, if it is one.
    pub fn volume(&self) -> Option<&VolumeRoute> {
        match self {
            Self::Volume(volume) => Some(volume),
            _ => None,
        }
    }

    /// The route in a dialect, if it is one.
    pub fn dialect(&self) -> Option<&DialectRoute> {
        match self {
            Self::Dialect(dialect) => Some(dialect),
            _ => None,
        }
    }

    /// Whether the unit tells in update mode which variant it is.
    fn is_self_identifying(&self) -> bool {
        self.board_id().is_some() || self.dialect().is_some_and(|route| !route.tells.is_empty())
    }

    /// Whether a unit says of itself that it is the one of this route: yes, no, or
    /// nothing.
    fn is_told(&self, unit: &UnitFacts) -> Option<bool> {
        if let Some(wanted) = self.board_id() {
            return unit.volume.as_ref()?.board()?.board_id.map(|found| found == wanted);
        }
        let wanted = &self.dialect()?.tells;
        let found = |told: &ReportedProperty| unit.told.iter().find(|found| found.name == told.name);
        let known: Vec<bool> = wanted.iter().filter_map(|told| Some(found(told)?.value == told.value)).collect();
        (!known.is_empty()).then(|| known.iter().all(|same| *same))
    }

    /// Whether two routes under one id are told apart by what the unit says.
    fn differs_as_told(&self, other: &Self) -> bool {
        if let (Some(a), Some(b)) = (self.board_id(), other.board_id()) {
            return a != b;
        }
        let Some((a, b)) = self.dialect().zip(other.dialect()) else { return false };
        a.tells.iter().any(|told| b.tells.iter().any(|theirs| theirs.name == told.name && theirs.value != told.value))
    }

    /// The UF2 family that it takes.
    pub fn family(&self) -> Option<u32> {
        match self.volume()?.takes {
            UpdateMedium::Uf2 { family, .. } => Some(family),
            UpdateMedium::File(_) => None,
        }
    }

    /// The Board-ID that a unit must tell.
    pub fn board_id(&self) -> Option<&str> {
        match &self.volume()?.takes {
            UpdateMedium::Uf2 { board_id, .. } => board_id.as_deref(),
            UpdateMedium::File(_) => None,
        }
    }
}

impl fmt::Display for RouteKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Dfu { .. } => f.write_str("dfu"),
            Self::PlainDfu { .. } => f.write_str("plain-dfu"),
            Self::Volume(_) => f.write_str("volume"),
            Self::Dialect(route) => write!(f, "dialect:{}", route.dialect.name),
        }
    }
}

/// One step on the way into update mode.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum EntryStep {
    /// A person does it.
    Manual(Box<ManualStep>),
    /// The host does it.
    Signal(Signal),
}

/// What a host can do to bring a unit into update mode.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "signal", rename_all = "kebab-case")]
pub enum Signal {
    /// DFU_DETACH to the application's run-time interface, and a bus reset
    /// where the unit waits for one.
    DfuDetach,
    /// The disk that the application shows is ejected.
    Eject,
    /// The `enter` operation of a dialect.
    Dialect {
        /// The dialect.
        #[serde(serialize_with = "by_name")]
        #[cfg_attr(feature = "schema", schemars(with = "String"))]
        dialect: Arc<Dialect>,
    },
}

fn by_name<S: serde::Serializer>(dialect: &Arc<Dialect>, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&dialect.name)
}

impl fmt::Display for Signal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::DfuDetach => f.write_str("ask the application to detach (DFU_DETACH)"),
            Self::Eject => f.write_str("eject the disk that the application shows"),
            Self::Dialect { dialect } => write!(f, "ask the application in its dialect {}", dialect.name),
        }
    }
}
