//! # Berth: two slots, of which one runs
//!
//! Two bulk pipes; a transfer is a message. The flash has two slots of 6 KiB. In the last four bytes of
//! a slot stands its number (u32le); the slot with the higher one runs, and without any the first one.
//! The running slot appears at the addresses of the first one.
//!
//! "?" is answered by "?" and the slot that runs, 0 or 1. "e" with an address (u32le) erases the sector;
//! "w" with an address and 32 bytes programs them; "r" with an address and a length (u8, at most 60)
//! gives the bytes. "a" with a slot gives it a number above that of the other; "s" starts the running
//! slot. An answer repeats the letter; its second byte is 0, or 1 if the unit refuses: it never erases
//! or programs the slot that runs.

use std::ops::Range;
use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{Messages, Outbox, SECTOR, START, pipes, word};

pub const DIALECT: &str = r#"
dialect = 1
name = "berth"
[carrier]
kind = "pipes"
[table.result]
0 = "ok"
1 = "the unit refuses to change the slot that runs"
[geometry]
chunk = 32
read_chunk = 48
[identify]
send = "'?'"
reply = "'?', u8 running"
tells = { free = "1 - running" }
[erase]
by = "page"
send = "'e', u32le address"
reply = "'e', u8 in result"
[write]
send = "'w', u32le address, bytes data"
reply = "'w', u8 in result"
[read]
send = "'r', u32le address, u8 = length & 0xFF"
reply = "'r', u8 in result, bytes(length) data"
[restart]
do = "activate; go"
needs_end = true
[end]
do = "ask"
[exchange.ask]
send = "'?'"
reply = "'?', u8 _"
[exchange.activate]
send = "'a', u8 = 1 - running & 1"
reply = "'a', u8 in result"
[exchange.go]
send = "'s'"
reply = "'s', u8 in result"
"#;

const SLOT: u32 = 0x1800;
/// The slots.
pub const SLOTS: [Range<u32>; 2] = [START..START + SLOT, START + SLOT..START + 2 * SLOT];

fn number(flash: &Flash, slot: &Range<u32>) -> u32 {
    let number = flash.read(slot.end - 4, 4).map_or(u32::MAX, word);
    if number == u32::MAX { 0 } else { number }
}

fn running_index(flash: &Flash) -> usize {
    usize::from(number(flash, &SLOTS[1]) > number(flash, &SLOTS[0]))
}

/// The slot that runs.
pub fn running(flash: &Flash) -> Range<u32> {
    SLOTS[running_index(flash)].clone()
}

#[derive(Debug, Default)]
pub struct Berth {
    outbox: Outbox,
    leaves_at: Option<Duration>,
}

impl Messages for Berth {
    fn outbox(&mut self) -> &mut Outbox {
        &mut self.outbox
    }

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let [letter, rest @ ..] = message else { return };
        let at = rest.get(..4).map_or(0, word);
        let free = SLOTS[1 - running_index(flash)].clone();
        let is_free = |len: u32| free.contains(&at) && at + len <= free.end;
        let (time, bytes) = match letter {
            b'?' => (Duration::ZERO, vec![u8::from(running_index(flash) == 1)]),
            b'e' if is_free(SECTOR) => {
                flash.erase(at..at + SECTOR);
                (Flash::erase_time(SECTOR), vec![0])
            }
            b'w' if rest.len() == 36 && is_free(32) => {
                flash.program(at, &rest[4..]);
                (Flash::program_time(32), vec![0])
            }
            b'r' if rest.len() == 5 => match flash.read(at, usize::from(rest[4])) {
                Some(bytes) => (Duration::ZERO, [&[0], bytes].concat()),
                None => (Duration::ZERO, vec![1]),
            },
            b'a' if rest.len() == 1 && rest[0] < 2 => {
                let (slot, other) = (&SLOTS[usize::from(rest[0])], &SLOTS[usize::from(1 - rest[0])]);
                let next = number(flash, other) + 1;
                if number(flash, slot) < next {
                    flash.program(slot.end - 4, &next.to_le_bytes());
                }
                (Flash::program_time(4), vec![0])
            }
            b's' => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                (Duration::ZERO, vec![0])
            }
            _ => (Duration::ZERO, vec![1]),
        };
        self.outbox.push(now + time, [&[*letter], &bytes[..]].concat());
    }
}

impl Loader for Berth {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Berth", &[0x01, 0x81], &[])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.transfer(now, flash, transfer)
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
