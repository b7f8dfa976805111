//! Preserved content that shares a sector with the application, end to end.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;

use support::{Bench, Ended, at, firmware, root};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;

/// The demo image ends at 0x0A00_7524; its last sector is 0x0A00_6C00..0x0A00_7800.
const SHARED: std::ops::Range<u32> = 0x0A00_7600..0x0A00_7800;

/// A Tern r1 whose sheet has a table of calibration behind the application, in
/// the last sector of what an update erases.
fn bench(faults: Vec<Fault>) -> Bench {
    let tern = Tern::in_boot_mode(Revision::R1, "T1-00217");
    let bench = Bench::of(vec![(Box::new(tern), faults)]);
    let sheet = fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let shared = "start = 0x0A00_2400\nsize = 0x5200\n\n[[variant.region]]\nname = \"calibration\"\nstart = 0x0A00_7600\nsize = 512\n\n[[variant.region]]\nname = \"log\"\nstart = 0x0A00_7800\nsize = 0x1BC00";
    let sheet = sheet.replacen("start = 0x0A00_2400\nsize = \"132 KiB\"", shared, 1);
    fs::create_dir(bench.folder.path().join("sheets")).unwrap();
    bench.file("sheets/tern.toml", sheet.as_bytes());
    lock(&bench.world).unit("1-1").unwrap().flash_mut().put(SHARED.start, &calibration());
    bench
}

fn calibration() -> Vec<u8> {
    (0..512u32).map(|n| u8::try_from(n * 7 % 251).unwrap()).collect()
}

fn update(bench: &Bench, args: &[&str]) -> Ended {
    let file = firmware("tern-r1-1.5.0.hex");
    let common = ["update", file.to_str().unwrap(), "--sheets", "sheets", "--variant", "r1"];
    let wait = if args.contains(&"--wait") { &[][..] } else { &["--wait", "2s"] };
    bench.run(&[&common[..], wait, args].concat())
}

#[test]
fn what_shares_a_sector_is_kept_or_the_update_is_refused() {
    let bench = bench(Vec::new());
    let before = bench.memory("1-1");
    update(&bench, &[])
        .expect(3, &["would erase content outside the regions that the route", "of calibration", "--keep calibration"]);
    update(&bench, &["--keep", "attic"])
        .expect(2, &["No region 'attic' can be preserved", "calibration, log, settings"]);
    update(&bench, &["--keep", "calibration", "--plan"])
        .expect(0, &["read 512 bytes of calibration in the image's sectors"]);
    assert_eq!(bench.memory("1-1"), before);

    update(&bench, &["--keep", "calibration"]).expect(0, &["512 bytes preserved", "vaka/kept/", "confirmed"]);
    let after = bench.memory("1-1");
    assert_eq!(at(&after, SHARED), calibration());
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_eq!(after[0x2400..0x2400 + image.len()], image);
    assert_eq!(after[0x7800..], before[0x7800..], "what lies behind was not touched");
    let kept = fs::read_dir(bench.folder.path().join("vaka/kept")).unwrap();
    assert_eq!(kept.count(), 0, "it is in the unit again");
}

/// Everything else is erased with `--erase-all`, and nothing is lost.
#[test]
fn a_kept_region_survives_when_all_is_cleared() {
    let bench = bench(Vec::new());
    let before = bench.memory("1-1");
    lock(&bench.world).unit("1-1").unwrap().flash_mut().put(0x0A00_9000, b"an old log");
    let keep = ["--erase-all", "--keep", "calibration", "--keep", "settings"];
    update(&bench, &keep).expect(3, &["--allow lose-log"]);
    update(&bench, &[&keep[..], &["--allow", "lose-log"]].concat()).expect(0, &["confirmed"]);
    let after = bench.memory("1-1");
    assert_eq!(at(&after, SHARED), calibration());
    assert_eq!(after[0x2_3400..], before[0x2_3400..], "settings");
    assert!(after[0x9000..0x2_3400].iter().all(|byte| *byte == 0xFF), "the log is gone");
}

/// The cable is pulled at each of many transfers, and put back only after the
/// program has given up: the bytes are in the file, and the next run has them.
#[test]
fn what_is_kept_survives_a_run_that_was_cut_short() {
    let mut cuts = 0;
    for transfer in (10..160).step_by(20) {
        let bench = bench(vec![Fault { at: transfer, kind: FaultKind::Pull(None) }]);
        let cut = update(&bench, &["--keep", "calibration", "--wait", "300ms"]);
        if cut.code == 0 {
            break;
        }
        cuts += 1;
        for hand in ["hold SET", "plug", "release SET"] {
            lock(&bench.world).act("1-1", &hand.parse::<vaka_sim::unit::UserAction>().unwrap());
        }
        update(&bench, &["--keep", "calibration"]).expect(0, &["confirmed"]);
        let after = bench.memory("1-1");
        assert_eq!(at(&after, SHARED), calibration(), "transfer {transfer}, first run: {}", cut.stderr);
    }
    assert!(cuts > 3, "{cuts} runs were cut short");
}
