//! Many units at once, by the built program.

#![allow(clippy::unwrap_used)]

mod support;

use std::io::Write;
use std::process::Command;

use support::{Bench, Ended, Running, assert_updated, at_terminal, firmware, root};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::program;

fn unit(serial: &str) -> Box<dyn Unit> {
    Box::new(Gannet::new(serial))
}

/// Whether a unit's true memory holds the new application, and it runs.
fn is_updated(bench: &Bench, port: &str) -> bool {
    let image = std::fs::read(firmware("gannet-1.3.0.bin")).unwrap();
    let start = gannet::APPLICATION_REGION.start as usize;
    bench.memory(port)[start..start + image.len()] == image && bench.condition(port) == Condition::Application
}

#[test]
fn all_that_are_plugged_in_are_updated_and_one_that_fails_stops_no_other() {
    let broken = vec![Fault { at: 9, kind: FaultKind::Pull(None) }];
    let mut units: Vec<(Box<dyn Unit>, Vec<Fault>)> =
        ["G-1", "G-2", "G-3", "G-4"].map(|serial| (unit(serial), Vec::new())).into_iter().collect();
    units.push((unit("G-5"), broken));
    // Not concerned: the file is for another product.
    units.push((Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")), Vec::new()));
    let bench = Bench::of(units);
    let tern = bench.memory("1-6");
    let file = firmware("gannet-1.3.0.dfu");
    let ended = bench.run(&["line", file.to_str().unwrap(), "--count", "5", "--wait", "4s"]);
    ended.expect(5, &["5 units: 4 updated, 1 FAILED", "1-5", "FAILED writing at"]);
    for port in ["1-1", "1-2", "1-3", "1-4"] {
        assert!(is_updated(&bench, port), "{port}");
        assert!(
            ended.stdout.lines().any(|line| line.starts_with(port) && line.contains("updated, read-back, confirmed"))
        );
    }
    assert!(bench.memory("1-6") == tern);
    let journal = std::fs::read_to_string(bench.folder.path().join("vaka/journal.jsonl")).unwrap();
    let attempts: std::collections::BTreeSet<String> = journal
        .lines()
        .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()["attempt"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!((attempts.len(), journal.lines().count()), (5, 10), "{journal}");
}

/// One after the other on the same port: the next unit is updated, and one that was
/// done before is let alone.
#[test]
fn the_next_unit_is_updated_and_none_twice() {
    let bench = Bench::of(vec![(unit("G-1"), Vec::new())]);
    let file = firmware("gannet-1.3.0.dfu");
    let mut line = Running::start(bench.command().args(["line", file.to_str().unwrap(), "--format", "text"]));
    line.wait_for("updated, read-back, confirmed");
    assert!(is_updated(&bench, "1-1"));
    let again = |hands: &[UserAction]| hands.iter().for_each(|hand| assert!(lock(&bench.world).act("1-1", hand)));
    again(&[UserAction::Pull]);
    line.wait_for("ready for the next unit");
    again(&[UserAction::Plug]);
    line.wait_for("already finished, by its serial number; nothing was written");
    Command::new("kill").args(["-INT", &line.id().to_string()]).status().unwrap();
    line.end().expect(0, &["1 unit: 1 updated"]);
}

/// Two units can have the same serial number. A unit that arrives while the finished one is still
/// attached is another, and is updated.
#[test]
fn equal_serial_numbers_on_two_ports_are_two_units() {
    let bench = Bench::of(vec![(unit("G-1"), Vec::new()), (unit("G-1"), Vec::new())]);
    assert!(lock(&bench.world).act("1-2", &UserAction::Pull));
    let file = firmware("gannet-1.3.0.dfu");
    let mut line = Running::start(bench.command().args(["line", file.to_str().unwrap(), "--count", "2"]));
    line.wait_for("updated, read-back, confirmed");
    assert!(is_updated(&bench, "1-1") && !is_updated(&bench, "1-2"));
    assert!(lock(&bench.world).act("1-2", &UserAction::Plug));
    line.end().expect(0, &["2 units: 2 updated"]);
    assert!(is_updated(&bench, "1-2"));
}

/// Units on two servers, as one line; places have the server before them.
#[test]
fn a_line_may_go_over_several_benches() {
    let left = Bench::of(vec![(unit("G-1"), Vec::new())]);
    let right = Bench::of(vec![(unit("G-2"), Vec::new()), (unit("G-3"), Vec::new())]);
    let file = firmware("gannet-1.3.0.dfu");
    let mut command = left.command();
    command.env("VAKA_BUS", format!("{},{}", left.bus(), right.bus()));
    let ended = Running::start(command.args(["line", file.to_str().unwrap(), "--count", "3"])).end();
    let place = format!("{}/1-2 ", right.bus());
    ended.expect(0, &["3 units: 3 updated", &place]);
    assert!(is_updated(&left, "1-1") && is_updated(&right, "1-1") && is_updated(&right, "1-2"));
}

#[test]
fn a_line_ends_after_its_time() {
    let bench = Bench::of(Vec::new());
    let file = firmware("gannet-1.3.0.dfu");
    bench.run(&["line", file.to_str().unwrap(), "--for", "300ms"]).expect(4, &["0 units: none came"]);
    let bench = Bench::of(vec![(unit("G-1"), Vec::new()), (unit("G-2"), Vec::new())]);
    let ended = bench.run(&["line", file.to_str().unwrap(), "--for", "3s", "--format", "json"]);
    let events = ended.expect(0, &[]).events();
    let last = events.last().unwrap();
    assert_eq!((&last["event"], &last["units"], &last["updated"]), (&"line".into(), &2.into(), &2.into()), "{last}");
    let results = events.iter().filter(|event| event["event"] == "result");
    assert_eq!(results.filter(|result| result["after"] == "confirmed").count(), 2);
}

/// A release of the Tern for both boards, without a signature; its path.
fn release(bench: &Bench) -> String {
    let out = bench.folder.path().join("tern.vaka").to_str().unwrap().to_owned();
    let description = root().join("demo/releases/tern-1.5.0.toml");
    bench.run(&["pack", description.to_str().unwrap(), "--out", &out]).expect(0, &[]);
    out
}

fn terns() -> Bench {
    let unit = |revision, serial| (Tern::in_boot_mode(revision, serial), Vec::new());
    Bench::new(vec![unit(Revision::R1, "T1-1"), unit(Revision::R2, "T2-1"), unit(Revision::R1, "T1-2")])
}

fn line(bench: &Bench, release: &str, args: &[&str], input: &str) -> Ended {
    let args = [&["line", release, "--allow", "unsigned", "--count", "3", "--wait", "5s"], args].concat();
    let mut running = Running::start(bench.command().args(args));
    running.stdin().write_all(input.as_bytes()).unwrap();
    running.end()
}

/// Two boards that only their labels tell apart, on one line: a label for each, from a scanner.
#[test]
fn each_unit_gets_its_own_label_from_a_scanner() {
    let bench = terns();
    let release = release(&bench);
    let before = ["1-1", "1-2", "1-3"].map(|port| bench.memory(port));
    let args = ["--scan", "--save", "saved", "--report", "line.html"];
    let ended = line(&bench, &release, &args, "SKI-TERN R1\nSKI-TORN R2\n\nSKI-TERN R2; OYS-240\nr1\n");
    let words = [
        "3 units: 3 updated",
        "label \"SKI-TERN R2; OYS-240\": Tern r2",
        "No variant has the id or label 'SKI-TORN R2'",
    ];
    ended.expect(0, &words);
    let is_r2 = |index: usize| {
        if index == 1 { (Revision::R2, "tern-r2-1.5.0.bin") } else { (Revision::R1, "tern-r1-1.5.0.bin") }
    };
    for (index, before) in before.iter().enumerate() {
        let (revision, file) = is_r2(index);
        let image = std::fs::read(firmware(file)).unwrap();
        assert_updated(revision, before, &bench.memory(&format!("1-{}", index + 1)), &image);
    }
    // Each backup is the former content of one of them, by the program that converts it.
    let saved: Vec<_> = std::fs::read_dir(bench.folder.path().join("saved")).unwrap().flatten().collect();
    assert_eq!(saved.len(), 3, "{saved:?}");
    for file in &saved {
        assert!(file.file_name().to_str().unwrap().starts_with("Tern-tide-gauge_"), "{file:?}");
        let (hex, bin) = (file.path(), bench.folder.path().join("saved.bin"));
        let range = "0x0A003000..0x0A004000";
        let convert = ["convert", hex.to_str().unwrap(), bin.to_str().unwrap(), "--range", range, "--replace"];
        bench.run(&convert).expect(0, &[]);
        let bytes = std::fs::read(&bin).unwrap();
        assert!(before.iter().any(|memory| memory[0x3000..0x4000] == bytes), "{file:?}");
    }
    let page = std::fs::read_to_string(bench.folder.path().join("line.html")).unwrap();
    assert!(page.contains("<b>3</b>attempts") && page.contains("T2-1"), "{page}");
    let journal = std::fs::read_to_string(bench.folder.path().join("vaka/journal.jsonl")).unwrap();
    for words in ["\"label\":\"SKI-TERN R2; OYS-240\"", "\"label\":\"r1\"", "\"backup\":\"saved/Tern-tide-gauge_"] {
        assert!(journal.contains(words), "{words}: {journal}");
    }
    line(&bench, &release, &args, "").expect(3, &["line.html already exists", "--replace"]);
}

/// A scanner that ends: the units without a label are refused, and unchanged.
#[test]
fn a_unit_without_a_label_is_refused_if_it_needs_one() {
    let bench = terns();
    let release = release(&bench);
    let before = ["1-1", "1-2", "1-3"].map(|port| bench.memory(port));
    let ended = line(&bench, &release, &["--scan"], "-\nr1\n");
    ended.expect(3, &["3 units: 3 refused", "no label was given", "r1 has 48 sectors of 3 KiB"]);
    assert_eq!(before, ["1-1", "1-2", "1-3"].map(|port| bench.memory(port)));
    let args = ["line", &release, "--scan", "--variant", "r1"];
    bench.run(&args).expect(2, &["cannot be used with"]);
    // Losses need consent, as for one unit.
    let ended = line(&bench, &release, &["--scan", "--erase-all"], "r1\nr2\nr1\n");
    ended.expect(3, &["3 units: 3 refused", "--allow lose-settings"]);
    let ended = line(&bench, &release, &["--scan", "--erase-all", "--keep", "settings", "--plan"], "r1\nr2\nr1\n");
    ended.expect(0, &["3 units: 3 planned"]);
    assert_eq!(before, ["1-1", "1-2", "1-3"].map(|port| bench.memory(port)));
}

/// At a terminal the question names the port; only units whose chip does not tell are asked about.
#[test]
fn at_a_terminal_a_line_asks_for_the_label_of_each_unit() {
    if !program::is_there("script") {
        return;
    }
    let bench = Bench::new(vec![(Tern::in_boot_mode(Revision::R1, "T1-1"), Vec::new())]);
    let release = release(&bench);
    let mut command = bench.command();
    command.args(["line", &release, "--allow", "unsigned", "--count", "1"]);
    let mut running = Running::start(&mut at_terminal(&command));
    running.wait_for("1-1         Tern tide gauge  READ ITS LABEL");
    running.wait_for("\"SKI-TERN R2\" on the board");
    running.stdin().write_all(b"SKI-TERN R3\nSKI-TERN R1\n").unwrap();
    running.end().expect(0, &["No variant has the id or label 'SKI-TERN R3'", "1 unit: 1 updated"]);
}

/// A release backs up as a file does; each stage has its own backup.
#[test]
fn a_release_saves_the_former_content() {
    let bench = Bench::tern_r1();
    let (release, before) = (release(&bench), bench.memory("1-1"));
    let args = ["update", &release, "--allow", "unsigned", "--variant", "r1", "--save", "before.bin", "--dated"];
    bench.run(&args).expect(0, &["saved: before_", "_1.4.0_"]);
    let name = |name: &str| name.starts_with("before_") && name.ends_with("Z.bin");
    let entries = std::fs::read_dir(bench.folder.path()).unwrap().flatten();
    let saved =
        entries.map(|entry| entry.path()).find(|path| name(path.file_name().unwrap().to_str().unwrap())).unwrap();
    let saved = std::fs::read(saved).unwrap();
    assert!(before[0x2400..].starts_with(&saved[..0x4000]));
}
