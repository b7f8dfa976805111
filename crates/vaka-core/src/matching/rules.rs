//! Rules about files. Each compares one property of the file with one variant.

use super::consent;
use std::borrow::Cow;

use super::evidence::{Evidence, Source, Subject, Weight};
use crate::sheet::{Ids, ImageRules, Route, Sheet, Variant};
use crate::unit::{UnitFacts, UsbId};
use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_base::version::ReleaseNumber;
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_image::facts::Suffix;
use vaka_image::stamp::{self, SealState, StampSearch};
use vaka_image::vectors::{StartVectors, VectorKind};

/// An observation about `variant` that has no weight yet.
pub(super) struct Observation<'a> {
    pub(super) about: Subject,
    pub(super) source: Source,
    pub(super) variant: &'a Variant,
    pub(super) says: String,
}

impl Observation<'_> {
    pub(super) fn agrees(self, means: impl Into<String>) -> Evidence {
        self.weighs(Weight::Agrees, means)
    }

    pub(super) fn conflicts(self, means: impl Into<String>) -> Evidence {
        self.weighs(Weight::Conflicts, means)
    }

    pub(super) fn weighs(self, weight: Weight, means: impl Into<String>) -> Evidence {
        let Self { about, source, variant, says } = self;
        Evidence { about, source, says, means: means.into(), weight, variant: Some(variant.id.clone()) }
    }
}

pub(super) fn file_observation(variant: &Variant, source: Source, says: impl Into<String>) -> Observation<'_> {
    Observation { about: Subject::File, source, variant, says: says.into() }
}

pub(super) fn unit_observation(variant: &Variant, source: Source, says: impl Into<String>) -> Observation<'_> {
    Observation { about: Subject::Unit, source, variant, says: says.into() }
}

/// All evidence of the file about a variant, by one of its routes if it has any.
pub(super) fn of_image(sheet: &Sheet, variant: &Variant, route: Option<&Route>, image: &Image) -> Vec<Evidence> {
    let mut evidence = Vec::new();
    for (rules, piece) in pieces(variant, image) {
        evidence.extend(of_piece(sheet, variant, rules, &piece));
    }
    let is_missing = |rules: &&ImageRules| rules.is_required && piece(variant, rules, image).is_none();
    let missing: Vec<&str> = variant.images().filter(is_missing).map(|rules| rules.region.name.as_str()).collect();
    let names = variant.images().map(|rules| rules.region.name.as_str());
    let lacks = match (&missing[..], evidence.is_empty()) {
        ([], false) => None,
        ([], true) => Some(names.collect()),
        _ => Some(missing),
    };
    evidence.extend(lacks.map(|names: Vec<&str>| {
        let seen = file_observation(variant, Source::Addresses, "nothing");
        seen.conflicts(format!("it has no data for region '{}'", names.join("', '")))
    }));
    evidence.extend(misplaced_file(variant, image));
    evidence.extend(machine(variant, image));
    if let Some(route) = route.filter(|_| variant.image.any_file.is_none()) {
        evidence.insert(1.min(evidence.len()), addresses(variant, route, image));
        evidence.extend(route.kind.family().map(|wanted| family(variant, wanted, image)));
    }
    evidence
}

/// The part of an image in one region, if the image has several parts; otherwise the whole image.
pub(super) fn piece<'i>(variant: &Variant, rules: &ImageRules, image: &'i Image) -> Option<Cow<'i, Image>> {
    match variant.further.is_empty() {
        true => Some(Cow::Borrowed(image)),
        false => image.cut(rules.region.span).ok().map(Cow::Owned),
    }
}

/// A file for the unit's disk: the ending of its name is right, and it is not too large. Any other
/// file that is not firmware fits nothing.
fn any_file(variant: &Variant, rules: &ImageRules, image: &Image) -> Vec<Evidence> {
    if rules.any_file.is_none() {
        let seen = file_observation(variant, Source::FileName, "no firmware");
        return vec![seen.conflicts(format!("{} takes firmware", variant.id))];
    }
    let Some(file) = &image.facts().any_file else {
        let seen = file_observation(variant, Source::FileName, image.format().to_string());
        return vec![seen.conflicts(format!("{} is a file on the unit's disk, taken as it is", variant.id))];
    };
    let becomes = variant.files_on_disk().next().map(|target| target.name.as_str()).unwrap_or_default();
    let seen = file_observation(variant, Source::FileName, file.name.clone());
    let mut evidence = vec![match variant.takes_name(&file.name) {
        true => seen.agrees(format!("it becomes {becomes} on the unit's disk")),
        false => seen.weighs(
            Weight::unless_allowed(consent::OTHER_ENDING),
            format!("{becomes} is made from a file that ends in {}", variant.file_endings().join(" or ")),
        ),
    }];
    let most = rules.region.span.len();
    if image.len() > most {
        let seen = file_observation(variant, Source::Addresses, Bytes(image.len()).to_string());
        evidence.push(seen.conflicts(format!("{} takes at most {}", variant.id, Bytes(most))));
    }
    evidence.extend(marks(variant, rules, image));
    evidence
}

/// Each of several files begins where an image does: data beside an image is checked by no rule.
fn misplaced_file(variant: &Variant, image: &Image) -> Option<Evidence> {
    let is_start = |file: &&Span| variant.images().any(|rules| rules.region.span.start() == file.start());
    let stray = image.facts().joined.iter().find(|file| !is_start(file) && !variant.further.is_empty())?;
    let seen = file_observation(variant, Source::StartAddress, stray.to_string());
    Some(seen.conflicts("one of the files begins there, which is the start of no image"))
}

/// The images of an update that the file has, with their rules.
pub(crate) fn pieces<'v, 'i>(
    variant: &'v Variant,
    image: &'i Image,
) -> impl Iterator<Item = (&'v ImageRules, Cow<'i, Image>)> {
    variant.images().filter_map(move |rules| Some((rules, piece(variant, rules, image)?)))
}

fn of_piece(sheet: &Sheet, variant: &Variant, rules: &ImageRules, image: &Image) -> Vec<Evidence> {
    if rules.any_file.is_some() || image.facts().any_file.as_ref().is_some_and(|file| !file.is_binary) {
        return any_file(variant, rules, image);
    }
    let mut evidence = vec![start_address(variant, rules, image)];
    evidence.extend(start_vectors(variant, rules, image));
    evidence.extend(marks(variant, rules, image));
    evidence.extend(opaque(variant, rules, image));
    evidence.extend(stamp(sheet, variant, rules, image));
    evidence
}

/// An image that starts with the start vectors of a Cortex-M must be built for Arm, if the file
/// names an architecture. Source: the ABI's registry of e_machine.
fn machine(variant: &Variant, image: &Image) -> Option<Evidence> {
    const ARM: u16 = 40;
    let elf = image.facts().elf?;
    let VectorKind::CortexM = variant.image.vectors?;
    let seen = file_observation(variant, Source::Machine, elf.machine_name());
    Some(match elf.machine {
        ARM => seen.agrees(format!("{} has start vectors of a Cortex-M, an Arm core", variant.id)),
        _ => seen.conflicts(format!("{} has start vectors of a Cortex-M, an Arm core", variant.id)),
    })
}

/// Compares the file's UF2 family with the family of the route. It proves the kind of chip, never
/// the board. Source: the public UF2 format description.
fn family(variant: &Variant, wanted: u32, image: &Image) -> Evidence {
    match image.facts().family {
        Some(found) => {
            let seen = file_observation(variant, Source::Family, format!("0x{found:08X}"));
            if found == wanted {
                seen.agrees(format!("{}'s", variant.id))
            } else {
                seen.conflicts(format!("{} accepts 0x{wanted:08X}; the unit would ignore every block", variant.id))
            }
        }
        None => {
            let seen = file_observation(variant, Source::Family, format!("none ({})", image.format()));
            let means = format!(
                "the disk accepts UF2 blocks of 0x{wanted:08X}; they are made from this file, which does not name the chip"
            );
            seen.weighs(Weight::unless_allowed(consent::NO_FAMILY), means)
        }
    }
}

/// The stamp names this product and variant, and its digest is right.
fn stamp(sheet: &Sheet, variant: &Variant, rules: &ImageRules, image: &Image) -> Option<Evidence> {
    let of = |says: String| file_observation(variant, Source::Stamp, says);
    let stamp = match stamp::find(image, rules.stamp_offset) {
        StampSearch::None => return None,
        StampSearch::One(stamp) => stamp,
        StampSearch::Damaged(at, what) => {
            return Some(of(format!("at {at}")).conflicts(format!("it is damaged: {what}")));
        }
        StampSearch::Several(places) => {
            let says = format!("at {} and {} more", places[0], places.len() - 1);
            return Some(of(says).conflicts("only one is allowed"));
        }
    };
    let text = &stamp.text;
    let product = text.product.as_deref().unwrap_or("no product");
    let variants = if text.variants.is_empty() { "no variant".to_owned() } else { text.variants.join(", ") };
    let seen = of(format!("{product}, {variants}"));
    Some(if text.product.as_ref().is_some_and(|found| *found != sheet.product.id) {
        seen.conflicts(format!("the product in the sheet is {}", sheet.product.id))
    } else if !text.variants.is_empty() && !text.variants.iter().any(|id| id == variant.id.as_str()) {
        seen.conflicts(format!("{} is not among them", variant.id))
    } else if stamp.start != image.start() {
        seen.conflicts(format!("it states that the image starts at {}", stamp.start))
    } else {
        match stamp.seal {
            SealState::Broken => {
                seen.conflicts("its digest differs from the image's: changed or truncated after it was sealed")
            }
            SealState::Good => seen.agrees("its digest is right"),
            SealState::Open => seen.agrees("it is not sealed, so it does not prove that the image is complete"),
        }
    })
}

/// Checks that the image starts at the start of the variant's region.
fn start_address(variant: &Variant, rules: &ImageRules, image: &Image) -> Evidence {
    let seen = file_observation(variant, Source::StartAddress, image.start().to_string());
    let region = &rules.region;
    if !rules.starts_region {
        return seen.weighs(Weight::Neutral, "the start of applications on this unit is not known");
    }
    if image.start() == region.span.start() {
        return seen.agrees(format!("start of {}'s region '{}'", variant.id, region.name));
    }
    seen.conflicts(format!("{}'s region '{}' starts at {}", variant.id, region.name, region.span.start()))
}

/// Every byte lies in a region that the route writes.
fn addresses(variant: &Variant, route: &Route, image: &Image) -> Evidence {
    let says = match image.segments() {
        [one] => one.span().to_string(),
        many => format!("{} in {} segments", image.span(), many.len()),
    };
    let seen = file_observation(variant, Source::Addresses, says);
    let stray = image.segments().iter().find_map(|segment| outside(segment.span(), route));
    let Some(at) = stray else {
        let names: Vec<String> = route.writes.iter().map(|region| format!("'{}'", region.name)).collect();
        return seen.agrees(format!("all of it inside region {}", names.join(", ")));
    };
    let place = match variant.region_at(at) {
        Some(region) => format!("in region '{}', which this route must not write", region.name),
        None if variant.flash.zone_at(at).is_some() => "outside all regions".to_owned(),
        None => "outside the flash".to_owned(),
    };
    seen.conflicts(format!("contains {at}, {place}"))
}

/// The first address of `span` outside all regions of the route.
fn outside(span: Span, route: &Route) -> Option<vaka_image::address::Address> {
    let mut at = span.start();
    while at < span.end() {
        match route.writes.iter().find(|region| region.span.contains(at)) {
            Some(region) => at = region.span.end(),
            None => return Some(at),
        }
    }
    None
}

/// The stack lies in RAM, and the first instruction inside the image.
fn start_vectors(variant: &Variant, rules: &ImageRules, image: &Image) -> Vec<Evidence> {
    let Some(kind) = rules.vectors else { return Vec::new() };
    let Some(vectors) = StartVectors::read(kind, image) else {
        let seen = file_observation(variant, Source::StartVectors, "none");
        return vec![seen.conflicts("the image is too short for start vectors")];
    };
    let mut evidence = vec![first_instruction(variant, rules, image, vectors)];
    if let Some(ram) = variant.ram {
        let seen = file_observation(variant, Source::StartVectors, format!("stack {}", vectors.stack));
        // A stack grows downwards, so it may start at the end of the RAM.
        let inside = ram.contains(vectors.stack) || vectors.stack == ram.end();
        evidence.push(if inside {
            seen.agrees(format!("inside {}'s RAM", variant.id))
        } else {
            seen.conflicts(format!("outside {}'s RAM, {ram}", variant.id))
        });
    }
    evidence
}

fn first_instruction(variant: &Variant, rules: &ImageRules, image: &Image, vectors: StartVectors) -> Evidence {
    let seen = file_observation(variant, Source::StartVectors, format!("reset {}", vectors.reset));
    let target = vectors.first_instruction();
    if !vectors.is_thumb() {
        return seen.conflicts("not a reset handler: bit 0 is not set");
    }
    if image.contains(target) {
        return seen.agrees("inside the image");
    }
    let linked = match rules.region.span.contains(target) {
        true => "outside the image; it was linked for another start address".to_owned(),
        false => {
            format!("outside {}'s region '{}'; it was linked for another start address", variant.id, rules.region.name)
        }
    };
    seen.conflicts(linked)
}

/// Checks the bytes that the sheet names at their offsets.
fn marks(variant: &Variant, rules: &ImageRules, image: &Image) -> Vec<Evidence> {
    let rule = |mark: &crate::sheet::Mark| {
        let place = image.start().checked_add(mark.offset).and_then(|at| Span::new(at, mark.bytes.len() as u64));
        let found = place.and_then(|place| image.bytes(place));
        let says = format!("{} {}", mark.meaning, found.map_or("missing".to_owned(), show_bytes));
        let seen = file_observation(variant, Source::Mark, says);
        if found == Some(&mark.bytes[..]) {
            seen.agrees(format!("{}'s", variant.id))
        } else {
            seen.conflicts(format!("{}'s is {}", variant.id, show_bytes(&mark.bytes)))
        }
    };
    rules.marks.iter().map(rule).collect()
}

/// Whether the file is opaque as the sheet says, and the marks of its header.
fn opaque(variant: &Variant, rules: &ImageRules, image: &Image) -> Vec<Evidence> {
    let header = image.facts().opaque.as_ref().map(|opaque| &opaque.bytes);
    let Some(header) = header.filter(|_| rules.is_opaque) else {
        let says = if header.is_some() { "a payload that only a bootloader understands" } else { "plain firmware" };
        let differs = header.is_some() != rules.is_opaque;
        let seen = || file_observation(variant, Source::Mark, says);
        let wanted = if rules.is_opaque { "an opaque payload with its header" } else { "plain firmware" };
        return differs.then(|| seen().conflicts(format!("{}'s is {wanted}", variant.id))).into_iter().collect();
    };
    let rule = |mark: &crate::sheet::Mark| {
        let from = usize::try_from(mark.offset).unwrap_or(usize::MAX);
        let found = from.checked_add(mark.bytes.len()).and_then(|end| header.get(from..end));
        let says = format!("{} {} in the header", mark.meaning, found.map_or("missing".to_owned(), show_bytes));
        let seen = file_observation(variant, Source::Mark, says);
        match found == Some(&mark.bytes[..]) {
            true => seen.agrees(format!("{}'s", variant.id)),
            false => seen.conflicts(format!("{}'s is {}", variant.id, show_bytes(&mark.bytes))),
        }
    };
    rules.header_marks.iter().map(rule).collect()
}

/// The bytes as quoted text if printable, else in hex.
fn show_bytes(bytes: &[u8]) -> String {
    if bytes.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ') {
        format!("\"{}\"", String::from_utf8_lossy(bytes))
    } else {
        text::hex_pairs(bytes)
    }
}

/// The wildcard value in a DFU suffix. Source: DFU 1.1, appendix B.
const ANY: u16 = 0xFFFF;

/// The DFU suffix names the unit: the ids of either of its modes, and its
/// release number. Source: DFU 1.1, appendix B.
pub(super) fn suffix(
    sheet: &Sheet,
    variant: &Variant,
    route: Option<&Route>,
    unit: Option<&UnitFacts>,
    image: &Image,
) -> Option<Evidence> {
    if image.facts().lacks_suffix {
        let seen = file_observation(variant, Source::DfuSuffix, "none");
        let means = "a .dfu file ends in a suffix with a CRC; without it the file may be truncated";
        return Some(seen.weighs(Weight::unless_allowed(consent::NO_SUFFIX), means));
    }
    let suffix = image.facts().dfu?;
    let seen = file_observation(variant, Source::DfuSuffix, show_suffix(suffix));
    if (suffix.vendor, suffix.product) == (ANY, ANY) {
        return Some(seen.weighs(Weight::Neutral, "names no unit"));
    }
    let application = sheet.application_ids(variant);
    let known: Vec<Ids> = [route.map(|route| &route.id), application]
        .into_iter()
        .flatten()
        .cloned()
        .chain(unit.map(|u| u.id.into()))
        .collect();
    let half = |wanted: u16, found: u16| wanted == ANY || wanted == found;
    let is_named = |id: &UsbId| half(suffix.vendor, id.vendor) && half(suffix.product, id.product);
    let exact = UsbId { vendor: suffix.vendor, product: suffix.product };
    let names = |ids: &&Ids| ids.each().flatten().any(|id| is_named(&id)) || ids.is(exact.into());
    let Some(named) = known.iter().find(names) else {
        return Some(seen.conflicts(format!("made for another unit; {}'s ids are {}", variant.id, id_list(&known))));
    };
    Some(match unit {
        Some(unit) if suffix.release != ANY && named.is(unit.id) && unit.release.0 != suffix.release => seen.weighs(
            Weight::unless_allowed(consent::OTHER_RELEASE),
            format!("the unit's release number is {}", unit.release),
        ),
        _ => seen.agrees(format!("names {named}")),
    })
}

fn show_suffix(suffix: Suffix) -> String {
    let half = |value: u16| if value == ANY { "any".to_owned() } else { format!("{value:04x}") };
    let release = match suffix.release {
        ANY => String::new(),
        release => format!(", release {}", ReleaseNumber(release)),
    };
    format!("{}:{}{release}", half(suffix.vendor), half(suffix.product))
}

fn id_list(ids: &[Ids]) -> String {
    let mut names: Vec<String> = ids.iter().map(ToString::to_string).collect();
    names.sort();
    names.dedup();
    names.join(" and ")
}

/// The share of its region that each image occupies, as text.
pub(super) fn fill(variant: &Variant, image: &Image) -> String {
    let share = |(rules, image): (&ImageRules, Cow<'_, Image>)| {
        let region = &rules.region;
        let segments = text::count(image.segments().len(), "segment");
        format!("{} of {} in '{}', {segments}", Bytes(image.len()), Bytes(region.span.len()), region.name)
    };
    pieces(variant, image).map(share).collect::<Vec<_>>().join("; ")
}
