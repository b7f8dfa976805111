//! Rules about a table in flash that gives regions their places.

use super::consent;
use super::evidence::{Evidence, Source, Weight};
use super::rules::{file_observation, pieces, unit_observation};
use crate::sheet::{RegionTable, TableEntry, TableReport, Variant};
use vaka_image::Image;
use vaka_image::address::Span;

/// The table that a file installs must place every region as the sheet does, and have each region
/// for which the file has data.
pub(super) fn in_file(variant: &Variant, image: &Image) -> Option<Evidence> {
    let table = variant.table.as_ref()?;
    let bytes = content(table, image)?;
    let seen = |says: String| file_observation(variant, Source::RegionTable, says);
    let entries = match table.parse(&bytes) {
        Ok(entries) => entries,
        Err(error) => return Some(seen("damaged".into()).conflicts(error.to_string())),
    };
    let says = seen(listed(&entries));
    let differs = entries.iter().find_map(|entry| {
        let region = variant.regions.iter().find(|region| region.name == entry.name)?;
        (region.span != entry.span).then(|| format!("{}'s region '{}' is {}", variant.id, region.name, region.span))
    });
    let lacks = missing(variant, image, &entries).map(|name| format!("it has no region '{name}'"));
    Some(match differs.or(lacks) {
        Some(conflict) => says.conflicts(conflict),
        None => says.agrees(format!("places the regions as {} has them", variant.id)),
    })
}

/// The table in the unit: the file goes to where it places the regions. A new table must not move a
/// region whose content the file does not have.
pub(super) fn in_unit(
    variant: &Variant,
    image: &Image,
    report: Option<&TableReport>,
    is_final: bool,
) -> Option<Evidence> {
    let table = variant.table.as_ref()?;
    let seen = |says: String| unit_observation(variant, Source::RegionTable, says);
    let is_replaced = content(table, image).is_some();
    let entries = match report {
        Some(TableReport::Entries(entries)) => entries,
        Some(TableReport::Damaged(error)) if is_replaced => {
            return Some(seen("damaged".into()).weighs(Weight::Neutral, format!("{error}; the file replaces it")));
        }
        Some(TableReport::Damaged(error)) => {
            return Some(seen("damaged".into()).conflicts(format!("{error}; the file has no new table")));
        }
        Some(TableReport::Unreadable(reason)) => {
            let weight = Weight::unless_allowed(consent::UNREAD_TABLE);
            let means = format!("{reason}; the regions may be in other places than in the product sheet");
            return Some(seen("not read".into()).weighs(weight, means));
        }
        None if !is_final => {
            return Some(seen("not read yet".into()).weighs(Weight::Neutral, "it is read in update mode"));
        }
        None => return None,
    };
    let says = seen(listed(entries));
    if is_replaced {
        let moved: Vec<&str> = moved(variant, image, entries).collect();
        return Some(match &moved[..] {
            [] => says.agrees("the file replaces it; no region moves without its content"),
            names => {
                let weight = Weight::unless_allowed(consent::MOVED_REGIONS);
                says.weighs(weight, format!("the new table moves '{}', but not its content", names.join("', '")))
            }
        });
    }
    Some(match (variant.placed_by(entries), missing(variant, image, entries)) {
        (Err(why), _) => says.conflicts(why),
        (Ok(_), Some(name)) => says.conflicts(format!("it has no region '{name}'")),
        (Ok(_), None) => says.agrees("the file goes to where it places the regions"),
    })
}

/// The bytes of a table in the file, erased where the file has none; `None` if it has no data there.
fn content(table: &RegionTable, image: &Image) -> Option<Vec<u8>> {
    let span = table.region.span;
    image.parts_in(span).next()?;
    let mut bytes = vec![vaka_image::ERASED; usize::try_from(span.len()).ok()?];
    image.copy_to(span.start(), &mut bytes);
    Some(bytes)
}

/// The first region with data in the file that a table does not have.
fn missing<'v>(variant: &'v Variant, image: &Image, entries: &[TableEntry]) -> Option<&'v str> {
    let own = variant.table.as_ref().map(|table| table.region.name.as_str());
    let is_missing = |name: &&str| Some(*name) != own && !entries.iter().any(|entry| entry.name == *name);
    pieces(variant, image).map(|(rules, _)| rules.region.name.as_str()).find(is_missing)
}

/// The regions without data in the file whose place a unit's table has elsewhere than the sheet.
fn moved<'v>(variant: &'v Variant, image: &Image, entries: &[TableEntry]) -> impl Iterator<Item = &'v str> {
    let place = |name: &str| -> Option<Span> { Some(entries.iter().find(|entry| entry.name == name)?.span) };
    let stays_behind = move |region: &&crate::sheet::Region| {
        let moves = place(&region.name).is_some_and(|old| old != region.span);
        moves && image.parts_in(region.span).next().is_none()
    };
    variant.regions.iter().filter(stays_behind).map(|region| region.name.as_str())
}

/// `app 0x20000..0x60000, files 0x60000..0x80000`
fn listed(entries: &[TableEntry]) -> String {
    let one = |entry: &TableEntry| format!("{} {}", entry.name, entry.span);
    entries.iter().map(one).collect::<Vec<_>>().join(", ")
}
