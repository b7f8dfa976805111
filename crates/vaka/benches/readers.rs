//! How much longer a file in its most costly form takes than an ordinary one of the same size.
//!
//! `cargo bench -p vaka --bench readers` runs the built program: `vaka check` for firmware and
//! `vaka dialect check` for dialects, turn by turn with the ordinary file. Fails (exit status 1) if
//! the median of a costly file is more than twice that of the ordinary one. The firmware files have
//! 28 MB (Intel HEX) and a million blocks (UF2), the dialects 256 KiB. A word after `--` selects the
//! files whose name contains it, such as `hex`.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use vaka_testkit::files::{hex, uf2_block};

const RUNS: usize = 3;
const MOST_RATIO: f64 = 2.0;
/// Records of one byte that make 28 MB.
const RECORDS: u32 = 2_000_000;
const BLOCKS: u32 = 1_000_000;
const DIALECT_BYTES: usize = 255 << 10;

/// Makes the content of a file.
type Make = Box<dyn Fn() -> Vec<u8>>;

/// Files that are compared with the first one.
struct Group {
    command: &'static [&'static str],
    file: &'static str,
    files: Vec<(&'static str, Make)>,
}

fn records(step: u32) -> Vec<u8> {
    hex((0..RECORDS).map(|n| (n * step, &[7][..]))).into_bytes()
}

fn falling_records() -> Vec<u8> {
    hex((0..RECORDS).rev().map(|n| (n * 2, &[7][..]))).into_bytes()
}

/// 16 bytes in each record, 28 MB.
fn ordinary_records() -> Vec<u8> {
    hex((0..RECORDS / 3).map(|n| (n * 16, &[7; 16][..]))).into_bytes()
}

/// Blocks in the order that `place` gives their addresses.
fn blocks(place: impl Fn(u32) -> u32) -> Vec<u8> {
    (0..BLOCKS).flat_map(|n| uf2_block(place(n), n, BLOCKS)).collect()
}

/// A dialect that is filled up with this line; `{n}` in it is a running number.
fn dialect(start: &str, line: &str, end: &str) -> Vec<u8> {
    let mut text = format!("{}{start}", include_str!("../../../demo/sheets/fulmar.dialect.toml"));
    for n in 0.. {
        let line = line.replace("{n}", &n.to_string());
        if text.len() + line.len() + end.len() > DIALECT_BYTES {
            break;
        }
        text += &line;
    }
    (text + end).into_bytes()
}

fn groups() -> [Group; 3] {
    let hex: Vec<(_, Make)> = vec![
        ("16 bytes per record", Box::new(ordinary_records)),
        ("1 byte per record", Box::new(|| records(1))),
        ("2 million segments", Box::new(|| records(2))),
        ("2 million falling segments", Box::new(falling_records)),
    ];
    let uf2: Vec<(_, Make)> = vec![
        ("one segment", Box::new(|| blocks(|n| n * 256))),
        ("a million segments", Box::new(|| blocks(|n| n * 512))),
        ("a million falling segments", Box::new(|| blocks(|n| (BLOCKS - n) * 512))),
    ];
    let exchange = "\n[exchange.e{n}]\nsend = \"u8 = 1\"\n";
    let send = "\n[exchange.big]\nsend = \"";
    let dialects: Vec<(_, Make)> = vec![
        ("exchanges", Box::new(move || dialect("", exchange, ""))),
        ("one frame of many fields", Box::new(move || dialect(send, "u8 = 1, ", "u8 = 1\"\n"))),
        ("one sum", Box::new(move || dialect(&format!("{send}u8 = "), "1+", "1\"\n"))),
        ("escapes", Box::new(move || dialect(send, "\\u0031", "\"\n"))),
        ("wrong fields", Box::new(move || dialect(send, "zz = 1, ", "\"\n"))),
        ("wrong exchanges", Box::new(move || dialect("", "\n[exchange.e{n}]\nsend = \"zz = 1\"\n", ""))),
        ("unknown keys", Box::new(move || dialect("", "\nkey{n} = 1", "\n"))),
        ("comments", Box::new(move || dialect("", "# a comment\n", ""))),
    ];
    [
        Group { command: &["check"], file: "costly.hex", files: hex },
        Group { command: &["check"], file: "costly.uf2", files: uf2 },
        Group { command: &["dialect", "check"], file: "costly.dialect.toml", files: dialects },
    ]
}

/// Reads one file with the program; how long that took.
fn read(group: &Group, path: &Path, home: &Path) -> Duration {
    let mut command = Command::new(env!("CARGO_BIN_EXE_vaka"));
    command.env("VAKA_SHEETS", concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/sheets"));
    command.env("XDG_STATE_HOME", home).env("XDG_RUNTIME_DIR", home).env("XDG_CONFIG_HOME", home);
    let began = Instant::now();
    let ended = command.args(group.command).arg(path).output().unwrap();
    let took = began.elapsed();
    assert!(ended.status.code().is_some_and(|code| code != 101), "{}", String::from_utf8_lossy(&ended.stderr));
    took
}

/// The medians of all files of a group, in seconds.
fn medians(group: &Group, folder: &Path) -> Vec<f64> {
    let mut times = vec![Vec::new(); group.files.len()];
    let path = folder.join(group.file);
    for _ in 0..RUNS {
        for ((_, make), times) in group.files.iter().zip(&mut times) {
            std::fs::write(&path, make()).unwrap();
            times.push(read(group, &path, folder).as_secs_f64());
        }
    }
    std::fs::remove_file(&path).unwrap();
    times.iter_mut().for_each(|times| times.sort_by(f64::total_cmp));
    times.into_iter().map(|times| times[RUNS / 2]).collect()
}

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let mut is_slow = false;
    let wanted = std::env::args().skip(1).find(|arg| !arg.starts_with('-')).unwrap_or_default();
    for group in groups().into_iter().filter(|group| group.file.contains(&wanted)) {
        let medians = medians(&group, folder.path());
        for ((name, _), median) in group.files.iter().zip(&medians) {
            let ratio = median / medians[0];
            println!("{} {:<27} {median:7.3} s  ratio {ratio:.2} (limit {MOST_RATIO})", group.file, name);
            is_slow |= ratio > MOST_RATIO;
        }
    }
    if is_slow {
        println!("FAILED");
        std::process::exit(1);
    }
}
