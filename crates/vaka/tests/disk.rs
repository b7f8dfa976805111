//! Units that show up as a disk, through the built program over USB/IP.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;

use support::{Bench, firmware, root};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::heron::{self, Heron};
use vaka_sim::unit::petrel::{self, Board, Petrel};
use vaka_sim::unit::stick::Stick;
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;

/// A Petrel in update mode, a Heron, an ordinary stick, and a Petrel that runs.
fn bench() -> Bench {
    let units: [Box<dyn Unit>; 4] = [
        Box::new(Petrel::new(Board::Pb2, "P-00112").in_boot_mode()),
        Box::new(Heron::new("S-00007")),
        Box::new(Stick::new("BZ88")),
        Box::new(Petrel::new(Board::Pb1, "P-00090")),
    ];
    Bench::of(units.into_iter().map(|unit| (unit, Vec::new())).collect())
}

/// The stick, and the application's own disk of a Petrel, are as they were.
#[track_caller]
fn nothing_else_was_touched(bench: &Bench) {
    let mut world = lock(&bench.world);
    assert!(world.unit("1-3").unwrap().disk() == Stick::new("BZ88").disk());
    assert_eq!(world.opened("1-3"), 0);
    assert!(world.unit("1-4").unwrap().disk() == Petrel::new(Board::Pb1, "P-00090").disk());
}

fn holds(bench: &Bench, port: &str, at: u32, file: &str) -> bool {
    let wanted = std::fs::read(firmware(file)).unwrap();
    let mut world = lock(&bench.world);
    world.unit(port).unwrap().flash().read(at, wanted.len()) == Some(&wanted[..])
}

#[test]
fn a_survey_tells_what_is_on_the_disks() {
    let bench = bench();
    let words = [
        "disk PETREL",
        "installed application: CURRENT.UF2, 1116 KiB, 2026-03-03",
        "installed application: DISPLAY.HEX",
        "or with --part interface (Interface chip)",
    ];
    bench.run(&["survey", "-v"]).expect(0, &words);
    let seen = bench.run(&["survey", "--format", "json"]).expect(0, &[]).events();
    let of = |at: usize, key: &str| seen[at][key].clone();
    assert_eq!(
        (of(0, "mode"), of(0, "variants")[0].clone(), of(0, "disk")),
        ("update".into(), "pb2".into(), "PETREL".into())
    );
    assert_eq!(
        (of(1, "mode"), of(1, "version"), of(1, "disk")),
        ("application".into(), "3.0.0".into(), "HERON".into())
    );
    assert_eq!((of(2, "mode"), of(2, "disk")), ("unknown".into(), serde_json::Value::Null));
    nothing_else_was_touched(&bench);
    let empty = Bench::of(vec![(Box::new(Heron::new("S-1").without_display()), Vec::new())]);
    empty.run(&["survey"]).expect(0, &["disk HERON_EMPTY", "no DISPLAY.HEX: no application is installed"]);
}

fn heron_with(fault: Fault) -> Bench {
    Bench::of(vec![(Box::new(Heron::new("S-00007")), vec![fault])])
}

/// A loose cable before the first look at the unit is as ordinary as one in a transfer.
#[test]
fn a_unit_that_leaves_while_it_is_identified_is_updated_once_it_is_back() {
    let file = firmware("heron-display-3.1.0.hex");
    for command in [
        &["update", file.to_str().unwrap(), "--wait", "8s"][..],
        &["line", file.to_str().unwrap(), "--count", "1", "--wait", "8s"],
    ] {
        for at in [1, 4, 9] {
            let fault = Fault { at, kind: FaultKind::Pull(Some(Duration::from_millis(300))) };
            let bench = heron_with(fault);
            bench.run(command).expect(0, &[]);
            assert!(holds(&bench, "1-1", heron::DISPLAY_REGION.start, "heron-display-3.1.0.bin"), "{command:?} {at}");
        }
    }
    let fault = Fault { at: 4, kind: FaultKind::Pull(None) };
    let bench = heron_with(fault);
    bench.run(&["line", file.to_str().unwrap(), "--count", "1", "--wait", "1s"]).expect(5, &["1 unit: 1 FAILED"]);
}

#[test]
fn a_uf2_disk_is_updated_and_the_last_block_is_not_called_checked() {
    let bench = bench();
    let file = firmware("petrel-pb2-2.4.0.uf2");
    let save = ["--save", "old.uf2"];
    let ended = bench.update(&file, &[&["--unit", "port=1-1", "--unattended", "--format", "json"], &save[..]].concat());
    let old = std::fs::read(bench.folder.path().join("old.uf2")).unwrap();
    // The payload of the first block is the start of the firmware that was in it.
    assert_eq!(old[32..288], std::fs::read(firmware("petrel-pb2-2.3.0.bin")).unwrap()[..256]);
    let result = ended.expect(0, &[]).result();
    // By hand: 8872 bytes are 35 blocks of 256; 34 of them were read.
    assert_eq!(
        (&result["check"], &result["bytes_written"], &result["bytes_checked"]),
        (&"accepted".into(), &8960.into(), &8704.into())
    );
    assert_eq!((&result["after"], &result["application"]["version"]), (&"confirmed".into(), &"2.4.0".into()));
    assert!(holds(&bench, "1-1", petrel::APPLICATION_REGION.start, "petrel-pb2-2.4.0.bin"));
    let other = firmware("petrel-pb1-2.4.0.uf2");
    for args in [&["--unit", "port=1-4", "--variant", "pb2"][..], &["--unit", "port=1-4", "--variant", "pb2", "--plan"]]
    {
        bench.update(&other, args).expect(3, &["CONFLICT: pb2's is \"PBA2\"", "The file is for pb1"]);
    }
    nothing_else_was_touched(&bench);
}

/// No label is given: in update mode the unit reports its board.
#[test]
fn a_unit_that_tells_its_board_is_entered_and_judged_again() {
    let bench = bench();
    for (file, code, words) in [
        ("petrel-pb2-2.4.0.uf2", 3, "board word \"PBA2\": pb1's is \"PBA1\""),
        ("petrel-pb1-2.4.0.uf2", 0, "also seen: boot id, disk label, board information"),
    ] {
        let hand = |after, hand| lock(&bench.world).act_later("1-4", std::time::Duration::from_millis(after), hand);
        hand(400, UserAction::Pull);
        hand(500, UserAction::Hold("MARK".into()));
        hand(600, UserAction::Plug);
        hand(700, UserAction::Release("MARK".into()));
        let ended = bench.update(&firmware(file), &["--unit", "port=1-4", "--unattended"]);
        ended.expect(
            code,
            &["In update mode the unit identifies itself by its board", "Manual step 1 of 2: Pull the cable.", words],
        );
        assert_eq!(bench.condition("1-4"), Condition::Application, "back where it came from");
    }
    assert!(holds(&bench, "1-4", petrel::APPLICATION_REGION.start, "petrel-pb1-2.4.0.bin"));
}

#[test]
fn each_part_takes_its_own_file() {
    let bench = bench();
    let (display, interface) = (firmware("heron-display-3.1.0.hex"), firmware("heron-interface-2.2.0.hex"));
    bench
        .update(&interface, &["--unit", "port=1-2"])
        .expect(3, &["The file is for another part of the product: --part interface"]);
    bench
        .update(&display, &["--unit", "port=1-2", "--part", "wing"])
        .expect(2, &["No product sheet has a part 'wing'", "interface of heron"]);
    let ended = bench.update(&display, &["--unit", "port=1-2"]);
    ended.expect(
        0,
        &["read-back: all 4 360 written bytes", "RESULT.TXT says: Result: loaded DISPLAY.HEX", "runs 3.1.0"],
    );
    assert!(holds(&bench, "1-2", heron::DISPLAY_REGION.start, "heron-display-3.1.0.bin"));
    {
        let mut world = lock(&bench.world);
        for hand in [UserAction::Pull, UserAction::Hold("SERVICE".into()), UserAction::Plug] {
            world.act("1-2", &hand);
        }
    }
    assert_eq!(bench.condition("1-2"), Condition::Boot);
    lock(&bench.world).act("1-2", &UserAction::Release("SERVICE".into()));
    bench
        .update(&display, &["--unit", "port=1-2"])
        .expect(3, &["The file is for another part of the product: --part display"]);
    let ended = bench.update(&interface, &["--unit", "port=1-2", "--format", "json"]);
    let result = ended.expect(0, &[]).result();
    assert_eq!(
        (&result["check"], &result["bytes_checked"], &result["part"]),
        (&"accepted".into(), &0.into(), &"interface".into())
    );
    assert_eq!((&result["after"], &result["application"]["version"]), (&"confirmed".into(), &"2.2.0".into()));
    assert!(holds(&bench, "1-2", heron::INTERFACE_REGION.start, "heron-interface-2.2.0.bin"));
    assert!(holds(&bench, "1-2", heron::DISPLAY_REGION.start, "heron-display-3.1.0.bin"));
    nothing_else_was_touched(&bench);
}

/// The content of a disk is read like any memory, compared, and left with nothing
/// written.
#[test]
fn a_disk_is_read_compared_and_left_again() {
    let bench = bench();
    let before = bench.memory("1-1");
    bench.run(&["read", "present.bin", "--unit", "port=1-1", "--range", "0x0C104000..0x0C106000"]).expect(0, &[]);
    let read = std::fs::read(bench.folder.path().join("present.bin")).unwrap();
    assert_eq!(read, std::fs::read(firmware("petrel-pb2-2.3.0.bin")).unwrap()[..0x2000]);
    let same = firmware("petrel-pb2-2.3.0.hex");
    bench.run(&["compare", same.to_str().unwrap(), "--unit", "port=1-1"]).expect(0, &["equal"]);
    bench.run(&["read", "display.bin", "--unit", "port=1-2"]).expect(0, &[]);
    let read = std::fs::read(bench.folder.path().join("display.bin")).unwrap();
    assert_eq!(read, std::fs::read(firmware("heron-display-3.0.0.bin")).unwrap());
    bench.run(&["restart", "--unit", "port=1-1"]).expect(0, &["Nothing was written: 1209:0005 returned at 1-1"]);
    assert_eq!((bench.condition("1-1"), bench.memory("1-1") == before), (Condition::Application, true));
    bench.run(&["restart", "--unit", "port=1-4"]).expect(0, &["Its application is already running"]);
    nothing_else_was_touched(&bench);
}

#[test]
fn a_unit_is_brought_into_update_mode_and_left_there() {
    let bench = bench();
    let before = bench.memory("1-4");
    let hand = |after, hand| lock(&bench.world).act_later("1-4", std::time::Duration::from_millis(after), hand);
    hand(300, UserAction::Pull);
    hand(400, UserAction::Hold("MARK".into()));
    hand(500, UserAction::Plug);
    hand(600, UserAction::Release("MARK".into()));
    bench.run(&["enter", "--unit", "port=1-4", "--variant", "pb1", "--wait", "10s"]).expect(
        0,
        &["Pull the cable.", "Hold MARK, plug the cable in", "1-4 is in update mode; nothing was changed in it."],
    );
    assert_eq!((bench.condition("1-4"), bench.memory("1-4") == before), (Condition::Boot, true));
    nothing_else_was_touched(&bench);
}

/// Two units of one kind: both are listed, and neither is touched.
#[test]
fn a_second_disk_of_the_same_kind_has_to_be_distinguished() {
    let twin = |serial| Box::new(Petrel::new(Board::Pb1, serial).in_boot_mode()) as Box<dyn Unit>;
    let bench = Bench::of(vec![(twin("P-1"), Vec::new()), (twin("P-2"), Vec::new())]);
    let file = firmware("petrel-pb1-2.4.0.uf2");
    bench.update(&file, &[]).expect(3, &["2 units fit: 1-1", "1-2 (Petrel wave buoy logger"]);
    bench.update(&file, &["--unit", "serial=P-2"]).expect(0, &["runs 2.4.0"]);
    assert!(!holds(&bench, "1-1", petrel::APPLICATION_REGION.start, "petrel-pb1-2.4.0.bin"));
    assert!(holds(&bench, "1-2", petrel::APPLICATION_REGION.start, "petrel-pb1-2.4.0.bin"));
}

/// A UF2 disk without a sheet names its board, and the blocks of a file their chip and addresses. The
/// user names the unit and consents; no other disk is opened.
#[test]
fn a_uf2_disk_without_a_sheet_is_updated_with_consent_and_by_name() {
    let bench = bench();
    let gannet = root().join("demo/sheets/gannet.toml");
    let update = |file: &str, more: &[&str]| {
        let file = firmware(file);
        let common = ["update", file.to_str().unwrap(), "--sheets", gannet.to_str().unwrap(), "--wait", "1s"];
        bench.run(&[&common, more].concat())
    };
    let (named, allowed) = (["--unit", "port=1-1"], ["--allow", "no-sheet"]);
    let both = [named, allowed].concat();
    let before = bench.memory("1-1");
    for (file, more, code, words) in [
        ("petrel-pb2-2.4.0.uf2", &allowed[..], 4, ""),
        ("petrel-pb2-2.4.0.uf2", &named, 3, "--allow no-sheet"),
        ("petrel-pb2-2.4.0.bin", &both, 3, ""),
        ("heron-display-3.1.0.hex", &both, 3, "only a UF2 file is accepted"),
        ("petrel-pb2-2.4.0.uf2", &["--unit", "port=1-3", "--allow", "no-sheet"], 3, "no board information"),
        ("petrel-pb2-2.4.0.uf2", &[&both[..], &["--plan"]].concat(), 0, "Petrel-PB2"),
    ] {
        update(file, more).expect(code, &[words]);
        assert!(bench.memory("1-1") == before, "{file} {more:?}");
    }
    assert!(lock(&bench.world).unit("1-3").unwrap().disk() == Stick::new("BZ88").disk());
    // The same blocks 4 KiB further, and of another family. Source: the UF2 format, a block's head.
    let blocks = std::fs::read(firmware("petrel-pb2-2.4.0.uf2")).unwrap();
    for (at, add, words) in [(12, 0x1000, "the installed application begins there"), (28, 1, "0x5EABD123")] {
        let mut other = blocks.clone();
        for block in other.chunks_mut(512) {
            let value = u32::from_le_bytes(block[at..at + 4].try_into().unwrap()) + add;
            block[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        let file = bench.file("other.uf2", &other);
        update(file.to_str().unwrap(), &both).expect(3, &[words]);
        assert!(bench.memory("1-1") == before, "{words}");
    }
    update("petrel-pb2-2.4.0.uf2", &both).expect(0, &["restarted"]);
    assert!(holds(&bench, "1-1", petrel::APPLICATION_REGION.start, "petrel-pb2-2.4.0.bin"));
}

/// The consent is for a disk: another unit without a sheet is named, and it is not opened.
#[test]
fn a_named_unit_without_a_sheet_and_without_a_disk_is_left_alone() {
    let bench = Bench::of(vec![(Box::new(auk("A-00001")), Vec::new())]);
    let (file, gannet) = (firmware("petrel-pb2-2.4.0.uf2"), root().join("demo/sheets/gannet.toml"));
    let common = ["update", file.to_str().unwrap(), "--sheets", gannet.to_str().unwrap(), "--wait", "1s"];
    for more in [&[][..], &["--allow", "no-sheet"]] {
        let named = [&common[..], &["--unit", "port=1-1"], more].concat();
        bench.run(&named).expect(3, &["No product sheet describes the selected unit, 1209:", "vaka sheet new"]);
        assert_eq!(lock(&bench.world).opened("1-1"), 0, "{more:?}");
    }
}
