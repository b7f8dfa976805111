//! Records and their failures: the journal, the trace, pending undo steps,
//! both serial numbers, and units that another process works on.

#![cfg(unix)]
#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::ffi::OsStr;
use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::ffi::OsStrExt;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use support::{Bench, Running, firmware, root};
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Unit, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::program;

/// A sheet of the Tern whose entry has steps that are held until they are undone.
fn held_steps(bench: &Bench) -> String {
    let sheet = std::fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let step = "do = \"Hold SET, tap RESET, then let go of SET.\"";
    let held = "do = \"Switch the mains off.\"\nundo = { do = \"Switch the mains on.\", after = [\"jumper\"] }\n\n[[route.entry]]\nid = \"jumper\"\ndo = \"Set jumper J3, hold SET, tap RESET.\"\nheld = true\nundo = { do = \"Set jumper J3 back.\" }";
    bench.file("held.toml", sheet.replacen(step, held, 1).as_bytes()).to_str().unwrap().to_owned()
}

fn running_tern() -> Bench {
    Bench::new(vec![(Tern::new(Revision::R1, "T1-00217"), Vec::new())])
}

fn interrupt(id: u32) {
    assert!(std::process::Command::new("kill").args(["-INT", &id.to_string()]).status().unwrap().success());
}

/// Every ending shows what is still to be undone, in order, and the journal lists it.
#[test]
fn pending_undo_steps_are_shown_at_every_ending() {
    let bench = running_tern();
    let sheet = held_steps(&bench);
    let file = firmware("tern-r1-1.5.0.hex");
    let args = ["--sheets", &sheet, "--variant", "r1", "--wait", "400ms"];
    let pending_undo = [
        "Pending undo actions on the unit at 1-1, in this order:",
        "1. Set jumper J3 back.",
        "2. Switch the mains on.",
    ];
    // A time-out.
    bench.run(&[&["update", file.to_str().unwrap()], &args[..]].concat()).expect(4, &pending_undo);
    bench.run(&["journal"]).expect(0, &["Pending undo actions on Tern tide gauge", "1. Set jumper J3 back."]);
    let ended = bench.run(&[&["update", file.to_str().unwrap(), "--format", "json"], &args[..]].concat());
    let result = ended.expect(4, &[]).result();
    assert_eq!(result["pending_undo"], serde_json::json!(["Set jumper J3 back.", "Switch the mains on."]));
    // Other commands that enter update mode.
    bench.run(&[&["enter"], &args[..]].concat()).expect(4, &pending_undo);
    // One Ctrl-C, and two.
    for count in [1, 2] {
        let mut running = Running::start(bench.command().arg("update").arg(&file).args([
            "--sheets",
            &sheet,
            "--variant",
            "r1",
            "--wait",
            "60s",
        ]));
        running.wait_for("Manual step 2 of 2");
        let id = running.id();
        interrupt(id);
        if count == 2 {
            // The second one may come after the program has ended by the first.
            let _ = std::process::Command::new("kill").args(["-INT", &id.to_string()]).output();
        }
        running.end().expect(130, &pending_undo);
    }
}

/// The application's serial number and the bootloader's are on record; either finds the unit,
/// and both are one unit.
#[test]
fn a_unit_is_found_by_either_of_its_serial_numbers() {
    let bench = running_tern();
    let file = firmware("tern-r1-1.5.0.hex");
    let mut running = Running::start(bench.command().arg("update").arg(&file).args(["--variant", "r1"]));
    running.wait_for("Manual step 1 of 1");
    for hand in ["hold SET", "tap RESET"] {
        lock(&bench.world).act("1-1", &hand.parse::<UserAction>().unwrap());
    }
    running.wait_for("update mode entered; nothing was changed");
    lock(&bench.world).act("1-1", &"release SET".parse::<UserAction>().unwrap());
    running.end().expect(0, &["runs 1.5.0"]);
    let all = bench.run(&["journal", "--format", "json"]).expect(0, &[]).events();
    let result = &all[0]["ended"]["result"];
    let boot = result["bootloader_serial"].as_str().unwrap().to_owned();
    assert_eq!((&result["serial"], boot.as_str() != "T1-00217"), (&"T1-00217".into(), true));
    for serial in ["T1-00217", &boot] {
        bench.run(&["journal", "--unit", &format!("serial={serial}")]).expect(0, &["1 attempt, 1 of them successful"]);
    }
    // Found in update mode, by the bootloader's number alone: the same unit.
    for hand in ["pull", "hold SET", "plug", "release SET"] {
        lock(&bench.world).act("1-1", &hand.parse::<UserAction>().unwrap());
    }
    bench.update(&firmware("tern-r1-1.4.0.hex"), &["--variant", "r1"]).expect(3, &["older than the unit's 1.5.0"]);
    bench.run(&["journal", "--csv", "j.csv", "--report", "j.html"]).expect(0, &[]);
    let page = std::fs::read_to_string(bench.folder.path().join("j.html")).unwrap();
    assert!(
        page.contains("<b>1</b>units</div>") && page.contains("<b class=\"bad\">1</b>units whose last attempt failed"),
        "{page}"
    );
    let csv = std::fs::read_to_string(bench.folder.path().join("j.csv")).unwrap();
    assert!(csv.contains(&format!(",T1-00217,{boot},")), "{csv}");
}

/// A line keeps no unit that it cannot record; an update says so before it begins.
#[test]
fn a_line_without_a_journal_does_not_begin() {
    let bench = Bench::of(vec![(Box::new(Gannet::new("G-00031")) as Box<dyn Unit>, Vec::new())]);
    let before = bench.memory("1-1");
    let file = firmware("gannet-1.3.0.dfu");
    let line = |state: &str| {
        Running::start(bench.command().env("XDG_STATE_HOME", state).arg("line").arg(&file).args(["--count", "1"])).end()
    };
    line("/dev/null").expect(9, &["The journal cannot be written", "No unit was touched"]);
    assert_eq!(bench.memory("1-1"), before);
}

/// A trace that cannot be written to its end: the update is as good as ever, the result says
/// what is missing, and the exit status is one of its own.
#[test]
#[cfg(target_os = "linux")]
fn a_trace_that_fails_in_the_middle_is_reported_in_the_result() {
    let bench = Bench::of(vec![(Box::new(Gannet::new("G-00031")) as Box<dyn Unit>, Vec::new())]);
    let file = firmware("gannet-1.3.0.dfu");
    // A file that may not grow beyond some kilobytes: writing to it fails from then on.
    let mut command = std::process::Command::new("sh");
    let vaka = bench.command();
    command.args(["-c", "ulimit -f 16; trap '' XFSZ; exec \"$0\" \"$@\""]).arg(vaka.get_program());
    command.arg("update").arg(&file).args(["--trace", "run.trace", "--format", "json"]);
    command.current_dir(bench.folder.path());
    vaka.get_envs().for_each(|(name, value)| _ = command.env(name, value.unwrap_or_default()));
    let result = Running::start(&mut command).end().expect(10, &["This run could not be recorded completely"]).result();
    assert!(result["record_failure"].as_str().unwrap().contains("the trace"), "{result}");
    assert_eq!((&result["outcome"], &result["code"]), (&"updated".into(), &10.into()));
}

/// A unit that another process works on is not opened by others, who say who has it.
#[test]
fn other_commands_leave_a_unit_at_work_alone() {
    let bench = running_tern();
    let file = firmware("tern-r1-1.5.0.hex");
    let mut running =
        Running::start(bench.command().arg("update").arg(&file).args(["--variant", "r1", "--wait", "60s"]));
    running.wait_for("Manual step 1 of 1");
    let opened = lock(&bench.world).opened("1-1");
    bench.run(&["survey"]).expect(0, &["Another program uses the unit at 1-1", "vaka update"]);
    bench.run(&["check", file.to_str().unwrap(), "--unit", "1-1"]).expect(9, &["Another program uses the unit at"]);
    bench
        .run(&["read", "out.bin", "--unit", "1-1", "--variant", "r1"])
        .expect(9, &["Another program uses the unit at"]);
    assert_eq!(lock(&bench.world).opened("1-1"), opened);
    interrupt(running.id());
    running.end().expect(130, &["The unit is unchanged."]);
}

/// Arguments that are not UTF-8 are refused or used; nothing panics.
#[test]
fn arguments_that_are_not_utf8_are_no_panic() {
    let bench = Bench::of(vec![(Box::new(Gannet::new("G-00031")) as Box<dyn Unit>, Vec::new())]);
    let odd = OsStr::from_bytes(b"f\xFF\xFEle.bin");
    let file = firmware("gannet-1.3.0.dfu");
    std::fs::copy(&file, bench.folder.path().join(odd)).unwrap();
    let commands: [&[&str]; 14] = [
        &["update"],
        &["check"],
        &["line", "--count", "1", "--for", "2s"],
        &["update", "--unit"],
        &["update", "--trace"],
        &["convert", "out.hex"],
        &["stamp", "out.bin"],
        &["read"],
        &["compare"],
        &["pack"],
        &["sheet", "check"],
        &["dialect", "check"],
        &["journal", "--csv"],
        &["survey", "--bus"],
    ];
    for words in commands {
        let mut command = bench.command();
        command.args(words).arg(odd);
        let ended = Running::start(&mut command).end();
        assert_ne!(ended.code, 101, "{words:?}: {}", ended.stderr);
        assert!(!ended.stderr.contains("panicked"), "{words:?}: {}", ended.stderr);
    }
}

/// A way to a server that can be cut.
struct Proxy {
    port: u16,
    passed: Arc<AtomicU64>,
    is_truncated: Arc<AtomicBool>,
}

impl Proxy {
    fn to(server: String) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (passed, is_truncated) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let (count, cut) = (passed.clone(), is_truncated.clone());
        std::thread::spawn(move || {
            for client in listener.incoming().map_while(Result::ok) {
                if cut.load(Ordering::SeqCst) {
                    continue;
                }
                let server = TcpStream::connect(&server).unwrap();
                let pairs = [(client.try_clone().unwrap(), server.try_clone().unwrap()), (server, client)];
                for (from, to) in pairs {
                    let (count, cut) = (count.clone(), cut.clone());
                    std::thread::spawn(move || pass(from, to, &count, &cut));
                }
            }
        });
        Self { port, passed, is_truncated }
    }
}

fn pass(mut from: TcpStream, mut to: TcpStream, count: &AtomicU64, cut: &AtomicBool) {
    from.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
    let mut buffer = [0; 4096];
    while !cut.load(Ordering::SeqCst) {
        match from.read(&mut buffer) {
            Ok(0) => break,
            Ok(len) if to.write_all(&buffer[..len]).is_ok() => _ = count.fetch_add(len as u64, Ordering::SeqCst),
            Err(error) if matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {}
            _ => break,
        }
    }
    let _ = from.shutdown(std::net::Shutdown::Both);
    let _ = to.shutdown(std::net::Shutdown::Both);
}

/// A lost connection to the server is told as that, and the update goes on once the server
/// answers again.
#[test]
fn a_lost_connection_is_reported_and_reconnected_to() {
    let bench = Bench::tern_r1();
    let server = bench.bus().strip_prefix("usbip://").unwrap().to_owned();
    let proxy = Proxy::to(server);
    let bus = format!("usbip://127.0.0.1:{}", proxy.port);
    let file = firmware("tern-r1-1.5.0.hex");
    // The button is held, so that the reset of the server's port leads to update mode again.
    lock(&bench.world).act("1-1", &"hold SET".parse::<UserAction>().unwrap());
    let mut running = Running::start(bench.command().env("VAKA_BUS", &bus).arg("update").arg(&file).args([
        "--variant",
        "r1",
        "--format",
        "json",
    ]));
    running.wait_for("\"step\":\"write\",\"region\"");
    proxy.is_truncated.store(true, Ordering::SeqCst);
    let line = running.wait_for("Waiting for the unit to return");
    assert!(line.contains("the connection to usbip://127.0.0.1"), "{line}");
    let deadline = Instant::now() + Duration::from_secs(10);
    while lock(&bench.world).opened("1-1") == 0 && Instant::now() < deadline {
        std::thread::yield_now();
    }
    proxy.is_truncated.store(false, Ordering::SeqCst);
    running.wait_for("\"step\":\"restart\"");
    lock(&bench.world).act("1-1", &"release SET".parse::<UserAction>().unwrap());
    let ended = running.end();
    let result = ended.expect(0, &[]).result();
    assert_eq!((&result["outcome"], &result["disconnects"]), (&"updated".into(), &1.into()));
    assert!(proxy.passed.load(Ordering::SeqCst) > 20_000);
}

/// A read is on record with the unit, its serial number, its version and the file, and in the file name if wanted. It is
/// neither an update nor the last state of the unit.
#[test]
fn a_read_is_recorded_with_unit_version_and_time() {
    let bench = Bench::tern_r1();
    let file = firmware("tern-r1-1.5.0.hex");
    bench.update(&file, &["--variant", "r1"]).expect(0, &[]);
    for hand in [UserAction::Hold("SET".into()), UserAction::Tap("RESET".into()), UserAction::Release("SET".into())] {
        assert!(lock(&bench.world).act("1-1", &hand));
    }
    let read = ["read", "kept.hex", "--region", "application", "--variant", "r1", "--dated", "--format", "json"];
    let written = bench.run(&read).expect(0, &[]).events().pop().unwrap();
    let name = written["file"].as_str().unwrap();
    assert!(name.starts_with("kept_") && name.contains("_1.5.0_2") && name.ends_with("Z.hex"), "{name}");
    let list = bench.run(&["journal", "--format", "json"]).events();
    let record = list.iter().find(|event| event["ended"]["result"]["outcome"] == "read").expect("a record of the read");
    let (started, ended) = (&record["started"], &record["ended"]);
    assert_eq!((&started["file"]["name"], &ended["version_before"]), (&name.into(), &"1.5.0".into()), "{record}");
    assert_eq!((&ended["result"]["variant"], &ended["result"]["unit"]), (&"r1".into(), &"1-1".into()), "{record}");
    assert!(ended["result"]["serial"].is_string() && ended["ids"][0] == "1209:0002", "{record}");
    // By the system's own program.
    if program::is_there("sha256sum") {
        let sum = Command::new("sha256sum").arg(bench.folder.path().join(name)).output().unwrap();
        assert!(String::from_utf8(sum.stdout).unwrap().starts_with(started["file"]["sha256"].as_str().unwrap()));
    }
    bench.run(&["journal"]).expect(0, &["read", "2 attempts, 2 of them successful"]);
    bench.run(&["journal", "--report", "all.html"]).expect(0, &[]);
    let page = fs::read_to_string(bench.folder.path().join("all.html")).unwrap();
    assert!(page.contains("<b>1</b>attempts"), "{page}");
}

/// A folder of images: the newest of an earlier day that fits, by the time in its name or of its last change.
#[test]
fn an_older_image_is_chosen_by_its_date() {
    let bench = Bench::tern_r1();
    let folder = bench.folder.path().join("images");
    fs::create_dir(&folder).unwrap();
    let put = |from: &str, name: &str, day: Option<&str>| {
        let path = folder.join(name);
        fs::copy(firmware(from), &path).unwrap();
        let time = |day: &str| day.parse::<jiff::Timestamp>().unwrap().into();
        fs::File::options()
            .write(true)
            .open(&path)
            .unwrap()
            .set_modified(time(day.unwrap_or("2026-11-20T12:00:00Z")))
            .unwrap();
    };
    put("tern-r1-1.4.0.hex", "r1_T1-1_1.4.0_20260210T120000Z.hex", None);
    put("tern-r2-1.5.0.hex", "r2.hex", Some("2026-02-20T12:00:00Z"));
    put("tern-r1-1.5.0.hex", "new.hex", Some("2026-03-05T12:00:00Z"));
    fs::write(folder.join("notes.txt"), "no image").unwrap();
    let update = |args: &[&str]| bench.run(&[&["update", "images", "--variant", "r1", "--plan"], args].concat());
    let words = ["r1_T1-1_1.4.0_20260210T120000Z.hex of 10 February 2026", "not used: r2.hex", "version 1.4.0"];
    update(&["--before", "2026-03-01"]).expect(0, &words[..2]);
    update(&["--before", "2026-04-01"]).expect(0, &["new.hex of 5 March 2026", "image fits r1"]);
    update(&["--before", "2026-01-01"]).expect(3, &["has no image from before 2026-01-01 that fits"]);
    update(&[]).expect(8, &["the folder has no release (*.vaka)"]);
    put("tern-r1-1.4.0.hex", "same.hex", Some("2026-03-05T12:00:00Z"));
    update(&["--before", "2026-04-01"]).expect(3, &["have the same time", "Give the file itself."]);
    // A line takes it, too.
    let line = ["line", "images", "--variant", "r1", "--before", "2026-03-01", "--plan", "--count", "1"];
    bench.run(&line).expect(0, &["1 unit: 1 planned"]);
}
