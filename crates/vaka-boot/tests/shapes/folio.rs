//! # Folio: a table that gives regions their places
//!
//! Two bulk pipes; a transfer is a message. At the start of the memory behind the bootloader is a sector
//! with a table: entries of 24 bytes, each with the bytes C7 3E, two of no meaning, an address and a
//! size (u32le), both in sectors from the start of the flash, and a name of up to 12 bytes, filled up
//! with 0. The first entry that begins otherwise ends the table. The unit starts the application at the
//! place of the entry "app"; it appears at the addresses for which it is linked.
//!
//! A message begins with a number of the host (u8) and a letter; the answer repeats both, and its third
//! byte is 0, or 1 if the unit refuses. "e" with an address (u32le) erases a sector; "w" with an address
//! and 32 bytes programs them; "r" with an address and a length (u8, at most 60) gives the bytes; "s"
//! starts the application.

use std::ops::Range;
use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{BASE, Messages, Outbox, SECTOR, START, pipes, word, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "folio"
[carrier]
kind = "pipes"
[table.result]
0 = "ok"
1 = "the unit refuses"
[geometry]
chunk = 32
read_chunk = 48
[start]
number = 0
[envelope]
send = "u8 = number, bytes body"
reply = "u8 = number, bytes body"
then = "let number = number + 1 & 0xFF"
[recover]
do = "drain"
at_start = true
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
send = "'s'"
reply = "'s', u8 in result"
"#;

/// The flash and the images in the sheet. Each region is placed by the table, if that has it.
pub const SHEET: &str = r#"
[variant.table]
region = "table"
entry = 24
magic = "C7 3E"
address = { offset = 4 }
size = { offset = 8 }
name = { offset = 12, length = 12 }
unit = 256
base = 0x0B00_0000
[variant.image]
region = "app"
binary_at = 0x0B00_0C00
version = { offset = 0x4C }
marks = [{ offset = 0x40, text = "SHP1", meaning = "board" }]
length = { offset = 0x44, form = "u32le", plus = 4 }
checksum = { kind = "crc32", form = "u32le" }
[[variant.further_image]]
region = "table"
marks = [{ offset = 0, bytes = "C7 3E", meaning = "first entry" }]
[[variant.further_image]]
region = "texts"
marks = [{ offset = 0, text = "TXT1", meaning = "kind" }]
[[variant.region]]
name = "bootloader"
start = 0x0B00_0000
size = "2 KiB"
[[variant.region]]
name = "table"
start = 0x0B00_0800
size = 256
[[variant.region]]
name = "app"
start = 0x0B00_0C00
size = "5 KiB"
[[variant.region]]
name = "texts"
start = 0x0B00_2000
size = "3 KiB"
[[variant.region]]
name = "settings"
start = 0x0B00_3800
size = "2 KiB"
"#;

/// The place of the application and of the texts according to the sheet.
pub const PLACES: [Range<u32>; 2] = [BASE + 0xC00..BASE + 0x2000, BASE + 0x2000..BASE + 0x2C00];
/// Those of a unit of another batch.
pub const OTHER_PLACES: [Range<u32>; 2] = [BASE + 0x1800..BASE + 0x2C00, BASE + 0xC00..BASE + 0x1800];

/// A table with these places.
pub fn table(places: &[Range<u32>; 2]) -> Vec<u8> {
    let entry = |(name, place): (&str, &Range<u32>)| {
        let numbers = [(place.start - BASE) / SECTOR, (place.end - place.start) / SECTOR];
        let mut entry = [&[0xC7, 0x3E, 0xFF, 0xFF][..], &numbers[0].to_le_bytes(), &numbers[1].to_le_bytes()].concat();
        entry.extend(name.as_bytes());
        entry.resize(entry.len() + 12 - name.len(), 0);
        entry
    };
    ["app", "texts"].into_iter().zip(places).flat_map(entry).collect()
}

/// The content behind the bootloader as the unit leaves its maker.
pub fn factory(places: &[Range<u32>; 2], application: &[u8]) -> Vec<u8> {
    let end = places.iter().map(|place| place.end).max().unwrap();
    let mut content = vec![0xFF; (end - START) as usize];
    content[..48].copy_from_slice(&table(places));
    let at = (places[0].start - START) as usize;
    content[at..at + application.len()].copy_from_slice(application);
    content
}

/// The place of the application.
pub fn running(flash: &Flash) -> Range<u32> {
    let table = flash.read(START, 256).unwrap();
    let is_entry = |entry: &&[u8]| entry.starts_with(&[0xC7, 0x3E]) && entry[12..].starts_with(b"app\0");
    match table.chunks_exact(24).find(is_entry) {
        Some(entry) => {
            let start = BASE + word(&entry[4..]) * SECTOR;
            start..start + word(&entry[8..]) * SECTOR
        }
        None => START..START,
    }
}

#[derive(Debug, Default)]
pub struct Folio {
    outbox: Outbox,
    leaves_at: Option<Duration>,
}

impl Messages for Folio {
    fn outbox(&mut self) -> &mut Outbox {
        &mut self.outbox
    }

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let [number, letter, rest @ ..] = message else { return };
        let at = rest.get(..4).map_or(0, word);
        let (time, bytes) = match letter {
            b'e' if rest.len() == 4 && at % SECTOR == 0 && writable(at, 256) => {
                flash.erase(at..at + SECTOR);
                (Flash::erase_time(SECTOR), vec![0])
            }
            b'w' if rest.len() == 36 && writable(at, 32) => {
                flash.program(at, &rest[4..]);
                (Flash::program_time(32), vec![0])
            }
            b'r' if rest.len() == 5 => match flash.read(at, usize::from(rest[4])) {
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

impl Loader for Folio {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Folio", &[0x01, 0x81], &[])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.transfer(now, flash, transfer)
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
