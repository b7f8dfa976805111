//! # Spoken lines with an echo
//!
//! The bootloader has a serial port. It sends every byte back that it gets; lines end in
//! a line feed. Then comes its answer, a line of its own, and a prompt of two characters,
//! "? ". It starts at 9600 bits per second; after "fast" it says "+fast" and goes on at
//! 230400. Only there does it fill and burn.
//!
//! It has a page buffer of 256 bytes that is filled in pieces: "fill P HH…", with the
//! place P in decimal and up to 16 bytes as lower-case hex; the answer is "+" and the
//! number of bytes. "burn N" begins to burn the buffer into page N (erasing it first)
//! and answers "+burn"; while it burns, "state" answers "=busy NN" with a percentage,
//! then "=ready". "sum N" answers "#" and the sum of a page's bytes in five decimal
//! digits. "page" answers "#256 of 64". "go" answers "+go". What is wrong gets "!" and a
//! reason in words.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::{Loader, acm};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::{BASE, SECTOR, writable};

pub const DIALECT: &str = r##"
dialect = 1
name = "spoken"
[carrier]
kind = "serial"
baud = 9600
junk = 8
[framing]
kind = "delimiter"
end = "'\n'"
[geometry]
chunk = 256
[sync]
do = "line 9600; drain; wake; fast; line 230400; page"
[exchange.wake]
send = "''"
echo = true
within = "100 ms"
[exchange.fast]
send = "'fast'"
echo = true
reply = "'+fast'"
within = "200 ms"
[exchange.page]
send = "'page'"
echo = true
reply = "'#', dec size, ' of ', dec pages"
within = "200 ms"
[identify]
do = "page"
tells = { size = "size", pages = "pages" }
[exchange.put]
send = "'fill ', dec = place, ' ', lower_hexbytes = piece"
echo = true
reply = "'+', dec = len(piece)"
refused = "'!', bytes reason"
[exchange.burn]
send = "'burn ', dec = number"
echo = true
reply = "'+burn'"
refused = "'!', bytes reason"
[exchange.state]
send = "'state'"
echo = true
reply = "'=ready'"
busy = "'=busy ', dec(2) percent"
ask = "send"
within = "2 s"
[write]
erases = true
do = '''
    each 16 of data { put }
    burn(number = (address - origin) / size)
    state
'''
[exchange.add_up]
send = "'sum ', dec = number"
echo = true
reply = "'#', dec(5) found"
[checksum]
over = "chunk"
do = "add_up(number = (address - origin) / size)"
unit = "found"
image = "sum(data)"
[restart]
send = "'go'"
echo = true
reply = "'+go'"
"##;

#[derive(Debug)]
pub struct Spoken {
    line: acm::SerialLine,
    buffer: [u8; 256],
    busy_until: Duration,
    fast: bool,
    leaves_at: Option<Duration>,
}

impl Default for Spoken {
    fn default() -> Self {
        let line = acm::SerialLine::default();
        Self { line, buffer: [0xFF; 256], busy_until: Duration::ZERO, fast: false, leaves_at: None }
    }
}

impl Spoken {
    fn say(&mut self, now: Duration, flash: &mut Flash, line: &str) -> String {
        let words: Vec<&str> = line.split(' ').collect();
        let number = |word: &str| word.parse::<u32>().unwrap_or(u32::MAX / SECTOR);
        let busy = now < self.busy_until;
        match words[..] {
            ["fast"] => {
                self.fast = true;
                "+fast".into()
            }
            ["page"] => "#256 of 64".into(),
            ["state"] if busy => format!("=busy {:02}", 99 - (self.busy_until - now).as_millis().min(99)),
            ["state"] => "=ready".into(),
            _ if busy => "!busy".into(),
            ["fill" | "burn", ..] if !self.fast => "!too slow for that".into(),
            ["fill", place, hex] if hex.len() <= 32 => {
                let bytes: Vec<u8> =
                    (0..hex.len() / 2).filter_map(|i| u8::from_str_radix(&hex[i * 2..i * 2 + 2], 16).ok()).collect();
                let place = number(place) as usize;
                match self.buffer.get_mut(place..place + bytes.len()) {
                    Some(there) => {
                        there.copy_from_slice(&bytes);
                        format!("+{}", bytes.len())
                    }
                    None => "!outside of the buffer".into(),
                }
            }
            ["burn", page] if writable(BASE + number(page) * SECTOR, 256) => {
                let at = BASE + number(page) * SECTOR;
                flash.erase(at..at + SECTOR);
                flash.program(at, &self.buffer);
                self.buffer = [0xFF; 256];
                self.busy_until = now + Flash::erase_time(SECTOR) + Flash::program_time(SECTOR);
                "+burn".into()
            }
            ["burn", _] => "!not a page for you".into(),
            ["sum", page] => match flash.read(BASE + number(page) * SECTOR, 256) {
                Some(bytes) => format!("#{:05}", bytes.iter().map(|byte| u32::from(*byte)).sum::<u32>()),
                None => "!no such page".into(),
            },
            ["go"] => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                "+go".into()
            }
            [""] => String::new(),
            _ => "!what".into(),
        }
    }
}

impl Loader for Spoken {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        acm::interfaces("Spoken")
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let answer = self.line.control(setup, data).unwrap_or(Answer::Stall);
        if setup.request == 0x20 && self.line.baud == 9600 {
            // A new session begins.
            self.fast = false;
        }
        answer
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let expected = if self.fast { 230_400 } else { 9_600 };
        if matches!(transfer, Bulk::Out(..)) && self.line.baud != expected {
            // At another speed only rubbish arrives.
            return Answer::Done;
        }
        let answer = self.line.pipe(now, transfer);
        while let Some(end) = self.line.received.iter().position(|byte| *byte == b'\n') {
            let raw: Vec<u8> = self.line.received.drain(..=end).collect();
            let said = self.say(now, flash, String::from_utf8_lossy(&raw[..end]).as_ref());
            self.line.replies.push((now, raw));
            let said = if said.is_empty() { String::new() } else { format!("{said}\n") };
            self.line.replies.push((now, format!("{said}? ").into_bytes()));
        }
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
