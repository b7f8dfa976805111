//! Programmers in sheets, and how their readings match a unit.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::sync::Arc;

use vaka_base::version::ReleaseNumber;
use vaka_core::matching::{MatchInput, Outcome, Phase, Verdict, judge};
use vaka_core::sheet::{Dialects, EntryStep, Sheet, SheetErrors};
use vaka_core::unit::{DeviceId, PropertyValue, ReportedProperty, UnitFacts};
use vaka_dialect::{Dialect, no_files};
use vaka_image::{Image, ReadOptions};
use vaka_testkit::demo;

fn parse(text: &str) -> Result<Sheet, SheetErrors> {
    let dialects: Dialects = ["dunlin.dialect.toml", "linnet.dialect.toml", "turnstone.dialect.toml"]
        .iter()
        .map(|file| {
            let dialect = Dialect::parse(file, &demo::sheet_text(file), &no_files).unwrap();
            (dialect.name.clone(), Arc::new(dialect))
        })
        .collect();
    Sheet::parse_with("dunlin.toml", text, &dialects)
}

fn dunlin() -> Sheet {
    parse(&demo::sheet_text("dunlin.toml")).unwrap()
}

#[test]
fn a_route_through_a_programmer_has_its_wiring_and_comes_last() {
    let sheet = dunlin();
    let variant = sheet.variant("n1").unwrap();
    let [usb, wired] = &variant.routes[..] else { panic!("two routes") };
    assert_eq!((usb.kind.to_string(), wired.kind.to_string()), ("dialect:dunlin".into(), "programmer:linnet".into()));
    assert_eq!(wired.id.to_string(), "programmer:linnet");
    assert!(!wired.is_self_identifying() && usb.is_self_identifying());
    let steps = wired.entry.iter().filter(|step| matches!(step, EntryStep::Manual(_))).count();
    assert_eq!(steps, 3);
    let stage = sheet.for_stage(sheet.stage("loader").unwrap());
    assert_eq!(stage.variant("n1").unwrap().routes.len(), 1);
}

#[test]
fn each_key_of_a_programmer_has_its_rule() {
    let cases: &[(&str, &str, &str)] = &[
        (
            "programmer = \"linnet\"\nstage",
            "programmer = \"lennit\"\nstage",
            "no [[programmer]] has the name 'lennit'; existing: linnet",
        ),
        ("programmer = \"linnet\"\nstage", "stage", "`programmer` is required"),
        ("stage = \"loader\"\ntells = { signature = 0x5A2A31 }", "stage = \"loader\"", "`tells` is required"),
        ("tells = { signature", "tells = { colour", "but not 'colour'"),
        (
            "stage = \"loader\"\ntells",
            "stage = \"loader\"\nid = \"1209:0018\"\ntells",
            "does not apply to a route through a programmer",
        ),
        (
            "stage = \"loader\"\ntells",
            "stage = \"loader\"\nlistens = \"2 s\"\ntells",
            "does not apply to a route through",
        ),
        (
            "stage = \"loader\"\ntells",
            "stage = \"loader\"\ndialect = \"linnet\"\ntells",
            "applies only to a route with kind = \"dialect\"",
        ),
        (
            "dialect = \"dunlin\"\n",
            "dialect = \"dunlin\"\nprogrammer = \"linnet\"\n",
            "only to a route with kind = \"programmer\"",
        ),
        ("dialect = \"linnet\"", "dialect = \"turnstone\"", "must have [identify], over another carrier than CAN"),
        ("id = \"1209:0018\"", "id = \"can:turnstone\"", "a programmer has USB ids"),
        ("after = [\"plug\"]", "after = [\"flask\"]", "undo order is not possible"),
        ("name = \"linnet\"\nabout", "name = \"a-very-long-name-for-a-small-board\"\nabout", "at most 31 characters"),
    ];
    for (from, to, words) in cases {
        let text = demo::sheet_text("dunlin.toml");
        assert!(text.contains(from), "the sheet no longer has: {from}");
        let error = parse(&text.replacen(from, to, 1)).unwrap_err().to_string();
        assert!(error.contains(words), "{to}: {error}");
    }
    let text = demo::sheet_text("dunlin.toml");
    let (head, rest) = text.split_once("[[programmer.wiring]]").unwrap();
    let bare = format!("{head}{}", &rest[rest.find("[[variant]]").unwrap()..]);
    assert!(parse(&bare).unwrap_err().to_string().contains("[[programmer.wiring]] is required"));
    let twice = text.replacen("[[variant]]", "[[programmer]]\nname = \"linnet\"\nabout = \"x\"\nid = \"1209:0019\"\ndialect = \"linnet\"\n[[programmer.wiring]]\ndo = \"wire\"\n\n[[variant]]", 1);
    assert!(parse(&twice).unwrap_err().to_string().contains("another [[programmer]] has the name 'linnet'"));
}

fn judged(signature: i128, label: bool) -> Verdict {
    let sheet = dunlin();
    let file = std::fs::read(demo::firmware("dunlin-1.1.0.hex")).unwrap();
    let image: Image = vaka_image::read(&file, ReadOptions::default()).unwrap();
    let id: DeviceId = "programmer:linnet".parse().unwrap();
    let told = vec![ReportedProperty { name: "signature".into(), value: PropertyValue::Number(signature) }];
    let unit = UnitFacts { told, ..UnitFacts::listed(id, ReleaseNumber(0)) };
    let label = sheet.variant("n1").filter(|_| label);
    judge(&MatchInput { unit: Some(&unit), label, ..MatchInput::new(&sheet, &image) })
}

/// A signature is that of a kind of chip: it can exclude a board, but only the label decides for one.
#[test]
fn a_chip_never_decides_for_a_board() {
    let open = judged(0x5A2A31, false);
    assert_eq!((open.phase, open.outcome), (Phase::Final, Outcome::Undecided));
    assert!(open.question.is_some() && open.approval().is_none());
    assert_eq!(judged(0x5A2A31, true).outcome, Outcome::Fits);
    let other = judged(0x5A2B02, true);
    assert_eq!(other.outcome, Outcome::Conflicts);
    let says: Vec<String> =
        other.conflicts().map(|evidence| format!("{} {}", evidence.source.as_str(), evidence.says)).collect();
    assert_eq!(says, ["chip signature 5909250 (0x5A2B02)"]);
}
