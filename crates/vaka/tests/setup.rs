//! Files for the operating system, and sentences about the bus.

#![allow(clippy::unwrap_used)]

mod support;

use std::process::Command;

use support::{Bench, Running, program, root};
use vaka_sim::unit::UserAction;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;
use vaka_testkit::program;

fn hand(bench: &Bench, port: &str, hands: &[&str]) {
    for words in hands {
        lock(&bench.world).act(port, &words.parse::<UserAction>().unwrap());
    }
}

/// Each user action and its sentence.
#[test]
fn what_comes_and_goes_is_reported_as_sentences() {
    let bench = Bench::of(vec![
        (Box::new(Tern::new(Revision::R1, "T1-00217")), Vec::new()),
        (Box::new(Gannet::new("G-00031")), Vec::new()),
    ]);
    let mut watch = Running::start(bench.command().args(["survey", "--watch"]));
    watch.wait_for("1-2");
    watch.wait_for("Next: vaka update FILE --unit port=PORT");
    let table: [(&str, &[&str], &[&str]); 5] = [
        (
            "1-1",
            &["hold SET", "tap RESET", "release SET"],
            &[
                "1-1: Tern tide gauge disconnected.",
                "returned on the same port after",
                "in update mode (1209:0002): it entered update mode.",
            ],
        ),
        (
            "1-1",
            &["tap RESET"],
            &["1-1: Tern tide gauge disconnected.", "(1209:0001, version 1.4.0): it left update mode."],
        ),
        ("1-1", &["tap RESET"], &["(1209:0001, version 1.4.0): the application started again."]),
        ("1-2", &["pull"], &["1-2: Gannet hydrophone interface disconnected."]),
        (
            "1-2",
            &["hold BOOT", "plug"],
            &["1-2: Gannet hydrophone interface returned", "in update mode (1209:0004): it entered update mode."],
        ),
    ];
    for (port, hands, sentences) in table {
        hand(&bench, port, hands);
        let mut line = String::new();
        for sentence in sentences {
            // One line may hold several of them.
            if !line.contains(sentence) {
                line = watch.wait_for(sentence);
            }
        }
    }
    // Ctrl-C is its normal end.
    Command::new("kill").args(["-INT", &watch.id().to_string()]).status().unwrap();
    watch.end().expect(0, &[]);
}

#[test]
fn rules_name_the_units_of_the_sheets_and_no_others() {
    let bench = Bench::of(Vec::new());
    let ended = bench.run(&["setup", "rules"]);
    ended.expect(0, &["# Tern tide gauge, update mode; Tern tide gauge, after stage loader"]);
    let rules: Vec<&str> = ended.stdout.lines().filter(|line| line.starts_with("SUBSYSTEM")).collect();
    // Two for each product, and the Tern's loader, the Turnstone's adapter and chip boot mode, and the Dunlin's
    // programmer. The Fulmar, 000d and 000e, and the programmer, 0018, are spoken to on a serial port.
    let rights = "MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\"";
    let of = |subsystem: &str, attribute: &str, product: u32, grants: &str| {
        format!(
            "SUBSYSTEM==\"{subsystem}\", {attribute}{{idVendor}}==\"1209\", {attribute}{{idProduct}}==\"{product:04x}\", {grants}"
        )
    };
    let mut wanted = Vec::new();
    for product in (1..=0x13).chain(0x16..=0x18) {
        wanted.push(of("usb", "ATTR", product, rights));
        if matches!(product, 0x0D | 0x0E | 0x18) {
            wanted.push(of("tty", "ATTRS", product, rights));
            wanted.push(of("usb", "ATTR", product, "ENV{ID_MM_DEVICE_IGNORE}=\"1\""));
        }
    }
    assert_eq!(rules, wanted);
    let none = Running::start(program().args(["setup", "rules"])).end();
    none.expect(3, &["No product sheet was found, so there are no ids for a", "--sheets DIR"]);
    let file = bench.folder.path().join("70-vaka.rules");
    bench.run(&["setup", "rules", "--out", file.to_str().unwrap()]).expect(0, &["udevadm control --reload"]);
    bench.run(&["setup", "rules", "--out", file.to_str().unwrap()]).expect(3, &["already exists"]);
    // Newer systems check rules files by themselves.
    let can_verify = program::is_there("udevadm")
        && Command::new("udevadm").args(["verify", "--help"]).output().is_ok_and(|done| done.status.success());
    if can_verify {
        let done = Command::new("udevadm").arg("verify").arg(&file).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }
}

/// The schema that is printed has every event that is described.
#[test]
fn the_events_have_a_schema() {
    let bench = Bench::of(Vec::new());
    let schema = bench.run(&["setup", "events"]).stdout;
    let text = std::fs::read_to_string(root().join("docs/formats/events.md")).unwrap();
    let table = text.split("\n## ").next().unwrap();
    let rows = table.lines().filter_map(|line| line.strip_prefix("| `")?.split('`').next());
    for event in rows.filter(|event| *event != "event") {
        assert!(schema.contains(&format!("\"const\": \"{event}\"")), "{event}");
    }
}

#[test]
fn completions_and_manual_pages_are_of_all_commands() {
    let bench = Bench::of(Vec::new());
    for shell in ["bash", "zsh", "fish"] {
        bench.run(&["setup", "completions", shell]).expect(0, &["vaka", "COMPLETE"]);
    }
    let folder = bench.folder.path().join("man");
    bench.run(&["setup", "manual", folder.to_str().unwrap()]).expect(0, &["man -l"]);
    for page in ["vaka.1", "vaka-update.1", "vaka-sheet-check.1", "vaka-setup-rules.1"] {
        let text = std::fs::read_to_string(folder.join(page)).unwrap();
        assert!(text.contains(".TH") && text.contains("NAME"), "{page}");
    }
}

/// `vaka help` knows every topic that a message refers to, and every command.
#[test]
fn help_knows_its_topics_and_all_commands() {
    let bench = Bench::of(Vec::new());
    let list = bench.run(&["help"]).expect(0, &["Every day:", "Topics of 'vaka help TOPIC':"]).stdout.clone();
    assert_eq!(bench.run(&["--help"]).expect(0, &[]).stdout.trim(), list.trim());
    let rows = list.lines().filter_map(|line| line.strip_prefix("  ")?.split_whitespace().next());
    for name in rows {
        bench.run(&["help", name]).expect(0, &[]);
    }
    bench.run(&["help", "update"]).expect(0, &["Usage: vaka update", "--plan"]);
    bench.run(&["help", "sheet"]).expect(0, &["# Product sheet", "[[variant]]"]);
    bench.run(&["help", "nonsense"]).expect(2, &["no topic or command 'nonsense'"]);
    let mut count = 0;
    for file in std::fs::read_dir(root().join("crates/vaka/src/messages")).unwrap() {
        let text = std::fs::read_to_string(file.unwrap().path()).unwrap();
        for (at, _) in text.match_indices("'vaka help ") {
            let topic = text[at + 11..].split('\'').next().unwrap();
            bench.run(&["help", topic]).expect(0, &["# "]);
            count += 1;
        }
    }
    assert!(count > 3);
}

/// A command shows and accepts only the options that it uses, before and after its name.
#[test]
fn a_command_has_only_the_options_that_it_uses() {
    let bench = Bench::of(Vec::new());
    let help = bench.run(&["keys", "list", "--help"]);
    help.expect(0, &["--format", "Examples:", "Exit status:"]);
    let help = help.stdout;
    assert!(!help.contains("--unit") && !help.contains("--trace"), "{help}");
    bench.run(&["keys", "list", "--unit", "1-1"]).expect(2, &["unexpected argument '--unit'"]);
    bench.run(&["--unit", "1-1", "keys", "list"]).expect(2, &["'vaka keys list' has no option '--unit'"]);
    bench.run(&["--format", "json", "survey"]).expect(0, &[]);
    bench.run(&["update", "--help"]).expect(0, &["older-version", "VAKA_BUS", "130 stopped", "--plan"]);
    let folder = bench.folder.path().join("man");
    bench.run(&["setup", "manual", folder.to_str().unwrap()]).expect(0, &[]);
    let page = std::fs::read_to_string(folder.join("vaka-keys-list.1")).unwrap();
    assert!(page.contains("Exit status") && !page.contains("unit"), "{page}");
}

/// A shell gets the units on the bench, the variants of the sheets, consents, examples and topics.
#[test]
fn shells_complete_values() {
    let bench = Bench::of(vec![(Box::new(Gannet::new("G-1")), Vec::new())]);
    let cases: [(&[&str], &[&str]); 7] = [
        (&["update", "--unit", ""], &["port=1-1", "Gannet hydrophone interface"]),
        (&["update", "--variant", ""], &["r1", "pb2"]),
        (&["update", "--part", ""], &["interface"]),
        (&["line", "--allow", "older"], &["older-version"]),
        (&["demo", ""], &["petrel"]),
        (&["help", ""], &["exit-status"]),
        (&["keys", "list", "--"], &["--format"]),
    ];
    for (words, expected) in cases {
        let mut command = bench.command();
        command.env("COMPLETE", "fish").args(["--", "vaka"]).args(words);
        let ended = Running::start(&mut command).end();
        ended.expect(0, expected);
        assert!(!ended.stdout.contains("--unit") || words[0] != "keys", "{}", ended.stdout);
    }
}
