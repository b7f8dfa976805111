//! Settings carried from one unit to another, end to end.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;

use support::{Bench, Ended};
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;

const SETTINGS: u32 = 0x0A02_3400;

/// Two Terns r1 and a Tern r2 in update mode, and a Gannet.
fn bench() -> Bench {
    let tern = |revision, serial| Tern::in_boot_mode(revision, serial);
    Bench::of(vec![
        (Box::new(tern(Revision::R1, "T1-00217")), Vec::new()),
        (Box::new(tern(Revision::R1, "T1-00300")), Vec::new()),
        (Box::new(tern(Revision::R2, "T2-00054")), Vec::new()),
        (Box::new(Gannet::new("G-00031")), Vec::new()),
    ])
}

/// A record of settings, laid out by hand: sign, number, offset, harbour, and
/// the zip CRC of those 32 bytes.
fn settings(number: &str, offset: u32, harbour: u32) -> Vec<u8> {
    let mut bytes = b"SKSET2\0\0".to_vec();
    bytes.extend(number.as_bytes());
    bytes.resize(24, 0);
    bytes.extend(offset.to_le_bytes());
    bytes.extend(harbour.to_le_bytes());
    let crc = !bytes.iter().fold(!0u32, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xEDB8_8320 } else { crc >> 1 })
    });
    bytes.extend(crc.to_le_bytes());
    bytes
}

/// Loading settings is an attempt like any other, and on record.
#[test]
fn what_is_carried_is_on_record() {
    let bench = bench();
    put(&bench, "1-1", &settings("T1-00217", 2075, 7));
    put(&bench, "1-2", &settings("T1-00300", 1, 1));
    transfer(&bench, "1-1", "r1", &["save", "a.json", "--region", "settings"]).expect(0, &[]);
    transfer(&bench, "1-2", "r1", &["load", "a.json"]).expect(0, &[]);
    bench.run(&["journal"]).expect(0, &["a.json", "updated", "1-2"]);
}

fn put(bench: &Bench, port: &str, bytes: &[u8]) {
    let mut world = lock(&bench.world);
    let flash = world.unit(port).unwrap().flash_mut();
    flash.erase(SETTINGS..SETTINGS + 3072);
    flash.put(SETTINGS, bytes);
}

fn held(bench: &Bench, port: &str) -> Vec<u8> {
    bench.memory(port)[0x2_3400..0x2_3400 + 36].to_vec()
}

fn transfer(bench: &Bench, port: &str, variant: &str, args: &[&str]) -> Ended {
    bench.run(&[&["settings"], args, &["--unit", port, "--variant", variant]].concat())
}

#[test]
fn settings_go_from_one_unit_to_another_and_the_number_stays() {
    let bench = bench();
    put(&bench, "1-1", &settings("T1-00217", 2075, 7));
    transfer(&bench, "1-1", "r1", &["save", "s.json"])
        .expect(0, &["region 'settings'", "T1-00217; per-unit, not transferred"]);
    let before = bench.memory("1-2");
    transfer(&bench, "1-2", "r1", &["load", "s.json"])
        .expect(0, &["read-back", "confirmed", "number (the unit's own number): T1-00300"]);
    assert_eq!(held(&bench, "1-2"), settings("T1-00300", 2075, 7));
    assert_eq!(bench.memory("1-2")[..0x2_3400], before[..0x2_3400], "nothing else was touched");
    assert_eq!(held(&bench, "1-1"), settings("T1-00217", 2075, 7));
    transfer(&bench, "1-1", "r1", &["save", "s.json"]).expect(3, &["already exists"]);
}

#[test]
fn a_number_can_be_given() {
    let bench = bench();
    transfer(&bench, "1-1", "r1", &["save", "s.json"]).expect(0, &[]);
    // The other unit's settings are spoilt: its own number cannot be kept.
    put(&bench, "1-2", &[0x55; 36]);
    transfer(&bench, "1-2", "r1", &["load", "s.json"])
        .expect(3, &["so its per-unit fields cannot be kept", "--set number=VALUE"]);
    assert_eq!(held(&bench, "1-2"), [0x55; 36]);
    transfer(&bench, "1-2", "r1", &["load", "s.json", "--set", "number=T1-00301"]).expect(0, &["T1-00301"]);
    assert_eq!(held(&bench, "1-2"), settings("T1-00301", 1840, 3));
    transfer(&bench, "1-1", "r1", &["load", "s.json", "--set", "colour=red"]).expect(3, &["existing fields: number"]);
    transfer(&bench, "1-1", "r1", &["load", "s.json", "--set", "number=12345678901234567"]).expect(3, &["too long"]);
}

#[test]
fn what_does_not_fit_or_is_not_sound_is_refused() {
    let bench = bench();
    let path = bench.folder.path().join("s.json");
    transfer(&bench, "1-1", "r1", &["save", "s.json"]).expect(0, &[]);
    let text = fs::read_to_string(&path).unwrap();
    let all: Vec<Vec<u8>> = ["1-1", "1-2", "1-3", "1-4"].map(|port| bench.memory(port)).to_vec();
    // Another form of the product, whose settings have another length.
    transfer(&bench, "1-3", "r2", &["load", "s.json"]).expect(3, &["it has 3072 bytes, the region has 6144"]);
    // The sheets do not let an application be carried, nor a region that is none.
    for region in ["application", "bootloader", "attic"] {
        bench
            .run(&["settings", "save", "g.json", "--unit", "name=gannet", "--region", region])
            .expect(3, &[&format!("No product sheet declares region '{region}' as transferable")]);
    }
    for (from, to, words) in [
        ("\"tern\"", "\"gannet\"", "is from a gannet; the unit is a tern"),
        ("\"settings\": 1", "\"settings\": 2", "format 2"),
        ("\"content\": \"53", "\"content\": \"54", "its digest does not match its content: it was changed"),
        ("\"content\": \"53", "\"content\": \"zz", "its content is not hex digits"),
        ("\"region\"", "\"regon\"", "this is not a file of 'vaka settings save"),
    ] {
        assert!(text.contains(from), "{from}");
        bench.file("bad.json", text.replacen(from, to, 1).as_bytes());
        let code = if words.starts_with("is from") { 3 } else { 8 };
        transfer(&bench, "1-2", "r1", &["load", "bad.json"]).expect(code, &[words]);
    }
    // Settings that are spoilt are not carried on.
    put(&bench, "1-1", &[0x55; 36]);
    transfer(&bench, "1-1", "r1", &["save", "t.json"]).expect(8, &["in the unit is invalid: its checksum is 55555555"]);
    put(&bench, "1-1", &all[0][0x2_3400..]);
    for (port, memory) in ["1-1", "1-2", "1-3", "1-4"].into_iter().zip(&all) {
        assert!(bench.memory(port) == *memory, "{port} was changed");
    }
}

/// A plain DFU unit that offers its settings as a memory of their own.
#[test]
fn a_gannets_settings_are_carried_by_their_own_memory() {
    let bench =
        Bench::of(vec![(Box::new(Gannet::new("G-00031")), Vec::new()), (Box::new(Gannet::new("G-00032")), Vec::new())]);
    let changed = settings("G-00031", 77, 5);
    {
        let mut world = lock(&bench.world);
        let flash = world.unit("1-1").unwrap().flash_mut();
        flash.erase(0x1_F800..0x2_0000);
        flash.put(0x1_F800, &changed);
    }
    let before = bench.memory("1-2");
    bench.run(&["settings", "save", "g.json", "--unit", "1-1"]).expect(0, &["region 'settings'", "G-00031"]);
    bench.run(&["settings", "load", "g.json", "--unit", "1-2"]).expect(0, &["read-back", "confirmed", "G-00032"]);
    let after = bench.memory("1-2");
    assert_eq!(after[0x1_F800..0x1_F800 + 36], settings("G-00032", 77, 5));
    assert_eq!(after[..0x1_F800], before[..0x1_F800], "nothing else was touched");
    assert_eq!(bench.memory("1-1")[0x1_F800..0x1_F800 + 36], changed);
    bench.run(&["settings", "load", "g.json", "--unit", "1-2"]).expect(0, &["Already present"]);
}
