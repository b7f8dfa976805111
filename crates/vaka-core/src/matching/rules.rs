//! The rules. Each compares one thing with one variant, and says what it saw.

use super::evidence::{About, Evidence, Source, Weight};
use crate::address::Span;
use crate::image::Image;
use crate::image::dfu_file::Suffix;
use crate::image::stamp::{self, Found, Seal};
use crate::image::vectors::StartVectors;
use crate::memory::layout::Layout;
use crate::memory::{Access, SectorMap};
use crate::sheet::{BOOTLOADER, DialectRoute, Region, Route, RouteKind, Sheet, Takes, Variant, VolumeRoute};
use crate::size::Bytes;
use crate::text;
use crate::unit::{DfuMemory, MemoryChoice, ReleaseNumber, Told, UnitFacts, UsbId};
use crate::version::Version;
use crate::volume::{BOARD_FILE, VolumeFacts};

/// Evidence of `variant`, still without a weight.
struct Seen<'a> {
    about: About,
    source: Source,
    variant: &'a Variant,
    says: String,
}

impl Seen<'_> {
    fn agrees(self, means: impl Into<String>) -> Evidence {
        self.weighs(Weight::Agrees, means)
    }

    fn conflicts(self, means: impl Into<String>) -> Evidence {
        self.weighs(Weight::Conflicts, means)
    }

    fn weighs(self, weight: Weight, means: impl Into<String>) -> Evidence {
        let Self { about, source, variant, says } = self;
        Evidence { about, source, says, means: means.into(), weight, variant: Some(variant.id.clone()) }
    }
}

fn of_file(variant: &Variant, source: Source, says: impl Into<String>) -> Seen<'_> {
    Seen { about: About::File, source, variant, says: says.into() }
}

fn of_unit(variant: &Variant, source: Source, says: impl Into<String>) -> Seen<'_> {
    Seen { about: About::Unit, source, variant, says: says.into() }
}

/// All that the file says for or against a variant.
pub(super) fn of_image(sheet: &Sheet, variant: &Variant, route: &Route, image: &Image) -> Vec<Evidence> {
    let mut evidence = vec![start_address(variant, image), addresses(variant, route, image)];
    evidence.extend(start_vectors(variant, image));
    evidence.extend(marks(variant, image));
    evidence.extend(stamp(sheet, variant, image));
    evidence.extend(route.kind.family().map(|wanted| family(variant, wanted, image)));
    evidence
}

/// The file's UF2 family is the one that the unit's disk takes. It proves the
/// kind of chip, never the board. Source: the public UF2 format description.
fn family(variant: &Variant, wanted: u32, image: &Image) -> Evidence {
    match image.facts().family {
        Some(found) => {
            let seen = of_file(variant, Source::Family, format!("0x{found:08X}"));
            if found == wanted {
                seen.agrees(format!("{}'s", variant.id))
            } else {
                seen.conflicts(format!("{} takes 0x{wanted:08X}; the unit would ignore every block", variant.id))
            }
        }
        None => {
            let seen = of_file(variant, Source::Family, format!("none ({})", image.format()));
            let means = format!(
                "the disk takes UF2 blocks of 0x{wanted:08X}; they would be made of this file, and nothing in it names the chip"
            );
            seen.weighs(Weight::unless_agreed("no-family"), means)
        }
    }
}

/// The stamp names this product and variant, and its digest is right.
fn stamp(sheet: &Sheet, variant: &Variant, image: &Image) -> Option<Evidence> {
    let of = |says: String| of_file(variant, Source::Stamp, says);
    let stamp = match stamp::find(image, variant.image.stamp_offset) {
        Found::None => return None,
        Found::One(stamp) => stamp,
        Found::Damaged(at, what) => return Some(of(format!("at {at}")).conflicts(format!("it is damaged: {what}"))),
        Found::Several(places) => {
            let says = format!("at {} and {} more", places[0], places.len() - 1);
            return Some(of(says).conflicts("there may be only one"));
        }
    };
    let text = &stamp.text;
    let product = text.product.as_deref().unwrap_or("no product");
    let variants = if text.variants.is_empty() { "no variant".to_owned() } else { text.variants.join(", ") };
    let seen = of(format!("{product}, {variants}"));
    Some(if text.product.as_ref().is_some_and(|found| *found != sheet.product.id) {
        seen.conflicts(format!("the sheet's product is {}", sheet.product.id))
    } else if !text.variants.is_empty() && !text.variants.iter().any(|id| id == variant.id.as_str()) {
        seen.conflicts(format!("{} is not among them", variant.id))
    } else if stamp.start != image.start() {
        seen.conflicts(format!("it says that the image starts at {}", stamp.start))
    } else {
        match stamp.seal {
            Seal::Broken => seen.conflicts("its digest is not the image's: changed or cut after it was sealed"),
            Seal::Good => seen.agrees("its digest is right"),
            Seal::Open => seen.agrees("it was not sealed: nothing tells whether the image is whole"),
        }
    })
}

/// The image starts where the variant's region starts.
fn start_address(variant: &Variant, image: &Image) -> Evidence {
    let seen = of_file(variant, Source::StartAddress, image.start().to_string());
    let region = &variant.image.region;
    if !variant.image.starts_region {
        return seen.weighs(Weight::Neutral, "where applications start on this unit is not known");
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
    let seen = of_file(variant, Source::Addresses, says);
    let stray = image.segments().iter().find_map(|segment| outside(segment.span(), route));
    let Some(at) = stray else {
        let names: Vec<String> = route.writes.iter().map(|region| format!("'{}'", region.name)).collect();
        return seen.agrees(format!("all of it inside region {}", names.join(", ")));
    };
    let place = match variant.region_at(at) {
        Some(region) => format!("which is in region '{}'; this route never writes that", region.name),
        None if variant.flash.zone_at(at).is_some() => "which is in no region".to_owned(),
        None => "which is outside the flash".to_owned(),
    };
    seen.conflicts(format!("holds {at}, {place}"))
}

/// The first address of `span` that no region of the route holds.
fn outside(span: Span, route: &Route) -> Option<crate::address::Address> {
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
fn start_vectors(variant: &Variant, image: &Image) -> Vec<Evidence> {
    let Some(kind) = variant.image.vectors else { return Vec::new() };
    let Some(vectors) = StartVectors::read(kind, image) else {
        let seen = of_file(variant, Source::StartVectors, "none");
        return vec![seen.conflicts("the image is too short for start vectors")];
    };
    let mut evidence = vec![first_instruction(variant, image, vectors)];
    if let Some(ram) = variant.ram {
        let seen = of_file(variant, Source::StartVectors, format!("stack {}", vectors.stack));
        // A stack grows down, so it may begin right behind the RAM's end.
        let inside = ram.contains(vectors.stack) || vectors.stack == ram.end();
        evidence.push(if inside {
            seen.agrees(format!("inside {}'s RAM", variant.id))
        } else {
            seen.conflicts(format!("outside {}'s RAM, {ram}", variant.id))
        });
    }
    evidence
}

fn first_instruction(variant: &Variant, image: &Image, vectors: StartVectors) -> Evidence {
    let seen = of_file(variant, Source::StartVectors, format!("reset {}", vectors.reset));
    let target = vectors.first_instruction();
    if !vectors.is_thumb() {
        return seen.conflicts("not a reset handler: bit 0 is not set");
    }
    if image.segments().iter().any(|segment| segment.span().contains(target)) {
        return seen.agrees("inside the image");
    }
    let linked = match variant.image.region.span.contains(target) {
        true => "outside the image; it was linked for another start address".to_owned(),
        false => format!(
            "outside {}'s region '{}'; it was linked for another start address",
            variant.id, variant.image.region.name
        ),
    };
    seen.conflicts(linked)
}

/// The bytes that the sheet names stand where it says.
fn marks(variant: &Variant, image: &Image) -> Vec<Evidence> {
    let rule = |mark: &crate::sheet::Mark| {
        let place = image.start().checked_add(mark.offset).and_then(|at| Span::new(at, mark.bytes.len() as u64));
        let found = place.and_then(|place| image.bytes(place));
        let says = format!("{} {}", mark.meaning, found.map_or("missing".to_owned(), show_bytes));
        let seen = of_file(variant, Source::Mark, says);
        if found == Some(&mark.bytes[..]) {
            seen.agrees(format!("{}'s", variant.id))
        } else {
            seen.conflicts(format!("{}'s is {}", variant.id, show_bytes(&mark.bytes)))
        }
    };
    variant.image.marks.iter().map(rule).collect()
}

/// As quoted text where it is plain, else in hex.
fn show_bytes(bytes: &[u8]) -> String {
    if bytes.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ') {
        format!("\"{}\"", String::from_utf8_lossy(bytes))
    } else {
        text::hex_pairs(bytes)
    }
}

/// All that a unit in update mode says for or against a variant.
pub(super) fn of_booted_unit(variant: &Variant, route: &Route, unit: &UnitFacts) -> Vec<Evidence> {
    match &route.kind {
        RouteKind::Dfu { memory } | RouteKind::PlainDfu { memory, .. } => of_dfu_unit(variant, route, memory, unit),
        RouteKind::Volume(volume) => of_disk(variant, volume, unit.volume.as_ref()),
        RouteKind::Dialect(dialect) => of_told(variant, route, dialect, unit),
    }
}

/// What the unit told of itself in its dialect. That it speaks it at all is
/// something; what the sheet wants of it, it must say.
fn of_told(variant: &Variant, route: &Route, dialect: &DialectRoute, unit: &UnitFacts) -> Vec<Evidence> {
    let of = |says: String| of_unit(variant, Source::Told, says);
    if unit.told.is_empty() && dialect.tells.is_empty() {
        return vec![of(route.kind.to_string()).weighs(Weight::Neutral, "it tells nothing that could be compared")];
    }
    let wanted = |told: &Told| match unit.told.iter().find(|found| found.name == told.name) {
        Some(found) if found.value == told.value => {
            of(format!("{} {}", found.name, found.value)).weighs(Weight::Decides, format!("{}'s", variant.id))
        }
        Some(found) => {
            of(format!("{} {}", found.name, found.value)).conflicts(format!("{}'s is {}", variant.id, told.value))
        }
        None => of(format!("no {}", told.name))
            .conflicts(format!("{}'s is {}; the unit did not tell", variant.id, told.value)),
    };
    let mut evidence: Vec<Evidence> = dialect.tells.iter().map(wanted).collect();
    let beyond = unit.told.iter().filter(|found| !dialect.tells.iter().any(|told| told.name == found.name));
    evidence.extend(beyond.map(|found| {
        of(format!("{} {}", found.name, found.value)).weighs(Weight::Neutral, "the sheet says nothing of it")
    }));
    evidence
}

/// What the unit's disk says.
fn of_disk(variant: &Variant, route: &VolumeRoute, disk: Option<&VolumeFacts>) -> Vec<Evidence> {
    let Some(disk) = disk else {
        let seen = of_unit(variant, Source::Disk, "none");
        return vec![seen.conflicts("the sheet's route writes to a disk")];
    };
    if let Some(fault) = &disk.fault {
        return vec![
            of_unit(variant, Source::Disk, "unreadable").conflicts(format!("{fault}; nothing is written to it")),
        ];
    }
    let mut evidence = Vec::new();
    if !route.labels.is_empty() {
        evidence.push(disk_label(variant, route, disk));
    }
    if let Takes::Uf2 { family, board_id } = &route.takes {
        evidence.push(board(variant, board_id.as_deref(), disk));
        evidence.extend(present_family(variant, *family, disk));
    }
    if disk.read_only {
        let seen = of_unit(variant, Source::Disk, "write-protected");
        evidence.push(seen.conflicts(match &disk.folder {
            Some(folder) => format!("it takes nothing; {folder} is mounted read-only, or the unit says so"),
            None => "the unit says that it takes nothing".to_owned(),
        }));
    }
    evidence
}

/// The disk is called as the variant's update disk is. Of a mounted one this user may
/// not be able to read that: then its folder may be called so, as desktops do, or the
/// board information tells more than a label.
fn disk_label(variant: &Variant, route: &VolumeRoute, disk: &VolumeFacts) -> Evidence {
    let wanted = || format!("{}'s update disk is {}", variant.id, route.labels.join(" or "));
    let of = |says: &str| of_unit(variant, Source::DiskLabel, says);
    let ours = format!("{}'s update disk", variant.id);
    match (&disk.label, &disk.folder) {
        (Some(label), _) if route.knows_label(Some(label)) => of(label).agrees(ours),
        (Some(label), _) => of(label).conflicts(wanted()),
        (None, Some(folder)) if route.knows_label(folder.rsplit('/').next()) => {
            of(&format!("not readable, mounted at {folder}")).agrees(ours)
        }
        (None, Some(_)) if matches!(route.takes, Takes::Uf2 { .. }) => {
            of("not readable").weighs(Weight::Neutral, "this user may not read it; the board information tells more")
        }
        (None, _) => of("none").conflicts(wanted()),
    }
}

/// The board information names the variant's board. Its id is for programs and
/// compared exactly.
fn board(variant: &Variant, wanted: Option<&str>, disk: &VolumeFacts) -> Evidence {
    let of = |says: String| of_unit(variant, Source::BoardInfo, says);
    let Some(found) = disk.board() else {
        return of("none".into()).conflicts(format!("no {BOARD_FILE}: this is not the disk of a UF2 bootloader"));
    };
    match (found.board_id, wanted) {
        (Some(found), Some(wanted)) if found == wanted => {
            of(found).weighs(Weight::Decides, format!("this is {}", variant.name))
        }
        (Some(found), Some(wanted)) => of(found).conflicts(format!("{}'s is {wanted}", variant.id)),
        (None, Some(wanted)) => of("no Board-ID".into()).conflicts(format!("{}'s is {wanted}", variant.id)),
        (found, None) => {
            of(found.unwrap_or_else(|| "no Board-ID".into())).weighs(Weight::Neutral, "the sheet says nothing of it")
        }
    }
}

/// The present application's blocks name the family too, where they can be read.
fn present_family(variant: &Variant, wanted: u32, disk: &VolumeFacts) -> Option<Evidence> {
    let found = disk.families.first()?;
    let seen = of_unit(variant, Source::Family, format!("0x{found:08X}"));
    Some(match disk.families.contains(&wanted) {
        true => seen.agrees(format!("the present application's, and {}'s", variant.id)),
        false => seen.conflicts(format!("the present application's; {} takes 0x{wanted:08X}", variant.id)),
    })
}

fn of_dfu_unit(variant: &Variant, route: &Route, memory: &MemoryChoice, unit: &UnitFacts) -> Vec<Evidence> {
    if !unit.dfu.iter().any(|dfu| dfu.in_dfu_mode) {
        let seen = of_unit(variant, Source::Protocol, "no interface in DFU mode");
        return vec![seen.conflicts("the sheet's route is DFU")];
    }
    let found = unit.memories(memory);
    let evidence = match (&route.kind, &found[..]) {
        (_, []) => {
            let says = format!("none {memory}");
            of_unit(variant, Source::MemoryLayout, says).conflicts("the sheet's route writes that memory")
        }
        (RouteKind::Dfu { .. }, _) => layout(variant, route, &found),
        (_, found) => plain_memory(variant, found),
    };
    let downloads = found.iter().all(|memory| memory.interface.functional.is_none_or(|f| f.attributes.can_download()));
    let refuses = (!downloads).then(|| {
        of_unit(variant, Source::Protocol, "no download").conflicts("the unit says that it takes no firmware this way")
    });
    [Some(evidence), refuses].into_iter().flatten().collect()
}

/// Plain DFU: there is one memory that can be meant, and it wants no addresses.
fn plain_memory(variant: &Variant, found: &[DfuMemory<'_>]) -> Evidence {
    let names: Vec<String> = found.iter().map(ToString::to_string).collect();
    let seen = of_unit(variant, Source::Protocol, format!("DFU memory {}", names.join(", ")));
    match found {
        [one] if one.is_addressed() => {
            seen.conflicts("the unit is written by memory addresses; the sheet's route is plain DFU")
        }
        [_] => seen.agrees("the sheet's route is plain DFU"),
        _ => seen.conflicts("several; the sheet must say which with `memory`, `interface` or `alternate`"),
    }
}

/// The memory that the unit reports is the one of the variant.
fn layout(variant: &Variant, route: &Route, found: &[DfuMemory<'_>]) -> Evidence {
    let layouts = || found.iter().filter_map(|memory| memory.alternate.layout.as_ref());
    let holds = |layout: &&Layout| route.writes.iter().all(|region| layout.map.sectors_in(region.span).is_some());
    // Of several memories the one that holds what the route writes is meant.
    let Some(layout) = layouts().find(holds).or_else(|| layouts().next()) else {
        let seen = of_unit(variant, Source::MemoryLayout, "none");
        return seen.conflicts("the unit does not speak DFU with memory addresses");
    };
    let seen = of_unit(variant, Source::MemoryLayout, layout.map.to_string());
    match compare(&layout.map, &variant.flash) {
        Fit::Differs => seen.conflicts(format!("{} has {}", variant.id, variant.flash)),
        _ if !route.writes.iter().all(|region| layout.map.allows(region.span, Access::takes_firmware)) => {
            seen.conflicts("the unit reports what the route writes as not writable")
        }
        Fit::Equal => seen.agrees(format!("the flash of {}", variant.id)),
        Fit::Larger => seen.weighs(
            Weight::unless_agreed("larger-memory"),
            format!("more than {}'s {}; some chips report their whole family's", variant.id, variant.flash),
        ),
    }
}

enum Fit {
    Equal,
    Larger,
    Differs,
}

/// Whether a unit's map holds the sectors of the sheet's, and only those.
fn compare(unit: &SectorMap, sheet: &SectorMap) -> Fit {
    let sectors = |map: &SectorMap| {
        let all = map.zones().iter().flat_map(|zone| map.sectors_in(zone.span()).unwrap_or_default());
        all.take(1 << 20).collect::<Vec<_>>()
    };
    let (unit, sheet) = (sectors(unit), sectors(sheet));
    if unit == sheet {
        Fit::Equal
    } else if sheet.iter().all(|sector| unit.binary_search(sector).is_ok()) {
        Fit::Larger
    } else {
        Fit::Differs
    }
}

/// What the product string of a running application says.
pub(super) fn product_string(sheet: &Sheet, unit: &UnitFacts) -> Option<Evidence> {
    let wanted = sheet.application.product.as_ref()?;
    let found = unit.product.as_deref().unwrap_or("none");
    let (weight, means) = match found == wanted {
        true => (Weight::Agrees, sheet.product.name.clone()),
        false => (Weight::Conflicts, format!("the sheet's is \"{wanted}\"")),
    };
    let says = format!("\"{found}\"");
    Some(Evidence { about: About::Unit, source: Source::ProductString, says, means, weight, variant: None })
}

/// The version that stands in the image: where the sheet says, or in its UF2 tags.
pub fn image_version(variant: &Variant, image: &Image) -> Option<Version> {
    let placed = || {
        let at = image.start().checked_add(variant.image.version_offset?)?;
        let bytes = image.bytes(Span::new(at, 2)?)?;
        Some(ReleaseNumber(u16::from_le_bytes([bytes[0], bytes[1]])).into())
    };
    let tagged = || image.facts().tags.as_ref()?.version.as_deref().map(Version::parse);
    placed().or_else(tagged)
}

/// The file's version beside the one that the application told.
pub(super) fn version(variant: &Variant, image: &Image, running: Option<&Version>) -> Option<Evidence> {
    let Some(new) = image_version(variant, image) else {
        let named = image.facts().named_version.as_ref()?;
        let seen = of_file(variant, Source::Version, format!("{named} by its name"));
        let unit = running.map_or("the unit's is not known".to_owned(), |running| format!("the unit's is {running}"));
        return Some(seen.weighs(Weight::Neutral, format!("a name proves nothing; {unit}")));
    };
    let seen = of_file(variant, Source::Version, new.as_str());
    Some(match running {
        None => seen.weighs(Weight::Neutral, "the unit's version is not known"),
        Some(old) if new < *old => {
            seen.weighs(Weight::unless_agreed("older-version"), format!("older than the unit's {old}"))
        }
        Some(old) if new == *old => {
            seen.weighs(Weight::Neutral, format!("the unit has {old} too; the content may still differ"))
        }
        Some(old) => seen.weighs(Weight::Neutral, format!("newer than the unit's {old}")),
    })
}

/// What stands for "any" in a DFU suffix. Source: DFU 1.1, appendix B.
const ANY: u16 = 0xFFFF;

/// The DFU suffix names the unit: the ids of either of its modes, and its
/// release number. Source: DFU 1.1, appendix B.
pub(super) fn suffix(
    sheet: &Sheet,
    variant: &Variant,
    route: &Route,
    unit: Option<&UnitFacts>,
    image: &Image,
) -> Option<Evidence> {
    let suffix = image.facts().dfu?;
    let seen = of_file(variant, Source::DfuSuffix, show_suffix(suffix));
    if (suffix.vendor, suffix.product) == (ANY, ANY) {
        return Some(seen.weighs(Weight::Neutral, "names no unit"));
    }
    let half = |wanted: u16, found: u16| wanted == ANY || wanted == found;
    let names = |id: &UsbId| half(suffix.vendor, id.vendor) && half(suffix.product, id.product);
    let known = [Some(route.id), sheet.application.id, unit.map(|unit| unit.id)];
    let Some(named) = known.iter().flatten().find(|id| names(id)) else {
        return Some(seen.conflicts(format!("made for another unit; {}'s ids are {}", variant.id, id_list(&known))));
    };
    Some(match unit {
        Some(unit) if suffix.release != ANY && unit.id == *named && unit.release.0 != suffix.release => seen
            .weighs(Weight::unless_agreed("other-release"), format!("the unit's release number is {}", unit.release)),
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

fn id_list(ids: &[Option<UsbId>]) -> String {
    let mut names: Vec<String> = ids.iter().flatten().map(ToString::to_string).collect();
    names.sort();
    names.dedup();
    names.join(" and ")
}

/// Nobody described the unit: that has to be known and wanted.
pub(super) fn undescribed(sheet: &Sheet, variant: &Variant) -> Option<Evidence> {
    if sheet.is_described {
        return None;
    }
    let seen = of_unit(variant, Source::Sheet, "none");
    let means =
        "nothing but the unit's own word tells where firmware goes, and nothing tells whether this file is made for it";
    Some(seen.weighs(Weight::unless_agreed("no-sheet"), means))
}

/// What is lost when everything is erased first. The bootloader never is.
pub(super) fn losses(sheet: &Sheet, variant: &Variant, image: &Image, keep: &[String]) -> Vec<Evidence> {
    let covered = |span: Span| -> u64 {
        image.segments().iter().filter_map(|segment| segment.span().common(span)).map(Span::len).sum()
    };
    let lost = |span: Span| span.len() - covered(span);
    let loss = |name: &str, span: Span| {
        let seen = of_unit(variant, Source::Loss, format!("{name}, {}", Bytes(lost(span))));
        let means = "erased by --clear-all, and this file does not put it back";
        seen.weighs(Weight::unless_agreed(format!("lose-{name}")), means)
    };
    if !sheet.is_described {
        let all = variant.regions.iter().map(|region| lost(region.span)).sum();
        let seen = of_unit(variant, Source::Loss, format!("everything, {} beside the image", Bytes(all)));
        let means = "erased by --clear-all: settings, and a bootloader if there is one";
        return vec![seen.weighs(Weight::unless_agreed("lose-everything"), means)];
    }
    let goes = |region: &&Region| region.name != BOOTLOADER && !keep.contains(&region.name);
    let others = variant.regions.iter().filter(goes).filter(|region| *region != &variant.image.region);
    let mut losses: Vec<Evidence> =
        others.filter(|region| lost(region.span) > 0).map(|region| loss(&region.name, region.span)).collect();
    let unnamed: u64 = variant.flash.zones().iter().map(|zone| zone.span().len()).sum::<u64>()
        - variant.regions.iter().map(|region| region.span.len()).sum::<u64>();
    if unnamed > 0 {
        let seen = of_unit(variant, Source::Loss, format!("flash in no region, {}", Bytes(unnamed)));
        let means = "erased by --clear-all; the sheet does not say what is there";
        losses.push(seen.weighs(Weight::unless_agreed("lose-unnamed"), means));
    }
    losses
}

/// How much of its region an image takes, for output.
pub(super) fn fill(variant: &Variant, image: &Image) -> String {
    let region = &variant.image.region;
    format!(
        "{} of {} in '{}', {}",
        Bytes(image.len()),
        Bytes(region.span.len()),
        region.name,
        text::count(image.segments().len(), "segment")
    )
}
