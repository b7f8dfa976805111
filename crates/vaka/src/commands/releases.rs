//! `vaka releases`: the releases of a catalogue, and the connected units that they fit.

use serde_json::json;
use vaka_core::event::ExitCode;
use vaka_core::release::catalogue::ListedRelease;
use vaka_core::release::{ReleaseQuery, VersionSelector};

use super::{print_line, print_result};
use crate::args::{Common, ListReleases, OutputFormat};
use crate::catalogue::{self, AttachedProduct, CheckedCatalogue};
use crate::cli_error::Outcome;
use crate::output_options::OutputOptions;
use crate::render::table;
use crate::{environment, keyring, origin, release_store};

pub fn run(args: &ListReleases, common: &Common, setting: &OutputOptions) -> Outcome {
    let opened = catalogue::open(&args.from, common)?;
    // The list is of use without a bench.
    let sheets = release_store::sheets_for(&opened, common)?;
    let units = catalogue::attached(&opened, &sheets, common).unwrap_or_else(|error| {
        environment::announce(common, format!("The connected units are not known: {}", error.0.message));
        Vec::new()
    });
    let is_wanted = |listed: &&ListedRelease| args.channel.as_ref().is_none_or(|channel| *channel == listed.channel);
    let mut releases: Vec<&ListedRelease> = opened.releases().filter(is_wanted).collect();
    releases.sort_by(|a, b| {
        let newest_first = b.ordered().partial_cmp(&a.ordered()).unwrap_or(std::cmp::Ordering::Equal);
        a.product.cmp(&b.product).then(newest_first).then(b.date.cmp(&a.date))
    });
    if setting.format == OutputFormat::Json {
        releases.iter().for_each(|listed| print_event(listed, &opened, &units));
        return Ok(ExitCode::Done);
    }
    let list = &opened.catalogue.list;
    print_line(&format!(
        "Catalogue {} of {} from {}, signed by {}",
        list.number, list.date, opened.place, opened.signer
    ));
    if releases.is_empty() {
        print_line("No release is on this channel.");
    }
    for product in list.products() {
        let of_product: Vec<&ListedRelease> = releases.iter().filter(|one| one.product == product).copied().collect();
        if !of_product.is_empty() {
            print_line(&format!("\n{product}"));
            print_table(&of_product, &units);
        }
    }
    if !opened.left_out.is_empty() {
        print_line(&format!("\nNot listed, since its signer is not trusted for it: {}", opened.left_out.join(", ")));
    }
    print_next(args, &opened, &units, common);
    Ok(ExitCode::Done)
}

fn print_table(releases: &[&ListedRelease], units: &[AttachedProduct]) {
    let dash = |words: Vec<String>| if words.is_empty() { "-".to_owned() } else { words.join(", ") };
    let row = |listed: &&ListedRelease| {
        vec![
            listed.version.clone(),
            listed.date.clone(),
            listed.channel.clone(),
            listed.variants.join(", "),
            dash(units.iter().filter(|unit| unit.is_for(listed)).map(|unit| of_unit(unit, listed)).collect()),
            dash(listed.loses.iter().map(|loss| loss.what.clone()).collect()),
            obstacle(listed).unwrap_or_else(|| "usable".to_owned()),
        ]
    };
    let head = ["version", "date", "channel", "variants", "connected units", "loses", "state"];
    table::plain(&head, releases.iter().map(row).collect()).lines().for_each(print_line);
}

/// The unit, and how its version stands to the release.
fn of_unit(unit: &AttachedProduct, listed: &ListedRelease) -> String {
    let oldest = listed.updates_from.as_deref().map(vaka_base::version::Version::parse);
    let relation = match (&unit.version, oldest) {
        (Some(has), Some(oldest)) if *has < oldest => format!(" (has {has}; first {oldest})"),
        (Some(has), _) if *has == listed.ordered() => " (has it)".to_owned(),
        _ => String::new(),
    };
    format!("{}{relation}", unit.place)
}

/// Why a release cannot be installed, whatever the unit.
fn obstacle(listed: &ListedRelease) -> Option<String> {
    match (&listed.withdrawn, &listed.expires, &listed.needs_vaka) {
        (Some(withdrawn), _, _) => Some(format!("WITHDRAWN on {}: {}", withdrawn.date, withdrawn.why)),
        (_, Some(day), _) if keyring::today() > *day => Some(format!("expired after {day}")),
        (_, _, Some(needs)) if !origin::is_at_least(needs) => Some(format!("requires Vaka {needs}")),
        _ => None,
    }
}

/// Names the update of a unit that needs one: first of one that runs a withdrawn version.
fn print_next(args: &ListReleases, opened: &CheckedCatalogue, units: &[AttachedProduct], common: &Common) {
    let wanted = |unit: &AttachedProduct| {
        let (product, channel) = (Some(unit.product.as_str()), args.channel.as_deref());
        let query = ReleaseQuery { product, channel, version: VersionSelector::Newest };
        let (newest, _) = catalogue::pick(opened, &query, common).ok()?;
        if !unit.is_for(newest) || obstacle(newest).is_some() {
            return None;
        }
        let has = |listed: &ListedRelease| unit.version.as_ref().is_some_and(|has| *has == listed.ordered());
        let is_withdrawn =
            opened.releases().any(|listed| unit.is_for(listed) && listed.withdrawn.is_some() && has(listed));
        let is_older = unit.version.as_ref().is_none_or(|has| *has < newest.ordered());
        (is_withdrawn || is_older).then_some((!is_withdrawn, unit.place.clone()))
    };
    // The first of equal ones is the least.
    if let Some((_, place)) = units.iter().filter_map(wanted).min_by_key(|(order, _)| *order) {
        let channel = args.channel.as_ref().map_or(String::new(), |channel| format!(" --channel {channel}"));
        print_line(&format!("\nNext: vaka update --from {}{channel} --unit port={place}", opened.place));
    }
}

fn print_event(listed: &ListedRelease, opened: &CheckedCatalogue, units: &[AttachedProduct]) {
    let list = &opened.catalogue.list;
    let fits: Vec<&str> = units.iter().filter(|unit| unit.is_for(listed)).map(|unit| unit.place.as_str()).collect();
    let event = json!({
        "event": "listed-release",
        "release": listed,
        "units": fits,
        "catalogue": {
            "from": opened.place.to_string(),
            "number": list.number,
            "date": list.date,
            "fresh_until": list.fresh_until,
            "stale": list.is_stale(&keyring::today()),
            "signer": opened.catalogue.signer.to_string(),
        },
    });
    print_result(OutputFormat::Json, &event, || {});
}
