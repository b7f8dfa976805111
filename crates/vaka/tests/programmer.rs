//! A probe that is written through a programmer, by the built program over USB/IP.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::time::{Duration, Instant};

use support::{Bench, Ended, Running, firmware, root};
use vaka_sim::pins::Wiring;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::linnet::Linnet;
use vaka_sim::unit::vendor_unit::VendorUnit;
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;

/// A programmer at 1-1 that is wired to the unit at 1-2.
fn bench_of(unit: VendorUnit, wiring: Wiring) -> Bench {
    let board = Linnet::new("1-2", "L-00004", wiring);
    Bench::of(vec![(Box::new(board), Vec::new()), (Box::new(unit), Vec::new())])
}

fn update(bench: &Bench, more: &[&str]) -> Ended {
    let file = firmware("dunlin-1.1.0.hex");
    bench.run(&[&["update", file.to_str().unwrap(), "--wait", "2s"], more].concat())
}

fn holds(bench: &Bench, at: usize, image: &str) -> bool {
    let image = fs::read(firmware(image)).unwrap();
    bench.memory("1-2")[at..at + image.len()] == image
}

const NAMED: [&str; 4] = ["--unit", "programmer=linnet", "--variant", "n1"];

#[test]
fn a_programmer_is_listed_and_asked_only_if_it_is_named() {
    let bench = bench_of(dunlin("N-00301").blank(), Wiring::Crossed);
    let next = "next: vaka update FILE --unit programmer=linnet --variant LABEL";
    bench.run(&["survey"]).expect(0, &["1 unit on", "Linnet programmer", "1209:0018", next]);
    update(&bench, &["--variant", "n1"]).expect(4, &["did not appear within 2.0 s"]);
    let stuck = "reaches no chip: the data line is stuck; two wires are swapped";
    bench.run(&["diagnose", "--unit", "programmer=linnet"]).expect(9, &[stuck, "Check the wiring, step by step"]);
    bench.run(&["survey", "--unit", "programmer=1-1"]).expect(0, &[stuck]);
    update(&bench, &NAMED)
        .expect(4, &["Manual step 2 of 3: Put the Linnet's flat cable on J4", stuck, "The unit is unchanged."]);
    lock(&bench.world).act("1-1", &UserAction::Wire(Wiring::Right));
    let reads = "signature 5909041 (0x5A2A31)";
    bench.run(&["diagnose", "--unit", "programmer=linnet"]).expect(0, &["reaches a chip", reads]);
    bench.run(&["survey", "--unit", "programmer=linnet"]).expect(0, &[reads, next]);
    assert_eq!(bench.condition("1-2"), Condition::Silent, "it is blank, and not held");
    // The signature does not identify the board.
    update(&bench, &["--unit", "programmer=linnet"]).expect(3, &["any board may be wired to it", "--variant n1"]);
    update(&bench, &["--unit", "programmer=nightjar"]).expect(4, &["programmer nightjar", "1209:0018"]);
    bench.run(&["setup", "rules"]).expect(0, &["0018"]);
}

#[test]
fn a_damaged_unit_is_revived_and_confirmed_on_its_own_port() {
    let bench = bench_of(dunlin("N-00301").damaged(), Wiring::Right);
    let ended = update(&bench, &NAMED);
    let words = [
        "read-back: all",
        "confirmed",
        "n1 at 1-2 runs 1.1.0",
        "through    Linnet programmer",
        "Take the flat cable off J4",
    ];
    ended.expect(0, &words);
    assert!(holds(&bench, 0x1C00, "dunlin-1.1.0.bin"));
    assert_eq!(bench.condition("1-2"), Condition::Application);
    let events = update(&bench, &[&NAMED[..], &["--format", "json"]].concat()).expect(0, &[]).events();
    let result = events.last().unwrap();
    assert_eq!(result["programmer"], "Linnet programmer");
    assert_eq!((&result["application"]["port"], &result["serial"]), (&"1-2".into(), &"N-00301".into()));
    assert_eq!(result["outcome"], "unchanged");
    bench.run(&["journal", "--unit", "programmer=linnet"]).expect(0, &["N-00301", "2 attempts, 2 of them successful"]);
}

/// First the bootloader through the pins, then the application over the unit's own cable.
#[test]
fn a_release_revives_a_blank_unit_in_two_stages() {
    let bench = bench_of(dunlin("N-00301").blank(), Wiring::Right);
    let config = bench.folder.path().join("config");
    let run = |args: &[&str]| Running::start(bench.command().args(args).env("XDG_CONFIG_HOME", &config)).end();
    run(&["keys", "new", "skerrow"]).expect(0, &["created"]);
    let description = root().join("demo/releases/dunlin-1.1.0.toml");
    let release = bench.folder.path().join("dunlin.vaka");
    let release = release.to_str().unwrap();
    run(&["pack", description.to_str().unwrap(), "--key", "skerrow", "--out", release]).expect(0, &["fits"]);
    let update = [&["update", release, "--wait", "10s"], &NAMED[..]].concat();
    run(&update)
        .expect(0, &["Stage 1 of 2 is done", "1209:000a returned at 1-2", "Stage 2 of 2 is done", "runs 1.1.0"]);
    assert!(holds(&bench, 0, "dunlin-loader-1.0.0.bin") && holds(&bench, 0x1C00, "dunlin-1.1.0.bin"));
    assert_eq!(bench.condition("1-2"), Condition::Application);
    // A unit that runs has its bootloader: the stage with the programmer is past.
    run(&["update", release, "--wait", "0s", "--unit", "port=1-2", "--plan"]).expect(0, &["already completed"]);
}

/// The commands that only read: the chip runs again afterwards.
#[test]
fn a_chip_is_read_and_compared_and_runs_again() {
    let bench = bench_of(dunlin("N-00301"), Wiring::Right);
    let runs = || {
        let deadline = Instant::now() + Duration::from_secs(20);
        while bench.condition("1-2") != Condition::Application {
            assert!(Instant::now() < deadline, "the chip does not run: {:?}", bench.condition("1-2"));
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    let out = bench.folder.path().join("read.bin");
    let read = ["read", out.to_str().unwrap(), "--region", "application"];
    bench.run(&[&read[..], &NAMED].concat()).expect(0, &["32 KiB in 1 segment"]);
    assert!(fs::read(&out).unwrap() == bench.memory("1-2")[0x1C00..0x9C00]);
    runs();
    let file = firmware("dunlin-1.1.0.hex");
    bench.run(&[&["compare", file.to_str().unwrap()], &NAMED[..]].concat()).expect(6, &["differ"]);
    runs();
    bench.run(&[&["restart"], &NAMED[..]].concat()).expect(0, &["1209:0009", "1-2"]);
    let only = "holds a chip only while it reads or writes it";
    bench.run(&[&["enter"], &NAMED[..]].concat()).expect(3, &[only, "vaka diagnose --unit programmer=linnet"]);
}
