//! Plain DFU, units without a sheet, and first sheets, end to end: the
//! built program over USB/IP, and the simulated unit's true memory as the judge.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use support::{Bench, firmware};
use vaka_sim::bootloader::dfu::Quirks;
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;

fn gannet(unit: Gannet) -> Bench {
    Bench::of(vec![(Box::new(unit), Vec::new())])
}

#[track_caller]
fn assert_holds(bench: &Bench, name: &str) {
    let image = std::fs::read(firmware(name)).unwrap();
    let start = gannet::APPLICATION_REGION.start as usize;
    assert_eq!(bench.memory("1-1")[start..start + image.len()], image, "the true memory");
}

/// From its application, with no hand: the detach, the bus reset, the blocks,
/// the reset that starts the application again.
#[test]
fn a_gannet_is_updated_from_its_application() {
    let leaving = Traits { can_upload: true, tolerant: false, will_detach: true };
    let mute = Traits { can_upload: false, ..leaving };
    for (traits, check) in [(Gannet::TRAITS, "read-back"), (leaving, "read-back"), (mute, "accepted")] {
        let bench = gannet(Gannet::with("G-00031", traits, Quirks::default()));
        let before = bench.memory("1-1");
        let ended = bench.update(&firmware("gannet-1.3.0.dfu"), &["--unattended", "--format", "json"]);
        let result = ended.expect(0, &[]).result();
        assert_eq!((&result["check"], &result["after"]), (&check.into(), &"confirmed".into()));
        assert_eq!(result["application"]["version"], "1.3.0");
        assert_holds(&bench, "gannet-1.3.0.bin");
        assert_eq!(bench.condition("1-1"), Condition::Application);
        let after = bench.memory("1-1");
        let end = gannet::APPLICATION_REGION.end as usize;
        assert_eq!((&after[..0x5000], &after[end..]), (&before[..0x5000], &before[end..]));
    }
}

#[test]
fn the_plan_for_a_gannet_says_what_the_host_will_do() {
    let bench = gannet(Gannet::new("G-00031"));
    bench.update(&firmware("gannet-1.3.0.dfu"), &["--plan"]).expect(
        0,
        &[
            "1. request a detach from the application (DFU_DETACH), until 1209:0004 appears",
            "4. end the transfer; the unit checks and activates the image",
            "6. leave update mode, by itself or by a bus reset",
            "DFU suffix      1209:0003                      names 1209:0003",
        ],
    );
    assert_eq!(bench.condition("1-1"), Condition::Application);
}

#[test]
fn a_suffix_of_another_unit_refuses() {
    let bench = gannet(Gannet::new("G-00031"));
    let out = bench.folder.path().join("other.dfu");
    let convert = ["convert", firmware("gannet-1.3.0.hex").to_str().unwrap(), out.to_str().unwrap()].map(str::to_owned);
    let convert: Vec<&str> = convert.iter().map(String::as_str).chain(["--dfu-ids", "1209:0007"]).collect();
    bench.run(&convert).expect(0, &[]);
    bench.update(&out, &[]).expect(3, &["made for another unit; g1's ids are 1209:0003 and 1209:0004"]);
    assert_eq!(bench.log("1-1").len(), 0, "not a single request");
}

/// A survey leaves a unit alone whose update mode would end by being looked at.
#[test]
fn a_survey_does_not_end_an_update_mode() {
    let bench = gannet(Gannet::new("G-00031").in_boot_mode());
    for _ in 0..2 {
        bench.run(&["survey"]).expect(0, &["1-1   update  Gannet hydrophone interface"]);
    }
    assert_eq!(lock(&bench.world).opened("1-1"), 0);
    assert_eq!(bench.condition("1-1"), Condition::Boot);
}

#[test]
fn without_a_sheet_the_units_word_and_a_consent_are_needed() {
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let empty = tempfile::tempdir().unwrap();
    let file = firmware("tern-r1-1.5.0.hex");
    let none = |args: &[&str]| {
        let mut command = bench.command();
        command.env_remove("VAKA_SHEETS").env("XDG_CONFIG_HOME", empty.path());
        support::Running::start(command.arg("update").arg(&file).args(["--wait", "5s"]).args(args)).end()
    };
    none(&[]).expect(3, &["No product sheet was found, so the image cannot be", "--allow no-sheet --plan"]);
    none(&["--allow", "no-sheet", "--plan"]).expect(
        0,
        &[
            "product sheet  none",
            "erase 7 sectors, 21 KiB",
            "leave update mode and start at 0x0A00_2400",
            "nothing was done",
        ],
    );
    assert_eq!(bench.memory("1-1"), before);
    none(&["--allow", "no-sheet", "--memory", "Options"])
        .expect(3, &["it has no memory named \"Options\"; it has 0.0 \"Tide Flash\""]);
    none(&["--allow", "no-sheet"])
        .expect(0, &["read-back: all 20 772 bytes", "without a product sheet it is not known whether that"]);
    support::assert_updated(
        Revision::R1,
        &before,
        &bench.memory("1-1"),
        &std::fs::read(firmware("tern-r1-1.5.0.bin")).unwrap(),
    );
}

/// The first sheet has all that can be seen; once its gaps are filled in, it updates the unit.
#[test]
fn a_first_sheet_leads_to_an_update() {
    let bench = Bench::tern_r1();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("first.toml");
    let name = path.to_str().unwrap().to_owned();
    bench.run(&["sheet", "new", "--unit", "1-1", "--out", &name]).expect(0, &["1 line to fill in"]);
    bench.run(&["sheet", "new", "--unit", "1-1", "--out", &name]).expect(3, &["exists"]);
    bench.run(&["sheet", "check", &name]).expect(8, &["key `id`", "'FILL IN' is a placeholder"]);
    let sheet = std::fs::read_to_string(&path).unwrap();
    assert!(sheet.contains("sectors = 48, size = \"3 KiB\"") && sheet.contains("memory = \"Tide Flash\""), "{sheet}");
    // The maintainer adds the application's ids and the bootloader.
    let sheet = sheet
        .replace("\"FILL IN\" # VID:PID", "\"1209:0001\" # VID:PID")
        .replace("start = 0x0A00_0000\nsize = 147456", "start = 0x0A00_2400\nsize = \"132 KiB\"");
    std::fs::write(&path, sheet).unwrap();
    bench.run(&["sheet", "check", &name]).expect(0, &["valid product sheet for Oyster boot mode"]);
    let before = bench.memory("1-1");
    let ended = bench.run(&["update", firmware("tern-r1-1.5.0.hex").to_str().unwrap(), "--sheets", &name]);
    ended.expect(0, &["read-back: all 20 772 bytes", "confirmed"]);
    let image = std::fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    support::assert_updated(Revision::R1, &before, &bench.memory("1-1"), &image);
}

#[test]
fn a_first_sheet_of_a_running_application_knows_the_detach() {
    let bench = gannet(Gannet::new("G-00031"));
    let sheets = tempfile::tempdir().unwrap();
    let sheet =
        bench.run(&["sheet", "new", "--unit", "1-1", "--sheets", sheets.path().join("none.toml").to_str().unwrap()]);
    assert_eq!(sheet.code, 8, "a sheet that is not there is an error");
    let sheet = bench.run(&["sheet", "new", "--unit", "1-1"]);
    sheet.expect(
        0,
        &["id = \"1209:0003\"", "signal = \"dfu-detach\"", "kind = \"plain-dfu\"", "maker = \"Skerrow Instruments\""],
    );
}

/// Nothing is known of a Tern r2 by its boot id alone, and nothing is done to
/// it while a Gannet is updated beside it.
#[test]
fn another_unit_on_the_bench_is_left_alone() {
    let bench = Bench::of(vec![
        (Box::new(Gannet::new("G-00031")), Vec::new()),
        (Box::new(Tern::in_boot_mode(Revision::R2, "T2-00054")), Vec::new()),
    ]);
    let before = bench.memory("1-2");
    // The file could be for the one and not for the other.
    bench.update(&firmware("gannet-1.3.0.dfu"), &[]).expect(0, &["runs 1.3.0"]);
    // This one could be for neither.
    let page = bench.file("noise.hex", b":020000040600F4\n:0100000055AA\n:00000001FF\n");
    bench.update(&page, &[]).expect(3, &["none of the 2 units"]);
    assert_holds(&bench, "gannet-1.3.0.bin");
    assert_eq!((bench.memory("1-2"), bench.log("1-2").len()), (before, 0));
    lock(&bench.world).act("1-2", &UserAction::Pull);
}
