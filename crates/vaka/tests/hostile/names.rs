//! File names and texts of units that would steer a terminal, hide text or run in a spreadsheet.

use std::fs;

use super::bounded::{Expected, all, is_hidden, problem, program};
use crate::support::{Bench, firmware};

/// Characters of the names.
const HIDDEN: &str =
    "\x1b\x07\x7f\u{9b}\u{ad}\u{34f}\u{61c}\u{200b}\u{202e}\u{2066}\u{3164}\u{fe0f}\u{feff}\u{e0041}\u{e0100}";

/// Updates with a file of that name, and shows the file and the journal in every form.
fn shown_everywhere(name: &str) -> Option<String> {
    let bench = Bench::tern_r1();
    let folder = bench.folder.path();
    fs::copy(firmware("tern-r1-1.5.0.hex"), folder.join(name)).unwrap();
    let path = format!("./{name}");
    let bus = bench.bus();
    let update = ["update", &path, "--variant", "r1", "--wait", "5s", "--bus", &bus, "--trace", "trace.jsonl"];
    let lines: [&[&str]; 9] = [
        &update,
        &["check", &path],
        &["check", "--format", "json", &path],
        &["convert", &path, "out.bin"],
        &["convert", &path, &path],
        &["journal"],
        &["journal", "--format", "json"],
        &["journal", "--csv", "journal.csv"],
        &["journal", "--report", "journal.html"],
    ];
    for line in lines {
        let expected = Expected { codes: &[0, 3], words: &[] };
        if let Some(why) = problem(&mut program(folder, line), &expected) {
            return Some(format!("{line:?}: {why}"));
        }
    }
    for file in ["journal.csv", "journal.html", "trace.jsonl", "home/vaka/journal.jsonl", "home/vaka/seen"] {
        let text = fs::read_to_string(folder.join(file)).unwrap();
        if let Some(c) = text.chars().find(|c| is_hidden(*c) && *c != '\r') {
            return Some(format!("{file} has {}", c.escape_unicode()));
        }
    }
    let csv = fs::read_to_string(folder.join("journal.csv")).unwrap();
    let cells = csv.split([',', '\n']).map(|cell| cell.trim_matches('"'));
    let formula = cells.into_iter().find(|cell| cell.starts_with(['=', '+', '-', '@', '\t']));
    formula.map(|cell| format!("the cell '{cell}' begins like a formula"))
}

#[test]
fn no_name_steers_a_terminal_a_page_or_a_spreadsheet() {
    let mut names: Vec<String> = HIDDEN.chars().map(|c| format!("a{c}[2J;b.hex")).collect();
    names.extend(["a\nError: done.hex", "a\rb.hex", "\t=1.hex", "=1+1.hex", "+1.hex", "@x.hex"].map(str::to_owned));
    names.extend(["<script>alert(1)<.hex", "a\" onload=\"x.hex", "a'b`c$(d).hex", "-.hex"].map(str::to_owned));
    let cases: Vec<(String, String)> =
        names.into_iter().map(|name| (name.escape_unicode().to_string(), name)).collect();
    all(&cases, |name| shown_everywhere(name));
}
