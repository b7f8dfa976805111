//! `vaka read OUT`

use std::path::Path;

use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_boot::context::Context;
use vaka_boot::read_session::{self, ReadRequest, ReadSession, image_of};
use vaka_core::attached_unit::AttachedUnit;
use vaka_core::event::{Event, ExitCode};
use vaka_core::matching::image_version;
use vaka_core::unit::MemoryChoice;
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_image::compare::{self, patterns};
use vaka_usb::SystemClock;

use super::{print_line, print_result};
use crate::args::{Common, MemoryRange, Read};
use crate::backup::{Origin, dated};
use crate::cli_error::{CliError, Outcome};
use crate::environment::{self, announce};
use crate::files;
use crate::journal::{self, EndRecord, ResultRecord, StartRecord};
use crate::output_options::OutputOptions;
use crate::render::{self, map};
use crate::{attempt, input_file, prompt};
use vaka_messages::CommandError;

pub fn run(args: &Read, common: &Common, setting: &OutputOptions) -> Outcome {
    let time = jiff::Timestamp::now();
    let name = |origin: Origin<'_>| if args.dated { dated(&args.out, origin, time) } else { args.out.clone() };
    files::may_write(&name(Origin::default()), &args.output)?;
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let mut renderer = render::renderer(setting);
    let mut attached: Option<Box<AttachedUnit>> = None;
    let mut tell = |event| {
        let event = vaka_messages::event(event);
        if let (Event::Attached(unit), None) = (&event, &attached) {
            attached = Some(unit.clone());
        }
        renderer.event(event);
    };
    let mut cx = Context::new(&SystemClock, &mut tell, crate::signals::flag());
    let mut session =
        read_session::open_to_read(&bench, &request(common, &args.place), &mut *prompt::at(common), &mut cx)?;
    let read = several_times(&mut session, args, &mut cx);
    let variant = session.variant();
    let in_image = read.as_ref().ok().and_then(|image| image_version(variant?, image));
    let origin = ReadOrigin {
        place: session.place().to_owned(),
        product: session.sheet().map(|sheet| sheet.product.name.clone()),
        variant: variant.map(|variant| variant.id.to_string()),
        serial: session.serial().map(str::to_owned),
        time,
    };
    session.leave(&mut cx);
    let image = read?;
    let version = attached.as_ref().and_then(|unit| unit.version.clone()).or(in_image);
    let version = version.map(|version| version.to_string());
    let to = name(Origin { serial: origin.serial.as_deref(), version: version.as_deref() });
    let written = files::write(&image, &to, &args.output)?;
    let id = attached.map(|unit| unit.id.to_string());
    let recorded = journal::record_read(origin.started(&to, &image, common), origin.ended(id, version));
    print_result(setting.format, &written, || {
        print_line(&format!("Read from {} at {}:", origin.product.as_deref().unwrap_or("the unit"), origin.place));
        tell_content(&image);
        print_line(&written.to_string());
    });
    if let Err(reason) = recorded {
        announce(common, vaka_messages::not_recorded(&format!("the journal: {reason}")));
    }
    Ok(ExitCode::Done)
}

/// The unit whose content was read.
struct ReadOrigin {
    place: String,
    product: Option<String>,
    variant: Option<String>,
    serial: Option<String>,
    time: jiff::Timestamp,
}

impl ReadOrigin {
    fn started(&self, file: &Path, image: &Image, common: &Common) -> StartRecord {
        // A pipe or a device is not read again.
        let bytes = if file.is_file() { input_file::firmware(file).unwrap_or_default() } else { Vec::new() };
        let file = attempt::file(file, &bytes, Some(image));
        StartRecord { time: self.time, ..attempt::begun(file, Vec::new(), common) }
    }

    fn ended(&self, id: Option<String>, version_before: Option<String>) -> EndRecord {
        let Self { place, product, variant, serial, .. } = self;
        let result = ResultRecord {
            unit: Some(place.clone()),
            serial: serial.clone(),
            product: product.clone(),
            variant: variant.clone(),
            ..ResultRecord::default()
        };
        EndRecord {
            time: jiff::Timestamp::now(),
            ids: id.into_iter().collect(),
            version_before,
            verdict: None,
            conflicts: Vec::new(),
            consents: Vec::new(),
            result,
            error: None,
        }
    }
}

/// The request according to the command line.
pub fn request(common: &Common, place: &MemoryRange) -> ReadRequest {
    ReadRequest {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: place.memory.as_deref().map(MemoryChoice::parse).unwrap_or_default(),
        wait: common.wait,
        wants_variant: place.range.is_none(),
    }
}

/// The addresses that were asked for.
pub fn spans(session: &ReadSession<'_>, place: &MemoryRange) -> Result<Vec<Span>, CliError> {
    let spans = match (&place.region, place.range) {
        (Some(name), _) => vec![session.region(name)?.span],
        (None, Some(range)) => vec![range],
        (None, None) => session.whole(),
    };
    if spans.is_empty() {
        return Err(CommandError::MemoryUnknown.into());
    }
    Ok(spans)
}

/// Reads once, or as often as was asked; readings that differ are a fault.
fn several_times(session: &mut ReadSession<'_>, args: &Read, cx: &mut Context<'_>) -> Result<Image, CliError> {
    let spans = spans(session, &args.place)?;
    let mut once = |cx: &mut Context<'_>| -> Result<Image, CliError> {
        let parts = session.read(&spans, cx)?;
        image_of(&parts, &spans).ok_or_else(|| CliError::internal("the data read is not an image"))
    };
    let first = once(cx)?;
    for turn in 2..=args.times {
        let again = once(cx)?;
        let found = compare::compare(&first, &again, &[]);
        if let Some(difference) = found.first_difference {
            let (bytes, from) = (found.different, difference.at);
            return Err(CommandError::ReadingsDiffer { turn, bytes, from }.into());
        }
    }
    Ok(first)
}

/// Prints a map of an image, and its unused ranges.
fn tell_content(image: &Image) {
    let cells: Vec<_> = image.cells().into_iter().map(|cell| (cell, image.fill(cell))).collect();
    map::picture(&cells).iter().for_each(|line| print_line(&format!("  {line}")));
    print_line(&format!("  {}", map::LEGEND));
    tell_patterns(image);
}

/// Ranges that repeat one word, the longest first.
pub fn tell_patterns(image: &Image) {
    let mut found = patterns(image);
    found.sort_by_key(|pattern| std::cmp::Reverse(pattern.span.len()));
    for pattern in found.iter().take(4) {
        let what = match pattern.word {
            [0xFF, 0xFF, 0xFF, 0xFF] => "blank".to_owned(),
            word => format!("filled with {}", text::hex_pairs(&word)),
        };
        print_line(&format!("  {}, {}: {what}", pattern.span, Bytes(pattern.span.len())));
    }
    let rest: u64 = found.iter().skip(4).map(|pattern| pattern.span.len()).sum();
    if rest > 0 {
        print_line(&format!("  and {} bytes in shorter ranges that repeat a word", Grouped(rest)));
    }
}
