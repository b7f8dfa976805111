//! The ways to update a variant.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::Deserialize;

use crate::sheet::entry_step::EntryStep;
use crate::sheet::ids::Ids;
use crate::sheet::manual_step::ManualStep;
use crate::sheet::programmer::Programmer;
use crate::sheet::region::Region;
use crate::sheet::signs::DescriptorPattern;
use crate::unit::{DeviceId, MemoryChoice, NodeKind, ReportedProperty, UnitFacts};
use vaka_dialect::{Dialect, OperationName};
use vaka_image::address::Address;

/// One way to update a variant.
#[derive(Clone, Debug)]
pub struct Route {
    /// The protocol.
    pub kind: RouteKind,
    /// The unit's ids in update mode.
    pub id: Ids,
    /// Required descriptors in update mode.
    pub signs: DescriptorPattern,
    /// Regions that it may write; each ends at a sector boundary.
    pub writes: Vec<Region>,
    /// Start address after update mode, on routes that support it; by default the start of the
    /// image.
    pub restart_at: Option<Address>,
    /// The entry into update mode: its steps in order.
    pub entry: Vec<EntryStep>,
    /// How long the unit listens after it was attached, if that is short.
    pub listens: Option<Duration>,
    /// Manual steps for a unit that does not respond.
    pub recovery: Vec<ManualStep>,
    /// Reference to the documentation of the entry.
    pub documented: Option<String>,
}

impl Route {
    /// Whether the unit reports its variant in update mode.
    pub fn is_self_identifying(&self) -> bool {
        self.kind.is_self_identifying() || !self.signs.is_empty()
    }

    /// Whether a unit's reports match this route; `None` if it reports nothing.
    pub fn matches_reported(&self, unit: &UnitFacts) -> Option<bool> {
        let signs = self.signs.of(unit);
        let told = signs.iter().filter_map(|sign| sign.is_so).chain(self.kind.matches_reported(unit));
        told.fold(None, |all, one| Some(all.unwrap_or(true) && one))
    }

    /// Whether reports distinguish two routes with the same id.
    pub fn differs_in_report(&self, other: &Self) -> bool {
        self.kind.differs_in_report(&other.kind) || self.signs.exclude(&other.signs)
    }

    /// The manual steps of the entry, in order.
    pub fn manual_steps(&self) -> Vec<&ManualStep> {
        let steps = self.entry.iter();
        let manual = steps.filter_map(|step| if let EntryStep::Manual(step) = step { Some(&**step) } else { None });
        manual.collect()
    }

    /// Whether the entry has no manual step.
    pub fn is_unattended(&self) -> bool {
        !self.entry.is_empty() && self.entry.iter().all(|step| matches!(step, EntryStep::Signal(_)))
    }

    /// The same route for a transferable region; a plain DFU unit must offer the region as a
    /// memory of its own.
    pub(super) fn for_transferable(&self, region: &Region, memory: Option<&String>) -> Option<Self> {
        let kind = match (&self.kind, memory) {
            (RouteKind::Dfu { .. }, None) => self.kind.clone(),
            (RouteKind::Dfu { .. }, Some(name)) => RouteKind::Dfu { memory: named(name) },
            // The upload of such a memory must return what was downloaded, or a transfer is
            // pointless.
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
        /// The memory, if the unit has several.
        memory: MemoryChoice,
    },
    /// Plain DFU: the unit decides the address of blocks, and erases by itself.
    PlainDfu {
        /// The memory, if the unit has several.
        memory: MemoryChoice,
        /// Whether an upload returns what was downloaded. DFU 1.1 leaves that to the unit; the
        /// maintainer assures it.
        uploads_image: bool,
    },
    /// The unit shows a small disk and installs what is written to it.
    Volume(VolumeRoute),
    /// A vendor's own protocol, described in a dialect.
    Dialect(DialectRoute),
}

/// An update in a dialect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DialectRoute {
    /// The protocol.
    pub dialect: Arc<Dialect>,
    /// Properties that the unit must report.
    pub tells: Vec<ReportedProperty>,
    /// The board that is spoken to in place of the unit, if there is one.
    pub programmer: Option<Arc<Programmer>>,
}

/// Dialects by their names.
pub type Dialects = BTreeMap<String, Arc<Dialect>>;

/// An update through a disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VolumeRoute {
    /// The supported medium.
    pub takes: UpdateMedium,
    /// Allowed labels of the disk; any label if empty.
    pub labels: Vec<String>,
    /// The file in which it shows the present application.
    pub application_file: Option<String>,
    /// How the unit returns to its application if nothing is written.
    pub leave: ExitMethod,
}

impl VolumeRoute {
    /// Whether the label is allowed.
    pub fn knows_label(&self, label: Option<&str>) -> bool {
        let label = label.unwrap_or_default();
        self.labels.is_empty() || self.labels.iter().any(|known| known.eq_ignore_ascii_case(label))
    }
}

/// The medium that a unit's disk supports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UpdateMedium {
    /// UF2 blocks, in any sectors.
    Uf2 {
        /// The family of its chip.
        family: u32,
        /// The required board id.
        board_id: Option<String>,
    },
    /// A whole file.
    File(FileTarget),
}

impl UpdateMedium {
    /// The file, if the disk takes one.
    pub fn file(&self) -> Option<&FileTarget> {
        match self {
            Self::Uf2 { .. } => None,
            Self::File(file) => Some(file),
        }
    }
}

/// A file that a unit installs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileTarget {
    /// File format.
    pub form: FileForm,
    /// File name on the disk.
    pub name: String,
    /// The order in which it is written to the disk.
    pub order: WriteOrder,
    /// Whether the file of the installed application is deleted first.
    pub remove_first: bool,
    /// Whether the unit installs the file only after its disk is ejected.
    pub eject_after: bool,
    /// The file with the unit's result.
    pub result: Option<ResultFile>,
}

/// The format of a file that a unit installs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileForm {
    /// Intel HEX.
    Hex,
    /// Raw binary, from the first address of the image.
    Binary,
    /// The file as it is given, whatever its content is.
    AsIs,
}

/// The order in which a file is written to a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WriteOrder {
    /// The data, then the cluster table and the directory entry.
    #[default]
    DataFirst,
    /// An empty directory entry, its data, the table, the entry with its size.
    EntryFirst,
}

/// The result that a unit writes to a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResultFile {
    /// File name.
    pub file: String,
    /// Text that means success.
    pub success: String,
    /// Text that means failure.
    pub failure: String,
}

/// How a unit leaves update mode if nothing is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ExitMethod {
    /// By ejecting its disk.
    #[default]
    Eject,
    /// By a power cycle.
    PowerCycle,
    /// No restart is needed: the application itself exposes the disk.
    Nothing,
    /// Only after the last block of an image: all blocks are sent again. UF2 only.
    LastBlock,
}

impl RouteKind {
    /// The memory, if the unit has several; none for a disk.
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

    /// The programmer, if the route leads through one.
    pub fn programmer(&self) -> Option<&Arc<Programmer>> {
        self.dialect()?.programmer.as_ref()
    }

    /// Whether the unit reports its variant in update mode. What a programmer reads names the chip, which
    /// other boards have too.
    fn is_self_identifying(&self) -> bool {
        let tells = |route: &DialectRoute| route.programmer.is_none() && !route.tells.is_empty();
        self.board_id().is_some() || self.dialect().is_some_and(tells)
    }

    /// Whether a unit's reports match this route; `None` if it reports nothing.
    fn matches_reported(&self, unit: &UnitFacts) -> Option<bool> {
        if let Some(wanted) = self.board_id() {
            return unit.volume.as_ref()?.board()?.board_id.map(|found| found == wanted);
        }
        let wanted = &self.dialect()?.tells;
        let found = |told: &ReportedProperty| unit.told.iter().find(|found| found.name == told.name);
        let known: Vec<bool> = wanted.iter().filter_map(|told| Some(found(told)?.value == told.value)).collect();
        (!known.is_empty()).then(|| known.iter().all(|same| *same))
    }

    /// Whether reports distinguish two routes with the same id.
    fn differs_in_report(&self, other: &Self) -> bool {
        if let (Some(a), Some(b)) = (self.board_id(), other.board_id()) {
            return a != b;
        }
        let Some((a, b)) = self.dialect().zip(other.dialect()) else { return false };
        a.tells.iter().any(|told| b.tells.iter().any(|theirs| theirs.name == told.name && theirs.value != told.value))
    }

    /// The UF2 family.
    pub fn family(&self) -> Option<u32> {
        match self.volume()?.takes {
            UpdateMedium::Uf2 { family, .. } => Some(family),
            UpdateMedium::File(_) => None,
        }
    }

    /// The Board-ID that the unit must report.
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
            Self::Dialect(DialectRoute { programmer: Some(programmer), .. }) => {
                write!(f, "programmer:{}", programmer.name)
            }
            Self::Dialect(route) => write!(f, "dialect:{}", route.dialect.name),
        }
    }
}

/// The kind of nodes that answers in a dialect, if it discovers nodes.
pub(super) fn node_id(dialect: &Dialect) -> Option<Ids> {
    dialect.operation(OperationName::Discover)?;
    Some(DeviceId::Node(NodeKind::new(&dialect.name)?).into())
}
