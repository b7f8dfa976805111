//! `vaka sheet show`: a sheet, for reading.

use std::path::Path;

use serde_json::{Value, json};
use vaka_base::size::Bytes;
use vaka_core::event::ExitCode;
use vaka_core::sheet::{
    Application, EntryStep, Ids, ImageRules, ManualStep, ReportedFlash, Route, Sheet, UndoPhase, Variant,
    VersionSource, undone,
};

use super::print_line;
use crate::args::OutputFormat;
use crate::cli_error::Outcome;
use crate::environment;
use crate::input_file;
use crate::render::{json, table};

/// A sheet as an event.
fn event(file: &Path, sheet: &Sheet) -> Value {
    let route = |route: &Route| {
        let writes: Vec<&str> = route.writes.iter().map(|region| region.name.as_str()).collect();
        json!({ "kind": route.kind.to_string(), "id": route.id.to_string(), "writes": writes })
    };
    let image = |rules: &ImageRules| json!({ "region": rules.region.name, "required": rules.is_required, "any_file": rules.any_file.is_some() });
    let variant = |variant: &Variant| {
        let regions = variant.regions.iter().map(|region| json!({ "name": region.name, "range": region.span }));
        json!({
            "id": variant.id,
            "name": variant.name,
            "regions": regions.collect::<Vec<_>>(),
            "images": variant.images().map(image).collect::<Vec<_>>(),
            "table": variant.table.as_ref().map(|table| &table.region.name),
            "reported_flash": variant.reported_flash.as_ref().map(|reported| json!({ "least": reported.least, "told": reported.told })),
            "slots": variant.slots.as_ref().map(|slots| slots.regions().map(|region| &region.name).collect::<Vec<_>>()),
            "routes": variant.routes.iter().map(route).collect::<Vec<_>>(),
        })
    };
    json!({
        "event": "sheet",
        "file": file,
        "product": sheet.product.id,
        "name": sheet.product.name,
        "variants": sheet.variants.iter().map(variant).collect::<Vec<_>>(),
    })
}

pub fn run(file: &Path, format: OutputFormat) -> Outcome {
    let text = input_file::text(file)?;
    let sheet = Sheet::parse_with(&file.display().to_string(), &text, &environment::dialects_beside(file)?)?;
    if format == OutputFormat::Json {
        json::line(&event(file, &sheet));
        return Ok(ExitCode::Done);
    }
    head(&sheet);
    for variant in &sheet.variants {
        print_line("");
        show(&sheet, variant);
    }
    for stage in &sheet.stages {
        let changes = if stage.replaces_bootloader { ", which replaces the bootloader" } else { "" };
        print_line(&format!("\nStage {}, {}{changes}", stage.id, stage.name));
        line("after it", &application(&stage.shows));
        let mut before: Option<(String, Rows)> = None;
        for (variant, images) in &stage.images {
            let regions: Vec<String> = images.iter().map(rules).collect();
            line(variant.as_str(), &regions.join("; "));
            let ways: Rows = stage.routes.get(variant).into_iter().flatten().flat_map(route).collect();
            match &before {
                Some((other, same)) if *same == ways => line("", &format!("by the same steps as {other}")),
                _ => say_all(ways.clone()),
            }
            before.get_or_insert((variant.to_string(), ways));
        }
    }
    Ok(ExitCode::Done)
}

/// Names and values, one fact a line.
type Rows = Vec<(&'static str, String)>;

fn say_all(lines: impl IntoIterator<Item = (&'static str, String)>) {
    lines.into_iter().for_each(|(name, value)| line(name, &value));
}

/// Prints one aligned fact.
fn line(name: &str, value: &str) {
    print_line(&format!("  {name:<12}{value}"));
}

fn head(sheet: &Sheet) {
    let product = &sheet.product;
    let also = if product.also_sold_as.is_empty() {
        String::new()
    } else {
        format!(", also sold as {}", product.also_sold_as.join(", "))
    };
    print_line(&format!("{} ({}) by {}{also}", product.name, product.id, product.maker));
    line("application", &application(&sheet.application));
    for part in &sheet.parts {
        line(&format!("part {}", part.id), &format!("{}; version {}", part.name, source(&part.version)));
    }
    for label in &product.ambiguous_labels {
        line("no matter", &format!("\"{}\" on the {}: {}", label.reads, label.place, label.why));
    }
    for companion in &product.companions {
        line("beside it", &format!("{}, {}", companion.id, companion.name));
    }
}

fn application(application: &Application) -> String {
    let id = application.id.as_ref().map_or("has no USB device".to_owned(), Ids::to_string);
    let named = application.signs.product.as_ref().map(|product| format!(" \"{product}\"")).unwrap_or_default();
    let see = if application.see.is_empty() {
        String::new()
    } else {
        format!("; visible signs: {}", application.see.join("; "))
    };
    format!("{id}{named}; version {}{see}", source(&application.version))
}

fn source(source: &VersionSource) -> String {
    match source {
        VersionSource::Nowhere => "told nowhere".to_owned(),
        VersionSource::ReleaseNumber => "in its release number".to_owned(),
        VersionSource::Text { file, after } => format!("in {file} after \"{after}\""),
        VersionSource::DescriptorString { after, .. } => format!("in its strings after \"{after}\""),
        VersionSource::Told { name } => format!("as '{name}' when it confirms in its dialect"),
        VersionSource::Line { after, .. } => format!("on its serial port after \"{after}\""),
    }
}

fn show(sheet: &Sheet, variant: &Variant) {
    let part = sheet.part_of(variant).map(|part| format!(", {}", part.name)).unwrap_or_default();
    print_line(&format!("Variant {}, {}{part}", variant.id, variant.name));
    for look in &variant.look_at {
        line("look at", &format!("{}: \"{}\"", look.place, look.reads));
    }
    line("flash", &variant.flash.to_string());
    if let Some(reported) = &variant.reported_flash {
        line("", &format!("a unit reports its size, from {} on{}", Bytes(reported.least), told_as(reported)));
    }
    if let Some(ram) = variant.ram {
        line("RAM", &ram.to_string());
    }
    line("image", &image(variant, &variant.image));
    for further in &variant.further {
        let required = if further.is_required { "" } else { " (not in every update)" };
        line("image too", &format!("{}{required}", image(variant, further)));
    }
    if let Some(table) = &variant.table {
        line("table", &format!("in region '{}': it gives the regions their places", table.region.name));
    }
    if let Some(slots) = &variant.slots {
        let regions: Vec<&str> = slots.regions().map(|region| region.name.as_str()).collect();
        line("", &format!("the unit selects one of {} by its '{}'", regions.join(", "), slots.by));
    }
    for fact in &variant.facts {
        line("fact", &format!("{} = {}", fact.name, fact.value));
    }
    let row = |region: &vaka_core::sheet::Region| {
        let may = match (region.may_read, region.may_write, &region.transferable) {
            (_, false, _) | (false, ..) => "kept to itself",
            (.., Some(_)) => "transferable to another unit",
            _ => "",
        };
        vec![region.name.clone(), region.span.to_string(), Bytes(region.span.len()).to_string(), may.to_owned()]
    };
    let rows = variant.regions.iter().map(row).collect();
    let regions = table::plain(&[], rows);
    for (index, region) in regions.lines().enumerate() {
        line(if index == 0 { "regions" } else { "" }, region.trim_start());
    }
    say_all(variant.routes.iter().flat_map(route));
    if let Some(instead) = &variant.instead {
        line("no route", instead);
    }
}

fn told_as(reported: &ReportedFlash) -> String {
    reported.told.as_ref().map(|name| format!(", as '{name}'")).unwrap_or_default()
}

/// The rules of an image; files for a disk have their endings.
fn image(variant: &Variant, image: &ImageRules) -> String {
    match &image.any_file {
        None => rules(image),
        Some(_) => match &variant.file_endings()[..] {
            [] => "any file for the disk".to_owned(),
            endings => format!("any file for the disk, named *.{}", endings.join(", *.")),
        },
    }
}

fn rules(rules: &ImageRules) -> String {
    let marks: Vec<&str> = rules.marks.iter().map(|mark| mark.meaning.as_str()).collect();
    let marks = if marks.is_empty() { String::new() } else { format!(", with {}", marks.join(", ")) };
    let minimum_version = rules
        .minimum_version
        .as_ref()
        .map(|(minimum_version, _)| format!(", minimum version {minimum_version}"))
        .unwrap_or_default();
    format!("region '{}' from {} on{marks}{minimum_version}", rules.region.name, rules.region.span.start())
}

/// A route with its manual steps.
fn route(route: &Route) -> Rows {
    let regions: Vec<&str> = route.writes.iter().map(|region| region.name.as_str()).collect();
    let mut lines = vec![("route", format!("{} as {}, writes {}", route.kind, route.id, regions.join(", ")))];
    for (number, step) in (1..).zip(&route.entry) {
        lines.push(match step {
            EntryStep::Manual(step) => ("", format!("{number}. {}", words(step))),
            EntryStep::Signal(signal) => ("", format!("{number}. {signal}")),
        });
    }
    for moment in [UndoPhase::Entered, UndoPhase::Written, UndoPhase::End] {
        let when = match moment {
            UndoPhase::Entered => "in update mode",
            UndoPhase::Written => "before the restart",
            UndoPhase::End => "at the end",
        };
        for (_, undo) in undone(&route.manual_steps(), moment).unwrap_or_default() {
            lines.push(("", format!("{when}: {}", undo.action)));
        }
    }
    lines.extend(route.documented.iter().map(|place| ("", format!("documented in: {place}"))));
    lines
}

fn words(step: &ManualStep) -> String {
    let only_if = step.only_if.as_ref().map(|when| format!("If {when}: ")).unwrap_or_default();
    let advised = if step.advised { " (advised)" } else { "" };
    format!("{only_if}{}{advised}", step.action)
}
