//! Product sheets and dialects with errors: all are reported, and only what needs them stops.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::time::Duration;

use support::{Bench, Running, firmware, root};
use vaka_sim::unit::heron::Heron;
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::stick::Stick;
use vaka_sim::unit::{Unit, UserAction, auk, fulmar};
use vaka_sim::world::lock;

/// A folder with the sound sheet of the Tern and another sheet.
fn folder_with(bench: &Bench, name: &str, text: &str) -> String {
    let folder = bench.folder.path().join("sheets");
    fs::create_dir_all(&folder).unwrap();
    fs::copy(root().join("demo/sheets/tern.toml"), folder.join("tern.toml")).unwrap();
    fs::write(folder.join(name), text).unwrap();
    folder.to_str().unwrap().to_owned()
}

#[test]
fn sheet_check_reports_all_errors_at_once() {
    let bench = Bench::of(Vec::new());
    let sound = fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let text = sound.replacen("maker =", "makr =", 1).replacen("sectors = 48", "sectors = \"40\"", 1);
    let line = |words: &str| text.lines().position(|line| line.contains(words)).unwrap() + 1;
    let file = bench.file("bad.toml", text.as_bytes());
    let ended = bench.run(&["sheet", "check", file.to_str().unwrap()]);
    let typo = format!("line {}, key `makr`: is not a known key; did you mean `maker`?", line("makr ="));
    let number = format!("line {}, key `sectors`: must be a number, found the text \"40\"", line("sectors = \"40\""));
    ended.expect(8, &[&typo, &number]);
    // Errors in what the keys mean are reported together too.
    let text = sound.replacen("SKI-TERN R1", "FILL IN", 1).replacen("back_within = \"", "back_within = \"soon", 1);
    let text = if text.contains("soon") {
        text
    } else {
        text.replacen("[application]", "[application]\nback_within = \"soon\"", 1)
    };
    let file = bench.file("bad.toml", text.as_bytes());
    bench.run(&["sheet", "check", file.to_str().unwrap()]).expect(8, &["key `reads`", "key `back_within`"]);
}

/// A sheet of another product does not stop an update; one that may describe the unit does.
#[test]
fn an_unsound_sheet_stops_only_what_needs_it() {
    let bench = Bench::tern_r1();
    let file = firmware("tern-r1-1.5.0.hex");
    let update = ["update", file.to_str().unwrap(), "--variant", "r1", "--wait", "5s", "--sheets"];
    let other = "sheet = 1\n[application]\nid = \"4242:0001\"\n";
    let folder = folder_with(&bench, "other.toml", other);
    let run = |args: &[&str]| Running::start(bench.command().args(args).env_remove("VAKA_SHEETS")).end();
    run(&["survey", "--sheets", &folder]).expect(0, &["Tern tide gauge", "other.toml is skipped"]);
    run(&["check", file.to_str().unwrap(), "--sheets", &folder]).expect(0, &["fits", "other.toml is skipped"]);
    let related = other.replace("4242:0001", "1209:0002");
    fs::write(format!("{folder}/other.toml"), related).unwrap();
    let before = bench.memory("1-1");
    run(&[&update[..], &[&folder]].concat()).expect(8, &["other.toml", "is missing"]);
    assert!(bench.memory("1-1") == before);
    fs::write(format!("{folder}/other.toml"), other).unwrap();
    run(&[&update[..], &[&folder]].concat()).expect(0, &["runs 1.5.0", "other.toml is skipped"]);
    // A file that is named must be sound.
    run(&["survey", "--sheets", &format!("{folder}/other.toml")]).expect(8, &["is missing"]);
    // The same with a sheet that lacks its dialect because that is unsound.
    fs::remove_file(format!("{folder}/other.toml")).unwrap();
    for name in ["dunlin.toml", "dunlin.dialect.toml", "linnet.dialect.toml"] {
        fs::copy(root().join("demo/sheets").join(name), format!("{folder}/{name}")).unwrap();
    }
    let dialect = fs::read_to_string(format!("{folder}/dunlin.dialect.toml")).unwrap();
    fs::write(format!("{folder}/dunlin.dialect.toml"), dialect.replacen("name =", "nmae =", 1)).unwrap();
    run(&["survey", "--sheets", &folder]).expect(0, &["Tern tide gauge", "dunlin.toml is skipped"]);
    fs::remove_file(format!("{folder}/tern.toml")).unwrap();
    run(&["survey", "--sheets", &folder]).expect(8, &["dunlin.dialect.toml", "did you mean `name`?"]);
}

/// A first sheet says what a unit of any kind shows, and nothing that it does not.
#[test]
fn a_first_sheet_of_any_unit() {
    let units: [Box<dyn Unit>; 6] = [
        Box::new(Petrel::new(Board::Pb2, "P-00112").in_boot_mode()),
        Box::new(Heron::new("S-00007")),
        Box::new(auk::auk("A-00031").in_boot_mode()),
        Box::new(fulmar::fulmar("F-00010")),
        Box::new(Petrel::new(Board::Pb2, "P-00113")),
        Box::new(Stick::new("BZ88")),
    ];
    let bench = Bench::of(units.into_iter().map(|unit| (unit, Vec::new())).collect());
    let none = root().join("demo/sheets/gannet.toml");
    let new = |port: &str, more: &[&str]| {
        let unit = format!("port={port}");
        let common = ["sheet", "new", "--unit", &unit, "--sheets", none.to_str().unwrap()];
        bench.run(&[&common, more].concat())
    };
    let uf2 = "takes = \"uf2\"\nfamily = 0x5EABD123 # of the blocks in CURRENT.UF2\n\
               application_file = \"CURRENT.UF2\"\nboard_id = \"Petrel-PB2-r1\"";
    new("1-1", &[]).expect(0, &["id = \"1209:0006\"\nlabel = \"PETREL\"", uf2, "start = 0x0C10_4000"]);
    let heron =
        ["label = \"HERON\"", "VERSION.TXT says: Heron shore display; Display: 3.0.0", "DISPLAY.HEX, 10 462 bytes"];
    new("1-2", &[]).expect(0, &heron);
    new("1-3", &[]).expect(0, &["Nothing showed whether this was", "vaka dialect new --carrier hid"]);
    new("1-4", &[]).expect(0, &["vaka dialect new --carrier serial"]);
    // A unit that the user did not name is not even opened.
    bench.run(&["sheet", "new", "--sheets", none.to_str().unwrap()]).expect(3, &["6 units match"]);
    assert_eq!(lock(&bench.world).opened("1-6"), 0);
    // The same unit in both modes.
    let later = |after: u64, action: UserAction| {
        lock(&bench.world).act_later("1-5", Duration::from_millis(after), action);
    };
    later(600, UserAction::Pull);
    later(700, UserAction::Hold("MARK".into()));
    later(800, UserAction::Plug);
    let out = bench.folder.path().join("both.toml");
    let both = ["--both-modes", "--wait", "8s", "--out", out.to_str().unwrap()];
    new("1-5", &both).expect(0, &["2 lines to fill in"]);
    let text = fs::read_to_string(&out).unwrap();
    for words in ["[application]\nid = \"1209:0005\"", "# stable_serial = true", "id = \"1209:0006\"\nlabel", uf2] {
        assert!(text.contains(words), "{words}: {text}");
    }
    new("1-2", &["--both-modes", "--wait", "300ms"]).expect(4, &["did not return within 0.3 s"]);
}
