//! Whole verdicts, with every piece of evidence, in `verdicts.txt`, which reads as a document.
//! `VAKA_WRITE_TABLES=1` rewrites it: read what changed.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::fmt::Write;
use std::sync::Arc;

use vaka_base::version::ReleaseNumber;
use vaka_core::dfu::FunctionalDescriptor;
use vaka_core::matching::{MatchInput, Verdict, judge, rank_variants};
use vaka_core::memory::layout::Layout;
use vaka_core::sheet::{Dialects, Sheet};
use vaka_core::unit::{DfuAlternate, DfuFacts, PropertyValue, ReportedProperty, UnitFacts, UsbId};
use vaka_core::volume::{VolumeFacts, lines};
use vaka_dialect::{Dialect, no_files};
use vaka_image::address::Address;
use vaka_image::{Image, ReadOptions};
use vaka_testkit::demo;

fn sheet(name: &str) -> Sheet {
    let mut dialects = Dialects::default();
    for entry in std::fs::read_dir(demo::folder().join("sheets")).unwrap() {
        let file = entry.unwrap().file_name().into_string().unwrap();
        if file.ends_with(".dialect.toml") {
            let dialect = Arc::new(Dialect::parse(&file, &demo::sheet_text(&file), &no_files).unwrap());
            dialects.insert(dialect.name.clone(), dialect);
        }
    }
    Sheet::parse_with(name, &demo::sheet_text(name), &dialects).unwrap()
}

fn image(name: &str, at: Option<u64>) -> Image {
    let bytes = std::fs::read(demo::firmware(name)).unwrap();
    let options = ReadOptions { at: at.map(Address::new), ..ReadOptions::default() };
    vaka_image::read(&bytes, options).unwrap()
}

/// A unit with these ids that reports nothing else.
fn unit(product: u16) -> UnitFacts {
    UnitFacts::listed(UsbId { vendor: 0x1209, product }.into(), ReleaseNumber(0x0140))
}

fn telling(product: u16, told: &[(&str, i128)]) -> UnitFacts {
    let told = told
        .iter()
        .map(|(name, value)| ReportedProperty { name: (*name).into(), value: PropertyValue::Number(*value) });
    UnitFacts { told: told.collect(), ..unit(product) }
}

/// A unit in DFU mode whose memories have these texts; version 1.1a is written by addresses.
fn in_dfu(product: u16, texts: &[&str], is_addressed: bool) -> UnitFacts {
    let alternate = |(number, text): (u8, &&str)| DfuAlternate {
        number,
        name: Some((*text).to_owned()),
        layout: Layout::parse(text),
    };
    let version = if is_addressed { 0x1A } else { 0x10 };
    let dfu = DfuFacts {
        interface: 0,
        in_dfu_mode: true,
        alternates: (0..).zip(texts).map(alternate).collect(),
        functional: FunctionalDescriptor::parse(&[9, 0x21, 0x0B, 0xFF, 0, 0, 4, version, 1]),
    };
    UnitFacts { dfu: vec![dfu], ..unit(product) }
}

fn with_disk(product: u16, label: &str, info: &str) -> UnitFacts {
    let volume = VolumeFacts {
        label: Some(label.into()),
        texts: vec![("INFO_UF2.TXT".into(), lines(info.as_bytes()))],
        ..VolumeFacts::default()
    };
    UnitFacts { volume: Some(volume), ..unit(product) }
}

struct Case {
    title: &'static str,
    sheet: &'static str,
    unit: Option<UnitFacts>,
    file: (&'static str, Option<u64>),
    label: Option<&'static str>,
    consents: &'static [&'static str],
}

const AUK: (&str, Option<u64>) = ("auk-2.1.0.hex", None);
const TERN: (&str, Option<u64>) = ("tern-r1-1.5.0.hex", None);

#[allow(clippy::too_many_lines)] // a table
fn cases() -> Vec<Case> {
    let case = |title, sheet, unit, file, label| Case { title, sheet, unit, file, label, consents: &[] };
    let layout = "@Tide Flash /0x0A000000/48*003Kg";
    let mut named = unit(0x0001);
    named.product = Some("Tern tide gauge".into());
    named.serial = Some("T1-00217".into());
    let mut strange = named.clone();
    strange.product = Some("Puffin".into());
    let loader = UnitFacts { product: Some("Tern loader r2".into()), ..in_dfu(0x0011, &["Tern application"], false) };
    let mut protected = with_disk(0x0006, "PETREL", "UF2 Bootloader\r\nBoard-ID: Petrel-PB1-r3\r\n");
    protected.volume.as_mut().unwrap().read_only = true;
    vec![
        case("no unit, and the file fits a variant", "tern.toml", None, TERN, None),
        case("no unit, a label", "tern.toml", None, TERN, Some("r1")),
        case("no unit, the other label", "tern.toml", None, TERN, Some("r2")),
        case("the application, without a label", "tern.toml", Some(named.clone()), TERN, None),
        case("the application, with its label", "tern.toml", Some(named), TERN, Some("r1")),
        case("the application has another name", "tern.toml", Some(strange), TERN, Some("r1")),
        case("the chip's bootloader", "tern.toml", Some(in_dfu(0x0002, &[layout], true)), TERN, Some("r1")),
        case("a loader that names its board", "tern.toml", Some(loader), ("tern-r2-1.5.0.hex", None), None),
        Case {
            consents: &["older-version"],
            ..case("a consent that nothing asks for", "tern.toml", Some(unit(1)), TERN, Some("r1"))
        },
        case(
            "plain DFU",
            "gannet.toml",
            Some(in_dfu(0x0004, &["Gannet firmware", "Gannet settings"], false)),
            ("gannet-1.3.0.dfu", Some(0x5000)),
            None,
        ),
        case(
            "plain DFU, and the memory is missing",
            "gannet.toml",
            Some(in_dfu(0x0004, &["Gannet settings"], false)),
            ("gannet-1.3.0.dfu", Some(0x5000)),
            None,
        ),
        case(
            "a disk",
            "petrel.toml",
            Some(with_disk(0x0006, "PETREL", "UF2 Bootloader\r\nBoard-ID: Petrel-PB2-r1\r\n")),
            ("petrel-pb2-2.4.0.uf2", None),
            None,
        ),
        case(
            "a disk of the other board",
            "petrel.toml",
            Some(with_disk(0x0006, "PETREL", "UF2 Bootloader\r\nBoard-ID: Petrel-PB1-r3\r\n")),
            ("petrel-pb2-2.4.0.uf2", None),
            None,
        ),
        case(
            "a disk that is write-protected",
            "petrel.toml",
            Some(protected),
            ("petrel-pb1-2.4.0.uf2", None),
            Some("pb1"),
        ),
        case(
            "a dialect, and it tells what the sheet says",
            "auk.toml",
            Some(telling(0x000C, &[("chip", 0x41A7), ("flash_size", 0x1_0000)])),
            AUK,
            None,
        ),
        case(
            "a dialect, and more than the sheet asks for",
            "auk.toml",
            Some(telling(0x000C, &[("chip", 0x41A7), ("loader", 3), ("flash_size", 0x1_0000)])),
            AUK,
            None,
        ),
        case(
            "a dialect, and another chip",
            "auk.toml",
            Some(telling(0x000C, &[("chip", 0x41A8), ("flash_size", 0x1_0000)])),
            AUK,
            None,
        ),
        case("a dialect, and one value is missing", "auk.toml", Some(telling(0x000C, &[("chip", 0x41A7)])), AUK, None),
        case("a dialect that tells nothing", "auk.toml", Some(unit(0x000C)), AUK, None),
        case(
            "a dialect, and a file for another product",
            "auk.toml",
            Some(telling(0x000C, &[("chip", 0x41A7), ("flash_size", 0x1_0000)])),
            TERN,
            None,
        ),
        case("a label, and a file for another product", "auk.toml", None, ("petrel-pb1-2.4.0.uf2", None), Some("h1")),
        case("a unit with an unknown id", "skua.toml", Some(unit(0x0777)), ("skua-bridge-1.7.0.hex", None), None),
        case("a part of a product", "heron.toml", None, ("heron-display-3.1.0.hex", None), None),
        case("another part of the same product", "heron.toml", None, ("heron-interface-2.2.0.hex", None), Some("d1")),
    ]
}

fn entry(case: &Case) -> String {
    let sheet = sheet(case.sheet);
    let image = image(case.file.0, case.file.1);
    let consents: Vec<String> = case.consents.iter().map(|id| (*id).to_owned()).collect();
    let label = case.label.map(|label| sheet.variant(label).unwrap());
    let input = MatchInput { unit: case.unit.as_ref(), label, consents: &consents, ..MatchInput::new(&sheet, &image) };
    let verdict = judge(&input);
    let mut text = format!("{} ({}, {})\n", case.title, case.sheet, case.file.0);
    describe(&verdict, &mut text);
    for choice in rank_variants(&sheet, &image) {
        let against = choice.against.as_deref().unwrap_or("nothing");
        let whole = choice.completeness.as_deref().unwrap_or("-");
        writeln!(text, "  file     {}: against it: {against}; {whole}", choice.variant).unwrap();
    }
    text
}

fn describe(verdict: &Verdict, text: &mut String) {
    let Verdict { phase, outcome, identified, variant, evidence, question, .. } = verdict;
    let id = |id: &Option<vaka_core::sheet::VariantId>| id.as_ref().map_or("-".to_owned(), ToString::to_string);
    writeln!(text, "  verdict  {outcome:?}, {phase:?}; variant {}, identified {}", id(variant), id(identified))
        .unwrap();
    let ids: Vec<&str> = verdict.compatible.iter().map(|id| id.as_str()).collect();
    let missing: Vec<&str> = verdict.missing_consents.iter().map(|consent| consent.id.as_str()).collect();
    writeln!(text, "  would    fit {ids:?}, missing {missing:?}, tells itself {}", verdict.self_identifying).unwrap();
    writeln!(text, "  fill     {}", verdict.occupancy.as_deref().unwrap_or("-")).unwrap();
    for one in evidence {
        let who = one.variant.as_ref().map_or("", |id| id.as_str());
        writeln!(text, "  {:?} {:?} [{who}] {}", one.weight, one.about, one.sentence()).unwrap();
    }
    for choice in question.iter().flat_map(|question| &question.choices) {
        let places: Vec<&str> = choice.look_at.iter().map(|look| look.place.as_str()).collect();
        writeln!(text, "  choice   {} {}: {:?} {places:?}", choice.variant, choice.name, choice.against).unwrap();
    }
}

#[test]
fn every_verdict_is_in_the_table() {
    let text = cases().iter().map(entry).collect::<Vec<_>>().join("\n");
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/verdicts.txt");
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let known = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(text == known, "tests/verdicts.txt is another table now; rewrite it and read what changed:\n{text}");
}

/// The models of three of the demo's sheets, which use most keys, in `sheets.txt`. `VAKA_WRITE_TABLES=1` rewrites it.
#[test]
fn every_key_of_a_sheet_is_in_its_model() {
    let names = ["auk", "heron", "tern"];
    let mut text = String::new();
    for name in names {
        let model = format!("{:#?}", sheet(&format!("{name}.toml")));
        // Dialects have tables of their own.
        let mut depth = None;
        for line in model.lines() {
            let indent = line.len() - line.trim_start().len();
            if depth.is_some_and(|depth| indent > depth) {
                continue;
            }
            depth = line.trim_start().starts_with("dialect: Dialect {").then_some(indent);
            text += &format!("{}\n", line.replace("    ", " "));
        }
    }
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/sheets.txt");
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let known = std::fs::read_to_string(&path).unwrap_or_default();
    for (index, (found, wanted)) in text.lines().zip(known.lines()).enumerate() {
        assert_eq!(found, wanted, "tests/sheets.txt, line {}", index + 1);
    }
    assert_eq!(text.lines().count(), known.lines().count(), "tests/sheets.txt");
}
