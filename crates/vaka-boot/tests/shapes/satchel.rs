//! # Satchel: bulk pipes with requests beside them
//!
//! A command on the bulk pipe has 8 bytes: a letter, 0, a length (u16le) and an address (u32le).
//! "P" erases the sector at the address. After "W" its bytes follow, in any number of transfers,
//! and an empty packet ends them. "R" is answered on the other pipe with the bytes and their sum,
//! in one transfer of several packets.
//!
//! Nothing else is said on the pipes. The vendor request 0x21 (in) tells the state: 0 ready, 1
//! busy, 2 confused; and how many bytes the last "W" got (u16le). Whatever does not fit confuses
//! the unit: then its pipes stall until the request 0x22 (out) drops what was begun. A transfer
//! that a program left open is still open for the next program. 0x20 (in) gives "ST" and the size
//! of a sector (u16le); 0x23 (out) starts the application.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::{Outbox, SECTOR, pipes, sum, word, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "satchel"
[carrier]
kind = "pipes"
[table.state]
0 = "ok"
1 = "busy"
2 = "the unit is confused"
[geometry]
chunk = 256
[exchange.state]
in = { request = 0x21 }
reply = "u8 in state, u16le received"
[exchange.drop]
out = { request = 0x22 }
[exchange.command]
send = "bytes letter, 0x00, u16le size, u32le address"
[exchange.bytes]
send = "bytes data"
[exchange.finish]
send = ""
[exchange.fetch]
reply = "bytes(length) data, u8 = sum(data) & 0xFF"
[recover]
do = "drop"
at_start = true
[identify]
in = { request = 0x20 }
reply = "'ST', u16le sector"
tells = { sector = "sector" }
[erase]
by = "page"
do = "command(letter = 'P', size = 0); state"
[write]
do = '''
command(letter = 'W', size = len(data)); bytes; finish; state
expect received == len(data) else 'the unit did not receive all bytes'
'''
[read]
do = "command(letter = 'R', size = length & 0xFFFF); fetch"
[restart]
out = { request = 0x23 }
"#;

#[derive(Debug, Default)]
pub struct Satchel {
    outbox: Outbox,
    /// The bytes of an open "W" and its address.
    open: Option<(u32, usize, Vec<u8>)>,
    is_confused: bool,
    received: u16,
    busy_until: Duration,
    leaves_at: Option<Duration>,
}

impl Satchel {
    fn command(&mut self, now: Duration, flash: &mut Flash, bytes: &[u8]) -> Option<()> {
        let [letter, 0, _, _, ..] = *bytes else { return None };
        let (size, at) = (usize::from(u16::from_le_bytes([bytes[2], bytes[3]])), word(&bytes[4..8]));
        match letter {
            b'P' if writable(at, SECTOR as usize) && at.is_multiple_of(SECTOR) => {
                flash.erase(at..at + SECTOR);
                self.busy_until = now + Flash::erase_time(SECTOR);
            }
            b'W' if writable(at, size) => self.open = Some((at, size, Vec::new())),
            b'R' => {
                let bytes = flash.read(at, size)?;
                self.outbox.push(now, [bytes, &[sum(bytes)]].concat());
            }
            _ => return None,
        }
        Some(())
    }

    fn take(&mut self, now: Duration, flash: &mut Flash, data: &[u8]) -> Option<()> {
        let Some((at, size, mut bytes)) = self.open.take() else {
            return (data.len() == 8).then(|| self.command(now, flash, data))?;
        };
        if !data.is_empty() {
            bytes.extend_from_slice(data);
            let fits = bytes.len() <= size;
            self.open = Some((at, size, bytes)).filter(|_| fits);
            return fits.then_some(());
        }
        (bytes.len() == size).then_some(())?;
        flash.program(at, &bytes);
        self.received = u16::try_from(size).ok()?;
        self.busy_until = now + Flash::program_time(u32::try_from(size).ok()?);
        Some(())
    }
}

impl Loader for Satchel {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Satchel", &[0x01, 0x81], &[])
    }

    fn control(&mut self, now: Duration, _: &mut Flash, setup: Setup, _: &[u8]) -> Answer {
        match (setup.kind, setup.request) {
            (0xC0, 0x20) => Answer::Data(b"ST\x00\x01".to_vec()),
            (0xC0, 0x21) => {
                let state = if self.is_confused { 2 } else { u8::from(now < self.busy_until) };
                Answer::Data([&[state][..], &self.received.to_le_bytes()].concat())
            }
            (0x40, 0x22) => {
                (self.open, self.is_confused, self.received) = (None, false, 0);
                self.outbox = Outbox::default();
                Answer::Done
            }
            (0x40, 0x23) => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            _ if self.is_confused => Answer::Stall,
            Bulk::Out(1, _) if now < self.busy_until => Answer::Busy,
            Bulk::Out(1, data) => {
                self.is_confused = self.take(now, flash, data).is_none();
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
