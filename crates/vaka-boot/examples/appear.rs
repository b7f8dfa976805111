//! How soon a unit is spoken to that shows up on this machine's own bus, for the kernel
//! test: `appear SHEET FIRMWARE LABEL VID:PID RUNS`.
//!
//! Waits RUNS times for a unit with the ids and updates it. Another process plugs it in
//! each time. Prints the time from its entry in the system's list, which is looked at every
//! millisecond, to the first transfer. Ends with status 1 if the median is not under 200 ms.

#![allow(clippy::unwrap_used, clippy::print_stdout)] // a program for one purpose

#[path = "../benches/noting/mod.rs"]
mod noting;

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use noting::{First, Noting};
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::selector::Selector;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::sheet::Sheet;
use vaka_core::unit::UsbId;
use vaka_usb::SystemClock;
use vaka_usb::native::NativeBus;

const LIMIT: Duration = Duration::from_millis(200);

/// Whether the system lists a device with these ids.
fn is_listed(id: UsbId) -> bool {
    let entries = std::fs::read_dir("/sys/bus/usb/devices").into_iter().flatten().flatten();
    let read = |folder: &Path, name: &str| {
        std::fs::read_to_string(folder.join(name)).ok().and_then(|text| u16::from_str_radix(text.trim(), 16).ok())
    };
    entries
        .map(|entry| entry.path())
        .any(|folder| read(&folder, "idVendor") == Some(id.vendor) && read(&folder, "idProduct") == Some(id.product))
}

fn once(sheet: &Sheet, file: &[u8], label: &str, id: UsbId) -> Duration {
    let (first, stop) = (First::default(), AtomicBool::new(false));
    let bus = Arc::new(Noting(NativeBus::new(), first.clone()));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let sheets = [sheet.clone()];
            let bench = Bench::new(vec![bus], &sheets);
            let unit = Some(Selector::Id(id.into()));
            let label = Some(label.to_owned());
            let request = Request { unit, label, wait: Duration::from_secs(60), ..Request::new(file) };
            update::run(&bench, &request, &mut Unattended, &mut Context::new(&SystemClock, &mut |_| {}, &stop));
        });
        println!("waiting");
        while !is_listed(id) {
            std::thread::sleep(Duration::from_millis(1));
        }
        let appeared = Instant::now();
        loop {
            if let Some(at) = *first.lock().unwrap() {
                break at.saturating_duration_since(appeared);
            }
            assert!(appeared.elapsed() < Duration::from_secs(30), "it was never spoken to");
            std::thread::sleep(Duration::from_micros(500));
        }
    })
}

fn main() {
    let args: Vec<String> = std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let [sheet, file, label, id, runs] = &args[..] else { panic!("SHEET FIRMWARE LABEL VID:PID RUNS") };
    let sheet = Sheet::parse(sheet, &std::fs::read_to_string(sheet).unwrap()).unwrap();
    let file = std::fs::read(file).unwrap();
    let id = id.parse::<UsbId>().unwrap();
    let mut times: Vec<Duration> =
        (0..runs.parse::<usize>().unwrap()).map(|_| once(&sheet, &file, label, id)).collect();
    times.sort();
    let ms = |at: usize| times[at].as_secs_f64() * 1000.0;
    println!(
        "from appearance to first transfer on the kernel, {runs} runs: median {:.1} ms, {:.1} to {:.1} ms (limit {} ms)",
        ms(times.len() / 2),
        ms(0),
        ms(times.len() - 1),
        LIMIT.as_millis()
    );
    if times[times.len() / 2] >= LIMIT {
        std::process::exit(1);
    }
}
