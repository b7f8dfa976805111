//! The Fulmar met mast.
//!
//! Its bootloader has a serial port (CDC-ACM, or a bridge chip in an older build) and accepts words that end in a carriage return.
//! Replies are binary: a length byte, that many bytes of which the first is a code, and a CRC-16
//! (polynomial 0x1021, start 0x5F0E) over length and bytes, big-endian. When the port is opened
//! it sends a greeting in plain text.
//!
//! | word | then | the answer, behind its code |
//! |---|---|---|
//! | `hail` | - | "FM2", KiB of flash u16be |
//! | `wipe AAAAAAAA KK` | - | - |
//! | `lay AAAAAAAA NN` | NN bytes | - |
//! | `show AAAAAAAA NN` | - | NN bytes |
//! | `weigh AAAAAAAA LLLLLLLL` | - | CRC-32 u32be |
//! | `sail` | - | - |
//!
//! Numbers are hex. Codes: 0 done, 0x41 no such word, 0x42 outside, 0x43 not erased. The
//! application enters the bootloader in one of the common ways: it reads the line `to loader` on
//! its own port, and replies `leaving`; it reads the bytes C3 1D 42 there, and replies 3C 1D; its
//! port is closed (DTR off) at 1200 bit/s; DTR goes off and RTS on for 50 to 200 ms, and both
//! return; or it receives the vendor request 0x6B with the value 0x1D42.

use std::time::Duration;

use super::vendor_unit::{AppModel, Factories, Loader, UnitSpec, VendorUnit, acm};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Setup};

const BASE: u32 = 0x0600_0000;
const SECTOR: u32 = 1024;
const SECTORS: u32 = 96;
const OWN: u32 = 12 * 1024;
const LEAVE_TIME: Duration = Duration::from_millis(30);
const CRC: crc::Algorithm<u16> = crc::Algorithm {
    width: 16,
    poly: 0x1021,
    init: 0x5F0E,
    refin: false,
    refout: false,
    xorout: 0,
    check: 0,
    residue: 0,
};

/// A unit in factory state.
pub fn fulmar(serial: &str) -> VendorUnit {
    built(serial, acm::interfaces)
}

/// A unit of the older build with a bridge chip: its serial port has no class, so only a driver of the
/// system makes a port of it. It has no control lines.
pub fn bridged(serial: &str) -> VendorUnit {
    built(serial, bridge)
}

/// A vendor's own interface with a pipe in each direction.
fn bridge(name: &str) -> Vec<DescribedInterface> {
    vec![DescribedInterface {
        class: [0xFF, 0, 0],
        names: vec![name.to_owned()],
        extra: Vec::new(),
        bulk: vec![0x02, 0x82],
        interrupt: Vec::new(),
    }]
}

/// The interfaces of a serial port with this name.
type Port = fn(&str) -> Vec<DescribedInterface>;

fn built(serial: &str, port: Port) -> VendorUnit {
    let make = UnitSpec {
        names: ["Fulmar met mast", "Fulmar loader"],
        ids: [(0x1209, 0x000D), (0x1209, 0x000E)],
        flash: (BASE, SECTORS, SECTOR),
        bootloader: BASE..BASE + OWN,
        application: BASE + OWN..BASE + 92 * 1024,
        settings: BASE + 92 * 1024..BASE + 96 * 1024,
        board_word: b"FLM1",
        factory: include_bytes!("../../../../demo/firmware/out/fulmar-4.1.0.bin"),
        button: "MAST",
        window: None,
        silent: false,
    };
    let factories = Factories {
        loader: Box::new(move || Box::new(FulmarLoader::new(port))),
        runner: Box::new(move |version| Box::new(Mast::new(port, version))),
    };
    VendorUnit::new(make, factories, serial)
}

#[derive(Debug)]
struct FulmarLoader {
    port: Port,
    line: acm::SerialLine,
    greeted: bool,
    asked: bool,
    leaves_at: Option<Duration>,
}

impl FulmarLoader {
    fn new(port: Port) -> Self {
        Self { port, line: acm::SerialLine::default(), greeted: false, asked: false, leaves_at: None }
    }

    /// Processes the complete commands received.
    fn work(&mut self, now: Duration, flash: &mut Flash) {
        while let Some(end) = self.line.received.iter().position(|byte| *byte == b'\r') {
            let text = String::from_utf8_lossy(&self.line.received[..end]).into_owned();
            let words: Vec<&str> = text.split_whitespace().collect();
            let payload = match words[..] {
                ["lay", _, count] => usize::from_str_radix(count, 16).unwrap_or(0),
                _ => 0,
            };
            if self.line.received.len() < end + 1 + payload {
                return;
            }
            let data: Vec<u8> = self.line.received.drain(..end + 1 + payload).skip(end + 1).collect();
            self.asked = true;
            let (body, time) = self.command(now, flash, &words, &data);
            let mut answer = vec![u8::try_from(body.len()).unwrap_or(u8::MAX)];
            answer.extend(body);
            answer.extend(crc::Crc::<u16>::new(&CRC).checksum(&answer).to_be_bytes());
            self.line.replies.push((now + time, answer));
        }
    }

    fn command(&mut self, now: Duration, flash: &mut Flash, words: &[&str], data: &[u8]) -> (Vec<u8>, Duration) {
        let number = |word: &str| u32::from_str_radix(word, 16).unwrap_or(u32::MAX);
        let writable = |from: u32, len: u32| {
            from >= BASE + OWN && u64::from(from) + u64::from(len) <= u64::from(BASE + SECTORS * SECTOR)
        };
        let instant = Duration::ZERO;
        match words {
            ["hail"] => ([&[0][..], b"FM2", &96_u16.to_be_bytes()].concat(), instant),
            ["wipe", address, kib] => {
                let (from, len) = (number(address), number(kib).saturating_mul(1024));
                if !writable(from, len) || !from.is_multiple_of(SECTOR) {
                    return (vec![0x42], instant);
                }
                flash.erase(from..from + len);
                (vec![0], Flash::erase_time(len))
            }
            ["lay", address, _] => {
                let (from, len) = (number(address), u32::try_from(data.len()).unwrap_or(0));
                if !writable(from, len) || data.len() > 64 {
                    return (vec![0x42], instant);
                }
                if flash.read(from, data.len()).unwrap_or_default().iter().any(|byte| *byte != 0xFF) {
                    return (vec![0x43], instant);
                }
                flash.program(from, data);
                (vec![0], Flash::program_time(len))
            }
            ["show", address, count] => match flash.read(number(address), number(count) as usize) {
                Some(bytes) if bytes.len() <= 128 => ([&[0], bytes].concat(), instant),
                _ => (vec![0x42], instant),
            },
            ["weigh", address, len] => match flash.read(number(address), number(len) as usize) {
                Some(bytes) => {
                    let sum = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(bytes);
                    ([&[0][..], &sum.to_be_bytes()].concat(), instant)
                }
                None => (vec![0x42], instant),
            },
            ["sail"] => {
                self.leaves_at = Some(now + LEAVE_TIME);
                (vec![0], instant)
            }
            _ => (vec![0x41], instant),
        }
    }
}

impl Loader for FulmarLoader {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        (self.port)("Fulmar loader")
    }

    fn control(&mut self, now: Duration, _: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let answer = self.line.control(setup, data).unwrap_or(Answer::Stall);
        if self.line.dtr && !std::mem::replace(&mut self.greeted, self.line.dtr) {
            self.line.replies.push((now, b"Fulmar loader 2\r\n".to_vec()));
        }
        answer
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let answer = self.line.pipe(now, transfer);
        self.work(now, flash);
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }

    fn was_asked(&self) -> bool {
        self.asked
    }
}

/// The application, with its own serial port that accepts entry signals.
#[derive(Debug)]
struct Mast {
    port: Port,
    line: acm::SerialLine,
    version: u16,
    /// Since when DTR has been off and RTS on.
    crossed: Option<Duration>,
    leaves_at: Option<Duration>,
}

impl Mast {
    fn new(port: Port, version: u16) -> Self {
        Self { port, line: acm::SerialLine::default(), version, crossed: None, leaves_at: None }
    }
}

/// The byte sequence that the application accepts, and its reply.
const CALL: [u8; 3] = [0xC3, 0x1D, 0x42];
const ANSWER: [u8; 2] = [0x3C, 0x1D];
/// Bit rate at which closing the port is an entry signal.
const TOUCH: u32 = 1200;
/// How long DTR and RTS must be crossed.
const CROSSED: std::ops::RangeInclusive<Duration> = Duration::from_millis(50)..=Duration::from_millis(200);

impl AppModel for Mast {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        (self.port)("Fulmar readings")
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        if (setup.kind, setup.request, setup.value) == (0x40, 0x6B, 0x1D42) {
            self.leaves_at = Some(now + LEAVE_TIME);
            return Answer::Done;
        }
        let was_open = self.line.dtr;
        let answer = self.line.control(setup, data).unwrap_or(Answer::Stall);
        let acm::SerialLine { dtr, rts, baud, .. } = self.line;
        let was_crossed = self.crossed.take();
        match (dtr, rts) {
            (false, true) => self.crossed = was_crossed.or(Some(now)),
            (false, _) if was_open && baud == TOUCH => self.leaves_at = Some(now + LEAVE_TIME),
            (true, false) if was_crossed.is_some_and(|since| CROSSED.contains(&(now - since))) => {
                self.leaves_at = Some(now + LEAVE_TIME);
            }
            _ => {}
        }
        answer
    }

    fn pipe(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        let answer = self.line.pipe(now, transfer);
        if let Some(at) = self.line.received.windows(CALL.len()).position(|bytes| bytes == CALL) {
            self.line.received.drain(..at + CALL.len());
            self.line.replies.push((now, ANSWER.to_vec()));
            self.leaves_at = Some(now + LEAVE_TIME);
        }
        while let Some(end) = self.line.received.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = self.line.received.drain(..=end).collect();
            match line.trim_ascii() {
                b"to loader" => {
                    self.line.replies.push((now, b"leaving\r\n".to_vec()));
                    self.leaves_at = Some(now + LEAVE_TIME);
                }
                b"about" => {
                    let (major, minor) = (self.version >> 8, (self.version >> 4) & 0xF);
                    let said = format!("Fulmar met mast, version {major}.{minor}.{}, warm\r\n", self.version & 0xF);
                    // It is busy with its readings, so it replies late.
                    self.line.replies.push((now + Duration::from_millis(350), said.into_bytes()));
                }
                b"" => {}
                _ => self.line.replies.push((now, b"what?\r\n".to_vec())),
            }
        }
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
