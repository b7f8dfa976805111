//! The cost of the dialect engine compared with hand-written code, in real time.
//!
//! `cargo bench -p vaka-boot --bench dialect_pace` writes and reads chunks of simulated units
//! over USB/IP that answer at once, without any flash time: by a dialect, and by a few
//! lines of Rust that make and check the same frames. Both run turn by turn in this one
//! process; the median of the pairs counts, since who is woken when is chance; eight of
//! ten times lie in the spread that is told. Fails (exit status 1) if the engine takes more
//! than 1.1 times as long.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use vaka_boot::context::Context;
use vaka_boot::protocol::dialect::Interpreter;
use vaka_dialect::{Dialect, OperationName, Value, no_files};
use vaka_sim::flash::Flash;
use vaka_sim::server::Server;
use vaka_sim::unit::vendor_unit::{Factories, Loader, Plain, UnitSpec, VendorUnit, acm, hid};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};
use vaka_sim::{SharedWorld, World};
use vaka_usb::usbip::UsbIpBus;
use vaka_usb::{Bus, EndpointInfo, PipeKind, SystemClock, UsbDevice};

const RUNS: usize = 41;
const CHUNKS: u32 = 500;
const MOST: f64 = 1.1;
const SOON: Duration = Duration::from_secs(5);

const AUK: &str = include_str!("../../../demo/sheets/auk.dialect.toml");
const FULMAR: &str = include_str!("../../../demo/sheets/fulmar.dialect.toml");

const LINE: crc::Algorithm<u16> = crc::Algorithm {
    width: 16,
    poly: 0x1021,
    init: 0x5F0E,
    refin: false,
    refout: false,
    xorout: 0,
    check: 0,
    residue: 0,
};
static LINE_CRC: crc::Crc<u16> = crc::Crc::<u16>::new(&LINE);

/// Takes Auk's reports at once.
#[derive(Debug, Default)]
struct Reports(Option<Vec<u8>>);

fn xor(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0x6B, |sum, byte| sum ^ byte)
}

impl Loader for Reports {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![hid::interface("Loader", &hid::report_descriptor(5, 40))]
    }

    fn pipe(&mut self, _: Duration, _: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(_, data) => {
                let mut reply = vec![5, data[1] | 0x80, data[2], 0];
                if data[1] == 0x73 {
                    reply.extend([0xC3; 32]);
                }
                reply.resize(40, 0);
                reply.push(xor(&reply[1..]));
                self.0 = Some(reply);
                Answer::Done
            }
            Bulk::In(..) => self.0.take().map_or(Answer::Busy, Answer::Data),
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        None
    }
}

/// Takes Fulmar's words at once.
#[derive(Debug, Default)]
struct Words(Vec<u8>, Vec<u8>);

impl Loader for Words {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        acm::interfaces("Loader")
    }

    fn control(&mut self, _: Duration, _: &mut Flash, _: Setup, _: &[u8]) -> Answer {
        Answer::Done
    }

    fn pipe(&mut self, _: Duration, _: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(_, data) => {
                self.0.extend_from_slice(data);
                let is_show = self.0.starts_with(b"show");
                let whole = if is_show { self.0.contains(&b'\r') } else { self.0.len() >= 16 + 64 };
                if whole {
                    self.0.clear();
                    let body: Vec<u8> =
                        std::iter::once(0).chain(if is_show { vec![0xC3; 64] } else { Vec::new() }).collect();
                    let mut reply = vec![u8::try_from(body.len()).unwrap()];
                    reply.extend(body);
                    reply.extend(LINE_CRC.checksum(&reply).to_be_bytes());
                    self.1 = reply;
                }
                Answer::Done
            }
            Bulk::In(2, _) if !self.1.is_empty() => {
                let part = self.1.drain(..self.1.len().min(64)).collect();
                Answer::Data(part)
            }
            Bulk::In(..) => Answer::Busy,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        None
    }
}

struct Case {
    name: &'static str,
    dialect: &'static str,
    loader: fn() -> Box<dyn Loader>,
    chunk: u32,
    by_hand: fn(&mut dyn UsbDevice),
}

fn pipe(address: u8, kind: PipeKind) -> EndpointInfo {
    EndpointInfo { address, kind, interval: 1, packet: 64 }
}

fn auk_by_hand(device: &mut dyn UsbDevice) {
    device.claim(0, 0).unwrap();
    let (back, out) = (pipe(0x81, PipeKind::Interrupt), pipe(0x01, PipeKind::Interrupt));
    let mut tag = 1_u8;
    let mut exchange = |operation: u8, address: u32, data: Option<&[u8]>| {
        let mut frame = vec![5, operation, tag];
        frame.extend(address.to_le_bytes());
        frame.push(32);
        frame.extend(data.unwrap_or_default());
        frame.resize(40, 0);
        frame.push(xor(&frame[1..]));
        device.write_endpoint(out, &frame, SOON).unwrap();
        let reply = device.read_endpoint(back, 64, SOON).unwrap();
        assert!(reply[..4] == [5, operation | 0x80, tag, 0] && reply[40] == xor(&reply[1..40]));
        tag = tag.wrapping_add(1);
        reply
    };
    for chunk in 0..CHUNKS {
        exchange(0x62, 0x0D00_2000 + chunk * 32, Some(&[0xA5; 32]));
    }
    for chunk in 0..CHUNKS {
        let reply = exchange(0x73, 0x0D00_2000 + chunk * 32, None);
        assert!(reply[4..36] == [0xC3; 32]);
    }
}

fn fulmar_by_hand(device: &mut dyn UsbDevice) {
    device.claim(0, 0).unwrap();
    device.claim(1, 0).unwrap();
    let (back, out) = (pipe(0x82, PipeKind::Bulk), pipe(0x02, PipeKind::Bulk));
    let mut exchange = |frame: &[u8], len: usize| {
        device.write_endpoint(out, frame, SOON).unwrap();
        let mut reply = Vec::new();
        while reply.len() < len {
            reply.extend(device.read_endpoint(back, 64, SOON).unwrap());
        }
        let (body, sum) = reply.split_at(len - 2);
        assert!(usize::from(body[0]) == len - 3 && body[1] == 0 && LINE_CRC.checksum(body).to_be_bytes() == sum);
        reply
    };
    for chunk in 0..CHUNKS {
        let mut frame = format!("lay {:08X} {:02X}\r", 0x0600_3000 + chunk * 64, 64).into_bytes();
        frame.extend([0xA5; 64]);
        exchange(&frame, 4);
    }
    for chunk in 0..CHUNKS {
        let frame = format!("show {:08X} {:02X}\r", 0x0600_3000 + chunk * 64, 64);
        let reply = exchange(frame.as_bytes(), 68);
        assert!(reply[2..66] == [0xC3; 64]);
    }
}

const CASES: [Case; 2] = [
    Case {
        name: "HID reports (Auk)",
        dialect: AUK,
        loader: || Box::<Reports>::default(),
        chunk: 32,
        by_hand: auk_by_hand,
    },
    Case {
        name: "serial port (Fulmar)",
        dialect: FULMAR,
        loader: || Box::<Words>::default(),
        chunk: 64,
        by_hand: fulmar_by_hand,
    },
];

fn world(case: &Case) -> SharedWorld {
    let make = UnitSpec {
        names: ["Bench", "Bench"],
        ids: [(0x1209, 0x0009), (0x1209, 0x000A)],
        flash: (0, 64, 1024),
        bootloader: 0..1024,
        application: 1024..32 * 1024,
        settings: 32 * 1024..64 * 1024,
        board_word: b"BNCH",
        factory: &[0],
        button: "BOOT",
        window: None,
        silent: false,
    };
    let makers = Factories { loader: Box::new(case.loader), runner: Box::new(|_| Box::new(Plain)) };
    let mut world = World::new(Arc::new(SystemClock));
    world.plug("1-1", Box::new(VendorUnit::new(make, makers, "B-1").in_boot_mode()), Vec::new());
    world.shared()
}

fn by_dialect(case: &Case, bus: &UsbIpBus) -> Duration {
    let dialect = Arc::new(Dialect::parse(case.name, case.dialect, &no_files).unwrap());
    let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
    let mut cx = Context::new(&SystemClock, &mut quiet, &never);
    let mut talk = Interpreter::open(bus.open("1-1").unwrap(), dialect.clone(), None, &mut cx).unwrap();
    let names = dialect.given();
    talk.give(vec![(names.origin, Value::Int(0))]);
    let began = Instant::now();
    for (operation, data) in [(OperationName::Write, Some(0xA5)), (OperationName::Read, None)] {
        for chunk in 0..CHUNKS {
            let mut given = vec![
                (names.address, Value::Int(i128::from(0x0600_3000 + chunk * case.chunk))),
                (names.length, Value::Int(i128::from(case.chunk))),
            ];
            given.extend(data.map(|byte| (names.data, vec![byte; case.chunk as usize].into())));
            assert!(talk.run(operation, given, &mut cx).unwrap());
        }
    }
    began.elapsed()
}

fn by_hand(case: &Case, bus: &UsbIpBus) -> Duration {
    let mut device = bus.open("1-1").unwrap();
    let began = Instant::now();
    (case.by_hand)(&mut *device);
    began.elapsed()
}

fn main() {
    let mut failed = false;
    for case in &CASES {
        let world = world(case);
        let server = Server::start(world, ([127, 0, 0, 1], 0).into()).unwrap();
        let bus = UsbIpBus::new(&server.bus()).unwrap();
        let mut engine = Vec::new();
        let mut hand = Vec::new();
        for _ in 0..RUNS {
            engine.push(by_dialect(case, &bus));
            hand.push(by_hand(case, &bus));
        }
        let median = |times: &mut Vec<Duration>| {
            times.sort();
            times[times.len() / 2].as_secs_f64()
        };
        let spread =
            |times: &[Duration]| (times[times.len() / 10].as_secs_f64(), times[times.len() * 9 / 10].as_secs_f64());
        let mut ratios: Vec<f64> =
            engine.iter().zip(&hand).map(|(engine, hand)| engine.as_secs_f64() / hand.as_secs_f64()).collect();
        ratios.sort_by(f64::total_cmp);
        let ratio = ratios[ratios.len() / 2];
        let (engine_median, hand_median) = (median(&mut engine), median(&mut hand));
        let ((engine_low, engine_high), (hand_low, hand_high)) = (spread(&engine), spread(&hand));
        println!(
            "{}: {} exchanges; dialect {:.4} s ({engine_low:.4} to {engine_high:.4}), by hand {:.4} s ({hand_low:.4} to {hand_high:.4}): {ratio:.3}",
            case.name,
            CHUNKS * 2,
            engine_median,
            hand_median
        );
        failed |= ratio > MOST;
    }
    if failed {
        println!("The engine takes more than {MOST} times as long as code by hand.");
        std::process::exit(1);
    }
}
