//! `vaka compare FILE [OTHER]`: a file against a unit's memory, or two files.

use std::path::Path;

use serde::Serialize;

use vaka_base::size::Grouped;
use vaka_boot::context::Context;
use vaka_boot::read_session::{self, image_of};
use vaka_core::event::ExitCode;
use vaka_core::memory::SectorMap;
use vaka_core::sheet::Sheet;
use vaka_image::address::{Address, Span};
use vaka_image::compare::{Comparison, FirstDifference, compare};
use vaka_image::{FirmwareFile, Image, ReadOptions};
use vaka_usb::SystemClock;

use super::{print_line, read};
use crate::args::{Common, Compare, OutputFormat};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment;
use crate::files;
use crate::input_file;
use crate::output_options::OutputOptions;
use crate::prompt;
use crate::render::{self, json, map};
use vaka_messages::CommandError;

/// The comparison for JSON output.
#[derive(Serialize)]
#[serde(tag = "event", rename = "comparison")]
struct ComparisonReport<'a> {
    file: String,
    with: String,
    /// Bytes of the part that was compared.
    bytes: u64,
    #[serde(flatten)]
    comparison: &'a Comparison,
}

pub fn run(args: &Compare, common: &Common, setting: &OutputOptions) -> Outcome {
    let name = args.file.display().to_string();
    match &args.other {
        Some(other) => {
            let first = files::read(&args.file, args.choose.options())?;
            let second = files::read(other, args.choose.options())?;
            let first = restricted(first, args.place.range, &name)?;
            let found = compare(&first, &second, &cells_of(&first, None));
            let with = other.display().to_string();
            Ok(Compared { file: &name, with: &with, image: &first, memory: &second }.tell(&found, setting))
        }
        None => with_unit(args, common, &name, setting),
    }
}

/// The part of an image inside a range, if one is given.
fn restricted(image: Image, range: Option<Span>, name: &str) -> Result<Image, CliError> {
    match range {
        None => Ok(image),
        Some(range) => {
            let refused = |error: vaka_image::edit::EditError| CommandError::Damaged {
                path: name.into(),
                reason: error.to_string(),
            };
            Ok(image.cut(range).map_err(refused)?)
        }
    }
}

fn with_unit(args: &Compare, common: &Common, name: &str, setting: &OutputOptions) -> Outcome {
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let mut options = args.choose.options();
    let wrapped = wrapped(&args.file, &sheets, &mut options)?;
    let load = |options| match &wrapped {
        Some(file) => {
            let image = file.image(options, &[]);
            image.map_err(|error| CommandError::File { path: args.file.clone(), error }.into())
        }
        None => files::read(&args.file, options),
    };
    // A raw binary gets its address from the sheet, once the variant is known.
    let early = load(options).ok();
    let mut renderer = render::renderer(setting);
    let mut tell_event = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell_event, crate::signals::flag());
    let mut request = read::request(common, &args.place);
    request.wants_variant = early.is_none() || args.place.region.is_some();
    let mut session = read_session::open_to_read(&bench, &request, &mut *prompt::at(common), &mut cx)?;
    let place = session.place().to_owned();
    let sectors = session.sectors().cloned();
    let done = (|| -> Result<(Image, Image), CliError> {
        if early.is_none() {
            options.at = options.at.or(session.variant().and_then(|variant| variant.image.binary_at));
        }
        let image = match early {
            Some(image) => image,
            None => load(options)?,
        };
        let region = args.place.region.as_ref().map(|region| session.region(region)).transpose()?;
        let image = restricted(image, args.place.range, name)?;
        let image = restricted(image, region.map(|region| region.span), name)?;
        let spans = readable(&image, sectors.as_ref());
        let parts = if spans.is_empty() { Vec::new() } else { session.read(&spans, &mut cx)? };
        let memory = image_of(&parts, &spans).ok_or(CommandError::NothingReadable)?;
        Ok((image, memory))
    })();
    session.leave(&mut cx);
    let (image, memory) = done?;
    let found = compare(&image, &memory, &cells_of(&image, sectors.as_ref()));
    let with = format!("the unit at {place}");
    Ok(Compared { file: name, with: &with, image: &image, memory: &memory }.tell(&found, setting))
}

/// The content of a file in a maker's wrapper; `None` for other files.
///
/// # Errors
/// The file is damaged, or only a bootloader understands its content.
fn wrapped(path: &Path, sheets: &[Sheet], options: &mut ReadOptions) -> Result<Option<FirmwareFile>, CliError> {
    if sheets.iter().all(|sheet| sheet.wrappers.is_empty()) {
        return Ok(None);
    }
    let bytes = input_file::firmware(path)?;
    let opened = environment::unwrapped(path, &bytes, sheets, options)?;
    match (opened.name, opened.is_opaque) {
        ("", _) => Ok(None),
        (_, true) => Err(CommandError::Opaque { path: path.to_owned() }.into()),
        _ => Ok(Some(opened.file())),
    }
}

/// The parts of an image for which the unit has memory.
fn readable(image: &Image, sectors: Option<&SectorMap>) -> Vec<Span> {
    let spans = image.segments().iter().map(|segment| segment.span());
    match sectors {
        None => spans.collect(),
        Some(map) => {
            let zones: Vec<Span> =
                map.zones().iter().filter(|zone| zone.access().read).map(|zone| zone.span()).collect();
            spans.flat_map(|span| zones.iter().filter_map(move |zone| zone.common(span)).collect::<Vec<_>>()).collect()
        }
    }
}

/// The unit's sectors around the image, or cells of a round size.
fn cells_of(image: &Image, sectors: Option<&SectorMap>) -> Vec<Span> {
    let Some(map) = sectors else { return image.cells() };
    let mut cells = Vec::new();
    for segment in image.segments() {
        let mut at = segment.span().start();
        while at < segment.span().end() {
            let Some(sector) = map.sector_at(at) else { break };
            at = sector.end();
            cells.push(sector);
        }
    }
    cells.dedup();
    cells
}

/// Two images with their sources.
struct Compared<'c> {
    file: &'c str,
    with: &'c str,
    image: &'c Image,
    memory: &'c Image,
}

impl Compared<'_> {
    fn tell(&self, found: &Comparison, setting: &OutputOptions) -> ExitCode {
        let Self { file, with, image, .. } = self;
        let equal = found.different == 0 && found.unread == 0;
        match setting.format {
            OutputFormat::Json => json::line(&ComparisonReport {
                file: (*file).to_owned(),
                with: (*with).to_owned(),
                bytes: image.len(),
                comparison: found,
            }),
            OutputFormat::Text => self.print(found),
        }
        if equal { ExitCode::Done } else { ExitCode::Differs }
    }

    fn print(&self, found: &Comparison) {
        let Self { file, with, image, memory } = self;
        let total = Grouped(image.len());
        match (found.different, found.unread) {
            (0, 0) => print_line(&format!("Equal: all {total} bytes of {file} match {with}.")),
            (0, unread) => {
                print_line(&format!("{} of {total} bytes of {file} could not be read from {with}.", Grouped(unread)))
            }
            (different, _) => print_line(&format!(
                "Different: {} of {total} bytes of {file} do not match {with}.",
                Grouped(different)
            )),
        }
        map::comparison(&found.cells).iter().for_each(|line| print_line(&format!("  {line}")));
        print_line(&format!("  {}", map::COMPARISON_LEGEND));
        if let Some(difference) = &found.first_difference {
            print_line(&format!("The first difference is at {}:", difference.at));
            let other = if with.starts_with("the unit") { "unit" } else { "other" };
            lines(difference, other).iter().for_each(|line| print_line(line));
        }
        read::tell_patterns(memory);
    }
}

/// Rows of 16 bytes: those of the file above those of the other side.
fn lines(difference: &FirstDifference, other: &str) -> Vec<String> {
    let row = |at: Address, bytes: &[Option<u8>], others: &[Option<u8>], name: &str| {
        let cell = |(byte, other): (&Option<u8>, &Option<u8>)| {
            let mark = if byte == other { ' ' } else { '*' };
            byte.map_or(format!(" --{mark}"), |byte| format!(" {byte:02X}{mark}"))
        };
        format!("  {name:<5}  {at} {}", bytes.iter().zip(others).map(cell).collect::<String>().trim_end())
    };
    let mut lines = Vec::new();
    for line in 0..3usize {
        let Some(at) = difference.from.checked_add(line as u64 * 16) else { break };
        let part = line * 16..line * 16 + 16;
        let (ours, theirs) = (&difference.first[part.clone()], &difference.other[part]);
        if ours.iter().chain(theirs).all(Option::is_none) {
            continue;
        }
        lines.push(row(at, ours, theirs, "file"));
        lines.push(row(at, theirs, ours, other));
    }
    lines
}
