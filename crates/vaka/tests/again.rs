//! The loop of build, update and look, and what is remembered of a unit, by the built program.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;
use std::process::Command;

use support::{Bench, Running, assert_updated, at_terminal, firmware};
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::program;

fn interrupt(running: &Running) {
    Command::new("kill").args(["-INT", &running.id().to_string()]).status().unwrap();
}

fn mast() -> Bench {
    Bench::of(vec![(Box::new(fulmar("F-00019")) as Box<dyn Unit>, Vec::new())])
}

/// Whether the unit's true memory holds an image, and it runs.
fn holds(bench: &Bench, image: &str) -> bool {
    let image = fs::read(firmware(image)).unwrap();
    let start = 0x3000;
    bench.memory("1-1")[start..start + image.len()] == image && bench.condition("1-1") == Condition::Application
}

/// A build that is written in pieces is used when it is complete, and a content that was used is not used again.
#[test]
fn each_complete_build_gets_into_the_unit_until_ctrl_c() {
    let bench = mast();
    let file = bench.folder.path().join("app.bin");
    fs::copy(firmware("fulmar-4.2.0.bin"), &file).unwrap();
    let args = ["update", "app.bin", "--again", "--console", "--allow", "older-version", "--wait", "5s"];
    let mut running = Running::start(bench.command().args(args));
    // Standard error tells the order.
    running.wait_for("Waiting for a new build of app.bin");
    assert!(holds(&bench, "fulmar-4.2.0.bin"));
    // The same content with a new time, then a half build, then none, then a whole one.
    fs::write(&file, fs::read(firmware("fulmar-4.2.0.bin")).unwrap()).unwrap();
    let old = fs::read(firmware("fulmar-4.1.0.bin")).unwrap();
    fs::write(&file, &old[..3000]).unwrap();
    fs::remove_file(&file).unwrap();
    fs::write(&file, &old).unwrap();
    running.wait_for("new build of app.bin");
    running.wait_for("reports version 4.1.0");
    running.wait_for("Waiting for a new build of app.bin");
    assert!(holds(&bench, "fulmar-4.1.0.bin"));
    // A build that cannot be used ends nothing.
    fs::write(&file, b"no firmware").unwrap();
    running.wait_for("new build of app.bin");
    running.wait_for("Waiting for a new build of app.bin");
    assert!(holds(&bench, "fulmar-4.1.0.bin"));
    fs::copy(firmware("fulmar-4.2.0.bin"), &file).unwrap();
    running.wait_for("reports version 4.2.0");
    running.wait_for("Waiting for a new build of app.bin");
    interrupt(&running);
    running.end().expect(0, &["listening to the unit at 1-1", "Done. Fulmar met mast f1 at 1-1 runs 4.1.0."]);
    assert!(holds(&bench, "fulmar-4.2.0.bin"));
}

/// A HEX file proves by its end record that it is complete; without it, it is not even tried.
#[test]
fn a_file_with_a_proof_is_used_at_once_and_only_when_it_is_whole() {
    let bench = mast();
    let file = bench.folder.path().join("app.hex");
    fs::copy(firmware("fulmar-4.1.0.hex"), &file).unwrap();
    let mut running = Running::start(bench.command().args(["update", "app.hex", "--again", "--wait", "5s"]));
    running.wait_for("Waiting for a new build of app.hex");
    let new = fs::read(firmware("fulmar-4.2.0.hex")).unwrap();
    fs::write(&file, &new).unwrap();
    running.wait_for("reports version 4.2.0");
    running.wait_for("Waiting for a new build");
    interrupt(&running);
    let ended = running.end();
    ended.expect(0, &[]);
    assert!(holds(&bench, "fulmar-4.2.0.bin"));
    bench.run(&["update", "app.hex", "--again", "--save", "x.bin"]).expect(2, &["add --dated"]);
    bench.run(&["update", "app.hex", "--again", "--plan"]).expect(2, &["cannot be used with"]);
    bench.run(&["update", ".", "--again"]).expect(2, &["needs the file of the build"]);
    bench.run(&["update", "none.hex", "--again"]).expect(8, &["none.hex"]);
}

fn hands(bench: &Bench, actions: &[UserAction]) {
    for action in actions {
        assert!(lock(&bench.world).act("1-1", action));
    }
}

fn into_boot_mode(bench: &Bench) {
    let (set, reset) = ("SET".to_owned(), "RESET".to_owned());
    hands(bench, &[UserAction::Hold(set.clone()), UserAction::Tap(reset), UserAction::Release(set)]);
}

fn typed(running: &mut Running, line: &str) {
    running.stdin().write_all(line.as_bytes()).unwrap();
}

/// The label is asked for once. Then the journal tells by the serial number that it is the same unit.
#[test]
fn the_label_of_a_unit_is_asked_for_once() {
    if !program::is_there("script") {
        return;
    }
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let file = bench.folder.path().join("app.hex");
    fs::copy(firmware("tern-r1-1.4.0.hex"), &file).unwrap();
    let mut running =
        Running::start(&mut at_terminal(bench.command().args(["update", "app.hex", "--again", "--rewrite"])));
    running.wait_for_prompt("press Enter to stop:");
    typed(&mut running, "SKI-TERN R1\n");
    running.wait_for_prompt("chip");
    typed(&mut running, "OYS-144\n");
    running.wait_for("Waiting for a new build");
    let again = fs::read(firmware("tern-r1-1.5.0.srec")).unwrap();
    fs::write(&file, again).unwrap();
    running.wait_for("Manual step 1 of 1");
    into_boot_mode(&bench);
    running.wait_for("Waiting for a new build");
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &image);
    typed(&mut running, "\x03");
    running.end().expect(0, &[]);
    // Another run is offered what the journal has; that is accepted by Enter.
    into_boot_mode(&bench);
    let update = ["update", "app.hex", "--rewrite"];
    let mut running = Running::start(&mut at_terminal(bench.command().args(update)));
    running.wait_for("This unit was updated as r1 on");
    running.wait_for_prompt("Press Enter for r1, or type the variant or the label text, or - to stop:");
    typed(&mut running, "\n");
    running.end().expect(0, &["Fits r1", "confirmed"]);
    // An earlier variant is not an answer by itself.
    into_boot_mode(&bench);
    bench.run(&[&update[..], &["--unattended"]].concat()).expect(3, &["no label was given"]);
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &image);
}

/// Both boards enter their boot mode in the same way, so the label is not needed for that.
#[test]
fn enter_needs_no_label_where_all_variants_share_the_entry() {
    let bench = Bench::new(vec![(Tern::new(Revision::R2, "T2-00301"), Vec::new())]);
    let before = bench.memory("1-1");
    let mut running = Running::start(bench.command().args(["enter", "--unattended", "--wait", "10s"]));
    running.wait_for("Manual step 1 of 1");
    into_boot_mode(&bench);
    running.end().expect(0, &["1-1 is in update mode; nothing was changed in it."]);
    assert!(bench.memory("1-1") == before && bench.condition("1-1") == Condition::Boot);
}
