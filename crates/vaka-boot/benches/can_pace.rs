//! How much a transfer over CAN takes beyond the frames themselves, in real time.
//!
//! `cargo bench -p vaka-boot --bench can_pace` writes and reads the memory of a simulated node behind an
//! adapter over USB/IP, by its dialect (ISO-TP), and replays the same transfers blindly: the recorded frames in
//! their order, each read as soon as the adapter has it. Both run turn by turn in this one process; the median
//! of the pairs counts. Fails (exit status 1) if the dialect takes more than 1.1 times as long as the replay.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use vaka_boot::context::Context;
use vaka_boot::protocol::dialect::Interpreter;
use vaka_dialect::{Dialect, OperationName, Value, no_files};
use vaka_sim::World;
use vaka_sim::server::Server;
use vaka_sim::unit::can_adapter::CanAdapter;
use vaka_sim::unit::turnstone::{Chip, Turnstone};
use vaka_usb::usbip::UsbIpBus;
use vaka_usb::{Behind, Bus, EndpointInfo, NodeInfo, Setup, SystemClock, TransferError, UsbDevice};

const RUNS: usize = 9;
const CHUNKS: u32 = 64;
const CHUNK: u32 = 256;
const PAGE: u32 = 2048;
const MOST: f64 = 1.1;
const SOON: Duration = Duration::from_secs(5);
const DIALECT: &str = include_str!("../../../demo/sheets/turnstone.dialect.toml");
const ADAPTER: &str = "1-1";

/// A transfer that succeeded.
enum Call {
    In(Setup, u16),
    Out(Setup, Vec<u8>),
    Claim(u8, u8),
    Read(EndpointInfo, usize),
    Write(EndpointInfo, Vec<u8>),
    /// The time counts from here.
    Begin,
}

type Tape = Arc<Mutex<Vec<Call>>>;

/// An adapter whose transfers are recorded.
struct Recorded {
    device: Box<dyn UsbDevice>,
    tape: Tape,
}

impl Recorded {
    fn keep<T>(&self, done: &Result<T, TransferError>, call: impl FnOnce() -> Call) {
        if done.is_ok() {
            self.tape.lock().unwrap().push(call());
        }
    }
}

impl UsbDevice for Recorded {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let done = self.device.control_in(setup, length, timeout);
        self.keep(&done, || Call::In(setup, length));
        done
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let done = self.device.control_out(setup, data, timeout);
        self.keep(&done, || Call::Out(setup, data.to_vec()));
        done
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        let done = self.device.claim(interface, alternate);
        self.keep(&done, || Call::Claim(interface, alternate));
        done
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        let done = self.device.read_endpoint(pipe, length, timeout);
        self.keep(&done, || Call::Read(pipe, length));
        done
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let done = self.device.write_endpoint(pipe, data, timeout);
        self.keep(&done, || Call::Write(pipe, data.to_vec()));
        done
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.device.wait_for_disconnect(within)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.device.reset()
    }
}

/// The time of a transfer by the dialect, and what it did.
fn by_dialect(bus: &UsbIpBus) -> (Duration, Vec<Call>) {
    let dialect = Arc::new(Dialect::parse("turnstone", DIALECT, &no_files).unwrap());
    let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
    let mut cx = Context::new(&SystemClock, &mut quiet, &never);
    let tape = Tape::default();
    let device = Box::new(Recorded { device: bus.open(ADAPTER).unwrap(), tape: tape.clone() });
    let mut talk = Interpreter::open(device, dialect.clone(), None, &mut cx).unwrap();
    let id = "5a0017c2".to_owned();
    let (behind, kind) = (Behind::Adapter, "turnstone".to_owned());
    talk.at_node(&NodeInfo { behind, kind, id, told: Vec::new(), answers: 1 }, &mut cx).unwrap();
    let (names, start) = (dialect.given(), Chip::T1.application().start);
    let address = |at: u32| (names.address, Value::Int(i128::from(start + at)));
    for page in 0..CHUNKS * CHUNK / PAGE {
        talk.run(OperationName::Erase, vec![address(page * PAGE)], &mut cx).unwrap();
    }
    tape.lock().unwrap().push(Call::Begin);
    let began = Instant::now();
    for (operation, data) in [(OperationName::Write, Some(0xA5)), (OperationName::Read, None)] {
        for chunk in 0..CHUNKS {
            let mut given = vec![address(chunk * CHUNK), (names.length, Value::Int(i128::from(CHUNK)))];
            given.extend(data.map(|byte| (names.data, vec![byte; CHUNK as usize].into())));
            assert!(talk.run(operation, given, &mut cx).unwrap());
        }
    }
    let time = began.elapsed();
    drop(talk);
    (time, std::mem::take(&mut tape.lock().unwrap()))
}

/// The time of the same transfers, in their order, without a look at what is read.
fn blindly(bus: &UsbIpBus, tape: Vec<Call>) -> Duration {
    let mut device = bus.open(ADAPTER).unwrap();
    let mut began = Instant::now();
    let mut took = Duration::ZERO;
    for call in tape {
        match call {
            Call::In(setup, length) => drop(device.control_in(setup, length, SOON).unwrap()),
            Call::Out(setup, data) => device.control_out(setup, &data, SOON).unwrap(),
            Call::Claim(interface, alternate) => device.claim(interface, alternate).unwrap(),
            Call::Begin => began = Instant::now(),
            Call::Read(pipe, length) => {
                device.read_endpoint(pipe, length, SOON).unwrap();
                // The end of the session, which comes after the last frame, does not count.
                took = began.elapsed();
            }
            Call::Write(pipe, data) => device.write_endpoint(pipe, &data, SOON).unwrap(),
        }
    }
    took
}

fn main() {
    let mut world = World::new(Arc::new(SystemClock));
    world.plug(ADAPTER, Box::new(CanAdapter::new("quay", "CA-0007")), Vec::new());
    world.plug("north", Box::new(Turnstone::new(Chip::T1, "quay", 4, 0x5A00_17C2).in_boot_mode()), Vec::new());
    let server = Server::start(world.shared(), ([127, 0, 0, 1], 0).into()).unwrap();
    let bus = UsbIpBus::new(&server.bus()).unwrap();
    let mut pairs = Vec::new();
    for _ in 0..RUNS {
        let (dialect, tape) = by_dialect(&bus);
        let blind = blindly(&bus, tape);
        pairs.push((dialect.as_secs_f64() / blind.as_secs_f64(), dialect, blind));
    }
    pairs.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (ratio, dialect, blind) = pairs[RUNS / 2];
    println!(
        "ISO-TP at 500 kbit/s, {} bytes written and read: dialect {:.3} s, replay {:.3} s, ratio {ratio:.3} ({:.3} to {:.3}, limit {MOST})",
        CHUNKS * CHUNK,
        dialect.as_secs_f64(),
        blind.as_secs_f64(),
        pairs[0].0,
        pairs[RUNS - 1].0,
    );
    std::process::exit(i32::from(ratio > MOST));
}
