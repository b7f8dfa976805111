//! # Chorus: feature reports with words of four bytes
//!
//! The bootloader is a HID device without report ids. The host sets feature reports of
//! 16 bytes and gets feature reports of 16 bytes. A set report is an operation, flags,
//! a big-endian word number (address from the start of the flash divided by 4), up to
//! three words of data of which the number stands in the low two bits of the flags, and
//! zeros. Words are turned around: each goes with its highest byte first.
//!
//! Operations: 1 begin (a magic word 0x52C3_9A01), 2 erase all, 3 write, 4 sum, 5 run. A
//! get answers: the operation, a state (0x80 done, 0x81 at work, otherwise a fault: 1
//! closed, 2 no such word, 3 not blank), then four bytes: after 4 the CRC-24 of the
//! application's whole region (polynomial 0x5D6DCB, start 0xABCDEF) with a 0 before it,
//! else 0. Until begin was done, everything else is a fault. Nothing can be read. The
//! first words of the application come last, so that a broken update starts nothing.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::{Loader, hid};
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use super::{BASE, END, START, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "chorus"
[carrier]
kind = "hid"
send = "feature"
reply = "feature"
length = 16
[crc.region]
width = 24
poly = 0x5D6DCB
init = 0xABCDEF
[names]
MAGIC = 0x52C39A01
[table.state]
0x80 = "ok"
0x81 = "busy"
1 = "the unit was not opened"
2 = "there is no such word"
3 = "the word is not blank"
[geometry]
chunk = 256
order = "first-last"
[exchange.done]
reply = "u8 = operation, u8 in state, u32be answer"
pause = "4 ms"
within = "5 s"
[exchange.open]
send = "1, bits8(_:6, count:2 = 1), u16be = 0, u32be = MAGIC"
[exchange.clear]
send = "2, pad(15)"
[exchange.put]
send = "3, bits8(_:6, count:2 = len(piece) / 4), u16be = (address - origin + place) / 4, bytes = map(w in piece by 4: reverse(w))"
[exchange.weigh]
send = "4"
[exchange.run]
send = "5"
[unlock]
do = "open; done(operation = 1)"
[erase]
by = "all"
do = "clear; done(operation = 2)"
[write]
do = "each 12 of data { put; done(operation = 3) }"
[checksum]
over = "region"
do = "weigh; done(operation = 4); let found = answer"
unit = "found"
image = "region(data)"
[restart]
do = "run; leaves within 1 s"
"#;

#[derive(Debug, Default)]
pub struct Chorus {
    open: bool,
    operation: u8,
    state: u8,
    answer: u32,
    busy_until: Duration,
    leaves_at: Option<Duration>,
}

fn crc24(bytes: &[u8]) -> u32 {
    // Bit by bit, as a data sheet would draw it.
    bytes.iter().fold(0xAB_CDEF, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte) << 16, |sum, _| {
            let shifted = sum << 1;
            (if sum & 0x80_0000 == 0 { shifted } else { shifted ^ 0x5D_6DCB }) & 0xFF_FFFF
        })
    })
}

impl Chorus {
    fn set(&mut self, now: Duration, flash: &mut Flash, report: &[u8]) {
        let at = BASE + u32::from(u16::from_be_bytes([report[2], report[3]])) * 4;
        let count = usize::from(report[1] & 3);
        self.operation = report[0];
        self.answer = 0;
        let mut time = Duration::ZERO;
        self.state = match report[0] {
            1 if count == 1 && report[4..8] == 0x52C3_9A01_u32.to_be_bytes() => {
                self.open = true;
                0x80
            }
            _ if !self.open => 1,
            2 => {
                flash.erase(START..END);
                time = Flash::erase_time(END - START);
                0x80
            }
            3 if count > 0 && writable(at, count * 4) => {
                let words = report[4..4 + count * 4].chunks(4).flat_map(|word| word.iter().rev().copied());
                let data: Vec<u8> = words.collect();
                let blank = flash.read(at, data.len()).unwrap().iter().all(|byte| *byte == 0xFF);
                if blank {
                    flash.program(at, &data);
                }
                time = Flash::program_time(12);
                if blank { 0x80 } else { 3 }
            }
            4 => {
                self.answer = crc24(flash.read(START, (END - START) as usize).unwrap());
                0x80
            }
            5 => {
                self.leaves_at = Some(now + Duration::from_millis(60));
                0x80
            }
            _ => 2,
        };
        self.busy_until = now + time;
    }
}

impl Loader for Chorus {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let mut descriptors = hid::interface("Chorus", &hid::report_descriptor(1, 16));
        descriptors.interrupt = vec![0x81];
        vec![descriptors]
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        match (setup.kind, setup.request, setup.value) {
            (0x21, 0x09, 0x0300) if data.len() == 16 && now >= self.busy_until => {
                self.set(now, flash, data);
                Answer::Done
            }
            (0xA1, 0x01, 0x0300) => {
                let state = if now < self.busy_until { 0x81 } else { self.state };
                let mut report = vec![self.operation, state];
                report.extend(self.answer.to_be_bytes());
                report.resize(16, 0);
                Answer::Data(report)
            }
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
