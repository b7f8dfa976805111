//! The model of a product sheet.

use crate::sheet::entry_step::EntryStep;
use crate::sheet::ids::Ids;
use crate::sheet::programmer::Programmer;
use crate::sheet::region::Region;
use crate::sheet::region_table::RegionTable;
use crate::sheet::route::{FileTarget, Route, UpdateMedium};
use crate::sheet::signs::{DescriptorPattern, SignKind};
use std::collections::BTreeMap;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::memory::SectorMap;
use crate::unit::{DeviceId, PropertyValue, UnitFacts};
use crate::volume;
use vaka_base::size;
use vaka_base::version::{ReleaseNumber, Version};
use vaka_dialect::{Carrier, Dialect, OperationName};
use vaka_image::address::{Address, Span};
use vaka_image::completeness::{ChecksumField, LengthField};
use vaka_image::vectors::VectorKind;
use vaka_image::version_field::VersionField;
use vaka_image::wrapper::Wrapper;

/// A product, all its variants and the ways to update them.
#[derive(Clone, Debug)]
pub struct Sheet {
    /// Whether a maintainer wrote the sheet. False for a sheet that is synthesized from a unit's
    /// own description, see [`Sheet::of_unit`].
    pub is_described: bool,
    /// The product.
    pub product: Product,
    /// The parts, if the product has several that are updated separately.
    pub parts: Vec<Part>,
    /// The unit while its application runs.
    pub application: Application,
    /// At least one.
    pub variants: Vec<Variant>,
    /// The maker's own packaging of firmware files.
    pub wrappers: Vec<Wrapper>,
    /// Boards that program its chips.
    pub programmers: Vec<Arc<Programmer>>,
    /// Stages apart from ordinary updates, such as a new bootloader.
    pub stages: Vec<Stage>,
    /// The expected device after the update, if it is not the application yet.
    pub comes_back: Option<Application>,
}

/// The product's names.
#[derive(Clone, Debug)]
pub struct Product {
    /// Short name, for options and files.
    pub id: String,
    /// Full name.
    pub name: String,
    /// The manufacturer.
    pub maker: String,
    /// Other names that it is sold under.
    pub also_sold_as: Vec<String>,
    /// Labels that do not distinguish variants.
    pub ambiguous_labels: Vec<AmbiguousLabel>,
    /// Other USB devices of the same unit.
    pub companions: Vec<Companion>,
    /// Whether a unit has the same serial number in application and update mode, so that the
    /// number identifies it across modes.
    pub stable_serial: bool,
    /// The way to its serial ports.
    pub port: SerialPortUse,
    /// USB ids of adapters on whose CAN bus its units are nodes.
    pub adapters: Vec<Ids>,
}

/// The way to the serial ports of a unit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SerialPortUse {
    /// Its own interfaces if they are those of CDC-ACM and the user may use them, otherwise the port that
    /// the system made.
    #[default]
    Any,
    /// The port that the system made.
    System,
}

/// A label that does not determine the variant.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AmbiguousLabel {
    /// The label text.
    pub reads: String,
    /// The location of the label.
    pub place: String,
    /// Why it does not determine the variant.
    pub why: String,
}

/// Another USB device of the same unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Companion {
    /// USB ids.
    pub id: Ids,
    /// Description.
    pub name: String,
}

/// One updatable part of a product: a controller, an interface chip.
#[derive(Clone, Debug)]
pub struct Part {
    /// Short name, for `--part`.
    pub id: String,
    /// Full name.
    pub name: String,
    /// Source of its version.
    pub version: VersionSource,
}

/// Where a unit reports the version of its firmware.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum VersionSource {
    /// Nowhere.
    Nowhere,
    /// The release number (bcdDevice).
    ReleaseNumber,
    /// A text file on its disk.
    Text {
        /// The file's name.
        file: String,
        /// Text before the version in the line.
        after: String,
    },
    /// A string descriptor.
    DescriptorString {
        /// iProduct, iManufacturer or iSerialNumber.
        of: SignKind,
        /// Text before the version.
        after: String,
    },
    /// A line that the application prints on its serial port.
    Line {
        /// Text to send first, if any.
        send: Option<String>,
        /// Text before the version in the line.
        after: String,
        /// Time limit.
        within: Duration,
        /// bInterfaceNumber of the port's data; the first port without it.
        interface: Option<u8>,
    },
    /// A value that the application reports when it confirms in a dialect.
    Told {
        /// Its name in the dialect.
        name: String,
    },
}

impl VersionSource {
    /// The version that a unit reports while its application runs, or that its disk shows in any
    /// mode.
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
            Self::Told { name } => match &unit.told.iter().find(|told| told.name == *name)?.value {
                PropertyValue::Number(number) => u16::try_from(*number).ok().map(|number| ReleaseNumber(number).into()),
                PropertyValue::Text(text) => Some(Version::parse(text)),
            },
            Self::Line { after, .. } => unit.lines.iter().find_map(|line| version_after(line, after)),
        }
    }

    /// The same for a unit in update mode, whose release number is that of its bootloader.
    pub fn of_booted(&self, unit: &UnitFacts) -> Option<Version> {
        Some(self).filter(|source| matches!(source, Self::Text { .. }))?.of(unit)
    }
}

/// The version after some text, up to the next blank.
fn version_after(text: &str, words: &str) -> Option<Version> {
    let (_, behind) = text.split_once(words)?;
    let version = behind.split_whitespace().next()?.trim_end_matches([',', ';', ')']);
    version.contains(|c: char| c.is_ascii_digit()).then(|| Version::parse(version))
}

/// The id of a variant within its product: the value of `--variant`.
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

/// The application: its descriptors, and what confirms that it runs.
#[derive(Clone, Debug)]
pub struct Application {
    /// USB ids; `None` if they are unknown or if it has no USB device.
    pub id: Option<Ids>,
    /// Required descriptors.
    pub signs: DescriptorPattern,
    /// Source of the firmware's version; a part may have another source.
    pub version: VersionSource,
    /// The dialect in which it confirms that it works, if it does.
    pub confirm: Option<Arc<Dialect>>,
    /// Time limit for its return after the restart.
    pub back_within: Duration,
    /// Visible signs that only the user can confirm: lights and their rhythm, text on the unit's
    /// screen.
    pub see: Vec<String>,
}

impl Application {
    /// Whether a device with these ids is the application.
    pub fn is(&self, id: DeviceId) -> bool {
        self.id.as_ref().is_some_and(|ids| ids.is(id))
    }
}

/// The application of one variant, where it differs from those of the others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ExpectedDevice {
    /// USB ids.
    pub id: Option<Ids>,
    /// Required descriptors.
    pub signs: DescriptorPattern,
}

/// One hardware form that needs its own image.
#[derive(Clone, Debug)]
pub struct Variant {
    /// Variant id.
    pub id: VariantId,
    /// Full name.
    pub name: String,
    /// The part that it is a form of, if the product has several.
    pub part: Option<String>,
    /// Labels and their locations; all must match.
    pub look_at: Vec<LabelLocation>,
    /// Flash.
    pub flash: SectorMap,
    /// The sizes of flash that a unit may report; `flash` is the largest.
    pub reported_flash: Option<ReportedFlash>,
    /// RAM, if the sheet states it.
    pub ram: Option<Span>,
    /// Named parts of the flash; they do not overlap.
    pub regions: Vec<Region>,
    /// The table in flash that gives regions their places, if there is one.
    pub table: Option<RegionTable>,
    /// Rules for an image.
    pub image: ImageRules,
    /// Rules for further images of an update, each in a region of its own.
    pub further: Vec<ImageRules>,
    /// Facts that must agree with an image: crystal, bus speed, hand-over address of the
    /// bootloader.
    pub facts: Vec<Fact>,
    /// The application, where it differs from those of other variants.
    pub shows: ExpectedDevice,
    /// Routes; empty only if `instead` gives an instruction.
    pub routes: Vec<Route>,
    /// The instruction if the variant cannot be updated over USB.
    pub instead: Option<String>,
    /// The regions of its image, if the unit selects one of several.
    pub slots: Option<Slots>,
}

/// A flash whose size the unit reports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReportedFlash {
    /// Smallest size in bytes.
    pub least: u64,
    /// The property with the size in bytes, on routes in a dialect.
    pub told: Option<String>,
}

/// Regions of which the unit selects the one that is written, such as the one that does not run.
#[derive(Clone, Debug)]
pub struct Slots {
    /// The ids of their route.
    pub id: Ids,
    /// The reported property that selects it: its index, from 0, or its name.
    pub by: String,
    /// The variant as it is for each region: its image and its only route belong there.
    pub variants: Vec<Variant>,
}

impl Slots {
    /// The regions.
    pub fn regions(&self) -> impl Iterator<Item = &Region> {
        self.variants.iter().map(|variant| &variant.image.region)
    }

    /// The value that a unit reports.
    pub fn reported<'u>(&self, unit: &'u UnitFacts) -> Option<&'u PropertyValue> {
        unit.told.iter().find(|told| told.name == self.by).map(|told| &told.value)
    }

    /// The variant for the region that a unit selects; `None` if it selects none of them.
    pub fn selected(&self, unit: &UnitFacts) -> Option<&Variant> {
        match self.reported(unit)? {
            PropertyValue::Number(index) => self.variants.get(usize::try_from(*index).ok()?),
            PropertyValue::Text(name) => self.variants.iter().find(|variant| variant.image.region.name == *name),
        }
    }
}

/// A named value that must agree between file, sheet and unit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Fact {
    /// Name.
    pub name: String,
    /// Value.
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

/// The fact that holds the start address of the application, as the bootloader uses it.
pub const HAND_OVER: &str = "hand-over";

impl Fact {
    /// Whether two values are equal: numbers by value, texts without regard to case and blanks.
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

/// A location on the hardware, and the text printed there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct LabelLocation {
    /// The location.
    pub place: String,
    /// The text on this variant.
    pub reads: String,
}

/// The ending of a file's name, without its dot.
fn ending(name: &str) -> Option<&str> {
    name.rsplit_once('.').map(|(_, ending)| ending)
}

/// The rules for an image of a variant.
#[derive(Clone, Debug)]
pub struct ImageRules {
    /// The region of the image.
    pub region: Region,
    /// Whether every update has it.
    pub is_required: bool,
    /// The accepted endings of names, if it is any file for the unit's disk and no firmware.
    pub any_file: Option<Vec<String>>,
    /// Whether the image must start at the start of its region. The start of an application is
    /// unknown for an undescribed unit.
    pub starts_region: bool,
    /// Start address of a raw binary, if the maintainer assures it.
    pub binary_at: Option<Address>,
    /// The form of its start vectors, if it begins with some.
    pub vectors: Option<VectorKind>,
    /// Bytes it must have.
    pub marks: Vec<Mark>,
    /// Whether only the bootloader understands it: it is not examined, and not compared with memory.
    pub is_opaque: bool,
    /// Bytes that the header of an opaque image must have.
    pub header_marks: Vec<Mark>,
    /// The version in the image.
    pub version: Option<VersionField>,
    /// Offset of the stamp; without it the stamp is searched for.
    pub stamp_offset: Option<u64>,
    /// Minimum version (downgrade floor) and the reason.
    pub minimum_version: Option<(Version, Option<String>)>,
    /// The field in which the image stores its length.
    pub length: Option<LengthField>,
    /// The checksum that the image stores.
    pub checksum: Option<ChecksumField>,
}

impl ImageRules {
    /// Rules that only require the image to start at the start of its region.
    pub(super) fn of(region: Region) -> Self {
        Self {
            region,
            is_required: true,
            any_file: None,
            starts_region: true,
            binary_at: None,
            vectors: None,
            marks: Vec::new(),
            is_opaque: false,
            header_marks: Vec::new(),
            version: None,
            stamp_offset: None,
            minimum_version: None,
            length: None,
            checksum: None,
        }
    }
}

/// Bytes at a fixed offset that identify the target of an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mark {
    /// Offset from the start of the image.
    pub offset: u64,
    /// The bytes; not empty.
    pub bytes: Vec<u8>,
    /// Description for messages.
    pub meaning: String,
}

/// A label text normalized for comparison: case and blanks are ignored.
fn plain(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase()
}

impl Sheet {
    /// The variant with this id.
    pub fn variant(&self, id: &str) -> Option<&Variant> {
        self.variants.iter().find(|variant| variant.id.as_str() == id)
    }

    /// The variant that the user names by its id or its label; case and blanks are ignored.
    pub fn variant_by_label(&self, answer: &str) -> Option<&Variant> {
        let answer = plain(answer);
        let names = |variant: &&Variant| {
            plain(variant.id.as_str()) == answer || variant.look_at.iter().any(|look| plain(&look.reads) == answer)
        };
        let mut found = self.variants.iter().filter(names);
        found.next().filter(|_| found.next().is_none())
    }

    /// The sheet for an image of a transferable region in place of the application: all variants
    /// with that region, with the routes that write by address. Returns `None` if there is no
    /// such variant.
    pub fn for_transferable(&self, region: &str) -> Option<Self> {
        let mut sheet = self.clone();
        sheet.variants = self.variants.iter().filter_map(|variant| variant.for_transferable(region)).collect();
        (!sheet.variants.is_empty()).then_some(sheet)
    }

    /// The sheet reduced to one part of the product; `None` if there is no such part.
    pub fn only_part(&self, part: &str) -> Option<Self> {
        let mut sheet = self.clone();
        sheet.variants.retain(|variant| variant.part.as_deref() == Some(part));
        (!sheet.variants.is_empty()).then_some(sheet)
    }

    /// The ambiguous label that the user read, if it is one.
    pub fn ambiguous_labels(&self, answer: &str) -> Option<&AmbiguousLabel> {
        let answer = plain(answer);
        self.product.ambiguous_labels.iter().find(|label| plain(&label.reads) == answer)
    }

    /// Whether a unit with these ids runs firmware outside of update mode.
    pub fn runs(&self, id: DeviceId) -> bool {
        let own = |variant: &Variant| variant.shows.id.as_ref().is_some_and(|ids| ids.is(id));
        let apps = [Some(&self.application), self.comes_back.as_ref()];
        apps.into_iter().flatten().any(|application| application.is(id)) || self.variants.iter().any(own)
    }

    /// The expected device after an update.
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

    /// The descriptors that a variant's application must have.
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

    /// The source of the version of a variant's firmware.
    pub fn version_source(&self, variant: &Variant) -> &VersionSource {
        match &self.comes_back {
            Some(after) => &after.version,
            None => self.part_of(variant).map_or(&self.application.version, |part| &part.version),
        }
    }

    /// The version that a unit reports of the firmware to be replaced: of its application, or of
    /// what a stage installed. The version of other firmware does not count.
    pub fn version_of(&self, variant: &Variant, unit: &UnitFacts) -> Option<Version> {
        let is_another = self.comes_back.as_ref().is_some_and(|after| !after.is(unit.id));
        self.version_source(variant).of(unit).filter(|_| !is_another)
    }

    /// Whether a unit with these ids has a disk with information: it takes firmware there, or
    /// shows its version there.
    pub fn has_disk(&self, id: DeviceId) -> bool {
        let is_text = |source: &VersionSource| matches!(source, VersionSource::Text { .. });
        let sources = self.parts.iter().map(|part| &part.version).chain([&self.application.version]);
        let tells = self.application.is(id) && sources.into_iter().any(is_text);
        tells || self.variants.iter().filter_map(|variant| variant.route(id)).any(|route| route.kind.volume().is_some())
    }

    /// Whether a disk belongs to the product, if a unit shows several: it has board information,
    /// its label is that of a route, or it contains the version.
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

    /// Whether its units are spoken to on a serial port: in a dialect, or for their version.
    pub fn has_serial_port(&self) -> bool {
        let is_serial = |dialect: &Dialect| matches!(dialect.carrier, Carrier::Serial(_));
        // A programmer has a port of its own.
        let own = |route: &&Route| route.kind.programmer().is_none();
        let is_line = |source: &VersionSource| matches!(source, VersionSource::Line { .. });
        let mut routes = self.variants.iter().flat_map(|variant| &variant.routes).filter(own);
        let by_entry = |route: &Route| route.entry.iter().filter_map(EntryStep::dialect).any(is_serial);
        let by_route = |route: &Route| route.kind.dialect().is_some_and(|kind| is_serial(&kind.dialect));
        let mut versions = self.parts.iter().map(|part| &part.version).chain([&self.application.version]);
        self.application.confirm.as_deref().is_some_and(is_serial)
            || versions.any(is_line)
            || routes.any(|route| by_route(route) || by_entry(route))
    }

    /// The dialects in which its units are nodes of a CAN bus, in update mode and as applications.
    pub fn node_dialects(&self) -> Vec<Arc<Dialect>> {
        let of_stages = self.stages.iter().flat_map(|stage| stage.routes.values().flatten());
        let routes = self.variants.iter().flat_map(|variant| &variant.routes).chain(of_stages);
        let of_routes = routes.filter_map(|route| route.kind.dialect()).map(|route| &route.dialect);
        let applications = [Some(&self.application), self.comes_back.as_ref()].into_iter().flatten();
        let of_applications = applications.filter_map(|application| application.confirm.as_ref());
        let mut all: Vec<Arc<Dialect>> = Vec::new();
        for dialect in of_routes.chain(of_applications) {
            let is_new = !all.iter().any(|known| known.name == dialect.name);
            if is_new && dialect.operation(OperationName::Discover).is_some() {
                all.push(dialect.clone());
            }
        }
        all
    }

    /// The UF2 families of all routes.
    pub fn families(&self) -> Vec<u32> {
        self.variants.iter().flat_map(Variant::families).collect()
    }

    /// The variants that have a route under these ids.
    pub fn variants_with_route(&self, id: DeviceId) -> impl Iterator<Item = &Variant> {
        self.variants.iter().filter(move |variant| variant.route(id).is_some())
    }

    /// The routes of its variants for a device in update mode with these ids.
    pub fn routes_of(&self, id: DeviceId) -> impl Iterator<Item = &Route> {
        self.variants.iter().filter_map(move |variant| variant.route(id))
    }
}

impl Variant {
    fn for_transferable(&self, name: &str) -> Option<Self> {
        let region = self.regions.iter().find(|region| region.name == name && region.transferable.is_some())?;
        let mut variant = self.clone();
        let memory = region.transferable.as_ref().and_then(|region| region.memory.clone());
        variant.routes =
            self.routes.iter().filter_map(|route| route.for_transferable(region, memory.as_ref())).collect();
        variant.image = ImageRules { binary_at: Some(region.span.start()), ..ImageRules::of(region.clone()) };
        (!variant.routes.is_empty()).then_some(variant)
    }

    /// The rules for each image of an update.
    pub fn images(&self) -> impl Iterator<Item = &ImageRules> {
        [&self.image].into_iter().chain(&self.further)
    }

    /// The files that its routes write to a disk.
    pub fn files_on_disk(&self) -> impl Iterator<Item = &FileTarget> {
        self.routes.iter().filter_map(|route| route.kind.volume()?.takes.file())
    }

    /// The endings of names that it takes, if it is any file for a disk: those of the sheet, or that of
    /// the file on the disk.
    pub fn file_endings(&self) -> Vec<&str> {
        match self.image.any_file.as_deref() {
            None => Vec::new(),
            Some([]) => self.files_on_disk().filter_map(|target| ending(&target.name)).collect(),
            Some(endings) => endings.iter().map(String::as_str).collect(),
        }
    }

    /// Whether it is any file for a disk, and the name of a file ends as it should.
    pub fn takes_name(&self, name: &str) -> bool {
        let endings = self.file_endings();
        let is_known = |found: &str| endings.iter().any(|known| known.eq_ignore_ascii_case(found));
        self.image.any_file.is_some() && ending(name).map_or(endings.is_empty(), is_known)
    }

    /// The UF2 families of its routes.
    pub fn families(&self) -> impl Iterator<Item = u32> + '_ {
        self.routes.iter().filter_map(|route| route.kind.family())
    }

    /// The route under these ids.
    pub fn route(&self, id: DeviceId) -> Option<&Route> {
        self.routes.iter().find(|route| route.id.is(id))
    }

    /// The region that contains `address`.
    pub fn region_at(&self, address: Address) -> Option<&Region> {
        self.regions.iter().find(|region| region.span.contains(address))
    }
}

/// An error in a sheet, with its position.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("{file}, line {line}, key `{key}`: {message}")]
pub struct SheetError {
    /// The sheet's file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The key that is wrong, or the nearest one above it.
    pub key: String,
    /// The error and the expected form.
    pub message: String,
}

/// All errors in a sheet; never empty.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct SheetErrors(pub Vec<SheetError>);

/// One stage, with its own routes and images.
#[derive(Clone, Debug)]
pub struct Stage {
    /// Short name, used in releases.
    pub id: String,
    /// Full name.
    pub name: String,
    /// Whether it may write the bootloader.
    pub replaces_bootloader: bool,
    /// The expected device after the stage.
    pub shows: Application,
    /// An application of this version or newer runs only on units that are past it.
    pub implied_by: Option<Version>,
    /// The ways of each variant.
    pub routes: BTreeMap<VariantId, Vec<Route>>,
    /// The rules for the images of each variant; at least one image, each in a region of its own.
    pub images: BTreeMap<VariantId, Vec<ImageRules>>,
}

impl Stage {
    /// Whether the device has already completed this stage: it is the expected device and reports
    /// a version not older than that of the stage, or its application runs only on such units.
    /// `application` is the source of the application's version.
    pub fn is_past(&self, unit: &UnitFacts, writes: Option<&Version>, application: &Application) -> bool {
        if self.shows.is(unit.id) {
            let told = self.shows.version.of(unit);
            return writes.is_none_or(|writes| told.is_some_and(|told| told >= *writes));
        }
        let runs = application.version.of(unit).filter(|_| application.is(unit.id));
        self.implied_by.as_ref().zip(runs).is_some_and(|(implied, runs)| runs >= *implied)
    }
}
