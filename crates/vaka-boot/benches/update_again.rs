//! How long the same update takes a second time, in real time.
//!
//! `cargo bench -p vaka-boot --bench update_again` updates a Tern r1 and a Gannet
//! simulated unit over USB/IP at the realistic flash times with an image that fills
//! their application region; then with one of whose bytes one per cent differs, in
//! one stretch; then with the same once more. Fails (exit status 1) if the second
//! takes more than 15 % of the first, or if the third erases or writes anything.
//!
//! A Gannet takes one stream, so all of it is sent; that its bootloader leaves
//! alone what is there already is the unit's doing.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::event::{Check, ExitCode, Report, RunOutcome};
use vaka_core::sheet::Sheet;
use vaka_image::ReadOptions;
use vaka_image::address::Address;
use vaka_sim::server::Server;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Unit, UserAction};
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::SystemClock;
use vaka_usb::usbip::UsbIpBus;

const RUNS: usize = 5;
const PORT: &str = "1-1";

/// A kind of unit, and how it is brought into update mode by hand.
struct Kind {
    name: &'static str,
    sheet: &'static str,
    label: &'static str,
    start: u64,
    region: usize,
    demo: &'static [u8],
    unit: fn() -> Box<dyn Unit>,
    hands: &'static [&'static str],
}

const KINDS: [Kind; 2] = [
    Kind {
        name: "Tern r1, DFU with addresses, 132 KiB",
        sheet: include_str!("../../../demo/sheets/tern.toml"),
        label: "r1",
        start: 0x0A00_2400,
        region: 132 * 1024,
        demo: include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin"),
        unit: || Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")),
        hands: &["hold SET", "tap RESET", "release SET"],
    },
    Kind {
        name: "Gannet, plain DFU, 106 KiB",
        sheet: include_str!("../../../demo/sheets/gannet.toml"),
        label: "g1",
        start: 0x5000,
        region: 106 * 1024,
        demo: include_bytes!("../../../demo/firmware/out/gannet-1.3.0.bin"),
        unit: || Box::new(Gannet::new("G-00031").in_boot_mode()),
        hands: &["hold BOOT", "pull", "plug", "release BOOT"],
    },
];

fn run(kind: &Kind, server: &Server, image: &[u8]) -> (Duration, Report) {
    let sheets = [Sheet::parse("sheet.toml", kind.sheet).unwrap()];
    let bus = UsbIpBus::new(&server.bus()).unwrap();
    let bench = Bench::new(vec![Arc::new(bus)], &sheets);
    let options = ReadOptions { at: Some(Address::new(kind.start)), ..ReadOptions::default() };
    let wait = Duration::from_secs(5);
    let mut request = Request { label: Some(kind.label.into()), wait, ..Request::new(image) };
    request.files[0].options = options;
    let stop = AtomicBool::new(false);
    let mut ignore = |_| {};
    let began = Instant::now();
    let report = update::run(&bench, &request, &mut Unattended, &mut Context::new(&SystemClock, &mut ignore, &stop));
    let time = began.elapsed();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack));
    (time, report)
}

/// A user puts the unit into update mode again.
fn boot(kind: &Kind, world: &SharedWorld) {
    for hand in kind.hands {
        lock(world).act(PORT, &hand.parse::<UserAction>().unwrap());
    }
    std::thread::sleep(Duration::from_millis(400));
}

/// Whether the kind keeps to the limits.
fn measure(kind: &Kind) -> bool {
    let region = kind.region;
    let mut first = kind.demo.to_vec();
    first.extend((first.len()..region).map(|at| u8::try_from(at % 251).unwrap()));
    let mut second = first.clone();
    // One per cent behind the demo's own image, whose CRC stays right.
    second[64 * 1024..64 * 1024 + region / 100].iter_mut().for_each(|byte| *byte ^= 0x5A);

    let (mut whole, mut part, mut none) = (Vec::new(), Vec::new(), Vec::new());
    let mut touched = 0;
    for _ in 0..RUNS {
        let mut world = World::new(Arc::new(SystemClock));
        world.plug(PORT, (kind.unit)(), Vec::new());
        let world = world.shared();
        let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).unwrap();
        let (time, report) = run(kind, &server, &first);
        assert_eq!(report.outcome, RunOutcome::Updated);
        whole.push(time.as_secs_f64());
        boot(kind, &world);
        part.push(run(kind, &server, &second).0.as_secs_f64());
        boot(kind, &world);
        let (time, report) = run(kind, &server, &second);
        assert_eq!(report.outcome, RunOutcome::Unchanged);
        none.push(time.as_secs_f64());
        touched += report.transfers.erase + report.transfers.write;
    }
    let least = |times: &[f64]| times.iter().copied().fold(f64::INFINITY, f64::min);
    let most = |times: &[f64]| times.iter().copied().fold(0.0, f64::max);
    let share = least(&part) / least(&whole);
    println!("{}: {RUNS} runs", kind.name);
    println!("  whole          least {:.3} s, most {:.3} s", least(&whole), most(&whole));
    println!(
        "  1 % differs    least {:.3} s, most {:.3} s: {:.1} % (limit 15 %)",
        least(&part),
        most(&part),
        share * 100.0
    );
    println!(
        "  nothing differs least {:.3} s, most {:.3} s; {touched} transfers to erase or write",
        least(&none),
        most(&none)
    );
    share <= 0.15 && touched == 0
}

fn main() {
    let good: Vec<bool> = KINDS.iter().map(measure).collect();
    std::process::exit(i32::from(good.contains(&false)));
}
