//! Nodes of a CAN bus behind an adapter, by the built program over USB/IP.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::sync::Arc;

use support::{Bench, Ended, Running, firmware, root};
use vaka_core::sheet::Sheet;
use vaka_dialect::{Dialect, no_files};
use vaka_sheet_sim::{BUS, Design, SheetUnit};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::scene::StartMode;
use vaka_sim::unit::can_adapter::CanAdapter;
use vaka_sim::unit::turnstone::{Chip, Turnstone};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;

const FIRST: u32 = 0x5A00_17C2;
const SECOND: u32 = 0x5A00_2B90;

fn node(chip: Chip, number: u8, unique: u32) -> Box<dyn Unit> {
    Box::new(Turnstone::new(chip, "quay", number, unique))
}

/// An adapter at 1-1, and nodes.
fn bench_of(adapter_faults: Vec<Fault>, nodes: Vec<Box<dyn Unit>>) -> Bench {
    let adapter: Box<dyn Unit> = Box::new(CanAdapter::new("quay", "CA-0007"));
    let nodes = nodes.into_iter().map(|node| (node, Vec::new()));
    Bench::of([(adapter, adapter_faults)].into_iter().chain(nodes).collect())
}

/// A bus with one node of each variant.
fn bench() -> Bench {
    bench_of(Vec::new(), vec![node(Chip::T1, 4, FIRST), node(Chip::T2, 9, SECOND)])
}

fn update(bench: &Bench, image: &str, more: &[&str]) -> Ended {
    let file = firmware(image);
    bench.run(&[&["update", file.to_str().unwrap()], more].concat())
}

fn holds(bench: &Bench, port: &str, image: &str) -> bool {
    let image = fs::read(firmware(image)).unwrap();
    bench.memory(port)[0x4000..0x4000 + image.len()] == image && bench.condition(port) == Condition::Application
}

#[test]
fn nodes_are_listed_by_their_adapter_and_one_is_updated() {
    let bench = bench();
    bench.run(&["survey"]).expect(
        0,
        &[
            "3 units on usbip",
            "1-1:5a0017c2  application",
            "1-1:5a002b90  application",
            "can:turnstone-app  1.0.0",
            "CAN adapter",
        ],
    );
    let other = bench.memory("1-3");
    update(&bench, "turnstone-t1-1.1.0.bin", &[]).expect(3, &["2 units fit"]);
    update(&bench, "turnstone-t1-1.1.0.bin", &["--unit", "node=5A0017C2", "--variant", "t1"])
        .expect(0, &["read-back: all", "confirmed", "runs 1.1.0", "at 1-1:5a0017c2, serial number 5a0017c2"]);
    assert!(holds(&bench, "1-2", "turnstone-t1-1.1.0.bin"));
    assert!(bench.memory("1-3") == other);
    // The id is ready for another program.
    let again =
        update(&bench, "turnstone-t1-1.1.0.bin", &["--unit", "node=5a0017c2", "--variant", "t1", "--format", "json"]);
    let events = again.expect(0, &[]).events();
    let result = events.last().unwrap();
    assert_eq!(result["application"]["serial"], "5a0017c2");
    bench.run(&["journal", "--unit", "node=5A0017C2"]).expect(0, &["1-1:5a0017c2", "updated"]);
}

/// The label is wrong: the node's own report in update mode decides.
#[test]
fn an_image_for_the_other_controller_is_refused_and_the_node_returns() {
    let bench = bench();
    let before = bench.memory("1-3");
    let refused = update(&bench, "turnstone-t1-1.1.0.bin", &["--unit", "node=5a002b90", "--variant", "t1"]);
    refused.expect(3, &["Refused: printed label t1: the unit reports what t2 reports.", "chip 82"]);
    // The file is for the variant of the label, not for that of the unit.
    assert!(!refused.stderr.contains("unit and file are both"), "{}", refused.stderr);
    assert!(bench.memory("1-3") == before);
    assert_eq!(bench.condition("1-3"), Condition::Application);
}

#[test]
fn two_nodes_with_one_id_are_a_conflict() {
    let bench = bench_of(Vec::new(), vec![node(Chip::T1, 4, FIRST), node(Chip::T1, 5, FIRST)]);
    let before = (bench.memory("1-2"), bench.memory("1-3"));
    update(&bench, "turnstone-t1-1.1.0.bin", &["--unit", "node=5a0017c2", "--variant", "t1"])
        .expect(5, &["2 nodes answer with the unique id 5a0017c2", "Leave only one of them on the bus"]);
    assert!((bench.memory("1-2"), bench.memory("1-3")) == before);
}

#[test]
fn each_obstacle_has_its_own_sentence() {
    // No power on the bus: frames are not acknowledged.
    let silent = bench();
    for port in ["1-2", "1-3"] {
        lock(&silent.world).act(port, &UserAction::Pull);
    }
    update(&silent, "turnstone-t1-1.1.0.bin", &["--unit", "node=5a0017c2", "--wait", "1s"])
        .expect(4, &["did not appear within 1.0 s"]);
    // The adapter is named and not there.
    let named = format!("{},can:1-9", silent.bus());
    let absent = ["--bus", &named, "--unit", "node=5a0017c2", "--wait", "1s"];
    update(&silent, "turnstone-t1-1.1.0.bin", &absent).expect(4, &["did not appear within 1.0 s"]);
    // Another bit rate than that of the nodes destroys their frames, until the adapter goes off the bus.
    let fast = bench();
    let folder = fast.folder.path().join("sheets");
    fs::create_dir(&folder).unwrap();
    for name in ["turnstone.toml", "turnstone.dialect.toml", "turnstone-app.dialect.toml"] {
        let text = fs::read_to_string(root().join("demo/sheets").join(name)).unwrap();
        fs::write(folder.join(name), text.replace("bit_rate = 500000", "bit_rate = 250000")).unwrap();
    }
    let named = format!("{},can:1-1", fast.bus());
    update(&fast, "turnstone-t1-1.1.0.bin", &["--bus", &named, "--wait", "2s", "--sheets", folder.to_str().unwrap()])
        .expect(9, &["The CAN bus at can/1-1 cannot be used", "bit rate"]);
    // Without a sheet of nodes no frame is sent.
    let gannet = root().join("demo/sheets/gannet.toml");
    update(&fast, "gannet-1.3.0.dfu", &["--bus", "can:1-1", "--sheets", gannet.to_str().unwrap()])
        .expect(3, &["No product sheet describes nodes of a CAN bus"]);
}

#[test]
fn a_named_can_bus_without_nodes_says_why() {
    let empty = Bench::new(Vec::new());
    let named = format!("{},can:1-9", empty.bus());
    empty.run(&["survey", "--bus", &named]).expect(0, &["0 units on usbip", ", can\n", "no CAN adapter 1-9 was found"]);
    empty.run(&["diagnose", "--bus", &named]).expect(9, &["can: no CAN adapter 1-9 was found"]);
    update(&empty, "turnstone-t1-1.1.0.bin", &["--bus", &named, "--wait", "300ms"])
        .expect(4, &["No unit was found: no CAN adapter 1-9 was found."]);
    let bench = bench();
    let named = format!("{},can:1-1", bench.bus());
    bench.run(&["diagnose", "--bus", &named]).expect(0, &["can: responds: 2 devices"]);
    for port in ["1-2", "1-3"] {
        lock(&bench.world).act(port, &UserAction::Pull);
    }
    bench.run(&["diagnose", "--bus", &named]).expect(9, &["can: no node on the CAN bus answers"]);
}

/// The adapter is pulled out and plugged in again in the middle of the transfer.
#[test]
fn an_adapter_that_is_unplugged_is_waited_for() {
    let pulled = vec![Fault { at: 2500, kind: FaultKind::Pull(Some(std::time::Duration::from_millis(600))) }];
    let bench = bench_of(pulled, vec![node(Chip::T1, 4, FIRST), node(Chip::T2, 9, SECOND)]);
    let ended = update(&bench, "turnstone-t1-1.1.0.bin", &["--unit", "node=5a0017c2", "--variant", "t1", "-v"]);
    ended.expect(0, &["confirmed", "runs 1.1.0"]);
    assert!(ended.stderr.contains("lost") || ended.stderr.contains("disconnect"), "{}", ended.stderr);
    assert!(holds(&bench, "1-2", "turnstone-t1-1.1.0.bin"));
}

#[test]
fn a_line_updates_all_nodes_of_a_bus() {
    let nodes = (1..=3_u8).map(|number| node(Chip::T1, number, FIRST + u32::from(number))).collect();
    let bench = bench_of(Vec::new(), nodes);
    let file = firmware("turnstone-t1-1.1.0.bin");
    let line = ["line", file.to_str().unwrap(), "--variant", "t1", "--count", "3", "--wait", "20s"];
    bench.run(&line).expect(0, &["3 units: 3 updated", "1-1:5a0017c3", "1-1:5a0017c5"]);
    for port in ["1-2", "1-3", "1-4"] {
        assert!(holds(&bench, port, "turnstone-t1-1.1.0.bin"), "{port}");
    }
}

/// A blank board: its bootloader over the chip's boot mode on USB, with jumper, terminator and supply; then its
/// application over the bus, by the unique id that it shows there.
#[test]
fn a_release_goes_over_usb_first_and_then_over_the_bus() {
    let blank = Turnstone::new(Chip::T1, "quay", 4, FIRST).blank();
    let bench = bench_of(Vec::new(), vec![Box::new(blank), node(Chip::T2, 9, SECOND)]);
    let other = bench.memory("1-3");
    let config = bench.folder.path().join("config");
    let run = |args: &[&str]| Running::start(bench.command().args(args).env("XDG_CONFIG_HOME", &config)).end();
    run(&["keys", "new", "skerrow"]).expect(0, &["created"]);
    let description = root().join("demo/releases/turnstone-1.1.0.toml");
    let release = bench.folder.path().join("turnstone.vaka");
    let release = release.to_str().unwrap();
    run(&["pack", description.to_str().unwrap(), "--key", "skerrow", "--out", release]).expect(0, &["fits"]);
    let hands = ["hold BOOT", "plug"].into_iter().map(|action| (500, action));
    for (after, action) in hands.chain([(5000, "pull"), (5100, "release BOOT"), (5200, "plug")]) {
        let after = std::time::Duration::from_millis(after);
        lock(&bench.world).act_later("1-2", after, action.parse().unwrap());
    }
    let ended = run(&["update", release, "--variant", "t1", "--unit", "id=1209:0013", "--wait", "30s", "--unattended"]);
    ended.expect(
        0,
        &[
            "decided by the printed label",
            "can:turnstone returned at 1-1:5a0017c2",
            "Stage 1 of 2 is done",
            "at 1-1:5a0017c2 runs 1.1.0",
            "Stage 2 of 2 is done",
        ],
    );
    // In the order in which they have to be undone.
    let undone = ["Pull the USB cable", "Set jumper J2 back", "Take the terminator out", "Switch the shore supply on"];
    let places: Vec<Option<usize>> = undone.iter().map(|step| ended.stderr.find(step)).collect();
    assert!(places.iter().all(Option::is_some) && places.is_sorted(), "{places:?}: {}", ended.stderr);
    let loader = fs::read(firmware("turnstone-t1-loader-1.0.0.bin")).unwrap();
    assert!(bench.memory("1-2").starts_with(&loader) && holds(&bench, "1-2", "turnstone-t1-1.1.0.bin"));
    assert!(bench.memory("1-3") == other, "the other node");
}

/// A node that runs an application of before the bootloader: the bootloader goes over the chip's boot mode
/// on USB, where the node has another serial number; then the application over the bus.
#[test]
fn a_running_node_leaves_its_bus_for_the_boot_mode_on_usb() {
    let text = |name: &str| fs::read_to_string(root().join("demo/sheets").join(name)).unwrap();
    let dialect = |name: &str| Dialect::parse(name, &text(&format!("{name}.dialect.toml")), &no_files).unwrap();
    let named = ["turnstone", "turnstone-app"].map(|name| (name.to_owned(), Arc::new(dialect(name))));
    let sheet = Sheet::parse_with("turnstone.toml", &text("turnstone.toml"), &named.into_iter().collect()).unwrap();
    let design = Arc::new(Design::new(Arc::new(sheet), "t1").unwrap());
    let unit = SheetUnit::new(design, "SIM-0001", StartMode::Application, None);
    let adapter = CanAdapter::new(BUS, "CA-1");
    let bench = Bench::of(vec![(Box::new(adapter) as Box<dyn Unit>, Vec::new()), (Box::new(unit), Vec::new())]);
    let release = bench.folder.path().join("turnstone.vaka");
    let release = release.to_str().unwrap();
    let run = |args: &[&str]| Running::start(bench.command().args(args)).end();
    let description = root().join("demo/releases/turnstone-1.1.0.toml");
    run(&["pack", description.to_str().unwrap(), "--out", release]).expect(0, &["fits"]);
    let steps = ["supply", "bus", "jumper", "cable"];
    let done = steps.iter().map(|step| format!("do {step}"));
    let undone = steps.iter().rev().map(|step| format!("undo {step}"));
    for (after, action) in [1500, 1600, 1700, 1800, 9000, 9100, 9200, 9300].into_iter().zip(done.chain(undone)) {
        let after = std::time::Duration::from_millis(after);
        lock(&bench.world).act_later("1-2", after, action.parse().unwrap());
    }
    let named = ["--unit", "node=51a00001", "--variant", "t1", "--wait", "30s", "--unattended", "--allow", "unsigned"];
    let ended = run(&[&["update", release][..], &named].concat());
    let returned = "can:turnstone-app returned at 1-1:51a00001: its former application is running";
    ended.expect(
        0,
        &["its chip's boot mode appeared at 1-2", returned, "at 1-1:51a00001 runs 1.1.0", "Stage 2 of 2 is done"],
    );
    let loader = fs::read(firmware("turnstone-t1-loader-1.0.0.bin")).unwrap();
    assert!(bench.memory("1-2").starts_with(&loader) && holds(&bench, "1-2", "turnstone-t1-1.1.0.bin"));
}

/// A recorded session with a node is replayed against its dialect, discovery included.
#[test]
fn a_recorded_discovery_is_replayed() {
    let bench = bench();
    let trace = bench.folder.path().join("run.trace");
    let trace = trace.to_str().unwrap();
    let named = ["--unit", "node=5a0017c2", "--variant", "t1", "--trace", trace];
    update(&bench, "turnstone-t1-1.1.0.bin", &named).expect(0, &["runs 1.1.0"]);
    for name in ["turnstone", "turnstone-app"] {
        let dialect = root().join(format!("demo/sheets/{name}.dialect.toml"));
        let dialect = dialect.to_str().unwrap();
        let replayed = bench.run(&["dialect", "replay", dialect, trace]);
        replayed.expect(0, &["discover", "sends the recorded frames and parses all replies"]);
        assert!(!replayed.stdout.contains("not used"), "{}", replayed.stdout);
        // Both nodes answered.
        let shown = bench.run(&["dialect", "trace", dialect, trace]);
        shown.expect(0, &["discover →"]);
        if name == "turnstone-app" {
            shown.expect(0, &["5A 00 17 C2", "5A 00 2B 90"]);
        }
    }
}
