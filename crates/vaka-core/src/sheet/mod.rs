//! The product sheet: what a maintainer knows of their product, written down
//! once. [`Sheet::parse`] reads it; what it returns has passed every check, so
//! nothing that uses a sheet needs to check it again.
//!
//! The format is specified in `docs/formats/product-sheet.md`.

mod parse;
mod raw;
mod routes;
mod undescribed;

use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::address::{Address, Span};
use crate::carry::Carried;
use crate::dialect::Dialect;
use crate::image::vectors::VectorKind;
use crate::image::wrapper::Wrapper;
use crate::memory::SectorMap;
use crate::unit::{MemoryChoice, Told, UnitFacts, UsbId};
use crate::version::Version;
use crate::volume;

pub use undescribed::Undescribable;

/// A product, all its variants and the ways to update them.
#[derive(Clone, Debug)]
pub struct Sheet {
    /// Whether somebody wrote it. False for one that was made up of what a
    /// unit says of itself, see [`Sheet::of_unit`].
    pub is_described: bool,
    /// The product.
    pub product: Product,
    /// Its parts, where it has several that are updated each on its own.
    pub parts: Vec<Part>,
    /// How a unit shows up while its application runs.
    pub application: Application,
    /// At least one.
    pub variants: Vec<Variant>,
    /// The maker's own packaging of firmware files.
    pub wrappers: Vec<Wrapper>,
}

/// The product's names.
#[derive(Clone, Debug)]
pub struct Product {
    /// Short name, for options and files.
    pub id: String,
    /// Full name.
    pub name: String,
    /// Who makes it.
    pub maker: String,
}

/// One updatable piece of a product: a controller, an interface chip.
#[derive(Clone, Debug)]
pub struct Part {
    /// Short name, for `--part`.
    pub id: String,
    /// Full name.
    pub name: String,
    /// Where its version is told.
    pub version: VersionSource,
}

/// Where a unit tells the version of its firmware.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum VersionSource {
    /// Nowhere.
    Nowhere,
    /// In its release number (bcdDevice).
    ReleaseNumber,
    /// In a text file on its disk.
    Text {
        /// The file's name.
        file: String,
        /// What stands before the version in its line.
        after: String,
    },
}

impl VersionSource {
    /// The version that a unit tells; its application runs, or its disk tells it
    /// in any mode.
    pub fn of(&self, unit: &UnitFacts) -> Option<Version> {
        match self {
            Self::Nowhere => None,
            Self::ReleaseNumber => Some(unit.release.into()),
            Self::Text { file, after } => {
                let lines = unit.volume.as_ref()?.text(file)?;
                volume::value(lines, after).map(Version::parse)
            }
        }
    }

    /// The same for a unit in update mode, whose release number is its
    /// bootloader's.
    pub fn of_booted(&self, unit: &UnitFacts) -> Option<Version> {
        Some(self).filter(|source| **source != Self::ReleaseNumber)?.of(unit)
    }
}

/// The id of a variant within its product: what `--variant` takes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
pub struct VariantId(String);

impl VariantId {
    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for VariantId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// How the application shows up, and what confirms that it runs.
#[derive(Clone, Debug)]
pub struct Application {
    /// Its ids; of an undescribed unit they are not known.
    pub id: Option<UsbId>,
    /// Its product string, where it decides anything.
    pub product: Option<String>,
    /// Where the firmware's version is told; a part may tell its own elsewhere.
    pub version: VersionSource,
    /// How long it may take to show up after the restart.
    pub back_within: Duration,
}

/// One hardware form that needs its own image.
#[derive(Clone, Debug)]
pub struct Variant {
    /// Its id.
    pub id: VariantId,
    /// Its full name.
    pub name: String,
    /// The part of the product that it is a form of, where there are several.
    pub part: Option<String>,
    /// What is printed where; all of it must agree.
    pub look_at: Vec<LookAt>,
    /// Its flash.
    pub flash: SectorMap,
    /// Its RAM, where the sheet tells it.
    pub ram: Option<Span>,
    /// Named parts of the flash; they do not overlap.
    pub regions: Vec<Region>,
    /// What an image for it looks like.
    pub image: ImageRules,
    /// Ways to update it; at least one.
    pub routes: Vec<Route>,
}

/// A place on the hardware, and what can be read there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct LookAt {
    /// Where to look.
    pub place: String,
    /// What is printed there on this variant.
    pub reads: String,
}

/// A named range of flash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Region {
    /// Its name: `bootloader`, `application`, `settings`, …
    pub name: String,
    /// Its addresses.
    pub span: Span,
    /// What is known of its content, where it may be carried from unit to unit.
    pub carried: Option<Carried>,
}

/// The name of the region that holds the unit's own bootloader.
pub const BOOTLOADER: &str = "bootloader";

/// What an image for a variant looks like.
#[derive(Clone, Debug)]
pub struct ImageRules {
    /// The region that holds it.
    pub region: Region,
    /// Whether it must start where its region starts. Of an undescribed unit
    /// nobody knows where its applications start.
    pub starts_region: bool,
    /// Where a raw binary starts, if the maintainer vouches for it.
    pub binary_at: Option<Address>,
    /// The form of its start vectors, if it begins with some.
    pub vectors: Option<VectorKind>,
    /// Bytes it must have.
    pub marks: Vec<Mark>,
    /// Where its version stands.
    pub version_offset: Option<u64>,
    /// Where its stamp stands; without this it is searched for.
    pub stamp_offset: Option<u64>,
}

impl ImageRules {
    /// An image that starts with its region, of which nothing else is known.
    fn of(region: Region) -> Self {
        Self {
            region,
            starts_region: true,
            binary_at: None,
            vectors: None,
            marks: Vec::new(),
            version_offset: None,
            stamp_offset: None,
        }
    }
}

/// Bytes at a fixed place that tell what an image is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mark {
    /// From the start of the image.
    pub offset: u64,
    /// What stands there; not empty.
    pub bytes: Vec<u8>,
    /// What it means, for messages.
    pub meaning: String,
}

/// One way to update a variant.
#[derive(Clone, Debug)]
pub struct Route {
    /// The protocol.
    pub kind: RouteKind,
    /// The unit's ids in update mode.
    pub id: UsbId,
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
    pub recovery: Vec<HandStep>,
}

impl Route {
    /// Whether the unit comes into update mode with nobody's hands.
    pub fn enters_by_itself(&self) -> bool {
        !self.entry.is_empty() && self.entry.iter().all(|step| matches!(step, EntryStep::Signal(_)))
    }
}

impl Route {
    /// The same route for a carried region; a plain DFU unit must offer it as a
    /// memory of its own.
    fn for_carried(&self, region: &Region, memory: Option<&String>) -> Option<Self> {
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
    pub tells: Vec<Told>,
}

/// Dialects by their names.
pub type Dialects = BTreeMap<String, Arc<Dialect>>;

/// How a unit is updated through its disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VolumeRoute {
    /// What it takes.
    pub takes: Takes,
    /// The labels that the disk may have; any if there are none.
    pub labels: Vec<String>,
    /// The file in which it shows the present application.
    pub present: Option<String>,
    /// How it goes back to its application with nothing written.
    pub leave: Leave,
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
pub enum Takes {
    /// UF2 blocks, in any sectors.
    Uf2 {
        /// The family of its chip.
        family: u32,
        /// What its board information must say.
        board_id: Option<String>,
    },
    /// A whole file.
    File(DropFile),
}

/// A file that a unit takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DropFile {
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
#[serde(rename_all = "kebab-case")]
pub enum Leave {
    /// Its disk is ejected.
    #[default]
    Eject,
    /// It is unplugged and plugged in.
    PowerCycle,
    /// It needs not: its application is what shows the disk.
    Nothing,
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
    pub fn is_told_by_the_unit(&self) -> bool {
        self.board_id().is_some() || self.dialect().is_some_and(|route| !route.tells.is_empty())
    }

    /// Whether a unit says of itself that it is the one of this route: yes, no, or
    /// nothing.
    pub fn is_told(&self, unit: &UnitFacts) -> Option<bool> {
        if let Some(wanted) = self.board_id() {
            return unit.volume.as_ref()?.board()?.board_id.map(|found| found == wanted);
        }
        let wanted = &self.dialect()?.tells;
        let found = |told: &Told| unit.told.iter().find(|found| found.name == told.name);
        let known: Vec<bool> = wanted.iter().filter_map(|told| Some(found(told)?.value == told.value)).collect();
        (!known.is_empty()).then(|| known.iter().all(|same| *same))
    }

    /// Whether two routes under one id are told apart by what the unit says.
    pub fn differs_as_told(&self, other: &Self) -> bool {
        if let (Some(a), Some(b)) = (self.board_id(), other.board_id()) {
            return a != b;
        }
        let Some((a, b)) = self.dialect().zip(other.dialect()) else { return false };
        a.tells.iter().any(|told| b.tells.iter().any(|theirs| theirs.name == told.name && theirs.value != told.value))
    }

    /// The UF2 family that it takes.
    pub fn family(&self) -> Option<u32> {
        match self.volume()?.takes {
            Takes::Uf2 { family, .. } => Some(family),
            Takes::File(_) => None,
        }
    }

    /// The Board-ID that a unit must tell.
    pub fn board_id(&self) -> Option<&str> {
        match &self.volume()?.takes {
            Takes::Uf2 { board_id, .. } => board_id.as_deref(),
            Takes::File(_) => None,
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
#[serde(untagged)]
pub enum EntryStep {
    /// A person does it.
    Hand(HandStep),
    /// The host does it.
    Signal(Signal),
}

/// What a host can do to bring a unit into update mode.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "signal", rename_all = "kebab-case")]
pub enum Signal {
    /// DFU_DETACH to the application's run-time interface, and a bus reset
    /// where the unit waits for one.
    DfuDetach,
    /// The `enter` operation of a dialect.
    Dialect {
        /// The dialect.
        #[serde(serialize_with = "by_name")]
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
            Self::Dialect { dialect } => write!(f, "ask the application in its dialect {}", dialect.name),
        }
    }
}

/// What a person does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HandStep {
    /// What to do.
    #[serde(rename = "do")]
    pub action: String,
    /// Why.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// What is seen once it is done.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub see: Option<String>,
}

impl Sheet {
    /// Reads and checks a sheet. `file` is its name, for errors.
    ///
    /// # Errors
    /// [`SheetError`] with file, line and key: the sheet's author is to blame.
    pub fn parse(file: &str, text: &str) -> Result<Self, SheetError> {
        parse::sheet(file, text, &Dialects::new())
    }

    /// The same for a sheet whose routes may name dialects.
    ///
    /// # Errors
    /// As for [`parse`](Self::parse); a dialect that is not there is one.
    pub fn parse_with(file: &str, text: &str, dialects: &Dialects) -> Result<Self, SheetError> {
        parse::sheet(file, text, dialects)
    }

    /// The variant with this id.
    pub fn variant(&self, id: &str) -> Option<&Variant> {
        self.variants.iter().find(|variant| variant.id.as_str() == id)
    }

    /// The variant that a person names by its id or by what they read on the
    /// hardware, in any case and with any blanks.
    pub fn variant_by_label(&self, answer: &str) -> Option<&Variant> {
        let plain = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
        let answer = plain(answer);
        let names = |variant: &&Variant| {
            plain(variant.id.as_str()) == answer || variant.look_at.iter().any(|look| plain(&look.reads) == answer)
        };
        let mut found = self.variants.iter().filter(names);
        found.next().filter(|_| found.next().is_none())
    }

    /// The sheet for an image that fills one of its carried regions, in place of
    /// the application: each variant that has that region takes it, by its
    /// routes that write by address. `None` if there is no such variant.
    pub fn for_carried(&self, region: &str) -> Option<Self> {
        let mut sheet = self.clone();
        sheet.variants = self.variants.iter().filter_map(|variant| variant.for_carried(region)).collect();
        (!sheet.variants.is_empty()).then_some(sheet)
    }

    /// The sheet with nothing but one part of the product; `None` if it has no
    /// part of that name.
    pub fn only_part(&self, part: &str) -> Option<Self> {
        let mut sheet = self.clone();
        sheet.variants.retain(|variant| variant.part.as_deref() == Some(part));
        (!sheet.variants.is_empty()).then_some(sheet)
    }

    /// The part that a variant is a form of.
    pub fn part_of(&self, variant: &Variant) -> Option<&Part> {
        let id = variant.part.as_deref()?;
        self.parts.iter().find(|part| part.id == id)
    }

    /// Where the version of a variant's firmware is told.
    pub fn version_source(&self, variant: &Variant) -> &VersionSource {
        self.part_of(variant).map_or(&self.application.version, |part| &part.version)
    }

    /// Whether a unit of these ids has a disk that tells something: it takes
    /// firmware by it, or its version stands there.
    pub fn has_disk(&self, id: UsbId) -> bool {
        let is_text = |source: &VersionSource| matches!(source, VersionSource::Text { .. });
        let sources = self.parts.iter().map(|part| &part.version).chain([&self.application.version]);
        let tells = self.application.id == Some(id) && sources.into_iter().any(is_text);
        tells || self.variants.iter().filter_map(|variant| variant.route(id)).any(|route| route.kind.volume().is_some())
    }

    /// Whether a unit's disk is one that the sheet means, of several that it may
    /// show: the board tells itself there, its label is a route's, or the version
    /// stands on it.
    pub fn knows_disk(&self, unit: &UnitFacts) -> bool {
        let Some(disk) = &unit.volume else { return false };
        let is_route = |variant: &Variant| {
            let route = variant.route(unit.id).and_then(|route| route.kind.volume());
            route.is_some_and(|route| match &route.takes {
                Takes::Uf2 { .. } => disk.board().is_some(),
                Takes::File(_) => route.knows_label(disk.label.as_deref()),
            })
        };
        let tells = |variant: &Variant| self.version_source(variant).of_booted(unit).is_some();
        self.variants.iter().any(|variant| is_route(variant) || tells(variant))
    }

    /// The UF2 families that any of its routes takes.
    pub fn families(&self) -> Vec<u32> {
        self.variants.iter().flat_map(Variant::families).collect()
    }

    /// The variants that have a route under these ids.
    pub fn variants_with_route(&self, id: UsbId) -> impl Iterator<Item = &Variant> {
        self.variants.iter().filter(move |variant| variant.route(id).is_some())
    }
}

impl Variant {
    fn for_carried(&self, name: &str) -> Option<Self> {
        let region = self.regions.iter().find(|region| region.name == name && region.carried.is_some())?;
        let mut variant = self.clone();
        let memory = region.carried.as_ref().and_then(|carried| carried.memory.clone());
        variant.routes = self.routes.iter().filter_map(|route| route.for_carried(region, memory.as_ref())).collect();
        variant.image = ImageRules { binary_at: Some(region.span.start()), ..ImageRules::of(region.clone()) };
        (!variant.routes.is_empty()).then_some(variant)
    }

    /// The UF2 families that its routes take.
    pub fn families(&self) -> impl Iterator<Item = u32> + '_ {
        self.routes.iter().filter_map(|route| route.kind.family())
    }

    /// The route under these ids.
    pub fn route(&self, id: UsbId) -> Option<&Route> {
        self.routes.iter().find(|route| route.id == id)
    }

    /// The region that holds `address`.
    pub fn region_at(&self, address: Address) -> Option<&Region> {
        self.regions.iter().find(|region| region.span.contains(address))
    }
}

/// What is wrong with a sheet, and where.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("{file}, line {line}, key `{key}`: {message}")]
pub struct SheetError {
    /// The sheet's file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The key that is wrong, or the nearest one above it.
    pub key: String,
    /// What is wrong, and what would be right.
    pub message: String,
}
