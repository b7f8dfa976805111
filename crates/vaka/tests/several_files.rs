//! Several files of one update, by the built program.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;

use support::{Bench, firmware};
use vaka_sim::unit::tern::{Revision, Tern};

/// The Tern r1, with a table of calibration behind the application that an update may bring too.
const SHEET: &str = r#"
sheet = 1
[product]
id = "tern"
name = "Tern tide gauge"
maker = "Skerrow Instruments"
[application]
id = "1209:0001"
version = "release-number"
[[variant]]
id = "r1"
name = "Tern r1"
flash = [{ start = 0x0A00_0000, sectors = 48, size = "3 KiB" }]
ram = { start = 0x2000_0000, size = "20 KiB" }
[variant.image]
region = "application"
vectors = "cortex-m"
marks = [{ offset = 0x40, text = "TRN1", meaning = "board word" }]
version = { offset = 0x4C }
[[variant.further_image]]
region = "calibration"
marks = [{ offset = 0, text = "CAL1", meaning = "kind" }]
[[variant.region]]
name = "bootloader"
start = 0x0A00_0000
size = "9 KiB"
[[variant.region]]
name = "application"
start = 0x0A00_2400
size = "111 KiB"
[[variant.region]]
name = "calibration"
start = 0x0A01_E000
size = "12 KiB"
[[variant.region]]
name = "settings"
start = 0x0A02_3400
size = "3 KiB"
[[route]]
kind = "dfu"
id = "1209:0002"
memory = "Tide Flash"
writes = ["application", "calibration"]
restart_at = 0x0A00_0000
[[route.entry]]
do = "Hold SET, tap RESET, then let go of SET."
see = "The display goes dark."
"#;

/// Terns r1 in update mode.
fn bench(units: &[&str]) -> Bench {
    let unit = |serial: &&str| (Tern::in_boot_mode(Revision::R1, serial), Vec::new());
    let bench = Bench::new(units.iter().map(unit).collect());
    fs::create_dir(bench.folder.path().join("sheets")).unwrap();
    bench.file("sheets/tern.toml", SHEET.as_bytes());
    bench
}

fn calibration() -> Vec<u8> {
    b"CAL1".iter().copied().chain((0..1020u32).map(|n| u8::try_from(n * 7 % 251).unwrap())).collect()
}

fn holds_both(bench: &Bench, port: &str) -> bool {
    let (memory, image) = (bench.memory(port), fs::read(firmware("tern-r1-1.5.0.bin")).unwrap());
    memory[0x2400..0x2400 + image.len()] == image && memory[0x1_E000..0x1_E400] == calibration()
}

#[test]
fn files_for_several_regions_are_one_update() {
    let image = firmware("tern-r1-1.5.0.hex");
    let (image, common) = (image.to_str().unwrap(), ["--sheets", "sheets", "--variant", "r1"]);
    for place in ["calibration", "0x0A01E000"] {
        let bench = bench(&["T1-00217"]);
        bench.file("cal.bin", &calibration());
        let second = format!("{place}=cal.bin");
        let plan = bench.run(&[&["update", image, &second, "--plan"], &common[..]].concat());
        plan.expect(0, &["20 772 bytes of 111 KiB in 'application', 1 segment; 1 KiB of 12 KiB in 'calibration'"]);
        let ended = bench.run(&[&["update", image, &second], &common[..]].concat());
        ended.expect(0, &["21 796 bytes are equal", "confirmed"]);
        assert!(holds_both(&bench, "1-1"));
        let shown = bench.run(&["journal", "--format", "json"]).expect(0, &[]).events().remove(0);
        let further = &shown["started"]["further_files"][0];
        assert_eq!((&further["name"], &further["size"]), (&"cal.bin".into(), &1024.into()), "{shown}");
        bench.run(&["journal", shown["attempt"].as_str().unwrap()]).expect(0, &["cal.bin, 1 KiB"]);
    }
    let bench = bench(&["T1-00217", "T1-00218"]);
    bench.file("cal.bin", &calibration());
    let line = ["line", image, "calibration=cal.bin", "--count", "2"];
    bench.run(&[&line[..], &common].concat()).expect(0, &["2 units: 2 updated"]);
    assert!(holds_both(&bench, "1-1") && holds_both(&bench, "1-2"));
}

#[test]
fn files_that_do_not_go_together_are_refused_before_any_change() {
    let image = firmware("tern-r1-1.5.0.hex");
    let image = image.to_str().unwrap();
    let bench = bench(&["T1-00217"]);
    bench.file("cal.bin", &calibration());
    bench.file("other.bin", &[b"CAL2", &calibration()[4..]].concat());
    let before = bench.memory("1-1");
    let cases: [(&[&str], i32, &[&str]); 8] = [
        (&[image, "attic=cal.bin"], 2, &["attic", "application, bootloader, calibration, settings"]),
        (&[image, "calibration=other.bin"], 3, &["\"CAL2\"", "r1's is \"CAL1\""]),
        (&[image, "calibration=gone.bin"], 8, &["gone.bin"]),
        (&[image, "cal.bin"], 3, &["cal.bin: a raw binary has no address", "REGION=FILE"]),
        (&[image, "0x0A01E400=cal.bin"], 3, &["which is the start of no image"]),
        (&[image, "0x0A002400=cal.bin"], 8, &["do not go together", "0x0A00_2400", "vaka check --join"]),
        (&["calibration=cal.bin"], 3, &["no data for region 'application'"]),
        (&[image, "calibration=cal.bin", "--at", "0x0A01E000"], 2, &["PLACE=FILE"]),
    ];
    for (files, code, words) in cases {
        let common = ["--sheets", "sheets", "--variant", "r1"];
        bench.run(&[&["update"], files, &common].concat()).expect(code, words);
        assert!(bench.memory("1-1") == before, "{files:?}");
    }
}

/// A reader of the sheet sees each image, and the JSON names its region.
#[test]
fn a_sheet_is_shown_with_its_further_images() {
    let bench = bench(&[]);
    let sheet = bench.file("sheets/tern.toml", SHEET.as_bytes());
    let show = ["sheet", "show", sheet.to_str().unwrap()];
    bench.run(&show).expect(0, &["image too   region 'calibration' from 0x0A01_E000 on, with kind (not in every"]);
    let shown = bench.run(&[&show[..], &["--format", "json"]].concat()).expect(0, &[]).events();
    let images = &shown[0]["variants"][0]["images"];
    assert_eq!((&images[1]["region"], &images[1]["required"]), (&"calibration".into(), &false.into()));
}
