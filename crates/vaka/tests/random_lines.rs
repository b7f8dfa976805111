//! Random command lines, by the built program, over all commands, files and units. No
//! simulated unit is bricked, and no byte changes that no plan named.
//!
//! Seeded. `VAKA_LINES` says how many; the full run is CI's.

#![allow(clippy::unwrap_used, clippy::print_stderr)]

mod support;

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::PathBuf;
use vaka_testkit::Random;

use serde_json::Value;
use support::{Bench, Running, root};
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::heron::Heron;
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::skua::skua;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;

/// So many without `VAKA_LINES`.
const FEW: usize = 120;
/// Number of commands for one bench.
const A_BENCH: usize = 40;

/// A bench with most products, in different modes.
fn bench(random: &mut Random) -> Bench {
    let terns: [Box<dyn Unit>; 4] = [
        Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")),
        Box::new(Tern::in_boot_mode(Revision::R2, "T2-00054")),
        Box::new(Tern::new(Revision::R1, "T1-00218")),
        Box::new(Tern::blank(Revision::R2, "T2-00055")),
    ];
    let mut units: Vec<Box<dyn Unit>> = terns.into_iter().collect();
    units.push(Box::new(Gannet::new("G-00031")));
    units.push(Box::new(Petrel::new(Board::Pb1, "P-00112").in_boot_mode()));
    units.push(Box::new(Heron::new("S-00007")));
    units.push(Box::new(auk("A-00044")));
    units.push(Box::new(fulmar("F-00019")));
    units.push(Box::new(dunlin("N-00301").in_boot_mode()));
    units.push(Box::new(skua("K-00008").in_boot_mode()));
    // Fewer units on a bench make more commands find just one.
    while units.len() > 1 && !random.once_in(4) {
        let at = random.below(units.len());
        units.remove(at);
    }
    Bench::of(units.into_iter().map(|unit| (unit, Vec::new())).collect())
}

/// The files for commands.
fn files(bench: &Bench) -> Vec<PathBuf> {
    let folder = root().join("demo/firmware/out");
    let mut all: Vec<PathBuf> = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    all.sort();
    let r1 = std::fs::read(support::firmware("tern-r1-1.5.0.hex")).unwrap();
    all.push(bench.file("page.hex", b"<!DOCTYPE html><title>Firmware</title>"));
    all.push(bench.file("cut.hex", &r1[..r1.len() / 2]));
    all.push(bench.file("empty.bin", b""));
    all.push(
        bench.file(
            "noise.bin",
            &(0..5000_u32).map(|n| n.wrapping_mul(0x9E37_79B9).to_le_bytes()[3]).collect::<Vec<_>>(),
        ),
    );
    all.push(bench.folder.path().join("nothing.hex"));
    // Releases, of which each unit takes its own image.
    for name in ["tern-1.5.0", "tern-loader-1.1.0"] {
        let out = bench.folder.path().join(format!("{name}.vaka"));
        let description = root().join(format!("demo/releases/{name}.toml"));
        let args = ["pack", description.to_str().unwrap(), "--out", out.to_str().unwrap()];
        bench.run(&args).expect(0, &[]);
        all.extend([out.clone(), out]);
    }
    all
}

const UNITS: [&str; 12] = [
    "1-1",
    "1-2",
    "1-3",
    "port=1-1",
    "name=tern",
    "name=Gannet",
    "id=1209:0002",
    "1209:0004",
    "serial=T1-00217",
    "petrel",
    "9-9",
    "id=zz",
];
const LABELS: [&str; 8] = ["r1", "r2", "SKI-TERN R1", "OYS-240", "pb1", "pb2", "SKI-TERN R1; OYS-240", "unknown"];
const CONSENTS: [&str; 10] = [
    "older-version",
    "no-family",
    "larger-memory",
    "no-sheet",
    "unsigned",
    "lose-old-loader",
    "lose-settings",
    "lose-unnamed",
    "unprotect",
    "other-release",
];
const ADDRESSES: [&str; 6] = ["0x0A002400", "0x0A003000", "0x5000", "0x0C104000", "0", "0xFFFFF000"];

/// A command line.
fn line(random: &mut Random, files: &[PathBuf]) -> Vec<String> {
    let file = random.choose(files).display().to_string();
    let other = random.choose(files).display().to_string();
    let out = format!("out-{}.hex", random.below(1000));
    let words: &[&str] = match random.below(27) {
        0..=9 => &["update", &file],
        10 => &["check", &file],
        11 => &["survey"],
        12 => &["compare", &file],
        13 => &["read", &out],
        14 => &["restart"],
        15 => &["enter"],
        16 => &["settings", "save", "settings.json", "--replace"],
        17 => &["settings", "load", "settings.json"],
        18 => &["convert", &file, &other, &out],
        19..=21 => &["line", &file, "--for", "1s"],
        22 => &["console", "--send", "about", "--until", "version", "--within", "500ms"],
        23 => &["diagnose"],
        24 => &["sheet", "new"],
        25 => &["setup", "rules"],
        _ => &["journal"],
    };
    let mut line: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
    let updates = words[0] == "update";
    let mut add = |yes: bool, words: &[&str]| line.extend(words.iter().filter(|_| yes).map(|word| (*word).to_owned()));
    // Other commands do not have these options.
    let has_unit = !["convert", "setup"].contains(&words[0]);
    let has_variant =
        ["update", "check", "compare", "read", "restart", "enter", "settings", "line"].contains(&words[0]);
    add(has_unit && random.below(3) > 0, &["--unit", random.pick(&UNITS)]);
    add(has_variant && random.below(3) > 0, &["--variant", random.pick(&LABELS)]);
    add(has_variant && random.once_in(8), &["--part", random.pick(&["display", "interface", "wing"])]);
    for _ in 0..random.below(4) {
        add(has_variant, &["--allow", random.pick(&CONSENTS)]);
    }
    add(updates && random.once_in(4), &["--erase-all"]);
    add(updates && random.once_in(4), &["--rewrite"]);
    add(updates && random.once_in(6), &["--keep", random.pick(&["settings", "bootloader", "application"])]);
    add(updates && random.once_in(6), &["--check", "accepted"]);
    add(updates && random.once_in(8), &["--plan"]);
    add(updates && random.once_in(5), &["--at", random.pick(&ADDRESSES)]);
    add(updates && random.once_in(9), &["--memory", random.pick(&["0", "Tide Flash", "1"])]);
    add(has_variant || words[0] == "console", &["--unattended", "--wait", "1s"]);
    add(words[0] != "setup", &["--format", "json"]);
    line
}

/// Every range of addresses that the plans of a run name, unit by unit.
fn planned(stdout: &str) -> BTreeMap<String, Vec<Range<u64>>> {
    let mut all: BTreeMap<String, Vec<Range<u64>>> = BTreeMap::new();
    let events = stdout.lines().filter_map(|line| serde_json::from_str::<Value>(line).ok());
    for plan in events.filter(|event| event["event"] == "plan") {
        let spans = all.entry(plan["unit"].as_str().unwrap_or_default().to_owned()).or_default();
        collect(&plan["steps"], spans);
    }
    all
}

fn collect(value: &Value, spans: &mut Vec<Range<u64>>) {
    match value {
        Value::Object(map) => {
            let start = map.get("start").and_then(Value::as_str);
            let start =
                start.and_then(|text| u64::from_str_radix(&text.trim_start_matches("0x").replace('_', ""), 16).ok());
            if let Some((start, len)) = start.zip(map.get("len").and_then(Value::as_u64)) {
                spans.push(start..start + len);
            }
            map.values().for_each(|value| collect(value, spans));
        }
        Value::Array(list) => list.iter().for_each(|value| collect(value, spans)),
        _ => {}
    }
}

/// The true memories of all units.
fn memories(bench: &Bench) -> Vec<(String, u64, u64, Vec<u8>)> {
    let mut world = lock(&bench.world);
    let ports = world.ports();
    let of = |port: String| {
        let flash = world.unit(&port).unwrap().flash();
        let (base, sector, bytes) = (u64::from(flash.base()), u64::from(flash.sector_size()), flash.bytes().to_vec());
        (port, base, sector, bytes)
    };
    ports.into_iter().map(of).collect()
}

/// Changes lie in sectors that a plan named.
fn assert_planned(before: &[(String, u64, u64, Vec<u8>)], bench: &Bench, stdout: &str, what: &str) {
    let planned = planned(stdout);
    for ((port, base, sector, before), (.., after)) in before.iter().zip(memories(bench)) {
        let spans = planned.get(port).map_or(&[][..], Vec::as_slice);
        let in_plan = |at: u64| {
            let from = base + (at - base) / sector * sector;
            spans.iter().any(|span| span.start < from + sector && from < span.end)
        };
        let stray = (0..before.len()).find(|at| before[*at] != after[*at] && !in_plan(base + *at as u64));
        if let Some(at) = stray {
            panic!("{what}\nchanged 0x{:X} of the unit at {port}, which no plan named:\n{stdout}", base + at as u64);
        }
        let condition = lock(&bench.world).unit(port).unwrap().condition();
        assert_ne!(condition, Condition::Bricked, "{what}\nbricked the unit at {port}:\n{stdout}");
    }
}

/// Occasional user actions between two commands.
fn hands(random: &mut Random, bench: &Bench) {
    let mut world = lock(&bench.world);
    let ports = world.ports();
    let port = random.choose(&ports).clone();
    let buttons = ["SET", "MODE", "BOOT", "MARK", "SERVICE", "KEY", "MAST", "BRIDGE"];
    if random.once_in(2) {
        world.act(&port, &UserAction::Pull);
        let held: Vec<&str> = buttons.into_iter().filter(|_| random.once_in(3)).collect();
        for button in &held {
            world.act(&port, &UserAction::Hold((*button).into()));
        }
        world.act(&port, &UserAction::Plug);
        for button in held {
            world.act(&port, &UserAction::Release(button.into()));
        }
    }
}

fn run(seed: u64, count: usize) -> BTreeMap<i32, usize> {
    let mut random = Random(seed | 1);
    let mut codes = BTreeMap::new();
    let mut done = 0;
    while done < count {
        let bench = bench(&mut random);
        let files = files(&bench);
        for _ in 0..A_BENCH.min(count - done) {
            if random.once_in(4) {
                hands(&mut random, &bench);
            }
            let args = line(&mut random, &files);
            let what = format!("seed {seed:#x}, line {done}: vaka {}", args.join(" "));
            let before = memories(&bench);
            let ended = Running::start(bench.command().args(&args)).end();
            assert_planned(&before, &bench, &ended.stdout, &what);
            assert!(
                (0..=9).contains(&ended.code) && ended.code != 1,
                "{what}: exit status {}\n{}",
                ended.code,
                ended.stderr
            );
            *codes.entry(ended.code).or_default() += 1;
            done += 1;
        }
    }
    codes
}

#[test]
fn no_command_line_bricks_a_unit_or_writes_outside_its_plan() {
    let lines = std::env::var("VAKA_LINES").ok().and_then(|text| text.parse().ok()).unwrap_or(FEW);
    let threads: Vec<_> = [0x5EED_0001_u64, 0x5EED_0002, 0x5EED_0003, 0x5EED_0004]
        .into_iter()
        .map(|seed| std::thread::spawn(move || run(seed, lines / 4)))
        .collect();
    let mut codes: BTreeMap<i32, usize> = BTreeMap::new();
    for thread in threads {
        for (code, count) in thread.join().unwrap() {
            *codes.entry(code).or_default() += count;
        }
    }
    eprintln!("{lines} command lines, by exit status: {codes:?}");
    // Otherwise this would prove nothing.
    assert!(codes.get(&0).is_some_and(|good| *good > lines / 20), "{codes:?}");
    assert!(codes.get(&3).is_some_and(|refused| *refused > lines / 10), "{codes:?}");
}
