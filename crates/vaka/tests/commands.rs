//! The other commands, end to end: survey, check, simulator, demo, and what
//! goes wrong before any unit is touched.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::io::Write;
use std::net::TcpListener;

use support::{Bench, Running, assert_updated, firmware, program, root};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_usb::Bus;
use vaka_usb::usbip::UsbIpBus;

fn terns() -> Bench {
    Bench::new(vec![
        (Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new()),
        (Tern::new(Revision::R2, "T2-00054"), Vec::new()),
    ])
}

#[test]
fn survey_says_what_is_there_and_what_to_do_next() {
    let bench = terns();
    bench.run(&["survey"]).expect(
        0,
        &[
            "2 units on usbip://127.0.0.1:",
            "reports 48 sectors of 3 KiB at 0x0A00_0000, as r1 has",
            "r2 if it reads \"SKI-TERN R2\" (board, beside the USB connector)",
            "next: vaka update FILE --unit port=1-2 --variant ID",
        ],
    );
    let events = bench.run(&["survey", "--format", "json"]).expect(0, &[]).events();
    let fields: Vec<_> = events.iter().map(|e| (&e["port"], &e["mode"], &e["serial"], &e["version"])).collect();
    let (port, mode, serial, version) = fields[1];
    assert_eq!(
        (port, mode, serial, version),
        (&"1-2".into(), &"application".into(), &"T2-00054".into(), &"1.4.0".into())
    );
    assert_eq!(fields[0].1, "update");
    // One unit only, and without sheets.
    let one = bench.run(&["survey", "--unit", "name=Tern r2", "--format", "json"]).expect(0, &[]).events();
    assert_eq!(one.len(), 2, "a boot id that is shared may be an r2 as well");
    let mut bare = bench.command();
    let bare = Running::start(bare.env_remove("VAKA_SHEETS").arg("survey")).end();
    bare.expect(0, &["no product sheet", "1209:0002"]);
}

#[test]
fn a_unit_in_use_is_not_in_the_list_and_comes_back() {
    let bench = terns();
    let bus = UsbIpBus::new(&bench.bus()).unwrap();
    let held = bus.open("1-1").unwrap();
    bench.run(&["survey"]).expect(0, &["1 unit on"]);
    let file = firmware("tern-r1-1.5.0.hex");
    bench
        .run(&["update", file.to_str().unwrap(), "--variant", "r1", "--unit", "1-1", "--wait", "0"])
        .expect(4, &["another program uses"]);
    drop(held);
    let events = loop {
        let events = bench.run(&["survey", "--format", "json"]).events();
        if events.len() == 2 {
            break events;
        }
    };
    assert_eq!(events[0]["port"], "1-1");
}

#[test]
fn check_says_what_a_file_is_and_where_it_fits() {
    let bench = terns();
    let hex = firmware("tern-r1-1.5.0.hex");
    bench.run(&["check", hex.to_str().unwrap()]).expect(
        0,
        &[
            "Intel HEX: its first record is Intel HEX",
            "content   20 772 bytes in 1 segment",
            "0x0A00_2400..0x0A00_7524  20 772 bytes",
            "the initial stack 0x2000_5000 is in the RAM of",
            "  fits      Tern r1 (r1), version 1.5.0; completeness: proven by its end record, length, checksum",
            "other variants do not fit",
        ],
    );
    bench
        .run(&["check", "-v", hex.to_str().unwrap()])
        .expect(0, &["Tern r2", "start address 0x0A00_2400: r2's region 'application' starts at 0x0A00_3000"]);
    // The sheet of the only product that fits gives the address, as for an update.
    let dunlin = firmware("dunlin-1.1.0.bin");
    bench
        .run(&["check", dunlin.to_str().unwrap()])
        .expect(0, &["read at 0x0000_1C00, where the product sheet places raw binaries", "  fits      Dunlin (n1)"]);
    let bin = firmware("tern-r1-1.5.0.bin");
    bench
        .run(&["check", bin.to_str().unwrap()])
        .expect(3, &["a raw binary has no address", "Tern r1 starts at 0x0A00_2400"]);
    let events =
        bench.run(&["check", bin.to_str().unwrap(), "--at", "0x0A002400", "--format", "json"]).expect(0, &[]).events();
    // Digests of the file by another program.
    let sum = std::process::Command::new("sha256sum").arg(&bin).output().expect("coreutils are there");
    assert_eq!(events[0]["sha256"].as_str().unwrap(), String::from_utf8_lossy(&sum.stdout)[..64].to_owned());
    // The other files are still looked at when one is damaged.
    let page = bench.file("page.hex", b"<html>gone</html>");
    bench
        .run(&["check", page.to_str().unwrap(), hex.to_str().unwrap()])
        .expect(8, &["this is a web page, not firmware: the download", "  fits      Tern r1 (r1)"]);
    // Nothing fits: another product's file, at another address.
    let other = bench.file("other.hex", b":0840000000500020C10100087E\n:00000001FF\n");
    bench.run(&["check", other.to_str().unwrap()]).expect(3, &["fits not  any variant:", "Tern r1", "Tern r2"]);
}

#[test]
fn check_judges_for_a_unit_and_changes_nothing() {
    let bench = terns();
    let before = bench.memory("1-1");
    let hex = firmware("tern-r1-1.5.0.hex");
    let check = |args: &[&str]| bench.run(&[&["check", hex.to_str().unwrap()], args].concat());
    check(&["--unit", "1-1"]).expect(3, &["Undecided"]);
    check(&["--unit", "1-1", "--variant", "r1"]).expect(0, &["The image fits r1"]);
    check(&["--unit", "1-2", "--variant", "r2"]).expect(3, &["The image does not fit r2"]);
    check(&["--unit", "1-1", "--variant", "r7"]).expect(3, &["No variant has the id or label 'r7'"]);
    assert_eq!(bench.memory("1-1"), before);
    assert!(bench.log("1-1").is_empty());
}

#[test]
fn the_same_by_hand_in_two_terminals() {
    let mut simulator = Running::start(program().arg("simulate"));
    let line = simulator.wait_for("Simulated units at usbip://127.0.0.1:");
    let bus = line.rsplit(' ').next().unwrap().to_owned();
    simulator.wait_for("Ctrl-C ends it.");
    let folder = tempfile::tempdir().unwrap();
    let vaka = |args: &[&str]| {
        Running::start(program().args(["--bus", &bus, "--sheets"]).arg(root().join("demo/sheets")).args(args)).end()
    };
    vaka(&["survey"]).expect(0, &["6 units", "T2-00054", "G-00031"]);
    let memory = |simulator: &mut Running, name: &str| {
        let path = folder.path().join(name);
        writeln!(simulator.stdin(), "memory 1-1 {}", path.display()).unwrap();
        simulator.wait_for("147456 bytes from 0x0A000000");
        std::fs::read(path).unwrap()
    };
    let before = memory(&mut simulator, "before.bin");
    let file = firmware("tern-r1-1.5.0.hex");
    vaka(&["update", file.to_str().unwrap(), "--unit", "1-1", "--variant", "r1"]).expect(0, &["runs 1.5.0"]);
    let image = std::fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_updated(Revision::R1, &before, &memory(&mut simulator, "after.bin"), &image);
    writeln!(simulator.stdin(), "hold 1-1 set\ntap 1-1 reset\nstate\ndance 1-1").unwrap();
    simulator.wait_for("1-1: tap reset");
    simulator.wait_for("is not an action");
    // It takes its time to start; the program waits for it.
    vaka(&["check", file.to_str().unwrap(), "--unit", "id=1209:0002", "--variant", "r1", "--wait", "5s"])
        .expect(0, &["The image fits r1"]);
    vaka(&["survey"]).expect(0, &["1-1   update"]);
    writeln!(simulator.stdin(), "quit").unwrap();
    simulator.end().expect(0, &[]);
}

#[test]
fn a_scene_says_what_goes_wrong() {
    let folder = tempfile::tempdir().unwrap();
    let scene = folder.path().join("scene.toml");
    let unit = "[[unit]]\nproduct = \"tern\"\nvariant = \"r2\"\nport = \"2-4\"\nserial = \"T2-1\"\nmode = \"update\"\n";
    std::fs::write(&scene, format!("{unit}faults = [{{ at = 30, kind = \"pull\" }}]\n")).unwrap();
    let mut simulator = Running::start(program().arg("simulate").arg("--scene").arg(&scene));
    let line = simulator.wait_for("Simulated units at ");
    let bus = line.rsplit(' ').next().unwrap().to_owned();
    let file = firmware("tern-r2-1.5.0.hex");
    let mut command = program();
    command.args(["--bus", &bus, "--sheets"]).arg(root().join("demo/sheets")).arg("update").arg(&file);
    Running::start(command.args(["--variant", "r2"])).end().expect(5, &["the unit disconnected"]);
    writeln!(simulator.stdin(), "quit").unwrap();
    simulator.end().expect(0, &[]);
    std::fs::write(&scene, unit.replace("r2", "r5")).unwrap();
    Running::start(program().arg("simulate").arg("--scene").arg(&scene)).end().expect(8, &["scene.toml", "r5"]);
}

#[test]
fn the_demo_shows_the_main_job_and_leaves_nothing_behind() {
    let folder = tempfile::tempdir().unwrap();
    let ended = Running::start(program().arg("demo").env("TMPDIR", folder.path())).end();
    ended.expect(
        0,
        &[
            "$ vaka survey",
            "Undecided",
            "read-back: all 20 772 bytes are equal",
            "5 of 7 sectors equal",
            "Done. Tern tide gauge r1 at 1-1 runs 1.5.0.",
            "CONFLICT: r1's region 'application' starts at 0x0A00_2400",
            "The file is for r2.",
            "byte for byte; the bootloader and all preserved content are",
        ],
    );
    let ended = Running::start(program().args(["demo", "gannet"]).env("TMPDIR", folder.path())).end();
    ended.expect(
        0,
        &[
            "Still fits g1 in update mode; also seen: boot id",
            "read-back: all 10 640 written bytes",
            "Done. Gannet hydrophone interface g1 at 1-1 runs 1.3.0.",
            "CONFLICT: g1's region 'application' starts at 0x0000_5000",
        ],
    );
    for (scene, words) in [
        (
            "petrel",
            ["accepted: 8 960 bytes were sent without an error; 8 704 were read back", "CONFLICT: pb1's is \"PBA1\""],
        ),
        (
            "heron",
            ["read-back: all 4 360 written bytes", "The file is for another part of the product: --part interface"],
        ),
    ] {
        let ended = Running::start(program().args(["demo", scene]).env("TMPDIR", folder.path())).end();
        ended.expect(0, &words).expect(0, &["the application returned as the product sheet describes"]);
    }
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    Running::start(program().args(["demo", "--list"])).end().expect(0, &["tern"]);
    Running::start(program().args(["demo", "puffin"])).end().expect(2, &["There is no example 'puffin'"]);
}

#[test]
fn each_thing_that_is_not_there_has_its_own_sentence() {
    let file = firmware("tern-r1-1.5.0.hex");
    let sheets = root().join("demo/sheets");
    let run = |args: &[&str]| Running::start(program().args(args)).end();
    let (file, sheets) = (file.to_str().unwrap(), sheets.to_str().unwrap());
    // A machine with USB and one without have a bench each, perhaps an empty one.
    run(&["survey"]).expect(0, &[" on usb"]);
    run(&["--bus", "usb", "survey"]).expect(0, &[" on usb"]);
    run(&["--bus", "usbip:/x", "survey"]).expect(2, &["'usbip:/x' is not a bus"]);
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let bus = format!("usbip://{closed}");
    run(&["--bus", &bus, "survey"])
        .expect(9, &["No reply from usbip://127.0.0.1", "Check that a USB/IP server is running there on that"]);
    run(&["--bus", &bus, "--sheets", sheets, "update", file]).expect(9, &["No reply from"]);
    run(&["--bus", &bus, "update", file]).expect(3, &["No product sheet was found, so the image cannot be matched"]);
    run(&["--bus", &bus, "--sheets", "/nonexistent/sheets", "update", file]).expect(8, &["/nonexistent/sheets"]);
    run(&["--bus", &bus, "update"]).expect(2, &["FILE"]);
    run(&["--bus", &bus, "--wait", "soon", "survey"]).expect(2, &["is not a time"]);
}

#[test]
fn a_wrong_sheet_is_refused_at_its_line() {
    let bench = Bench::tern_r1();
    let sheet = std::fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let wrong = bench
        .file("tern.toml", sheet.replacen("writes = [\"application\"]", "writes = [\"bootloader\"]", 1).as_bytes());
    let line = sheet.lines().position(|line| line.starts_with("writes =")).unwrap() + 1;
    let file = firmware("tern-r1-1.5.0.hex");
    let ended = bench.run(&["update", file.to_str().unwrap(), "--sheets", wrong.to_str().unwrap()]);
    ended.expect(8, &[&format!("line {line}, key `writes`: an ordinary route must not write the bootloader")]);
    assert!(bench.log("1-1").is_empty());
}

/// A guide's placeholder for the reader's own value is refused by name.
#[test]
fn placeholders_are_refused_by_name() {
    let bench = Bench::tern_r1();
    let r1 = firmware("tern-r1-1.5.0.hex");
    let r1 = r1.to_str().unwrap();
    let cases: [(&[&str], &str); 6] = [
        (&["update", r1, "--unit", "id=1234:5678"], "'1234:5678' is a placeholder"),
        (&["update", r1, "--unit", "serial=<serial>"], "'<serial>' is a placeholder"),
        (&["update", r1, "--unit", "XXXX"], "'XXXX' is a placeholder"),
        (&["update", r1, "--at", "0xDEADBEEF"], "'0xDEADBEEF' is a placeholder"),
        (&["settings", "load", "x", "--set", "number=CHANGE-ME"], "'CHANGE-ME' is a placeholder"),
        (&["stamp", r1, "o.hex", "--fact", "crystal=TODO"], "'TODO' is a placeholder"),
    ];
    for (args, words) in cases {
        bench.run(args).expect(2, &[words]);
    }
}

/// A region that the sheet keeps to itself is not read, by name or by address.
#[test]
fn what_the_sheet_does_not_allow_is_not_read() {
    let bench = Bench::tern_r1();
    let sheet = std::fs::read_to_string(support::root().join("demo/sheets/tern.toml")).unwrap();
    let sheet = sheet.replace("name = \"settings\"\n", "name = \"settings\"\nallows = [\"write\"]\n");
    let sheet = bench.file("tern.toml", sheet.as_bytes());
    let run = |args: &[&str]| {
        let all = [&["read", "out.bin", "--variant", "r1", "--sheets", sheet.to_str().unwrap()], args].concat();
        bench.run(&all)
    };
    run(&["--region", "settings"]).expect(3, &["does not allow reading region 'settings'"]);
    run(&["--range", "0x0A023000..0x0A023800"]).expect(3, &["does not allow reading region 'settings'"]);
    run(&["--region", "bootloader"]).expect(0, &[]);
    assert_eq!(bench.folder.path().join("out.bin").metadata().unwrap().len(), 9 * 1024);
}

/// The right file on the wrong board: what it is made for, and what of the unit speaks
/// against that.
#[test]
fn near_misses_are_explained() {
    let bench = Bench::tern_r1();
    let r2 = firmware("tern-r2-1.5.0.hex");
    let update = |args: &[&str]| bench.run(&[&["update", r2.to_str().unwrap(), "--unattended"], args].concat());
    let words = "the file is made for r2; this unit's memory layout 48 sectors of 3 KiB at 0x0A00_0000: r2 has 40 sectors of 6 KiB";
    update(&[]).expect(3, &[words, "it is not r2"]);
    update(&["--variant", "r1"]).expect(3, &["The file is for r2. Use the file for r1, or read the label again."]);
    update(&["--variant", "r2"]).expect(3, &["This unit does not identify as r2. Check its label"]);
}

/// The version names the build: its commit in a release build, and its target. The journal has both.
#[test]
fn the_version_tells_its_origin() {
    let bench = Bench::tern_r1();
    let said = bench.run(&["--version"]).expect(0, &["vaka 0.1.0 ("]).stdout.clone();
    let build = said.trim().strip_prefix("vaka 0.1.0 (").and_then(|rest| rest.strip_suffix(')')).unwrap();
    assert!(
        build.ends_with(&format!("{}-unknown-linux-gnu", std::env::consts::ARCH)) || !cfg!(target_os = "linux"),
        "{build}"
    );
    bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1"]).expect(0, &[]);
    let record = bench.run(&["journal", "--format", "json"]).events().pop().unwrap();
    assert_eq!((&record["started"]["vaka"], &record["started"]["build"]), (&"0.1.0".into(), &build.into()), "{record}");
}
