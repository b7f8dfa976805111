//! Files of earlier versions, kept as they were written: each format that `docs/compatibility.md` promises to read.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::path::PathBuf;

use support::{Bench, Running, firmware};
use vaka_sim::unit::Unit;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::tern::{Revision, Tern};

/// A file in format 1, as Vaka 0.1.0 wrote it.
fn kept(name: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/formats/1").join(name)
}

fn text(name: &str) -> String {
    kept(name).to_str().unwrap().to_owned()
}

/// A mast and a tide gauge; the journal is a kept one.
fn bench() -> Bench {
    let mast: Box<dyn Unit> = Box::new(fulmar("F-00019"));
    let gauge: Box<dyn Unit> = Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217"));
    let bench = Bench::of(vec![(mast, Vec::new()), (gauge, Vec::new())]);
    fs::copy(kept("journal.jsonl"), bench.folder.path().join("vaka/journal.jsonl")).unwrap();
    bench
}

/// Sheet, dialect, release, catalogue, journal, settings, trace and scene of format 1.
#[test]
fn files_of_format_1_are_read() {
    let bench = bench();
    bench.run(&["sheet", "check", &text("fulmar.toml")]).expect(0, &[]);
    bench.run(&["dialect", "check", &text("fulmar.dialect.toml")]).expect(0, &[]);
    let journal = bench.run(&["journal"]);
    journal.expect(0, &["20261130T234412346-8832", "fulmar-4.2.0.vaka", "updated", "1 attempt, 1 of them successful"]);
    bench.run(&["check", &text("fulmar-4.2.0.vaka")]).expect(0, &["consistent", "530ffc098825da215e037ee5bd2d5a11"]);
    let update = ["update", &text("fulmar-4.2.0.vaka"), "--unit", "port=1-1", "--unattended"];
    let ended = bench.run(&[&update[..], &["--allow", "signer-530ffc098825da215e037ee5bd2d5a11"]].concat());
    ended.expect(0, &["runs 4.2.0", "read-back"]);
    let catalogue = kept("");
    bench
        .run(&["catalogue", "show", catalogue.to_str().unwrap()])
        .expect(0, &["catalogue 2 of 2026-12-02", "the signature is valid", "WITHDRAWN", "on 2026-12-02: an example"]);
    let image = fs::read(firmware("fulmar-4.2.0.bin")).unwrap();
    assert!(bench.memory("1-1")[0x3000..0x3000 + image.len()] == image);
    let load = ["settings", "load", &text("tern.settings"), "--unit", "port=1-2", "--variant", "r1"];
    bench.run(&load).expect(0, &["Already present"]);
    let replay = ["dialect", "replay", &text("fulmar.dialect.toml"), &text("run.trace")];
    bench.run(&replay).expect(0, &["as recorded", "The dialect sends the recorded frames and parses all replies."]);
    let mut simulator = Running::start(bench.command().args(["simulate", "--scene", &text("scene.toml")]));
    simulator.wait_for("Tern r1, serial number T1-00217, update mode");
    simulator.kill();
}

/// A file of a later format is refused, with the number that is read; it is not read in part.
#[test]
fn files_of_a_later_format_are_refused() {
    let bench = bench();
    let later = |name: &str, from: &str, to: &str| {
        let content = fs::read_to_string(kept(name)).unwrap();
        assert!(content.contains(from), "{name}");
        bench.file(name, content.replace(from, to).as_bytes()).to_str().unwrap().to_owned()
    };
    fs::create_dir(bench.folder.path().join("sheets")).unwrap();
    for name in ["fulmar.dialect.toml", "fulmar-call.dialect.toml"] {
        fs::copy(kept(name), bench.folder.path().join("sheets").join(name)).unwrap();
    }
    let sheet = fs::read_to_string(kept("fulmar.toml")).unwrap().replace("sheet = 1", "sheet = 2");
    let sheet = bench.file("sheets/fulmar.toml", sheet.as_bytes()).to_str().unwrap().to_owned();
    let dialect = later("fulmar.dialect.toml", "dialect = 1", "dialect = 2");
    let trace = later("run.trace", "\"trace\":1", "\"trace\":2");
    let settings = later("tern.settings", "\"settings\": 1", "\"settings\": 2");
    let known = text("fulmar.dialect.toml");
    for (command, code, words) in [
        (&["sheet", "check", &sheet][..], 8, "this Vaka reads sheets of format 1"),
        (&["dialect", "check", &dialect], 8, "this Vaka reads dialects of format 1"),
        (&["dialect", "replay", &known, &trace], 8, "the trace has format 2; format 1 can be read"),
        (&["settings", "load", &settings, "--unit", "port=1-2", "--variant", "r1"], 8, "format 2"),
    ] {
        bench.run(command).expect(code, &[words]);
    }
    let journal = fs::read_to_string(kept("journal.jsonl")).unwrap();
    let path = bench.folder.path().join("vaka/journal.jsonl");
    fs::write(path, journal.replace("\"journal\":1", "\"journal\":2")).unwrap();
    bench.run(&["journal"]).expect(0, &["2 lines could not be read and were skipped", "No matching records."]);
}
