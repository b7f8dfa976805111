//! # Beckon: a receiver that asks for its blocks
//!
//! A serial port. "hello" and a line feed is answered by "beckon" and a line feed. "take" with the
//! length (u32le) and the CRC-32 of what is to come (u32le) makes room and begins. From then on the
//! unit asks: "?" and the number of a block of 128 bytes (u16le), 0xFFFF when it has all of them.
//! The answer is "!", the number (u16le), the 128 bytes, and their sum (u8); the last block is
//! filled up with 0xFF. The unit asks again for a block that is damaged. It asks for the even
//! blocks first, and after a lost cable it asks only for what it does not have, if "take" says the
//! same. "crc" gives "=" and the CRC-32 of what it holds (u32le). "run" and a line feed starts the
//! application. What it does not know is answered by "no" and a line feed.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::{Loader, acm};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::{END, Maker, START, crc32, sum, word};

pub const DIALECT: &str = r#"
dialect = 1
name = "beckon"
[carrier]
kind = "serial"
junk = 16
[geometry]
chunk = 128
stream = true
[start]
wanted = 0
[names]
ALL = 0xFFFF
[sync]
send = "'hello\n'"
reply = "'beckon\n'"
within = "200 ms"
[exchange.take]
send = "'take', u32le = length, u32le = crc32(data)"
[exchange.ask]
reply = "'?', u16le wanted"
within = "2 s"
[exchange.give]
send = "'!', u16le number, bytes block, u8 = sum(block) & 0xFF"
[begin]
erases = "covered"
do = "take; ask"
[write]
do = '''
let before = wanted
if wanted != ALL {
    until wanted != before every 0 ms within 10 s {
        give(number = wanted, block = pad(slice(whole, wanted * 128, min(128, len(whole) - wanted * 128)), 128, 0xFF))
        ask
    }
}
'''
[checksum]
send = "'crc\n'"
reply = "'=', u32le held"
unit = "held"
image = "crc32(data)"
[restart]
send = "'run\n'"
"#;

/// The received blocks, which outlive a lost cable.
#[derive(Debug, Default, Clone)]
struct Job {
    length: u32,
    crc: u32,
    missing: Vec<u16>,
}

#[derive(Debug)]
struct Beckon {
    line: acm::SerialLine,
    job: Arc<Mutex<Option<Job>>>,
    asks: u32,
    leaves_at: Option<Duration>,
}

pub fn maker() -> Maker {
    let job = Arc::default();
    Box::new(move || {
        let (line, job) = (acm::SerialLine::default(), Arc::clone(&job));
        Box::new(Beckon { line, job, asks: 0, leaves_at: None })
    })
}

impl Beckon {
    fn ask(&mut self, at: Duration) {
        let wanted = self.job.lock().unwrap().as_ref().and_then(|job| job.missing.first().copied()).unwrap_or(0xFFFF);
        self.line.replies.push((at, [&b"?"[..], &wanted.to_le_bytes()].concat()));
    }

    fn begin(&mut self, now: Duration, flash: &mut Flash, length: u32, crc: u32) {
        let mut job = self.job.lock().unwrap();
        let is_same = job.as_ref().is_some_and(|job| (job.length, job.crc) == (length, crc));
        if !is_same && length <= END - START {
            let end = (START + length).next_multiple_of(super::SECTOR);
            (START..end).step_by(super::SECTOR as usize).for_each(|at| flash.erase(at..at + super::SECTOR));
            let blocks = u16::try_from(length.div_ceil(128)).unwrap();
            let missing = (0..blocks).step_by(2).chain((1..blocks).step_by(2)).collect();
            *job = Some(Job { length, crc, missing });
        }
        drop(job);
        self.ask(now + Flash::erase_time(length));
    }

    fn block(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let (number, block) = (u16::from_le_bytes([message[1], message[2]]), &message[3..131]);
        // Every ninth block is taken for a damaged one.
        self.asks += 1;
        let is_whole = sum(block) == message[131] && !self.asks.is_multiple_of(9);
        let mut job = self.job.lock().unwrap();
        if let Some(job) = job.as_mut().filter(|job| is_whole && job.missing.first() == Some(&number)) {
            flash.program(START + u32::from(number) * 128, block);
            job.missing.remove(0);
        }
        drop(job);
        self.ask(now + Flash::program_time(128));
    }

    /// Takes one message from the stream; `false` if none is complete.
    fn message(&mut self, now: Duration, flash: &mut Flash) -> bool {
        let stream = self.line.received.clone();
        let used = if stream.starts_with(b"!") && stream.len() >= 132 {
            self.block(now, flash, &stream[..132]);
            132
        } else if stream.starts_with(b"take") && stream.len() >= 12 {
            self.begin(now, flash, word(&stream[4..8]), word(&stream[8..12]));
            12
        } else if stream.is_empty() || stream.starts_with(b"!") || stream.starts_with(b"take") {
            return false;
        } else if let Some(end) = stream.iter().position(|byte| *byte == b'\n') {
            let reply = match &stream[..end] {
                b"hello" => b"beckon\n".to_vec(),
                b"crc" => {
                    let length = self.job.lock().unwrap().as_ref().map_or(0, |job| job.length);
                    let held = crc32(flash.read(START, length as usize).unwrap());
                    [&b"="[..], &held.to_le_bytes()].concat()
                }
                b"run" => {
                    self.leaves_at = Some(now + Duration::from_millis(40));
                    Vec::new()
                }
                _ => b"no\n".to_vec(),
            };
            self.line.replies.push((now, reply));
            end + 1
        } else {
            return false;
        };
        self.line.received.drain(..used);
        true
    }
}

impl Loader for Beckon {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        acm::interfaces("Beckon")
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        self.line.control(setup, data).unwrap_or(Answer::Stall)
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let answer = self.line.pipe(now, transfer);
        while self.message(now, flash) {}
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
