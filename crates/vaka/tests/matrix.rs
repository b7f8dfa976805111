//! Every image and release of the demo against every unit in every mode: the verdict,
//! what decided it, and the unit's true memory.
//!
//! The table is `tests/matrix.txt`, for reading; `tests/streams` holds the events
//! of each run that succeeds and of each release, in order. With `VAKA_WRITE_TABLES` set
//! both are written. What each verdict must be is said a second time here, by names alone.

#![allow(clippy::unwrap_used)]

#[path = "../../vaka-boot/tests/support/mod.rs"]
mod support;

use std::fmt::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use support::release_entry;
use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::Unattended;
use vaka_boot::release_install::{ReleaseInstall, StageHooks};
use vaka_boot::update::{self, Request};
use vaka_core::event::{ExitCode, FailureText};
use vaka_core::input::InputFile;
use vaka_core::matching::{Outcome, Verdict, Weight};
use vaka_core::release::Release;
use vaka_core::release::manifest::{STANDARD, Stage};
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::{Dialect, no_files};
use vaka_sim::World;
use vaka_sim::clock::VirtualClock;
use vaka_sim::in_process::SimBus;
use vaka_sim::scene::Scene;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;

const PORT: &str = "1-1";

fn demo(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name)
}

fn sheets() -> Vec<Sheet> {
    let mut files: Vec<PathBuf> =
        std::fs::read_dir(demo("sheets")).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    let text = |path: &PathBuf| std::fs::read_to_string(path).unwrap();
    let (dialects, sheets): (Vec<_>, Vec<_>) =
        files.into_iter().partition(|path| path.to_str().unwrap().ends_with(".dialect.toml"));
    let dialect = |path: &PathBuf| Arc::new(Dialect::parse("d", &text(path), &no_files).unwrap());
    let dialects: Dialects = dialects.iter().map(dialect).map(|dialect| (dialect.name.clone(), dialect)).collect();
    sheets.iter().map(|path| Sheet::parse_with("s", &text(path), &dialects).unwrap()).collect()
}

/// A unit in its initial mode, and the actions of the user meanwhile.
struct Found {
    name: &'static str,
    /// The start of the names of its firmware files.
    files: &'static str,
    scene: &'static str,
    /// The actions that lead to update mode, once the tool waits for it.
    hands: &'static [&'static str],
    label: Option<&'static str>,
}

const SET: &[&str] = &["hold SET", "tap RESET", "release SET"];
const PLUG: &[&str] = &["pull", "plug"];
const MARK: &[&str] = &["pull", "hold MARK", "plug", "release MARK"];
const BRIDGE: &[&str] = &["pull", "hold BRIDGE", "plug", "release BRIDGE"];

const fn found(
    name: &'static str,
    files: &'static str,
    scene: &'static str,
    hands: &'static [&'static str],
    label: Option<&'static str>,
) -> Found {
    Found { name, files, scene, hands, label }
}

/// Every unit in every mode. A scene of one word is made in `unit`.
const UNITS: [Found; 27] = [
    found("tern r1, application", "tern-r1-", "tern r1 application", SET, None),
    found("tern r1, application, label read", "tern-r1-", "tern r1 application", SET, Some("r1")),
    found("tern r1, chip boot", "tern-r1-", "tern r1 update", &[], None),
    found("tern r1, chip boot, label read", "tern-r1-", "tern r1 update", &[], Some("r1")),
    found("tern r1, chip boot, the other label read", "tern-r1-", "tern r1 update", &[], Some("r2")),
    found("tern r1, loader", "tern-r1-", "tern r1 loader", &[], None),
    found("tern r1, blank, label read", "tern-r1-", "tern r1 blank", &[], Some("r1")),
    found("tern r2, application", "tern-r2-", "tern r2 application", SET, None),
    found("tern r2, chip boot", "tern-r2-", "tern r2 update", &[], None),
    found("tern r2, chip boot, label read", "tern-r2-", "tern r2 update", &[], Some("r2")),
    found("tern r2, loader", "tern-r2-", "tern r2 loader", &[], None),
    found("gannet, application", "gannet-", "gannet - application", &[], None),
    found("gannet, bootloader", "gannet-", "gannet - update", &[], None),
    found("petrel pb1, application", "petrel-pb1-", "petrel pb1 application", MARK, None),
    found("petrel pb1, update disk", "petrel-pb1-", "petrel pb1 update", &[], None),
    found("petrel pb2, update disk", "petrel-pb2-", "petrel pb2 update", &[], None),
    found("heron, application", "heron-display-", "heron - application", &[], None),
    found("heron, service disk", "heron-interface-", "heron - update", &[], None),
    found("dunlin, application", "dunlin-", "dunlin - application", PLUG, None),
    found("dunlin, bootloader", "dunlin-", "dunlin - update", &[], None),
    found("auk, application", "auk-", "auk - application", &[], None),
    found("auk, bootloader", "auk-", "auk - update", &[], None),
    found("avocet, application", "avocet-", "avocet - application", &[], None),
    found("avocet, bootloader", "avocet-", "avocet - update", &[], None),
    found("fulmar, application", "fulmar-", "fulmar - application", &[], None),
    found("skua, application", "skua-bridge-", "skua - application", BRIDGE, None),
    found("skua, bootloader", "skua-bridge-", "skua - update", &[], None),
];

impl Found {
    fn world(&self, clock: &Arc<VirtualClock>) -> World {
        let mut world = World::new(clock.clone());
        let words: Vec<&str> = self.scene.split(' ').collect();
        let [product, variant, mode] = words[..] else { panic!("{}", self.scene) };
        match mode {
            "loader" | "blank" => {
                let revision = if variant == "r1" { Revision::R1 } else { Revision::R2 };
                let mut tern = Tern::blank(revision, "T-00400").unplugged();
                if mode == "loader" {
                    use vaka_sim::unit::Unit;
                    let loader = std::fs::read(demo(&format!("firmware/out/tern-{variant}-loader-1.1.0.bin"))).unwrap();
                    tern.flash_mut().put(0x0A00_0000, &loader);
                }
                world.plug(PORT, Box::new(tern), Vec::new());
                world.act(PORT, &UserAction::Plug);
            }
            _ => {
                let variant = if variant == "-" { String::new() } else { format!("variant = \"{variant}\"\n") };
                let scene = format!(
                    "[[unit]]\nproduct = \"{product}\"\n{variant}mode = \"{mode}\"\nport = \"{PORT}\"\nserial = \"X-00400\"\n"
                );
                Scene::parse(&scene).unwrap().build(&mut world);
            }
        }
        for hand in self.hands {
            world.act_later(PORT, Duration::from_secs(1), hand.parse::<UserAction>().unwrap());
        }
        world
    }

    /// The expected verdict, from the names alone: `fits`, `undecided` or no.
    fn must(&self, file: &str) -> &'static str {
        let is_tern = self.files.starts_with("tern");
        let is_own = file.starts_with(self.files);
        // Similar files: a build for another start, a bootloader, a file
        // without family or address.
        let is_odd = file == "tern-r1-1.5.0.bin"
            || file.contains("-at-0")
            || file.contains("-loader-")
            || file == "petrel-pb1-2.4.0.hex";
        // A unit that only its application's ids name can still be either.
        let may_be_either = is_tern && self.label.is_none() && self.scene.ends_with("application");
        match self.label {
            _ if is_odd => "no",
            Some(label) if !self.files.contains(label) => "no",
            None if is_tern
                && !self.scene.ends_with("loader")
                && (is_own || may_be_either)
                && file.starts_with("tern") =>
            {
                "undecided"
            }
            _ if is_own => "fits",
            _ => "no",
        }
    }
}

/// Every image, each in the form in which its product takes it; and the same in a form
/// that lacks something.
fn images() -> Vec<String> {
    let mut all: Vec<String> = std::fs::read_dir(demo("firmware/out"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    let form = |name: &str| match name.split('-').next().unwrap() {
        "petrel" => "uf2",
        "gannet" => "dfu",
        "fulmar" | "dunlin" => "bin",
        _ => "hex",
    };
    all.retain(|name| {
        name.ends_with(&format!(".{}", form(name)))
            || matches!(name.as_str(), "tern-r1-1.5.0.bin" | "petrel-pb1-2.4.0.hex")
    });
    all.sort();
    all
}

/// The result and its reason, in one line.
fn because(verdict: Option<&Verdict>, events: &[Event]) -> (String, String) {
    let failure = events.iter().rev().find_map(|event| match event {
        Event::Error(failure) => Some(vaka_messages::failure(failure).message),
        _ => None,
    });
    let Some(verdict) = verdict else { return ("refused".into(), failure.unwrap_or_default()) };
    let decides = verdict.evidence.iter().find(|evidence| evidence.weight == Weight::Decisive);
    match verdict.outcome {
        Outcome::Fits => ("fits".into(), decides.map_or_else(String::new, |evidence| evidence.sentence())),
        Outcome::Conflicts => {
            ("conflicts".into(), verdict.conflicts().next().map_or_else(String::new, |e| e.sentence()))
        }
        Outcome::Undecided => {
            let ids: Vec<&str> = verdict.compatible.iter().map(|id| id.as_str()).collect();
            ("undecided".into(), format!("it would fit {}; what is printed decides", ids.join(" or ")))
        }
    }
}

struct NoHands;

impl StageHooks for NoHands {
    fn begins(&mut self, _: usize) {}
    fn export_file(&mut self, _: &str, _: &[u8]) -> Result<String, FailureText> {
        unreachable!("no stage of these is another tool's")
    }
}

/// The tested input: a file or a release.
enum Tried<'a> {
    File(&'a [u8]),
    Release(&'a Release),
}

/// The events of a run, one JSON object per line. Consecutive progress events of one kind
/// are one line: the first.
fn stream(events: &[Event]) -> String {
    let mut text = String::new();
    let mut last_progress = None;
    for event in events {
        let progress = matches!(event, Event::Progress { .. }).then(|| std::mem::discriminant(event));
        if progress.is_none() || progress != last_progress {
            writeln!(text, "{}", serde_json::to_string(&vaka_messages::event(event.clone())).unwrap()).unwrap();
        }
        last_progress = progress;
    }
    text
}

/// Compares `text` with the file, line by line, or writes it if that is asked for.
#[track_caller]
fn assert_golden(path: &Path, text: &str) {
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    let wanted = std::fs::read_to_string(path).unwrap();
    for (index, (found, wanted)) in text.lines().zip(wanted.lines()).enumerate() {
        assert_eq!(found, wanted, "{}, line {}", path.display(), index + 1);
    }
    assert_eq!(text.lines().count(), wanted.lines().count(), "{}", path.display());
}

fn one(unit: &Found, tried: &Tried<'_>, sheets: &[Sheet]) -> (String, String, String) {
    let clock = Arc::new(VirtualClock::default());
    let world = unit.world(&clock).shared();
    use vaka_image::FirmwareFile;
    use vaka_usb::Clock;
    clock.sleep(Duration::from_millis(500));
    let memory = || lock(&world).unit(PORT).unwrap().flash().bytes().to_vec();
    let before = memory();
    let bus = Arc::new(SimBus::new(world.clone(), clock.clone()));
    let stop = AtomicBool::new(false);
    let mut events = Vec::new();
    let mut tell = |event| events.push(event);
    let mut cx = Context::new(&*clock, &mut tell, &stop);
    let request = Request { label: unit.label.map(Into::into), wait: Duration::from_secs(6), ..Request::new(&[]) };
    let report = match tried {
        Tried::File(file) => {
            let bench = Bench::new(vec![bus], sheets);
            update::run(
                &bench,
                &Request { files: vec![InputFile::of(FirmwareFile::parse(file))], ..request },
                &mut Unattended,
                &mut cx,
            )
        }
        Tried::Release(release) => {
            let sheet = sheets.iter().find(|sheet| sheet.product.id == release.manifest.product).unwrap();
            let staged = ReleaseInstall { buses: &[bus], guard: None, secrets: None, sheet, release, build: STANDARD };
            staged.run(&request, &mut Unattended, &mut cx, &mut NoHands)
        }
    };
    let verdict = events.iter().rev().find_map(|event| match event {
        Event::Verdict { verdict, .. } => Some(verdict),
        _ => None,
    });
    let (word, why) = because(verdict, &events);
    let what = format!("{}: {word}, {why}", unit.name);
    assert_ne!(lock(&world).unit(PORT).unwrap().condition(), Condition::Bricked, "{what}");
    // Between two stages manual steps may be needed, without an operator here.
    let waits = matches!(tried, Tried::Release(release) if release.manifest.stages.len() > 1)
        && report.code == ExitCode::NoUnit
        && word == "fits";
    // An application alone does not start on a board that has no bootloader.
    let starts_nothing = unit.scene.ends_with("blank") && report.code == ExitCode::NotBack;
    assert_eq!(word == "fits", report.code == ExitCode::Done || waits || starts_nothing, "{what}: {events:#?}");
    if word != "fits" {
        assert!(memory() == before, "{what}: its memory was changed");
    }
    (word, why, stream(&events))
}

#[test]
fn every_image_against_every_unit() {
    let sheets = sheets();
    let mut table = String::new();
    let tests = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    for unit in &UNITS {
        writeln!(table, "{}", unit.name).unwrap();
        let mut streams = String::new();
        for file in images() {
            let bytes = std::fs::read(demo("firmware/out").join(&file)).unwrap();
            let (word, why, events) = one(unit, &Tried::File(&bytes), &sheets);
            let must = if matches!(word.as_str(), "conflicts" | "refused") { "no" } else { &word };
            assert_eq!(must, unit.must(&file), "{} with {file}: {why}", unit.name);
            writeln!(table, "  {file:<27} {word:<10} {why}").unwrap();
            if word == "fits" {
                writeln!(streams, "# {file}\n{events}").unwrap();
            }
        }
        for (name, release) in releases() {
            let (word, why, events) = one(unit, &Tried::Release(&release), &sheets);
            writeln!(table, "  {name:<27} {word:<10} {why}").unwrap();
            if unit.files.starts_with("tern") {
                writeln!(streams, "# {name}\n{events}").unwrap();
            }
        }
        let file = unit.name.replace(", ", "-").replace(' ', "-");
        assert_golden(&tests.join("streams").join(file + ".jsonl"), &streams);
    }
    assert_golden(&tests.join("matrix.txt"), &table);
}

/// The Tern's releases: the application for both boards, and the loader before it.
fn releases() -> [(&'static str, Release); 2] {
    let stage = |name: &str, of: Option<&str>, version: &str| Stage {
        name: name.into(),
        stage: of.map(Into::into),
        external: None,
        images: ["r1", "r2"].map(|board| release_entry(&format!("tern-{board}-{version}.hex"), board, &[])).to_vec(),
    };
    let application = || stage("Application", None, "1.5.0");
    let make = |stages: Vec<Stage>| {
        let names = stages.iter().flat_map(|s| &s.images).flat_map(|i| &i.files).map(|f| f.file.clone());
        let members = names.map(|name| {
            let bytes = std::fs::read(demo("firmware/out").join(&name)).unwrap();
            (name, bytes)
        });
        let members = members.collect();
        support::release(stages, Vec::new(), members)
    };
    [
        ("release, one stage", make(vec![application()])),
        ("release, loader first", make(vec![stage("Bootloader", Some("loader"), "loader-1.1.0"), application()])),
    ]
}
