//! # Ledger: records between marks
//!
//! The bootloader has a serial port and listens only once it saw DTR go off and on again
//! with RTS off. Records stand between 0x7B and 0x7D; inside, 0x5C goes before a byte
//! that would be one of these three, which is then combined with 0x40. A record is text:
//! a letter, upper-case hex, and two hex digits that make the sum of all bytes before
//! them (as characters) zero in eight bits.
//!
//! `Q` asks who it is: `q`, a name of any length, a comma, the longest record in
//! decimal. `W`, address in 6 digits (from the start of the flash), the bytes: the answer
//! is `k` and the number of bytes, or a number of `w` (wait) first; a page is erased when
//! its first byte is written. `R`, address, count in 2 digits: `r` and the bytes, but a
//! row of one and the same byte comes as `z` and that byte. `D`, address, length in 6
//! digits: `d` and the MD5 of it. `N` runs the application; some of them say `n` before
//! they do, some do not. Faults are `e` and a number of two digits: 01 sum, 02 place.

use std::time::Duration;

use md5::Digest;
use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::{Loader, acm};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::{BASE, SECTOR, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "ledger"
[carrier]
kind = "serial"
baud = 57600
dtr = false
rts = false
[framing]
kind = "markers"
start = "'{'"
end = "'}'"
escape = 0x5C
escape_xor = 0x40
[envelope]
send = "bytes body, hex(2) = -sum(above) & 0xFF"
reply = "bytes body, hex(2) = -sum(above) & 0xFF"
[table.fault]
1 = "the sum was wrong"
2 = "nothing may be written there"
[geometry]
chunk = 64
read_chunk = 32
[sync]
do = "dtr off rts off; wait 2 ms; dtr on; who"
[exchange.who]
send = "'Q'"
reply = "'q', bytes name, ',', dec longest"
within = "150 ms"
[identify]
do = "who"
tells = { name = "name" }
[write]
erases = true
send = "'W', hex(6) = address - origin, hexbytes = data"
reply = "'k', hex taken"
busy = "'w'"
pause = "0 ms"
refused = "'e', hex(2) fault in fault"
then = "expect taken == length else 'it did not take all bytes'"
tries = 3
[start]
row = 0
taken = 0
[exchange.look]
send = "'R', hex(6) = address - origin, hex(2) = length"
reply = "bytes(1) kind, hex(2) row if kind == 'z', hexbytes(length) data if kind == 'r'"
refused = "'e', hex(2) fault in fault"
[read]
do = "look; if kind == 'z' { let data = fill(length, row) }"
[restart]
send = "'N'"
reply = "'n'"
optional = true
within = "100 ms"
"#;

#[derive(Debug, Default)]
pub struct Ledger {
    line: acm::SerialLine,
    was_off: bool,
    listens: bool,
    leaves_at: Option<Duration>,
}

fn record(body: &str) -> Vec<u8> {
    let sum = body.bytes().fold(0_u8, u8::wrapping_sub);
    let mut wire = vec![0x7B];
    for byte in format!("{body}{sum:02X}").bytes() {
        match byte {
            0x7B | 0x7D | 0x5C => wire.extend([0x5C, byte ^ 0x40]),
            byte => wire.push(byte),
        }
    }
    wire.push(0x7D);
    wire
}

impl Ledger {
    fn answer(&mut self, now: Duration, flash: &mut Flash, text: &str) -> Vec<(Duration, String)> {
        let (body, sum) = text.split_at(text.len().saturating_sub(2));
        let found = body.bytes().fold(0_u8, u8::wrapping_sub);
        if u8::from_str_radix(sum, 16) != Ok(found) {
            return vec![(now, "e01".into())];
        }
        let number = |from: usize, to: usize| body.get(from..to).and_then(|hex| u32::from_str_radix(hex, 16).ok());
        let at = BASE + number(1, 7).unwrap_or(0xFF_FFFF);
        let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02X}")).collect::<String>();
        match body.as_bytes().first() {
            Some(b'Q') => vec![(now, "qLedger three,160".into())],
            Some(b'W') => {
                let digits = body.get(7..).unwrap_or_default();
                let data: Vec<u8> = (0..digits.len() / 2)
                    .filter_map(|i| u8::from_str_radix(&digits[i * 2..i * 2 + 2], 16).ok())
                    .collect();
                if !writable(at, data.len()) {
                    return vec![(now, "e02".into())];
                }
                let wait = if (at - BASE).is_multiple_of(SECTOR) { 2 } else { 0 };
                if wait > 0 {
                    flash.erase(at..at + SECTOR);
                }
                flash.program(at, &data);
                let mut said: Vec<(Duration, String)> =
                    (1..=wait).map(|n| (now + Duration::from_millis(n), "w".to_owned())).collect();
                said.push((now + Duration::from_millis(wait + 1), format!("k{:X}", data.len())));
                said
            }
            Some(b'R') => match flash.read(at, number(7, 9).unwrap_or(0) as usize) {
                Some([first, rest @ ..]) if rest.iter().all(|byte| byte == first) => {
                    vec![(now, format!("z{first:02X}"))]
                }
                Some(bytes) => vec![(now, format!("r{}", hex(bytes)))],
                None => vec![(now, "e02".into())],
            },
            Some(b'D') => match flash.read(at, number(7, 13).unwrap_or(0) as usize) {
                Some(bytes) => vec![(now, format!("d{}", hex(&md5::Md5::digest(bytes))))],
                None => vec![(now, "e02".into())],
            },
            Some(b'N') => {
                self.leaves_at = Some(now + Duration::from_millis(30));
                Vec::new()
            }
            _ => vec![(now, "e02".into())],
        }
    }
}

impl Loader for Ledger {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        acm::interfaces("Ledger")
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let answer = self.line.control(setup, data).unwrap_or(Answer::Stall);
        if setup.request == 0x22 {
            let rts = setup.value & 2 != 0;
            self.listens |= self.line.dtr && self.was_off && !rts;
            self.was_off = !self.line.dtr;
        }
        answer
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        if !self.listens && matches!(transfer, Bulk::Out(..)) {
            return Answer::Done;
        }
        let answer = self.line.pipe(now, transfer);
        while let Some(end) = self.line.received.iter().position(|byte| *byte == 0x7D) {
            let raw: Vec<u8> = self.line.received.drain(..=end).collect();
            let start = raw.iter().position(|byte| *byte == 0x7B).map_or(end, |at| at + 1);
            let mut text = Vec::new();
            let mut bytes = raw[start..end].iter();
            while let Some(byte) = bytes.next() {
                text.push(if *byte == 0x5C { bytes.next().map_or(0, |byte| byte ^ 0x40) } else { *byte });
            }
            for (at, body) in self.answer(now, flash, &String::from_utf8_lossy(&text)) {
                self.line.replies.push((at, record(&body)));
            }
        }
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
