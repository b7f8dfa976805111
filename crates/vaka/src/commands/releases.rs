//! `vaka releases`: the releases of a catalogue, and the connected units that they fit.

use serde_json::json;
use vaka_core::event::ExitCode;
use vaka_core::release::catalogue::ListedRelease;

use super::{print_line, print_result};
use crate::args::{Common, ListReleases, OutputFormat};
use crate::catalogue::{self, AttachedProduct, CheckedCatalogue};
use crate::cli_error::Outcome;
use crate::output_options::OutputOptions;
use crate::render::table;
use crate::{environment, keyring, release_store};

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
    print_next(&opened, &units);
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
            state(listed),
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

fn state(listed: &ListedRelease) -> String {
    if let Some(withdrawn) = &listed.withdrawn {
        return format!("WITHDRAWN on {}: {}", withdrawn.date, withdrawn.why);
    }
    match &listed.expires {
        Some(day) if keyring::today() > *day => format!("expired after {day}"),
        _ => "usable".to_owned(),
    }
}

fn print_next(opened: &CheckedCatalogue, units: &[AttachedProduct]) {
    let is_usable = |listed: &ListedRelease| listed.withdrawn.is_none();
    let unit = units.iter().find(|unit| opened.releases().any(|listed| unit.is_for(listed) && is_usable(listed)));
    if let Some(unit) = unit {
        print_line(&format!("\nNext: vaka update --from {} --unit port={}", opened.place, unit.place));
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
