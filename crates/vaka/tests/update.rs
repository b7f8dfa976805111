//! `vaka update`, end to end: the built program, a real protocol over
//! loopback, and the simulated unit's true memory as the judge.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;

use support::{Bench, Running, assert_updated, at, firmware};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::flash::StuckBit;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::usb::Answer;
use vaka_sim::world::{LogEntry, lock};
use vaka_testkit::program;

fn read(name: &str) -> Vec<u8> {
    fs::read(firmware(name)).unwrap()
}

#[test]
fn both_boards_get_their_image_from_hex_and_from_a_binary() {
    for (revision, name, at) in
        [(Revision::R1, "tern-r1-1.5.0", "0x0A002400"), (Revision::R2, "tern-r2-1.5.0", "0x0A00_3000")]
    {
        for (ending, options) in [("hex", &[][..]), ("bin", &["--at", at][..])] {
            let bench = Bench::new(vec![(Tern::in_boot_mode(revision, "T1-00217"), Vec::new())]);
            let before = bench.memory("1-1");
            let label = if revision == Revision::R1 { "SKI-TERN R1" } else { "r2" };
            let mut args = vec!["--variant", label, "--format", "json"];
            args.extend(options);
            let ended = bench.update(&firmware(&format!("{name}.{ending}")), &args);
            let result = ended.expect(0, &[]).result();
            let image = read(&format!("{name}.bin"));
            assert_eq!(result["outcome"], "updated");
            assert_eq!(result["check"], "read-back");
            assert_eq!(result["after"], "confirmed");
            assert_eq!(result["bytes_written"], image.len());
            assert_eq!(result["bytes_checked"], image.len());
            assert_eq!(result["application"]["version"], "1.5.0");
            assert_eq!(result["application"]["serial"], "T1-00217");
            assert_updated(revision, &before, &bench.memory("1-1"), &image);
            assert_eq!(bench.condition("1-1"), Condition::Application);
        }
    }
}

/// The sheet's author vouches for the address of a binary, once the variant
/// is settled.
#[test]
fn a_sheet_may_say_where_a_binary_starts() {
    let bench = Bench::tern_r1();
    let sheet = fs::read_to_string(support::root().join("demo/sheets/tern.toml")).unwrap();
    let vouched =
        sheet.replacen("vectors = \"cortex-m\"", "binary_at = 0x0A00_2400\nvectors = \"cortex-m\"", 1).replace(
            "vectors = \"cortex-m\"\nmarks = [{ offset = 0x40, text = \"TRN2\"",
            "binary_at = 0x0A00_3000\nvectors = \"cortex-m\"\nmarks = [{ offset = 0x40, text = \"TRN2\"",
        );
    let sheet = bench.file("tern.toml", vouched.as_bytes());
    let sheet = sheet.to_str().unwrap();
    let before = bench.memory("1-1");
    let binary = firmware("tern-r1-1.5.0.bin");
    // Without a label there is no variant, and so no address.
    bench
        .update(&binary, &["--sheets", sheet])
        .expect(3, &["The unit's ids do not determine its variant, and no", "--variant r1 or --variant r2"]);
    // The other board's binary lies where r1's starts, but is not linked for it.
    bench
        .update(&firmware("tern-r2-1.5.0.bin"), &["--sheets", sheet, "--variant", "r1"])
        .expect(3, &["outside r1's RAM"]);
    assert_eq!(bench.memory("1-1"), before);
    bench.update(&binary, &["--sheets", sheet, "--variant", "r1"]).expect(0, &["runs 1.5.0"]);
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &read("tern-r1-1.5.0.bin"));
}

/// Two products may share a chip, and so its boot id.
#[test]
fn products_that_share_a_boot_id_are_distinguished_by_name() {
    let bench = Bench::tern_r1();
    let sheet = fs::read_to_string(support::root().join("demo/sheets/tern.toml")).unwrap();
    fs::create_dir(bench.folder.path().join("both")).unwrap();
    bench.file("both/tern.toml", sheet.as_bytes());
    let other = sheet.replace("id = \"tern\"", "id = \"puffin\"").replace("Tern tide gauge", "Puffin buoy");
    bench.file("both/puffin.toml", other.replace("1209:0001", "1209:0008").as_bytes());
    let file = firmware("tern-r1-1.5.0.hex");
    let update = |variant: &[&str]| bench.update(&file, &[&["--sheets", "both", "--plan"], variant].concat());
    update(&[]).expect(3, &["puffin and tern share the ids 1209:0002", "--variant PRODUCT/VARIANT"]);
    update(&["--variant", "r1"]).expect(3, &["Several products have a variant 'r1'"]);
    update(&["--variant", "tern/r1"]).expect(0, &["The image fits r1"]);
    update(&["--variant", "gull/r1"]).expect(3, &["No variant has the id or label 'gull/r1'"]);
}

/// Looking for another unit must not disturb this one: over USB/IP each look
/// into it would reset it.
#[test]
fn waiting_for_a_serial_number_opens_each_unit_once() {
    let bench = Bench::tern_r1();
    let before = lock(&bench.world).opened("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    let ended = bench.run(&["update", file.to_str().unwrap(), "--unit", "serial=T9-00001", "--wait", "2s"]);
    ended.expect(4, &["The selected unit (serial number T9-00001) did not appear within 2.0 s"]);
    assert_eq!(lock(&bench.world).opened("1-1") - before, 1);
}

/// Kinds of class requests in the simulated unit's log.
fn downloads(log: &[LogEntry]) -> Vec<&LogEntry> {
    log.iter().filter(|entry| (entry.setup.kind, entry.setup.request) == (0x21, 1)).collect()
}

#[test]
fn a_block_takes_three_transfers_and_a_run_one_address_command() {
    let bench = Bench::tern_r1();
    let ended = bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1", "--format", "json"]);
    let result = ended.expect(0, &[]).result();
    // 20 772 bytes in blocks of 1 KiB; one run, since the image has no gap.
    assert_eq!(result["transfers"]["blocks"], 21);
    assert_eq!(result["transfers"]["runs"], 1);
    assert_eq!(result["transfers"]["write"], 3 * (21 + 1));
    // 7 sectors of 3 KiB, each one command of three transfers.
    assert_eq!(result["transfers"]["erase"], 3 * 7);
    // The simulated unit counts for itself: from the first data block's address
    // command to the last data block's status.
    let log = bench.log("1-1");
    let is_data = |entry: &&LogEntry| (entry.setup.kind, entry.setup.request) == (0x21, 1) && entry.setup.value >= 2;
    let first = log.iter().position(|entry| is_data(&entry)).unwrap() - 3;
    let last = log.iter().rposition(|entry| is_data(&entry)).unwrap() + 3;
    assert_eq!(log[first..last].len(), 3 * (21 + 1));
    let blocks: Vec<_> = downloads(&log).into_iter().filter(is_data).collect();
    assert_eq!(blocks.len(), 21);
    assert!(blocks.iter().zip(2..).all(|(entry, number)| entry.setup.value == number && entry.data_len == 1024));
    assert!(log.iter().all(|entry| entry.answer != Answer::Stall), "nothing had to be refused");
}

#[test]
fn the_printed_label_decides_and_is_cross_checked() {
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let r1 = firmware("tern-r1-1.5.0.hex");
    let r2 = firmware("tern-r2-1.5.0.hex");
    let sentences: [(&std::path::Path, &[&str], &[&str]); 6] = [
        (&r1, &[], &["Undecided", "--variant r1  if it reads \"SKI-TERN R1\"", "unchanged"]),
        (&r1, &["--unattended"], &["The unit's ids do not determine its variant, and no"]),
        // The right file, the wrong label: the unit's own layout speaks up.
        (
            &r1,
            &["--variant", "r2"],
            &["CONFLICT: r2 has 40 sectors of 6 KiB", "unit and file are both r1", "Read the label again"],
        ),
        (
            &r2,
            &["--variant", "r1"],
            &["CONFLICT: r1's region 'application' starts at 0x0A00_2400", "The file is for r2"],
        ),
        // File and label agree with each other, but not with the unit.
        (&r2, &["--variant", "r2"], &["CONFLICT: r2 has 40 sectors of 6 KiB", "unchanged"]),
        (&r1, &["--variant", "r3"], &["No variant has the id or label 'r3'", "The variants are: r1, r2"]),
    ];
    for (file, args, words) in sentences {
        bench.update(file, args).expect(3, words);
        assert_eq!(bench.memory("1-1"), before, "{args:?}");
        assert!(downloads(&bench.log("1-1")).is_empty(), "nothing that could change memory was sent: {args:?}");
    }
}

/// Moves a HEX file by changing its linear base, with the checksum put right.
fn rebased(hex: &str, from: &str, to: &str) -> String {
    assert!(hex.contains(from));
    hex.replace(from, to)
}

#[test]
fn an_image_linked_elsewhere_is_refused() {
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    // 0x0A00_xxxx becomes 0x0A01_xxxx: inside the region, but not at its start.
    // Checksums by hand: 02+00+00+04+0A+00 = 10 → F0; with 01: 11 → EF.
    let hex = String::from_utf8(read("tern-r1-1.5.0.hex")).unwrap();
    let moved = bench.file("moved.hex", rebased(&hex, ":020000040A00F0", ":020000040A01EF").as_bytes());
    bench.update(&moved, &["--variant", "r1"]).expect(
        3,
        &["0x0A01_2400: r1's region 'application' starts at 0x0A00_2400", "it was linked for another start address"],
    );
    // A binary at the right place, but linked for another.
    bench
        .update(&firmware("tern-r2-1.5.0.bin"), &["--variant", "r1", "--at", "0x0A002400"])
        .expect(3, &["CONFLICT: outside r1's RAM", "board word \"TRN2\""]);
    bench
        .update(&firmware("tern-r1-1.5.0.bin"), &["--variant", "r1", "--at", "0x0A000000"])
        .expect(3, &["in region 'bootloader', which this route must not write"]);
    bench
        .update(&firmware("tern-r1-1.5.0.bin"), &["--variant", "r1"])
        .expect(3, &["The file is a raw binary without an address", "r1 starts at 0x0A00_2400"]);
    bench
        .update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1", "--at", "0"])
        .expect(2, &["contains addresses; an address can only be given for a"]);
    assert_eq!(bench.memory("1-1"), before);
}

#[test]
fn a_damaged_file_is_refused_with_its_line() {
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let hex = String::from_utf8(read("tern-r1-1.5.0.hex")).unwrap();
    let lines: Vec<&str> = hex.lines().collect();
    let join = |lines: &[&str]| lines.join("\n").into_bytes();
    let without_end = join(&lines[..lines.len() - 1]);
    let mut flipped = lines.clone();
    let damaged = flipped[9].replace(&flipped[9][9..11], if &flipped[9][9..11] == "00" { "01" } else { "00" });
    flipped[9] = &damaged;
    // Line 2 of objcopy's file is data at 0x2400; the same address again with another value.
    let overlap = [&lines[..lines.len() - 1], &[":0124000055", ":00000001FF"]]
        .concat()
        .join("\n")
        .replace(":0124000055", ":012400005586");
    let after_end = [&lines[..], &[":0100000000FF"]].concat();
    let count = lines.len();
    for (name, content, words) in [
        ("flipped.hex", join(&flipped), "line 10: checksum is".to_owned()),
        ("overlap.hex", overlap.into_bytes(), "has another value in line".to_owned()),
        (
            "after.hex",
            join(&after_end),
            format!("line {}: extra lines after the end record of line {count}", count + 1),
        ),
        ("cut.hex", without_end, format!("line {}: the file ends here without an end record", count - 1)),
        (
            "page.hex",
            b"<!DOCTYPE html><html>Not found</html>".to_vec(),
            "this is a web page, not firmware: the download".to_owned(),
        ),
        ("empty.hex", Vec::new(), "the file is empty".to_owned()),
        ("fw.zip", b"PK\x03\x04\x14\0".to_vec(), "a zip archive".to_owned()),
    ] {
        let file = bench.file(name, &content);
        bench.update(&file, &["--variant", "r1"]).expect(8, &[&words, "Nothing was changed in any unit."]);
    }
    bench.update(&bench.folder.path().join("none.hex"), &["--variant", "r1"]).expect(8, &["none.hex: No such file"]);
    assert_eq!(bench.memory("1-1"), before);
    assert!(bench.log("1-1").is_empty());
}

#[test]
fn one_of_several_units_has_to_be_chosen() {
    let r1 = || (Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new());
    let bench = Bench::new(vec![r1(), r1(), (Tern::new(Revision::R2, "T2-00054"), Vec::new())]);
    let before = [bench.memory("1-1"), bench.memory("1-2"), bench.memory("1-3")];
    let file = firmware("tern-r1-1.5.0.hex");
    bench.update(&file, &["--variant", "r1"]).expect(3, &["3 units fit", "1-1", "1-2", "1-3", "--unit port=1-1"]);
    bench.update(&file, &["--variant", "r1", "--unit", "1209:0002"]).expect(3, &["2 units fit: 1-1"]);
    bench
        .update(&file, &["--variant", "r1", "--unit", "serial=T9"])
        .expect(4, &["The selected unit (serial number T9) did not appear"]);
    bench.update(&file, &["--variant", "r1", "--unit", "id=12"]).expect(2, &["is not a USB id"]);
    for (port, before) in ["1-1", "1-2", "1-3"].iter().zip(&before) {
        assert_eq!(bench.memory(port), *before);
    }
    bench
        .update(&file, &["--variant", "r1", "--unit", "port=1-2"])
        .expect(0, &["Tern tide gauge r1 at 1-2 runs 1.5.0"]);
    assert_updated(Revision::R1, &before[1], &bench.memory("1-2"), &read("tern-r1-1.5.0.bin"));
    assert_eq!((bench.memory("1-1"), bench.memory("1-3")), (before[0].clone(), before[2].clone()));
    // By the serial number of the application, which now runs.
    bench
        .update(&file, &["--variant", "r1", "--unit", "T1-00217", "--plan"])
        .expect(0, &["put the unit into update mode (manual step)"]);
}

#[test]
fn no_unit_in_time_says_what_was_seen() {
    let bench = Bench::new(Vec::new());
    let file = firmware("tern-r1-1.5.0.hex");
    let ended = bench.run(&["update", file.to_str().unwrap(), "--wait", "300ms"]);
    ended.expect(
        4,
        &[
            "Tern tide gauge did not appear within 0.3 s (1209:0001",
            "No USB device is connected",
            "some cables only charge",
            "1. Hold SET",
        ],
    );
}

#[test]
fn the_plan_is_shown_and_nothing_is_done() {
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    bench.update(&file, &["--variant", "r1", "--plan"]).expect(
        0,
        &[
            "erase 7 sectors, 21 KiB, 0x0A00_2400..0x0A00_7800",
            "write 21 504 bytes in 1 run, 21 blocks of 1 KiB",
            "read 21 504 bytes back and compare each with the written byte",
            "leave update mode and start at 0x0A00_0000",
            "with version 1.5.0",
            "Not touched: bootloader, settings.",
            "nothing was done",
        ],
    );
    assert_eq!(bench.memory("1-1"), before);
    assert!(bench.log("1-1").is_empty());
}

#[test]
fn manual_steps_bring_a_running_unit_into_update_mode() {
    let bench = Bench::new(vec![(Tern::new(Revision::R1, "T1-00217"), Vec::new())]);
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    let mut running = Running::start(bench.command().arg("update").arg(&file).args(["--variant", "r1"]));
    running.wait_for("Manual step 1 of 1: Hold SET, tap RESET, then let go of SET.");
    let act = |action: UserAction| assert!(lock(&bench.world).act("1-1", &action));
    // The first attempt goes wrong: SET was not held.
    act(UserAction::Tap("RESET".into()));
    running.wait_for("The application started again. SET was let go before RESET.");
    assert_eq!(bench.memory("1-1"), before, "entry changes the mode and nothing else");
    act(UserAction::Hold("SET".into()));
    act(UserAction::Tap("RESET".into()));
    running.wait_for("update mode entered; nothing was changed");
    act(UserAction::Release("SET".into()));
    running.end().expect(0, &["so far: ", "Still fits r1 in update mode", "runs 1.5.0"]);
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &read("tern-r1-1.5.0.bin"));
}

#[test]
fn a_unit_that_never_enters_update_mode_is_reported_as_such() {
    let bench = Bench::new(vec![(Tern::new(Revision::R1, "T1-00217"), Vec::new())]);
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    let ended = bench.run(&["update", file.to_str().unwrap(), "--variant", "r1", "--wait", "500ms"]);
    ended.expect(4, &["did not appear at 1-1 in update mode within 0.5 s", "kept running its application"]);
    assert_eq!(bench.memory("1-1"), before);
}

#[test]
fn the_final_verdict_may_refuse_what_the_provisional_one_let_through() {
    // The label says r1, and so does the file; the unit turns out to be an r2.
    let bench = Bench::new(vec![(Tern::new(Revision::R2, "T2-00054"), Vec::new())]);
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    let mut running = Running::start(bench.command().arg("update").arg(&file).args(["--variant", "r1"]));
    running.wait_for("Manual step 1 of 1");
    lock(&bench.world).act("1-1", &UserAction::Hold("SET".into()));
    lock(&bench.world).act("1-1", &UserAction::Tap("RESET".into()));
    running.wait_for("update mode entered; nothing was changed");
    lock(&bench.world).act("1-1", &UserAction::Release("SET".into()));
    running.end().expect(3, &["CONFLICT: r1 has 48 sectors of 3 KiB", "The unit is unchanged."]);
    assert_eq!(bench.memory("1-1"), before);
    assert_eq!(bench.condition("1-1"), Condition::Application);
}

#[test]
fn an_older_version_needs_an_agreement() {
    let bench = Bench::tern_r1();
    bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1"]).expect(0, &[]);
    let older = firmware("tern-r1-1.4.0.hex");
    bench
        .update(&older, &["--variant", "r1", "--plan"])
        .expect(3, &["older than the unit's 1.5.0", "--allow older-version"]);
    // An agreement to something else is none.
    bench
        .update(&older, &["--variant", "r1", "--plan", "--allow", "larger-memory"])
        .expect(3, &["--allow older-version"]);
    bench
        .update(&older, &["--variant", "r1", "--plan", "--allow", "older-version"])
        .expect(0, &["Allowed older-version", "Plan so far"]);
    // No agreement lets the other board's file through.
    let other = firmware("tern-r2-1.4.0.hex");
    bench.update(&other, &["--variant", "r1", "--plan", "--allow", "older-version"]).expect(3, &["does not fit r1"]);
}

#[test]
fn flash_that_drops_a_bit_is_found_and_not_started() {
    let mut unit = Tern::in_boot_mode(Revision::R1, "T1-00217");
    let image = read("tern-r1-1.5.0.bin");
    // A byte of the image that has bit 0 clear.
    let offset = (0x1000..).find(|at| image[*at] & 1 == 0).unwrap();
    let address = 0x0A00_2400 + u32::try_from(offset).unwrap();
    unit.flash_mut().add_stuck_bit(StuckBit { address, bit: 0 });
    let bench = Bench::new(vec![(unit, Vec::new())]);
    let ended = bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1", "--format", "json"]);
    let result = ended.expect(6, &["1 byte differs after writing", "The application was not started"]).result();
    let digits = format!("{address:08X}");
    let (high, low) = (&digits[..4], &digits[4..]);
    ended.expect(6, &[&format!("0x{high}_{low}")]);
    assert_eq!(
        (&result["outcome"], &result["after"], &result["check"]),
        (&"failed".into(), &"not-restarted".into(), &"none".into())
    );
    // Of the block that differs, no byte counts as checked.
    assert_eq!(result["bytes_checked"], image.len() - 1024);
    assert_eq!(bench.condition("1-1"), Condition::Boot);
}

/// Runs an update with one fault; the unit must not be harmed, and a second
/// run must end well once hands brought it back.
#[track_caller]
fn with_fault(fault: Fault, code: i32, words: &[&str]) {
    let bench = Bench::faulty_r1(vec![fault.clone()]);
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    bench.update(&file, &["--variant", "r1"]).expect(code, words);
    let after = bench.memory("1-1");
    for region in [Tern::bootloader_region(Revision::R1), Tern::settings_region(Revision::R1)] {
        assert_eq!(at(&after, region.clone()), at(&before, region), "{fault:?}");
    }
    assert_ne!(bench.condition("1-1"), Condition::Bricked);
    for hand in [UserAction::Pull, UserAction::Hold("SET".into()), UserAction::Plug] {
        lock(&bench.world).act("1-1", &hand);
    }
    bench.update(&file, &["--variant", "r1"]).expect(0, &["runs 1.5.0"]);
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &read("tern-r1-1.5.0.bin"));
}

#[test]
fn a_unit_that_stalls_or_vanishes_is_reported_with_its_state() {
    // Transfer 1 asks for the state, 6 whether it can be read, 6 for the version; 21 erase; 66
    // write; the rest reads back.
    with_fault(Fault { at: 17, kind: FaultKind::Stall }, 5, &["Failed erasing at 0x0A00_3000", "the unit rejected"]);
    with_fault(
        Fault { at: 52, kind: FaultKind::Stall },
        5,
        &["Failed writing at 0x0A00_", "Not touched: bootloader and settings."],
    );
    with_fault(
        Fault { at: 62, kind: FaultKind::Pull(None) },
        5,
        &[
            "Failed writing at",
            "the unit disconnected",
            "The unit is partly written: ",
            "of 20 772 bytes of the image were accepted or already present, and 0 were compared.",
        ],
    );
    with_fault(Fault { at: 16, kind: FaultKind::Pull(None) }, 5, &["Failed erasing at", "the unit disconnected"]);
    with_fault(Fault { at: 112, kind: FaultKind::Short }, 5, &["Failed reading back at", "of 1024 bytes"]);
    with_fault(Fault { at: 42, kind: FaultKind::Short }, 5, &["its status has 3 bytes instead of 6"]);
}

#[test]
fn a_unit_that_falls_silent_is_left_after_a_deadline() {
    with_fault(Fault { at: 43, kind: FaultKind::Timeout }, 5, &["the unit did not reply within the time limit"]);
}

#[test]
fn an_image_that_does_not_start_is_written_but_not_back() {
    let bench = Bench::tern_r1();
    // The CRC at its end is wrong, and this sheet describes nothing that would tell.
    let mut image = read("tern-r1-1.5.0.bin");
    let last = image.len() - 1;
    image[last] ^= 0x55;
    let file = bench.file("unsound.bin", &image);
    let sheet = bench.sheet_without_proofs("tern.toml");
    let args = ["--variant", "r1", "--at", "0x0A002400", "--format", "json"];
    bench.update(&file, &args).expect(3, &["the file is not whole: by its checksum, "]);
    let ended = bench.update(&file, &[&["--sheets", &sheet], &args[..]].concat());
    let result = ended
        .expect(7, &["it returned in update mode: the image does not start", "written and checked, not started"])
        .result();
    assert_eq!(result["state"], "checked-not-started");
    assert_eq!((&result["check"], &result["after"]), (&"read-back".into(), &"not-back".into()));
    assert_eq!(bench.condition("1-1"), Condition::Boot);
}

#[test]
fn a_weaker_check_is_called_what_it_is() {
    let bench = Bench::tern_r1();
    let ended =
        bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1", "--check", "accepted", "--format", "json"]);
    let result = ended.expect(0, &[]).result();
    assert_eq!((&result["check"], &result["bytes_checked"]), (&"accepted".into(), &0.into()));
    // Four bytes are read at first, to see whether the unit is read-protected, and the header
    // with the version.
    let uploads = bench.log("1-1").iter().filter(|entry| entry.setup.request == 2 && entry.setup.length > 78).count();
    assert_eq!(uploads, 0);
}

#[test]
#[cfg(unix)]
fn ctrl_c_stops_at_a_safe_point() {
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    let mut running = Running::start(bench.command().arg("update").arg(&file).args([
        "--rewrite",
        "--variant",
        "r1",
        "--format",
        "json",
    ]));
    running.wait_for("\"step\":\"erase\",\"region\"");
    let killed = std::process::Command::new("kill").args(["-INT", &running.id().to_string()]).status().unwrap();
    assert!(killed.success());
    let ended = running.end();
    let result = ended.expect(130, &["Stopped as requested.", "The unit is partly erased, in update mode"]).result();
    assert_eq!(result["outcome"], "stopped");
    // It was left idle, so that the next run starts at once.
    bench.update(&file, &["--variant", "r1"]).expect(0, &["runs 1.5.0"]);
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &read("tern-r1-1.5.0.bin"));
}

#[test]
fn events_come_in_the_order_of_the_work() {
    let bench = Bench::tern_r1();
    let ended = bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1", "--format", "json"]);
    let events = ended.expect(0, &[]).events();
    let mut order: Vec<String> = Vec::new();
    for event in &events {
        assert!(event["time"].as_str().unwrap().parse::<jiff::Timestamp>().is_ok());
        let name = match event["event"].as_str().unwrap() {
            "step" => format!("{} {}", event["step"].as_str().unwrap(), event["state"].as_str().unwrap()),
            other => other.to_owned(),
        };
        if order.last() != Some(&name) {
            order.push(name);
        }
    }
    let wanted = "attached evidence verdict plan erase started progress erase done write started progress write done \
                  read-back started progress read-back done restart started confirm started";
    let start: Vec<&str> = order.iter().map(String::as_str).collect();
    assert!(start.join(" ").starts_with(wanted), "{order:?}");
    assert_eq!(order[order.len() - 2..], ["confirm done", "result"]);
    let verdict = events.iter().find(|event| event["event"] == "verdict").unwrap();
    assert_eq!((&verdict["phase"], &verdict["outcome"]), (&"final".into(), &"fits".into()));
    assert_eq!(ended.stderr, "", "nothing but events is printed");
}

/// Runs an update in a terminal (by `script`, of util-linux) and types, at each question
/// the next answer.
fn in_a_terminal(bench: &Bench, answers: &[&str]) -> support::Ended {
    use std::io::Write;
    let mut command = bench.command();
    command.arg("update").arg(firmware("tern-r1-1.5.0.hex"));
    let mut running = Running::start(&mut support::at_terminal(&command));
    for (answer, prompt) in answers.iter().zip(["Type the variant or the label text", "And what does the"]) {
        running.wait_for_prompt(prompt);
        writeln!(running.stdin(), "{answer}").unwrap();
    }
    running.end()
}

#[test]
fn at_a_terminal_the_label_is_asked_for() {
    if !program::is_there("script") {
        return;
    }
    let cases: [(&[&str], i32, &str); 6] = [
        (&["r1"], 0, "Tern tide gauge r1 at 1-1 runs 1.5.0"),
        (&["ski-tern r1", "OYS-144"], 0, "And what does the largest chip, second line say?"),
        (&["OYS-240", "SKI-TERN R2"], 3, "CONFLICT: r2 has 40 sectors of 6 KiB"),
        (
            &["SKI-TERN R1", "OYS-240"],
            3,
            "The labels contradict each other: 'SKI-TERN R1' is Tern r1, 'OYS-240' is Tern r2",
        ),
        (&["r9"], 3, "No variant has the id or label 'r9'"),
        (&[""], 3, "The unit's ids do not determine its variant, and no"),
    ];
    for (answers, code, words) in cases {
        let bench = Bench::tern_r1();
        let before = bench.memory("1-1");
        let ended = in_a_terminal(&bench, answers);
        ended.expect(
            code,
            &["\nRead the label on the unit. Which one is it?", "(would conflict: memory layout 48 sectors", words],
        );
        assert_eq!(bench.memory("1-1") == before, code != 0, "{answers:?}");
    }
}
