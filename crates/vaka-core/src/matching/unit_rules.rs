//! Rules about units in update mode, and about the descriptors of units.

use super::consent;
use super::evidence::{Evidence, Source, Subject, Weight};
use super::rules::unit_observation;
use crate::memory::layout::Layout;
use crate::memory::{Access, SectorMap};
use crate::sheet::{
    DescriptorCheck, DescriptorPattern, DialectRoute, Route, RouteKind, SignKind, UpdateMedium, Variant, VolumeRoute,
};
use crate::unit::{DfuMemory, MemoryChoice, ReportedProperty, UnitFacts};
use crate::volume::{BOARD_FILE, VolumeFacts};
use vaka_base::size::Bytes;

/// All evidence of a unit in update mode about a variant.
///
/// `signs_decide`: its descriptors distinguish the variant from others with the same id.
pub(super) fn of_booted_unit(variant: &Variant, route: &Route, unit: &UnitFacts, signs_decide: bool) -> Vec<Evidence> {
    let mut evidence = signs(Some(variant), &route.signs, unit, Weight::Conflicts);
    for sign in evidence.iter_mut().filter(|sign| signs_decide && sign.weight == Weight::Agrees) {
        sign.weight = Weight::Decisive;
        sign.means = format!("this is {}", variant.name);
    }
    evidence.extend(match &route.kind {
        RouteKind::Dfu { memory } | RouteKind::PlainDfu { memory, .. } => of_dfu_unit(variant, route, memory, unit),
        RouteKind::Volume(volume) => of_disk(variant, volume, unit.volume.as_ref()),
        RouteKind::Dialect(dialect) => reported_properties(variant, route, dialect, unit),
    });
    evidence
}

/// Compares a unit's descriptors with those in the sheet. A missing descriptor has the weight
/// `silent`: another program may hold a running application.
pub(super) fn signs(
    variant: Option<&Variant>,
    signs: &DescriptorPattern,
    unit: &UnitFacts,
    silent: Weight,
) -> Vec<Evidence> {
    let source = |kind| match kind {
        SignKind::Product => Source::ProductString,
        SignKind::Maker => Source::MakerString,
        SignKind::Serial => Source::Serial,
        SignKind::Release => Source::Release,
    };
    let whose = variant.map_or("the sheet's".to_owned(), |variant| format!("{}'s", variant.id));
    let rule = |sign: DescriptorCheck| {
        let (weight, means) = match sign.is_so {
            Some(true) => (Weight::Agrees, whose.clone()),
            Some(false) => (Weight::Conflicts, format!("{whose} is {}", sign.wanted)),
            None => (silent.clone(), format!("{whose} is {}", sign.wanted)),
        };
        let says = sign.found.unwrap_or_else(|| "none".to_owned());
        let variant = variant.map(|variant| variant.id.clone());
        Evidence { about: Subject::Unit, source: source(sign.kind), says, means, weight, variant }
    };
    signs.of(unit).into_iter().map(rule).collect()
}

/// The properties that the unit reported in its dialect. A reply in the dialect is itself
/// evidence; each property that the sheet requires must be reported.
fn reported_properties(variant: &Variant, route: &Route, dialect: &DialectRoute, unit: &UnitFacts) -> Vec<Evidence> {
    let source = if dialect.programmer.is_some() { Source::Chip } else { Source::Reported };
    let of = |says: String| unit_observation(variant, source, says);
    if unit.told.is_empty() && dialect.tells.is_empty() {
        return vec![of(route.kind.to_string()).weighs(Weight::Neutral, "it reports nothing that could be compared")];
    }
    let wanted = |told: &ReportedProperty| match unit.told.iter().find(|found| found.name == told.name) {
        Some(found) if found.value == told.value && dialect.programmer.is_some() => {
            of(format!("{} {}", found.name, found.value)).agrees(format!("that of {}'s chip", variant.id))
        }
        Some(found) if found.value == told.value => {
            of(format!("{} {}", found.name, found.value)).weighs(Weight::Decisive, format!("{}'s", variant.id))
        }
        Some(found) => {
            of(format!("{} {}", found.name, found.value)).conflicts(format!("{}'s is {}", variant.id, told.value))
        }
        None => of(format!("no {}", told.name))
            .conflicts(format!("{} requires {}; the unit did not report a value", variant.id, told.value)),
    };
    let mut evidence: Vec<Evidence> = dialect.tells.iter().map(wanted).collect();
    let flash_size = variant.reported_flash.as_ref().and_then(|flash| flash.told.as_deref());
    evidence.extend(variant.reported_flash_size(route, unit).map(|size| {
        match variant.with_flash(size) {
            // The sheet's size counts where the reported one does not.
            Ok(sized) if sized.flash != variant.flash => of(format!("flash of {}", Bytes(size)))
                .conflicts("which variant it is of must be known first; give --variant"),
            Ok(_) if unit.told.iter().any(|told| Some(told.name.as_str()) == flash_size) => {
                of(format!("flash of {}", Bytes(size))).agrees(format!("a size of {}", variant.id))
            }
            Ok(_) => of("no size of its flash".into()).weighs(Weight::Neutral, format!("{} is assumed", Bytes(size))),
            Err(why) => of(format!("flash of {}", Bytes(size))).conflicts(why),
        }
    }));
    let is_known = |found: &&ReportedProperty| {
        Some(found.name.as_str()) == flash_size || dialect.tells.iter().any(|told| told.name == found.name)
    };
    let beyond = unit.told.iter().filter(|found| !is_known(found));
    evidence.extend(beyond.map(|found| {
        of(format!("{} {}", found.name, found.value)).weighs(Weight::Neutral, "the product sheet does not have it")
    }));
    evidence
}

/// The evidence of the unit's disk.
fn of_disk(variant: &Variant, route: &VolumeRoute, disk: Option<&VolumeFacts>) -> Vec<Evidence> {
    let Some(disk) = disk else {
        let seen = unit_observation(variant, Source::Disk, "none");
        return vec![seen.conflicts("the route in the sheet writes to a disk")];
    };
    if let Some(fault) = &disk.fault {
        return vec![
            unit_observation(variant, Source::Disk, "unreadable")
                .conflicts(format!("{fault}; nothing is written to it")),
        ];
    }
    let mut evidence = Vec::new();
    if !route.labels.is_empty() {
        evidence.push(disk_label(variant, route, disk));
    }
    if let UpdateMedium::Uf2 { family, board_id } = &route.takes {
        evidence.push(board(variant, board_id.as_deref(), disk));
        evidence.extend(present_family(variant, *family, disk));
        evidence.extend(present_start(variant, disk));
    }
    if disk.read_only {
        let seen = unit_observation(variant, Source::Disk, "write-protected");
        evidence.push(seen.conflicts(match &disk.folder {
            Some(folder) => format!("it is write-protected; {folder} is mounted read-only, or the unit reports it"),
            None => "the unit reports that it is write-protected".to_owned(),
        }));
    }
    evidence
}

/// Compares the label of the disk. The label of a mounted disk may not be readable for this user;
/// then the name of its folder counts, or the board information, which is stronger than a label.
fn disk_label(variant: &Variant, route: &VolumeRoute, disk: &VolumeFacts) -> Evidence {
    let wanted = || format!("{}'s update disk is {}", variant.id, route.labels.join(" or "));
    let of = |says: &str| unit_observation(variant, Source::DiskLabel, says);
    let ours = format!("{}'s update disk", variant.id);
    match (&disk.label, &disk.folder) {
        (Some(label), _) if route.knows_label(Some(label)) => of(label).agrees(ours),
        (Some(label), _) => of(label).conflicts(wanted()),
        (None, Some(folder)) if route.knows_label(folder.rsplit('/').next()) => {
            of(&format!("not readable, mounted at {folder}")).agrees(ours)
        }
        (None, Some(_)) if matches!(route.takes, UpdateMedium::Uf2 { .. }) => {
            of("not readable").weighs(Weight::Neutral, "this user cannot read it; the board information is stronger")
        }
        (None, _) => of("none").conflicts(wanted()),
    }
}

/// The board information names the variant's board. Its id is for programs and
/// compared exactly.
fn board(variant: &Variant, wanted: Option<&str>, disk: &VolumeFacts) -> Evidence {
    let of = |says: String| unit_observation(variant, Source::BoardInfo, says);
    let Some(found) = disk.board() else {
        return of("none".into()).conflicts(format!("no {BOARD_FILE}: this is not the disk of a UF2 bootloader"));
    };
    match (found.board_id, wanted) {
        (Some(found), Some(wanted)) if found == wanted => {
            of(found).weighs(Weight::Decisive, format!("this is {}", variant.name))
        }
        (Some(found), Some(wanted)) => of(found).conflicts(format!("{}'s is {wanted}", variant.id)),
        (None, Some(wanted)) => of("no Board-ID".into()).conflicts(format!("{}'s is {wanted}", variant.id)),
        (found, None) => of(found.unwrap_or_else(|| "no Board-ID".into()))
            .weighs(Weight::Neutral, "the product sheet does not have it"),
    }
}

/// The blocks of the installed application also name the family, if they are readable.
fn present_family(variant: &Variant, wanted: u32, disk: &VolumeFacts) -> Option<Evidence> {
    let found = disk.families.first()?;
    let seen = unit_observation(variant, Source::Family, format!("0x{found:08X}"));
    Some(match disk.families.contains(&wanted) {
        true => seen.agrees(format!("the installed application's, and {}'s", variant.id)),
        false => seen.conflicts(format!("the installed application's; {} accepts 0x{wanted:08X}", variant.id)),
    })
}

/// Without a sheet nothing but the installed application shows where one begins.
fn present_start(variant: &Variant, disk: &VolumeFacts) -> Option<Evidence> {
    if variant.image.starts_region {
        return None;
    }
    let of = |says: String| unit_observation(variant, Source::StartAddress, says);
    let begins = variant.image.region.span.start();
    Some(match disk.shown_start {
        Some(at) if at == begins => of(at.to_string()).agrees("the installed application begins there too"),
        Some(at) => {
            of(at.to_string()).conflicts(format!("the installed application begins there, the file at {begins}"))
        }
        None => of("not known".into()).weighs(Weight::Neutral, "the disk does not show the installed application"),
    })
}

fn of_dfu_unit(variant: &Variant, route: &Route, memory: &MemoryChoice, unit: &UnitFacts) -> Vec<Evidence> {
    if !unit.dfu.iter().any(|dfu| dfu.in_dfu_mode) {
        let seen = unit_observation(variant, Source::Protocol, "no interface in DFU mode");
        return vec![seen.conflicts("the route in the sheet is DFU")];
    }
    let found = unit.memories(memory);
    let evidence = match (&route.kind, &found[..]) {
        (_, []) => {
            let says = format!("none {memory}");
            unit_observation(variant, Source::MemoryLayout, says).conflicts("the route in the sheet writes that memory")
        }
        (RouteKind::Dfu { .. }, _) => layout(variant, route, &found),
        (_, found) => plain_memory(variant, found),
    };
    let downloads = found.iter().all(|memory| memory.interface.functional.is_none_or(|f| f.attributes.can_download()));
    let refuses = (!downloads).then(|| {
        unit_observation(variant, Source::Protocol, "no download").conflicts("the unit reports that it cannot download")
    });
    [Some(evidence), refuses].into_iter().flatten().collect()
}

/// Plain DFU: exactly one memory matches, and it takes no addresses.
fn plain_memory(variant: &Variant, found: &[DfuMemory<'_>]) -> Evidence {
    let names: Vec<String> = found.iter().map(ToString::to_string).collect();
    let seen = unit_observation(variant, Source::Protocol, format!("DFU memory {}", names.join(", ")));
    match found {
        [one] if one.is_addressed() => {
            seen.conflicts("the unit is written by memory addresses; the route in the sheet is plain DFU")
        }
        [_] => seen.agrees("the route in the sheet is plain DFU"),
        _ => seen.conflicts("several; the sheet must select one with `memory`, `interface` or `alternate`"),
    }
}

/// The memory that the unit reports is the one of the variant.
fn layout(variant: &Variant, route: &Route, found: &[DfuMemory<'_>]) -> Evidence {
    let layouts = || found.iter().filter_map(|memory| memory.alternate.layout.as_ref());
    let holds = |layout: &&Layout| route.writes.iter().all(|region| layout.map.sectors_in(region.span).is_some());
    // If there are several memories, use the one that covers the route's regions.
    let Some(layout) = layouts().find(holds).or_else(|| layouts().next()) else {
        let seen = unit_observation(variant, Source::MemoryLayout, "none");
        return seen.conflicts("the unit does not support DFU with memory addresses");
    };
    let seen = unit_observation(variant, Source::MemoryLayout, layout.map.to_string());
    match compare(&layout.map, &variant.flash) {
        Fit::Differs => {
            let least = variant.reported_flash.as_ref().map(|flash| format!(", or at least {}", Bytes(flash.least)));
            seen.conflicts(format!("{} has {}{}", variant.id, variant.flash, least.unwrap_or_default()))
        }
        _ if !route.writes.iter().all(|region| layout.map.allows(region.span, Access::is_programmable)) => {
            seen.conflicts("the unit reports the memory of the route as not writable")
        }
        Fit::Equal => seen.agrees(format!("the flash of {}", variant.id)),
        Fit::Larger => seen.weighs(
            Weight::unless_allowed(consent::LARGER_MEMORY),
            format!("more than {}'s {}; some chips report their whole family's", variant.id, variant.flash),
        ),
    }
}

enum Fit {
    Equal,
    Larger,
    Differs,
}

/// Compares the memory map of the unit with the sectors in the sheet.
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
