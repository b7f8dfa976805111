//! The Auk harbour light controller.
//!
//! Its bootloader accepts HID reports of 40 bytes under id 5. Each starts with an operation and a
//! tag and ends with the XOR of the bytes before it and 0x6B; the reply has the operation with
//! its top bit set, the same tag and a status.
//!
//! | operation | behind the tag | the reply, after the status |
//! |---|---|---|
//! | 0x3A who | - | chip u16le, version u8, flash size u32le |
//! | 0x51 wipe | address u32le, sectors u16le | - (status 0x21: at work) |
//! | 0x52 how far | - | - (status 0x21: at work) |
//! | 0x62 lay | address u32le, count u8 up to 32, bytes | - |
//! | 0x73 show | address u32le, count u8 up to 32 | bytes |
//! | 0x15 go | - | - |
//!
//! Status: 0 done, 0x21 busy, 0x31 outside, 0x32 not erased, 0x33 bad check byte, 0x34 unknown.
//! The application enters the bootloader when it receives the feature report 9 with the text
//! "LAMP OFF", and so does a unit with KEY held while the cable is plugged in.

use std::time::Duration;

use super::vendor_unit::{AppModel, Factories, Loader, UnitSpec, VendorUnit, hid};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Setup};

const BASE: u32 = 0x0D00_0000;
const SECTOR: u32 = 1024;
const REPORT: u8 = 5;
const LENGTH: usize = 40;
const MOST: usize = 32;
const FEATURE: u8 = 9;
const CALL: &[u8] = b"LAMP OFF";
const LEAVE_TIME: Duration = Duration::from_millis(20);

/// A unit in factory state.
pub fn auk(serial: &str) -> VendorUnit {
    let make = UnitSpec {
        names: ["Auk harbour light", "Auk loader"],
        ids: [(0x1209, 0x000B), (0x1209, 0x000C)],
        flash: (BASE, 64, SECTOR),
        bootloader: BASE..BASE + 0x2000,
        application: BASE + 0x2000..BASE + 0xD000,
        settings: BASE + 0xD000..BASE + 0x1_0000,
        board_word: b"AUK1",
        factory: include_bytes!("../../../../demo/firmware/out/auk-2.0.0.bin"),
        button: "KEY",
        window: None,
        silent: false,
    };
    let factories = Factories {
        loader: Box::new(|| Box::new(Reports::default())),
        runner: Box::new(|_| Box::new(Light::default())),
    };
    VendorUnit::new(make, factories, serial)
}

fn check(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0x6B, |sum, byte| sum ^ byte)
}

#[derive(Debug, Default)]
struct Reports {
    reply: Option<(Duration, Vec<u8>)>,
    busy_until: Duration,
    asked: bool,
    leaves_at: Option<Duration>,
}

impl Reports {
    /// Status, further data, and duration.
    fn answer(&mut self, now: Duration, flash: &mut Flash, frame: &[u8]) -> (u8, Vec<u8>, Duration) {
        const AT_WORK: u8 = 0x21;
        let instant = Duration::ZERO;
        let address = u32::from_le_bytes([frame[2], frame[3], frame[4], frame[5]]);
        let writable = |from: u32, len: u32| {
            from >= BASE + 0x2000 && u64::from(from) + u64::from(len) <= u64::from(BASE) + 0x1_0000
        };
        if check(&frame[..LENGTH - 1]) != frame[LENGTH - 1] {
            return (0x33, Vec::new(), instant);
        }
        if now < self.busy_until {
            return (AT_WORK, Vec::new(), instant);
        }
        let count = usize::from(frame[6]);
        match frame[0] {
            0x3A => (0, vec![0xA7, 0x41, 3, 0, 0, 1, 0], instant),
            0x51 => {
                let len = u32::from(u16::from_le_bytes([frame[6], frame[7]])) * SECTOR;
                if !address.is_multiple_of(SECTOR) || len == 0 || !writable(address, len) {
                    return (0x31, Vec::new(), instant);
                }
                flash.erase(address..address + len);
                self.busy_until = now + Flash::erase_time(len);
                (AT_WORK, Vec::new(), instant)
            }
            0x52 => (0, Vec::new(), instant),
            #[allow(clippy::cast_possible_truncation)] // at most 32
            0x62 if (1..=MOST).contains(&count) && writable(address, count as u32) => {
                let there = flash.read(address, count).unwrap_or_default();
                if there.iter().any(|byte| *byte != 0xFF) {
                    return (0x32, Vec::new(), instant);
                }
                flash.program(address, &frame[7..7 + count]);
                (0, Vec::new(), Flash::program_time(count as u32))
            }
            0x73 if (1..=MOST).contains(&count) => match flash.read(address, count) {
                Some(bytes) => (0, bytes.to_vec(), instant),
                None => (0x31, Vec::new(), instant),
            },
            0x62 | 0x73 => (0x31, Vec::new(), instant),
            0x15 => {
                self.leaves_at = Some(now + LEAVE_TIME);
                (0, Vec::new(), instant)
            }
            _ => (0x34, Vec::new(), instant),
        }
    }
}

impl Loader for Reports {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![hid::interface("Loader", &hid::report_descriptor(REPORT, LENGTH))]
    }

    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        hid::standard(setup, &hid::report_descriptor(REPORT, LENGTH))
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, _: &[u8]) -> Answer {
        if hid::is_formality(setup) { Answer::Done } else { Answer::Stall }
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(1, data) if data.len() == LENGTH + 1 && data[0] == REPORT => {
                self.asked = true;
                let frame = &data[1..];
                let (status, payload, time) = self.answer(now, flash, frame);
                let mut reply = vec![frame[0] | 0x80, frame[1], status];
                reply.extend(payload);
                reply.resize(LENGTH - 1, 0);
                reply.push(check(&reply));
                reply.insert(0, REPORT);
                self.reply = Some((now + time, reply));
                Answer::Done
            }
            Bulk::In(1, length) => match &self.reply {
                Some((at, reply)) if *at <= now && reply.len() <= length => {
                    let reply = reply.clone();
                    self.reply = None;
                    Answer::Data(reply)
                }
                _ => Answer::Busy,
            },
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }

    fn was_asked(&self) -> bool {
        self.asked
    }
}

/// The application: a HID device that can be called off.
#[derive(Debug, Default)]
struct Light {
    leaves_at: Option<Duration>,
}

impl AppModel for Light {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![hid::interface("Harbour light", &hid::report_descriptor(FEATURE, 16))]
    }

    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        hid::standard(setup, &hid::report_descriptor(FEATURE, 16))
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        const SET_FEATURE_9: (u8, u8, u16) = (0x21, 0x09, 0x0300 | FEATURE as u16);
        if hid::is_formality(setup) {
            return Answer::Done;
        }
        if (setup.kind, setup.request, setup.value) != SET_FEATURE_9 || data.first() != Some(&FEATURE) {
            return Answer::Stall;
        }
        if data[1..].starts_with(CALL) {
            self.leaves_at = Some(now + LEAVE_TIME);
        }
        Answer::Done
    }

    fn pipe(&mut self, _: Duration, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::In(1, _) => Answer::Busy,
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
