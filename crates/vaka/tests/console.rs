//! The serial text of an application, by the built program.

#![allow(clippy::unwrap_used)]

mod support;

use std::process::Command;

use support::{Bench, Running, firmware};
use vaka_sim::unit::UserAction;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::world::lock;

fn mast() -> Bench {
    Bench::of(vec![(Box::new(fulmar("F-00019")), Vec::new())])
}

#[test]
fn a_line_is_sent_and_an_answer_waited_for() {
    let bench = mast();
    let record = bench.folder.path().join("record.txt");
    let record_name = record.to_str().unwrap();
    let ended = bench.run(&["console", "--send", "about", "--until", "version", "--record", record_name]);
    ended.expect(0, &["listening to the unit at 1-1", "  Fulmar met mast, version 4.1.0, warm"]);
    let recorded = std::fs::read_to_string(&record).unwrap();
    assert!(recorded.lines().count() == 2 && recorded.contains("Z  Fulmar met mast, version 4.1.0"), "{recorded}");
    bench.run(&["console", "--record", record_name]).expect(3, &["exists"]);
    let late = bench.run(&["console", "--send", "hello", "--until", "version", "--within", "1s"]);
    late.expect(4, &["  what?", "No line with 'version' was printed within 1.0 s"]);
    bench.run(&["console", "--unit", "9-9", "--wait", "0"]).expect(4, &["The selected unit (9-9) did not appear"]);
    let other = Bench::of(vec![(Box::new(Gannet::new("G-00031")), Vec::new())]);
    other.run(&["console"]).expect(3, &["has no serial port"]);
}

/// An update in another process gets the port, and the console goes on with the new
/// application; a unit that is pulled and plugged in is gone on with, too.
#[test]
fn the_port_is_released_for_an_update_and_taken_again() {
    let bench = mast();
    let mut console = Running::start(bench.command().args(["console", "--send", "about"]));
    console.wait_for("version 4.1.0");
    let file = firmware("fulmar-4.2.0.bin");
    bench
        .run(&["update", file.to_str().unwrap(), "--unattended", "--wait", "10s"])
        .expect(0, &["read-back", "confirmed"]);
    let said = console.wait_for("wants the unit");
    assert!(said.contains("vaka update"), "{said}");
    console.wait_for("listening to the unit at 1-1");
    lock(&bench.world).act("1-1", &UserAction::Pull);
    console.wait_for("the unit disconnected");
    lock(&bench.world).act("1-1", &UserAction::Plug);
    console.wait_for("listening to the unit at 1-1");
    Command::new("kill").args(["-INT", &console.id().to_string()]).status().unwrap();
    console.end().expect(0, &[]);
}
