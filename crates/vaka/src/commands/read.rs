//! `vaka read OUT`

use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_boot::context::Context;
use vaka_boot::read_session::{self, ReadRequest, ReadSession, image_of};
use vaka_core::event::ExitCode;
use vaka_core::unit::MemoryChoice;
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_image::compare::{self, patterns};
use vaka_usb::SystemClock;

use super::{print_line, print_result};
use crate::args::{Common, MemoryRange, Read};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::files;
use crate::output_options::OutputOptions;
use crate::prompt;
use crate::render::{self, map};
use vaka_messages::CommandError;

pub fn run(args: &Read, common: &Common, setting: &OutputOptions) -> Outcome {
    files::may_write(&args.out, &args.output)?;
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, crate::signals::flag());
    let mut session =
        read_session::open_to_read(&bench, &request(common, &args.place), &mut *prompt::at(common), &mut cx)?;
    let read = several_times(&mut session, args, &mut cx);
    let (place, product) = (session.place().to_owned(), session.sheet().map(|sheet| sheet.product.name.clone()));
    session.leave(&mut cx);
    let image = read?;
    let written = files::write(&image, &args.out, &args.output)?;
    print_result(setting.format, &written, || {
        print_line(&format!("Read from {} at {place}:", product.as_deref().unwrap_or("the unit")));
        tell_content(&image);
        print_line(&written.to_string());
    });
    Ok(ExitCode::Done)
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
