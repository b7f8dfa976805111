//! Entry procedures: each kind end to end, and the messages after a mistake.

#![allow(clippy::unwrap_used)]

#[path = "../../vaka-boot/tests/support/mod.rs"]
mod support;

use std::fmt::Write;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use support::{PORT, Scene, sheet_with};
use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::Operator;
use vaka_boot::update::{self, Request};
use vaka_core::event::{ExitCode, Report, RestartState, StepName, StepState};
use vaka_core::matching::Question;
use vaka_sim::bootloader::dfu::Quirks;
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::skua::skua;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::vendor_unit::VendorUnit;
use vaka_sim::world::lock;

macro_rules! sheet {
    ($file:literal) => {
        include_str!(concat!("../../../demo/sheets/", $file))
    };
}

macro_rules! firmware {
    ($file:literal) => {
        include_bytes!(concat!("../../../demo/firmware/out/", $file))
    };
}

/// A user at a terminal who presses Enter after this number of prompts.
struct AtBench {
    is_there: bool,
    enters: u32,
}

impl Operator for AtBench {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        None
    }

    fn is_there(&self) -> bool {
        self.is_there
    }

    fn take_ack(&mut self) -> bool {
        self.enters = self.enters.saturating_sub(1);
        self.enters == 1
    }
}

fn run(scene: &Scene, is_there: bool, wait: Duration) -> (Report, Vec<Event>) {
    let bench = Bench::new(vec![Arc::new(scene.bus())], &scene.sheets);
    let label = scene.label.map(str::to_owned);
    let request = Request { label, rewrite: true, wait, ..Request::new(scene.file) };
    let stop = AtomicBool::new(false);
    let mut events: Vec<Event> = Vec::new();
    let mut tell = |event| events.push(event);
    let mut operator = AtBench { is_there, enters: 0 };
    let report = update::run(&bench, &request, &mut operator, &mut Context::new(&*scene.clock, &mut tell, &stop));
    (report, events)
}

const FULMAR: &str = sheet!("fulmar.toml");
const FULMAR_LOADER: &str = sheet!("fulmar.dialect.toml");

/// A Fulmar whose application is asked in a dialect that a maintainer would write.
fn mast(call: &str) -> Scene {
    let call = format!("dialect = 1\nname = \"fulmar-call\"\nabout = \"how it is asked\"\n{call}");
    let sheet = sheet_with(FULMAR, &[FULMAR_LOADER, &call]);
    Scene::loaded(fulmar("F-00019"), Vec::new(), sheet, firmware!("fulmar-4.2.0.bin"), "MAST")
}

fn loaded(unit: VendorUnit, sheet: &str, dialects: &[&str], file: &'static [u8]) -> Scene {
    Scene::loaded(unit, Vec::new(), sheet_with(sheet, dialects), file, "BUTTON")
}

fn petrel() -> Scene {
    Scene::petrel(Petrel::new(Board::Pb1, "P-00112"), Vec::new())
}

/// Each kind that `vaka` has a word for, on a unit that does nothing else.
#[test]
#[allow(clippy::too_many_lines)] // a table
fn every_kind_of_entry_ends_in_an_update() {
    let by_hand = |scene: Scene, hands: &[(u64, &str)]| {
        hands.iter().for_each(|(after, words)| scene.act_at(Duration::from_millis(*after), words));
        scene
    };
    let ejecting = || {
        let mut scene = petrel();
        let text = sheet!("petrel.toml");
        let step = "[[route.entry]]\ndo = \"Pull the cable.\"\nwhy = \"The bootloader looks at MARK only when it gets power.\"\nshows = \"gone\"\n";
        let parts: Vec<&str> = text.split(step).collect();
        assert_eq!(parts.len(), 3, "the demo sheet is another one now");
        // The first step becomes the host's, the second goes away.
        let signal = text.replace(step, "[[route.entry]]\nsignal = \"eject\"\n");
        let lines = signal.lines().filter(|line| !line.starts_with("do = \"Hold MARK") && !line.starts_with("slips"));
        let text: String = lines.map(|line| format!("{line}\n")).collect();
        let text = text.replace("[[route.entry]]\nwhy = \"With MARK held at the start the bootloader stays.\"\nsee = \"The lamp stays dark. A disk named PETREL appears.\"\n", "");
        scene.sheets = vec![sheet_with(&text, &[])];
        scene
    };
    let cases: Vec<(&str, Scene)> = vec![
        ("DFU detach", Scene::gannet(Gannet::new("G-00031"), Vec::new(), support::GANNET)),
        (
            "HID feature report",
            loaded(
                auk("A-00044"),
                sheet!("auk.toml"),
                &[sheet!("auk.dialect.toml"), sheet!("auk-call.dialect.toml")],
                firmware!("auk-2.1.0.bin"),
            ),
        ),
        (
            "text command with its answer",
            mast(
                sheet!("fulmar-call.dialect.toml")
                    .split_once("[carrier]")
                    .map(|(_, rest)| Box::leak(format!("[carrier]{rest}").into_boxed_str()))
                    .unwrap(),
            ),
        ),
        (
            "binary command with its answer",
            mast(
                "[carrier]\nkind = \"serial\"\nbaud = 115200\n[enter]\nsend = \"0xC3, 0x1D, 0x42\"\nreply = \"0x3C, 0x1D\"\n",
            ),
        ),
        (
            "serial-port speed trick",
            mast(
                "[carrier]\nkind = \"serial\"\nbaud = 115200\n[enter]\ndo = \"line 1200; dtr off rts off; leaves within 2 s\"\n",
            ),
        ),
        (
            "DTR and RTS with their timing",
            mast(
                "[carrier]\nkind = \"serial\"\nbaud = 115200\nrts = false\n[enter]\ndo = \"dtr off rts on; wait 100 ms; dtr on rts off; leaves within 2 s\"\n",
            ),
        ),
        ("vendor request", mast("[carrier]\nkind = \"control\"\n[enter]\nout = { request = 0x6B, value = 0x1D42 }\n")),
        ("eject", ejecting()),
        (
            "one manual step",
            by_hand(
                Scene::tern(Tern::new(Revision::R1, "T1-00217"), Vec::new(), support::TERN),
                &[(1000, "hold SET"), (1200, "tap RESET"), (1400, "release SET")],
            ),
        ),
        (
            "manual steps one after the other",
            by_hand(petrel(), &[(1000, "pull"), (2500, "hold MARK"), (2700, "plug"), (2800, "release MARK")]),
        ),
        (
            "a short time after plug-in",
            by_hand(
                loaded(
                    dunlin("D-00005"),
                    sheet!("dunlin.toml"),
                    &[sheet!("dunlin.dialect.toml"), sheet!("linnet.dialect.toml")],
                    firmware!("dunlin-1.1.0.bin"),
                ),
                &[(1000, "pull"), (2000, "plug")],
            ),
        ),
    ];
    for (kind, scene) in cases {
        let (report, events) = run(&scene, false, Duration::from_secs(10));
        assert_eq!(report.code, ExitCode::Done, "{kind}: {}", story(&events, &report));
        assert_eq!(report.after, RestartState::Confirmed, "{kind}");
        assert!(scene.holds_image(), "{kind}: a false success");
        scene.assert_unharmed(kind);
        let reached =
            |event: &Event| matches!(event, Event::Step { step: StepName::Enter, state: StepState::Done, .. });
        assert!(events.iter().any(reached), "{kind}");
    }
}

/// A signal that does not have its timing does nothing: the table above cannot pass by
/// accident.
#[test]
fn a_signal_that_is_not_quite_right_leads_nowhere() {
    for (kind, call) in [
        ("speed", "[carrier]\nkind = \"serial\"\nbaud = 115200\n[enter]\ndo = \"line 2400; dtr off rts off\"\n"),
        (
            "timing",
            "[carrier]\nkind = \"serial\"\nbaud = 115200\nrts = false\n[enter]\ndo = \"dtr off rts on; wait 10 ms; dtr on rts off\"\n",
        ),
        ("value", "[carrier]\nkind = \"control\"\n[enter]\nout = { request = 0x6B, value = 0x1D43 }\n"),
        (
            "bytes",
            "[carrier]\nkind = \"serial\"\nbaud = 115200\n[enter]\nsend = \"0xC3, 0x1D, 0x43\"\nreply = \"0x3C, 0x1D\"\n",
        ),
    ] {
        let scene = mast(call);
        let (report, _) = run(&scene, false, Duration::from_secs(3));
        assert_ne!(report.code, ExitCode::Done, "{kind}");
        scene.assert_unharmed(kind);
    }
}

/// The output and the exit status.
fn story(events: &[Event], report: &Report) -> String {
    let mut text = String::new();
    for event in events {
        let line = match event {
            Event::ManualStep { number, of, step, .. } => format!("shown   {number} of {of}: {}", step.action),
            Event::Warning { text } => format!("told    {}", vaka_messages::warning(text)),
            Event::Step { step: StepName::Enter, state: StepState::Done, text, .. } => format!("ends    {text}"),
            Event::Error(failure) => {
                let failure = vaka_messages::failure(failure);
                let parts = [Some(&failure.message), failure.state.as_ref(), failure.remedy.as_ref()];
                let words: Vec<&str> = parts.into_iter().flatten().map(String::as_str).collect();
                format!("ends    with exit status {}: {}", u8::from(failure.code), words.join(" "))
            }
            _ => continue,
        };
        let _ = writeln!(text, "  {line}");
    }
    assert!(report.code == ExitCode::Done || report.bytes_written == 0, "{text}");
    text
}

/// Every typical slip, with the message that it gets: `mistakes.txt` is the table, for
/// reading. `VAKA_WRITE_TABLES=1` rewrites it.
#[test]
fn every_mistake_has_its_own_message() {
    type Case = (&'static str, fn() -> Scene, bool, &'static [(u64, &'static str)]);
    let tern: fn() -> Scene = || Scene::tern(Tern::new(Revision::R1, "T1-00217"), Vec::new(), support::TERN);
    let petrel: fn() -> Scene = petrel;
    let skua: fn() -> Scene = || {
        loaded(skua("K-00003"), sheet!("skua.toml"), &[sheet!("skua.dialect.toml")], firmware!("skua-bridge-1.7.0.bin"))
    };
    let dunlin: fn() -> Scene = || {
        loaded(
            dunlin("D-00005"),
            sheet!("dunlin.toml"),
            &[sheet!("dunlin.dialect.toml"), sheet!("linnet.dialect.toml")],
            firmware!("dunlin-1.1.0.bin"),
        )
    };
    let right: &[(u64, &str)] = &[(1000, "tap RESET"), (4000, "hold SET"), (4200, "tap RESET"), (4400, "release SET")];
    let cases: &[Case] = &[
        ("Tern: RESET without SET, then as shown", tern, true, right),
        ("Tern: the user does nothing", tern, true, &[]),
        ("Tern: the cable falls out", tern, true, &[(1000, "pull")]),
        ("Petrel: the cable is never pulled", petrel, true, &[]),
        ("Petrel: pulled, and not plugged in again", petrel, true, &[(1000, "pull")]),
        (
            "Petrel: MARK is let go too early, then all of it once more",
            petrel,
            true,
            &[
                (1000, "pull"),
                (2000, "plug"),
                (4000, "pull"),
                (5000, "hold MARK"),
                (5200, "plug"),
                (5300, "release MARK"),
            ],
        ),
        ("Petrel: the same without a terminal", petrel, false, &[(1000, "pull"), (2000, "plug")]),
        ("Skua: the pads did not touch", skua, true, &[(1000, "pull"), (2000, "plug")]),
        ("Dunlin: the cable stays where it is", dunlin, false, &[]),
        ("Gannet: an application that promises to leave and waits for a reset", gannet_that_stays, false, &[]),
        ("Fulmar: an application that knows no such word", || mast(WRONG_WORD), false, &[]),
        (
            "Tern: another button leads to another boot mode",
            with_loader,
            true,
            &[(1000, "hold MODE"), (1200, "tap RESET"), (1400, "release MODE")],
        ),
    ];
    let mut table = String::new();
    for (name, scene, is_there, hands) in cases {
        let scene = scene();
        hands.iter().for_each(|(after, words)| scene.act_at(Duration::from_millis(*after), words));
        let (report, events) = run(&scene, *is_there, Duration::from_secs(12));
        let does: Vec<String> =
            hands.iter().map(|(after, words)| format!("{words} ({}.{} s)", after / 1000, after % 1000 / 100)).collect();
        let does = if does.is_empty() { "nothing".to_owned() } else { does.join(", ") };
        let _ = writeln!(table, "{name}\n  does    {does}\n{}", story(&events, &report));
        scene.assert_unharmed(name);
    }
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/mistakes.txt");
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::write(path, &table).unwrap();
    }
    let kept = std::fs::read_to_string(path).unwrap_or_default();
    assert!(kept == table, "tests/mistakes.txt is another table now; rewrite it and read what changed:\n{table}");
}

const WRONG_WORD: &str = "[carrier]\nkind = \"serial\"\nbaud = 9600\n[framing]\nkind = \"delimiter\"\nend = \"'\\r\\n'\"\n[enter]\nsend = \"'to boot'\"\nreply = \"'leaving'\"\n";

fn gannet_that_stays() -> Scene {
    let manner = Quirks { ignores_detach: true, ..Quirks::default() };
    let unit = Gannet::with(
        "G-00031",
        vaka_sim::bootloader::dfu_plain::Traits { will_detach: true, ..Gannet::TRAITS },
        manner,
    );
    Scene::gannet(unit, Vec::new(), support::GANNET)
}

/// A Tern with the Tern loader in it: its loader's own mode is one, and not the chip's.
fn with_loader() -> Scene {
    let scene = Scene::tern(Tern::new(Revision::R1, "T1-00217"), Vec::new(), support::TERN);
    let loader = firmware!("tern-r1-loader-1.1.0.bin");
    let start = Tern::bootloader_region(Revision::R1).start;
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(start, loader);
    let mut scene = scene;
    scene.before[..loader.len()].copy_from_slice(loader);
    scene
}
