//! The model of a product sheet.

use crate::sheet::ids::Ids;
use crate::sheet::region::Region;
use crate::sheet::route::{Route, UpdateMedium};
use crate::sheet::signs::{DescriptorPattern, SignKind};
use std::collections::BTreeMap;
use std::fmt;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::memory::SectorMap;
use crate::unit::{UnitFacts, UsbId};
use crate::volume;
use vaka_base::size;
use vaka_base::version::Version;
use vaka_image::address::{Address, Span};
use vaka_image::completeness::{ChecksumField, LengthField};
use vaka_image::vectors::VectorKind;
use vaka_image::wrapper::Wrapper;

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
    /// What is done apart from ordinary updates, such as a new bootloader.
    pub stages: Vec<Stage>,
    /// What the unit shows after the update, where that is not its application yet.
    pub comes_back: Option<Application>,
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
    /// Other names that it is sold under.
    pub also_sold_as: Vec<String>,
    /// What is printed on it, and tells no variant from another.
    pub ambiguous_labels: Vec<AmbiguousLabel>,
    /// Other devices that the same unit shows beside the one that is updated.
    pub companions: Vec<Companion>,
    /// Whether a unit's serial number is the same in application and update mode, so
    /// that it tells units apart across the modes.
    pub stable_serial: bool,
}

/// Something that is printed on a product and decides nothing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AmbiguousLabel {
    /// What is printed.
    pub reads: String,
    /// Where.
    pub place: String,
    /// Why it decides nothing.
    pub why: String,
}

/// Another device of the same unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Companion {
    /// Its ids.
    pub id: Ids,
    /// What it is.
    pub name: String,
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
    /// In one of its strings.
    DescriptorString {
        /// Which: iProduct, iManufacturer or iSerialNumber.
        of: SignKind,
        /// What stands before the version in it.
        after: String,
    },
    /// In a line that its application says on its serial port.
    Line {
        /// What is sent to it first, if anything.
        send: Option<String>,
        /// What stands before the version in its line.
        after: String,
        /// How long it may take.
        within: Duration,
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
            Self::DescriptorString { of, after } => {
                let text = match of {
                    SignKind::Product => unit.product.as_deref(),
                    SignKind::Maker => unit.maker.as_deref(),
                    SignKind::Serial | SignKind::Release => unit.serial.as_deref(),
                }?;
                version_after(text, after)
            }
            Self::Line { after, .. } => unit.lines.iter().find_map(|line| version_after(line, after)),
        }
    }

    /// The same for a unit in update mode, whose release number is its
    /// bootloader's.
    pub fn of_booted(&self, unit: &UnitFacts) -> Option<Version> {
        Some(self).filter(|source| matches!(source, Self::Text { .. }))?.of(unit)
    }
}

/// The version behind some words, up to the next blank.
fn version_after(text: &str, words: &str) -> Option<Version> {
    let (_, behind) = text.split_once(words)?;
    let version = behind.split_whitespace().next()?.trim_end_matches([',', ';', ')']);
    version.contains(|c: char| c.is_ascii_digit()).then(|| Version::parse(version))
}

/// The id of a variant within its product: what `--variant` takes.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct VariantId(pub(super) String);

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
    /// Its ids; none if they are not known, or if it shows nothing on USB.
    pub id: Option<Ids>,
    /// What it must say of itself.
    pub signs: DescriptorPattern,
    /// Where the firmware's version is told; a part may tell its own elsewhere.
    pub version: VersionSource,
    /// How long it may take to show up after the restart.
    pub back_within: Duration,
    /// What only a person can see once it runs: lights and their rhythm, the text on
    /// the unit's own screen.
    pub see: Vec<String>,
}

impl Application {
    /// Whether a device with these ids is it.
    pub fn is(&self, id: UsbId) -> bool {
        self.id.as_ref().is_some_and(|ids| ids.is(id))
    }
}

/// How one variant's application shows up, where that differs from the others'.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ExpectedDevice {
    /// Its ids.
    pub id: Option<Ids>,
    /// What it must say of itself.
    pub signs: DescriptorPattern,
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
    pub look_at: Vec<LabelLocation>,
    /// Its flash.
    pub flash: SectorMap,
    /// Its RAM, where the sheet tells it.
    pub ram: Option<Span>,
    /// Named parts of the flash; they do not overlap.
    pub regions: Vec<Region>,
    /// What an image for it looks like.
    pub image: ImageRules,
    /// What further pieces of it look like, each in a region of its own. Only of stages.
    pub further: Vec<ImageRules>,
    /// What must be so in a file that is for it: its crystal, its bus speed, where its
    /// bootloader hands over.
    pub facts: Vec<Fact>,
    /// How its application shows up, where that tells it from others.
    pub shows: ExpectedDevice,
    /// Ways to update it; none only if `instead` says what is done.
    pub routes: Vec<Route>,
    /// What is done instead, where it cannot be updated over USB.
    pub instead: Option<String>,
}

/// A named value that must agree between file, sheet and unit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Fact {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// `8 MHz`, `32.768 kHz` or `48MHz`, in Hz.
fn frequency(text: &str) -> Option<u64> {
    let rest = text.trim().strip_suffix("Hz")?.trim_end();
    let factor = |c: char| match c {
        'k' => Some(1_000),
        'M' => Some(1_000_000),
        'G' => Some(1_000_000_000),
        _ => None,
    };
    let prefix = rest.chars().next_back().and_then(factor);
    let digits = if prefix.is_some() { rest[..rest.len() - 1].trim_end() } else { rest };
    let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
    let factor: u64 = prefix.unwrap_or(1);
    let scale = 10_u64.checked_pow(u32::try_from(part.len()).ok()?)?;
    let part: u64 = if part.is_empty() { 0 } else { part.parse().ok()? };
    whole.parse::<u64>().ok()?.checked_mul(factor)?.checked_add(part.checked_mul(factor)? / scale)
}

/// The fact that says where a bootloader starts the application: an address.
pub const HAND_OVER: &str = "hand-over";

impl Fact {
    /// Whether two values say the same: numbers by what they are, texts in any case and
    /// with any blanks.
    pub fn agrees(&self, value: &str) -> bool {
        let number = |text: &str| {
            let address = text.parse::<Address>().ok().map(Address::get);
            address.or_else(|| size::parse(text).ok()).or_else(|| frequency(text))
        };
        let plain = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
        match (number(&self.value), number(value)) {
            (Some(a), Some(b)) => a == b,
            _ => plain(&self.value) == plain(value),
        }
    }
}

/// A place on the hardware, and what can be read there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LabelLocation {
    /// Where to look.
    pub place: String,
    /// What is printed there on this variant.
    pub reads: String,
}

impl Region {
    /// A region that may be read and written.
    pub fn new(name: impl Into<String>, span: Span) -> Self {
        Self { name: name.into(), span, transferable: None, may_read: true, may_write: true }
    }
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
    /// The version below which nobody may go, and why.
    pub minimum_version: Option<(Version, Option<String>)>,
    /// Where the image holds its own length.
    pub length: Option<LengthField>,
    /// Where the image holds a checksum of itself, and how that is computed.
    pub checksum: Option<ChecksumField>,
}

impl ImageRules {
    /// An image that starts with its region, of which nothing else is known.
    pub(super) fn of(region: Region) -> Self {
        Self {
            region,
            starts_region: true,
            binary_at: None,
            vectors: None,
            marks: Vec::new(),
            version_offset: None,
            stamp_offset: None,
            minimum_version: None,
            length: None,
            checksum: None,
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

/// A printed text as people read it: in any case, with any blanks.
fn plain(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase()
}

impl Sheet {
    /// The variant with this id.
    pub fn variant(&self, id: &str) -> Option<&Variant> {
        self.variants.iter().find(|variant| variant.id.as_str() == id)
    }

    /// The variant that a person names by its id or by what they read on the
    /// hardware, in any case and with any blanks.
    pub fn variant_by_label(&self, answer: &str) -> Option<&Variant> {
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
    pub fn for_transferable(&self, region: &str) -> Option<Self> {
        let mut sheet = self.clone();
        sheet.variants = self.variants.iter().filter_map(|variant| variant.for_transferable(region)).collect();
        (!sheet.variants.is_empty()).then_some(sheet)
    }

    /// The sheet with nothing but one part of the product; `None` if it has no
    /// part of that name.
    pub fn only_part(&self, part: &str) -> Option<Self> {
        let mut sheet = self.clone();
        sheet.variants.retain(|variant| variant.part.as_deref() == Some(part));
        (!sheet.variants.is_empty()).then_some(sheet)
    }

    /// What a person read, where it stands on the product and tells no variant.
    pub fn ambiguous_labels(&self, answer: &str) -> Option<&AmbiguousLabel> {
        let answer = plain(answer);
        self.product.ambiguous_labels.iter().find(|label| plain(&label.reads) == answer)
    }

    /// Whether a unit with these ids runs what it shows outside of update mode.
    pub fn runs(&self, id: UsbId) -> bool {
        let own = |variant: &Variant| variant.shows.id.as_ref().is_some_and(|ids| ids.is(id));
        let apps = [Some(&self.application), self.comes_back.as_ref()];
        apps.into_iter().flatten().any(|application| application.is(id)) || self.variants.iter().any(own)
    }

    /// What the unit shows after an update.
    pub fn after(&self) -> &Application {
        self.comes_back.as_ref().unwrap_or(&self.application)
    }

    /// The ids of a variant's application.
    pub fn application_ids<'a>(&'a self, variant: &'a Variant) -> Option<&'a Ids> {
        match &self.comes_back {
            Some(after) => after.id.as_ref(),
            None => variant.shows.id.as_ref().or(self.application.id.as_ref()),
        }
    }

    /// What a variant's application must say of itself.
    pub fn application_signs(&self, variant: &Variant) -> DescriptorPattern {
        match &self.comes_back {
            Some(after) => after.signs.clone(),
            None => self.application.signs.with(&variant.shows.signs),
        }
    }

    /// The part that a variant is a form of.
    pub fn part_of(&self, variant: &Variant) -> Option<&Part> {
        let id = variant.part.as_deref()?;
        self.parts.iter().find(|part| part.id == id)
    }

    /// Where the version of a variant's firmware is told.
    pub fn version_source(&self, variant: &Variant) -> &VersionSource {
        match &self.comes_back {
            Some(after) => &after.version,
            None => self.part_of(variant).map_or(&self.application.version, |part| &part.version),
        }
    }

    /// The version that a unit tells of what would be replaced, as its application or as
    /// what a stage left there. Of a stage another firmware's version says nothing.
    pub fn version_of(&self, variant: &Variant, unit: &UnitFacts) -> Option<Version> {
        let is_another = self.comes_back.as_ref().is_some_and(|after| !after.is(unit.id));
        self.version_source(variant).of(unit).filter(|_| !is_another)
    }

    /// Whether a unit of these ids has a disk that tells something: it takes
    /// firmware by it, or its version stands there.
    pub fn has_disk(&self, id: UsbId) -> bool {
        let is_text = |source: &VersionSource| matches!(source, VersionSource::Text { .. });
        let sources = self.parts.iter().map(|part| &part.version).chain([&self.application.version]);
        let tells = self.application.is(id) && sources.into_iter().any(is_text);
        tells || self.variants.iter().filter_map(|variant| variant.route(id)).any(|route| route.kind.volume().is_some())
    }

    /// Whether a unit's disk is one that the sheet means, of several that it may
    /// show: the board tells itself there, its label is a route's, or the version
    /// stands on it.
    pub fn matches_disk(&self, unit: &UnitFacts) -> bool {
        let Some(disk) = &unit.volume else { return false };
        let is_route = |variant: &Variant| {
            let route = variant.route(unit.id).and_then(|route| route.kind.volume());
            route.is_some_and(|route| match &route.takes {
                UpdateMedium::Uf2 { .. } => disk.board().is_some(),
                UpdateMedium::File(_) => route.knows_label(disk.label.as_deref()),
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
    fn for_transferable(&self, name: &str) -> Option<Self> {
        let region = self.regions.iter().find(|region| region.name == name && region.transferable.is_some())?;
        let mut variant = self.clone();
        let memory = region.transferable.as_ref().and_then(|carried| carried.memory.clone());
        variant.routes =
            self.routes.iter().filter_map(|route| route.for_transferable(region, memory.as_ref())).collect();
        variant.image = ImageRules { binary_at: Some(region.span.start()), ..ImageRules::of(region.clone()) };
        (!variant.routes.is_empty()).then_some(variant)
    }

    /// The UF2 families that its routes take.
    pub fn families(&self) -> impl Iterator<Item = u32> + '_ {
        self.routes.iter().filter_map(|route| route.kind.family())
    }

    /// The route under these ids.
    pub fn route(&self, id: UsbId) -> Option<&Route> {
        self.routes.iter().find(|route| route.id.is(id))
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

/// One stage, with ways and images of its own.
#[derive(Clone, Debug)]
pub struct Stage {
    /// Its short name, for releases.
    pub id: String,
    /// Its full name.
    pub name: String,
    /// Whether it may write the bootloader.
    pub replaces_bootloader: bool,
    /// What the unit shows once it is done.
    pub shows: Application,
    /// An application of this version or newer runs only on units that are past it.
    pub implied_by: Option<Version>,
    /// The ways of each variant.
    pub routes: BTreeMap<VariantId, Vec<Route>>,
    /// What the images of each variant look like; at least one, each in a region of
    /// its own.
    pub images: BTreeMap<VariantId, Vec<ImageRules>>,
}

impl Stage {
    /// Whether a unit is past this stage: it shows what comes after, and what it tells
    /// is not older than what the stage would write; or its application runs only on
    /// such units. `application` is where that tells its version.
    pub fn is_past(&self, unit: &UnitFacts, writes: Option<&Version>, application: &Application) -> bool {
        if self.shows.is(unit.id) {
            let told = self.shows.version.of(unit);
            return writes.is_none_or(|writes| told.is_some_and(|told| told >= *writes));
        }
        let runs = application.version.of(unit).filter(|_| application.is(unit.id));
        self.implied_by.as_ref().zip(runs).is_some_and(|(implied, runs)| runs >= *implied)
    }
}
