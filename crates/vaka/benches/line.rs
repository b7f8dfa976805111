//! How much longer it takes to update many units at once than one.
//!
//! `cargo bench -p vaka --bench line` runs the built program: `vaka line` for one simulated unit,
//! for 64 and for 256 on four servers, all at the realistic flash times, with an image that fills
//! the application region. One of the many loses its cable on the way and does not come back.
//! The servers run in this process, on the same cores. Fails (exit status 1) if the 64 take
//! more than 1.3 times as long as the one, if the program uses more than 128 MiB with 256, if one is
//! not updated that should be, or if the survey of the 64 takes more than 0.3 s. Each
//! is run three times, turn by turn; the medians count. The ratio of the 256 has no limit: every transfer
//! of every unit is a message each way between two processes, and two cores have no time for more.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::server::Server;
use vaka_sim::unit::Condition;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::SystemClock;

const RUNS: usize = 3;
const SERVERS: usize = 4;
const UNITS: usize = 64;
const MOST_UNITS: usize = 256;
const MOST_RATIO: f64 = 1.3;
const MOST_KIB: u64 = 128 * 1024;
const MOST_SURVEY: Duration = Duration::from_millis(300);
/// The one that fails, on the first server.
const FAILS: &str = "1-7";

/// Servers with this number of units in update mode, spread over them.
fn benches(servers: usize, units: usize) -> Vec<(SharedWorld, Server)> {
    let mut worlds: Vec<World> = (0..servers).map(|_| World::new(Arc::new(SystemClock))).collect();
    for number in 0..units {
        let (at, port) = (number % servers, format!("1-{}", number / servers + 1));
        let fails = units > 1 && at == 0 && port == FAILS;
        let faults = if fails { vec![Fault { at: 200, kind: FaultKind::Pull(None) }] } else { Vec::new() };
        let unit = Tern::in_boot_mode(Revision::R1, &format!("T1-{number:05}"));
        worlds[at].plug(&port, Box::new(unit), faults);
    }
    let serve = |world: World| {
        let world = world.shared();
        let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).unwrap();
        (world, server)
    };
    worlds.into_iter().map(serve).collect()
}

/// The demo's image, followed by bytes up to the end of its region, as a raw binary.
fn image(folder: &Path) -> (std::path::PathBuf, Vec<u8>) {
    let mut bytes = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin").to_vec();
    let len = Tern::application_region(Revision::R1).len();
    bytes.extend((bytes.len()..len).map(|at| u8::try_from(at % 251).unwrap()));
    let path = folder.join("tern-full.bin");
    std::fs::write(&path, &bytes).unwrap();
    (path, bytes)
}

fn program(buses: &[(SharedWorld, Server)], folder: &Path) -> Command {
    let names: Vec<String> = buses.iter().map(|(_, server)| server.bus()).collect();
    let mut command = Command::new(env!("CARGO_BIN_EXE_vaka"));
    command
        .env("VAKA_BUS", names.join(","))
        .env("VAKA_SHEETS", concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/sheets"));
    command.env("XDG_STATE_HOME", folder).env("XDG_RUNTIME_DIR", folder).env("XDG_CONFIG_HOME", folder);
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    command
}

/// The most memory that a process used so far, in KiB. Source: proc(5), `VmHWM`.
fn peak(process: u32) -> Option<u64> {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).ok()?;
    status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?.trim().trim_end_matches(" kB").parse().ok()
}

/// Updates all units; how long that took, and the peak of memory.
fn line(buses: &[(SharedWorld, Server)], units: usize, file: &Path, folder: &Path) -> (Duration, u64) {
    let began = Instant::now();
    let mut command = program(buses, folder);
    command.arg("line").arg(file).args(["--at", "0x0A002400", "--variant", "r1", "--wait", "1s", "--rewrite"]);
    let mut child = command.args(["--count", &units.to_string()]).spawn().unwrap();
    let (process, mut most) = (child.id(), 0);
    let status = loop {
        most = peak(process).unwrap_or(0).max(most);
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    let took = began.elapsed();
    let said = child.wait_with_output().unwrap();
    let expected = if units > 1 { 5 } else { 0 };
    assert_eq!(status.code(), Some(expected), "{}", String::from_utf8_lossy(&said.stdout));
    (took, most)
}

/// The result of all units: all but one contain the image and run it.
fn count_updated(many: &[(SharedWorld, Server)], bytes: &[u8]) -> usize {
    let start = Tern::application_region(Revision::R1).start;
    let mut updated = 0;
    for (index, (world, _)) in many.iter().enumerate() {
        let mut world = lock(world);
        for port in world.ports() {
            let unit = world.unit(&port).unwrap();
            let holds = unit.flash().read(start, bytes.len()) == Some(bytes);
            let fails = index == 0 && port == FAILS;
            assert_eq!(holds, !fails, "server {index}, {port}");
            assert!(fails || unit.condition() == Condition::Application, "server {index}, {port}");
            updated += usize::from(holds);
        }
    }
    updated
}

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let (file, bytes) = image(folder.path());
    let (mut ratios, mut most, mut surveys) = (Vec::new(), 0, Vec::new());
    for _ in 0..RUNS {
        let (alone, _) = line(&benches(1, 1), 1, &file, folder.path());
        let many = benches(SERVERS, UNITS);
        let began = Instant::now();
        assert!(program(&many, folder.path()).arg("survey").output().unwrap().status.success());
        surveys.push(began.elapsed());
        let (took, kib) = line(&many, UNITS, &file, folder.path());
        let ratio = took.as_secs_f64() / alone.as_secs_f64();
        let updated = count_updated(&many, &bytes);
        println!(
            "one unit {:.2} s; {UNITS} units on {SERVERS} servers {:.2} s, {updated} updated; ratio {ratio:.2}; peak {kib} KiB; survey {:.3} s",
            alone.as_secs_f64(),
            took.as_secs_f64(),
            surveys[surveys.len() - 1].as_secs_f64()
        );
        ratios.push(ratio);
        drop(many);
        let many = benches(SERVERS, MOST_UNITS);
        let (took, kib) = line(&many, MOST_UNITS, &file, folder.path());
        let (updated, ratio) = (count_updated(&many, &bytes), took.as_secs_f64() / alone.as_secs_f64());
        println!(
            "  {MOST_UNITS} units {:.2} s, {updated} updated; ratio {ratio:.2}; peak {kib} KiB",
            took.as_secs_f64()
        );
        most = most.max(kib);
    }
    ratios.sort_by(f64::total_cmp);
    surveys.sort();
    let (ratio, survey) = (ratios[RUNS / 2], surveys[RUNS / 2]);
    println!(
        "medians: ratio {ratio:.2} (limit {MOST_RATIO}), survey {:.3} s (limit {:.1} s); peak {most} KiB (limit {MOST_KIB})",
        survey.as_secs_f64(),
        MOST_SURVEY.as_secs_f64()
    );
    if ratio > MOST_RATIO || most > MOST_KIB || survey > MOST_SURVEY {
        println!("FAILED");
        std::process::exit(1);
    }
}
