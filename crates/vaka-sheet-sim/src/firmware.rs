//! Firmware in the flash of a unit, as the sheet's rules judge it.

use vaka_base::version::Version;
use vaka_core::sheet::{ImageRules, Variant};
use vaka_image::address::{Address, Span};
use vaka_image::completeness::Proof;
use vaka_image::stamp::{self, StampFields, StampSearch};
use vaka_image::vectors::{StartVectors, VectorKind};
use vaka_image::version_field::VersionPlace;
use vaka_image::{ERASED, Image};
use vaka_sim::flash::Flash;
use vaka_sim::unit::firmware::filler_bytes;

/// Bytes of the firmware that a unit has from its factory, if the rules need no more and the region has
/// room. Chosen by us.
const FACTORY_LEN: u64 = 4096;

/// The version of that firmware: lower than any that a maintainer releases.
const FACTORY_VERSION: [u8; 3] = [0, 1, 0];

/// Bytes after the last fixed field: a version after a marker, and a checksum at the end.
const MOST_TRAILER: u64 = 192;

/// Offset of the first instruction. Chosen by us: after the vector tables of common chips.
const FIRST_INSTRUCTION: u64 = 0x200;

/// The content of a region.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Content {
    /// Erased.
    Blank,
    /// Firmware for this variant, with its version if the sheet or a stamp states it.
    Sound(Option<Version>),
    /// Firmware for another variant.
    Foreign,
    /// Anything else.
    Damaged,
}

/// Judges the region of an image; `rules` are those of `variant`, `others` those of the other variants.
pub(crate) fn inspect<'r>(
    flash: &Flash,
    variant: &Variant,
    rules: &ImageRules,
    others: impl Iterator<Item = &'r ImageRules>,
) -> Content {
    let Some(image) = image(flash, rules.region.span) else { return Content::Blank };
    if rules.is_opaque || rules.any_file.is_some() {
        return Content::Sound(version(rules, &image));
    }
    let is_whole = is_complete(rules, &image);
    let has_marks = has_marks(rules, &image);
    if is_for_another(rules, variant, &image) {
        return Content::Foreign;
    }
    if is_whole && has_marks && starts(rules, variant, &image) {
        return Content::Sound(version(rules, &image));
    }
    let is_other =
        |other: &ImageRules| !other.marks.is_empty() && self::has_marks(other, &image) && is_complete(other, &image);
    match () {
        () if has_marks && !rules.marks.is_empty() => Content::Damaged,
        () if others.into_iter().any(is_other) => Content::Foreign,
        () if is_whole && is_proven(rules) => Content::Foreign,
        () => Content::Damaged,
    }
}

/// The bytes of a region up to the last one that is not erased.
fn image(flash: &Flash, region: Span) -> Option<Image> {
    let bytes = flash.read(region.start().to_u32()?, usize::try_from(region.len()).ok()?)?;
    let end = bytes.iter().rposition(|byte| *byte != ERASED)? + 1;
    Image::from_memory(&[(region.start(), bytes[..end].to_vec())])
}

/// The image with as many erased bytes more: its checksum may end with such a byte.
fn with_erased_bytes(image: &Image, by: usize) -> Option<Image> {
    let mut bytes = vec![ERASED; usize::try_from(image.span().len()).ok()? + by];
    image.copy_to(image.start(), &mut bytes);
    Image::from_memory(&[(image.start(), bytes)])
}

/// Whether its length and its checksum hold.
fn is_complete(rules: &ImageRules, image: &Image) -> bool {
    let holds = |image: &Image| {
        let length = rules.length.as_ref().is_none_or(|length| length.check(image) == Proof::Holds);
        let sum = rules.checksum.as_ref();
        length && sum.is_none_or(|sum| sum.check(image, rules.length.as_ref()) == Proof::Holds)
    };
    let most = rules.checksum.as_ref().map_or(0, |sum| usize::try_from(sum.width).unwrap_or(0));
    (0..=most).any(|by| with_erased_bytes(image, by).is_some_and(|image| holds(&image)))
}

/// Whether the rules distinguish firmware from other bytes.
fn is_proven(rules: &ImageRules) -> bool {
    rules.checksum.is_some() || rules.vectors.is_some()
}

fn has_marks(rules: &ImageRules, image: &Image) -> bool {
    let found = |offset: u64, len: usize| image.bytes(Span::new(image.start().checked_add(offset)?, len as u64)?);
    rules.marks.iter().all(|mark| found(mark.offset, mark.bytes.len()) == Some(&mark.bytes[..]))
}

/// Whether its start vectors are those of this chip.
fn starts(rules: &ImageRules, variant: &Variant, image: &Image) -> bool {
    let Some(kind) = rules.vectors else { return true };
    let Some(vectors) = StartVectors::read(kind, image) else { return false };
    let stack = variant.ram.is_none_or(|ram| ram.start() < vectors.stack && vectors.stack <= ram.end());
    stack && vectors.is_thumb() && rules.region.span.contains(vectors.first_instruction())
}

fn stamp(rules: &ImageRules, image: &Image) -> Option<StampFields> {
    match stamp::find(image, rules.stamp_offset) {
        StampSearch::One(stamp) => Some(stamp.text),
        _ => None,
    }
}

/// Whether its stamp names other variants.
fn is_for_another(rules: &ImageRules, variant: &Variant, image: &Image) -> bool {
    let named = stamp(rules, image).map(|stamp| stamp.variants).unwrap_or_default();
    !named.is_empty() && !named.iter().any(|name| name == variant.id.as_str())
}

fn version(rules: &ImageRules, image: &Image) -> Option<Version> {
    let stamped = || stamp(rules, image)?.version.map(|version| Version::parse(&version));
    rules.version.as_ref().and_then(|field| field.read(image)).or_else(stamped)
}

/// Firmware that satisfies the rules, as a unit has it from its factory; `None` if its region has no room.
pub(crate) fn factory(variant: &Variant, rules: &ImageRules, seed: &str) -> Option<Image> {
    let start = rules.region.span.start();
    let marks = rules.marks.iter().map(|mark| mark.offset + mark.bytes.len() as u64);
    let field = rules.version.as_ref().and_then(|field| field.span(start)?.end().offset_from(start));
    let length = rules.length.as_ref().map(|length| length.offset + length.form.width());
    let needed = marks.chain(field).chain(length).max().unwrap_or(0).saturating_add(MOST_TRAILER);
    let room = rules.region.span.len();
    let len = needed.max(FACTORY_LEN.min(room));
    if len > room {
        return None;
    }
    let bytes = filler_bytes(seed, usize::try_from(len).ok()?);
    let mut image = Image::from_memory(&[(start, bytes)])?;
    let mut put = |offset: u64, bytes: &[u8]| {
        if let Some(at) = start.checked_add(offset) {
            image = image.patched(at, bytes);
        }
    };
    if rules.vectors == Some(VectorKind::CortexM) {
        let word = |address: Address| address.to_u32().unwrap_or(0).to_le_bytes();
        let stack = variant.ram.map_or(Address::new(0x2000_0400), Span::end);
        let first = start.checked_add(FIRST_INSTRUCTION.min(room / 2) & !1 | 1).unwrap_or(start);
        put(0, &[word(stack), word(first)].concat());
    }
    rules.marks.iter().for_each(|mark| put(mark.offset, &mark.bytes));
    if let Some(version) = &rules.version {
        let bytes = version.encode(&FACTORY_VERSION);
        match &version.place {
            VersionPlace::Offset(offset) => put(*offset, &bytes),
            VersionPlace::After(marker) => put(needed - MOST_TRAILER, &[&marker[..], &bytes].concat()),
        }
    }
    let image = match &rules.length {
        Some(length) => length.store(&image)?,
        None => image,
    };
    match &rules.checksum {
        Some(sum) => sum.store(&image, rules.length.as_ref()),
        None => Some(image),
    }
}
