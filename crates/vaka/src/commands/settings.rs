//! `vaka settings save OUT` and `vaka settings load FILE`.

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};
use serde_json::json;
use vaka_base::checksum::sha256;
use vaka_base::text;
use vaka_boot::context::Context;
use vaka_boot::read_session::{self, ReadRequest, ReadSession, image_of};
use vaka_boot::update as job;
use vaka_core::event::{Event, ExitCode};
use vaka_core::settings_transfer::{Field, TransferableRegion};
use vaka_core::sheet::{Region, Sheet};
use vaka_core::unit::MemoryChoice;
use vaka_image::address::Span;
use vaka_image::{Image, hex};
use vaka_usb::SystemClock;

use super::{print_line, print_result};
use crate::args::{Common, SettingsCommand};
use crate::attempt;
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment;
use crate::files;
use crate::input_file;
use crate::output_options::OutputOptions;
use crate::prompt;
use crate::recording::JournalEntry;
use crate::render;
use vaka_messages::CommandError;

/// The version of the file's form. It is specified in `docs/formats/settings.md`.
const FORMAT: u32 = 1;

/// The file with a region's content.
#[derive(Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct SettingsFile {
    settings: u32,
    product: String,
    variant: String,
    region: String,
    /// Serial number of the unit that it was read from.
    serial: Option<String>,
    time: jiff::Timestamp,
    /// SHA-256 of the content.
    sha256: String,
    /// Hex digits, two for each byte.
    content: String,
}

pub fn run(command: &SettingsCommand, common: &Common, setting: &OutputOptions) -> Outcome {
    match command {
        SettingsCommand::Save { out, region, replace } => save(out, region, *replace, common, setting),
        SettingsCommand::Load { file, set } => load(file, set, common, setting),
    }
}

/// The sheets in which that region takes the place of the application.
fn sheets_for(region: &str, common: &Common) -> Result<Vec<Sheet>, CliError> {
    let sheets = environment::sheets(common)?;
    if sheets.is_empty() {
        return Err(environment::no_sheets());
    }
    let transferable: Vec<Sheet> = sheets.iter().filter_map(|sheet| sheet.for_transferable(region)).collect();
    if transferable.is_empty() {
        return Err(CommandError::NotTransferable { region: region.to_owned() }.into());
    }
    Ok(transferable)
}

/// The content of the region in a unit, with its description.
fn present(
    session: &mut ReadSession<'_>,
    name: &str,
    cx: &mut Context<'_>,
) -> Result<(Vec<u8>, Span, TransferableRegion), CliError> {
    let region: &Region = session.region(name)?;
    let missing = || CommandError::NotTransferableHere { region: name.to_owned() };
    let transferable = region.transferable.clone().ok_or_else(missing)?;
    let span = region.span;
    let parts = session.read(&[span], cx)?;
    let image = image_of(&parts, &[span]).ok_or_else(|| CliError::internal("the data read is not an image"))?;
    Ok((image.bytes(span).unwrap_or_default().to_vec(), span, transferable))
}

fn request(common: &Common) -> ReadRequest {
    ReadRequest {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: MemoryChoice::default(),
        wait: common.wait,
        wants_variant: true,
    }
}

fn save(out: &Path, region: &str, replace: bool, common: &Common, setting: &OutputOptions) -> Outcome {
    files::may_store(out, replace)?;
    let sheets = sheets_for(region, common)?;
    let bench = environment::bench(common, &sheets)?;
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, crate::signals::flag());
    let mut session = read_session::open_to_read(&bench, &request(common), &mut *prompt::at(common), &mut cx)?;
    let read = present(&mut session, region, &mut cx);
    let serial = session.serial().map(str::to_owned);
    let known = session
        .sheet()
        .zip(session.variant())
        .map(|(sheet, variant)| (sheet.product.id.clone(), variant.id.to_string()));
    session.leave(&mut cx);
    let (content, span, transferable) = read?;
    let (product, variant) = known.ok_or_else(|| CliError::internal("the unit has no product sheet"))?;
    let not_sound = |reason: String| CommandError::NotSound { region: region.to_owned(), reason };
    transferable.check(&content).map_err(|error| not_sound(error.to_string()))?;
    let file = SettingsFile {
        settings: FORMAT,
        product,
        variant,
        region: region.to_owned(),
        serial,
        time: jiff::Timestamp::now(),
        sha256: text::hex(&sha256(&content)),
        content: text::hex(&content),
    };
    let text = serde_json::to_string_pretty(&file).map_err(|error| CliError::internal(error.to_string()))?;
    files::store(out, replace, &[text.as_bytes(), b"\n"])?;
    let event = json!({
        "event": "settings",
        "state": "saved",
        "file": out,
        "region": region,
        "range": span,
        "product": file.product,
        "variant": file.variant,
        "per_unit": per_unit(&transferable, &content),
    });
    print_result(setting.format, &event, || {
        print_line(&format!("{}: region '{region}', {span}, of {} {}.", out.display(), file.product, file.variant));
        for field in &transferable.fields {
            if let Some(value) = field.value(&content) {
                print_line(&format!("  {} ({}): {value}; per-unit, not transferred", field.name, field.meaning));
            }
        }
    });
    Ok(ExitCode::Done)
}

fn load(path: &Path, set: &[(String, String)], common: &Common, setting: &OutputOptions) -> Outcome {
    let (text, file, content) = read_file(path)?;
    let sheets = sheets_for(&file.region, common)?;
    let bench = environment::bench(common, &sheets)?;
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, crate::signals::flag());
    let mut session = read_session::open_to_read(&bench, &request(common), &mut *prompt::at(common), &mut cx)?;
    let prepared = prepare(&mut session, &file, &SettingsSource { path, content: &content, set }, &mut cx);
    let (image, label, transferable) = match prepared {
        Ok(prepared) => prepared,
        Err(problem) => {
            session.leave(&mut cx);
            return Err(problem);
        }
    };
    session.stay(&mut cx);
    // The rest is an ordinary update of that region alone.
    let request = job::Request {
        unit: common.unit.clone(),
        label: Some(label),
        wait: common.wait,
        consents: common.allow.clone(),
        ..job::Request::new(&hex::write(&image))
    };
    let mut recording =
        JournalEntry::of(attempt::begun(attempt::file(path, text.as_bytes(), Some(&image)), Vec::new(), common));
    let mut show = |event: Event| renderer.event(event);
    let mut tell = |event| recording.pass(vaka_messages::event(event), &mut show);
    let mut cx = Context::new(&SystemClock, &mut tell, crate::signals::flag());
    let report = job::run(&bench, &request, &mut *prompt::at(common), &mut cx);
    let code = recording.code(report.code);
    if report.code == ExitCode::Done {
        let bytes = image.segments().first().map(|segment| segment.data()).unwrap_or_default();
        let event = json!({
            "event": "settings",
            "state": "loaded",
            "file": path,
            "region": file.region,
            "per_unit": per_unit(&transferable, bytes),
        });
        print_result(setting.format, &event, || {
            print_line(&format!("Loaded into '{}'. Per-unit fields, kept or given:", file.region));
            for field in &transferable.fields {
                let value = field.value(bytes).unwrap_or_default();
                print_line(&format!("  {} ({}): {value}", field.name, field.meaning));
            }
        });
    }
    Ok(code)
}

/// The values that each unit has of its own, by name.
fn per_unit(region: &TransferableRegion, content: &[u8]) -> BTreeMap<String, String> {
    let value = |field: &Field| Some((field.name.clone(), field.value(content)?));
    region.fields.iter().filter_map(value).collect()
}

/// The content to load into a unit.
struct SettingsSource<'s> {
    path: &'s Path,
    content: &'s [u8],
    /// Fields that are given on the command line.
    set: &'s [(String, String)],
}

/// The merged content for this unit, its label, and the description of the region.
fn prepare(
    session: &mut ReadSession<'_>,
    file: &SettingsFile,
    source: &SettingsSource<'_>,
    cx: &mut Context<'_>,
) -> Result<(Image, String, TransferableRegion), CliError> {
    let SettingsSource { path, content, set } = *source;
    let path = || path.to_owned();
    let product = session.sheet().map_or("no product", |sheet| &sheet.product.id);
    if product != file.product {
        let (of, unit) = (file.product.clone(), product.to_string());
        return Err(CommandError::OtherProduct { path: path(), of, unit }.into());
    }
    let (present, span, transferable) = present(session, &file.region, cx)?;
    let not_sound = |reason: String| CommandError::SettingsNotSound { path: path(), reason };
    transferable.check(content).map_err(|error| not_sound(error.to_string()))?;
    let given = |field: &Field| set.iter().any(|(name, _)| *name == field.name);
    if let Err(error) = transferable.check(&present)
        && !transferable.fields.iter().all(given)
    {
        let open = transferable.fields.iter().filter(|field| !given(field));
        let names = open.map(|field| field.name.clone()).collect();
        return Err(CommandError::ValuesNeeded { reason: error.to_string(), names }.into());
    }
    let not_merged = |reason: String| CommandError::NotMerged { path: path(), reason };
    let merged = transferable.merge(content, &present, set).map_err(|error| not_merged(error.to_string()))?;
    let image = Image::from_memory(&[(span.start(), merged)]).ok_or_else(|| CliError::internal("no image"))?;
    let label = session.variant().map(|variant| variant.id.to_string()).unwrap_or_default();
    Ok((image, label, transferable))
}

/// The text of the file, and its content.
fn read_file(path: &Path) -> Result<(String, SettingsFile, Vec<u8>), CliError> {
    let damaged = |reason: String| CliError::from(CommandError::NoSettings { path: path.to_owned(), reason });
    let text = input_file::record(path)?;
    let file: SettingsFile = serde_json::from_str(&text).map_err(|error| {
        damaged(format!("this is not a file of 'vaka settings save': {}", text::sanitize(&error.to_string())))
    })?;
    if file.settings != FORMAT {
        return Err(damaged(format!("it has format {}; this Vaka reads format {FORMAT}", file.settings)));
    }
    let content = text::parse_hex(&file.content).ok_or_else(|| damaged("its content is not hex digits".into()))?;
    if text::hex(&sha256(&content)) != file.sha256 {
        return Err(damaged("its digest does not match its content: it was changed or truncated".into()));
    }
    Ok((text, file, content))
}
