//! The same unit afterwards: never confused with another one of its kind.

#![allow(clippy::unwrap_used)]

mod support;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use support::{PORT, Scene, sheet_with};
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::selector::Selector;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_boot::warning::Warning;
use vaka_core::event::{ExitCode, Report, StepName, StepState};
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::Random;
use vaka_usb::Clock;

const OTHER: &str = "1-7";

fn run(scene: &Scene, request: &Request<'_>, mut tell: impl FnMut(&Event)) -> (Report, String) {
    let bench = Bench::new(vec![Arc::new(scene.bus())], &scene.sheets);
    let stop = AtomicBool::new(false);
    let mut events = Vec::new();
    let mut look = |event: Event| {
        tell(&event);
        events.push(event);
    };
    let report = update::run(&bench, request, &mut Unattended, &mut Context::new(&*scene.clock, &mut look, &stop));
    let said = events.iter().filter(|event| matches!(event, Event::Error(_) | Event::Warning { .. }));
    (report, format!("{:?}", said.collect::<Vec<_>>()))
}

/// One unit is updated ten times, forth and back, while another of its kind comes and
/// goes, in either mode, whenever it likes.
#[test]
fn of_two_equal_units_always_the_right_one_is_updated() {
    let old: &[u8] = include_bytes!("../../../demo/firmware/out/gannet-1.2.0.hex");
    let old_bytes: &[u8] = include_bytes!("../../../demo/firmware/out/gannet-1.2.0.bin");
    for seed in 1..=20_u64 {
        let mut random = Random(seed * 0x9E37_79B9);
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), support::GANNET);
        let other = Gannet::new("G-00032");
        lock(&scene.world).plug(OTHER, Box::new(other), Vec::new());
        let untouched = lock(&scene.world).unit(OTHER).unwrap().flash().bytes().to_vec();
        for round in 0..10 {
            let mut hands = lock(&scene.world);
            let mut at = 0;
            for _ in 0..random.below(12) {
                at += random.below(900) as u64;
                let hand = random.pick(&["pull", "plug", "hold BOOT", "release BOOT", "plug", "pull"]);
                hands.act_later(OTHER, Duration::from_millis(at), hand.parse::<UserAction>().unwrap());
            }
            drop(hands);
            let (file, bytes) = if round % 2 == 0 { (scene.file, scene.binary) } else { (old, old_bytes) };
            let request = Request {
                unit: Some(random.pick(&[Selector::Port(PORT.into()), Selector::Serial("G-00031".into())])),
                consents: vec!["older-version".into()],
                rewrite: random.once_in(3),
                wait: Duration::from_secs(8),
                ..Request::new(file)
            };
            let what = format!("seed {seed}, round {round}");
            let (report, said) = run(&scene, &request, |_| {});
            assert_eq!(report.code, ExitCode::Done, "{what}: {said}");
            let start = gannet::APPLICATION_REGION.start;
            let end = start + u32::try_from(bytes.len()).unwrap();
            assert!(scene.memory(start..end) == bytes, "{what}");
            let mut world = lock(&scene.world);
            assert!(world.unit(OTHER).unwrap().flash().bytes() == untouched, "{what}: the other one was written");
        }
    }
}

/// Two Petrels; the first is to be updated, the second lies beside the bench.
fn petrels(stable_serial: bool) -> Scene {
    let mut scene = Scene::petrel(Petrel::new(Board::Pb1, "P-00112"), Vec::new());
    let text = support::PETREL.replace("stable_serial = true", &format!("stable_serial = {stable_serial}"));
    scene.sheets = vec![sheet_with(&text, &[])];
    let mut other = Petrel::new(Board::Pb1, "P-00113");
    vaka_sim::unit::Unit::act(&mut other, Duration::ZERO, &UserAction::Pull);
    lock(&scene.world).plug(OTHER, Box::new(other), Vec::new());
    scene.act_at(Duration::from_secs(1), "pull");
    scene
}

/// (whether the sheet says that the serial number stays, where the unit is put, whether
/// the other one takes its place, how it ends, what is said)
#[test]
fn a_unit_that_moves_is_known_by_a_serial_number_that_stays() {
    let cases = [
        (true, OTHER, false, ExitCode::Done, "Moved { place: "),
        (false, OTHER, false, ExitCode::NoUnit, "OtherPort { place: "),
        (true, PORT, true, ExitCode::NoUnit, r#"found: "P-00113", expected: "P-00112""#),
        (true, PORT, false, ExitCode::Done, ""),
        (false, PORT, false, ExitCode::Done, ""),
    ];
    for (stays, to, other_comes, code, words) in cases {
        let scene = petrels(stays);
        let other_port = if to == PORT { OTHER } else { PORT };
        let request = Request {
            unit: Some(Selector::Port(PORT.into())),
            wait: Duration::from_secs(8),
            ..Request::new(scene.file)
        };
        let mut was_moved = false;
        let (report, said) = run(&scene, &request, |event| {
            if !matches!(event, Event::Detached { .. }) || std::mem::replace(&mut was_moved, true) {
                return;
            }
            let mut world = lock(&scene.world);
            if to == OTHER || other_comes {
                assert!(world.swap(PORT, OTHER));
            }
            let port = if other_comes { PORT } else { to };
            for (after, hand) in [(300, "hold MARK"), (500, "plug"), (600, "release MARK")] {
                world.act_later(port, Duration::from_millis(after), hand.parse::<UserAction>().unwrap());
            }
        });
        let what = format!("{stays} {to} {other_comes}: {said}");
        assert_eq!(report.code, code, "{what}");
        assert!(said.contains(words), "{what}");
        // The present places of the selected unit and of the other one.
        let (unit, other) = if other_comes { (OTHER, PORT) } else { (to, other_port) };
        scene.clock.sleep(Duration::from_secs(1));
        let mut world = lock(&scene.world);
        let mut holds = |port: &str| {
            let start = scene.start;
            world.unit(port).unwrap().flash().read(start, scene.binary.len()).unwrap() == scene.binary
        };
        assert_eq!(holds(unit), code == ExitCode::Done, "{what}");
        assert!(!holds(other), "{what}: the other one was written");
        if code == ExitCode::Done {
            assert_eq!(world.unit(unit).unwrap().condition(), Condition::Application, "{what}");
        }
    }
}

/// The unit is lost while it is written, and another of its kind, in the same mode, comes on
/// its port: nothing goes into that one.
#[test]
fn another_unit_on_the_port_of_a_lost_one_is_left_alone() {
    use vaka_sim::fault::{Fault, FaultKind};
    let fault = Fault { at: 40, kind: FaultKind::Pull(None) };
    let scene = Scene::gannet(Gannet::new("G-00031").in_boot_mode(), vec![fault], support::GANNET);
    let mut other = Gannet::new("G-00032");
    vaka_sim::unit::Unit::act(&mut other, Duration::ZERO, &UserAction::Pull);
    lock(&scene.world).plug(OTHER, Box::new(other), Vec::new());
    let untouched = lock(&scene.world).unit(OTHER).unwrap().flash().bytes().to_vec();
    let request = Request { wait: Duration::from_secs(8), rewrite: true, ..Request::new(scene.file) };
    let mut was_swapped = false;
    let (report, said) = run(&scene, &request, |event| {
        let is_lost = matches!(event, Event::Warning { text: Warning::WaitingForReturn { .. } });
        if is_lost && !std::mem::replace(&mut was_swapped, true) {
            let mut world = lock(&scene.world);
            assert!(world.swap(PORT, OTHER));
            for (after, hand) in [(100, "hold BOOT"), (200, "plug")] {
                world.act_later(PORT, Duration::from_millis(after), hand.parse::<UserAction>().unwrap());
            }
        }
    });
    assert!(was_swapped, "{said}");
    assert_eq!(report.code, ExitCode::Transfer, "{said}");
    assert!(said.contains(r#"OtherUnit { place: "1-1", found: "G-00032", expected: "G-00031" }"#), "{said}");
    assert!(lock(&scene.world).unit(PORT).unwrap().flash().bytes() == untouched, "the other one was written");
}

/// After the restart the unit is waited for, not one of its kind: another one that comes
/// on its port with the same firmware confirms nothing, and the unit itself does wherever
/// it is put.
#[test]
fn only_the_unit_itself_confirms_its_update() {
    let image: &[u8] = include_bytes!("../../../demo/firmware/out/gannet-1.3.0.bin");
    // (whether its sheet says that the serial number stays, how it ends, what is said)
    let cases = [
        (
            "another comes",
            true,
            ExitCode::NotBack,
            "another unit is at 1-1: its serial number is G-00032, expected G-00031",
        ),
        ("it is moved", true, ExitCode::Done, ""),
        ("it is moved", false, ExitCode::NotBack, "no device appeared on its port within 10 s"),
        ("it stays", true, ExitCode::Done, ""),
    ];
    for (does, stays, code, words) in cases {
        let text = support::GANNET.replace("stable_serial = true", &format!("stable_serial = {stays}"));
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), &text);
        let mut other = Gannet::new("G-00032");
        vaka_sim::unit::Unit::flash_mut(&mut other).put(gannet::APPLICATION_REGION.start, image);
        vaka_sim::unit::Unit::act(&mut other, Duration::ZERO, &UserAction::Pull);
        lock(&scene.world).plug(OTHER, Box::new(other), Vec::new());
        let request = Request {
            unit: Some(Selector::Port(PORT.into())),
            wait: Duration::from_secs(8),
            rewrite: true,
            read_back: false,
            ..Request::new(scene.file)
        };
        let (report, said) = run(&scene, &request, |event| {
            let restarts = matches!(event, Event::Step { step: StepName::Confirm, state: StepState::Started, .. });
            if !restarts || does == "it stays" {
                return;
            }
            let mut world = lock(&scene.world);
            world.act(PORT, &UserAction::Pull);
            assert!(world.swap(PORT, OTHER));
            let port = if does == "it is moved" { OTHER } else { PORT };
            world.act_later(port, Duration::from_millis(500), UserAction::Plug);
        });
        assert_eq!(report.code, code, "{does} {stays}: {said}");
        assert!(said.contains(words), "{does} {stays}: {said}");
        if does == "it is moved" && code == ExitCode::Done {
            assert_eq!(report.application.unwrap().port, OTHER);
        }
    }
}
