//! # Porter: requests with nothing but numbers, and a helper in RAM
//!
//! The bootloader answers class requests to interface 2 and has no data stages to the
//! unit: all that is sent stands in wValue and wIndex. Its ROM can do little: request 1
//! (in, 8 bytes) tells a serial text of 4 letters and a seed u32le. Request 2 tells it a
//! key, low half in wValue, high half in wIndex: the seed after 24 rounds of a shift
//! register to the right with taps 0xA300_0000; without the right key everything else
//! stalls. Request 3 puts a word of two bytes (wIndex) at a byte offset in RAM (wValue);
//! request 4 starts what was put there, if the sum of its bytes is wValue. Only that
//! helper can erase and write.
//!
//! Helper: request 5 erases the page of wValue (pages of 256 bytes from the flash's
//! start), 6 writes wIndex at word number wValue (words of two bytes), 7 (in, 4 bytes)
//! tells its state, bits from the highest: 1 bit at work, 3 bits fault (0 none, 1 page, 2
//! not blank), 12 bits of the last page, then the margin of the supply in millivolts as
//! a signed i16be; below 0 nothing is written. While it is at work all but 7 stalls. 8
//! (in) reads wIndex bytes from byte offset wValue, 128 at the most. 9 starts the
//! application.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use super::{BASE, SECTOR, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "porter"
[carrier]
kind = "control"
type = "class"
to = "interface"
interface = 2
[table.fault]
0 = "ok"
1 = "the page is not for you"
2 = "the word is not blank"
[geometry]
chunk = 128
order = "descending"
[identify]
in = { request = 1 }
reply = "bytes(4) text, u32le seed"
tells = { text = "text" }
[exchange.tell_key]
out = { request = 2, value = "key & 0xFFFF", index = "key >> 16 & 0xFFFF" }
[unlock]
do = '''
    let key = rounds(24, k = seed: k & 1 == 1 ? k >> 1 ^ 0xA3000000 : k >> 1)
    tell_key
'''
[exchange.put]
out = { request = 3, value = "place & 0xFFFF", index = "le(piece)" }
[exchange.start]
out = { request = 4, value = "sum(data) & 0xFFFF" }
[helper]
data = "13 37 C0 DE 01 02 03 04 F0 0D BE EF 55 AA"
do = "each 2 of data { put }; start"
[exchange.state]
in = { request = 7 }
reply = "bits16be(at_work:1, fault:3 in fault, page:12), i16be margin"
[steps.ready]
do = '''
    until at_work == 0 every 1 ms within 2 s { state }
    expect margin >= 0 else "the supply is too low to write"
'''
[exchange.wipe]
out = { request = 5, value = "number" }
[erase]
by = "page"
do = "wipe(number = (address - origin) / 256 & 0xFFFF); ready"
[exchange.word]
out = { request = 6, value = "(address - origin + place) / 2 & 0xFFFF", index = "le(piece)" }
[write]
do = "each 2 of data { word; ready }"
[read]
in = { request = 8, value = "address - origin & 0xFFFF", index = "length & 0xFFFF", length = "length" }
reply = "bytes(length) data"
[restart]
out = { request = 9 }
"#;

/// The sum of the helper's bytes, counted by hand: 0x13 + 0x37 + 0xC0 + 0xDE is 488,
/// 1 to 4 are 10, 0xF0 + 0x0D + 0xBE + 0xEF is 682, 0x55 + 0xAA is 255.
const HELPER_SUM: u16 = 488 + 10 + 682 + 255;
const SEED: u32 = 0x9C47_13E5;

#[derive(Debug, Default)]
pub struct Porter {
    open: bool,
    ram: Vec<u8>,
    helping: bool,
    fault: u16,
    page: u16,
    busy_until: Duration,
    leaves_at: Option<Duration>,
}

impl Porter {
    fn key() -> u32 {
        let mut key = SEED;
        for _ in 0..24 {
            let bit = key & 1;
            key >>= 1;
            key ^= bit * 0xA300_0000;
        }
        key
    }

    fn help(&mut self, now: Duration, flash: &mut Flash, setup: Setup) -> Answer {
        let at = BASE + u32::from(setup.value) * 2;
        match (setup.kind, setup.request) {
            (0x21, 5) => {
                let page = BASE + u32::from(setup.value) * SECTOR;
                self.page = setup.value;
                self.fault = u16::from(!writable(page, SECTOR as usize));
                if self.fault == 0 {
                    flash.erase(page..page + SECTOR);
                    self.busy_until = now + Flash::erase_time(SECTOR);
                }
                Answer::Done
            }
            (0x21, 6) if writable(at, 2) => {
                let blank = flash.read(at, 2) == Some(&[0xFF, 0xFF]);
                self.fault = if blank { 0 } else { 2 };
                if blank {
                    flash.program(at, &setup.index.to_le_bytes());
                    self.busy_until = now + Duration::from_micros(30);
                }
                Answer::Done
            }
            (0xA1, 8) if setup.index <= 128 => {
                match flash.read(BASE + u32::from(setup.value), usize::from(setup.index)) {
                    Some(bytes) => Answer::Data(bytes.to_vec()),
                    None => Answer::Stall,
                }
            }
            (0x21, 9) => {
                self.leaves_at = Some(now + Duration::from_millis(30));
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }
}

impl Loader for Porter {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let descriptors = |name: &str| DescribedInterface {
            class: [0xFF, 7, 0],
            names: vec![name.to_owned()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        vec![descriptors("One"), descriptors("Two"), descriptors("Porter")]
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        if !data.is_empty() || (setup.request != 8 && setup.index != 2 && matches!(setup.request, 1 | 7)) {
            return Answer::Stall;
        }
        match (setup.kind, setup.request) {
            (0xA1, 1) => Answer::Data([&b"PORT"[..], &SEED.to_le_bytes()].concat()),
            (0x21, 2) => {
                self.open = u32::from(setup.value) | u32::from(setup.index) << 16 == Self::key();
                if self.open { Answer::Done } else { Answer::Stall }
            }
            _ if !self.open => Answer::Stall,
            (0x21, 3) => {
                self.ram.resize(self.ram.len().max(usize::from(setup.value) + 2), 0);
                self.ram[usize::from(setup.value)..][..2].copy_from_slice(&setup.index.to_le_bytes());
                Answer::Done
            }
            (0x21, 4) => {
                let sum: u16 = self.ram.iter().map(|byte| u16::from(*byte)).sum();
                self.helping = sum == setup.value && sum == HELPER_SUM;
                if self.helping { Answer::Done } else { Answer::Stall }
            }
            (0xA1, 7) if self.helping => {
                let work = u16::from(now < self.busy_until) << 15;
                Answer::Data([(work | self.fault << 12 | self.page).to_be_bytes(), 35_i16.to_be_bytes()].concat())
            }
            _ if self.helping && now >= self.busy_until => self.help(now, flash, setup),
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
