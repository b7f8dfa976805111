//! # Skein: eight blocks under way, and only the lost ones again
//!
//! Two bulk pipes carry a stream; the fields of a message determine its end. "h" is answered by
//! "HS". "e" with an address (u32be) erases the sector there and is answered by "E" when that is
//! done. "w" with an address opens a window of eight blocks of 32 bytes, answered by "W". "b" with
//! its number and its 32 bytes and a CRC-16 is a block; it is never answered, and one whose CRC is
//! wrong is dropped. The unit also drops a block now and then when it has no room. "a" asks what
//! arrived: "A" and a byte with a bit for each block. "c" programs the window, answered by "C" and
//! 0, or 1 if a block is missing. "r" with an address and a length (u8) is answered by "R", the
//! bytes and a CRC-16. "g" starts the application.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{Outbox, SECTOR, crc16, pipes, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "skein"
[carrier]
kind = "pipes"
[framing]
kind = "fields"
[crc.check]
width = 16
poly = 0x1021
init = 0xFFFF
[table.committed]
0 = "ok"
1 = "a block is missing"
[geometry]
chunk = 256
read_chunk = 128
[sync]
send = "'h'"
reply = "'HS'"
within = "200 ms"
[erase]
by = "page"
send = "'e', u32be address"
reply = "'E'"
[exchange.open]
send = "'w', u32be address"
reply = "'W'"
[exchange.block]
send = "'b', u8 = nth, bytes piece, u16be = check(above)"
[exchange.ask]
send = "'a'"
reply = "'A', u8 arrived"
[exchange.commit]
send = "'c'"
reply = "'C', u8 in committed"
[write]
do = '''
open
let missing = 0xFF
until missing == 0 every 0 ms within 5 s {
    each 32 of data {
        if missing >> nth & 1 == 1 { block }
    }
    ask
    let missing = ~arrived & 0xFF
}
commit
'''
[read]
send = "'r', u32be address, u8 = length & 0xFF"
reply = "'R', bytes(length) data, u16be = check(above)"
[restart]
send = "'g'"
"#;

#[derive(Debug, Default)]
pub struct Skein {
    received: Vec<u8>,
    outbox: Outbox,
    window: Option<(u32, [Option<Vec<u8>>; 8])>,
    blocks: u32,
    leaves_at: Option<Duration>,
}

impl Skein {
    /// Bytes of the message at the start of the stream; `None` for an unknown one.
    fn len(letter: u8) -> Option<usize> {
        Some(match letter {
            b'h' | b'a' | b'c' | b'g' => 1,
            b'e' | b'w' => 5,
            b'r' => 6,
            b'b' => 36,
            _ => return None,
        })
    }

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let at = message.get(1..5).map_or(0, |at| u32::from_be_bytes(at.try_into().unwrap()));
        match message[0] {
            b'h' => self.outbox.push(now, b"HS".to_vec()),
            b'e' if writable(at, SECTOR as usize) => {
                flash.erase(at..at + SECTOR);
                self.outbox.push(now + Flash::erase_time(SECTOR), b"E".to_vec());
            }
            b'w' if writable(at, 256) => {
                self.window = Some((at, Default::default()));
                self.outbox.push(now, b"W".to_vec());
            }
            b'b' => {
                self.blocks += 1;
                let (block, sum) = message.split_at(34);
                let is_whole = crc16(block).to_be_bytes() == *sum && !self.blocks.is_multiple_of(7);
                if let (Some((_, blocks)), true) = (&mut self.window, is_whole && block[1] < 8) {
                    blocks[usize::from(block[1])] = Some(block[2..].to_vec());
                }
            }
            b'a' => {
                let blocks = self.window.iter().flat_map(|(_, blocks)| blocks.iter().enumerate());
                let bits = blocks.filter(|(_, block)| block.is_some()).fold(0, |bits, (number, _)| bits | 1 << number);
                self.outbox.push(now, vec![b'A', bits]);
            }
            b'c' => match self.window.take() {
                Some((at, blocks)) if blocks.iter().all(Option::is_some) => {
                    flash.program(at, &blocks.into_iter().flatten().flatten().collect::<Vec<u8>>());
                    self.outbox.push(now + Flash::program_time(256), b"C\x00".to_vec());
                }
                _ => self.outbox.push(now, b"C\x01".to_vec()),
            },
            b'r' => {
                if let Some(bytes) = flash.read(at, usize::from(message[5])) {
                    let reply = [b"R", bytes].concat();
                    self.outbox.push(now, [&reply[..], &crc16(&reply).to_be_bytes()].concat());
                }
            }
            b'g' => self.leaves_at = Some(now + Duration::from_millis(40)),
            _ => {}
        }
    }
}

impl Loader for Skein {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Skein", &[0x01, 0x81], &[])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(1, data) => {
                self.received.extend_from_slice(data);
                while let Some(letter) = self.received.first().copied() {
                    match Self::len(letter) {
                        None => drop(self.received.remove(0)),
                        Some(len) if len > self.received.len() => break,
                        Some(len) => {
                            let message: Vec<u8> = self.received.drain(..len).collect();
                            self.message(now, flash, &message);
                        }
                    }
                }
                Answer::Done
            }
            Bulk::In(1, length) => self.outbox.pull(now, length),
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
