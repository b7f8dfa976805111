//! # Belfry: the status comes on a pipe of its own
//!
//! The host sends on the bulk pipe 0x01 and gets data on the bulk pipe 0x82. After each message the
//! unit reports on the interrupt pipe 0x83: "S", a code, the number of bytes it took or gave
//! (u16le) and the address (u32le). The code is 0, 1 "more time is needed" (another report follows),
//! 4 "no such place", 5 "not erased".
//!
//! Messages: "N" is reported with the address of the first byte that may be written. "E" and an
//! address erases the sector, with a report that more time is needed at once, and another when it
//! is done. "W", an address and up to 256 bytes programs them. "R", an address and a length (u16le)
//! sends the bytes on 0x82, then the report. "Q" starts the application, without a report.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{Outbox, SECTOR, START, pipes, word, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "belfry"
[carrier]
kind = "pipes"
pipe_out = 0x01
pipe_in = 0x82
[table.code]
0 = "ok"
1 = "busy"
4 = "the unit has no memory at this address"
5 = "the bytes there are not erased"
[geometry]
chunk = 256
[exchange.report]
pipe_in = 0x83
reply = "'S', u8 in code, u16le count, u32le at"
[exchange.name]
send = "'N'"
[exchange.wipe]
send = "'E', u32le address"
[exchange.put]
send = "'W', u32le address, bytes data"
[exchange.get]
send = "'R', u32le address, u16le = length & 0xFFFF"
reply = "bytes(length) data"
[sync]
do = "drain; name; report"
[identify]
do = "name; report"
tells = { first = "at" }
[erase]
by = "page"
do = "wipe; report; expect at == address else 'another sector was erased'"
[write]
do = '''
put; report
expect at == address and count == len(data) else 'the report is about other bytes'
'''
[read]
do = '''
get; report
expect at == address and count == length else 'the report is about other bytes'
'''
[restart]
send = "'Q'"
"#;

#[derive(Debug, Default)]
pub struct Belfry {
    data: Outbox,
    reports: Outbox,
    leaves_at: Option<Duration>,
}

impl Belfry {
    fn report(&mut self, at: Duration, code: u8, count: usize, place: u32) {
        let count = u16::try_from(count).unwrap();
        self.reports.push(at, [&[b'S', code][..], &count.to_le_bytes(), &place.to_le_bytes()].concat());
    }

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let at = message.get(1..5).map_or(0, word);
        match message {
            [b'N'] => {
                // A new program begins: what an earlier one did not fetch is gone.
                (self.data, self.reports) = (Outbox::default(), Outbox::default());
                self.report(now, 0, 0, START);
            }
            [b'E', ..] if writable(at, SECTOR as usize) => {
                flash.erase(at..at + SECTOR);
                self.report(now, 1, 0, at);
                self.report(now + Flash::erase_time(SECTOR), 0, 0, at);
            }
            [b'W', _, _, _, _, data @ ..] if writable(at, data.len()) => {
                let is_erased = flash.read(at, data.len()).unwrap().iter().all(|byte| *byte == 0xFF);
                if is_erased {
                    flash.program(at, data);
                }
                self.report(now + Flash::program_time(256), if is_erased { 0 } else { 5 }, data.len(), at);
            }
            [b'R', _, _, _, _, low, high] => {
                let length = usize::from(u16::from_le_bytes([*low, *high]));
                match flash.read(at, length) {
                    Some(bytes) => {
                        self.data.push(now, bytes.to_vec());
                        self.report(now, 0, length, at);
                    }
                    None => self.report(now, 4, 0, at),
                }
            }
            [b'Q'] => self.leaves_at = Some(now + Duration::from_millis(40)),
            _ => self.report(now, 4, 0, at),
        }
    }
}

impl Loader for Belfry {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Belfry", &[0x01, 0x82], &[0x83])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(1, data) => {
                self.message(now, flash, data);
                Answer::Done
            }
            Bulk::In(2, length) => self.data.pull(now, length),
            Bulk::In(3, length) => self.reports.pull(now, length),
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
