//! Values that a dialect asks the user for: they reach the unit, and nothing else.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;
use std::path::Path;
use std::time::Duration;

use support::{Bench, Running, at_terminal, knot};
use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, DescribedInterface, Setup};
use vaka_testkit::program;

/// # Wicket: a code opens the bootloader
///
/// Vendor requests on endpoint 0. 0x61 (out) with the 8 bytes of the unit's code opens it; with others
/// it stalls. Until then, the rest stalls too. 0x62 (out) with the number of a sector as value erases
/// it; 0x63 (out) with the number of a block of 64 bytes as value writes the block, 0x64 (in) reads it;
/// 0x65 (out) starts the application.
const DIALECT: &str = r#"
dialect = 1
name = "wicket"
[carrier]
kind = "control"
[ask]
code = { question = "unlock code on the label", size = 8 }
[geometry]
chunk = 64
[unlock]
out = { request = 0x61 }
send = "bytes = code"
[erase]
by = "page"
out = { request = 0x62, value = "(address - origin) / 256 & 0xFFFF" }
[write]
out = { request = 0x63, value = "(address - origin) / 64 & 0xFFFF" }
send = "bytes data"
[read]
in = { request = 0x64, value = "(address - origin) / 64 & 0xFFFF" }
reply = "bytes(length) data"
[restart]
out = { request = 0x65 }
"#;

const CODE: &str = "TIDE-314";

#[derive(Debug, Default)]
struct Wicket {
    is_open: bool,
    leaves_at: Option<Duration>,
}

impl Loader for Wicket {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let (names, extra) = (vec!["Wicket".to_owned()], Vec::new());
        vec![DescribedInterface { class: [0xFF, 0, 0], names, extra, bulk: Vec::new(), interrupt: Vec::new() }]
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let at = |unit: u32| knot::BASE + u32::from(setup.value) * unit;
        match (setup.kind, setup.request) {
            (0x40, 0x61) if data == CODE.as_bytes() => self.is_open = true,
            (0x40, 0x62) if self.is_open && at(256) >= knot::START => flash.erase(at(256)..at(256) + 256),
            (0x40, 0x63) if self.is_open && at(64) >= knot::START => flash.program(at(64), data),
            (0xC0, 0x64) if self.is_open => {
                let bytes = flash.read(at(64), usize::from(setup.length));
                return bytes.map_or(Answer::Stall, |bytes| Answer::Data(bytes.to_vec()));
            }
            (0x40, 0x65) if self.is_open => self.leaves_at = Some(now + Duration::from_millis(40)),
            _ => return Answer::Stall,
        }
        Answer::Done
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}

/// A unit with a code, its sheet with these lines more, and an image for it.
fn bench(more: &str) -> (Bench, Vec<u8>) {
    let unit = knot::unit(Box::new(|| Box::new(Wicket::default())));
    let bench = Bench::of(vec![(Box::new(unit), Vec::new())]);
    fs::create_dir(bench.folder.path().join("sheets")).unwrap();
    bench.file("sheets/wicket.dialect.toml", DIALECT.as_bytes());
    bench.file("sheets/knot.toml", (knot::SHEET.replace("NAME", "wicket") + more).as_bytes());
    let image = knot::application(2000, 0x0110);
    bench.file("knot-1.1.0.bin", &image);
    (bench, image)
}

fn update(bench: &Bench, args: &[&str]) -> std::process::Command {
    let mut command = bench.command();
    command.env("VAKA_SHEETS", bench.folder.path().join("sheets"));
    command.args(["update", "knot-1.1.0.bin", "--variant", "k1", "--wait", "5s"]).args(args);
    command
}

/// Every file below a folder that contains the code, as text or as hex digits.
fn files_with_code(folder: &Path) -> Vec<String> {
    let hex = CODE.bytes().map(|byte| format!("{byte:02x}")).collect::<String>();
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        if entry.path().is_dir() {
            found.extend(files_with_code(&entry.path()));
            continue;
        }
        let text = String::from_utf8_lossy(&fs::read(entry.path()).unwrap()).into_owned();
        if text.contains(CODE) || text.to_lowercase().contains(&hex) {
            found.push(entry.file_name().to_string_lossy().into_owned());
        }
    }
    found
}

#[test]
fn a_code_reaches_the_unit_and_nothing_else() {
    let (bench, image) = bench("");
    let before = bench.memory("1-1");
    let without = Running::start(&mut update(&bench, &["--unattended"])).end();
    without
        .expect(3, &["the dialect asks for the unlock code on the label: it was not supplied", "--secret code=FILE"]);
    bench.file("short.txt", b"TIDE");
    let short = Running::start(&mut update(&bench, &["--secret", "code=short.txt"])).end();
    short.expect(3, &["short.txt: it must have 8 bytes, and has 4"]);
    assert!(bench.memory("1-1") == before);
    bench.file("wrong.txt", b"WAVE-314");
    let wrong = Running::start(&mut update(&bench, &["--secret", "code=wrong.txt"])).end();
    assert_ne!(wrong.code, 0);
    assert!(!format!("{}{}", wrong.stdout, wrong.stderr).contains("WAVE"));
    assert!(bench.memory("1-1") == before);

    bench.file("code.txt", format!("{CODE}\n").as_bytes());
    let given = ["--secret", "code=code.txt", "--trace", "run.trace"];
    Running::start(&mut update(&bench, &given)).end().expect(0, &["all 2 000 bytes are equal", "confirmed"]);
    assert!(knot::holds(&bench, &image));
    assert_eq!(files_with_code(bench.folder.path()), ["code.txt"]);
    let trace = fs::read_to_string(bench.folder.path().join("run.trace")).unwrap();
    assert!(trace.contains("\"concealed\":8"), "{trace}");
    let dialect = "sheets/wicket.dialect.toml";
    bench.run(&["dialect", "replay", dialect, "run.trace"]).expect(0, &["unlock     1"]);
    let shown = bench.run(&["dialect", "trace", dialect, "run.trace", "--operation", "unlock"]);
    shown.expect(0, &["concealed (8 bytes)"]);
}

#[test]
fn a_sheet_names_the_file_with_a_code() {
    let (bench, image) = bench("secrets = { code = \"bench.key\" }\n");
    let missing = Running::start(&mut update(&bench, &["--unattended"])).end();
    missing.expect(3, &["the dialect asks for the unlock code on the label: it was not supplied"]);
    bench.file("sheets/bench.key", CODE.as_bytes());
    Running::start(&mut update(&bench, &[])).end().expect(0, &["confirmed"]);
    assert!(knot::holds(&bench, &image));
}

/// A typed code is not shown, and is asked for once in a run.
#[test]
fn a_code_is_typed_at_the_terminal() {
    if !program::is_there("script") {
        return;
    }
    let (bench, image) = bench("");
    let mut running = Running::start(&mut at_terminal(&update(&bench, &[])));
    running.wait_for_prompt("Type the unlock code on the label, which is not shown:");
    writeln!(running.stdin(), "{CODE}").unwrap();
    let ended = running.end();
    ended.expect(0, &["confirmed"]);
    let all = format!("{}{}", ended.stdout, ended.stderr);
    assert!(!all.contains(CODE), "{all}");
    assert_eq!(all.matches("which is not shown").count(), 1, "{all}");
    assert!(knot::holds(&bench, &image));
    assert!(files_with_code(bench.folder.path()).is_empty());
}
