//! # Tally: a number that outlives a program
//!
//! Two bulk pipes; a transfer is a message. Every message begins with a number that is one more
//! than that of the message before, modulo 256, and the unit keeps it as long as it has power: a
//! program that starts has to ask for it. A transfer with the one byte "#" does that, without a
//! number; the answer is "#" and the number that is expected next. A message with another number
//! is answered by "!" and nothing is done.
//!
//! A message is the number, a letter and its bytes; the answer is the number, the letter and the
//! answer's bytes. "z" with an address (u32le) erases the sector; "p" with an address and up to 54
//! bytes programs them; "k" with an address and a length (u8, at most 48) gives the bytes; "s"
//! starts the application. The answer's first byte is 0, or 1 where the unit may not write.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{Maker, Messages, Outbox, SECTOR, pipes, word, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "tally"
[carrier]
kind = "pipes"
[start]
number = 0
[table.result]
0 = "ok"
1 = "the unit does not write there"
[envelope]
send = "u8 = number, bytes body"
reply = "u8 = number, bytes body"
then = "let number = number + 1 & 0xFF"
[geometry]
chunk = 32
read_chunk = 48
[exchange.ask_number]
send = "'#'"
reply = "'#', u8 expected"
bare = true
[steps.follow]
do = "ask_number; let number = expected"
[recover]
do = "drain; follow"
at_start = true
[sync]
do = "follow"
[erase]
by = "page"
send = "'z', u32le address"
reply = "'z', u8 in result"
[write]
send = "'p', u32le address, bytes data"
reply = "'p', u8 in result"
[read]
send = "'k', u32le address, u8 = length & 0xFF"
reply = "'k', u8 in result, bytes(length) data"
[restart]
send = "'s'"
reply = "'s', u8 in result"
"#;

#[derive(Debug)]
struct Tally {
    outbox: Outbox,
    /// The number that is expected next, as long as the unit has power.
    next: Arc<Mutex<u8>>,
    leaves_at: Option<Duration>,
}

pub fn maker() -> Maker {
    let next = Arc::new(Mutex::new(7));
    Box::new(move || Box::new(Tally { outbox: Outbox::default(), next: Arc::clone(&next), leaves_at: None }))
}

impl Messages for Tally {
    fn outbox(&mut self) -> &mut Outbox {
        &mut self.outbox
    }

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let next = *self.next.lock().unwrap();
        let [number, letter, rest @ ..] = message else {
            return if message == b"#" {
                self.outbox.push(now, vec![b'#', next])
            };
        };
        if *number != next {
            return self.outbox.push(now, b"!".to_vec());
        }
        *self.next.lock().unwrap() = next.wrapping_add(1);
        let at = rest.get(..4).map_or(0, word);
        let (time, bytes) = match letter {
            b'z' if writable(at, SECTOR as usize) => {
                flash.erase(at..at + SECTOR);
                (Flash::erase_time(SECTOR), vec![0])
            }
            b'p' if rest.len() > 4 && writable(at, rest.len() - 4) => {
                flash.program(at, &rest[4..]);
                (Flash::program_time(64), vec![0])
            }
            b'k' if rest.len() == 5 => match flash.read(at, usize::from(rest[4])) {
                Some(bytes) => (Duration::ZERO, [&[0], bytes].concat()),
                None => (Duration::ZERO, vec![1]),
            },
            b's' => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                (Duration::ZERO, vec![0])
            }
            _ => (Duration::ZERO, vec![1]),
        };
        self.outbox.push(now + time, [&[*number, *letter], &bytes[..]].concat());
    }
}

impl Loader for Tally {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Tally", &[0x01, 0x81], &[])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.transfer(now, flash, transfer)
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
