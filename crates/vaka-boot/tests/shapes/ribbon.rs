//! # Ribbon: a stream with numbered blocks
//!
//! Vendor requests on endpoint 0. 0x31 (in) gives "RB" and the block size. 0x32 begins a
//! stream with its length (32 bits) from the start of the application, and erases the sectors
//! that it covers. 0x33 is the next block; its number is wValue, and blocks follow each other
//! without addresses. 0x34 (in) gives 64 bytes of the application, from block wValue on. 0x35
//! ends the stream, or confirms what is there. 0x36 starts the application, and is refused
//! before 0x35.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use super::{END, SECTOR, START};

pub const DIALECT: &str = r#"
dialect = 1
name = "ribbon"
[carrier]
kind = "control"
largest = 64
[geometry]
chunk = 64
stream = true
[identify]
in = { request = 0x31 }
reply = "'RB', u16le block"
tells = { block = "block" }
[begin]
erases = "covered"
out = { request = 0x32 }
send = "u32le = length"
[write]
out = { request = 0x33, value = "index & 0xFFFF" }
send = "bytes data"
[read]
in = { request = 0x34, value = "(address - region_start) / 64 & 0xFFFF", length = "length" }
reply = "bytes(length) data"
[end]
out = { request = 0x35 }
[restart]
out = { request = 0x36 }
needs_end = true
"#;

#[derive(Debug, Default)]
pub struct Ribbon {
    next: u32,
    is_ended: bool,
    leaves_at: Option<Duration>,
}

impl Loader for Ribbon {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![DescribedInterface {
            class: [0xFF, 0, 0],
            names: vec!["Ribbon".to_owned()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        }]
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let value = u32::from(setup.value);
        match (setup.kind, setup.request) {
            (0xC0, 0x31) => Answer::Data(b"RB\x40\x00".to_vec()),
            (0x40, 0x32) => {
                let length = u32::from_le_bytes(data.try_into().unwrap_or([0xFF; 4]));
                if length > END - START {
                    return Answer::Stall;
                }
                let end = (START + length).next_multiple_of(SECTOR);
                (START..end).step_by(SECTOR as usize).for_each(|at| flash.erase(at..at + SECTOR));
                (self.next, self.is_ended) = (0, false);
                Answer::Done
            }
            (0x40, 0x33) if value == self.next => {
                flash.program(START + value * 64, data);
                self.next += 1;
                Answer::Done
            }
            (0xC0, 0x34) => match flash.read(START + value * 64, usize::from(setup.length)) {
                Some(bytes) => Answer::Data(bytes.to_vec()),
                None => Answer::Stall,
            },
            (0x40, 0x35) => {
                self.is_ended = true;
                Answer::Done
            }
            (0x40, 0x36) if self.is_ended => {
                self.leaves_at = Some(now + Duration::from_millis(30));
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
