//! Reading, comparing and saving what is in a unit, end to end: the built
//! program over USB/IP, and the simulated unit's true memory as the judge.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;

use support::{Bench, Running, firmware};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::Condition;
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::usb::Answer;
use vaka_sim::world::lock;

/// A Tern r1 in update mode at 1-1, and a Gannet that runs its application at 1-2.
fn bench() -> Bench {
    Bench::of(vec![
        (Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")), Vec::new()),
        (Box::new(Gannet::new("G-00031")), Vec::new()),
    ])
}

#[test]
fn a_region_a_range_and_all_that_a_route_writes_are_read() {
    let bench = bench();
    let memory = bench.memory("1-1");
    let read = |args: &[&str]| bench.run(&[&["read", "--unit", "1-1", "--variant", "r1"], args].concat());
    read(&["settings.bin", "--region", "settings", "--times", "2"]).expect(0, &["3 KiB", "blank"]);
    assert_eq!(fs::read(bench.folder.path().join("settings.bin")).unwrap(), memory[0x2_3400..]);
    read(&["part.bin", "--range", "0x0A0023F0..0x0A002510"]).expect(0, &["0x0A00_23F0..0x0A00_2510"]);
    assert_eq!(fs::read(bench.folder.path().join("part.bin")).unwrap(), memory[0x23F0..0x2510]);
    read(&["all.hex"]).expect(0, &["132 KiB in 1 segment"]);
    bench.run(&["convert", "all.hex", "all.bin"]).expect(0, &[]);
    assert_eq!(fs::read(bench.folder.path().join("all.bin")).unwrap(), memory[0x2400..0x2_3400]);
    // Nothing is overwritten: an existing file, an unknown extension, an unknown region.
    read(&["all.hex"]).expect(3, &["already exists", "--replace"]);
    read(&["all.xyz"]).expect(2, &["the extension does not determine a format"]);
    read(&["new.hex", "--region", "attic"]).expect(2, &["Existing regions: bootloader, application, settings"]);
    assert_eq!(bench.memory("1-1"), memory, "nothing was changed");
    assert_eq!(bench.condition("1-1"), Condition::Boot);
    bench.run(&["read", "--unit", "1-1", "--unattended", "x.hex"]).expect(3, &["--variant r1 or --variant r2"]);
}

/// A disk that is full: what stands there stays, and nothing is left behind. The
/// limit on a file's size stops a write as a full disk does.
#[test]
fn a_full_disk_costs_nothing() {
    let bench = bench();
    let (memory, program) = (bench.memory("1-1"), env!("CARGO_BIN_EXE_vaka"));
    let old = bench.file("old.bin", b"what was saved before");
    let limited = |args: &str| {
        let line = format!("trap '' XFSZ; ulimit -f 4; exec '{program}' {args} --unit 1-1 --variant r1");
        let mut command = std::process::Command::new("sh");
        command.arg("-c").arg(line).current_dir(bench.folder.path());
        command.envs(bench.command().get_envs().filter_map(|(key, value)| Some((key, value?))));
        Running::start(&mut command).end()
    };
    limited("read old.bin --replace").expect(8, &["old.bin: File too large"]);
    let image = firmware("tern-r1-1.5.0.hex");
    limited(&format!("update '{}' --save new.hex", image.display())).expect(8, &["new.hex: File too large"]);
    assert_eq!(fs::read(old).unwrap(), b"what was saved before");
    let left = fs::read_dir(bench.folder.path()).unwrap().map(|entry| entry.unwrap().file_name());
    let left: Vec<_> = left.filter(|name| name.to_string_lossy().contains(".vaka-") || name == "new.hex").collect();
    assert!(left.is_empty(), "{left:?}");
    assert_eq!(bench.memory("1-1"), memory, "nothing was written without what was to be saved");
}

/// The Gannet is brought into its bootloader, read from there, and sent back.
#[test]
fn a_running_unit_is_read_and_goes_back_to_its_application() {
    let bench = bench();
    let memory = bench.memory("1-2");
    bench
        .run(&["read", "--unit", "name=gannet", "g.bin"])
        .expect(0, &["update mode entered; nothing was changed", "106 KiB in 1 segment"]);
    let region = gannet::APPLICATION_REGION;
    let wanted = &memory[region.start as usize..region.end as usize];
    assert_eq!(fs::read(bench.folder.path().join("g.bin")).unwrap(), wanted);
    assert_eq!(bench.condition("1-2"), Condition::Application);
    bench
        .run(&["read", "--unit", "name=gannet", "--range", "0x100..0x200", "low.bin"])
        .expect(3, &["This unit can be read only from the start of the"]);
    assert_eq!((bench.condition("1-2"), bench.memory("1-2")), (Condition::Application, memory));
}

/// A unit whose readings differ from time to time.
#[test]
fn readings_that_differ_are_reported_and_not_kept() {
    let bench = bench();
    let worn = 0x0A00_2500;
    let spoil = {
        let world = bench.world.clone();
        move |byte| lock(&world).unit("1-1").unwrap().flash_mut().put(worn, &[byte])
    };
    spoil(1);
    let args =
        ["read", "--unit", "1-1", "--variant", "r1", "--range", "0x0A002400..0x0A002600", "--times", "40", "x.bin"];
    let mut reading = Running::start(bench.command().args(args).args(["--format", "json"]));
    reading.wait_for("\"step\":\"read\",\"state\":\"done\"");
    spoil(2);
    reading.end().expect(6, &["differs from the first in 1 byte, from 0x0A00_2500 on"]);
    assert!(!bench.folder.path().join("x.bin").exists());
}

#[test]
fn a_file_is_compared_with_a_unit_and_with_a_file() {
    let bench = bench();
    let before = bench.memory("1-1");
    let (new, old) = (firmware("tern-r1-1.5.0.hex"), firmware("tern-r1-1.4.0.srec"));
    let (new, old) = (new.to_str().unwrap(), old.to_str().unwrap());
    let on_unit = ["--unit", "1-1", "--variant", "r1"];
    bench
        .run(&[&["compare", old], &on_unit[..]].concat())
        .expect(0, &["Equal: all 20 772 bytes", "0x0A00_2400 ======="]);
    let a = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    let b = fs::read(firmware("tern-r1-1.4.0.bin")).unwrap();
    let differing = a.iter().zip(&b).filter(|(a, b)| a != b).count();
    let first = a.iter().zip(&b).position(|(a, b)| a != b).unwrap();
    let found = bench.run(&[&["compare", new, "--format", "json"], &on_unit[..]].concat());
    let report = found.expect(6, &[]).events().pop().unwrap();
    assert_eq!((&report["event"], &report["different"]), (&"comparison".into(), &differing.into()));
    assert_eq!(report["equal"], a.len() - differing);
    assert_eq!(report["first_difference"]["at"], format!("0x{:04X}_{:04X}", 0x0A00, 0x2400 + first));
    bench.run(&["compare", new, old]).expect(6, &[&format!("Different: {differing} of 20 772"), "50*", "40*"]);
    bench.run(&["compare", new, firmware("tern-r1-1.5.0.elf").to_str().unwrap()]).expect(0, &["Equal"]);
    // Addresses that the unit does not have.
    bench
        .run(&["compare", firmware("gannet-1.3.0.hex").to_str().unwrap(), "--unit", "1-1", "--variant", "r1"])
        .expect(3, &["None of the file's addresses can be read"]);
    let gannet = firmware("gannet-1.2.0.dfu");
    bench.run(&["compare", gannet.to_str().unwrap(), "--unit", "name=gannet"]).expect(0, &["Equal: all 10 612 bytes"]);
    assert_eq!(bench.memory("1-1"), before);
}

#[test]
fn the_present_content_is_saved_first_and_goes_back_again() {
    let bench = bench();
    let before = bench.memory("1-1");
    let update =
        |file: &str, args: &[&str]| bench.run(&[&["update", file, "--unit", "1-1", "--variant", "r1"], args].concat());
    // The CRC at its end is wrong: it does not start.
    let mut unsound = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    *unsound.last_mut().unwrap() ^= 0x55;
    let unsound = bench.file("unsound.bin", &unsound);
    let sheet = bench.sheet_without_proofs("tern.toml");
    update(unsound.to_str().unwrap(), &["--at", "0x0A002400", "--save", "old.hex", "--sheets", &sheet])
        .expect(7, &["saved: old.hex", "To restore the old firmware: vaka update old.hex --allow older-version"]);
    update("old.hex", &["--allow", "older-version"]).expect(0, &["runs 1.4.0"]);
    assert_eq!(bench.memory("1-1"), before);
    // A file that is there is not overwritten, and then nothing is begun.
    bench
        .update(&firmware("tern-r1-1.5.0.hex"), &["--unit", "1-1", "--save", "old.hex"])
        .expect(3, &["already exists"]);
    assert_eq!(bench.memory("1-1"), before);
}

#[test]
fn a_protected_unit_and_one_that_cannot_be_read_say_so() {
    let protected = Tern::in_boot_mode(Revision::R1, "T1-00217").with_manner(Default::default(), true);
    let silent = vaka_sim::bootloader::dfu::Quirks { no_functional_descriptor: true, ..Default::default() };
    let unreadable = Tern::in_boot_mode(Revision::R1, "T1-00218").with_manner(silent, false);
    let bench = Bench::new(vec![(protected, Vec::new()), (unreadable, Vec::new())]);
    for (port, words) in [("1-1", "read-protected: errVENDOR"), ("1-2", "reports that it cannot be read")] {
        bench.run(&["read", "x.hex", "--unit", port, "--variant", "r1"]).expect(3, &[words]);
        let file = firmware("tern-r1-1.5.0.hex");
        bench.run(&["compare", file.to_str().unwrap(), "--unit", port, "--variant", "r1"]).expect(3, &[words]);
    }
    bench
        .update(&firmware("tern-r1-1.5.0.hex"), &["--unit", "1-2", "--variant", "r1", "--save", "y.hex"])
        .expect(3, &["its present content cannot be saved"]);
    assert!(!bench.folder.path().join("y.hex").exists());
}

/// Twice the same update: the second does nothing, and says so.
#[test]
fn an_update_that_is_already_there_says_so() {
    let bench = bench();
    let update = || {
        let file = firmware("gannet-1.3.0.dfu");
        bench.run(&["update", file.to_str().unwrap(), "--unit", "name=gannet", "--format", "json"])
    };
    assert_eq!(update().expect(0, &[]).result()["outcome"], "updated");
    let before = bench.log("1-2").len();
    let result = update().expect(0, &["6 of 6 sectors equal"]).result();
    assert_eq!((&result["outcome"], &result["check"]), (&"unchanged".into(), &"read-back".into()));
    assert_eq!((&result["bytes_written"], &result["bytes_skipped"]), (&0.into(), &10640.into()));
    let downloads =
        bench.log("1-2")[before..].iter().filter(|entry| (entry.setup.kind, entry.setup.request) == (0x21, 1)).count();
    assert_eq!(downloads, 0, "not a single block");
    assert_eq!(bench.condition("1-2"), Condition::Application);
}

/// A unit that takes one stream is read up to the first difference: no more is claimed, and no sector is said to differ
/// that was not read.
#[test]
fn a_comparison_states_only_the_bytes_that_it_read() {
    let bench = bench();
    let file = firmware("gannet-1.3.0.dfu");
    let update = ["update", file.to_str().unwrap(), "--unit", "name=gannet", "--format", "json"];
    let ended = bench.run(&update);
    let log = bench.log("1-2");
    let uploads = log
        .iter()
        .take_while(|entry| (entry.setup.kind, entry.setup.request) != (0x21, 1))
        .filter(|entry| (entry.setup.kind, entry.setup.request) == (0xA1, 2));
    let read: u64 = uploads.map(|entry| u64::from(entry.setup.length)).sum();
    let events = ended.expect(0, &["a difference was found, so all of it is written"]).events();
    let done = events.iter().find(|event| (&event["step"], &event["state"]) == (&"compare".into(), &"done".into()));
    assert_eq!(done.unwrap()["bytes"], read);
    assert_eq!(read, 1024, "one block of the unit");
    assert!(!ended.stdout.contains("sectors equal"), "{}", ended.stdout);
}

/// A second process is refused with the first one's name while it works.
#[test]
fn two_processes_do_not_work_on_one_unit() {
    // The first waits for hands that never come.
    let bench = Bench::new(vec![(Tern::new(Revision::R1, "T1-00217"), Vec::new())]);
    let file = firmware("tern-r1-1.5.0.hex");
    let args = ["--variant", "r1", "--wait", "30s"];
    let mut first = Running::start(bench.command().arg("update").arg(&file).args(args));
    first.wait_for("Hold SET");
    let who = format!("process {}: vaka update", first.id());
    bench.update(&file, &["--variant", "r1"]).expect(9, &["Another program uses the unit at 1-1", &who]);
    bench.run(&["read", "x.hex", "--unit", "1-1", "--variant", "r1"]).expect(9, &[&who]);
    // It ends without a word, and the unit is free again.
    first.kill();
    bench.run(&["update", file.to_str().unwrap(), "--variant", "r1", "--plan"]).expect(0, &["Plan so far"]);
}

/// The cable drops in the middle and is put back.
#[test]
fn a_cable_that_is_put_back_is_gone_on_with() {
    let pull = Fault { at: 60, kind: FaultKind::Pull(Some(std::time::Duration::from_millis(400))) };
    let bench = Bench::faulty_r1(vec![pull]);
    let ended = bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1", "--format", "json"]);
    let result = ended.expect(0, &["Waiting for the unit to return at"]).result();
    assert_eq!((&result["outcome"], &result["check"]), (&"updated".into(), &"read-back".into()));
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_eq!(bench.memory("1-1")[0x2400..0x2400 + image.len()], image);
    assert!(bench.log("1-1").iter().any(|entry| entry.answer == Answer::Silent), "the fault has happened");
}

/// A unit starts where the last transfer left its address pointer, unless it is told where: one
/// that no sheet describes is started at the beginning of its memory.
#[test]
fn an_undescribed_unit_is_not_restarted_in_the_middle_of_its_memory() {
    let bench = Bench::new(vec![(Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new())]);
    let empty = tempfile::tempdir().unwrap();
    let run = |args: &[&str]| {
        let mut command = bench.command();
        command.args(args).env_remove("VAKA_SHEETS").env("XDG_CONFIG_HOME", empty.path());
        Running::start(&mut command).end()
    };
    let out = empty.path().join("part.bin");
    run(&["read", out.to_str().unwrap(), "--range", "0x0A003000..0x0A003400"]).expect(0, &[]);
    run(&["restart", "--wait", "5s"]).expect(0, &["1209:0001"]);
    assert_eq!(lock(&bench.world).unit("1-1").unwrap().condition(), Condition::Application);
}
