//! The product sheet: what a maintainer knows of their product, written down
//! once. [`Sheet::parse`] reads it; what it returns has passed every check, so
//! nothing that uses a sheet needs to check it again.
//!
//! The format is specified in `docs/formats/product-sheet.md`.

mod parse;
mod raw;
mod undescribed;

use std::fmt;
use std::time::Duration;

use serde::Serialize;
use thiserror::Error;

use crate::address::{Address, Span};
use crate::carry::Carried;
use crate::image::vectors::VectorKind;
use crate::image::wrapper::Wrapper;
use crate::memory::SectorMap;
use crate::unit::{MemoryChoice, UsbId};

pub use undescribed::Undescribable;

/// A product, all its variants and the ways to update them.
#[derive(Clone, Debug)]
pub struct Sheet {
    /// Whether somebody wrote it. False for one that was made up of what a
    /// unit says of itself, see [`Sheet::of_unit`].
    pub is_described: bool,
    /// The product.
    pub product: Product,
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
    /// Whether its release number (bcdDevice) is the firmware's version.
    pub tells_version: bool,
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
            (RouteKind::PlainDfu { .. }, None) => return None,
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
}

impl RouteKind {
    /// Which memory, where the unit has several.
    pub fn memory(&self) -> &MemoryChoice {
        match self {
            Self::Dfu { memory } | Self::PlainDfu { memory, .. } => memory,
        }
    }
}

impl fmt::Display for RouteKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Dfu { .. } => f.write_str("dfu"),
            Self::PlainDfu { .. } => f.write_str("plain-dfu"),
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "signal", rename_all = "kebab-case")]
pub enum Signal {
    /// DFU_DETACH to the application's run-time interface, and a bus reset
    /// where the unit waits for one.
    DfuDetach,
}

impl fmt::Display for Signal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::DfuDetach => f.write_str("ask the application to detach (DFU_DETACH)"),
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
        parse::sheet(file, text)
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
