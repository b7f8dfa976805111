//! From TOML to a checked [`Sheet`].
//!
//! Serde fills the structs of [`raw`](super::raw); `Checker` turns them into the
//! model and finds what contradicts itself.

use std::ops::Range;

use toml::Spanned;

use super::raw::{
    Number, RawApplication, RawCarried, RawImage, RawMark, RawPart, RawPlace, RawRegion, RawSheet, RawVariant,
    RawVersionSource, RawWrapper, RawZone,
};
use super::{
    Application, BOOTLOADER, Dialects, ImageRules, LookAt, Mark, Part, Product, Region, Route, Sheet, SheetError,
    Variant, VariantId, VersionSource,
};
use crate::address::{Address, Span};
use crate::carry::{Carried, Field, FieldKind, RegionChecksum};
use crate::image::stamp;
use crate::image::wrapper::Wrapper;
use crate::memory::{Access, SectorMap, Zone};
use crate::size::{self, Bytes};
use crate::{duration, text};

/// The version of the format that this reads.
const FORMAT: u32 = 1;

/// Reads and checks a sheet.
pub(super) fn sheet(file: &str, text: &str, dialects: &Dialects) -> Result<Sheet, SheetError> {
    let checker = Checker { file, text, dialects };
    let raw: RawSheet = toml::from_str(text).map_err(|error| checker.toml_error(&error))?;
    checker.sheet(raw)
}

pub(super) struct Checker<'a> {
    file: &'a str,
    text: &'a str,
    pub(super) dialects: &'a Dialects,
}

pub(super) type Checked<T> = Result<T, SheetError>;

impl Checker<'_> {
    fn sheet(&self, raw: RawSheet) -> Checked<Sheet> {
        if *raw.sheet.get_ref() != FORMAT {
            let message = format!("this Vaka reads sheets of format {FORMAT}");
            return Err(self.error(&raw.sheet.span(), "sheet", message));
        }
        let product = Product {
            id: self.id("id", &raw.product.id)?,
            name: self.words("name", &raw.product.name)?,
            maker: self.words("maker", &raw.product.maker)?,
        };
        let application = self.application(&raw.application)?;
        let parts = self.parts(&raw.part)?;
        if raw.variant.is_empty() {
            return Err(self.error(&(0..0), "variant", "a product has at least one [[variant]]".into()));
        }
        let mut variants: Vec<Variant> = Vec::new();
        for variant in &raw.variant {
            let checked = self.variant(variant, &parts)?;
            if variants.iter().any(|other| other.id == checked.id) {
                let message = format!("another variant has the id '{}'", checked.id);
                return Err(self.error(&variant.id.span(), "id", message));
            }
            variants.push(checked);
        }
        for route in &raw.route {
            self.add_route(route, &mut variants)?;
        }
        for (variant, raw) in variants.iter().zip(&raw.variant) {
            self.reachable(variant, &variants, &raw.id.span())?;
        }
        let wrappers = raw.wrapper.iter().map(|wrapper| self.wrapper(wrapper)).collect::<Checked<_>>()?;
        Ok(Sheet { is_described: true, product, parts, application, variants, wrappers })
    }

    /// Every variant has a route, and can be told from those it shares ids with.
    fn reachable(&self, variant: &Variant, all: &[Variant], place: &Range<usize>) -> Checked<()> {
        if variant.routes.is_empty() {
            let message = format!("no [[route]] updates variant '{}'", variant.id);
            return Err(self.error(place, "id", message));
        }
        // A board's own id tells it apart as well as what is printed on it.
        let told_apart = |a: &Route, b: &Route| a.kind.differs_as_told(&b.kind);
        let is_twin = |other: &&Variant| {
            let shared = |route: &Route| other.route(route.id).is_some_and(|theirs| !told_apart(route, theirs));
            other.id != variant.id && variant.routes.iter().any(shared)
        };
        let twin = all.iter().find(is_twin);
        match twin {
            Some(twin) if variant.look_at.is_empty() => {
                let message = format!(
                    "'{}' and '{}' share a boot id, and nothing tells them apart; add look_at with what is printed on each",
                    variant.id, twin.id
                );
                Err(self.error(place, "id", message))
            }
            _ => Ok(()),
        }
    }

    fn application(&self, raw: &RawApplication) -> Checked<Application> {
        let back_within = match &raw.back_within {
            Some(time) => {
                duration::parse(time.get_ref()).map_err(|message| self.error(&time.span(), "back_within", message))?
            }
            None => std::time::Duration::from_secs(10),
        };
        Ok(Application {
            id: Some(raw.id),
            product: self.optional_words("product", raw.product.as_ref())?,
            version: self.version_source(raw.version.as_ref())?,
            back_within,
        })
    }

    fn version_source(&self, raw: Option<&Spanned<RawVersionSource>>) -> Checked<VersionSource> {
        let Some(raw) = raw else { return Ok(VersionSource::Nowhere) };
        Ok(match raw.get_ref() {
            RawVersionSource::Word(_) => VersionSource::ReleaseNumber,
            RawVersionSource::Text(text) => VersionSource::Text {
                file: self.file_name("file", &Spanned::new(raw.span(), text.file.clone()))?,
                after: self.words("after", &Spanned::new(raw.span(), text.after.clone()))?,
            },
        })
    }

    fn parts(&self, raw: &[RawPart]) -> Checked<Vec<Part>> {
        let mut parts: Vec<Part> = Vec::new();
        for part in raw {
            let id = self.id("id", &part.id)?;
            if parts.iter().any(|other| other.id == id) {
                return Err(self.error(&part.id.span(), "id", format!("another part has the id '{id}'")));
            }
            let version = self.version_source(part.version.as_ref())?;
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
                    format!("no [[part]] has the id '{}'; there are: {}", text::tame(part.get_ref()), known());
                Err(self.error(&part.span(), "part", message))
            }
            None if parts.is_empty() => Ok(None),
            None => {
                let message = format!("say with `part` which part of the product this is: {}", known());
                Err(self.error(&raw.id.span(), "id", message))
            }
        }
    }

    fn variant(&self, raw: &RawVariant, parts: &[Part]) -> Checked<Variant> {
        let look_at = raw.look_at.iter().map(|look| {
            Ok(LookAt { place: self.words("place", &look.place)?, reads: self.words("reads", &look.reads)? })
        });
        let flash = self.flash(&raw.flash)?;
        let regions = self.regions(&raw.region, &flash)?;
        let ram = raw.ram.as_ref().map(|ram| self.span(&ram.get_ref().start, &ram.get_ref().size)).transpose()?;
        Ok(Variant {
            id: VariantId(self.id("id", &raw.id)?),
            name: self.words("name", &raw.name)?,
            part: self.part(raw, parts)?,
            look_at: look_at.collect::<Checked<_>>()?,
            image: self.image(&raw.image, &regions)?,
            flash,
            ram,
            regions,
            routes: Vec::new(),
        })
    }

    fn flash(&self, raw: &[Spanned<RawZone>]) -> Checked<SectorMap> {
        let mut zones = Vec::new();
        for zone in raw {
            let RawZone { start, sectors, size } = zone.get_ref();
            let start = self.address("start", start)?;
            let size = u32::try_from(self.size("size", size)?).unwrap_or(0);
            let made = Zone::new(start, *sectors.get_ref(), size, Access::FULL).ok_or_else(|| {
                let message = "needs at least one sector of at least one byte, at most 1 048 576 of them, and ends inside 32 bits".into();
                self.error(&zone.span(), "flash", message)
            })?;
            zones.push(made);
        }
        let place = raw.first().map_or(0..0, Spanned::span);
        if zones.is_empty() {
            return Err(self.error(&place, "flash", "a variant has at least one zone of flash".into()));
        }
        SectorMap::new(zones).map_err(|(a, b)| self.error(&place, "flash", format!("these zones overlap: {a}; {b}")))
    }

    fn regions(&self, raw: &[RawRegion], flash: &SectorMap) -> Checked<Vec<Region>> {
        let mut regions: Vec<Region> = Vec::new();
        for region in raw {
            let name = self.id("name", &region.name)?;
            let span = self.span(&region.start, &region.size)?;
            if flash.sectors_in(span).is_none() {
                let message = format!("region '{name}', {span}, lies outside the flash: {flash}");
                return Err(self.error(&region.start.span(), "start", message));
            }
            for other in &regions {
                if other.name == name {
                    let message = format!("another region has the name '{name}'");
                    return Err(self.error(&region.name.span(), "name", message));
                }
                if let Some(common) = other.span.common(span) {
                    let message = format!("regions '{}' and '{name}' overlap: both hold {common}", other.name);
                    return Err(self.error(&region.start.span(), "start", message));
                }
            }
            let carried =
                region.carried.as_ref().map(|carried| self.carried(carried, &name, span, flash, &region.name));
            regions.push(Region { name, span, carried: carried.transpose()? });
        }
        Ok(regions)
    }

    fn carried(
        &self,
        raw: &RawCarried,
        name: &str,
        span: Span,
        flash: &SectorMap,
        place: &Spanned<String>,
    ) -> Checked<Carried> {
        let whole = flash.sectors_in(span).unwrap_or_default();
        let aligned = whole.first().is_some_and(|sector| sector.start() == span.start())
            && whole.last().is_some_and(|sector| sector.end() == span.end());
        if name == BOOTLOADER || !aligned {
            let message = "only a region of whole sectors, and never the bootloader, can be carried".into();
            return Err(self.error(&place.span(), "carried", message));
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
                    format!("lies outside region '{name}' of {}", Bytes(span.len())),
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
        Ok(Carried { fields, checksum, memory: self.optional_words("memory", raw.memory.as_ref())? })
    }

    fn image(&self, raw: &RawImage, regions: &[Region]) -> Checked<ImageRules> {
        let region = self.region("region", &raw.region, regions)?;
        let inside = |key: &str, offset: &Spanned<Number>, len: u64| {
            let value = self.size(key, offset)?;
            match value.checked_add(len) {
                Some(end) if end <= region.span.len() => Ok(value),
                _ => {
                    let message = format!("lies outside region '{}' of {}", region.name, Bytes(region.span.len()));
                    Err(self.error(&offset.span(), key, message))
                }
            }
        };
        let binary_at = match &raw.binary_at {
            Some(at) => {
                let address = self.address("binary_at", at)?;
                if !region.span.contains(address) {
                    let message = format!("{address} lies outside region '{}', {}", region.name, region.span);
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
        let version_offset = raw.version.as_ref().map(|version| inside("offset", &version.offset, 2)).transpose()?;
        let stamp_len = stamp::HEAD as u64;
        let stamp_offset = raw.stamp.as_ref().map(|place| inside("offset", &place.offset, stamp_len)).transpose()?;
        Ok(ImageRules {
            region,
            starts_region: true,
            binary_at,
            vectors: raw.vectors,
            marks,
            version_offset,
            stamp_offset,
        })
    }

    fn wrapper(&self, raw: &RawWrapper) -> Checked<Wrapper> {
        let magic = hex_bytes(raw.magic.get_ref()).ok_or_else(|| {
            let message = "write bytes as hex pairs, like \"53 4B 57 31\"".into();
            self.error(&raw.magic.span(), "magic", message)
        })?;
        let header = self.size("header", &raw.header)?;
        let header =
            usize::try_from(header).ok().filter(|len| (magic.len()..=65536).contains(len)).ok_or_else(|| {
                let message = "is at least as long as the magic, and at most 64 KiB".into();
                self.error(&raw.header.span(), "header", message)
            })?;
        let inside = |offset: &Spanned<Number>, len: usize| {
            let at = usize::try_from(self.size("offset", offset)?).unwrap_or(usize::MAX);
            match at.checked_add(len) {
                Some(end) if at >= magic.len() && end <= header => Ok(at),
                _ => Err(self.error(&offset.span(), "offset", "lies outside the header, or in its magic".into())),
            }
        };
        let place = |raw: &Option<RawPlace>, len| raw.as_ref().map(|place| inside(&place.offset, len)).transpose();
        let checksum = raw.checksum.as_ref().map(|raw| Ok((inside(&raw.offset, 4)?, raw.kind)));
        Ok(Wrapper {
            name: self.words("name", &raw.name)?,
            length_at: place(&raw.length, 4)?,
            start_at: place(&raw.start, 4)?,
            version_at: place(&raw.version, 2)?,
            checksum: checksum.transpose()?,
            header,
            magic,
        })
    }

    fn mark_bytes(&self, raw: &RawMark) -> Checked<Vec<u8>> {
        match (&raw.text, &raw.bytes) {
            (Some(text), None) if !text.get_ref().is_empty() => Ok(text.get_ref().clone().into_bytes()),
            (None, Some(bytes)) => hex_bytes(bytes.get_ref()).ok_or_else(|| {
                let message = "write bytes as hex pairs, like \"54 52 4E 31\"".into();
                self.error(&bytes.span(), "bytes", message)
            }),
            _ => {
                let message = "a mark has either `text` or `bytes`, and it is not empty".into();
                Err(self.error(&raw.offset.span(), "marks", message))
            }
        }
    }

    pub(super) fn region(&self, key: &str, name: &Spanned<String>, regions: &[Region]) -> Checked<Region> {
        regions.iter().find(|region| region.name == *name.get_ref()).cloned().ok_or_else(|| {
            let known: Vec<&str> = regions.iter().map(|region| region.name.as_str()).collect();
            let message =
                format!("no region has the name '{}'; there are: {}", text::tame(name.get_ref()), known.join(", "));
            self.error(&name.span(), key, message)
        })
    }

    fn span(&self, start: &Spanned<Number>, size: &Spanned<Number>) -> Checked<Span> {
        let from = self.address("start", start)?;
        let len = self.size("size", size)?;
        let span = Span::new(from, len).filter(|span| span.end().get() <= 1 << 32 && !span.is_empty());
        span.ok_or_else(|| self.error(&size.span(), "size", "must not be 0, nor end past 32 bits".into()))
    }

    pub(super) fn address(&self, key: &str, number: &Spanned<Number>) -> Checked<Address> {
        let address = match number.get_ref() {
            Number::Plain(value) => {
                u64::try_from(*value).map(Address::new).map_err(|_| "an address is not negative".into())
            }
            Number::Text(text) => Address::parse(text),
        };
        let address = address.map_err(|message| self.error(&number.span(), key, message))?;
        match address.to_u32() {
            Some(_) => Ok(address),
            None => Err(self.error(&number.span(), key, format!("{address} is no 32-bit address"))),
        }
    }

    pub(super) fn size(&self, key: &str, number: &Spanned<Number>) -> Checked<u64> {
        let size = match number.get_ref() {
            Number::Plain(value) => u64::try_from(*value).map_err(|_| "a size is not negative".into()),
            Number::Text(text) => size::parse(text),
        };
        size.map_err(|message| self.error(&number.span(), key, message))
    }

    /// A short name that can stand in an option.
    fn id(&self, key: &str, value: &Spanned<String>) -> Checked<String> {
        let id = value.get_ref();
        let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if !id.is_empty() && id.len() <= 64 && id.chars().all(fits) {
            return Ok(id.clone());
        }
        Err(self.error(&value.span(), key, "use letters, digits, '-', '_' and '.'".into()))
    }

    pub(super) fn words(&self, key: &str, value: &Spanned<String>) -> Checked<String> {
        let words = value.get_ref();
        if text::tame(words) != *words || words.is_empty() {
            let message = "is empty, too long, begins or ends in blanks, or holds control characters".into();
            return Err(self.error(&value.span(), key, message));
        }
        Ok(words.clone())
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
        let message = "is a short file name: up to 8 and 3 of A-Z, 0-9, '_' and '-', like FIRMWARE.HEX".into();
        Err(self.error(&value.span(), key, message))
    }

    pub(super) fn error(&self, place: &Range<usize>, key: &str, message: String) -> SheetError {
        SheetError { file: self.file.to_owned(), line: self.line_at(place.start), key: key.to_owned(), message }
    }

    fn line_at(&self, offset: usize) -> usize {
        self.text.as_bytes().iter().take(offset).filter(|byte| **byte == b'\n').count() + 1
    }

    /// Serde names the fault and its place; the key is read off that line.
    fn toml_error(&self, error: &toml::de::Error) -> SheetError {
        let place = error.span().unwrap_or(0..0);
        let line_start = self.text[..place.start].rfind('\n').map_or(0, |at| at + 1);
        let line = self.text[line_start..].lines().next().unwrap_or_default();
        let named = error.message().strip_prefix("unknown field `").and_then(|rest| rest.split('`').next());
        let before = self.text[line_start..place.start].trim_end().strip_suffix('=').map(str::trim_end);
        let assigned = before.and_then(|before| before.rsplit([' ', '{', ',']).next());
        let key = named.or(assigned).unwrap_or_else(|| line.split('=').next().unwrap_or_default().trim());
        self.error(&place, &text::tame(key), text::tame(&error.message().replace('\n', "; ")))
    }
}

fn hex_bytes(text: &str) -> Option<Vec<u8>> {
    let byte = |pair: &str| (pair.len() == 2).then(|| u8::from_str_radix(pair, 16).ok()).flatten();
    let bytes: Vec<u8> = text.split_whitespace().map(byte).collect::<Option<_>>()?;
    (!bytes.is_empty()).then_some(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::wrapper::ChecksumKind;
    use crate::unit::UsbId;

    const TERN: &str = include_str!("../../../../demo/sheets/tern.toml");
    const PETREL: &str = include_str!("../../../../demo/sheets/petrel.toml");
    const SHAG: &str = include_str!("../../../../demo/sheets/shag.toml");

    fn parse(text: &str) -> Result<Sheet, SheetError> {
        Sheet::parse("tern.toml", text)
    }

    #[test]
    fn the_demo_sheet_says_what_the_demo_world_is() {
        let sheet = parse(TERN).unwrap();
        let r1 = sheet.variant("r1").unwrap();
        let r2 = sheet.variant("r2").unwrap();
        assert_eq!(r1.flash.to_string(), "48 sectors of 3 KiB at 0x0A00_0000");
        assert_eq!(r2.flash.to_string(), "40 sectors of 6 KiB at 0x0A00_0000");
        assert_eq!(r1.image.region.span.to_string(), "0x0A00_2400..0x0A02_3400");
        assert_eq!(r2.image.region.span.to_string(), "0x0A00_3000..0x0A03_A800");
        assert_eq!(sheet.variants_with_route(UsbId { vendor: 0x1209, product: 2 }).count(), 2);
        assert_eq!(sheet.variant_by_label(" ski-tern  R2 ").unwrap().id, r2.id);
        assert!(sheet.variant_by_label("SKI-TERN").is_none());
    }

    /// Each case changes the demo sheet in one place.
    #[test]
    fn what_is_wrong_is_found_with_line_and_key() {
        let cases: &[(&str, &str, &str, &str)] = &[
            ("sheet = 1", "sheet = 2", "sheet", "format 1"),
            ("maker =", "makr =", "makr", "unknown field"),
            ("id = \"r2\"", "id = \"r1\"", "id", "another variant has the id 'r1'"),
            ("id = \"r2\"", "id = \"r 2\"", "id", "letters, digits"),
            ("sectors = 48", "sectors = 0", "flash", "at least one sector"),
            ("sectors = 48", "sectors = -1", "sectors", "invalid"),
            ("sectors = 48", "sectors = 47", "start", "outside the flash"),
            ("size = \"132 KiB\"", "size = \"133 KiB\"", "start", "'application' and 'settings' overlap"),
            ("size = \"132 KiB\"", "size = \"131 KiB\"", "writes", "begins or ends inside a sector"),
            ("size = \"132 KiB\"", "size = \"132 KB\"", "size", "is no size"),
            ("size = \"132 KiB\"", "size = 0", "size", "must not be 0"),
            ("start = 0x0A00_2400", "start = 0x1_0A00_2400", "start", "no 32-bit address"),
            ("start = 0x0A00_2400", "start = -4", "start", "not negative"),
            ("start = 0x0A00_2400", "start = \"here\"", "start", "is no address"),
            ("writes = [\"application\"]", "writes = [\"bootloader\"]", "writes", "never writes the bootloader"),
            (
                "writes = [\"application\"]",
                "writes = [\"app\"]",
                "writes",
                "there are: bootloader, application, settings",
            ),
            ("writes = [\"application\"]", "writes = []", "writes", "at least one region"),
            ("restart_at = 0x0A00_0000", "restart_at = 0x0800_0000", "restart_at", "outside the flash"),
            ("kind = \"dfu\"", "kind = \"magic\"", "kind", "unknown variant `magic`"),
            ("kind = \"dfu\"", "kind = \"plain-dfu\"", "restart_at", "cannot say where a unit starts"),
            ("restart_at = 0x0A00_0000", "", "kind", "say with `restart_at`"),
            (
                "restart_at = 0x0A00_0000",
                "restart_at = 0x0A00_0000\nupload = \"image\"",
                "upload",
                "a key of plain DFU",
            ),
            ("do = \"Hold SET", "signal = \"dfu-detach\"\ndo = \"Hold SET", "entry", "either `do`"),
            ("do = \"Hold SET", "signal = \"knock\"\ndo = \"Hold SET", "signal", "unknown variant `knock`"),
            ("id = \"1209:0002\"", "id = \"1209-0002\"", "id", "is no USB id"),
            ("variants = [\"r1\", \"r2\"]", "variants = [\"r1\"]", "id", "no [[route]] updates variant 'r2'"),
            ("variants = [\"r1\", \"r2\"]", "variants = [\"r3\"]", "variants", "no variant has the id 'r3'"),
            ("offset = 0x40, text = \"TRN1\"", "offset = 0x40, text = \"\"", "marks", "either `text` or `bytes`"),
            ("offset = 0x40, text = \"TRN1\"", "offset = 0x40, bytes = \"5\"", "bytes", "hex pairs"),
            ("offset = 0x40, text = \"TRN1\"", "offset = \"1 MiB\", text = \"TRN1\"", "offset", "outside region"),
            ("back_within = \"10 s\"", "back_within = \"soon\"", "back_within", "is no time"),
            ("reads = \"SKI-TERN R1\"", "reads = \"SKI\\u001b[2J\"", "reads", "control characters"),
        ];
        for (from, to, key, words) in cases {
            assert_eq!(TERN.matches(from).count().min(1), 1, "the demo sheet no longer holds: {from}");
            let text = TERN.replacen(from, to, 1);
            let error = parse(&text).map(|_| ()).unwrap_err();
            assert_eq!(error.key, *key, "{to}: {error}");
            assert!(error.message.contains(words), "{to}: {error}");
            assert!(error.line > 0 && error.line <= text.lines().count(), "{error}");
        }
    }

    /// What the unit says of its board tells variants apart as well as a label.
    #[test]
    fn variants_with_board_ids_of_their_own_need_no_label() {
        let unlabelled: String =
            PETREL.lines().filter(|line| !line.starts_with("look_at")).map(|line| format!("{line}\n")).collect();
        assert!(parse(&unlabelled).is_ok());
        let twins = unlabelled.replace("Petrel-PB2-r1", "Petrel-PB1-r3");
        let error = parse(&twins).map(|_| ()).unwrap_err();
        assert!(error.message.contains("nothing tells them apart"), "{error}");
    }

    #[test]
    fn a_part_has_its_own_version_and_only_its_variants() {
        let sheet = parse(SHAG).unwrap();
        let after = |id: &str| match sheet.version_source(sheet.variant(id).unwrap()) {
            VersionSource::Text { after, .. } => after.clone(),
            other => panic!("{other:?}"),
        };
        assert_eq!((after("d1").as_str(), after("i1").as_str()), ("Display:", "Interface:"));
        let only = sheet.only_part("interface").unwrap();
        assert_eq!((only.variants.len(), only.variants[0].id.as_str()), (1, "i1"));
        assert!(sheet.only_part("wing").is_none());
    }

    #[test]
    fn the_line_is_the_one_that_is_wrong() {
        let text = TERN.replacen("maker =", "makr =", 1);
        let wanted = text.lines().position(|line| line.starts_with("makr")).unwrap() + 1;
        assert_eq!(parse(&text).map(|_| ()).unwrap_err().line, wanted);
        let text = TERN.replacen("size = \"132 KiB\"", "size = \"132 KB\"", 1);
        let wanted = text.lines().position(|line| line.contains("132 KB")).unwrap() + 1;
        assert_eq!(parse(&text).map(|_| ()).unwrap_err().line, wanted);
    }

    #[test]
    fn a_wrapper_is_checked_against_its_own_header() {
        let wrapper = "\n[[wrapper]]\nname = \"Package\"\nmagic = \"53 4B\"\nheader = 20\nlength = { offset = 4 }\n\
                       checksum = { offset = 16, kind = \"crc32\" }\n";
        let text = format!("{TERN}{wrapper}");
        let found = &parse(&text).unwrap().wrappers[0];
        assert_eq!((found.length_at, found.checksum), (Some(4), Some((16, ChecksumKind::Crc32))));
        for (from, to, key, words) in [
            ("magic = \"53 4B\"", "magic = \"\"", "magic", "hex pairs"),
            ("header = 20", "header = 1", "header", "at least as long as the magic"),
            ("header = 20", "header = \"65 KiB\"", "header", "at most 64 KiB"),
            ("offset = 4 }", "offset = 1 }", "offset", "or in its magic"),
            ("offset = 4 }", "offset = 17 }", "offset", "outside the header"),
            ("offset = 16,", "offset = 18,", "offset", "outside the header"),
            ("\"crc32\"", "\"crc16\"", "kind", "unknown variant"),
        ] {
            let error = parse(&text.replacen(from, to, 1)).map(|_| ()).unwrap_err();
            assert!(error.key == key && error.message.contains(words), "{to}: {error}");
        }
    }

    #[test]
    fn places_in_an_image_lie_inside_its_region() {
        for (from, to) in [
            ("version = { offset = 0x4C }", "version = { offset = \"132 KiB\" }"),
            ("version = { offset = 0x4C }", "stamp = { offset = 135117 }"),
            ("vectors = \"cortex-m\"", "binary_at = 0x0A00_2000"),
            ("vectors = \"cortex-m\"", "binary_at = 0x0A02_3400"),
        ] {
            let error = parse(&TERN.replacen(from, to, 1)).map(|_| ()).unwrap_err();
            assert!(error.message.contains("outside region"), "{to}: {error}");
        }
        let vouched = parse(&TERN.replacen("vectors = \"cortex-m\"", "binary_at = 0x0A00_2400", 1)).unwrap();
        assert_eq!(vouched.variants[0].image.binary_at, Some(Address::new(0x0A00_2400)));
    }

    #[test]
    fn variants_with_one_boot_id_need_a_label() {
        let lines: Vec<&str> = TERN.lines().filter(|line| !line.contains("place =")).collect();
        let error = parse(&lines.join("\n")).map(|_| ()).unwrap_err();
        assert!(error.message.contains("nothing tells them apart"), "{error}");
    }
}
