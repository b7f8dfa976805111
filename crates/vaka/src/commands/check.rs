//! `vaka check FILE…`

use std::path::Path;

use serde::Serialize;
use sha2::{Digest, Sha256};
use vaka_boot::bench::{Bench, open_failure};
use vaka_boot::entry;
use vaka_boot::pace::Pace;
use vaka_boot::update::by_label;
use vaka_core::address::Address;
use vaka_core::event::{Code, Event, Failure};
use vaka_core::image::vectors::{StartVectors, VectorKind};
use vaka_core::image::{self, Image, Outline, ReadError, ReadOptions, detect};
use vaka_core::matching::{Case, Choice, Outcome as Fit, Verdict, image_version, judge, variants_for};
use vaka_core::sheet::Sheet;
use vaka_core::size::Bytes;
use vaka_core::unit::Mode;
use vaka_usb::SystemClock;

use super::say;
use crate::Outcome;
use crate::args::{Check, Common, Format};
use crate::problem::Problem;
use crate::render::{json, table, text};
use crate::setting::{self, Setting};
use crate::{interrupt, render};

pub fn run(args: &Check, common: &Common, setting: &Setting) -> Outcome {
    let sheets = setting::sheets(common)?;
    let mut worst = Code::Done;
    for (index, path) in args.files.iter().enumerate() {
        if index > 0 && setting.format == Format::Text {
            say("");
        }
        let code = match one(path, args.at, &sheets, common, setting) {
            Ok(code) => code,
            // The other files are still looked at.
            Err(problem) => {
                render::problem(&problem, setting);
                problem.code()
            }
        };
        worst = if u8::from(code) > u8::from(worst) { code } else { worst };
    }
    Ok(worst)
}

/// What a file is.
#[derive(Serialize)]
#[serde(tag = "event", rename = "file")]
struct FileReport {
    file: String,
    size: u64,
    format: detect::Format,
    reason: &'static str,
    #[serde(flatten)]
    outline: Outline,
    notes: Vec<String>,
    vectors: Option<StartVectors>,
    /// Of the file as it is.
    sha256: String,
    /// Of the image's bytes in rising order, gaps left out.
    content_crc32: String,
    fits: Vec<ProductFit>,
}

#[derive(Serialize)]
struct ProductFit {
    product: String,
    version: Option<String>,
    variants: Vec<Choice>,
}

fn one(path: &Path, at: Option<Address>, sheets: &[Sheet], common: &Common, setting: &Setting) -> Outcome {
    let bytes = setting::firmware(path)?;
    let image = image::read(&bytes, ReadOptions { at, ..ReadOptions::default() })
        .map_err(|error| unreadable(path, &error, sheets))?;
    let report = report(path, &bytes, &image, sheets);
    match setting.format {
        Format::Json => json::line(&report),
        Format::Text => print(&report, setting),
    }
    if common.unit.is_some() {
        return with_unit(&image, sheets, common, setting);
    }
    let nowhere = !sheets.is_empty()
        && report.fits.iter().all(|product| product.variants.iter().all(|choice| choice.against.is_some()));
    Ok(if nowhere { Code::Refused } else { Code::Done })
}

fn unreadable(path: &Path, error: &ReadError, sheets: &[Sheet]) -> Problem {
    let failure = Failure::new(Code::File, format!("{}: {error}.", path.display()));
    Problem(match error {
        ReadError::NoAddress => {
            let starts = sheets.iter().flat_map(|sheet| &sheet.variants);
            let starts: Vec<String> =
                starts.map(|v| format!("{} starts at {}", v.name, v.image.region.span.start())).collect();
            let failure = Failure { code: Code::Refused, ..failure };
            failure.cure(format!("Give --at ADDRESS. {}", starts.join(", ")))
        }
        ReadError::AddressNotWanted(_) => Failure { code: Code::Usage, ..failure },
        _ => failure,
    })
}

fn report(path: &Path, bytes: &[u8], image: &Image, sheets: &[Sheet]) -> FileReport {
    let mut crc = CRC.digest();
    image.segments().iter().for_each(|segment| crc.update(segment.data()));
    let reason = detect::detect(bytes).map_or("", |detected| detected.reason);
    let wants_vectors = |sheet: &Sheet| sheet.variants.iter().any(|variant| variant.image.vectors.is_some());
    FileReport {
        file: path.display().to_string(),
        size: bytes.len() as u64,
        format: image.format(),
        reason,
        outline: image.outline(),
        notes: image.notes().to_vec(),
        vectors: sheets.iter().any(wants_vectors).then(|| StartVectors::read(VectorKind::CortexM, image)).flatten(),
        sha256: hex(&Sha256::digest(bytes)),
        content_crc32: format!("{:08X}", crc.finalize()),
        fits: sheets.iter().map(|sheet| product_fit(sheet, image)).collect(),
    }
}

/// The checksum that zip uses.
const CRC: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC);

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn product_fit(sheet: &Sheet, image: &Image) -> ProductFit {
    let variants = variants_for(sheet, image);
    let fitting = variants.iter().find(|choice| choice.against.is_none());
    let version = fitting.and_then(|choice| image_version(sheet.variant(choice.variant.as_str())?, image));
    ProductFit { product: sheet.product.name.clone(), version: version.map(|version| version.to_string()), variants }
}

fn print(report: &FileReport, setting: &Setting) {
    say(&report.file);
    say(&format!("  is        {}: {}", report.format, report.reason));
    say(&format!("  size      {}; {} of firmware in it", Bytes(report.size), Bytes(report.outline.bytes)));
    for segment in &report.outline.segments {
        say(&format!("  segment   {segment}  {}", Bytes(segment.len())));
    }
    if let Some(entry) = report.outline.entry {
        say(&format!("  entry     {entry}"));
    }
    if let Some(vectors) = report.vectors {
        say(&format!("  vectors   stack {}, reset handler {}", vectors.stack, vectors.reset));
    }
    say(&format!("  SHA-256   {}", report.sha256));
    say(&format!("  CRC-32    {} (of the firmware's bytes)", report.content_crc32));
    for note in &report.notes {
        say(&format!("  note      {note}"));
    }
    for product in &report.fits {
        let version = product.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
        say(&format!("  For {}{version}:", product.product));
        let row = |choice: &Choice| {
            let word = if choice.against.is_some() { "does not fit" } else { "fits" };
            vec![format!("   {}", choice.variant), word.to_owned(), choice.against.clone().unwrap_or_default()]
        };
        table::plain(setting.width, &[], product.variants.iter().map(row).collect()).lines().for_each(say);
    }
    if report.fits.is_empty() {
        say("  No product sheet is known, so nothing says which unit it fits (--sheets DIR).");
    }
}

/// The verdict for a unit. Reads descriptors only; changes nothing.
fn with_unit(image: &Image, sheets: &[Sheet], common: &Common, setting: &Setting) -> Outcome {
    let bench = Bench::new(setting::buses(common)?, sheets);
    let mut renderer = render::renderer(setting);
    let mut tell = |event: Event| renderer.event(event);
    let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
    let found = entry::find(&bench, common.unit.as_ref(), common.wait, &mut pace)?;
    let place = bench.place(found.location());
    let facts = bench.identity(found.location()).map_err(|error| open_failure(&error, &place))?.facts;
    let label = common.variant.as_deref().map(|label| by_label(&found, label)).transpose()?;
    let mut worst = Code::Refused;
    for sheet in found.sheets.iter().filter(|sheet| label.is_none_or(|(of, _)| std::ptr::eq(of, **sheet))) {
        let tells = found.mode == Mode::Application && sheet.application.tells_version;
        let running = tells.then_some(facts.release);
        let case = Case {
            sheet,
            unit: Some(&facts),
            image,
            label: label.map(|(_, variant)| variant),
            running,
            agreed: &common.agree,
        };
        let verdict: Verdict = judge(&case);
        if verdict.outcome == Fit::Fits {
            worst = Code::Done;
        }
        match setting.format {
            Format::Json => json::line(&Event::Verdict { unit: Some(place.clone()), verdict }),
            Format::Text => text::verdict_table(&verdict, setting),
        }
    }
    Ok(worst)
}
