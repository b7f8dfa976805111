//! Units with bootloaders of their makers' own, by the built program over USB/IP; and
//! the tools for whoever describes one.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;

use std::time::{Duration, Instant};

use support::{Bench, Running, firmware, root};
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::avocet::avocet;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::skua::skua;
use vaka_sim::unit::vendor_unit::VendorUnit;
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;

const WAIT: &str = "10s";

struct Case {
    name: &'static str,
    unit: fn(&str) -> VendorUnit,
    booted: bool,
    file: &'static str,
    /// Where the application begins, from the start of the flash.
    offset: usize,
    check: &'static str,
}

const CASES: [Case; 5] = [
    Case { name: "dunlin", unit: dunlin, booted: true, file: "dunlin-1.1.0", offset: 0x1C00, check: "device-checked" },
    Case { name: "auk", unit: auk, booted: false, file: "auk-2.1.0", offset: 0x2000, check: "read-back" },
    Case { name: "fulmar", unit: fulmar, booted: false, file: "fulmar-4.2.0", offset: 0x3000, check: "read-back" },
    Case {
        name: "skua-bridge",
        unit: skua,
        booted: true,
        file: "skua-bridge-1.7.0",
        offset: 0x1000,
        check: "read-back",
    },
    Case { name: "avocet", unit: avocet, booted: false, file: "avocet-1.1.0", offset: 0x1000, check: "read-back" },
];

impl Case {
    fn bench(&self) -> Bench {
        let unit = (self.unit)("X-00017");
        Bench::of(vec![(Box::new(if self.booted { unit.in_boot_mode() } else { unit }), Vec::new())])
    }

    /// The memory is as it was, but for the image and what fills its last sector up.
    #[track_caller]
    fn assert_updated(&self, before: &[u8], after: &[u8]) {
        let image = fs::read(firmware(&format!("{}.bin", self.file))).unwrap();
        let end = self.offset + image.len();
        assert!(after[self.offset..end] == image[..], "{}: the image", self.name);
        let rest = after[end..].iter().position(|byte| *byte != 0xFF).map_or(after.len(), |at| end + at);
        assert!(after[..self.offset] == before[..self.offset], "{}: the bootloader", self.name);
        let first_kept = after.len() - 1024;
        assert!(after[first_kept..] == before[first_kept..] && rest <= first_kept, "{}: the settings", self.name);
    }
}

#[test]
fn the_four_are_updated_and_checked_against_their_true_memory() {
    for case in &CASES {
        let bench = case.bench();
        let before = bench.memory("1-1");
        let file = firmware(&format!("{}.hex", case.file));
        let ended = bench.update(&file, &["--unattended", "--format", "json"]);
        let result = ended.expect(0, &[]).result();
        assert_eq!((result["check"].as_str(), result["after"].as_str()), (Some(case.check), Some("confirmed")));
        assert_eq!(result["bytes_checked"], result["bytes_written"], "{}", case.name);
        case.assert_updated(&before, &bench.memory("1-1"));
        assert_eq!(bench.condition("1-1"), Condition::Application);
    }
}

#[test]
fn a_unit_with_another_chip_is_refused_before_anything_is_changed() {
    let bench = CASES[1].bench();
    let before = bench.memory("1-1");
    let sheets = bench.folder.path().join("sheets");
    fs::create_dir(&sheets).unwrap();
    for name in ["auk.dialect.toml", "auk-call.dialect.toml"] {
        fs::copy(root().join("demo/sheets").join(name), sheets.join(name)).unwrap();
    }
    let sheet = fs::read_to_string(root().join("demo/sheets/auk.toml")).unwrap();
    fs::write(sheets.join("auk.toml"), sheet.replace("chip = 0x41A7", "chip = 0x41A8")).unwrap();
    let file = firmware("auk-2.1.0.hex");
    let ended = bench.update(&file, &["--sheets", sheets.to_str().unwrap(), "--unattended"]);
    ended.expect(3, &["CONFLICT: h1's is 16808 (0x41A8)", "The unit is unchanged."]);
    assert!(bench.memory("1-1") == before);
    assert_eq!(bench.condition("1-1"), Condition::Application);
}

#[test]
fn the_check_that_a_dialect_offers_is_the_one_that_is_reported() {
    let bench = CASES[1].bench();
    let sheets = bench.folder.path().join("sheets");
    fs::create_dir(&sheets).unwrap();
    for name in ["auk.toml", "auk-call.dialect.toml"] {
        fs::copy(root().join("demo/sheets").join(name), sheets.join(name)).unwrap();
    }
    let dialect = fs::read_to_string(root().join("demo/sheets/auk.dialect.toml")).unwrap();
    let (before, rest) = dialect.split_once("[read]").unwrap();
    let without = format!("{before}{}", &rest[rest.find("[restart]").unwrap()..]);
    fs::write(sheets.join("auk.dialect.toml"), without).unwrap();
    // Settings can then not be carried, so the sheet must not promise it.
    let sheet = fs::read_to_string(sheets.join("auk.toml")).unwrap();
    let (head, tail) = sheet.split_once("# Settings may be carried").unwrap();
    fs::write(sheets.join("auk.toml"), format!("{head}{}", &tail[tail.find("[[route]]").unwrap()..])).unwrap();
    let file = firmware("auk-2.1.0.hex");
    let ended = bench.update(&file, &["--sheets", sheets.to_str().unwrap(), "--unattended"]);
    ended.expect(0, &["accepted: ", "confirmed"]);
}

/// Plugged in while the tool waits: caught before its loader goes on.
#[test]
fn a_short_window_is_waited_for() {
    let bench = Bench::of(vec![(Box::new(dunlin("N-00301").unplugged()), Vec::new())]);
    let before = bench.memory("1-1");
    let file = firmware("dunlin-1.1.0.hex");
    let mut running = Running::start(bench.command().arg("update").arg(&file).args(["--wait", "20s"]));
    let line = running.wait_for("Waiting for");
    assert!(
        line.contains("Dunlin salinity probe: if it is already connected, unplug it and plug it back in ("),
        "{line}"
    );
    assert!(lock(&bench.world).act("1-1", &UserAction::Plug));
    running.end().expect(0, &["device-checked", "confirmed"]);
    CASES[0].assert_updated(&before, &bench.memory("1-1"));
}

#[test]
fn a_silent_unit_is_recovered_by_the_steps_that_are_shown() {
    let bench = Bench::of(vec![(Box::new(skua("K-00008").damaged()), Vec::new())]);
    assert_eq!(bench.condition("1-1"), Condition::Silent);
    let file = firmware("skua-bridge-1.7.0.hex");
    let mut running = Running::start(bench.command().arg("update").arg(&file).args(["--wait", "30s"]));
    running.wait_for("touch the two BRIDGE pads together");
    for hand in [UserAction::Pull, UserAction::Hold("BRIDGE".into()), UserAction::Plug] {
        assert!(lock(&bench.world).act("1-1", &hand));
    }
    running.end().expect(0, &["read-back", "confirmed"]);
    assert_eq!(bench.condition("1-1"), Condition::Application);
}

/// Settings from one Auk into another; each keeps its own number.
#[test]
fn settings_are_carried_in_a_dialect() {
    let bench = Bench::of(vec![
        (Box::new(auk("A-00044").in_boot_mode()), Vec::new()),
        (Box::new(auk("A-00045").in_boot_mode()), Vec::new()),
    ]);
    let settings = |bench: &Bench, port: &str| bench.memory(port)[0xD000..0xD024].to_vec();
    {
        let mut world = lock(&bench.world);
        // The first one has another harbour.
        let mut bytes = vaka_sim::unit::firmware::settings("A-00044", 99, 5);
        bytes.resize(64, 0xFF);
        world.unit("1-1").unwrap().flash_mut().put(0x0D00_D000, &bytes);
    }
    bench.run(&["settings", "save", "settings.transferable", "--unit", "port=1-1"]).expect(0, &[]);
    bench.run(&["settings", "load", "settings.transferable", "--unit", "port=1-2", "--wait", WAIT]).expect(0, &[]);
    let (from, to) = (settings(&bench, "1-1"), settings(&bench, "1-2"));
    assert_eq!(from[24..32], to[24..32], "offset and harbour");
    assert_eq!(&to[8..15], b"A-00045", "its own number");
}

/// Random bytes differ in each run, so a trace contains them and a replay uses the same ones. A
/// recovery belongs to the operation that needed it.
#[test]
fn random_bytes_of_a_run_are_in_its_trace() {
    let bench = CASES[2].bench();
    let text = fs::read_to_string(root().join("demo/sheets/fulmar.dialect.toml")).unwrap();
    let identify = "[identify]\nsend = \"'hail\\r'\"\nreply = \"u8 in code, 'FM2', u16be kib\"\n";
    assert!(text.contains(identify), "{text}");
    let changed = "[exchange.hail]\nsend = \"'hail\\r'\"\nreply = \"u8 in code, 'FM2', u16be kib\"\n\
                   [recover]\ndo = \"drain\"\nat_start = true\n\
                   [identify]\ndo = \"let nonce = random(8); hail; expect le(nonce) != 0 else 'no bytes'\"\n";
    fs::create_dir(bench.folder.path().join("sheets")).unwrap();
    let dialect = bench.file("sheets/fulmar.dialect.toml", text.replace(identify, changed).as_bytes());
    for name in ["fulmar.toml", "fulmar-call.dialect.toml"] {
        bench.file(&format!("sheets/{name}"), &fs::read(root().join("demo/sheets").join(name)).unwrap());
    }
    let sheets = bench.folder.path().join("sheets");
    let mut command = bench.command();
    command.env("VAKA_SHEETS", &sheets).arg("update").arg(firmware("fulmar-4.2.0.hex"));
    Running::start(command.args(["--trace", "run.trace", "--unattended"])).end().expect(0, &[]);
    let trace = fs::read_to_string(bench.folder.path().join("run.trace")).unwrap();
    let nonces: Vec<&str> = trace.lines().filter(|line| line.contains("\"operation\":\"random\"")).collect();
    assert!(!nonces.is_empty(), "{trace}");
    let replay = ["dialect", "replay", dialect.to_str().unwrap()];
    let replayed = bench.run(&[&replay[..], &["run.trace"]].concat());
    replayed.expect(0, &["identify", "as recorded", "The dialect sends the recorded frames"]);
    let without: String = trace.lines().filter(|line| *line != nonces[0]).map(|line| format!("{line}\n")).collect();
    bench.file("without.trace", without.as_bytes());
    let replayed = bench.run(&[&replay[..], &["without.trace"]].concat());
    replayed.expect(6, &["the trace has no 8 random bytes here"]);
}

#[test]
fn a_recorded_run_tests_a_dialect_at_the_desk() {
    for case in &CASES {
        let bench = case.bench();
        let file = firmware(&format!("{}.hex", case.file));
        bench.update(&file, &["--trace", "run.trace", "--unattended"]).expect(0, &[]);
        let dialect = root().join(format!("demo/sheets/{}.dialect.toml", case.name.trim_end_matches("-bridge")));
        let dialect = dialect.to_str().unwrap();
        bench
            .run(&["dialect", "replay", dialect, "run.trace"])
            .expect(0, &["write", "as recorded", "\nThe dialect sends the recorded frames and parses all"]);
        let shown = bench.run(&["dialect", "trace", dialect, "run.trace", "--operation", "identify"]);
        shown.expect(0, &["identify", "says"]);
        // Whatever is changed in what is sent or expected is found.
        let text = fs::read_to_string(dialect).unwrap();
        for (from, to) in [
            ("u8 in stat", "u16le in stat"),
            ("u32le address", "u32be address"),
            ("[write]", "[write]\ntotal = \"0 ms\""),
        ] {
            if !text.contains(from) {
                continue;
            }
            let changed = bench.file("changed.dialect.toml", text.replace(from, to).as_bytes());
            let ended = bench.run(&["dialect", "replay", changed.to_str().unwrap(), "run.trace"]);
            assert!(ended.code == 6 || from == "[write]", "{}: {to}: {}", case.name, ended.stdout);
        }
        // A trace of another dialect is refused.
        let other = root().join("demo/sheets/auk-call.dialect.toml");
        if case.name != "auk" {
            bench.run(&["dialect", "replay", other.to_str().unwrap(), "run.trace"]).expect(8, &["not with 'auk-call'"]);
        }
    }
}

#[test]
fn what_is_wrong_with_a_dialect_is_reported_with_line_and_column() {
    let bench = Bench::of(Vec::new());
    for carrier in ["control", "hid", "pipes", "serial", "dfu"] {
        let name = format!("{carrier}.dialect.toml");
        bench.run(&["dialect", "new", "--carrier", carrier, "--out", &name]).expect(0, &["vaka dialect check"]);
        bench.run(&["dialect", "check", &name]).expect(0, &["valid dialect"]);
        bench.run(&["dialect", "show", &name]).expect(0, &["operation", "write"]);
        // Never over a file that is there.
        bench.run(&["dialect", "new", "--carrier", carrier, "--out", &name]).expect(3, &["already exists"]);
    }
    let text = fs::read_to_string(bench.folder.path().join("hid.dialect.toml")).unwrap();
    let slip = text.replace("u32le address, u8 = len(data)", "u32le adress, u8 = len(data)");
    let line = slip[..slip.find("adress").unwrap()].matches('\n').count() + 1;
    bench.file("slip.dialect.toml", slip.as_bytes());
    let place = format!("slip.dialect.toml, line {line}, column ");
    bench
        .run(&["dialect", "check", "slip.dialect.toml"])
        .expect(8, &[&place, "'adress' is not known here; known names: address"]);
    let bare = text.split("[read]").next().unwrap().to_owned() + "[restart]\nsend = \"1\"\n";
    bench.file("bare.dialect.toml", bare.as_bytes());
    bench
        .run(&["dialect", "check", "bare.dialect.toml"])
        .expect(0, &["no verification: without [read] and [checksum] a"]);
    // A helper stands beside its dialect, and nowhere else.
    let helped = |file: &str| {
        text.replace("[erase]", &format!("[helper]\nfile = \"{file}\"\ndo = \"each 32 of data {{ put }}\"\n[exchange.put]\nsend = \"0x30, bytes piece\"\n[erase]"))
    };
    bench.file("helper.bin", &[7; 100]);
    for (file, code, words) in [
        ("helper.bin", 0, "valid dialect"),
        ("other.bin", 8, "other.bin: "),
        ("../helper.bin", 8, "a helper must be in the folder of its dialect: give"),
    ] {
        bench.file("helped.dialect.toml", helped(file).as_bytes());
        bench.run(&["dialect", "check", "helped.dialect.toml"]).expect(code, &[words]);
    }
    bench.run(&["dialect", "check", "missing.dialect.toml"]).expect(8, &["missing.dialect.toml"]);
    bench
        .run(&["dialect", "trace", "hid.dialect.toml", "hid.dialect.toml"])
        .expect(8, &["this is not a trace: its first line is not a trace"]);
}

/// The guide, as it is written: its files and its commands.
#[test]
fn the_guide_does_what_it_says() {
    let folder = support::follow_guide("your-bootloader.md", true);
    // The guide's dialect equals the demo's.
    for name in ["auk.dialect.toml", "auk-call.dialect.toml"] {
        let of_guide = fs::read_to_string(folder.path().join(name)).unwrap();
        let of_demo = fs::read_to_string(root().join("demo/sheets").join(name)).unwrap();
        assert_eq!(of_guide.trim(), of_demo.trim(), "{name}");
    }
}

/// A unit that is slow to leave must not be waited on for ever.
#[test]
fn nothing_takes_longer_than_it_may() {
    let bench = Bench::of(vec![(Box::new(auk("A-00044").in_boot_mode()), Vec::new())]);
    let sheets = bench.folder.path().join("sheets");
    fs::create_dir(&sheets).unwrap();
    fs::copy(root().join("demo/sheets/auk.toml"), sheets.join("auk.toml")).unwrap();
    fs::copy(root().join("demo/sheets/auk-call.dialect.toml"), sheets.join("auk-call.dialect.toml")).unwrap();
    let text = fs::read_to_string(root().join("demo/sheets/auk.dialect.toml")).unwrap();
    // It waits for a report that the unit never sends.
    let text = text.replace(
        "do = \"wipe; how_far\"",
        "total = \"500 ms\"\ndo = \"wipe; until tag == 999 within 60 s { how_far }\"",
    );
    fs::write(sheets.join("auk.dialect.toml"), text).unwrap();
    let file = firmware("auk-2.1.0.hex");
    let began = Instant::now();
    bench.update(&file, &["--sheets", sheets.to_str().unwrap(), "--unattended"]).expect(5, &["Failed erasing"]);
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
}

/// Single exchanges show a unit field by field; what may erase or write needs a consent.
#[test]
fn single_exchanges_are_tried_on_a_unit() {
    let bench = CASES[0].bench();
    let dialect = root().join("demo/sheets/dunlin.dialect.toml");
    let command = ["dialect", "try", dialect.to_str().unwrap(), "--unit", "port=1-1"];
    let tries = |steps: &[&str]| bench.run(&[&command, steps].concat());
    let before = bench.memory("1-1");
    tries(&["identify"]).expect(0, &["request 0xD1, value 0, index 0", "u16le pages", "page_size = 128 (0x80)"]);
    tries(&["identify", "checksum(address = 0, length = 256, data = x'00')"])
        .expect(0, &["request 0xD5, value 0, index 2"]);
    for steps in ["erase(address = 0x1C00)", "begin", "wipe", "wipe(page = 56)", "let page = 56", "raw 'x'"] {
        let tried = tries(&[steps]);
        assert!([2, 3].contains(&tried.code), "{steps}: {}", tried.stderr);
        assert!(tried.stdout.is_empty(), "{steps}: {}", tried.stdout);
    }
    tries(&["wipe"]).expect(3, &["'wipe' may erase or write, so it was not sent", "--allow change-unit"]);
    tries(&["erase(adress = 1)"]).expect(2, &["'adress' is not a name of this dialect"]);
    assert!(bench.memory("1-1") == before);
    // Of several lines, one that fails does not end the others.
    let mut lines = Running::start(bench.command().args(command));
    lines.stdin().write_all(b"nonsense\nidentify\n\n").unwrap();
    lines.end().expect(2, &["unknown exchange or group of steps 'nonsense'", "pages = 320 (0x140)"]);
    tries(&["identify", "erase(index = 56)", "--allow", "change-unit"]).expect(0, &["request 0xD2, value 56"]);
    let after = bench.memory("1-1");
    assert!(after[0x1C00..0x1C80].iter().all(|byte| *byte == 0xFF));
    assert!(after[..0x1C00] == before[..0x1C00] && after[0x1C80..] == before[0x1C80..]);
}

/// A replay compares the times where the dialect waits.
#[test]
fn a_replay_compares_waits() {
    let bench = CASES[1].bench();
    let file = firmware("auk-2.1.0.bin");
    let update = ["update", file.to_str().unwrap(), "--variant", "h1", "--wait", WAIT, "--trace", "run.trace"];
    bench.run(&update).expect(0, &["confirmed"]);
    let dialect = fs::read_to_string(root().join("demo/sheets/auk.dialect.toml")).unwrap();
    assert!(dialect.contains("pause = \"5 ms\""));
    bench.file("same.dialect.toml", dialect.as_bytes());
    bench.file("slow.dialect.toml", dialect.replace("pause = \"5 ms\"", "pause = \"500 ms\"").as_bytes());
    bench.run(&["dialect", "replay", "same.dialect.toml", "run.trace"]).expect(0, &["waits", "recorded"]);
    let slow = bench.run(&["dialect", "replay", "slow.dialect.toml", "run.trace"]);
    slow.expect(0, &["Note: in 'erase' the dialect waits 0.50 s, where the record has"]);
}
