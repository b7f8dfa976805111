//! Units on the bench, obstacles, and the result when something is not as it should
//! be: by the built program.

#![allow(clippy::unwrap_used)]

mod support;

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use support::{Bench, Ended, Running, at_terminal, firmware, program, root};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::flash::Flash;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::stick::Stick;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::usb::{Answer, Bulk, Descriptors, Setup};
use vaka_sim::world::lock;
use vaka_testkit::program;

fn gannets(serials: &[&str]) -> Bench {
    let unit = |serial: &&str| (Box::new(Gannet::new(serial)) as Box<dyn Unit>, Vec::new());
    Bench::of(serials.iter().map(unit).collect())
}

fn interrupt(running: &Running) {
    Command::new("kill").args(["-INT", &running.id().to_string()]).status().unwrap();
}

fn is_updated(bench: &Bench, port: &str) -> bool {
    let image = std::fs::read(firmware("gannet-1.3.0.bin")).unwrap();
    let start = gannet::APPLICATION_REGION.start as usize;
    bench.memory(port)[start..start + image.len()] == image && bench.condition(port) == Condition::Application
}

#[test]
fn places_on_the_bench_have_names() {
    let bench = gannets(&["G-1", "G-2"]);
    std::fs::create_dir_all(bench.folder.path().join("vaka")).unwrap();
    let config = bench.file("vaka/config.toml", b"[places]\nleft = \"1-1\"\n\"rack 2\" = \"1-2\"\n");
    let command =
        |args: &[&str]| Running::start(bench.command().args(args).env("XDG_CONFIG_HOME", bench.folder.path())).end();
    command(&["survey", "-v"]).expect(0, &["1-1 left", "1-2 rack 2", "1-2, rack 2:"]);
    let file = firmware("gannet-1.3.0.dfu");
    let file = file.to_str().unwrap();
    command(&["update", file, "--unit", "port=rack 2", "--wait", "5s"]).expect(0, &["at 1-2 runs 1.3.0"]);
    assert!(is_updated(&bench, "1-2") && !is_updated(&bench, "1-1"));
    command(&["update", file, "--unit", "left", "--wait", "5s"]).expect(0, &["at 1-1 runs 1.3.0"]);
    command(&["line", file, "--count", "2", "--rewrite"]).expect(0, &["rack 2      Gannet", "2 units: 2 updated"]);
    std::fs::write(&config, "[places]\nleft = \"1-1\"\nright = \"1-1\"\n").unwrap();
    command(&["survey"]).expect(8, &["config.toml", "the port 1-1 has two names"]);
    // The command line takes precedence over the configuration.
    std::fs::write(&config, "bus = [\"usbip://127.0.0.1:9\"]\nsheets = \"nowhere\"\n").unwrap();
    command(&["survey"]).expect(0, &["Gannet hydrophone interface"]);
    let configured = |text: &str| {
        std::fs::write(&config, text).unwrap();
        let mut command = program();
        command.arg("survey").env("XDG_CONFIG_HOME", bench.folder.path());
        Running::start(&mut command).end()
    };
    let sheets = root().join("demo/sheets");
    configured(&format!("bus = [\"{}\"]\nsheets = {:?}\n", bench.bus(), sheets))
        .expect(0, &["2 units", "Gannet hydrophone interface"]);
}

/// Two devices of one board are one unit: by serial number, where there are several.
#[test]
fn what_a_unit_shows_beside_is_reported_with_it() {
    let sheet = std::fs::read_to_string(root().join("demo/sheets/gannet.toml")).unwrap();
    let companion = "stable_serial = true\ncompanions = [{ id = \"1209:0000\", name = \"recordings, a disk\" }]\n";
    let sheet = sheet.replacen("stable_serial = true\n", companion, 1);
    let gannet = |serial: &str| (Box::new(Gannet::new(serial)) as Box<dyn Unit>, Vec::new());
    let disk = |serial: &str| (Box::new(Stick::new(serial)) as Box<dyn Unit>, Vec::new());
    let cases = [
        (vec![gannet("G-1"), disk("X")], "1 unit on", &["1-1:", "companion recordings, a disk (1209:0000) at 1-2"][..]),
        (
            vec![gannet("G-1"), disk("G-2"), gannet("G-2")],
            "2 units on",
            &["1-3:", "companion recordings, a disk (1209:0000) at 1-2"],
        ),
        (
            vec![gannet("G-1"), disk("X"), gannet("G-2")],
            "3 units on",
            &["Gannet hydrophone interface: recordings, a disk"],
        ),
        (vec![disk("G-1")], "1 unit on", &["Gannet hydrophone interface: recordings, a disk"]),
    ];
    for (units, count, words) in cases {
        let bench = Bench::of(units);
        let path = bench.file("gannet.toml", sheet.as_bytes());
        let ended = Running::start(bench.command().args(["survey", "-v"]).env("VAKA_SHEETS", &path)).end();
        ended.expect(0, &[&[count], words].concat());
        if let ["1-3:", also] = words {
            let behind = ended.stdout.split("1-3:\n").nth(1).unwrap();
            assert!(behind.contains(&format!("  {also}")), "{}", ended.stdout);
        }
    }
}

/// Several units fit: both are listed with what tells them apart; at a terminal one is
/// chosen.
#[test]
fn of_several_units_one_is_chosen() {
    let bench = gannets(&["G-00031", "G-00032"]);
    let file = firmware("gannet-1.3.0.dfu");
    let update = ["update", file.to_str().unwrap(), "--wait", "5s"];
    let listed =
        "2 units fit: 1-1 (Gannet hydrophone interface, application mode, 1209:0003, serial number G-00031); 1-2 (";
    bench.run(&update).expect(3, &[listed, "serial number G-00032", "Choose one, for example with --unit port=1-1"]);
    if !program::is_there("script") {
        return;
    }
    let mut running = Running::start(&mut at_terminal(bench.command().args(update)));
    running.wait_for("  2  1-2 (Gannet");
    for answer in ["7", "two", "2"] {
        running.wait_for_prompt("Which one? Type its number");
        writeln!(running.stdin(), "{answer}").unwrap();
    }
    running.end().expect(0, &["Which one? Type its number", "at 1-2 runs 1.3.0"]);
    assert!(is_updated(&bench, "1-2") && !is_updated(&bench, "1-1"));
    let mut running = Running::start(&mut at_terminal(bench.command().args(update)));
    running.wait_for_prompt("Which one? Type its number");
    writeln!(running.stdin()).unwrap();
    running.end().expect(3, &["2 units fit"]);
    // Ctrl-C at the question, after the units were opened for their serial numbers.
    let mut running = Running::start(&mut at_terminal(bench.command().args(update)));
    running.wait_for_prompt("Which one? Type its number");
    running.stdin().write_all(b"\x03").unwrap();
    running.end().expect(130, &["Stopped at the question. No operation on a unit was in progress."]);
}

/// Ctrl-C at a question after the unit was opened says no more than was seen.
#[test]
fn a_question_about_an_open_unit_can_be_stopped() {
    if !program::is_there("script") {
        return;
    }
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let file = firmware("tern-r1-1.5.0.hex");
    let update = ["update", file.to_str().unwrap(), "--wait", "5s"];
    let mut running = Running::start(&mut at_terminal(bench.command().args(update)));
    running.wait_for_prompt("Type");
    running.stdin().write_all(b"\x03").unwrap();
    running.end().expect(130, &["Stopped at the question. No operation on a unit was in progress."]);
    assert!(bench.memory("1-1") == before);
}

/// A unit that is reported in update mode is in update mode, even if closing it resets it.
#[test]
fn a_unit_that_is_entered_stays_there() {
    let bench = gannets(&["G-1"]);
    let enter = bench.run(&["enter", "--wait", "5s"]);
    enter.expect(0, &["update mode entered; nothing was changed", "1-1 is in update mode; nothing was changed in it."]);
    assert_eq!(bench.condition("1-1"), Condition::Boot);
    bench.run(&["enter", "--wait", "5s"]).expect(0, &["1-1 is in update mode"]);
    assert_eq!(bench.condition("1-1"), Condition::Boot);
    bench.run(&["restart", "--wait", "5s"]).expect(0, &["Nothing was written", "returned at 1-1"]);
    assert_eq!(bench.condition("1-1"), Condition::Application);
}

/// A step that the bus cannot show ends with Enter; only then the next step is printed.
/// Without an operator, both are printed.
#[test]
fn a_step_that_the_bus_cannot_show_ends_with_enter() {
    if !program::is_there("script") {
        return;
    }
    let sheet = std::fs::read_to_string(root().join("demo/sheets/gannet.toml")).unwrap();
    let steps = "[[route.entry]]\ndo = \"Take the battery out.\"\n\n[[route.entry]]\n\
                 do = \"Hold BOOT, pull the cable, plug it in.\"\nsee = \"The lamp stays dark.\"";
    let sheet = sheet.replacen("[[route.entry]]\nsignal = \"dfu-detach\"", steps, 1);
    let file = firmware("gannet-1.3.0.dfu");
    for is_there in [true, false] {
        let bench = gannets(&["G-1"]);
        let path = bench.file("gannet.toml", sheet.as_bytes());
        let mut command = bench.command();
        command.arg("update").arg(&file).args(["--wait", "20s"]).env("VAKA_SHEETS", &path);
        let mut running = match is_there {
            true => Running::start(&mut at_terminal(&command)),
            false => Running::start(command.arg("--unattended")),
        };
        running.wait_for("Manual step 1 of 2: Take the battery out.");
        if is_there {
            running.wait_for("Waiting for Enter, or for the next bus event");
            assert!(!running.has_said("Manual step 2 of 2"), "the second step is shown before the first is done");
            writeln!(running.stdin()).unwrap();
        }
        running.wait_for("Manual step 2 of 2: Hold BOOT");
        running.wait_for("Waiting for Gannet hydrophone interface to appear in update mode");
        for hand in
            [UserAction::Hold("BOOT".into()), UserAction::Pull, UserAction::Plug, UserAction::Release("BOOT".into())]
        {
            lock(&bench.world).act("1-1", &hand);
        }
        running.end().expect(0, &["at 1-1 runs 1.3.0"]);
        assert!(is_updated(&bench, "1-1"));
    }
}

/// A server that does to each connection what the function says.
fn server(play: impl Fn(TcpStream) + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let bus = format!("usbip://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || listener.incoming().map_while(Result::ok).for_each(&play));
    bus
}

/// Each server that does not behave gets its own sentence, cure and exit status, in time.
#[test]
fn every_bad_server_gets_its_own_sentence() {
    let answering = |bytes: &'static [u8]| {
        server(move |mut stream| {
            let mut request = [0; 8];
            if stream.read_exact(&mut request).is_ok() {
                let _ = stream.write_all(bytes);
            }
        })
    };
    let refused = {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        format!("usbip://{}", listener.local_addr().unwrap())
    };
    let silent = server(std::mem::forget);
    let is_running = "Check that a USB/IP server is running there on that";
    let cases: [(&str, String, &str, &str); 7] = [
        ("is an external step, which needs an operator to do it", refused, "Connection refused", is_running),
        ("it never answers", silent, "it accepts the connection, but does not reply", is_running),
        (
            "another version",
            answering(&[1, 0x06, 0, 5, 0, 0, 0, 0, 0, 0, 0, 0]),
            "its version is 0106",
            "(version 1.1.1)",
        ),
        (
            "no server of this kind",
            answering(b"HTTP/1.1 400 Bad Request\r\n\r\n"),
            "its version is 4854",
            "(version 1.1.1)",
        ),
        (
            "The unit rejects reading",
            answering(&[1, 0x11, 0, 5, 0, 0, 0, 1]),
            "it rejected the list request with status 1",
            "(version 1.1.1)",
        ),
        ("it claims too much", answering(&[1, 0x11, 0, 5, 0, 0, 0, 0, 0xFF, 0, 0, 0]), "it states", "(version 1.1.1)"),
        (
            "it stops in the middle",
            answering(&[1, 0x11, 0, 5, 0, 0, 0, 0, 0, 0, 0, 2, 7]),
            "closed the connection in the middle",
            "(version 1.1.1)",
        ),
    ];
    for (kind, bus, words, remedy) in cases {
        for args in [&["survey"][..], &["diagnose"]] {
            let began = Instant::now();
            let mut command = program();
            command.args(args).env("VAKA_BUS", &bus).env("VAKA_SHEETS", root().join("demo/sheets"));
            let ended = Running::start(command.env("XDG_STATE_HOME", std::env::temp_dir())).end();
            assert!(began.elapsed() < Duration::from_secs(20), "{kind}");
            ended.expect(9, &[words, remedy]);
        }
    }
}

/// Forwards this number of bytes to a server, and then nothing more.
fn tap(bus: &str, most: usize) -> String {
    let to = bus.strip_prefix("usbip://").unwrap().to_owned();
    let passed = Arc::new(AtomicUsize::new(0));
    server(move |client| {
        let Ok(server) = TcpStream::connect(&to) else { return };
        for (mut from, mut to) in [(client.try_clone().unwrap(), server.try_clone().unwrap()), (server, client)] {
            let passed = passed.clone();
            std::thread::spawn(move || pass_on(&mut from, &mut to, &passed, most));
        }
    })
}

/// Passes bytes on. Once too many have passed both ends stay open, and nothing comes any more.
fn pass_on(from: &mut TcpStream, to: &mut TcpStream, passed: &AtomicUsize, most: usize) {
    let mut bytes = [0; 4096];
    while let Ok(count @ 1..) = from.read(&mut bytes) {
        if passed.fetch_add(count, Ordering::SeqCst) > most {
            loop {
                std::thread::park();
            }
        }
        if to.write_all(&bytes[..count]).is_err() {
            break;
        }
    }
    let _ = to.shutdown(std::net::Shutdown::Both);
}

/// However far it got: it ends by its deadlines, says so, and what it says of the unit is
/// true.
#[test]
fn a_server_that_stops_answering_is_left_in_time() {
    for most in [2_000, 20_000, 40_000] {
        let bench = Bench::tern_r1();
        let before = bench.memory("1-1");
        let began = Instant::now();
        let mut command = bench.command();
        command.env("VAKA_BUS", tap(&bench.bus(), most));
        command.arg("update").arg(firmware("tern-r1-1.5.0.hex")).args(["--variant", "r1", "--wait", "2s"]);
        let ended = Running::start(&mut command).end();
        assert!(began.elapsed() < Duration::from_secs(45), "{most}");
        let all = format!("{}{}", ended.stdout, ended.stderr);
        assert!(matches!(ended.code, 5 | 9), "{most}: {all}");
        assert!(
            all.contains("the USB/IP server stopped replying") || all.contains("does not reply in its dialect"),
            "{most}: {all}"
        );
        if ended.code == 9 {
            assert!(bench.memory("1-1") == before, "{most}: {all}");
        }
    }
}

/// A Gannet whose descriptors or strings are not as they should be.
struct Odd {
    unit: Gannet,
    answer: Answering,
}

impl Unit for Odd {
    fn advance(&mut self, now: Duration) {
        self.unit.advance(now);
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.unit.descriptors()
    }

    fn standard(&mut self, now: Duration, setup: Setup) -> Option<Answer> {
        (self.answer)(setup).or_else(|| self.unit.standard(now, setup))
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        self.unit.control(now, setup, data)
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        self.unit.bulk(now, transfer)
    }

    fn bus_reset(&mut self, now: Duration) {
        self.unit.bus_reset(now);
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        self.unit.act(now, action);
    }

    fn flash(&self) -> &Flash {
        self.unit.flash()
    }

    fn flash_mut(&mut self) -> &mut Flash {
        self.unit.flash_mut()
    }

    fn condition(&self) -> Condition {
        self.unit.condition()
    }

    fn revive(&mut self, now: Duration) {
        self.unit.revive(now);
    }
}

/// A wrong reply of a unit; none if it replies correctly.
type Answering = fn(Setup) -> Option<Answer>;

/// GET_DESCRIPTOR of a kind. Source: USB 2.0, table 9-5.
fn asks_for(setup: Setup, kind: u16) -> bool {
    (setup.kind, setup.request, setup.value >> 8) == (0x80, 6, kind)
}

#[test]
fn a_unit_with_broken_descriptors_is_reported_and_left_alone() {
    /// A configuration that says 40 bytes and one interface, and holds nothing more.
    fn hollow(setup: Setup) -> Option<Answer> {
        let bytes = [9, 2, 40, 0, 1, 1, 0, 0x80, 50, 0, 0, 0];
        asks_for(setup, 2).then(|| Answer::Data(bytes[..usize::from(setup.length).min(12)].to_vec()))
    }
    let unasked = "could not be identified";
    // (what it answers, what a survey says, how diagnose and update end)
    let cases: [(&str, Answering, &str, i32, i32); 4] = [
        ("no configuration", |setup| asks_for(setup, 2).then_some(Answer::Stall), unasked, 9, 5),
        ("no interface", hollow, "declares 1 interface, but describes 0", 0, 3),
        ("half a device", |setup| asks_for(setup, 1).then(|| Answer::Data(vec![18, 1, 0])), unasked, 9, 5),
        ("silence", |setup| asks_for(setup, 2).then_some(Answer::Silent), unasked, 9, 5),
    ];
    for (kind, answer, words, diagnosed, updated) in cases {
        let bench = Bench::of(vec![
            (Box::new(Odd { unit: Gannet::new("G-1"), answer }) as Box<dyn Unit>, Vec::new()),
            (Box::new(Gannet::new("G-2")), Vec::new()),
        ]);
        let before = bench.memory("1-1");
        bench.run(&["survey"]).expect(0, &[words, "G-2"]);
        bench.run(&["diagnose"]).expect(diagnosed, &[words]);
        let file = firmware("gannet-1.3.0.dfu");
        let ended = bench.run(&["update", file.to_str().unwrap(), "--unit", "port=1-1", "--wait", "1s"]);
        ended.expect(updated, &["unchanged"]);
        assert!(bench.memory("1-1") == before, "{kind}");
    }
}

#[test]
fn control_characters_of_a_unit_never_reach_the_terminal() {
    let bench = gannets(&["G\u{1b}[2J\u{7}\n1-9", "G-2"]);
    let file = firmware("gannet-1.3.0.dfu");
    let all = [
        bench.run(&["survey"]),
        bench.run(&["diagnose"]),
        bench.run(&["update", file.to_str().unwrap(), "--wait", "1s"]),
        bench.run(&["update", file.to_str().unwrap(), "--unit", "port=1-1", "--wait", "8s"]),
        bench.run(&["journal"]),
    ];
    for ended in &all {
        let text = format!("{}{}", ended.stdout, ended.stderr);
        assert!(!text.contains('\u{1b}') && !text.contains('\u{7}'), "{text:?}");
    }
    assert!(all[0].stdout.contains("[2J"), "it is shown, tamed: {}", all[0].stdout);
    assert_eq!(all[3].code, 0, "{}", all[3].stderr);
}

/// A hub resets: all units on it leave at once and come back, one of them in the middle of
/// its update.
#[test]
fn a_hub_that_resets_is_survived() {
    let bench = gannets(&["G-1", "G-2", "G-3"]);
    let file = firmware("gannet-1.3.0.dfu");
    let mut line =
        Running::start(bench.command().args(["line", file.to_str().unwrap(), "--count", "3", "--wait", "10s"]));
    line.wait_for("started");
    let mut world = lock(&bench.world);
    for port in ["1-1", "1-2", "1-3"] {
        world.act_later(port, Duration::from_millis(500), UserAction::Pull);
        world.act_later(port, Duration::from_millis(900), UserAction::Plug);
    }
    drop(world);
    line.end().expect(0, &["3 units: 3 updated"]);
    for port in ["1-1", "1-2", "1-3"] {
        assert!(is_updated(&bench, port), "{port}");
    }
}

#[test]
fn a_unit_that_another_process_works_with_is_named_so() {
    let bench = Bench::new(vec![(Tern::new(Revision::R1, "T1-00217"), Vec::new())]);
    let file = firmware("tern-r1-1.5.0.hex");
    let mut other = Running::start(bench.command().arg("update").arg(&file).args(["--variant", "r1"]));
    other.wait_for("Manual step 1 of 1");
    let found = bench.run(&["diagnose", "--format", "json"]);
    let lock = found.events().into_iter().find(|event| event["topic"] == "lock").unwrap();
    assert_eq!((&lock["event"], &lock["severity"]), (&"finding".into(), &"note".into()));
    assert!(lock["message"].as_str().unwrap().contains("vaka update"), "{lock}");
    interrupt(&other);
    other.end().expect(130, &[]);
}

/// A machine has many devices. Those without a sheet are ignored, unless one is in DFU
/// mode: a user put it there.
#[test]
fn other_devices_are_ignored() {
    let empty = tempfile::tempdir().unwrap();
    let odd =
        |unit| Box::new(Odd { unit, answer: |setup| asks_for(setup, 2).then_some(Answer::Stall) }) as Box<dyn Unit>;
    let cases = [
        ("an application", odd(Gannet::new("G-1")), "its application has a DFU interface, by which it may"),
        ("a DFU mode", odd(Gannet::new("G-1").in_boot_mode()), "an update mode"),
        (
            "shows only a disk: a USB stick or an update mode; a",
            Box::new(Stick::new("X")),
            "shows only a disk: a USB stick or an update mode; a",
        ),
        ("has other fields", Box::new(Tern::new(Revision::R1, "T1-1")), "no product sheet"),
    ];
    for (what, unit, words) in cases {
        let bench = Bench::of(vec![(unit, Vec::new())]);
        let run = |args: &[&str]| {
            let mut command = bench.command();
            command.args(args).env_remove("VAKA_SHEETS").env("XDG_CONFIG_HOME", empty.path());
            Running::start(&mut command).end()
        };
        let survey = run(&["survey"]);
        survey.expect(0, &[words]);
        assert_eq!(survey.stdout.contains("1-1:\n"), what != "has other fields", "{what}: {}", survey.stdout);
        let found = run(&["diagnose"]);
        // In DFU mode it is not opened over USB/IP: closing it would end that.
        found.expect(0, &["No obstacles found"]);
        assert_eq!(
            found.stdout.contains("could not be identified"),
            what == "an application",
            "{what}: {}",
            found.stdout
        );
    }
}

/// A lead that carries no data: nothing can be asked, and a good one cures it.
#[test]
fn a_bad_lead_is_reported() {
    let bench = gannets(&["G-1"]);
    let lead = |words: &str| assert!(lock(&bench.world).act("1-1", &words.parse::<UserAction>().unwrap()));
    lead("cable bad");
    bench.run(&["survey"]).expect(0, &["obstacle: The unit at 1-1", "try another cable"]);
    bench.run(&["diagnose"]).expect(9, &["could not be identified"]);
    lead("cable good");
    bench.run(&["diagnose"]).expect(0, &["can be opened and identified"]);
}

/// A unit that reconnects repeatedly most likely has a bad cable.
#[test]
fn a_unit_that_drops_again_and_again_is_reported() {
    let bench = gannets(&["G-1", "G-2"]);
    let mut listening = Running::start(bench.command().args(["diagnose", "--listen", "4s"]));
    listening.wait_for("Move the cable a little if you suspect it");
    let mut world = lock(&bench.world);
    for at in [300, 800, 1300, 1800, 2300, 2800] {
        world.act_later("1-2", Duration::from_millis(at), UserAction::Pull);
        world.act_later("1-2", Duration::from_millis(at + 200), UserAction::Plug);
    }
    drop(world);
    listening.end().expect(9, &["1-2: the device reconnected", "Try another cable that works with a good unit; then"]);
}

/// A whole region, so that it takes some seconds.
fn long_file(bench: &Bench) -> std::path::PathBuf {
    let mut bytes = std::fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    bytes.resize(Tern::application_region(Revision::R1).len(), 0x5A);
    bench.file("long.bin", &bytes)
}

/// Ctrl-C ends everything within a second, at a safe point.
#[test]
fn ctrl_c_ends_every_command_in_time() {
    let tern = |boots: bool| {
        let unit = if boots { Tern::in_boot_mode(Revision::R1, "T1-1") } else { Tern::new(Revision::R1, "T1-1") };
        Bench::new(vec![(unit, Vec::new())])
    };
    let empty = || Bench::of(Vec::new());
    let talking = || Bench::of(vec![(Box::new(fulmar("F-00019")) as Box<dyn Unit>, Vec::new())]);
    type Case = (&'static str, fn(&Bench) -> Vec<String>, Bench, &'static str, i32);
    fn line(text: &str) -> Vec<String> {
        text.split(' ').map(str::to_owned).collect()
    }
    fn updating(bench: &Bench) -> Vec<String> {
        let file = long_file(bench).display().to_string();
        line(&format!("update {file} --at 0x0A002400 --variant r1 --rewrite -v"))
    }
    let cases: Vec<Case> = vec![
        ("watching", |_| line("survey --watch"), empty(), "0 units", 0),
        ("waiting for a unit", updating, empty(), "Waiting for", 130),
        ("waiting for hands", updating, tern(false), "Manual step 1 of 1", 130),
        ("erasing", updating, tern(true), "  erase", 130),
        ("writing", updating, tern(true), "  write", 130),
        ("entering", |_| line("enter --variant r1"), tern(false), "Manual step 1 of 1", 130),
        ("restarting a unit that is not there", |_| line("restart"), empty(), "Waiting for", 130),
        (
            "a line with nothing on it",
            |bench| line(&format!("line {} --at 0x0A002400", long_file(bench).display())),
            empty(),
            "Ready: connect units",
            4,
        ),
        ("a console", |_| line("console"), talking(), "listening to the unit", 0),
        (
            "listening to the bench",
            |_| line("diagnose --listen 60s"),
            empty(),
            "Move the cable a little if you suspect it",
            0,
        ),
        ("serving simulated units", |_| line("simulate"), empty(), "Simulated units at", 0),
    ];
    for (name, args, bench, ready, code) in cases {
        let args = args(&bench);
        let changes = matches!(name, "erasing" | "writing");
        let before = changes.then(|| bench.memory("1-1"));
        let mut running = Running::start(bench.command().args(&args));
        running.wait_for(ready);
        // The line is printed before the unit is asked to change anything.
        let deadline = Instant::now() + Duration::from_secs(10);
        while before.as_ref().is_some_and(|before| bench.memory("1-1") == *before) {
            assert!(Instant::now() < deadline, "{name}: the unit is unchanged");
            std::thread::sleep(Duration::from_millis(2));
        }
        interrupt(&running);
        let began = Instant::now();
        let ended: Ended = running.end();
        let took = began.elapsed();
        assert!(took < Duration::from_millis(1500), "{name}: {took:?}\n{}\n{}", ended.stdout, ended.stderr);
        ended.expect(code, &[]);
        if changes {
            ended.expect(130, &["Stopped as requested", "Not touched: bootloader and settings"]);
        }
    }
}

/// Where the first Ctrl-C has to wait, it says so, and a second one ends at once.
#[test]
fn a_second_ctrl_c_ends_at_once() {
    let fault = Fault { at: 30, kind: FaultKind::Timeout };
    let bench = Bench::faulty_r1(vec![fault]);
    let file = firmware("tern-r1-1.5.0.hex");
    let mut running =
        Running::start(bench.command().arg("update").arg(&file).args(["--variant", "r1", "--rewrite", "-v"]));
    running.wait_for("  erase");
    // It waits for an answer that never comes.
    let deadline = Instant::now() + Duration::from_secs(10);
    while lock(&bench.world).transfers("1-1") < 30 {
        assert!(Instant::now() < deadline);
        std::thread::sleep(Duration::from_millis(5));
    }
    interrupt(&running);
    running.wait_for("Stopping at the next safe point. Press Ctrl-C again to stop at once.");
    interrupt(&running);
    let began = Instant::now();
    running.end().expect(130, &["Stopped at once", "in update mode unless it was restarting"]);
    assert!(began.elapsed() < Duration::from_secs(1));
}
