//! Evaluation of the common options: buses, sheets, output.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use vaka_boot::bench::adapter_source::AdapterSource;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::node_bus::NodeBus;
use vaka_boot::bench::programmer_bus::ProgrammerBus;
use vaka_boot::bench::selector::Selector;
use vaka_core::event::Event;
use vaka_core::sheet::{Dialects, Ids, Sheet, SheetErrors};
use vaka_dialect::Dialect;
use vaka_image::wrapper::Unwrapped;
use vaka_image::{FirmwareFile, ReadOptions};
use vaka_usb::native::NativeBus;
use vaka_usb::trace::TracedBus;
use vaka_usb::usbip::UsbIpBus;
use vaka_usb::{Bus, SystemClock};

use crate::args::{Common, OutputFormat};
use crate::cli_error::CliError;
use crate::config;
use crate::input_file;
use crate::lock::Locks;
use crate::render::json;
use crate::render::wrap::err;
use crate::secrets;
use crate::signals;
use crate::trace;
use vaka_messages::CommandError;

/// The buses of the command line, traced if requested.
pub fn buses(common: &Common) -> Result<Vec<Arc<dyn Bus>>, CliError> {
    signals::units_in_use();
    let buses = plain_buses(common)?;
    let Some(path) = &common.trace else { return Ok(buses) };
    let sink = trace::begin(path)?;
    Ok(buses.into_iter().map(|bus| Arc::new(TracedBus::new(bus, sink.clone())) as Arc<dyn Bus>).collect())
}

/// The beginning of the name of a CAN bus in `--bus`.
const CAN: &str = "can:";

fn plain_buses(common: &Common) -> Result<Vec<Arc<dyn Bus>>, CliError> {
    let names: Vec<&String> = common.bus.iter().filter(|name| !name.starts_with(CAN)).collect();
    if names.is_empty() {
        return Ok(vec![Arc::new(NativeBus::new())]);
    }
    let mut buses: Vec<Arc<dyn Bus>> = Vec::new();
    for name in names {
        let bus: Arc<dyn Bus> = match name.as_str() {
            NativeBus::NAME => Arc::new(NativeBus::new()),
            _ => Arc::new(UsbIpBus::new(name).map_err(CliError::usage)?),
        };
        if !buses.iter().any(|other| other.name() == bus.name()) {
            buses.push(bus);
        }
    }
    Ok(buses)
}

/// The bench of the command line.
pub fn bench<'a>(common: &Common, sheets: &'a [Sheet]) -> Result<Bench<'a>, CliError> {
    Ok(bench_on(all_buses(common, sheets)?, common, sheets))
}

/// The buses of the command line, the nodes on the CAN buses of their adapters, and the target of the
/// programmer that the user names.
pub fn all_buses(common: &Common, sheets: &[Sheet]) -> Result<Vec<Arc<dyn Bus>>, CliError> {
    let mut buses = buses(common)?;
    if let Some(nodes) = node_bus(common, sheets, &buses)? {
        buses.push(Arc::new(nodes));
    }
    // A chip that is wired to a programmer is a unit only if the user names the programmer.
    if let Some(Selector::Programmer(_)) = common.unit {
        let plugged = buses.iter().filter(|bus| bus.name() != NodeBus::NAME).cloned().collect();
        buses.push(Arc::new(ProgrammerBus::new(plugged, sheets)));
    }
    Ok(buses)
}

/// The nodes on the CAN buses that the command line names, or whose adapters a sheet names. Without a
/// sheet of nodes no frame is sent.
fn node_bus(common: &Common, sheets: &[Sheet], buses: &[Arc<dyn Bus>]) -> Result<Option<NodeBus>, CliError> {
    let mut sources = Vec::new();
    for name in common.bus.iter().filter_map(|name| name.strip_prefix(CAN)) {
        sources.push(adapter(name, buses)?);
    }
    let mut dialects: Vec<Arc<Dialect>> = Vec::new();
    for dialect in sheets.iter().flat_map(Sheet::node_dialects) {
        if !dialects.iter().any(|known| known.name == dialect.name) {
            dialects.push(dialect);
        }
    }
    if dialects.is_empty() {
        return if sources.is_empty() { Ok(None) } else { Err(CommandError::NoNodeDialects.into()) };
    }
    let ids: Vec<Ids> = sheets.iter().flat_map(|sheet| sheet.product.adapters.iter().cloned()).collect();
    if sources.is_empty() && !ids.is_empty() {
        sources.extend(buses.iter().map(|bus| AdapterSource::with_ids(bus.clone(), ids.clone())));
    }
    Ok((!sources.is_empty()).then(|| NodeBus::new(sources, dialects, Arc::new(SystemClock))))
}

/// The adapter that `--bus can:NAME` names: a USB port if the name is one, otherwise a network interface.
fn adapter(name: &str, buses: &[Arc<dyn Bus>]) -> Result<AdapterSource, CliError> {
    let is_port = name.starts_with(|c: char| c.is_ascii_digit());
    match buses.first().filter(|_| is_port) {
        Some(bus) => Ok(AdapterSource::port(bus.clone(), name)),
        #[cfg(target_os = "linux")]
        None if !name.is_empty() => Ok(AdapterSource::interface(name)),
        None => Err(CommandError::NoSuchCanBus { name: name.to_owned() }.into()),
    }
}

/// A bench of these buses, with the locks, places and secrets of the command line.
pub fn bench_on<'a>(buses: Vec<Arc<dyn Bus>>, common: &Common, sheets: &'a [Sheet]) -> Bench<'a> {
    Bench::new(buses, sheets).guarded(Arc::new(Locks)).with_places(&common.places).with_secrets(secrets::source(common))
}

/// The sheets of the given folder or file, else of the configuration folder. In a folder, an
/// unsound sheet is skipped with a warning, unless it may describe the units of another sheet.
pub fn sheets(common: &Common) -> Result<Vec<Sheet>, CliError> {
    let path = match &common.sheets {
        Some(path) => path.clone(),
        None => match default_folder().filter(|folder| folder.is_dir()) {
            Some(folder) => folder,
            None => return Ok(Vec::new()),
        },
    };
    let (dialects, unsound_dialects) = dialects_in(&path)?;
    let mut sheets: Vec<Sheet> = Vec::new();
    let mut unsound = Vec::new();
    for file in sheet_files(&path)? {
        let text = input_file::text(&file)?;
        let sheet = match Sheet::parse_with(&file.display().to_string(), &text, &dialects) {
            Ok(sheet) => sheet,
            Err(errors) => {
                unsound.push((file, text, errors));
                continue;
            }
        };
        if let Some(other) = sheets.iter().find(|other| other.product.id == sheet.product.id) {
            let product = other.product.id.clone();
            return Err(CommandError::SheetTwice { path: file, product }.into());
        }
        sheets.push(sheet);
    }
    skip_unsound(unsound, unsound_dialects, &sheets, common)?;
    if let (Some(part), false) = (&common.part, sheets.is_empty()) {
        return only_part(&sheets, part);
    }
    if sheets.is_empty() && common.sheets.is_some() {
        return Err(CommandError::NoSheetsIn { path }.into());
    }
    Ok(sheets)
}

/// Warns of each unsound sheet.
///
/// # Errors
/// No sheet is sound, or an unsound one names the ids of a sound one: the units of both cannot be
/// told apart without it.
fn skip_unsound(
    unsound: Vec<(PathBuf, String, SheetErrors)>,
    unsound_dialects: Vec<CliError>,
    sheets: &[Sheet],
    common: &Common,
) -> Result<(), CliError> {
    let shown = sheets.iter().flat_map(all_ids).map(|(ids, _)| ids);
    let companions = sheets.iter().flat_map(|sheet| &sheet.product.companions).map(|companion| &companion.id);
    let known: Vec<String> = shown.chain(companions).flat_map(patterns).collect();
    let mut unsound_dialects = unsound_dialects.into_iter();
    for (file, text, errors) in unsound {
        let named = named_ids(&text);
        let is_needed = sheets.is_empty() || named.iter().any(|id| known.iter().any(|known| may_be_same(id, known)));
        if is_needed {
            // A sheet lacks a dialect that cannot be read: its errors are the cause.
            return Err(unsound_dialects.next().unwrap_or_else(|| errors.into()));
        }
        warn(common, vaka_messages::sheet_skipped(&file, errors.0.len()));
    }
    Ok(())
}

/// The patterns of ids: `1209:0001`.
pub fn patterns(ids: &Ids) -> Vec<String> {
    ids.to_string().split(" or ").map(str::to_owned).collect()
}

/// All texts in the form of USB ids in a sheet that cannot be read.
fn named_ids(text: &str) -> Vec<String> {
    let is_half = |half: &str| half.len() == 4 && half.chars().all(|c| c.is_ascii_hexdigit() || c == '?' || c == '*');
    let words = text.split(|c: char| !(c.is_ascii_hexdigit() || matches!(c, ':' | '?' | '*')));
    let ids = words.filter(|word| word.split_once(':').is_some_and(|(a, b)| is_half(a) && (is_half(b) || b == "*")));
    ids.map(str::to_lowercase).collect()
}

/// Whether two patterns of ids may match the same unit.
fn may_be_same(a: &str, b: &str) -> bool {
    let is_wild = |text: &str| text.contains(['?', '*']);
    a == b || is_wild(a) || is_wild(b)
}

/// Prints a warning, unless one line is wanted.
fn warn(common: &Common, text: String) {
    if common.format == OutputFormat::Json || !common.quiet {
        announce(common, text);
    }
}

/// Prints a note, where it does not mix with the result.
pub fn announce(common: &Common, text: String) {
    match common.format {
        OutputFormat::Json => json::line::<Event>(&Event::Warning { text }),
        OutputFormat::Text => err!("Note: {text}"),
    }
}

/// The USB ids of a product's units, in any mode.
pub fn unit_ids(sheet: &Sheet) -> Vec<String> {
    let of_adapters = sheet.product.adapters.iter().chain(sheet.programmers.iter().map(|programmer| &programmer.id));
    let others: Vec<&Ids> = of_adapters.collect();
    let own = all_ids(sheet).into_iter().map(|(ids, _)| ids).filter(|ids| !others.contains(ids));
    let patterns: BTreeSet<String> = own.flat_map(patterns).collect();
    patterns.into_iter().collect()
}

/// Every USB id that a product shows, and when; those of its adapters too.
pub fn all_ids(sheet: &Sheet) -> Vec<(&Ids, String)> {
    let running = "its application".to_owned();
    let mut all: Vec<(&Ids, String)> = sheet.application.id.iter().map(|ids| (ids, running.clone())).collect();
    for variant in &sheet.variants {
        all.extend(variant.shows.id.iter().map(|ids| (ids, running.clone())));
        all.extend(variant.routes.iter().map(|route| (&route.id, "update mode".to_owned())));
    }
    for stage in &sheet.stages {
        all.extend(stage.shows.id.iter().map(|ids| (ids, format!("after stage {}", stage.id))));
        let routes = stage.routes.values().flatten();
        all.extend(routes.map(|route| (&route.id, "update mode".to_owned())));
    }
    all.extend(sheet.product.adapters.iter().map(|ids| (ids, "CAN adapter".to_owned())));
    all.extend(sheet.programmers.iter().map(|programmer| (&programmer.id, programmer.about.clone())));
    all.retain(|(ids, _)| ids.is_usb());
    all
}

/// The sheets with one part of each product, and only those that have it.
fn only_part(sheets: &[Sheet], part: &str) -> Result<Vec<Sheet>, CliError> {
    let found: Vec<Sheet> = sheets.iter().filter_map(|sheet| sheet.only_part(part)).collect();
    if !found.is_empty() {
        return Ok(found);
    }
    let known: Vec<String> = sheets
        .iter()
        .flat_map(|sheet| sheet.parts.iter().map(|part| format!("{} of {}", part.id, sheet.product.id)))
        .collect();
    Err(CommandError::NoPart { part: part.to_owned(), known }.into())
}

/// The error if a sheet is required and none exists.
pub fn no_sheets() -> CliError {
    CommandError::NoSheets.into()
}

fn default_folder() -> Option<PathBuf> {
    Some(config::folder()?.join("sheets"))
}

fn sheet_files(path: &Path) -> Result<Vec<PathBuf>, CliError> {
    if path.is_file() {
        return Ok(vec![path.to_owned()]);
    }
    let is_sheet = |file: &Path| file.extension().is_some_and(|extension| extension == "toml") && !is_dialect(file);
    input_file::in_folder(path, &is_sheet)
}

/// The ending of dialect file names.
const DIALECT_ENDING: &str = ".dialect.toml";

fn is_dialect(file: &Path) -> bool {
    file.file_name().is_some_and(|name| name.to_string_lossy().ends_with(DIALECT_ENDING))
}

/// The dialects in the folder of a sheet, or in a folder of sheets.
///
/// # Errors
/// One of them is unsound.
pub fn dialects_beside(path: &Path) -> Result<Dialects, CliError> {
    let (dialects, unsound) = dialects_in(path)?;
    unsound.into_iter().next().map_or(Ok(dialects), Err)
}

/// The sound dialects in a folder, and the errors of the others.
fn dialects_in(path: &Path) -> Result<(Dialects, Vec<CliError>), CliError> {
    let folder = match path.is_file() {
        true => path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")),
        false => path,
    };
    let files = input_file::in_folder(folder, &is_dialect)?;
    let mut dialects = Dialects::new();
    let mut unsound = Vec::new();
    for file in files {
        let dialect = match dialect(&file) {
            Ok(dialect) => dialect,
            Err(error) => {
                unsound.push(error);
                continue;
            }
        };
        if dialects.insert(dialect.name.clone(), Arc::new(dialect.clone())).is_some() {
            return Err(CommandError::DialectTwice { path: file, name: dialect.name }.into());
        }
    }
    Ok((dialects, unsound))
}

/// Largest file that a dialect refers to: code that a bootloader runs from RAM. Chosen by us.
const MOST_HELPER: u64 = 16 << 20;

/// Reads a dialect and the files that it refers to.
pub fn dialect(file: &Path) -> Result<Dialect, CliError> {
    let text = input_file::text(file)?;
    let folder = file.parent().unwrap_or(Path::new(""));
    let beside = |name: &str| {
        let plain = !name.is_empty() && Path::new(name).components().count() == 1 && !name.starts_with('.');
        if !plain {
            let words = "a helper must be in the folder of its dialect: give the file name only";
            return Err(io::Error::new(io::ErrorKind::InvalidFilename, words));
        }
        let helper = input_file::bytes(&folder.join(name), MOST_HELPER);
        helper.map_err(|error| io::Error::new(error.kind(), format!("{name}: {error}")))
    };
    Ok(Dialect::parse(&file.display().to_string(), &text, &beside)?)
}

/// The firmware file that was unwrapped. A file for a disk that takes any file is used as it is: if the
/// user names such a variant or part, or if it is not firmware in a format of its own and its name ends
/// as a sheet says.
pub fn file_of(opened: &Unwrapped<'_>, path: &Path, sheets: &[Sheet], common: &Common) -> FirmwareFile {
    let file = opened.file();
    let variants = || sheets.iter().flat_map(|sheet| &sheet.variants);
    if opened.is_opaque || variants().all(|variant| variant.image.any_file.is_none()) {
        return file;
    }
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let named = common.variant.as_deref().map(|label| {
        let own = label.rsplit_once('/').map_or(label, |(_, own)| own);
        sheets.iter().filter_map(|sheet| sheet.variant_by_label(own)).any(|variant| variant.image.any_file.is_some())
    });
    let is_meant = named.unwrap_or_else(|| variants().all(|variant| variant.image.any_file.is_some()));
    let fits = (file.is_unreadable() || file.is_raw()) && variants().any(|variant| variant.takes_name(&name));
    if is_meant || fits { FirmwareFile::any(opened.payload, &name) } else { file }
}

/// The content of a wrapped file, if a sheet describes the wrapper; else the file itself. The
/// address in the header is used unless another one was given.
pub fn unwrapped<'a>(
    path: &Path,
    bytes: &'a [u8],
    sheets: &'a [Sheet],
    options: &mut ReadOptions,
) -> Result<Unwrapped<'a>, CliError> {
    let wrappers = sheets.iter().flat_map(|sheet| &sheet.wrappers);
    let Some(opened) = wrappers.filter_map(|wrapper| wrapper.unwrap(bytes)).next() else {
        return Ok(Unwrapped::plain(bytes));
    };
    let opened = opened.map_err(|error| CommandError::Damaged { path: path.to_owned(), reason: error.to_string() })?;
    options.at = options.at.or(opened.start);
    Ok(opened)
}
