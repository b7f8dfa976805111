//! Parses TOML into a checked [`Sheet`].
//!
//! Serde fills the structs of [`raw`](super::raw); `Checker` converts them to the model and
//! reports contradictions.

use std::ops::Range;

use super::raw::{
    RawAllowed, RawApplication, RawFact, RawImage, RawMark, RawMinimumVersion, RawPart, RawProduct, RawRegion,
    RawSheet, RawShows, RawString, RawTransferable, RawVariant, RawVersionSource, RawZone,
};
use super::raw_value::{Number, Spanned};
use super::route::node_id;
use super::{
    AmbiguousLabel, Application, BOOTLOADER, Companion, DescriptorPattern, Dialects, ExpectedDevice, Fact, HAND_OVER,
    Ids, ImageRules, LabelLocation, Mark, Part, Product, Region, ReportedFlash, Route, SerialPattern, Sheet,
    SheetError, SheetErrors, SignKind, Variant, VariantId, VersionSource,
};
use crate::memory::{Access, SectorMap, Zone};
use crate::placeholder;
use crate::settings_transfer::{Field, FieldKind, RegionChecksum, TransferableRegion};
use vaka_base::document::{self, DocumentError, LineIndex};
use vaka_base::size::{self, Bytes};
use vaka_base::version::ReleaseNumber;
use vaka_base::version::Version;
use vaka_base::{ParseError, duration, text};
use vaka_dialect::Dialect;
use vaka_image::address::{Address, Span};
use vaka_image::stamp;
use vaka_image::wrapper::Wrapper;

/// The version of the format that this reads.
const FORMAT: u32 = 1;

impl Sheet {
    /// Reads and checks a sheet. `file` is its name, for errors.
    ///
    /// # Errors
    /// All errors with file, line and key: the sheet's author is to blame.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::sheet::Sheet;
    ///
    /// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/sheets/gannet.toml"));
    /// let sheet = Sheet::parse("gannet.toml", text).unwrap();
    /// assert_eq!(sheet.product.name, "Gannet hydrophone interface");
    /// assert_eq!(sheet.variant("g1").unwrap().routes.len(), 1);
    ///
    /// // What is wrong is told with its line.
    /// assert!(Sheet::parse("bad.toml", "sheet = 1\nproduct = 3").is_err());
    /// ```
    pub fn parse(file: &str, text: &str) -> Result<Self, SheetErrors> {
        sheet(file, text, &Dialects::new())
    }

    /// Parses a sheet whose routes may refer to dialects.
    ///
    /// # Errors
    /// The same as [`parse`](Self::parse); a missing dialect is an error too.
    pub fn parse_with(file: &str, text: &str, dialects: &Dialects) -> Result<Self, SheetErrors> {
        sheet(file, text, dialects)
    }
}

/// Reads and checks a sheet.
fn sheet(file: &str, text: &str, dialects: &Dialects) -> Result<Sheet, SheetErrors> {
    let checker = Checker { file, text, lines: LineIndex::new(text), dialects };
    let raw: RawSheet = document::read(text).map_err(|findings| {
        let error = |finding: DocumentError| checker.error(&(finding.at..finding.at), &finding.key, finding.message);
        SheetErrors(findings.into_iter().map(error).collect())
    })?;
    let mut errors = Errors::default();
    checker.sheet(&raw, &mut errors).filter(|_| errors.0.is_empty()).ok_or(SheetErrors(errors.0))
}

/// Errors that were found so far.
#[derive(Default)]
struct Errors(Vec<SheetError>);

impl Errors {
    /// The value; an error is kept.
    fn keep<T>(&mut self, checked: Checked<T>) -> Option<T> {
        checked.map_err(|error| self.0.push(error)).ok()
    }
}

pub(super) struct Checker<'a> {
    file: &'a str,
    text: &'a str,
    lines: LineIndex<'a>,
    pub(super) dialects: &'a Dialects,
}

impl Checker<'_> {
    /// The sheet's file.
    pub(super) fn file(&self) -> &str {
        self.file
    }
}

pub(super) type Checked<T> = Result<T, SheetError>;

impl Checker<'_> {
    /// The sheet; `None` after an error. Checks of routes follow only sound variants, and checks of
    /// the whole only sound routes.
    fn sheet(&self, raw: &RawSheet, errors: &mut Errors) -> Option<Sheet> {
        if *raw.sheet.get_ref() != FORMAT {
            let message = format!("this Vaka reads sheets of format {FORMAT}");
            return errors.keep(Err(self.error(&raw.sheet.span(), "sheet", message)));
        }
        let product = errors.keep(self.product(&raw.product));
        let application = errors.keep(self.application(&raw.application));
        let confirm = application.as_ref().and_then(|application| application.confirm.as_deref());
        let parts = errors.keep(self.parts(&raw.part, confirm));
        let wrappers: Vec<Option<Wrapper>> =
            raw.wrapper.iter().map(|wrapper| errors.keep(self.wrapper(wrapper))).collect();
        let mut variants = self.variants(raw, parts.as_deref()?, errors)?;
        let mut stages = errors.keep(self.stages(&raw.stage, &raw.variant, &variants))?;
        let programmers = errors.keep(self.programmers(&raw.programmer))?;
        for route in &raw.route {
            errors.keep(self.add_route(route, &mut variants, &mut stages, &programmers));
        }
        if !errors.0.is_empty() {
            return None;
        }
        errors.keep(self.stages_have_routes(&raw.stage, &stages));
        for (variant, raw) in variants.iter().zip(&raw.variant) {
            errors.keep(self.reachable(variant, &variants, raw));
        }
        Some(Sheet {
            is_described: true,
            product: product?,
            parts: parts?,
            application: application?,
            variants,
            wrappers: wrappers.into_iter().flatten().collect(),
            programmers,
            stages,
            comes_back: None,
        })
    }

    /// All variants; `None` after an error in one of them.
    fn variants(&self, raw: &RawSheet, parts: &[Part], errors: &mut Errors) -> Option<Vec<Variant>> {
        if raw.variant.is_empty() {
            let message = "a product must have at least one [[variant]]".into();
            return errors.keep(Err(self.error(&(0..0), "variant", message)));
        }
        let mut variants: Vec<Variant> = Vec::new();
        for variant in &raw.variant {
            let Some(checked) = errors.keep(self.variant(variant, parts)) else { continue };
            if variants.iter().any(|other| other.id == checked.id) {
                let message = format!("another variant has the id '{}'", checked.id);
                errors.0.push(self.error(&variant.id.span(), "id", message));
            }
            variants.push(checked);
        }
        (variants.len() == raw.variant.len()).then_some(variants)
    }

    fn product(&self, raw: &RawProduct) -> Checked<Product> {
        let ambiguous_labels = raw.ambiguous_labels.iter().map(|label| {
            Ok(AmbiguousLabel {
                place: self.words("place", &label.place)?,
                reads: self.words("reads", &label.reads)?,
                why: self.words("why", &label.why)?,
            })
        });
        let companion =
            |raw: &super::raw::RawCompanion| Ok(Companion { id: raw.id.clone(), name: self.words("name", &raw.name)? });
        Ok(Product {
            id: self.id("id", &raw.id)?,
            name: self.words("name", &raw.name)?,
            maker: self.words("maker", &raw.maker)?,
            also_sold_as: raw
                .also_sold_as
                .iter()
                .map(|name| self.words("also_sold_as", name))
                .collect::<Checked<_>>()?,
            ambiguous_labels: ambiguous_labels.collect::<Checked<_>>()?,
            companions: raw.companions.iter().map(companion).collect::<Checked<_>>()?,
            stable_serial: raw.stable_serial.unwrap_or(false),
            port: raw.port,
            adapters: raw.adapters.clone(),
        })
    }

    /// Checks that every variant has a route and can be distinguished from those with the same
    /// ids.
    fn reachable(&self, variant: &Variant, all: &[Variant], raw: &RawVariant) -> Checked<()> {
        let place = &raw.id.span();
        match (variant.routes.is_empty(), &variant.instead) {
            (true, None) => {
                let message = format!(
                    "no [[route]] updates variant '{}'; if none can, give the instruction with `instead`",
                    variant.id
                );
                return Err(self.error(place, "id", message));
            }
            (false, Some(_)) => {
                let message = format!("variant '{}' has a route; remove `instead`", variant.id);
                let place = raw.instead.as_ref().map_or(place.clone(), Spanned::span);
                return Err(self.error(&place, "instead", message));
            }
            _ => {}
        }
        // Board information distinguishes a unit as well as a label.
        let shared = |a: &Route, b: &Route| a.id.overlap(&b.id) && !a.differs_in_report(b);
        let is_twin = |other: &&Variant| {
            let like = |route: &Route| other.routes.iter().any(|theirs| shared(route, theirs));
            // The user names the part, or the file shows it.
            other.id != variant.id && other.part == variant.part && variant.routes.iter().any(like)
        };
        let twin = all.iter().find(is_twin);
        match twin {
            Some(twin) if variant.look_at.is_empty() || variant.look_at == twin.look_at => {
                let message = format!(
                    "'{}' and '{}' share a boot id and cannot be distinguished; add look_at with the label of each",
                    variant.id, twin.id
                );
                Err(self.error(place, "id", message))
            }
            _ => Ok(()),
        }
    }

    fn application(&self, raw: &RawApplication) -> Checked<Application> {
        let back_within = match &raw.back_within {
            Some(time) => self.time("back_within", time)?,
            None => std::time::Duration::from_secs(10),
        };
        let signs = self.signs([&raw.product, &raw.maker, &raw.serial, &raw.release])?;
        let see: Vec<String> = raw.see.iter().map(|line| self.words("see", line)).collect::<Checked<_>>()?;
        let confirm = raw.confirm.as_ref().map(|name| self.confirm(name)).transpose()?;
        let id = self.application_id(raw, confirm.as_deref())?;
        if id.is_none() && see.is_empty() {
            let message = "`id` (its USB ids) is required, or `see` (its visible signs) if it has no USB device";
            return Err(self.error(&self.table("application"), "application", message.into()));
        }
        if let (None, Some(version)) = (&id, &raw.version) {
            let message = "an application without a USB device cannot report its version there".into();
            return Err(self.error(&version.span(), "version", message));
        }
        let version = self.version_source(raw.version.as_ref())?;
        self.told_version(&version, confirm.as_deref(), raw.version.as_ref())?;
        Ok(Application { id, signs, version, confirm, back_within, see })
    }

    /// The ids of an application; on a CAN bus it is the kind of node that confirms.
    fn application_id(&self, raw: &RawApplication, confirm: Option<&Dialect>) -> Checked<Option<Ids>> {
        let node = confirm.and_then(node_id);
        match (&raw.id, node) {
            (Some(id), node) if !id.get_ref().is_usb() && node.as_ref() != Some(id.get_ref()) => {
                let message = "a node of a CAN bus requires `confirm`: the dialect of that name, with [discover]";
                Err(self.error(&id.span(), "id", message.into()))
            }
            (Some(id), _) => Ok(Some(id.get_ref().clone())),
            (None, node) => Ok(node),
        }
    }

    pub(super) fn stage_shows(&self, raw: &RawApplication) -> Checked<Application> {
        self.application(raw)
    }

    /// The position of a table, for errors about missing keys.
    fn table(&self, name: &str) -> Range<usize> {
        let at = self.text.find(&format!("[{name}]")).unwrap_or(0);
        at..at
    }

    pub(super) fn time(&self, key: &str, time: &Spanned<String>) -> Checked<std::time::Duration> {
        duration::parse(time.get_ref()).map_err(|error| self.error(&time.span(), key, error.into()))
    }

    /// The required descriptors: iProduct, iManufacturer, iSerialNumber and bcdDevice.
    pub(super) fn signs(&self, raw: [&Option<Spanned<String>>; 4]) -> Checked<DescriptorPattern> {
        let [product, maker, serial, release] = raw;
        let serial = serial.as_ref().map(|form| {
            let words = self.words("serial", form)?;
            SerialPattern::new(&words).ok_or_else(|| self.error(&form.span(), "serial", "is empty".into()))
        });
        let release = release.as_ref().map(|text| {
            let (from, to) = text.get_ref().split_once("..").unwrap_or((text.get_ref(), text.get_ref()));
            let read = |half: &str| {
                half.parse::<ReleaseNumber>().map_err(|error| self.error(&text.span(), "release", error.into()))
            };
            match (read(from)?, read(to)?) {
                (from, to) if from <= to => Ok((from, to)),
                _ => Err(self.error(&text.span(), "release", "the end is before the start".into())),
            }
        });
        Ok(DescriptorPattern {
            product: self.optional_words("product", product.as_ref())?,
            maker: self.optional_words("maker", maker.as_ref())?,
            serial: serial.transpose()?,
            release: release.transpose()?,
        })
    }

    fn shows(&self, raw: &RawShows) -> Checked<ExpectedDevice> {
        let signs = self.signs([&raw.product, &raw.maker, &raw.serial, &raw.release])?;
        Ok(ExpectedDevice { id: raw.id.as_ref().map(|id| id.get_ref().clone()), signs })
    }

    fn facts(&self, raw: &RawVariant, image: &ImageRules) -> Checked<Vec<Fact>> {
        let mut facts = Vec::new();
        for (name, value) in &raw.facts {
            let key = Spanned::new(value.span(), name.clone());
            let name = self.id("facts", &key)?;
            let value = match value.get_ref() {
                RawFact::Number(number) if name == HAND_OVER => {
                    Address::new(u64::try_from(*number).unwrap_or(0)).to_string()
                }
                RawFact::Number(number) => number.to_string(),
                RawFact::Truth(truth) => truth.to_string(),
                RawFact::Text(text) => self.words(&name, &Spanned::new(value.span(), text.clone()))?,
            };
            facts.push(Fact { name, value });
            let fact = facts.last().filter(|fact| fact.name == HAND_OVER);
            if let Some(fact) = fact.filter(|fact| !fact.agrees(&image.region.span.start().to_string())) {
                let message = format!(
                    "the bootloader starts applications at {}, but the application's region '{}' starts at {}",
                    fact.value,
                    image.region.name,
                    image.region.span.start()
                );
                return Err(self.error(&key.span(), HAND_OVER, message));
            }
        }
        Ok(facts)
    }

    fn version_source(&self, raw: Option<&Spanned<RawVersionSource>>) -> Checked<VersionSource> {
        let Some(raw) = raw else { return Ok(VersionSource::Nowhere) };
        Ok(match raw.get_ref() {
            RawVersionSource::Word(_) => VersionSource::ReleaseNumber,
            RawVersionSource::Text(text) => VersionSource::Text {
                file: self.file_name("file", &Spanned::new(raw.span(), text.file.clone()))?,
                after: self.words("after", &Spanned::new(raw.span(), text.after.clone()))?,
            },
            RawVersionSource::String(sign) => VersionSource::DescriptorString {
                of: match sign.string {
                    RawString::Product => SignKind::Product,
                    RawString::Maker => SignKind::Maker,
                    RawString::Serial => SignKind::Serial,
                },
                after: self.words("after", &Spanned::new(raw.span(), sign.after.clone()))?,
            },
            RawVersionSource::Told(told) => VersionSource::Told { name: told.told.clone() },
            RawVersionSource::Line(line) => {
                let at = |text: &String| Spanned::new(raw.span(), text.clone());
                let within = line.within.as_ref().map(|time| self.time("within", &at(time))).transpose()?;
                VersionSource::Line {
                    send: line.send.as_ref().map(|text| self.words("send", &at(text))).transpose()?,
                    after: self.words("line", &at(&line.line))?,
                    within: within.unwrap_or(std::time::Duration::from_secs(5)),
                    interface: line.interface,
                }
            }
        })
    }

    fn parts(&self, raw: &[RawPart], confirm: Option<&Dialect>) -> Checked<Vec<Part>> {
        let mut parts: Vec<Part> = Vec::new();
        for part in raw {
            let id = self.id("id", &part.id)?;
            if parts.iter().any(|other| other.id == id) {
                return Err(self.error(&part.id.span(), "id", format!("another part has the id '{id}'")));
            }
            let version = self.version_source(part.version.as_ref())?;
            self.told_version(&version, confirm, part.version.as_ref())?;
            parts.push(Part { id, name: self.words("name", &part.name)?, version });
        }
        Ok(parts)
    }

    /// The part of a variant: one of the sheet's, and none only if it has none.
    fn part(&self, raw: &RawVariant, parts: &[Part]) -> Checked<Option<String>> {
        let known = || parts.iter().map(|part| part.id.as_str()).collect::<Vec<_>>().join(", ");
        match &raw.part {
            Some(part) if parts.iter().any(|known| known.id == *part.get_ref()) => Ok(Some(part.get_ref().clone())),
            Some(part) => {
                let message =
                    format!("no [[part]] has the id '{}'; existing parts: {}", text::sanitize(part.get_ref()), known());
                Err(self.error(&part.span(), "part", message))
            }
            None if parts.is_empty() => Ok(None),
            None => {
                let message = format!("`part` is required, one of: {}", known());
                Err(self.error(&raw.id.span(), "id", message))
            }
        }
    }

    fn variant(&self, raw: &RawVariant, parts: &[Part]) -> Checked<Variant> {
        let look_at = raw.look_at.iter().map(|look| {
            Ok(LabelLocation { place: self.words("place", &look.place)?, reads: self.words("reads", &look.reads)? })
        });
        let (flash, regions, image) = match &raw.any_file {
            Some(any) => self.any_file(any, raw)?,
            None => self.firmware(raw)?,
        };
        let ram = raw.ram.as_ref().map(|ram| self.span(&ram.get_ref().start, &ram.get_ref().size)).transpose()?;
        Ok(Variant {
            id: VariantId(self.id("id", &raw.id)?),
            name: self.words("name", &raw.name)?,
            part: self.part(raw, parts)?,
            look_at: look_at.collect::<Checked<_>>()?,
            facts: self.facts(raw, &image)?,
            image: image.clone(),
            further: self.further_images(raw, &image, &regions)?,
            table: raw.table.as_ref().map(|table| self.region_table(table, &regions)).transpose()?,
            shows: self.shows(&raw.application)?,
            reported_flash: self.reported_flash(raw, &flash)?,
            flash,
            ram,
            regions,
            routes: Vec::new(),
            instead: self.optional_words("instead", raw.instead.as_ref())?,
            slots: None,
        })
    }

    /// The sizes of flash that a unit may report.
    fn reported_flash(&self, raw: &RawVariant, flash: &SectorMap) -> Checked<Option<ReportedFlash>> {
        let Some(reported) = &raw.reported_flash else { return Ok(None) };
        let least = self.size("least", &reported.least)?;
        let all = flash.extent().map_or(0, Span::len);
        if least == 0 || least >= all {
            let message = format!("must be less than the {} of `flash`, the largest size", Bytes(all));
            return Err(self.error(&reported.least.span(), "least", message));
        }
        Ok(Some(ReportedFlash { least, told: self.optional_words("told", reported.told.as_ref())? }))
    }

    /// The flash, its regions and the rules for an image.
    fn firmware(&self, raw: &RawVariant) -> Checked<(SectorMap, Vec<Region>, ImageRules)> {
        let Some(raw_image) = &raw.image else {
            let message = "[variant.image] is required, or `any_file` for a file that its disk takes as it is";
            return Err(self.error(&raw.id.span(), "image", message.into()));
        };
        if raw.flash.is_empty() {
            return Err(self.error(&raw.id.span(), "flash", "is required".into()));
        }
        let flash = self.flash(&raw.flash)?;
        let regions = self.regions(&raw.region, &flash)?;
        if let Some(name) = &raw_image.name {
            return Err(self.error(&name.span(), "name", "is a key of [[variant.stage_image]]".into()));
        }
        let image = self.image(raw_image, &regions)?;
        let is_required = raw_image.required.as_ref().is_none_or(|required| *required.get_ref());
        Ok((flash, regions, ImageRules { is_required, ..image }))
    }

    fn flash(&self, raw: &[Spanned<RawZone>]) -> Checked<SectorMap> {
        let mut zones = Vec::new();
        for zone in raw {
            let RawZone { start, sectors, size } = zone.get_ref();
            let start = self.address("start", start)?;
            let size = u32::try_from(self.size("size", size)?).unwrap_or(0);
            let made = Zone::new(start, *sectors.get_ref(), size, Access::FULL).ok_or_else(|| {
                let message =
                    "flash must have 1 to 1 048 576 sectors of at least one byte, and end within 32 bits".into();
                self.error(&zone.span(), "flash", message)
            })?;
            zones.push(made);
        }
        let place = raw.first().map_or(0..0, Spanned::span);
        if zones.is_empty() {
            return Err(self.error(&place, "flash", "at least one range of flash is required".into()));
        }
        SectorMap::new(zones).map_err(|(a, b)| self.error(&place, "flash", format!("these ranges overlap: {a}; {b}")))
    }

    fn regions(&self, raw: &[RawRegion], flash: &SectorMap) -> Checked<Vec<Region>> {
        let mut regions: Vec<Region> = Vec::new();
        for region in raw {
            let name = self.id("name", &region.name)?;
            let span = self.span(&region.start, &region.size)?;
            if flash.sectors_in(span).is_none() {
                let message = format!("region '{name}', {span}, is outside the flash: {flash}");
                return Err(self.error(&region.start.span(), "start", message));
            }
            for other in &regions {
                if other.name == name {
                    let message = format!("another region has the name '{name}'");
                    return Err(self.error(&region.name.span(), "name", message));
                }
                if let Some(common) = other.span.common(span) {
                    let message = format!("regions '{}' and '{name}' overlap in {common}", other.name);
                    return Err(self.error(&region.start.span(), "start", message));
                }
            }
            let transferable = region
                .transferable
                .as_ref()
                .map(|raw| self.transferable(raw, (&name, span), flash.sectors_in(span), &region.name));
            let allowed =
                |what: RawAllowed| region.allows.as_ref().is_none_or(|allows| allows.get_ref().contains(&what));
            let (may_read, may_write) = (allowed(RawAllowed::Read), allowed(RawAllowed::Write));
            regions.push(Region { name, span, transferable: transferable.transpose()?, may_read, may_write });
        }
        Ok(regions)
    }

    fn transferable(
        &self,
        raw: &RawTransferable,
        (name, span): (&str, Span),
        sectors: Option<Vec<Span>>,
        place: &Spanned<String>,
    ) -> Checked<TransferableRegion> {
        let whole = sectors.unwrap_or_default();
        let aligned = whole.first().is_some_and(|sector| sector.start() == span.start())
            && whole.last().is_some_and(|sector| sector.end() == span.end());
        if name == BOOTLOADER || !aligned {
            let message = "only a region of whole sectors, and never the bootloader, can be transferred".into();
            return Err(self.error(&place.span(), "transferable", message));
        }
        let inside = |offset: &Spanned<Number>, len: u64| {
            let at = self.size("offset", offset)?;
            match at.checked_add(len) {
                Some(end) if end <= span.len() => {
                    usize::try_from(at).map_err(|_| self.error(&offset.span(), "offset", "is too large".into()))
                }
                _ => Err(self.error(
                    &offset.span(),
                    "offset",
                    format!("is outside region '{name}' of {}", Bytes(span.len())),
                )),
            }
        };
        let mut fields: Vec<Field> = Vec::new();
        for field in &raw.fields {
            let length = self.size("length", &field.length)?;
            let most = if field.kind == FieldKind::Number { 8 } else { 4096 };
            if length == 0 || length > most {
                return Err(self.error(&field.length.span(), "length", format!("is 1 to {most} bytes for this kind")));
            }
            let name = self.id("name", &field.name)?;
            if fields.iter().any(|other| other.name == name) {
                return Err(self.error(&field.name.span(), "name", format!("another field has the name '{name}'")));
            }
            let offset = inside(&field.offset, length)?;
            let meaning = self.words("meaning", &field.meaning)?;
            fields.push(Field {
                name,
                offset,
                length: usize::try_from(length).unwrap_or(0),
                kind: field.kind,
                meaning,
            });
        }
        let checksum = match &raw.checksum {
            None => None,
            Some(raw) => {
                let over = self.size("over", &raw.over)?;
                let offset = inside(&raw.offset, 4)?;
                if over == 0 || over > offset as u64 {
                    let message = "counts bytes from the start of the region, and ends before the checksum".into();
                    return Err(self.error(&raw.over.span(), "over", message));
                }
                Some(RegionChecksum { offset, kind: raw.kind, over: usize::try_from(over).unwrap_or(0) })
            }
        };
        Ok(TransferableRegion { fields, checksum, memory: self.optional_words("memory", raw.memory.as_ref())? })
    }

    pub(super) fn image(&self, raw: &RawImage, regions: &[Region]) -> Checked<ImageRules> {
        let region = self.region("region", &raw.region, regions)?;
        let inside = |key: &str, offset: &Spanned<Number>, len: u64| {
            let value = self.size(key, offset)?;
            match value.checked_add(len) {
                Some(end) if end <= region.span.len() => Ok(value),
                _ => {
                    let message = format!("is outside region '{}' of {}", region.name, Bytes(region.span.len()));
                    Err(self.error(&offset.span(), key, message))
                }
            }
        };
        let binary_at = match &raw.binary_at {
            Some(at) => {
                let address = self.address("binary_at", at)?;
                if !region.span.contains(address) {
                    let message = format!("{address} is outside region '{}', {}", region.name, region.span);
                    return Err(self.error(&at.span(), "binary_at", message));
                }
                Some(address)
            }
            None => None,
        };
        let mut marks = Vec::new();
        for mark in &raw.marks {
            let bytes = self.mark_bytes(mark)?;
            let offset = inside("offset", &mark.offset, bytes.len() as u64)?;
            marks.push(Mark { offset, bytes, meaning: self.words("meaning", &mark.meaning)? });
        }
        let header_marks = raw.header_marks.iter().map(|mark| {
            let (offset, bytes) = (self.size("offset", &mark.offset)?, self.mark_bytes(mark)?);
            Ok(Mark { offset, bytes, meaning: self.words("meaning", &mark.meaning)? })
        });
        let header_marks = header_marks.collect::<Checked<Vec<Mark>>>()?;
        self.opaque_keys(raw)?;
        let of_image = |offset: &Spanned<Number>, len: u64| inside("offset", offset, len);
        let version = raw.version.as_ref().map(|version| self.version_field(version, &of_image)).transpose()?;
        let stamp_len = stamp::HEAD as u64;
        let stamp_offset = raw.stamp.as_ref().map(|place| inside("offset", &place.offset, stamp_len)).transpose()?;
        let length = raw.length.as_ref().map(|length| self.length_field(length, &inside)).transpose()?;
        let checksum = raw.checksum.as_ref().map(|checksum| self.checksum_field(checksum, &inside)).transpose()?;
        Ok(ImageRules {
            region,
            is_required: raw.required.as_ref().is_some_and(|required| *required.get_ref()),
            any_file: None,
            starts_region: true,
            binary_at,
            vectors: raw.vectors,
            marks,
            is_opaque: raw.opaque,
            header_marks,
            version,
            stamp_offset,
            minimum_version: raw
                .minimum_version
                .as_ref()
                .map(|minimum_version| self.minimum_version(minimum_version))
                .transpose()?,
            length,
            checksum,
        })
    }

    fn minimum_version(&self, raw: &Spanned<RawMinimumVersion>) -> Checked<(Version, Option<String>)> {
        let (version, why) = match raw.get_ref() {
            RawMinimumVersion::Version(version) => (version, None),
            RawMinimumVersion::Explained { version, why } => (version, Some(why)),
        };
        let at = |text: &String| Spanned::new(raw.span(), text.clone());
        let why = why.map(|why| self.words("minimum_version", &at(why))).transpose()?;
        if !version.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(self.error(&raw.span(), "minimum_version", "is not a version; write it like \"1.4.0\"".into()));
        }
        Ok((Version::parse(&self.words("minimum_version", &at(version))?), why))
    }

    pub(super) fn mark_bytes(&self, raw: &RawMark) -> Checked<Vec<u8>> {
        match (&raw.text, &raw.bytes) {
            (Some(text), None) if !text.get_ref().is_empty() => Ok(text.get_ref().clone().into_bytes()),
            (None, Some(bytes)) => hex_bytes(bytes.get_ref()).ok_or_else(|| {
                let message = "write bytes as hex pairs, like \"54 52 4E 31\"".into();
                self.error(&bytes.span(), "bytes", message)
            }),
            _ => {
                let message = "a mark requires either `text` or `bytes`, not empty".into();
                Err(self.error(&raw.offset.span(), "marks", message))
            }
        }
    }

    pub(super) fn region(&self, key: &str, name: &Spanned<String>, regions: &[Region]) -> Checked<Region> {
        regions.iter().find(|region| region.name == *name.get_ref()).cloned().ok_or_else(|| {
            let known: Vec<&str> = regions.iter().map(|region| region.name.as_str()).collect();
            let message = format!(
                "no region has the name '{}'; existing regions: {}",
                text::sanitize(name.get_ref()),
                known.join(", ")
            );
            self.error(&name.span(), key, message)
        })
    }

    fn span(&self, start: &Spanned<Number>, size: &Spanned<Number>) -> Checked<Span> {
        let from = self.address("start", start)?;
        let len = self.size("size", size)?;
        let span = Span::new(from, len).filter(|span| span.end().get() <= 1 << 32 && !span.is_empty());
        span.ok_or_else(|| self.error(&size.span(), "size", "must not be 0, and must end within 32 bits".into()))
    }

    pub(super) fn address(&self, key: &str, number: &Spanned<Number>) -> Checked<Address> {
        let address = match number.get_ref() {
            Number::Plain(value) => {
                u64::try_from(*value).map(Address::new).map_err(|_| ParseError::new("an address must not be negative"))
            }
            Number::Text(text) => text.parse::<Address>(),
        };
        let address = address.map_err(|error| self.error(&number.span(), key, error.into()))?;
        if let Some(why) = placeholder::of_address(address.get()) {
            return Err(self.error(&number.span(), key, why));
        }
        match address.to_u32() {
            Some(_) => Ok(address),
            None => Err(self.error(&number.span(), key, format!("{address} is not a 32-bit address"))),
        }
    }

    pub(super) fn size(&self, key: &str, number: &Spanned<Number>) -> Checked<u64> {
        let size = match number.get_ref() {
            Number::Plain(value) => u64::try_from(*value).map_err(|_| ParseError::new("a size must not be negative")),
            Number::Text(text) => size::parse(text),
        };
        size.map_err(|error| self.error(&number.span(), key, error.into()))
    }

    /// Checks a short name for use in an option.
    pub(super) fn id(&self, key: &str, value: &Spanned<String>) -> Checked<String> {
        let id = value.get_ref();
        if let Some(why) = placeholder::of_text(id) {
            return Err(self.error(&value.span(), key, why));
        }
        let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if !id.is_empty() && id.len() <= 64 && id.chars().all(fits) {
            return Ok(id.clone());
        }
        Err(self.error(&value.span(), key, "only letters, digits, '-', '_' and '.' are allowed".into()))
    }

    pub(super) fn words(&self, key: &str, value: &Spanned<String>) -> Checked<String> {
        let words = value.get_ref();
        if text::sanitize(words) != *words || words.is_empty() {
            let message = "must not be empty or too long, begin or end with a blank, or have control characters".into();
            return Err(self.error(&value.span(), key, message));
        }
        match placeholder::of_text(words) {
            Some(why) => Err(self.error(&value.span(), key, why)),
            None => Ok(words.clone()),
        }
    }

    pub(super) fn optional_words(&self, key: &str, value: Option<&Spanned<String>>) -> Checked<Option<String>> {
        value.map(|value| self.words(key, value)).transpose()
    }

    /// A name of the short form, which every unit understands.
    pub(super) fn file_name(&self, key: &str, value: &Spanned<String>) -> Checked<String> {
        let name = value.get_ref();
        let fits = |part: &str, most: usize| {
            let plain = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || matches!(c, '_' | '-');
            (1..=most).contains(&part.len()) && part.chars().all(plain)
        };
        let (stem, ending) = name.split_once('.').map_or((name.as_str(), None), |(stem, ending)| (stem, Some(ending)));
        if fits(stem, 8) && ending.is_none_or(|ending| fits(ending, 3)) {
            return Ok(name.clone());
        }
        let message = "must be a short file name: up to 8 and 3 of A-Z, 0-9, '_' and '-', like FIRMWARE.HEX".into();
        Err(self.error(&value.span(), key, message))
    }

    pub(super) fn error(&self, place: &Range<usize>, key: &str, message: String) -> SheetError {
        SheetError {
            file: self.file.to_owned(),
            line: self.lines.position(place.start).0,
            key: key.to_owned(),
            message,
        }
    }
}

/// Hex pairs, at least one.
pub(super) fn hex_bytes(text: &str) -> Option<Vec<u8>> {
    text::parse_hex(text).filter(|bytes| !bytes.is_empty())
}
