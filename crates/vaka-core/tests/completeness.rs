//! Every file of the demo, cut short and with one byte changed: refused wherever the file can
//! prove it, by the file alone.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::collections::BTreeMap;
use std::sync::Arc;

use vaka_core::matching::{MatchInput, Outcome, Source, Weight, judge, rank_variants};
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::{Dialect, no_files};
use vaka_image::Format;
use vaka_image::address::Address;
use vaka_image::{Image, ReadError, ReadOptions};
use vaka_testkit::{Random, demo};

/// The demo's sheets, by the first word of their files' names.
fn sheets() -> BTreeMap<String, Sheet> {
    let folder = demo::folder().join("sheets");
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap();
    let names: Vec<String> =
        std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    let dialect = |name: &String| {
        let dialect = Dialect::parse(name, &read(name), &no_files).unwrap();
        (dialect.name.clone(), Arc::new(dialect))
    };
    let dialects: Dialects = names.iter().filter(|name| name.ends_with(".dialect.toml")).map(dialect).collect();
    let own = names.iter().filter(|name| !name.ends_with(".dialect.toml"));
    own.map(|name| (name.replace(".toml", ""), Sheet::parse_with(name, &read(name), &dialects).unwrap())).collect()
}

/// Applications of the demo, each with its sheet. Loaders belong to stages, and one build is
/// linked for the wrong address on purpose.
fn files() -> Vec<(String, Vec<u8>, Sheet)> {
    let sheets = sheets();
    let mut files = Vec::new();
    for entry in std::fs::read_dir(demo::folder().join("firmware/out")).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let is_firmware = ["hex", "srec", "bin", "elf", "uf2", "dfu"].iter().any(|ending| name.ends_with(ending));
        let Some(sheet) = sheets.get(name.split('-').next().unwrap()) else { continue };
        // Without blocks of its family a Petrel's file needs an agreement.
        let needs_consent = name.starts_with("petrel") && !name.ends_with(".uf2");
        if is_firmware && !needs_consent && !name.contains("loader") && !name.contains("-at-0") {
            files.push((name, std::fs::read(&path).unwrap(), sheet.clone()));
        }
    }
    files.sort_by(|a, b| a.0.cmp(&b.0));
    files
}

/// The image as each of a product's variants would take it.
fn read(bytes: &[u8], name: &str, sheet: &Sheet) -> Vec<Result<Image, ReadError>> {
    let read = |at: Option<Address>| {
        vaka_image::FirmwareFile::parse(bytes)
            .image(ReadOptions { at, ..ReadOptions::default() }, &sheet.families())
            .map(|image| image.named(name))
    };
    match read(None) {
        Err(ReadError::NoAddress) => {
            sheet.variants.iter().map(|variant| read(Some(variant.image.region.span.start()))).collect()
        }
        other => vec![other],
    }
}

/// Whether no variant takes a file, and else the image that one takes.
fn accepted(bytes: &[u8], name: &str, sheet: &Sheet) -> Option<Image> {
    let fits = |image: &Image| rank_variants(sheet, image).iter().any(|choice| choice.against.is_none());
    read(bytes, name, sheet).into_iter().flatten().find(fits)
}

#[test]
fn whole_files_fit_and_say_what_proves_that() {
    let files = files();
    assert!(files.len() > 30, "{}", files.len());
    for (name, bytes, sheet) in &files {
        let Some(image) = accepted(bytes, name, sheet) else { panic!("{name} fits nothing") };
        let case = MatchInput {
            sheet,
            unit: None,
            image: &image,
            label: sheet.variants.iter().find(|variant| {
                let choices = rank_variants(sheet, &image);
                choices.iter().any(|choice| choice.variant == variant.id && choice.against.is_none())
            }),
            running: None,
            erase_all: false,
            keep: &[],
            consents: &[],
            claim: None,
            table: None,
        };
        let verdict = judge(&case);
        assert_eq!(verdict.outcome, Outcome::Fits, "{name}");
        let row = verdict.evidence.iter().find(|evidence| evidence.source == Source::Completeness).unwrap();
        assert!(row.weight == Weight::Agrees && row.means.contains("length, checksum"), "{name}: {row:?}");
        let own = match image.format() {
            Format::IntelHex | Format::SRecord => "end record",
            Format::Uf2 => "block numbers",
            Format::Elf => "program headers",
            Format::Dfu => "suffix CRC",
            Format::Binary => "length",
        };
        assert!(row.means.contains(own), "{name}: {row:?}");
    }
}

#[test]
fn every_truncation_is_refused() {
    for (name, bytes, sheet) in files() {
        for part in 0..20 {
            let len = bytes.len() * part / 20;
            let taken = accepted(&bytes[..len], &name, &sheet);
            // The missing end of an ELF file may be outside its image.
            let is_whole = taken.as_ref().is_some_and(|image| {
                accepted(&bytes, &name, &sheet).is_some_and(|whole| whole.segments() == image.segments())
            });
            assert!(taken.is_none() || is_whole, "{name}: the first {len} of {} bytes fit", bytes.len());
        }
        let taken = accepted(&bytes[..bytes.len() - 1], &name, &sheet);
        assert!(taken.is_none() || !name.ends_with(".bin"), "{name}: all but the last byte fit");
    }
}

/// The bytes of an image, without what fills up the last block of the whole one with 0xFF.
fn content(image: &Image, whole: &Image) -> Vec<u8> {
    let bytes = |image: &Image| {
        let mut bytes = vec![0xFF; usize::try_from(whole.span().len()).unwrap()];
        image.copy_to(whole.start(), &mut bytes);
        bytes
    };
    let end = bytes(whole).iter().rposition(|byte| *byte != 0xFF).map_or(0, |last| last + 1);
    bytes(image)[..end].to_vec()
}

#[test]
fn every_changed_byte_is_refused() {
    let mut random = Random(0x5EED);
    for (name, bytes, sheet) in files() {
        let whole = accepted(&bytes, &name, &sheet).unwrap();
        for _ in 0..24 {
            let at = random.below(bytes.len());
            let mut changed = bytes.clone();
            changed[at] ^= 1 << random.below(8);
            let taken = accepted(&changed, &name, &sheet);
            // A byte outside the image, such as the case of a digit, may change.
            let is_same = taken.as_ref().is_some_and(|image| content(image, &whole) == content(&whole, &whole));
            assert!(taken.is_none() || is_same, "{name}: byte {at} changed, and it fits");
        }
    }
}

/// Where nothing proves it, the verdict says so and does not refuse.
#[test]
fn a_file_that_proves_nothing_is_said_to() {
    let text = std::fs::read_to_string(demo::folder().join("sheets/gannet.toml")).unwrap();
    let proves = |line: &&str| !line.starts_with("length = ") && !line.starts_with("checksum = ");
    let sheet = Sheet::parse("gannet.toml", &text.lines().filter(proves).collect::<Vec<_>>().join("\n")).unwrap();
    let bytes = std::fs::read(demo::folder().join("firmware/out/gannet-1.3.0.bin")).unwrap();
    let image = accepted(&bytes, "gannet-1.3.0.bin", &sheet).unwrap();
    let label = sheet.variants.first();
    let case = MatchInput { label, ..MatchInput::new(&sheet, &image) };
    let verdict = judge(&case);
    let row = verdict.evidence.iter().find(|evidence| evidence.source == Source::Completeness).unwrap();
    assert_eq!((verdict.outcome, &row.weight), (Outcome::Fits, &Weight::Neutral));
    assert_eq!(row.means, "the file has no proof that it is complete");
}

/// The sheet's length and checksum are checked, and errors name the line.
#[test]
fn wrong_descriptions_are_named_by_their_line() {
    let text = std::fs::read_to_string(demo::folder().join("sheets/gannet.toml")).unwrap();
    let length = "length = { offset = 0x44, form = \"u32le\", plus = 4 }";
    let checksum = "checksum = { kind = \"crc32\", form = \"u32le\" }";
    for (from, to, words) in [
        (length, "length = { offset = 0x4000000, form = \"u32le\" }", "is outside region"),
        (length, "length = { offset = 0x44, form = \"u32le\", unit = 0 }", "must be at least one byte"),
        (length, "length = { offset = 0x44, form = \"u48\" }", "u48"),
        (checksum, "checksum = { kind = \"crc32\" }", "`form` is required, such as"),
        (
            checksum,
            "checksum = { kind = \"sha256\", form = \"u32le\" }",
            "`form` does not apply to a digest; use `bytes` for its",
        ),
        (checksum, "checksum = { kind = \"sha256\", bytes = 40 }", "1 to 32 bytes"),
        (
            checksum,
            "checksum = { kind = \"sum\", form = \"u16be\", bytes = 2 }",
            "`bytes` applies to sha256 only; `form` determines the",
        ),
        (
            checksum,
            "checksum = { kind = { width = 2, poly = 1 }, form = \"u16le\" }",
            "a CRC must have 3 to 64 bits, and its values must fit",
        ),
        (
            checksum,
            "checksum = { kind = \"sum\", form = \"u16be\", from = 8, to = 8 }",
            "it covers no bytes: `to` must be greater than `from`",
        ),
    ] {
        let wrong = text.replace(from, to);
        assert_ne!(wrong, text);
        let line = 1 + wrong[..wrong.find(to).unwrap()].matches('\n').count();
        let error = Sheet::parse("gannet.toml", &wrong).unwrap_err();
        let error = &error.0[0];
        assert!(error.line == line && error.message.contains(words), "{to}: {error}");
    }
    // Other forms that are sound.
    for to in [
        "checksum = { kind = { width = 16, poly = 0x1021, init = 0xFFFF }, form = \"u16be\", offset = 0x50, from = 0x60 }",
        "checksum = { kind = \"sha256\", bytes = 16, offset = 0x50, own = \"zero\" }",
    ] {
        assert!(Sheet::parse("gannet.toml", &text.replace(checksum, to)).is_ok(), "{to}");
    }
}
