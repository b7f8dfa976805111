//! # Bellows: compressed blocks
//!
//! HID reports of 64 bytes, filled up with 0. A report begins with a letter. "M" begins a transfer
//! with its length (u32le), and the unit erases what it covers. "B" begins a block: its offset
//! (u32le), the length of its content (u16le, at most 512), a form, and the number of bytes that
//! follow (u16le). They follow in reports "+" with a length (u8) and up to 62 bytes. Form 0 is the
//! content itself, 1 is deflated without a header, 2 has runs of a length and a byte. A block that is
//! longer in its form than its content is refused. After the last byte the unit answers "B" and 0, or
//! 1 if the form is damaged, 2 if it is too long. "Z" gives the CRC-32 of the transfer (u32le), "L"
//! with an offset (u32le) and a length (u8, at most 60) its bytes; "J" starts the application. Every report but "+" is answered by one with its letter; of the bytes of a
//! block only the last is.

use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::{END, Outbox, SECTOR, START, crc32, word};

pub const DIALECT: &str = r#"
dialect = 1
name = "bellows"
[carrier]
kind = "hid"
length = 64
[table.result]
0 = "ok"
1 = "the block is damaged"
2 = "the block is too long in this form"
[geometry]
chunk = 512
pad = false
[start]
form = 0
packed = "''"
[sync]
send = "'Z'"
reply = "'Z', u32le held"
within = "300 ms"
[begin]
erases = "covered"
send = "'M', u32le = length"
reply = "'M', u8 in result"
[exchange.block]
send = "'B', u32le = address - region_start, u16le = len(data) & 0xFFFF, u8 form, u16le = len(packed) & 0xFFFF"
reply = "'B'"
[exchange.more]
send = "'+', u8 = len(piece), bytes piece"
[exchange.done]
reply = "'B', u8 in result"
[write]
do = '''
let form = 1
let packed = deflate(data)
if len(runs(data)) < len(packed) {
    let form = 2
    let packed = runs(data)
}
if len(packed) >= len(data) {
    let form = 0
    let packed = data
}
block
each 62 of packed { more }
done
'''
[checksum]
send = "'Z'"
reply = "'Z', u32le held"
unit = "held"
image = "crc32(data)"
[restart]
send = "'J'"
reply = "'J'"
"#;

/// Blocks of each form that units received.
pub static FORMS: [AtomicU32; 3] = [AtomicU32::new(0), AtomicU32::new(0), AtomicU32::new(0)];

/// A block that is being received.
#[derive(Debug)]
struct Block {
    offset: u32,
    length: usize,
    form: u8,
    packed: usize,
    bytes: Vec<u8>,
}

#[derive(Debug, Default)]
pub struct Bellows {
    outbox: Outbox,
    length: u32,
    block: Option<Block>,
    leaves_at: Option<Duration>,
}

impl Bellows {
    fn answer(&mut self, at: Duration, bytes: &[u8]) {
        let mut report = bytes.to_vec();
        report.resize(64, 0);
        self.outbox.push(at, report);
    }

    fn content(block: &Block) -> Option<Vec<u8>> {
        let content = match block.form {
            0 => block.bytes.clone(),
            1 => miniz_oxide::inflate::decompress_to_vec_with_limit(&block.bytes, 512).ok()?,
            _ => block.bytes.chunks_exact(2).flat_map(|run| vec![run[1]; usize::from(run[0])]).collect(),
        };
        (content.len() == block.length).then_some(content)
    }

    fn end_block(&mut self, now: Duration, flash: &mut Flash, block: &Block) {
        let is_inside = block.offset + u32::try_from(block.length).unwrap() <= self.length;
        match Self::content(block).filter(|_| is_inside) {
            Some(content) => {
                FORMS[usize::from(block.form)].fetch_add(1, Ordering::Relaxed);
                flash.program(START + block.offset, &content);
                self.answer(now + Flash::program_time(512), b"B\x00");
            }
            None => self.answer(now, b"B\x01"),
        }
    }

    fn report(&mut self, now: Duration, flash: &mut Flash, report: &[u8]) {
        match report[0] {
            b'M' if word(&report[1..5]) <= END - START => {
                (self.length, self.block) = (word(&report[1..5]), None);
                let end = (START + self.length).next_multiple_of(SECTOR);
                (START..end).step_by(SECTOR as usize).for_each(|at| flash.erase(at..at + SECTOR));
                self.answer(now + Flash::erase_time(self.length), b"M\x00");
            }
            b'B' => {
                let half = |at: usize| usize::from(u16::from_le_bytes([report[at], report[at + 1]]));
                let (offset, length, form, packed) = (word(&report[1..5]), half(5), report[7], half(8));
                let is_sound = length <= 512 && form < 3 && packed > 0 && packed <= length;
                self.block = is_sound.then(|| Block { offset, length, form, packed, bytes: Vec::new() });
                self.answer(now, if is_sound { b"B" } else { b"B\x02" });
            }
            b'+' => {
                let Some(mut block) = self.block.take() else { return };
                let count = usize::from(report[1]).min(62);
                block.bytes.extend_from_slice(&report[2..2 + count]);
                match block.bytes.len() >= block.packed {
                    true => self.end_block(now, flash, &block),
                    false => self.block = Some(block),
                }
            }
            b'Z' => {
                let held = flash.read(START, self.length as usize).map_or(0, crc32);
                self.answer(now, &[&b"Z"[..], &held.to_le_bytes()].concat());
            }
            b'L' => {
                let bytes = flash.read(START + word(&report[1..5]), usize::from(report[5]).min(60)).unwrap_or_default();
                let reply = [b"L", bytes].concat();
                self.answer(now, &reply);
            }
            b'J' => {
                self.answer(now, b"J");
                self.leaves_at = Some(now + Duration::from_millis(40));
            }
            _ => {}
        }
    }
}

impl Loader for Bellows {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let extra = vec![9, 0x21, 0x11, 1, 0, 1, 0x22, 34, 0];
        let names = vec!["Bellows".to_owned()];
        vec![DescribedInterface { class: [3, 0, 0], names, extra, bulk: Vec::new(), interrupt: vec![0x81, 0x01] }]
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(1, report) if report.len() == 64 => {
                self.report(now, flash, report);
                Answer::Done
            }
            Bulk::In(1, length) => self.outbox.pull(now, length),
            _ => Answer::Stall,
        }
    }

    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        let is_report = (setup.kind, setup.request, setup.value >> 8) == (0x81, 6, 0x22);
        is_report.then(|| Answer::Data(vec![0; 34]))
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
