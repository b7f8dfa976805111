//! # Galley: lines of text over bulk pipes, and a buffer that is filled first
//!
//! Lines end with a line feed. "GALLEY?" is answered by "GALLEY 1 512": its version and the size of
//! its buffer. "WIPE" and an address in hex erases the sector, then "OK". "FILL" and a number of
//! bytes in decimal is answered by "SEND"; the bytes follow, as they are, and "GOT" and their CRC-32
//! in hex digits is the answer. "BURN" with an address programs the buffer there, then "OK". "SHOW"
//! with an address and a number gives "HERE" and a line feed, the bytes as they are, and "OK". "GO"
//! starts the application. Whatever is wrong is answered by "BAD" and a word. A line "!" empties the
//! buffer and ends whatever was going on; it is answered by "OK".

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{Outbox, SECTOR, crc32, pipes, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "galley"
[carrier]
kind = "pipes"
[framing]
kind = "fields"
[geometry]
chunk = 512
pad = false
read_chunk = 256
[exchange.hello]
send = "'GALLEY?\n'"
reply = "'GALLEY 1 ', dec buffer, '\n'"
within = "200 ms"
[exchange.calm]
send = "'!\n'"
reply = "'OK\n'"
[recover]
do = "drain; wait 20 ms; drain; calm"
at_start = true
[sync]
do = "hello"
[identify]
do = "hello"
tells = { buffer = "buffer" }
[erase]
by = "page"
send = "'WIPE ', hex = address, '\n'"
reply = "'OK\n'"
refused = "'BAD ', bytes reason, '\n'"
[exchange.fill]
send = "'FILL ', dec = len(data), '\n'"
reply = "'SEND\n'"
refused = "'BAD ', bytes reason, '\n'"
[exchange.load]
send = "bytes data"
reply = "'GOT ', hex(8) = crc32(data), '\n'"
[exchange.burn]
send = "'BURN ', hex = address, '\n'"
reply = "'OK\n'"
refused = "'BAD ', bytes reason, '\n'"
[write]
do = "fill; load; burn"
[read]
send = "'SHOW ', hex = address, ' ', dec = length, '\n'"
reply = "'HERE\n', bytes(length) data, 'OK\n'"
refused = "'BAD ', bytes reason, '\n'"
[restart]
send = "'GO\n'"
"#;

#[derive(Debug, Default)]
pub struct Galley {
    received: Vec<u8>,
    outbox: Outbox,
    /// Bytes of the buffer that are still to come.
    missing: usize,
    buffer: Vec<u8>,
    leaves_at: Option<Duration>,
}

impl Galley {
    fn line(&mut self, now: Duration, flash: &mut Flash, line: &str) -> Result<(Duration, Vec<u8>), &'static str> {
        let words: Vec<&str> = line.split(' ').collect();
        let address = |word: &str| u32::from_str_radix(word, 16).map_err(|_| "ADDRESS");
        let number = |word: &str| word.parse::<usize>().map_err(|_| "NUMBER");
        let mut time = Duration::ZERO;
        let reply = match words[..] {
            ["GALLEY?"] => b"GALLEY 1 512\n".to_vec(),
            ["!"] => {
                self.buffer.clear();
                b"OK\n".to_vec()
            }
            ["WIPE", at] => {
                let at = address(at)?;
                writable(at, SECTOR as usize).then(|| flash.erase(at..at + SECTOR)).ok_or("PLACE")?;
                time = Flash::erase_time(SECTOR);
                b"OK\n".to_vec()
            }
            ["FILL", size] => {
                self.missing = Some(number(size)?).filter(|size| (1..=512).contains(size)).ok_or("SIZE")?;
                self.buffer.clear();
                b"SEND\n".to_vec()
            }
            ["BURN", at] => {
                let at = address(at)?;
                if self.buffer.is_empty() || !writable(at, self.buffer.len()) {
                    return Err("PLACE");
                }
                flash.program(at, &self.buffer);
                time = Flash::program_time(512);
                b"OK\n".to_vec()
            }
            ["SHOW", at, size] => {
                let bytes = flash.read(address(at)?, number(size)?).ok_or("PLACE")?;
                [b"HERE\n", bytes, b"OK\n"].concat()
            }
            ["GO"] => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                Vec::new()
            }
            _ => return Err("WORD"),
        };
        Ok((time, reply))
    }

    fn work(&mut self, now: Duration, flash: &mut Flash) {
        loop {
            if self.missing > 0 {
                if self.received == b"!\n" {
                    self.missing = 0;
                    continue;
                }
                let count = self.missing.min(self.received.len());
                self.buffer.extend(self.received.drain(..count));
                self.missing -= count;
                if self.missing > 0 {
                    return;
                }
                self.outbox.push(now, format!("GOT {:08X}\n", crc32(&self.buffer)).into_bytes());
            }
            let Some(end) = self.received.iter().position(|byte| *byte == b'\n') else { return };
            let line: Vec<u8> = self.received.drain(..=end).take(end).collect();
            let (time, reply) = match self.line(now, flash, &String::from_utf8_lossy(&line)) {
                Ok(done) => done,
                Err(word) => (Duration::ZERO, format!("BAD {word}\n").into_bytes()),
            };
            if !reply.is_empty() {
                self.outbox.push(now + time, reply);
            }
        }
    }
}

impl Loader for Galley {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Galley", &[0x02, 0x83], &[])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(2, data) => {
                self.received.extend_from_slice(data);
                self.work(now, flash);
                Answer::Done
            }
            Bulk::In(3, length) => self.outbox.pull(now, length),
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
