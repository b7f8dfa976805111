//! Simulated units that are made from a product sheet, and rehearsals, by the built program.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;
use std::path::Path;

use support::{Running, firmware, follow_guide, program, root};

/// From nothing to a rehearsed release of an invented product, as the guide says it.
#[test]
fn the_guide_to_a_rehearsal_does_what_it_says() {
    let folder = follow_guide("rehearse.md", false);
    let page = fs::read_to_string(folder.path().join("winch.html")).unwrap();
    assert!(
        page.contains("ended as expected")
            && page.contains("without the step &#x27;jumper&#x27;") | page.contains("jumper")
    );
}

/// `vaka simulate` with these arguments, and its address.
fn simulator(folder: &Path, args: &[&str]) -> (Running, String) {
    let mut simulator = Running::start(program().arg("simulate").args(args).current_dir(folder));
    let line = simulator.wait_for("Simulated units at usbip://127.0.0.1:");
    let bus = line.rsplit(' ').next().unwrap().to_owned();
    (simulator, bus)
}

fn sheet(name: &str) -> String {
    root().join("demo/sheets").join(name).to_str().unwrap().to_owned()
}

fn run(folder: &Path, bus: &str, args: &[&str]) -> support::Ended {
    let mut command = program();
    command.args(args).env("VAKA_BUS", bus).env("VAKA_SHEETS", root().join("demo/sheets"));
    Running::start(command.env("XDG_STATE_HOME", folder).env("XDG_RUNTIME_DIR", folder).current_dir(folder)).end()
}

/// The user does the steps by their names. A wrong order does not lead to update mode, and a name that the
/// unit does not have is reported with those that it has.
#[test]
fn manual_steps_are_done_by_their_names() {
    let folder = tempfile::tempdir().unwrap();
    let (mut unit, bus) = simulator(folder.path(), &["--sheet", &sheet("petrel.toml"), "--variant", "pb1"]);
    writeln!(unit.stdin(), "do 1-1 button").unwrap();
    unit.wait_for("the unit at 1-1 has no step 'button'; its steps are: step-1, step-2");
    for (commands, state) in [
        (&["do 1-1 step-2"][..], "1-1: application"),
        (&["do 1-1 step-1", "do 1-1 step-2"], "1-1: boot"),
        (&["slip 1-1 step-1 nothing"], "1-1: silent"),
        (&["slip 1-1 step-2 application"], "1-1: application"),
    ] {
        for command in commands {
            writeln!(unit.stdin(), "{command}").unwrap();
            unit.wait_for(&command.replacen(" 1-1", "", 1));
        }
        // It starts for a quarter of a second.
        run(folder.path(), &bus, &["survey"]);
        std::thread::sleep(std::time::Duration::from_millis(400));
        writeln!(unit.stdin(), "state").unwrap();
        unit.wait_for(state);
    }
    unit.kill();
}

/// A scene has units from a sheet beside those of the demo, with a fault and with firmware of their own.
#[test]
fn a_scene_has_units_from_a_sheet() {
    let folder = tempfile::tempdir().unwrap();
    let scene = format!(
        "[[unit]]\nproduct = \"gannet\"\nport = \"1-1\"\nserial = \"G-1\"\n\n\
         [[sheet_unit]]\nsheet = \"{}\"\nport = \"1-2\"\nserial = \"F-00001\"\nimage = \"{}\"\n\
         faults = [{{ at = 60, kind = \"pull\", back_after_ms = 300 }}]\n",
        sheet("fulmar.toml"),
        firmware("fulmar-4.1.0.hex").display()
    );
    fs::write(folder.path().join("bench.toml"), scene).unwrap();
    let (mut unit, bus) = simulator(folder.path(), &["--scene", "bench.toml"]);
    run(folder.path(), &bus, &["survey"]).expect(0, &["2 units", "Fulmar met mast", "4.1.0", "F-00001"]);
    let image = firmware("fulmar-4.2.0.hex");
    let ended = run(folder.path(), &bus, &["update", image.to_str().unwrap(), "--unit", "port=1-2", "--unattended"]);
    ended.expect(0, &["Waiting for the unit to return", "confirmed", "runs 4.2.0"]);
    writeln!(unit.stdin(), "memory 1-2 memory.bin").unwrap();
    unit.wait_for("98304 bytes from 0x06000000");
    let binary = fs::read(firmware("fulmar-4.2.0.bin")).unwrap();
    assert!(fs::read(folder.path().join("memory.bin")).unwrap()[0x3000..].starts_with(&binary));
    unit.kill();
}

/// A sheet without a unit that can be simulated is reported with the reason.
#[test]
fn a_sheet_that_makes_no_unit_is_reported() {
    let folder = tempfile::tempdir().unwrap();
    let text = fs::read_to_string(sheet("tern.toml")).unwrap();
    let huge = text.replace("sectors = 48, size = \"3 KiB\"", "sectors = 30_000, size = \"3 KiB\"");
    fs::write(folder.path().join("huge.toml"), huge).unwrap();
    for (args, code, words) in [
        (&["--sheet", &sheet("tern.toml"), "--variant", "r9"][..], 8, "it has no variant 'r9'"),
        (&["--sheet", "absent.toml"], 8, "absent.toml"),
        (&["--sheet", &sheet("tern.toml"), "--count", "0"], 2, "0 is not in 1..=256"),
        (&["--variant", "r1"], 2, "--sheet"),
        (&["--sheet", &sheet("tern.toml"), "--scene", "x.toml"], 2, "cannot be used with"),
        (&["--sheet", "huge.toml"], 8, "more than a simulated unit has"),
    ] {
        let ended = Running::start(program().arg("simulate").args(args).current_dir(folder.path())).end();
        ended.expect(code, &[words]);
    }
}

/// A release whose sheet cannot lead to update mode fails its rehearsal, in text, JSON and on the page.
#[test]
fn a_surprise_in_a_rehearsal_is_an_exit_status() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    // The loader of the sheet refuses blocks of another family than that of the images.
    let text = fs::read_to_string(sheet("fulmar.toml")).unwrap();
    fs::write(path("fulmar.toml"), text.replace("back_within = \"10 s\"", "back_within = \"1 ms\"")).unwrap();
    for name in ["fulmar.dialect.toml", "fulmar-call.dialect.toml"] {
        fs::copy(sheet(name), path(name)).unwrap();
    }
    let release = format!(
        "release = 1\nproduct = \"fulmar\"\nversion = \"4.2.0\"\ndate = \"2026-11-30\"\nchannel = \"trial\"\n\
         sheets = [\"fulmar.toml\", \"fulmar.dialect.toml\", \"fulmar-call.dialect.toml\"]\n\n[[stage]]\nname = \"Application\"\n\n\
         [[stage.image]]\nfile = \"{}\"\nvariants = [\"f1\"]\n",
        firmware("fulmar-4.2.0.hex").display()
    );
    fs::write(path("fulmar-4.2.0.toml"), release).unwrap();
    let run = |args: &[&str]| Running::start(program().args(args).current_dir(folder.path())).end();
    run(&["pack", "fulmar-4.2.0.toml"]).expect(0, &[]);
    let ended = run(&["rehearse", "fulmar-4.2.0.vaka", "--report", "page.html"]);
    ended.expect(
        6,
        &["FAIL  the image for this variant", "expected: installed and confirmed", "otherwise than expected"],
    );
    assert!(fs::read_to_string(path("page.html")).unwrap().contains("class=\"wrong\""));
    let events = run(&["rehearse", "fulmar-4.2.0.vaka", "--format", "json"]).expect(6, &[]).events();
    let last = events.last().unwrap();
    assert!(last["event"] == "rehearsal" && last["unexpected"].as_u64().unwrap() > 0, "{last}");
    assert!(events.iter().any(|row| row["event"] == "rehearsed" && row["as_expected"] == false));
    // An existing page is not overwritten without consent.
    run(&["rehearse", "fulmar-4.2.0.vaka", "--report", "page.html"]).expect(3, &["page.html already exists"]);
}

/// Both stages, over USB and over a CAN bus, with the steps of the user in order. A node that gets its supply
/// back is on its bus before the last of them is acknowledged.
#[test]
fn every_release_of_the_demo_passes_its_rehearsal() {
    let folder = tempfile::tempdir().unwrap();
    let run = |args: &[&str]| Running::start(program().args(args).current_dir(folder.path())).end();
    for (name, words) in [
        ("tern-1.5.0", "24 cases: all as expected"),
        ("tern-loader-1.1.0", "30 cases: all as expected"),
        ("turnstone-1.1.0", "16 cases: all as expected"),
        ("dunlin-1.1.0", "11 cases: all as expected"),
    ] {
        let description = root().join(format!("demo/releases/{name}.toml"));
        run(&["pack", description.to_str().unwrap(), "--out", "new.vaka", "--replace"]).expect(0, &[]);
        run(&["rehearse", "new.vaka"]).expect(0, &[words]);
    }
}
