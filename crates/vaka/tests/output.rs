//! The form of the output: short on success, in full on a refusal, wrapped to any width.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;

use serde_json::Value;
use support::{Bench, Ended, Running, firmware};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};

/// Columns that a line takes.
fn columns(line: &str) -> usize {
    line.chars().count()
}

fn run(bench: &Bench, width: u16, args: &[&str]) -> Ended {
    Running::start(bench.command().args(args).env("COLUMNS", width.to_string())).end()
}

/// No line is wider than the terminal, and what a user copies is on one line.
#[test]
fn output_fits_60_80_and_140_columns() {
    let file = firmware("tern-r1-1.5.0.hex");
    let file = file.to_str().unwrap();
    let cases: [(&[&str], &[&str]); 5] = [
        (&["survey", "-v"], &["A2896981819189B9", "1209:0002", "--unit port=1-1"]),
        (&["check", file], &["0x0A00_2400..0x0A00_7524", "20 772 bytes"]),
        (&["update", file, "--unattended"], &["0x0A00_2400..0x0A00_7524", "48 sectors", "--variant r2"]),
        (&["update", file, "--variant", "r1", "--plan"], &["0x0A00_2400..0x0A00_7800", "21 504 bytes"]),
        (&["update", file, "--variant", "r1"], &["20 772 bytes", "1209:0001", "T1-00217"]),
    ];
    for width in [60, 80, 140] {
        let bench = Bench::tern_r1();
        for (args, whole) in cases {
            let ended = run(&bench, width, args);
            let all = format!("{}{}", ended.stdout, ended.stderr);
            for line in all.lines().filter(|line| columns(line) > width.into()) {
                // A digest is one word.
                assert!(line.split_whitespace().any(|word| word.len() >= 64), "{width} columns: {line}\n{all}");
            }
            for words in whole {
                assert!(all.contains(words), "{width} columns, {args:?}: '{words}' is broken:\n{all}");
            }
        }
    }
}

/// A success takes at most 15 lines of 80 columns, and one line with -q; -v has tables and plan.
#[test]
fn a_success_is_short_and_a_refusal_has_its_table() {
    let file = firmware("tern-r1-1.5.0.hex");
    let file = file.to_str().unwrap();
    let update = |more: &[&str]| {
        let bench = Bench::tern_r1();
        run(&bench, 80, &[&["update", file, "--variant", "r1"], more].concat())
    };
    let short = update(&[]);
    short.expect(0, &["Fits r1: 8 observations agree; decided by the printed label.", "Plan (dfu): compare"]);
    let lines = short.stdout.lines().count() + short.stderr.lines().count();
    assert!(lines <= 15, "{lines} lines:\n{}{}", short.stderr, short.stdout);
    let running = Bench::of(vec![(Box::new(Gannet::new("G-1")), Vec::new())]);
    let ended = run(&running, 80, &["update", firmware("gannet-1.3.0.dfu").to_str().unwrap()]);
    ended.expect(0, &["Fits g1 so far", "Still fits g1 in update mode"]);
    assert!(ended.stdout.lines().count() + ended.stderr.lines().count() <= 15, "{}{}", ended.stderr, ended.stdout);
    let quiet = update(&["-q"]);
    assert_eq!(quiet.stderr, "");
    assert_eq!(quiet.stdout, "Tern tide gauge r1 at 1-1 runs 1.5.0. Check read-back.\n");
    let table = "memory layout";
    assert!(!short.stdout.contains(table));
    update(&["-v"]).expect(0, &[table, "1. compare 7 sectors", "transfers", "time"]);
    update(&["--plan"]).expect(0, &[table, "1. compare 7 sectors", "Plan only; nothing was done."]);
    let bench = Bench::tern_r1();
    run(&bench, 80, &["update", file, "--variant", "r2"]).expect(3, &[table, "CONFLICT"]);
    run(&bench, 80, &["update", file, "--unattended"]).expect(3, &[table, "CONFLICT"]);
}

/// The verdict in update mode prints only what the provisional one did not have.
#[test]
fn a_second_verdict_prints_only_its_changes() {
    let bench = Bench::of(vec![(Box::new(Gannet::new("G-1")), Vec::new())]);
    let file = firmware("gannet-1.3.0.dfu");
    let ended = bench.run(&["update", file.to_str().unwrap(), "-v"]);
    ended.expect(0, &["observations unchanged", "boot id"]);
    assert_eq!(ended.stdout.matches("start of g1's region").count(), 1, "{}", ended.stdout);
}

/// Conflicts are red where they concern the claimed variant, not if none was claimed.
#[test]
fn conflicts_of_unclaimed_variants_are_not_red() {
    let file = firmware("tern-r1-1.5.0.hex");
    let is_red = |args: &[&str]| {
        let bench = Bench::tern_r1();
        let mut command = bench.command();
        command.args(["update", file.to_str().unwrap()]).args(args).env("CLICOLOR_FORCE", "1");
        let ended = Running::start(&mut command).end();
        let conflicts: Vec<&str> = ended.stdout.lines().filter(|line| line.contains("CONFLICT")).collect();
        assert!(!conflicts.is_empty(), "{}", ended.stdout);
        conflicts.iter().all(|line| line.contains("\x1b[31m"))
    };
    assert!(is_red(&["--variant", "r2"]));
    assert!(!is_red(&["--unattended"]));
}

/// 'line' counts refused units apart from failures, and says in its plan what it would do.
#[test]
fn a_line_counts_refused_units_apart_and_plans() {
    let tern = |revision| (Tern::in_boot_mode(revision, "T1"), Vec::<Fault>::new());
    let file = firmware("tern-r1-1.5.0.hex");
    let line = ["line", file.to_str().unwrap(), "--variant", "r1", "--count", "2"];
    let bench = Bench::new(vec![tern(Revision::R1), tern(Revision::R2)]);
    let before = bench.memory("1-1");
    bench.run(&[&line[..], &["--plan"]].concat()).expect(3, &["plan for r1 (dfu)", "1 planned, 1 refused"]);
    assert!(bench.memory("1-1") == before);
    let ended = bench.run(&line);
    ended.expect(3, &["refused: ", "2 units: 1 updated, 1 refused"]);
    assert!(bench.memory("1-1") != before);
    assert!(ended.stderr.contains("1 unit: "), "the running count: {}", ended.stderr);
}

/// While the cable is out, 'line' says so with the progress and the time left.
#[test]
fn a_line_reports_a_lost_cable() {
    let pull = Fault { at: 62, kind: FaultKind::Pull(Some(Duration::from_millis(700))) };
    let bench = Bench::faulty_r1(vec![pull]);
    let file = firmware("tern-r1-1.5.0.hex");
    let line = ["line", file.to_str().unwrap(), "--variant", "r1", "--count", "1", "--wait", "9s"];
    let ended = bench.run(&line);
    ended.expect(0, &["%, plug it in again (within 9 s)", "1 unit: 1 updated"]);
    assert!(ended.stderr.contains("CABLE LOST at "), "{}", ended.stderr);
    let bench = Bench::faulty_r1(vec![Fault { at: 62, kind: FaultKind::Pull(Some(Duration::from_millis(700))) }]);
    let events = bench.run(&["update", file.to_str().unwrap(), "--variant", "r1", "--format", "json"]).events();
    let lost: Vec<_> = events.iter().filter(|event| event["event"] == "lost").collect();
    assert_eq!((lost.len(), &lost[0]["unit"], &lost[0]["left_ms"]), (1, &"1-1".into(), &30_000.into()));
}

/// Whether a value satisfies a schema, as far as the project's schemas go: references, types,
/// constants, alternatives, required and known properties.
fn fits_schema(value: &Value, schema: &Value, root: &Value) -> Result<(), String> {
    if let Some(name) = schema["$ref"].as_str() {
        // Properties beside a reference are not in the referenced type.
        let mut value = value.clone();
        for beside in schema["properties"].as_object().into_iter().flat_map(|properties| properties.keys()) {
            value.as_object_mut().map(|value| value.remove(beside));
        }
        return fits_schema(&value, root.pointer(&name[1..]).ok_or_else(|| format!("no {name}"))?, root);
    }
    let alternatives = schema["anyOf"].as_array().or(schema["oneOf"].as_array());
    if let Some(alternatives) = alternatives
        && !alternatives.iter().any(|one| fits_schema(value, one, root).is_ok())
    {
        return Err(format!("{value} fits no alternative"));
    }
    let is_of = |kind: &str| match kind {
        "string" => value.is_string(),
        "integer" => value.is_u64() || value.is_i64(),
        "number" => value.is_number(),
        "boolean" => value.is_boolean(),
        "array" => value.is_array(),
        "object" => value.is_object(),
        kind => kind == "null" && value.is_null(),
    };
    let kinds: Vec<&str> = match &schema["type"] {
        Value::Array(kinds) => kinds.iter().filter_map(Value::as_str).collect(),
        kind => kind.as_str().into_iter().collect(),
    };
    if !kinds.is_empty() && !kinds.iter().any(|kind| is_of(kind)) {
        return Err(format!("{value} is not of type {kinds:?}"));
    }
    if let Some(wanted) = schema.get("const").filter(|wanted| *wanted != value) {
        return Err(format!("{value} is not {wanted}"));
    }
    for item in value.as_array().into_iter().flatten().filter(|_| schema["items"].is_object()) {
        fits_schema(item, &schema["items"], root)?;
    }
    let Some(properties) = schema["properties"].as_object() else { return Ok(()) };
    for name in schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        value.get(name).ok_or_else(|| format!("'{name}' is missing"))?;
    }
    for (name, value) in value.as_object().into_iter().flatten().filter(|(name, _)| *name != "time") {
        match properties.get(name) {
            Some(schema) => fits_schema(value, schema, root).map_err(|why| format!("{name}: {why}"))?,
            // A flattened type has its properties in alternatives.
            None if alternatives.is_some() => {}
            None => return Err(format!("'{name}' is not in the schema")),
        }
    }
    Ok(())
}

/// Each command that prints a result prints JSON Lines on request, and nothing else on standard
/// output; each line has its event and its time.
#[test]
fn every_result_is_available_as_json() {
    let bench = Bench::of(vec![(Box::new(Gannet::new("G-1")), Vec::new())]);
    let copy = |from: &str, to: &str| std::fs::copy(support::root().join(from), bench.folder.path().join(to)).unwrap();
    copy("demo/firmware/out/tern-r1-1.5.0.hex", "r1.hex");
    copy("demo/firmware/out/gannet-1.3.0.dfu", "g.dfu");
    copy("demo/sheets/gannet.toml", "gannet.toml");
    copy("demo/sheets/dunlin.dialect.toml", "dunlin.dialect.toml");
    let lines = [
        ("survey", "attached"),
        ("check r1.hex", "file"),
        ("check --join r1.hex g.dfu", "files"),
        ("convert r1.hex r1.srec", "written"),
        ("stamp r1.hex stamped.hex --product tern --for r1", "stamped"),
        ("keys new someone", "key"),
        ("keys list", "key"),
        ("sheet check gannet.toml", "sheet"),
        ("sheet show gannet.toml", "sheet"),
        ("dialect check dunlin.dialect.toml", "dialect"),
        ("dialect show dunlin.dialect.toml", "operation"),
        ("read all.hex", "written"),
        ("compare r1.hex r1.srec", "comparison"),
        ("update g.dfu", "result"),
        ("journal", "attempt"),
        ("diagnose", "finding"),
        ("convert r1.hex r1.srec", "error"),
    ];
    let schema: Value = serde_json::from_str(&bench.run(&["setup", "events"]).stdout).unwrap();
    for (line, event) in lines {
        let words: Vec<&str> = line.split(' ').collect();
        let mut command = bench.command();
        command.args(&words).args(["--format", "json"]).env("XDG_CONFIG_HOME", bench.folder.path().join("config"));
        let ended = Running::start(&mut command).end();
        let events = ended.events();
        assert!(events.iter().any(|found| found["event"] == event), "{line}: {}{}", ended.stdout, ended.stderr);
        for found in events {
            assert!(found["event"].is_string() && found["time"].is_string(), "{line}: {found}");
            let branches = schema["oneOf"].as_array().unwrap();
            let branch = branches.iter().find(|branch| branch["properties"]["event"]["const"] == found["event"]);
            let branch = branch.unwrap_or_else(|| panic!("{line}: no schema for {found}"));
            if let Err(why) = fits_schema(&found, branch, &schema) {
                panic!("{line}: {why}: {found}");
            }
        }
    }
    let attempts: Vec<String> = bench
        .run(&["journal", "--format", "json"])
        .events()
        .iter()
        .map(|event| event["attempt"].as_str().unwrap().to_owned())
        .collect();
    let [read, attempt] = &attempts[..] else { panic!("{attempts:?}") };
    bench.run(&["journal", read]).expect(0, &["read", "version         1.2.0", "by              Vaka 0.1.0"]);
    bench.run(&["journal", attempt]).expect(0, &["unit            1-1, Gannet hydrophone interface g1", "read-back"]);
}

/// At a terminal a wait counts down in its line, and leaves nothing behind.
#[test]
fn a_wait_counts_down_in_place() {
    if !vaka_testkit::program::is_there("script") {
        return;
    }
    let bench = Bench::of(Vec::new());
    let file = firmware("tern-r1-1.5.0.hex");
    let mut command = bench.command();
    command.args(["update", file.to_str().unwrap(), "--variant", "r1", "--wait", "3s"]);
    let ended = Running::start(support::at_terminal(&command).env("TERM", "xterm")).end();
    ended.expect(4, &["(3 s left)", "(2 s left)", "(1 s left)"]);
    let last = ended.stdout.trim_end().lines().last().unwrap();
    assert!(!last.contains("left)"), "{last}");
}
