//! The Linnet programmer board.
//!
//! It is wired to the pins of another unit's chip and is spoken to on a serial port (CDC-ACM). A request is
//! 0x4C, the length of the following bytes but the last, an operation and its values, and the sum of all
//! bytes before; a reply begins with 0x6C, and its operation has the top bit set, followed by a status.
//!
//! | operation | values | the reply, after the status |
//! |---|---|---|
//! | 0x01 hello | - | "LINNET" |
//! | 0x10 seize | - | signature u24be, lock u8: the chip is held in reset from now on |
//! | 0x21 wipe page | address u32le | - |
//! | 0x22 put | address u32le, up to 128 bytes | - |
//! | 0x23 get | address u32le, count u8 up to 128 | bytes |
//! | 0x2E wipe all | - | - (lifts the lock) |
//! | 0x1F let go | - | - |
//!
//! Status: 0 done, 0x41 no chip answers, 0x42 the data line is stuck, 0x43 locked, 0x44 outside, 0x45 not
//! erased, 0x46 no chip is held, 0x47 unknown.

use std::time::Duration;

use super::power::{ActionEffect, Power};
use super::vendor_unit::acm::{self, SerialLine};
use super::{Condition, Unit, UserAction};
use crate::flash::Flash;
use crate::pins::{Pins, Probe, Wiring};
use crate::usb::{Answer, Bulk, Descriptors, Setup};

const IDS: (u16, u16) = (0x1209, 0x0018);
/// Bytes of a page, which the chips have in common.
const PAGE: u32 = 128;
/// Most bytes of one put or get.
const MOST: usize = 128;

const NO_CHIP: u8 = 0x41;
const STUCK: u8 = 0x42;
const LOCKED: u8 = 0x43;
const OUTSIDE: u8 = 0x44;
const NOT_ERASED: u8 = 0x45;
const NOT_HELD: u8 = 0x46;
const UNKNOWN: u8 = 0x47;

/// A programmer that is wired to the unit at a port.
#[derive(Debug)]
pub struct Linnet {
    power: Power<SerialLine>,
    serial: String,
    target: String,
    wiring: Wiring,
    is_held: bool,
    /// Whether it lost its power, and with it the chip.
    lets_go: bool,
    /// It has no firmware of its own here.
    flash: Flash,
}

/// Status, values and duration.
type Done = (u8, Vec<u8>, Duration);

impl Linnet {
    /// A programmer that is wired to the unit at `target`.
    pub fn new(target: &str, serial: &str, wiring: Wiring) -> Self {
        let (power, flash) = (Power::new(), Flash::new(0, 1, 1));
        let (serial, target) = (serial.to_owned(), target.to_owned());
        let mut board = Self { power, serial, target, wiring, is_held: false, lets_go: false, flash };
        board.show(SerialLine::default());
        board
    }

    fn show(&mut self, line: SerialLine) {
        let texts = ["Skerrow Instruments", "Linnet programmer", self.serial.as_str()];
        self.power.boot(line, Descriptors::new(IDS, 0x0110, texts, acm::interfaces("Linnet")));
    }

    /// Executes an operation on the pins.
    fn execute(&mut self, now: Duration, request: &[u8], pins: Option<&mut dyn Pins>) -> Done {
        let fails = |status| (status, Vec::new(), Duration::from_millis(1));
        let [operation, values @ ..] = request else { return fails(UNKNOWN) };
        if *operation == 0x01 {
            return (0, b"LINNET".to_vec(), Duration::ZERO);
        }
        let pins = match (self.wiring, pins) {
            (Wiring::Crossed, _) => return fails(STUCK),
            (Wiring::Right, Some(pins)) => pins,
            (Wiring::Off, _) | (_, None) => return fails(NO_CHIP),
        };
        match operation {
            0x10 => {
                self.is_held = true;
                pins.hold();
                let [_, high, mid, low] = pins.signature().to_be_bytes();
                (0, vec![high, mid, low, u8::from(pins.is_locked())], Duration::from_millis(2))
            }
            _ if !self.is_held => fails(NOT_HELD),
            0x1F => {
                self.is_held = false;
                pins.release(now);
                (0, Vec::new(), Duration::ZERO)
            }
            0x2E => {
                pins.wipe();
                (0, Vec::new(), Duration::from_millis(60))
            }
            0x21..=0x23 if pins.is_locked() => fails(LOCKED),
            0x21..=0x23 if values.len() < 4 => fails(UNKNOWN),
            0x21..=0x23 => on_flash(*operation, values, pins.flash()),
            _ => fails(UNKNOWN),
        }
    }
}

/// Wipes a page, puts or gets bytes.
fn on_flash(operation: u8, values: &[u8], flash: &mut Flash) -> Done {
    let fails = |status| (status, Vec::new(), Duration::from_millis(1));
    let address = u32::from_le_bytes([values[0], values[1], values[2], values[3]]);
    match (operation, &values[4..]) {
        (0x21, _) if !address.is_multiple_of(PAGE) || flash.read(address, PAGE as usize).is_none() => fails(OUTSIDE),
        (0x21, _) => {
            flash.erase(address..address + PAGE);
            (0, Vec::new(), Flash::erase_time(PAGE))
        }
        (0x22, bytes) if (1..=MOST).contains(&bytes.len()) => match flash.read(address, bytes.len()) {
            None => fails(OUTSIDE),
            Some(there) if there.iter().any(|byte| *byte != 0xFF) => fails(NOT_ERASED),
            Some(_) => {
                flash.program(address, bytes);
                #[allow(clippy::cast_possible_truncation)] // at most 128
                let time = Flash::program_time(bytes.len() as u32);
                (0, Vec::new(), time)
            }
        },
        (0x23, [count]) if (1..=MOST).contains(&usize::from(*count)) => {
            match flash.read(address, usize::from(*count)) {
                Some(bytes) => (0, bytes.to_vec(), Duration::ZERO),
                None => fails(OUTSIDE),
            }
        }
        _ => fails(UNKNOWN),
    }
}

fn sum(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0, |sum, byte| sum.wrapping_add(*byte))
}

/// Takes the next whole request from what was received; skips bytes that begin none.
fn next_request(received: &mut Vec<u8>) -> Option<Vec<u8>> {
    loop {
        let start = received.iter().position(|byte| *byte == 0x4C).unwrap_or(received.len());
        received.drain(..start);
        let len = usize::from(*received.get(1)?);
        if received.len() < len + 3 {
            return None;
        }
        if len > 0 && sum(&received[..len + 2]) == received[len + 2] {
            let frame: Vec<u8> = received.drain(..len + 3).collect();
            return Some(frame[2..len + 2].to_vec());
        }
        received.remove(0);
    }
}

impl Probe for Linnet {
    fn target(&self) -> &str {
        &self.target
    }

    fn work(&mut self, now: Duration, mut pins: Option<&mut dyn Pins>) {
        if std::mem::take(&mut self.lets_go)
            && let Some(pins) = pins.as_deref_mut()
        {
            pins.release(now);
        }
        loop {
            let Some(request) = self.power.mode().and_then(|line| next_request(&mut line.received)) else { return };
            let (status, values, time) = match pins.as_deref_mut() {
                Some(pins) => self.execute(now, &request, Some(pins)),
                None => self.execute(now, &request, None),
            };
            let mut reply = vec![0x6C, 0, request[0] | 0x80, status];
            reply.extend(values);
            #[allow(clippy::cast_possible_truncation)] // at most 130
            let len = reply.len() as u8 - 2;
            reply[1] = len;
            reply.push(sum(&reply));
            if let Some(line) = self.power.mode() {
                line.replies.push((now + time, reply));
            }
        }
    }
}

impl Unit for Linnet {
    fn advance(&mut self, now: Duration) {
        if let Some(line) = self.power.due(now) {
            self.show(line);
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, _: Duration, setup: Setup, data: &[u8]) -> Answer {
        self.power.mode().and_then(|line| line.control(setup, data)).unwrap_or(Answer::Stall)
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        self.power.mode().map_or(Answer::Stall, |line| line.pipe(now, transfer))
    }

    fn probe(&mut self) -> Option<&mut dyn Probe> {
        Some(self)
    }

    fn bus_reset(&mut self, _: Duration) {}

    fn act(&mut self, now: Duration, action: &UserAction) {
        if let UserAction::Wire(wiring) = action {
            // Without the wires the programmer no longer holds the chip in reset.
            self.lets_go |= std::mem::take(&mut self.is_held);
            self.wiring = *wiring;
        }
        match self.power.apply(action) {
            ActionEffect::Pulled => {
                self.lets_go |= std::mem::take(&mut self.is_held);
                self.power.unplug();
            }
            ActionEffect::Plugged => self.power.start(now, Some(SerialLine::default())),
            ActionEffect::Nothing | ActionEffect::Tapped(_) => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        self.power.condition(|_| Condition::Application)
    }

    fn revive(&mut self, _: Duration) {
        self.show(SerialLine::default());
    }
}
