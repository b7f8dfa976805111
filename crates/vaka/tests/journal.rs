//! The record of attempts: what is in it, what a crash or two processes make of
//! it, and what others get out of it.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

use serde_json::Value;
use support::{Bench, Running, firmware};
use vaka_sim::unit::UserAction;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;
use vaka_testkit::Random;
use vaka_testkit::program;

fn bench() -> Bench {
    Bench::of(vec![
        (Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")), Vec::new()),
        (Box::new(Gannet::new("G-00031")), Vec::new()),
    ])
}

fn update(bench: &Bench, file: &str, args: &[&str]) -> i32 {
    let file = firmware(file);
    bench.run(&[&["update", file.to_str().unwrap()], args].concat()).code
}

fn file(bench: &Bench) -> PathBuf {
    bench.folder.path().join("vaka/journal.jsonl")
}

fn records(bench: &Bench, args: &[&str]) -> Vec<Value> {
    bench.run(&[&["journal", "--format", "json"], args].concat()).expect(0, &[]).events()
}

/// A digest by another program.
fn sha256sum(path: &std::path::Path) -> String {
    let out = std::process::Command::new("sha256sum").arg(path).output().unwrap().stdout;
    String::from_utf8(out).unwrap().split(' ').next().unwrap().to_owned()
}

#[test]
fn each_attempt_is_on_record_and_can_be_found_again() {
    let bench = bench();
    assert_eq!(update(&bench, "gannet-1.3.0.dfu", &["--unit", "1-2"]), 0);
    assert_eq!(update(&bench, "gannet-1.2.0.dfu", &["--unit", "1-2"]), 3);
    assert_eq!(update(&bench, "tern-r1-1.5.0.hex", &["--unit", "1-1", "--variant", "r1", "--plan"]), 0);
    assert_eq!(update(&bench, "tern-r1-1.5.0.hex", &["--unit", "1-1", "--variant", "r1"]), 0);
    let all = records(&bench, &[]);
    assert_eq!(all.len(), 3, "a plan is not an attempt");
    let first = &all[0];
    if program::is_there("sha256sum") {
        assert_eq!(first["started"]["file"]["sha256"], sha256sum(&firmware("gannet-1.3.0.dfu")));
        assert_eq!(first["started"]["file"]["content_sha256"], sha256sum(&firmware("gannet-1.3.0.bin")));
    }
    let ended = &first["ended"];
    assert_eq!(ended["ids"], serde_json::json!(["1209:0003", "1209:0004"]));
    assert_eq!((&ended["version_before"], &ended["verdict"]), (&"1.2.0".into(), &"fits".into()));
    let result = &ended["result"];
    assert_eq!(
        (&result["serial"], &result["check"], &result["code"]),
        (&"G-00031".into(), &"read-back".into(), &0.into())
    );
    assert_eq!(result["application"]["version"], "1.3.0");
    assert!(all[1]["ended"]["error"]["message"].as_str().unwrap().contains("older than the unit's 1.3.0"));

    let count = |args: &[&str]| records(&bench, args).len();
    assert_eq!(
        (count(&["--failed"]), count(&["--unit", "serial=G-00031"]), count(&["--unit", "1209:0002"])),
        (1, 2, 1)
    );
    assert_eq!((count(&["--since", "1h"]), count(&["--since", "2999-01-01"])), (3, 0));
    bench.run(&["journal", "--since", "soon"]).expect(2, &["'soon' is not a time"]);
    bench.run(&["journal"]).expect(0, &["gannet-1.3.0.dfu", "refused", "3 attempts, 2 of them successful"]);

    let id = first["attempt"].as_str().unwrap();
    bench.run(&["journal", id]).expect(0, &["of its content", "SHA-256"]);
    bench.run(&["journal", id, "--attest", "a.json"]).expect(0, &["written"]);
    let statement: Value = serde_json::from_slice(&fs::read(bench.folder.path().join("a.json")).unwrap()).unwrap();
    // Source: in-toto Attestation Framework, Statement v1: four fields, subject with digests.
    assert_eq!(statement["_type"], "https://in-toto.io/Statement/v1");
    assert_eq!(statement["subject"][0]["digest"]["sha256"], first["started"]["file"]["content_sha256"]);
    assert!(statement["predicateType"].is_string() && statement["predicate"].is_object());
    let refused = all[1]["attempt"].as_str().unwrap();
    bench
        .run(&["journal", refused, "--attest", "b.json"])
        .expect(3, &["This attempt did not read back all of the content"]);
    bench.run(&["journal", "no-such"]).expect(4, &["The journal has no attempt 'no-such'"]);
}

#[test]
fn tables_and_pages_are_made_of_it() {
    let bench = bench();
    update(&bench, "gannet-1.3.0.dfu", &["--unit", "1-2"]);
    fs::copy(firmware("gannet-1.2.0.dfu"), bench.folder.path().join("<b>&\"1.2.0.dfu")).unwrap();
    bench.run(&["update", "<b>&\"1.2.0.dfu", "--unit", "1-2"]).expect(3, &["older than the unit's 1.3.0"]);
    bench.run(&["journal", "--csv", "j.csv", "--report", "j.html"]).expect(0, &["j.csv: written", "j.html: written"]);
    let csv = fs::read_to_string(bench.folder.path().join("j.csv")).unwrap();
    let lines: Vec<&str> = csv.split("\r\n").collect();
    assert_eq!((lines.len(), lines[0].split(',').count()), (4, 25));
    assert!(lines[1].contains(",updated,0,read-back,confirmed,10640,10640,0,"), "{}", lines[1]);
    // A comma in a field puts it into quotes. Source: RFC 4180, section 2.
    assert!(lines[2].contains(",refused,3,"), "{}", lines[2]);
    let page = fs::read_to_string(bench.folder.path().join("j.html")).unwrap();
    assert_eq!(page.matches("<figure>").count(), 3);
    assert!(page.contains("G-00031") && page.contains("older than the unit's 1.3.0"));
    assert!(page.contains("&lt;b&gt;&amp;&quot;1.2.0.dfu") && !page.contains("<b>&"), "texts are escaped");
    let links = page.matches("http:").count() + page.matches("https:").count();
    let links = links - page.matches("http://www.w3.org/2000/svg").count();
    assert_eq!(links, 0, "nothing is loaded from elsewhere");
}

/// A line that was cut off in its middle spoils neither those before it nor
/// those that are written after it.
#[test]
fn a_torn_line_is_left_out_and_reported() {
    let bench = bench();
    update(&bench, "gannet-1.3.0.dfu", &["--unit", "1-2"]);
    let whole = fs::read(file(&bench)).unwrap();
    let mut journal = fs::OpenOptions::new().append(true).open(file(&bench)).unwrap();
    journal.write_all(&whole[..60]).unwrap();
    bench.run(&["journal"]).expect(0, &["1 line could not be read", "1 attempt"]);
    update(&bench, "gannet-1.3.0.dfu", &["--unit", "1-2"]);
    bench.run(&["journal"]).expect(0, &["1 line could not be read", "2 attempts, 2 of them successful"]);
    assert_eq!(fs::read(file(&bench)).unwrap()[..whole.len()], whole[..]);
}

/// Many processes at once: every record is whole.
#[test]
fn several_processes_write_to_it_at_once() {
    let bench = bench();
    let file = firmware("gannet-1.3.0.dfu");
    let start =
        |_| Running::start(bench.command().arg("update").arg(&file).args(["--unit", "port=9-9", "--wait", "0"]));
    let running: Vec<Running> = (0..12).map(start).collect();
    for update in running {
        update.end().expect(4, &["The selected unit (port 9-9) did not appear"]);
    }
    let ended = bench.run(&["journal"]);
    ended.expect(0, &["12 attempts, 0 of them successful"]);
    assert!(!ended.stderr.contains("could not be read"), "{}", ended.stderr);
}

/// A folder that cannot be written: told, and the update is as good as ever.
#[test]
fn an_update_does_not_depend_on_its_record() {
    let bench = bench();
    let mut command = bench.command();
    command.env("XDG_STATE_HOME", "/dev/null");
    let file = firmware("gannet-1.3.0.dfu");
    let ended = Running::start(command.arg("update").arg(&file).args(["--unit", "1-2"])).end();
    ended.expect(0, &["runs 1.3.0", "The journal cannot be written", "The journal cannot be written"]);
}

/// The program is killed at seeded moments of an update. The journal is whole,
/// the attempt is on record, and the next run ends well. More moments with
/// `VAKA_KILLS`.
#[test]
fn a_killed_program_leaves_a_whole_journal_and_a_unit_that_can_be_updated() {
    let kills: u64 = std::env::var("VAKA_KILLS").ok().and_then(|count| count.parse().ok()).unwrap_or(8);
    let bench = Bench::tern_r1();
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    let file = firmware("tern-r1-1.5.0.hex");
    let before = bench.memory("1-1");
    let mut random = Random(0x5EED_0005);
    for turn in 0..kills {
        for hand in
            [UserAction::Pull, UserAction::Hold("SET".into()), UserAction::Plug, UserAction::Release("SET".into())]
        {
            lock(&bench.world).act("1-1", &hand);
        }
        lock(&bench.world).unit("1-1").unwrap().flash_mut().erase(0x0A00_2400..0x0A00_7800);
        let update = || {
            bench
                .command()
                .arg("update")
                .arg(&file)
                .args(["--variant", "r1"])
                .stdin(std::process::Stdio::null())
                .spawn_quiet()
        };
        let mut child = update();
        std::thread::sleep(Duration::from_micros(random.below(700_000) as u64));
        child.kill().unwrap();
        child.wait().unwrap();
        for hand in
            [UserAction::Pull, UserAction::Hold("SET".into()), UserAction::Plug, UserAction::Release("SET".into())]
        {
            lock(&bench.world).act("1-1", &hand);
        }
        bench.run(&["update", file.to_str().unwrap(), "--variant", "r1"]).expect(0, &["1.5.0"]);
        let after = bench.memory("1-1");
        assert_eq!(after[0x2400..0x2400 + image.len()], image, "turn {turn}");
        assert_eq!(after[..0x2400], before[..0x2400], "turn {turn}");
        let ended = bench.run(&["journal"]);
        assert!(!ended.stderr.contains("could not be read"), "turn {turn}: {}", ended.stderr);
    }
    let good = records(&bench, &[]).iter().filter(|record| record["ended"]["result"]["code"] == 0).count();
    assert!(good >= usize::try_from(kills).unwrap());
}

/// Starts a command without reading its output.
trait SpawnQuiet {
    fn spawn_quiet(&mut self) -> std::process::Child;
}

impl SpawnQuiet for std::process::Command {
    fn spawn_quiet(&mut self) -> std::process::Child {
        self.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap()
    }
}

/// A unit whose bootloader reports no version is known by the journal: what the last confirmed
/// attempt left there counts as its version.
#[test]
fn the_journal_knows_the_version_of_a_unit_in_update_mode() {
    let bench = Bench::tern_r1();
    bench.update(&firmware("tern-r1-1.5.0.hex"), &["--variant", "r1"]).expect(0, &["confirmed"]);
    let page = bench.folder.path().join("journal.html");
    bench.run(&["journal", "--report", page.to_str().unwrap()]).expect(0, &[]);
    assert!(std::fs::read_to_string(&page).unwrap().contains("<td>1.5.0</td>"));
    for action in [UserAction::Hold("SET".into()), UserAction::Tap("RESET".into()), UserAction::Release("SET".into())] {
        assert!(lock(&bench.world).act("1-1", &action));
    }
    bench
        .update(&firmware("tern-r1-1.4.0.hex"), &["--variant", "r1"])
        .expect(3, &["older than the unit's 1.5.0", "--allow older-version"]);
}
