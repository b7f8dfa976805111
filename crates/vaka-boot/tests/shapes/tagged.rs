//! # Tagged packets on a serial line
//!
//! The bootloader has a serial port. Packets are framed by RFC 1055. A packet is a
//! sequence number (1 byte), a kind (1 byte), its bytes, and a CRC-16 over all of that
//! (polynomial 0x8005, start 0x1234, bits reflected, little-endian). The answer has the
//! same sequence number, the kind plus 1, and its own CRC. The number goes up by one
//! with each packet that was answered; a packet with the number of the one before is
//! answered again and not carried out again. A packet with a bad CRC gets no answer.
//!
//! Memory is addressed in 16-bit words from the start of the flash. Kinds: 0x10 hello
//! (answer: "TG", page size u16le); 0x20 erase a page (page u16le; answer: result);
//! 0x30 write (word address u16le, up to 96 bytes; answer: result); 0x40 read (word
//! address u16le, count u8; reply: result, `count` bytes); 0x50 start. Result: 0 good,
//! 3 not allowed, 9 not blank. A sequence number 0 in hello begins a new count.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::{Loader, acm};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::{BASE, SECTOR, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "tagged"
[carrier]
kind = "serial"
junk = 64
[framing]
kind = "slip"
[crc.packet]
width = 16
poly = 0x8005
init = 0x1234
reflect = true
[start]
number = 0
[envelope]
send = "u8 = number, bytes body, u16le = packet(above)"
reply = "u8 = number, bytes body, u16le = packet(above)"
then = "let number = number + 1 & 0xFF"
[table.result]
0 = "ok"
3 = "that place may not be written"
9 = "that place is not blank"
[geometry]
chunk = 96
align = 2
pad = false
[sync]
do = "let number = 0; hello"
[exchange.hello]
send = "0x10"
reply = "0x11, 'TG', u16le page"
within = "200 ms"
[identify]
do = "hello"
tells = { page = "page" }
[erase]
by = "page"
send = "0x20, u16le = (address - origin) / page & 0xFFFF"
reply = "0x21, u8 in result"
tries = 3
[write]
send = "0x30, u16le = (address - origin) / 2 & 0xFFFF, bytes data"
reply = "0x31, u8 in result"
tries = 3
[read]
send = "0x40, u16le = (address - origin) / 2 & 0xFFFF, u8 = length & 0xFF"
reply = "0x41, u8 in result, bytes(length) data"
[restart]
send = "0x50"
reply = "0x51"
"#;

#[derive(Debug, Default)]
pub struct Tagged {
    line: acm::SerialLine,
    expected: u8,
    last: Option<(u8, Vec<u8>)>,
    leaves_at: Option<Duration>,
}

fn crc(bytes: &[u8]) -> [u8; 2] {
    // Bit by bit, as a data sheet would draw it.
    let mut sum: u16 = 0x1234_u16.reverse_bits();
    for byte in bytes {
        sum ^= u16::from(*byte);
        for _ in 0..8 {
            sum = if sum & 1 == 1 { sum >> 1 ^ 0xA001 } else { sum >> 1 };
        }
    }
    sum.to_le_bytes()
}

impl Tagged {
    fn packet(&mut self, now: Duration, flash: &mut Flash, packet: &[u8]) {
        let Some((body, sum)) = packet.split_last_chunk::<2>() else { return };
        let [number, kind, rest @ ..] = body else { return };
        if crc(body) != *sum {
            return;
        }
        if let Some((last, answer)) = &self.last
            && last == number
            && *kind != 0x10
        {
            return self.line.replies.push((now, answer.clone()));
        }
        let word = |at: usize| rest.get(at..at + 2).map_or(0, |b| u32::from(u16::from_le_bytes([b[0], b[1]])));
        let (bytes, time) = match *kind {
            0x10 => {
                self.expected = *number;
                ([&b"TG"[..], &[0, 1]].concat(), Duration::ZERO)
            }
            _ if *number != self.expected => return,
            0x20 if writable(BASE + word(0) * SECTOR, SECTOR as usize) => {
                flash.erase(BASE + word(0) * SECTOR..BASE + (word(0) + 1) * SECTOR);
                (vec![0], Flash::erase_time(SECTOR))
            }
            0x30 if writable(BASE + word(0) * 2, rest.len() - 2) && rest.len() <= 98 => {
                let (at, data) = (BASE + word(0) * 2, &rest[2..]);
                match flash.read(at, data.len()).unwrap().iter().all(|byte| *byte == 0xFF) {
                    true => {
                        flash.program(at, data);
                        (vec![0], Flash::program_time(96))
                    }
                    false => (vec![9], Duration::ZERO),
                }
            }
            0x40 => match flash.read(BASE + word(0) * 2, usize::from(rest[2])) {
                Some(bytes) => ([&[0], bytes].concat(), Duration::ZERO),
                None => (vec![3], Duration::ZERO),
            },
            0x50 => {
                self.leaves_at = Some(now + Duration::from_millis(50));
                (Vec::new(), Duration::ZERO)
            }
            _ => (vec![3], Duration::ZERO),
        };
        let mut answer = [&[*number, kind + 1], &bytes[..]].concat();
        answer.extend(crc(&answer));
        let mut wire = vec![0xC0];
        for byte in answer {
            match byte {
                0xC0 => wire.extend([0xDB, 0xDC]),
                0xDB => wire.extend([0xDB, 0xDD]),
                byte => wire.push(byte),
            }
        }
        wire.push(0xC0);
        self.expected = number.wrapping_add(1);
        self.last = Some((*number, wire.clone()));
        self.line.replies.push((now + time, wire));
    }
}

impl Loader for Tagged {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        acm::interfaces("Tagged")
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        self.line.control(setup, data).unwrap_or(Answer::Stall)
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let answer = self.line.pipe(now, transfer);
        while let Some(end) = self.line.received.iter().position(|byte| *byte == 0xC0) {
            let raw: Vec<u8> = self.line.received.drain(..=end).take(end).collect();
            let mut packet = Vec::new();
            let mut bytes = raw.into_iter();
            while let Some(byte) = bytes.next() {
                packet.push(match byte {
                    0xDB if bytes.next() == Some(0xDC) => 0xC0,
                    byte => byte,
                });
            }
            self.packet(now, flash, &packet);
        }
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
