//! How much an update waits beyond what the unit asks for, in real time.
//!
//! `cargo bench -p vaka-boot --bench dfu_pace` updates simulated units over USB/IP at
//! the realistic flash times, with an image that fills the application region,
//! and replays the same transfers blindly: the recorded requests in their order,
//! with nothing between them but the waits that the unit promised in its
//! replies. Both run turn by turn in this one process; the least of each counts.
//! Fails (exit status 1) if the update takes more than 1.05 times the replay, or
//! if more than 2 % of it is waiting that the unit did not request.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::event::{Check, ExitCode};
use vaka_core::sheet::Sheet;
use vaka_image::ReadOptions;
use vaka_image::address::Address;
use vaka_sim::World;
use vaka_sim::server::Server;
use vaka_sim::unit::Unit;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_usb::usbip::UsbIpBus;
use vaka_usb::{Bus, BusError, Clock, DeviceInfo, Setup, SystemClock, TransferError, UsbDevice};

const RUNS: usize = 5;
const SOON: Duration = Duration::from_secs(5);

/// One recorded request: the setup packet, its data or the length asked for.
#[derive(Clone, Debug)]
enum Call {
    In(Setup, u16),
    Out(Setup, Vec<u8>),
    Claim(u8, u8),
    Reset,
}

type Tape = Arc<Mutex<Vec<Call>>>;

/// A bus that records what is done to the units opened on it.
struct Recording {
    bus: UsbIpBus,
    tape: Tape,
}

impl Bus for Recording {
    fn name(&self) -> &str {
        self.bus.name()
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        self.bus.list()
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let device = self.bus.open(port)?;
        Ok(Box::new(Recorded { device, tape: self.tape.clone() }))
    }

    fn resets_on_close(&self) -> bool {
        self.bus.resets_on_close()
    }
}

struct Recorded {
    device: Box<dyn UsbDevice>,
    tape: Tape,
}

impl UsbDevice for Recorded {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.tape.lock().unwrap().push(Call::In(setup, length));
        self.device.control_in(setup, length, timeout)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.tape.lock().unwrap().push(Call::Out(setup, data.to_vec()));
        self.device.control_out(setup, data, timeout)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        self.tape.lock().unwrap().push(Call::Claim(interface, alternate));
        self.device.claim(interface, alternate)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.tape.lock().unwrap().push(Call::Reset);
        self.device.reset()
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.device.wait_for_disconnect(within)
    }
}

/// A clock that adds up how long it was slept on.
#[derive(Default)]
struct Counted(AtomicU64);

impl Clock for Counted {
    fn now(&self) -> Duration {
        SystemClock.now()
    }

    fn sleep(&self, time: Duration) {
        let began = Instant::now();
        SystemClock.sleep(time);
        self.0.fetch_add(u64::try_from(began.elapsed().as_nanos()).unwrap(), Ordering::Relaxed);
    }
}

/// A product of the demo world, ready to be updated, with an image of the
/// largest size.
struct Subject {
    name: &'static str,
    sheet: &'static str,
    label: Option<&'static str>,
    image: Vec<u8>,
    start: u64,
    unit: fn() -> Box<dyn Unit>,
}

/// The demo's image, followed by bytes up to the end of its region.
fn filled(image: &[u8], len: usize) -> Vec<u8> {
    let mut all = image.to_vec();
    all.extend((image.len()..len).map(|at| u8::try_from(at % 251).unwrap()));
    all
}

fn subjects() -> [Subject; 2] {
    [
        Subject {
            name: "Tern r1, DFU with addresses, 132 KiB",
            sheet: include_str!("../../../demo/sheets/tern.toml"),
            label: Some("r1"),
            image: filled(include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin"), 132 * 1024),
            start: 0x0A00_2400,
            unit: || Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")),
        },
        Subject {
            name: "Gannet, plain DFU, 106 KiB",
            sheet: include_str!("../../../demo/sheets/gannet.toml"),
            label: None,
            image: filled(include_bytes!("../../../demo/firmware/out/gannet-1.3.0.bin"), 106 * 1024),
            start: 0x5000,
            unit: || Box::new(Gannet::new("G-00031").in_boot_mode()),
        },
    ]
}

fn served(subject: &Subject) -> (Server, UsbIpBus) {
    let mut world = World::new(Arc::new(SystemClock));
    world.plug("1-1", (subject.unit)(), Vec::new());
    let server = Server::start(world.shared(), ([127, 0, 0, 1], 0).into()).unwrap();
    let bus = UsbIpBus::new(&server.bus()).unwrap();
    (server, bus)
}

/// The whole update: its time, the time it slept, and what it did.
fn update(subject: &Subject) -> (Duration, Duration, Vec<Call>) {
    let (_server, bus) = served(subject);
    let tape = Tape::default();
    let sheets = [Sheet::parse("sheet.toml", subject.sheet).unwrap()];
    let bench = Bench::new(vec![Arc::new(Recording { bus, tape: tape.clone() })], &sheets);
    let options = ReadOptions { at: Some(Address::new(subject.start)), ..ReadOptions::default() };
    let label = subject.label.map(str::to_owned);
    let mut request = Request { label, wait: SOON, ..Request::new(&subject.image) };
    request.files[0].options = options;
    let clock = Counted::default();
    let stop = AtomicBool::new(false);
    let mut ignore = |_| {};
    let began = Instant::now();
    let report = update::run(&bench, &request, &mut Unattended, &mut Context::new(&clock, &mut ignore, &stop));
    let time = began.elapsed();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack));
    let slept = Duration::from_nanos(clock.0.load(Ordering::Relaxed));
    (time, slept, Arc::try_unwrap(tape).map_or_else(|tape| tape.lock().unwrap().clone(), |t| t.into_inner().unwrap()))
}

/// The same transfers blindly, with the promised waits before each status, until
/// the application is listed; the time, and the part that cannot be saved: the
/// promised waits, and the time for which the unit was away to restart.
fn replay(subject: &Subject, tape: &[Call]) -> (Duration, Duration) {
    const GET_STATUS: u8 = 3;
    let (_server, bus) = served(subject);
    let booted = bus.list().unwrap()[0].address;
    let began = Instant::now();
    let mut promised = Duration::ZERO;
    let mut device = bus.open("1-1").unwrap();
    let mut earliest = Instant::now();
    let mut asked = 0;
    for call in tape {
        match call {
            Call::In(setup, length) => {
                let is_status = (setup.kind, setup.request) == (0xA1, GET_STATUS);
                if is_status {
                    let wait = earliest.saturating_duration_since(Instant::now());
                    std::thread::sleep(wait);
                    promised += wait;
                }
                let Ok(reply) = device.control_in(*setup, *length, SOON) else { break };
                asked += 1;
                if is_status && reply.len() == 6 {
                    let poll = u32::from_le_bytes([reply[1], reply[2], reply[3], 0]);
                    earliest = Instant::now() + Duration::from_millis(u64::from(poll));
                }
            }
            Call::Out(setup, data) => {
                if device.control_out(*setup, data, SOON).is_err() {
                    break;
                }
            }
            Call::Claim(interface, alternate) => device.claim(*interface, *alternate).unwrap(),
            Call::Reset => device.reset().unwrap(),
        }
    }
    assert!(asked > 100, "the replay came to its end early");
    // The application is there when the list shows it; no look is spared.
    let left = Instant::now();
    while bus.list().unwrap().first().is_none_or(|device| device.address == booted) {
        std::thread::yield_now();
    }
    (began.elapsed(), promised + left.elapsed())
}

fn main() {
    let mut failed = false;
    for subject in subjects() {
        let (mut updates, mut replays, mut beyond) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..RUNS {
            let (time, slept, tape) = update(&subject);
            // Everything after the last transfer to the unit in update mode is
            // the application's: it is opened once more to be confirmed.
            let (blind, needed) = replay(&subject, &tape);
            beyond.push(slept.saturating_sub(needed).as_secs_f64() / time.as_secs_f64());
            updates.push(time.as_secs_f64());
            replays.push(blind.as_secs_f64());
        }
        let least = |times: &[f64]| times.iter().copied().fold(f64::INFINITY, f64::min);
        let most = |times: &[f64]| times.iter().copied().fold(0.0, f64::max);
        let ratio = least(&updates) / least(&replays);
        let share = least(&beyond);
        println!("{}: {RUNS} runs, turn by turn", subject.name);
        println!("  update  least {:.3} s, most {:.3} s", least(&updates), most(&updates));
        println!("  replay  least {:.3} s, most {:.3} s", least(&replays), most(&replays));
        println!("  ratio   {ratio:.3} (limit 1.05)");
        println!(
            "  waiting without a request      {:.2} % (limit 2 %), most {:.2} %",
            share * 100.0,
            most(&beyond) * 100.0
        );
        failed |= ratio > 1.05 || share > 0.02;
    }
    std::process::exit(i32::from(failed));
}
