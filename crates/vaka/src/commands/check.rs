//! `vaka check FILE…`: describes files and the variants they fit.

use std::collections::BTreeSet;
use std::path::Path;

use serde::Serialize;
use vaka_base::checksum::{Crc32, Sha256, sha256};
use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_core::event::ExitCode;
use vaka_core::matching::{Choice, image_version, rank_variants};
use vaka_core::sheet::{Sheet, Variant};
use vaka_image::address::{Address, Span};
use vaka_image::occupancy::Occupancy;
use vaka_image::stamp::{self, SealState, StampSearch};
use vaka_image::vectors::{StartVectors, VectorKind};
use vaka_image::{FileFacts, Firmware, FirmwareFile, GroupId, Image, ImageLayout, ReadError, ReadOptions, detect};

use super::check_unit::{CheckSubject, with_unit};
use super::{check_release, print_line};
use crate::args::{Check, Common, OutputFormat};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment;
use crate::file_history;
use crate::input_file;
use crate::output_options::OutputOptions;
use crate::release_store;
use crate::render::{self, json, map, table};
use vaka_messages::CommandError;

pub fn run(args: &Check, common: &Common, setting: &OutputOptions) -> Outcome {
    let sheets = environment::sheets(common)?;
    let mut worst = ExitCode::Done;
    let mut read = Vec::new();
    for (index, path) in args.files.iter().enumerate() {
        if index > 0 && setting.format == OutputFormat::Text {
            print_line("");
        }
        let code = match one(path, args.choose.options(), &sheets, common, setting) {
            Ok((code, image)) => {
                read.extend(image.map(|image| (path.display().to_string(), image)));
                code
            }
            // The other files are still checked.
            Err(problem) => {
                render::problem(&problem, setting);
                problem.code()
            }
        };
        worst = if u8::from(code) > u8::from(worst) { code } else { worst };
    }
    if args.join && args.files.len() > 1 {
        together(&read, setting);
    }
    Ok(worst)
}

/// The description of a file.
#[derive(Serialize)]
#[serde(tag = "event", rename = "file")]
struct FileReport {
    file: String,
    size: u64,
    modified: Option<jiff::Timestamp>,
    /// SHA-256 of the file.
    sha256: String,
    /// When these bytes were first seen, and under which name.
    seen_before: Option<(String, String)>,
    format: vaka_image::Format,
    reason: &'static str,
    /// Name of its wrapper.
    wrapper: Option<String>,
    /// Names of ordinary files in it.
    files: Vec<String>,
    images: Vec<ImageReport>,
    notes: Vec<String>,
}

/// The description of one image in a file.
#[derive(Serialize)]
struct ImageReport {
    name: GroupId,
    #[serde(flatten)]
    outline: ImageLayout,
    /// SHA-256 of the image's bytes in ascending order, without gaps.
    content_sha256: String,
    content_crc32: String,
    facts: FileFacts,
    vectors: Option<StartVectors>,
    /// Explanation of the start vectors.
    vectors_say: Vec<String>,
    stamp: Option<stamp::Stamp>,
    /// Used and blank, sector by sector.
    cells: Vec<(Span, Occupancy)>,
    fits: Vec<ProductFit>,
    notes: Vec<String>,
}

#[derive(Serialize)]
struct ProductFit {
    product: String,
    version: Option<String>,
    variants: Vec<Choice>,
}

fn one(
    path: &Path,
    mut options: ReadOptions,
    sheets: &[Sheet],
    common: &Common,
    setting: &OutputOptions,
) -> Result<(ExitCode, Option<Image>), CliError> {
    if release_store::is_release(path) {
        return Ok((check_release::run(path, sheets, common, setting)?, None));
    }
    let bytes = input_file::firmware(path)?;
    let opened = environment::unwrapped(path, &bytes, sheets, &mut options)?;
    let file = environment::file_of(&opened, path, sheets, common);
    let from_sheet = options.at.is_none().then(|| sheet_address(&file, sheets)).flatten();
    options.at = options.at.or(from_sheet);
    let firmware = read_all(&file, &mut options).map_err(|error| unreadable(path, &error, &file, sheets))?;
    let mut report = report(path, &bytes, &firmware, opened.payload, sheets);
    if let Some(at) = from_sheet {
        report.notes.push(format!("read at {at}, where the product sheet places raw binaries ('binary_at')"));
    }
    report.wrapper = (!opened.name.is_empty()).then(|| opened.name.to_owned());
    if file.is_any() {
        report.reason = "the unit's disk takes it as it is";
    }
    if opened.is_opaque {
        report.reason = "its content is for the bootloader alone, and is not examined";
    }
    match setting.format {
        OutputFormat::Json => json::line(&report),
        OutputFormat::Text => print(&report, setting),
    }
    let chosen = file.image(options, &[]).ok();
    if common.unit.is_some() {
        let image = chosen.ok_or_else(|| CommandError::SeveralImages { path: path.to_owned() })?;
        return Ok((with_unit(&CheckSubject::File(&image), sheets, common, setting)?, Some(image)));
    }
    let fits =
        |image: &ImageReport| image.fits.iter().any(|p| p.variants.iter().any(|choice| choice.against.is_none()));
    let nowhere = !sheets.is_empty() && !report.images.iter().any(fits);
    Ok((if nowhere { ExitCode::Refused } else { ExitCode::Done }, chosen))
}

/// Reads the complete content of a file. An address applies to files without addresses; other
/// files may have them.
fn read_all(file: &FirmwareFile, options: &mut ReadOptions) -> Result<Firmware, ReadError> {
    match file.firmware(options.at) {
        Err(ReadError::AddressNotWanted(_)) => {
            options.at = None;
            file.firmware(None)
        }
        other => other,
    }
}

/// The address of a raw binary according to the product sheets: the only 'binary_at', or the only
/// one at which the image fits. `None` for files with addresses.
fn sheet_address(file: &FirmwareFile, sheets: &[Sheet]) -> Option<Address> {
    if !matches!(file.firmware(None), Err(ReadError::NoAddress)) {
        return None;
    }
    let variants = || sheets.iter().flat_map(|sheet| sheet.variants.iter().map(move |variant| (sheet, variant)));
    let addresses: BTreeSet<Address> = variants().filter_map(|(_, variant)| variant.image.binary_at).collect();
    let fits = |at: &Address| {
        let image = file.image(ReadOptions { at: Some(*at), ..ReadOptions::default() }, &[]).ok();
        image.is_some_and(|image| {
            variants().filter(|(_, variant)| variant.image.binary_at == Some(*at)).any(|(sheet, variant)| {
                let choices = rank_variants(sheet, &image);
                choices.iter().any(|choice| choice.variant == variant.id && choice.against.is_none())
            })
        })
    };
    let fitting: Vec<Address> = addresses.iter().copied().filter(fits).collect();
    match (&fitting[..], addresses.len()) {
        ([only], _) => Some(*only),
        ([], 1) => addresses.first().copied(),
        _ => None,
    }
}

fn unreadable(path: &Path, error: &ReadError, file: &FirmwareFile, sheets: &[Sheet]) -> CliError {
    let path = path.to_owned();
    if *error != ReadError::NoAddress {
        return CommandError::Damaged { path, reason: error.to_string() }.into();
    }
    // Try each variant's start address: start vectors and marks show whether the image fits.
    let would = |sheet: &Sheet, variant: &Variant| {
        let start = variant.image.region.span.start();
        let image = file.image(ReadOptions { at: Some(start), ..ReadOptions::default() }, &[]).ok();
        let choices = image.map(|image| rank_variants(sheet, &image)).unwrap_or_default();
        let fits = choices.iter().any(|choice| choice.variant == variant.id && choice.against.is_none());
        let would_fit = if fits { " and would fit there" } else { "" };
        (fits, format!("{} starts at {start}{would_fit}", variant.name))
    };
    let starts = sheets.iter().flat_map(|sheet| sheet.variants.iter().map(move |variant| would(sheet, variant)));
    let mut starts: Vec<(bool, String)> = starts.collect();
    if starts.iter().any(|(fits, _)| *fits) {
        starts.retain(|(fits, _)| *fits);
    }
    let starts = starts.into_iter().map(|(_, words)| words).collect();
    CommandError::NoAddress { path, error: error.clone(), starts }.into()
}

fn report(path: &Path, bytes: &[u8], firmware: &Firmware, payload: &[u8], sheets: &[Sheet]) -> FileReport {
    let detected = detect::detect(payload).ok();
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let sha256 = text::hex(&sha256(bytes));
    let before = file_history::look_up(&sha256, &name);
    let mut notes = firmware.notes.clone();
    notes.extend(wrong_ending(&name, firmware.format));
    // A pipe has a date too, but it is not the content's.
    let ordinary = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file);
    let modified = ordinary.and_then(|data| data.modified().ok());
    FileReport {
        file: path.display().to_string(),
        size: bytes.len() as u64,
        modified: modified.and_then(|time| jiff::Timestamp::try_from(time).ok()),
        seen_before: before.map(|before| (before.time, before.name)),
        sha256,
        format: firmware.format,
        reason: detected.map_or("", |detected| detected.reason),
        wrapper: None,
        files: firmware.files.clone(),
        images: firmware.sets.iter().map(|set| image_report(&set.name, &set.image, sheets)).collect(),
        notes,
    }
}

/// A name that promises another format than the content is.
fn wrong_ending(name: &str, format: vaka_image::Format) -> Option<String> {
    use vaka_image::Format as F;
    let ending = name.rsplit_once('.')?.1.to_ascii_lowercase();
    let promised = match ending.as_str() {
        "hex" | "ihx" | "ihex" => F::IntelHex,
        "srec" | "s19" | "s28" | "s37" | "mot" => F::SRecord,
        "elf" | "axf" => F::Elf,
        "uf2" => F::Uf2,
        "dfu" => F::Dfu,
        "bin" => F::Binary,
        _ => return None,
    };
    (promised != format).then(|| format!("the extension is .{ending}, but the content is {format}"))
}

fn image_report(name: &GroupId, image: &Image, sheets: &[Sheet]) -> ImageReport {
    let mut crc = Crc32::default();
    let mut sha = Sha256::default();
    for segment in image.segments() {
        crc.update(segment.data());
        sha.update(segment.data());
    }
    let has_vectors = |variant: &&Variant| variant.image.vectors.is_some();
    let variants = || sheets.iter().flat_map(|sheet| &sheet.variants);
    let vectors = variants().any(|variant| has_vectors(&variant));
    let vectors = vectors.then(|| StartVectors::read(VectorKind::CortexM, image)).flatten();
    let found = stamp::find(image, None);
    let mut notes = image.notes().to_vec();
    match &found {
        StampSearch::Damaged(at, what) => notes.push(format!("the stamp at {at} is damaged: {what}")),
        StampSearch::Several(places) => {
            notes.push(format!("it has {} stamps, the first at {}", places.len(), places[0]))
        }
        StampSearch::None | StampSearch::One(_) => {}
    }
    let fits: Vec<ProductFit> = sheets.iter().map(|sheet| product_fit(sheet, image)).collect();
    let cells = cells(image, sheets, &fits);
    ImageReport {
        name: name.clone(),
        outline: image.outline(),
        content_sha256: text::hex(&sha.finish()),
        content_crc32: format!("{:08X}", crc.finish()),
        facts: image.facts().clone(),
        vectors_say: vectors.map(|vectors| explain(vectors, image, sheets)).unwrap_or_default(),
        vectors,
        stamp: if let StampSearch::One(stamp) = found { Some(stamp) } else { None },
        cells: cells.into_iter().map(|cell| (cell, image.fill(cell))).collect(),
        fits,
        notes,
    }
}

/// The value of the CRC over any content that ends in its own CRC, low byte first. Source: the
/// CRC catalogue's residue, inverted like the result.
const RESIDUE: &str = "2144DF1C";

/// The sectors of the first variant that the image fits, in its region; else cells of a round
/// size.
fn cells(image: &Image, sheets: &[Sheet], fits: &[ProductFit]) -> Vec<Span> {
    for (sheet, fit) in sheets.iter().zip(fits) {
        let fitting = fit.variants.iter().find(|choice| choice.against.is_none());
        let variant = fitting.and_then(|choice| sheet.variant(choice.variant.as_str()));
        if let Some(sectors) = variant.and_then(|variant| variant.flash.sectors_in(variant.image.region.span)) {
            return sectors;
        }
    }
    image.cells()
}

/// Explains start vectors: whether the stack is in RAM and the reset handler in the image, and
/// for which start address it was linked.
fn explain(vectors: StartVectors, image: &Image, sheets: &[Sheet]) -> Vec<String> {
    let variants: Vec<&Variant> = sheets.iter().flat_map(|sheet| &sheet.variants).collect();
    let mut said = Vec::new();
    let in_ram =
        |variant: &&&Variant| variant.ram.is_some_and(|ram| ram.contains(vectors.stack) || ram.end() == vectors.stack);
    let names: Vec<&str> = variants.iter().filter(in_ram).map(|variant| variant.name.as_str()).collect();
    said.push(match names[..] {
        [] => format!("the initial stack {} is in no variant's RAM", vectors.stack),
        _ if names.len() > 3 => {
            format!("the initial stack {} is in the RAM of {} variants", vectors.stack, names.len())
        }
        _ => format!("the initial stack {} is in the RAM of {}", vectors.stack, names.join(" and ")),
    });
    let target = vectors.first_instruction();
    let inside = image.contains(target);
    said.push(match inside {
        _ if !vectors.is_thumb() => format!("{} is not a reset handler: bit 0 is not set", vectors.reset),
        true => format!("the reset handler {} is inside the image", vectors.reset),
        false => format!("the reset handler {} is outside the image", vectors.reset),
    });
    if !inside {
        let linked = variants.iter().filter(|variant| variant.image.region.span.contains(target));
        // The region with the highest start below the handler is the likeliest.
        let linked = linked.max_by_key(|variant| variant.image.region.span.start());
        said.push(match linked {
            Some(variant) => {
                let start = variant.image.region.span.start();
                format!("it was probably linked for {start}, the start of {}", variant.name)
            }
            None => "it was probably linked for an address of no variant".to_owned(),
        });
    }
    said
}

fn product_fit(sheet: &Sheet, image: &Image) -> ProductFit {
    let variants = rank_variants(sheet, image);
    let fitting = variants.iter().find(|choice| choice.against.is_none());
    let version = fitting.and_then(|choice| image_version(sheet.variant(choice.variant.as_str())?, image));
    ProductFit { product: sheet.product.name.clone(), version: version.map(|version| version.to_string()), variants }
}

fn print(report: &FileReport, setting: &OutputOptions) {
    print_line(&report.file);
    let wrapper = report.wrapper.as_ref().map(|name| format!(", inside a {name}")).unwrap_or_default();
    line("is", &format!("{}{wrapper}: {}", report.format, report.reason));
    line("size", &Bytes(report.size).to_string());
    if let Some(time) = report.modified {
        line("date", &time.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S %Z").to_string());
    }
    line("SHA-256", &report.sha256);
    line(
        "seen",
        &match &report.seen_before {
            Some((time, name)) => format!("first checked {time}, as {name}"),
            None => "never checked before on this machine".to_owned(),
        },
    );
    report.notes.iter().for_each(|note| line("note", note));
    report.files.iter().for_each(|file| line("holds", &format!("the file {file}")));
    for image in &report.images {
        print_image(image, setting);
    }
}

/// Prints one aligned fact.
fn line(name: &str, value: &str) {
    print_line(&format!("  {name:<10}{value}"));
}

fn print_image(image: &ImageReport, setting: &OutputOptions) {
    if image.name != GroupId::Whole {
        print_line(&format!("  -- {} --", image.name));
    }
    print_fits(&image.fits, setting.details);
    let spans = &image.outline.segments;
    let total: u64 = spans.last().and_then(|last| Span::between(spans[0].start(), last.end())).map_or(0, Span::len);
    let gaps = total - image.outline.bytes;
    let gap = if gaps > 0 { format!(", {} of gaps", Bytes(gaps)) } else { String::new() };
    line("content", &format!("{} in {}{gap}", Bytes(image.outline.bytes), text::count(spans.len(), "segment")));
    for (index, span) in spans.iter().enumerate().take(16) {
        let gap = index.checked_sub(1).and_then(|before| span.start().offset_from(spans[before].end()));
        let gap = gap.map(|gap| format!("  after a gap of {}", Bytes(gap))).unwrap_or_default();
        line("", &format!("{span}  {}{gap}", Bytes(span.len())));
    }
    if spans.len() > 16 {
        line("", &format!("and {} more segments", spans.len() - 16));
    }
    facts(image);
    let residue = if image.content_crc32 == RESIDUE {
        "of the content, which ends in a valid CRC-32 of itself"
    } else {
        "of the content"
    };
    line("CRC-32", &format!("{} ({residue})", image.content_crc32));
    stamp_lines(image.stamp.as_ref());
    for (index, said) in image.vectors_say.iter().enumerate() {
        line(if index == 0 { "vectors" } else { "" }, said);
    }
    image.notes.iter().for_each(|note| line("note", note));
    picture(image);
}

fn facts(image: &ImageReport) {
    if let Some(entry) = image.outline.entry {
        line("entry", &entry.to_string());
    }
    let facts = &image.facts;
    if let Some(header) = &facts.header {
        line("header", &format!("\"{header}\""));
    }
    if let Some(elf) = facts.elf {
        let order = if elf.little_endian { "little" } else { "big" };
        line(
            "machine",
            &format!("{} (e_machine {}), {} bits, {order}-endian", elf.machine_name(), elf.machine, elf.bits),
        );
    }
    if let Some(suffix) = facts.dfu {
        let half = |value: u16| if value == 0xFFFF { "any".to_owned() } else { format!("{value:04x}") };
        let (vendor, product, release) = (half(suffix.vendor), half(suffix.product), half(suffix.release));
        line("DFU ids", &format!("vendor {vendor}, product {product}, release {release}"));
    }
    for region in &facts.md5_regions {
        line("MD5", &format!("{} of {} (stated by the blocks, not verified)", region.md5, region.span));
    }
    if let Some(tags) = &facts.tags {
        let texts = [("version", &tags.version), ("device", &tags.device)];
        for (name, value) in texts.iter().filter_map(|(name, value)| value.as_ref().map(|value| (name, value))) {
            line("tag", &format!("{name} \"{value}\""));
        }
    }
}

fn stamp_lines(stamp: Option<&stamp::Stamp>) {
    let Some(stamp) = stamp else { return };
    let seal = match stamp.seal {
        SealState::Good => "valid digest",
        SealState::Open => "not sealed, so it does not prove that the image is complete",
        SealState::Broken => "WRONG DIGEST: the image was changed or truncated after it was sealed",
    };
    line("stamp", &format!("at {}, image starts at {}; {seal}", stamp.at, stamp.start));
    let said = &stamp.text;
    let variants = (!said.variants.is_empty()).then(|| said.variants.join(", "));
    let named = [
        ("product", said.product.clone()),
        ("part", said.part.clone()),
        ("for", variants),
        ("version", said.version.clone()),
        ("build", said.build.clone()),
        ("built", said.built.clone()),
    ];
    let words: Vec<String> = named.into_iter().filter_map(|(name, value)| Some(format!("{name} {}", value?))).collect();
    line("", &words.join(", "));
    said.facts.iter().for_each(|(name, value)| line("", &format!("{name} = {value}")));
}

fn picture(image: &ImageReport) {
    let lines = map::picture(&image.cells);
    let shown = lines.len().min(24);
    for (index, signs) in lines[..shown].iter().enumerate() {
        line(if index == 0 { "map" } else { "" }, signs);
    }
    if shown < lines.len() {
        line("", &format!("and {} more lines", lines.len() - shown));
    }
    line("", map::LEGEND);
}

/// The variants that the image fits, then those that it does not fit: with reasons if it fits none
/// or `details` are wanted.
fn print_fits(fits: &[ProductFit], details: bool) {
    if fits.is_empty() {
        line("fits", "unknown: no product sheet was found (--sheets DIR)");
        return;
    }
    let choices = fits.iter().flat_map(|product| product.variants.iter().map(move |choice| (product, choice)));
    let (good, bad): (Vec<_>, Vec<_>) = choices.partition(|(_, choice)| choice.against.is_none());
    let fit = |(product, choice): &(&ProductFit, &Choice)| {
        let version = product.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
        let because = choice.completeness.as_ref().map(|words| format!("; completeness: {words}"));
        format!("{} ({}){version}{}", choice.name, choice.variant, because.unwrap_or_default())
    };
    for (index, choice) in good.iter().enumerate() {
        line(if index == 0 { "fits" } else { "" }, &fit(choice));
    }
    if !details && !good.is_empty() {
        if !bad.is_empty() {
            let does = if bad.len() == 1 { "does" } else { "do" };
            line("", &format!("{} {does} not fit", text::count(bad.len(), "other variant")));
        }
        return;
    }
    let reason =
        |(_, choice): &(&ProductFit, &Choice)| vec![choice.name.clone(), choice.against.clone().unwrap_or_default()];
    if !bad.is_empty() {
        line("fits not", if good.is_empty() { "any variant:" } else { "" });
        table::plain(&[], bad.iter().map(reason).collect()).lines().for_each(|row| print_line(&format!("  {row}")));
    }
}

/// The comparison of several files.
#[derive(Serialize)]
#[serde(tag = "event", rename = "files")]
struct JoinReport {
    overlaps: Vec<Overlap>,
    same: Vec<[String; 2]>,
}

#[derive(Serialize)]
struct Overlap {
    files: [String; 2],
    range: Span,
    equal: bool,
}

fn together(read: &[(String, Image)], setting: &OutputOptions) {
    let mut found = JoinReport { overlaps: Vec::new(), same: Vec::new() };
    for (index, (name, image)) in read.iter().enumerate() {
        for (other_name, other) in &read[index + 1..] {
            let names = [name.clone(), other_name.clone()];
            if image.segments() == other.segments() {
                found.same.push(names);
                continue;
            }
            found.overlaps.extend(overlap(image, other).map(|(range, equal)| Overlap { files: names, range, equal }));
        }
    }
    if setting.format == OutputFormat::Json {
        return json::line(&found);
    }
    print_line("\nTogether");
    for [a, b] in &found.same {
        line("same", &format!("{a} and {b} have the same bytes at the same addresses"));
    }
    for overlap in &found.overlaps {
        let word = if overlap.equal { "equal there" } else { "DIFFERENT: they cannot be joined" };
        line("overlap", &format!("{} and {}, {}: {word}", overlap.files[0], overlap.files[1], overlap.range));
    }
    if found.same.is_empty() && found.overlaps.is_empty() {
        line("overlap", "none");
    }
    let images: Vec<Image> = read.iter().map(|(_, image)| image.clone()).collect();
    if let Ok(Some(joined)) = Image::join(&images) {
        let cells: Vec<(Span, Occupancy)> = joined.cells().into_iter().map(|cell| (cell, joined.fill(cell))).collect();
        map::picture(&cells).iter().take(24).for_each(|signs| line("map", signs));
    }
}

/// The first range in both images, and whether all common bytes are equal.
fn overlap(a: &Image, b: &Image) -> Option<(Span, bool)> {
    let mut common = a.segments().iter().flat_map(|segment| b.parts_in(segment.span()));
    let (first, bytes) = common.next()?;
    let is_equal = |(range, bytes): (Span, &[u8])| a.bytes(range) == Some(bytes);
    Some((first, is_equal((first, bytes)) && common.all(is_equal)))
}
