//! Many units at once, by the built program.

#![allow(clippy::unwrap_used)]

mod support;

use std::process::Command;

use support::{Bench, Running, firmware};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;

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
