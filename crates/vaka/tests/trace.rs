//! A run is recorded, and answered from its record: what was seen far away is
//! seen here again.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::path::Path;

use serde_json::Value;
use support::{Bench, Ended, Running, firmware, program, root};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::heron::Heron;
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::tern::{Revision, Tern};

/// Long for a busy machine, short where a unit does not come back.
const WAIT: &str = "5s";

fn recorded(bench: &Bench, file: &str, args: &[&str]) -> (Ended, String) {
    let file = firmware(file);
    let args = [&["update", file.to_str().unwrap(), "--format", "json", "--trace", "run.trace", "--wait", WAIT], args]
        .concat();
    let ended = bench.run(&args);
    (ended, fs::read_to_string(bench.folder.path().join("run.trace")).unwrap())
}

/// Runs a command against the units of a trace.
fn replayed(trace: &Path, file: &str, args: &[&str]) -> Ended {
    let mut simulator = Running::start(program().args(["simulate", "--replay"]).arg(trace));
    let line = simulator.wait_for("Simulated units at usbip://127.0.0.1:");
    let bus = line.rsplit(' ').next().unwrap().to_owned();
    let mut command = program();
    command
        .args(["update", firmware(file).to_str().unwrap(), "--format", "json", "--bus", &bus, "--wait", WAIT])
        .args(args);
    let ended = Running::start(command.env("VAKA_SHEETS", root().join("demo/sheets"))).end();
    simulator.kill();
    ended
}

/// The output of a run, without times and places.
fn said(ended: &Ended) -> Vec<Value> {
    let plain = |mut event: Value| {
        for key in ["time", "bus", "durations_ms", "left_ms", "text"] {
            event.as_object_mut().unwrap().remove(key);
        }
        event
    };
    let telling = |event: &Value| !matches!(event["event"].as_str(), Some("waiting" | "progress" | "warning"));
    ended.events().into_iter().filter(telling).map(plain).collect()
}

#[test]
fn a_run_is_answered_from_its_record() {
    let cases: Vec<(Bench, &str, Vec<&str>)> = vec![
        (Bench::tern_r1(), "tern-r1-1.5.0.hex", vec!["--variant", "r1"]),
        (Bench::of(vec![(Box::new(Gannet::new("G-00031")), Vec::new())]), "gannet-1.3.0.dfu", vec![]),
        (
            Bench::of(vec![(Box::new(Petrel::new(Board::Pb1, "P-1").in_boot_mode()), Vec::new())]),
            "petrel-pb1-2.4.0.uf2",
            vec![],
        ),
        (Bench::of(vec![(Box::new(Heron::new("S-1")), Vec::new())]), "heron-display-3.1.0.hex", vec![]),
        (
            Bench::new(vec![(Tern::new(Revision::R2, "T2-00054"), Vec::new())]),
            "tern-r1-1.5.0.hex",
            vec!["--variant", "r2"],
        ),
    ];
    for (bench, file, args) in cases {
        let (first, _) = recorded(&bench, file, &args);
        let again = replayed(&bench.folder.path().join("run.trace"), file, &args);
        let errors = |ended: &Ended| {
            let of =
                |event: &Value| matches!(event["event"].as_str(), Some("error" | "warning" | "attached" | "detached"));
            ended.events().into_iter().filter(of).map(|event| format!("{event}\n")).collect::<String>()
        };
        assert_eq!(again.code, first.code, "{file}\nfirst:\n{}\nagain:\n{}", errors(&first), errors(&again));
        assert_eq!(said(&again), said(&first), "{file}");
    }
}

#[test]
fn a_failure_is_seen_again() {
    for kind in [FaultKind::Stall, FaultKind::Short, FaultKind::Pull(None)] {
        let bench = Bench::faulty_r1(vec![Fault { at: 66, kind: kind.clone() }]);
        let args = ["--variant", "r1", "--rewrite"];
        let (first, _) = recorded(&bench, "tern-r1-1.5.0.hex", &args);
        assert_ne!(first.code, 0, "{kind:?}");
        let again = replayed(&bench.folder.path().join("run.trace"), "tern-r1-1.5.0.hex", &args);
        let error = |ended: &Ended| ended.events().into_iter().find(|event| event["event"] == "error").unwrap();
        let (first, again) = (error(&first), error(&again));
        assert_eq!((&again["message"], &again["code"]), (&first["message"], &first["code"]), "{kind:?}");
    }
}

/// The record has versions, times and all transfers, and nothing of the machine.
#[test]
fn a_trace_tells_what_went_over_the_wire() {
    let bench = Bench::tern_r1();
    let (ended, trace) = recorded(&bench, "tern-r1-1.5.0.hex", &["--variant", "r1"]);
    let lines: Vec<Value> = trace.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!((&lines[0]["trace"], &lines[0]["vaka"]), (&1.into(), &env!("CARGO_PKG_VERSION").into()));
    let times: Vec<f64> = lines[1..].iter().map(|line| line["t"].as_f64().unwrap()).collect();
    assert!(times.is_sorted(), "{times:?}");
    // Class requests, as the simulated unit itself has counted them.
    let class =
        lines.iter().filter(|line| line["setup"].as_str().is_some_and(|s| s.starts_with("21") || s.starts_with("a1")));
    assert_eq!(class.count(), bench.log("1-1").len());
    assert_eq!(ended.code, 0);
    let home = std::env::var("HOME").unwrap_or_default();
    assert!(home.len() < 2 || !trace.contains(&home), "no path of this machine beside the command's own");
    // A file that is there is not overwritten.
    let file = firmware("tern-r1-1.5.0.hex");
    bench.run(&["update", file.to_str().unwrap(), "--trace", "run.trace"]).expect(3, &["already exists"]);
}

#[test]
fn a_trace_that_is_cut_or_no_trace_says_so() {
    let bench = Bench::tern_r1();
    let (_, trace) = recorded(&bench, "tern-r1-1.5.0.hex", &["--variant", "r1"]);
    let cut = bench.file("cut.trace", &trace.as_bytes()[..trace.len() / 2]);
    let mut simulator = Running::start(program().args(["simulate", "--replay"]).arg(&cut));
    simulator.wait_for("The trace is incomplete; it is replayed up to its end");
    simulator.wait_for("1-1  as recorded: run the recorded command again");
    simulator.kill();
    let ended = replayed(&cut, "tern-r1-1.5.0.hex", &["--variant", "r1"]);
    assert_ne!(ended.code, 0, "half a run does not succeed");
    let middle = trace.replacen("\"setup\"", "\"setup", 1);
    for (text, words) in [
        ("", "this is not a trace: its first line is not a trace"),
        ("{\"trace\":9}\n", "it has format 9; format 1"),
        ("{\"trace\":1}\n", "the trace contains no opened unit"),
        (&middle, "is malformed"),
    ] {
        let bad = bench.file("bad.trace", text.as_bytes());
        let words = words.replace("it has", "has");
        Running::start(program().args(["simulate", "--replay"]).arg(bad)).end().expect(8, &[&words]);
    }
}
