//! `vaka journal`

use std::path::Path;
use std::time::Duration;

use serde::Serialize;
use serde_json::json;
use vaka_base::duration::measured;
use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_boot::bench::selector::Selector;
use vaka_core::event::ExitCode;
use vaka_core::unit::DeviceId;

use super::{print_line, print_result};
use crate::args::{Common, Journal, OutputFormat};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::files;
use crate::journal::{self, Record, units};
use crate::output_options::OutputOptions;
use crate::render::{json as json_out, table};
use crate::report;
use vaka_messages::CommandError;

pub fn run(args: &Journal, common: &Common, setting: &OutputOptions) -> Outcome {
    let path = journal::path().ok_or_else(|| CliError::internal("this system has no state folder"))?;
    let (records, torn) = journal::read(&path).map_err(|error| CliError::file(&path, error))?;
    if torn > 0 && !setting.quiet {
        let lines = text::count(torn, "line");
        crate::render::wrap::err!("{}: {lines} could not be read and were skipped.", path.display());
    }
    let since = args.since.as_deref().map(moment).transpose().map_err(CliError::usage)?;
    let chosen: Vec<&Record> =
        records.iter().filter(|record| fits(record, args, common.unit.as_ref(), since)).collect();
    if let Some(id) = &args.attempt {
        let record = chosen
            .iter()
            .find(|record| record.attempt == *id)
            .ok_or_else(|| CommandError::NoAttempt { id: id.clone() })?;
        return one(record, args, setting.format);
    }
    if let Some(out) = &args.csv {
        write(out, &csv(&chosen))?;
    }
    if let Some(out) = &args.report {
        let page = report::page(&chosen).map_err(|error| CliError::internal(format!("the report: {error}")))?;
        write(out, &page)?;
    }
    if args.csv.is_none() && args.report.is_none() {
        list(&chosen, setting);
    }
    Ok(ExitCode::Done)
}

fn write(path: &Path, text: &str) -> Result<(), CliError> {
    files::store(path, true, &[text.as_bytes()])?;
    print_line(&format!("{}: written.", path.display()));
    Ok(())
}

/// `2026-11-23`, `2026-11-23T08:00` in local time, or a time back, as `12h`.
fn moment(text: &str) -> Result<jiff::Timestamp, String> {
    let now = jiff::Timestamp::now();
    if let Ok(back) = vaka_base::duration::parse(text) {
        return now.checked_sub(back).map_err(|error| error.to_string());
    }
    let back = [('h', 3600), ('d', 86_400)].iter().find_map(|(unit, seconds)| {
        let count = text.strip_suffix(*unit)?.trim().parse::<u32>().ok()?;
        Some(std::time::Duration::from_secs(u64::from(count) * seconds))
    });
    if let Some(back) = back {
        return now.checked_sub(back).map_err(|error| error.to_string());
    }
    let local = text.parse::<jiff::civil::DateTime>().or_else(|_| text.parse::<jiff::civil::Date>().map(Into::into));
    let zoned = local.and_then(|local| local.to_zoned(jiff::tz::TimeZone::system()));
    zoned
        .map(|zoned| zoned.timestamp())
        .map_err(|_| format!("'{text}' is not a time; write it like 2026-11-23, 12h or 3d"))
}

fn fits(record: &Record, args: &Journal, unit: Option<&Selector>, since: Option<jiff::Timestamp>) -> bool {
    since.is_none_or(|since| record.started.time >= since)
        && unit.is_none_or(|selector| is_of(record, selector))
        && (!args.failed || !record.is_good())
}

/// Whether the unit of an attempt matches a selector.
fn is_of(record: &Record, selector: &Selector) -> bool {
    let has_id = |wanted: &str| record.ended.iter().flat_map(|ended| &ended.ids).any(|id| id == wanted);
    let result = record.result();
    let is =
        |field: &Option<String>, wanted: &str| field.as_ref().is_some_and(|text| text.eq_ignore_ascii_case(wanted));
    let has_serial = |wanted: &str| record.serials().iter().any(|serial| serial.eq_ignore_ascii_case(wanted));
    let named = |wanted: &str| is(&result.product, wanted) || is(&result.variant, wanted);
    match selector {
        Selector::Id(id) => has_id(&id.to_string()),
        Selector::Serial(wanted) | Selector::Node(wanted) => has_serial(wanted),
        Selector::Programmer(wanted) => has_id(&format!("{}{wanted}", DeviceId::TARGET)),
        Selector::Port(wanted) => is(&result.unit, wanted),
        Selector::Name(wanted) => named(wanted),
        // The folder of a disk is temporary and not recorded.
        Selector::Folder(_) => false,
        Selector::Any(wanted) => has_id(wanted) || has_serial(wanted) || is(&result.unit, wanted) || named(wanted),
    }
}

fn list(records: &[&Record], setting: &OutputOptions) {
    if setting.format == OutputFormat::Json {
        records.iter().for_each(|record| json_out::line(&AttemptEvent { record }));
        return;
    }
    if records.is_empty() {
        print_line("No matching records.");
        return;
    }
    let head = ["attempt", "unit", "serial number", "product", "file", "outcome", "check", "after", "took"];
    print_block(&table::plain(&head, records.iter().map(|record| row(record)).collect()));
    let good = records.iter().filter(|record| record.is_good()).count();
    print_line(&format!(
        "{}, {good} of them successful. 'vaka journal ATTEMPT' shows one in full.",
        text::count(records.len(), "attempt")
    ));
    list_pending_undo(records);
}

/// Lists the units whose last attempt left steps to undo.
fn list_pending_undo(records: &[&Record]) {
    for unit in units(records) {
        let Some(last) = unit.attempts.last().filter(|last| !last.pending_undo().is_empty()) else { continue };
        print_line("");
        print_line(&format!("Pending undo actions on {}, in this order:", unit.name()));
        for (number, step) in (1..).zip(last.pending_undo()) {
            print_line(&format!("  {number}. {step}"));
        }
    }
}

fn print_block(block: &str) {
    block.lines().for_each(print_line);
}

fn row(record: &Record) -> Vec<String> {
    let result = record.result();
    let text = |field: &Option<String>| field.clone().unwrap_or_else(|| "-".to_owned());
    let product = match (record.result().product.as_deref(), record.result().variant.as_deref()) {
        (Some(product), Some(variant)) => format!("{product} {variant}"),
        (product, _) => product.unwrap_or("-").to_owned(),
    };
    let took = record.ended.as_ref().map(|ended| ended.time.duration_since(record.started.time));
    let took = took.and_then(|time| time.try_into().ok()).map(vaka_base::duration::measured);
    vec![
        record.attempt.clone(),
        text(&result.unit),
        serials(record),
        product,
        Path::new(&record.started.file.name).file_name().map_or("-".into(), |name| name.to_string_lossy().into_owned()),
        record.outcome().to_owned(),
        text(&result.check),
        text(&result.after),
        took.unwrap_or_else(|| "-".to_owned()),
    ]
}

fn serials(record: &Record) -> String {
    let serials = record.serials();
    if serials.is_empty() { "-".to_owned() } else { serials.join(", ") }
}

/// Prints one attempt in full, or writes it as a statement.
fn one(record: &Record, args: &Journal, format: OutputFormat) -> Outcome {
    if let Some(out) = &args.attest {
        let statement = statement(record)?;
        let text = serde_json::to_string_pretty(&statement).map_err(|error| CliError::internal(error.to_string()))?;
        write(out, &format!("{text}\n"))?;
        return Ok(ExitCode::Done);
    }
    print_result(format, &AttemptEvent { record }, || in_words(record));
    Ok(ExitCode::Done)
}

/// A record as an event.
#[derive(Serialize)]
#[serde(tag = "event", rename = "attempt")]
struct AttemptEvent<'r> {
    #[serde(flatten)]
    record: &'r Record,
}

/// Prints one attempt in full.
fn in_words(record: &Record) {
    let line = |name: &str, text: &str| print_line(&format!("  {name:<16}{text}"));
    let some = |name: &str, text: Option<&str>| text.into_iter().for_each(|text| line(name, text));
    let (start, result) = (&record.started, record.result());
    let local = |time: jiff::Timestamp| {
        time.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S %Z").to_string()
    };
    print_line(&format!("Attempt {}: {}", record.attempt, record.outcome()));
    line("started", &local(start.time));
    some("by", start.build.as_ref().map(|build| format!("Vaka {} ({build})", start.vaka)).as_deref());
    some("ended", record.ended.as_ref().map(|ended| local(ended.time)).as_deref());
    let product = [&result.product, &result.variant].map(|text| text.as_deref().unwrap_or_default()).join(" ");
    some("unit", result.unit.as_ref().map(|unit| format!("{unit}, {}", product.trim())).as_deref());
    line("serial number", &serials(record));
    for file in start.files() {
        line("file", &format!("{}, {}", file.name, Bytes(file.size)));
        line("SHA-256", &file.sha256);
        some("of its content", file.content_sha256.as_deref());
    }
    if let Some(of) = &start.release {
        let stage = format!("stage {} of {}", of.stage, of.stages);
        line("release", &format!("{} {} ({}), build {}, {stage}", of.product, of.version, of.channel, of.build));
    }
    some("label", start.label.as_deref());
    if let Some(ended) = &record.ended {
        let name = if record.is_read() { "version" } else { "version before" };
        some(name, ended.version_before.as_deref());
        some("version after", record.version_after());
        some("verdict", ended.verdict.as_deref());
        ended.conflicts.iter().for_each(|conflict| line("conflict", conflict));
        ended.consents.iter().for_each(|id| line("allowed", id));
        some("check", result.check.as_deref());
        some("after", result.after.as_deref());
        let bytes = [
            (result.bytes_written, "written"),
            (result.bytes_checked, "checked"),
            (result.bytes_skipped, "already present"),
        ];
        let bytes = bytes.iter().filter_map(|(count, word)| Some(format!("{} {word}", Grouped((*count)?))));
        some("bytes", not_empty(bytes.collect()).as_deref());
        some("backup", result.backup.as_deref());
        some("state", result.state.as_deref());
        let time = |(step, ms): &(String, u64)| format!("{step} {}", measured(Duration::from_millis(*ms)));
        some("time", not_empty(result.durations_ms.iter().map(time).collect()).as_deref());
    }
    some("error", record.error());
    record.pending_undo().iter().for_each(|step| line("still to undo", step));
}

/// A list in one line, if it has items.
fn not_empty(items: Vec<String>) -> Option<String> {
    (!items.is_empty()).then(|| items.join(", "))
}

/// An in-toto statement. Its subject is the content that was read back, so an attempt without a
/// complete read-back has none. Source: in-toto Attestation Framework, Statement v1.
fn statement(record: &Record) -> Result<serde_json::Value, CliError> {
    if record.result().check.as_deref() != Some("read-back") {
        return Err(CommandError::NotReadBack.into());
    }
    let name = match (record.result().product.as_deref(), record.result().serial.as_deref()) {
        (Some(product), Some(serial)) => format!("{product}, serial number {serial}"),
        (product, _) => product.unwrap_or("unit").to_owned(),
    };
    let is_several = !record.started.further_files.is_empty();
    let subjects = record.started.files().map(|file| {
        let digest = file.content_sha256.as_ref().ok_or_else(|| CliError::from(CommandError::NotReadBack))?;
        let name = if is_several { format!("{name}, {}", file.name) } else { name.clone() };
        Ok(json!({ "name": name, "digest": { "sha256": digest } }))
    });
    let subjects = subjects.collect::<Result<Vec<_>, CliError>>()?;
    Ok(json!({
        "_type": "https://in-toto.io/Statement/v1",
        "subject": subjects,
        "predicateType": "urn:vaka:firmware-update:1",
        "predicate": record,
    }))
}

/// One value of a table. Spreadsheets run a cell that begins like a formula, so a quote precedes it.
fn cell(field: &str) -> String {
    let mut shown = text::visible(field);
    if shown.starts_with(['=', '+', '-', '@']) {
        shown.insert(0, '\'');
    }
    match shown.contains(['"', ',']) {
        true => format!("\"{}\"", shown.replace('"', "\"\"")),
        false => shown,
    }
}

/// Comma-separated values. Source: RFC 4180.
fn csv(records: &[&Record]) -> String {
    let head = [
        "attempt",
        "started",
        "ended",
        "unit",
        "ids",
        "serial",
        "bootloader_serial",
        "product",
        "variant",
        "file",
        "sha256",
        "version_before",
        "verdict",
        "consents",
        "outcome",
        "code",
        "check",
        "after",
        "bytes_written",
        "bytes_checked",
        "bytes_skipped",
        "state",
        "disconnects",
        "pending_undo",
        "error",
    ];
    let mut out = head.join(",") + "\r\n";
    for record in records {
        let ended = record.ended.as_ref();
        let result = record.result();
        let text = |field: &Option<String>| field.clone().unwrap_or_default();
        let number = |field: Option<u64>| field.map(|number| number.to_string()).unwrap_or_default();
        let fields = [
            record.attempt.clone(),
            record.started.time.to_string(),
            ended.map(|ended| ended.time.to_string()).unwrap_or_default(),
            text(&result.unit),
            ended.map(|ended| ended.ids.join(" ")).unwrap_or_default(),
            text(&result.serial),
            text(&result.bootloader_serial),
            text(&result.product),
            text(&result.variant),
            record.started.files().map(|file| file.name.as_str()).collect::<Vec<_>>().join("; "),
            record.started.files().map(|file| file.sha256.as_str()).collect::<Vec<_>>().join(" "),
            ended.and_then(|ended| ended.version_before.clone()).unwrap_or_default(),
            ended.and_then(|ended| ended.verdict.clone()).unwrap_or_default(),
            ended.map(|ended| ended.consents.join(" ")).unwrap_or_default(),
            record.outcome().to_owned(),
            number(result.code),
            text(&result.check),
            text(&result.after),
            number(result.bytes_written),
            number(result.bytes_checked),
            number(result.bytes_skipped),
            text(&result.state),
            number(result.disconnects),
            record.pending_undo().join("; "),
            record.error().unwrap_or_default().to_owned(),
        ];
        out += &fields.map(|field| cell(&field)).join(",");
        out += "\r\n";
    }
    out
}
