//! # Casket: a package that only the bootloader opens
//!
//! Two bulk pipes; a transfer is a message, its first byte a letter, and each answer repeats it. "h"
//! with the 20 bytes of a header begins: "SKP2", two letters for the hardware, the version (three
//! bytes), 0, the length (u32be), the CRC-32 of the package (u32be) and 0. The unit refuses another
//! hardware with 2, and erases its application. "b" with up to 48 bytes continues the package: the unit
//! decrypts each byte by the exclusive or with the low byte of 167 times its place plus 29, and
//! programs it. "c" is answered by 0 if the length and the CRC of the package are those of the header,
//! else by 1. "s" starts the application, if that was so. Nothing can be read.

use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{END, Messages, Outbox, SECTOR, START, crc32, pipes};

pub const DIALECT: &str = r#"
dialect = 1
name = "casket"
[carrier]
kind = "pipes"
[table.result]
0 = "ok"
1 = "the package is damaged"
2 = "the package is for other hardware"
[geometry]
chunk = 48
pad = false
stream = true
[begin]
erases = "everything"
send = "'h', bytes header"
reply = "'h', u8 in result"
[write]
send = "'b', bytes data"
reply = "'b', u8 in result"
[end]
send = "'c'"
reply = "'c', u8 in result"
[restart]
send = "'s'"
reply = "'s', u8 in result"
"#;

/// The keys of the sheet that describe such a package.
pub const IMAGE: &str = "opaque = true\nheader_marks = [{ offset = 4, text = \"K7\", meaning = \"hardware\" }]\n";
pub const WRAPPER: &str = "[[wrapper]]\nname = \"Skerrow package\"\nmagic = \"53 4B 50 32\"\nheader = 20\n\
    opaque = true\nversion = { offset = 6, form = \"bytes\" }\nlength = { offset = 10, form = \"u32be\" }\n\
    checksum = { offset = 14, form = \"u32be\", kind = \"crc32\" }\n";

fn key(at: usize) -> u8 {
    (167 * at + 29).to_le_bytes()[0]
}

/// A package with this application.
pub fn package(application: &[u8], hardware: [u8; 2], version: [u8; 3]) -> Vec<u8> {
    let payload: Vec<u8> = application.iter().enumerate().map(|(at, byte)| byte ^ key(at)).collect();
    let length = u32::try_from(payload.len()).unwrap().to_be_bytes();
    let head = [&b"SKP2"[..], &hardware, &version, &[0], &length, &crc32(&payload).to_be_bytes(), &[0, 0]].concat();
    [head, payload].concat()
}

#[derive(Debug, Default)]
pub struct Casket {
    outbox: Outbox,
    /// The length and the CRC of the header.
    expected: Option<(usize, u32)>,
    package: Vec<u8>,
    is_sound: bool,
    leaves_at: Option<Duration>,
}

impl Casket {
    fn answer(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) -> (Duration, u8) {
        match message {
            [b'h', header @ ..] if header.len() == 20 && header.starts_with(b"SKP2") => {
                if &header[4..6] != b"K7" {
                    return (Duration::ZERO, 2);
                }
                let word = |at: usize| u32::from_be_bytes(header[at..at + 4].try_into().unwrap());
                self.expected = Some((word(10) as usize, word(14)));
                (self.package, self.is_sound) = (Vec::new(), false);
                (START..END).step_by(SECTOR as usize).for_each(|at| flash.erase(at..at + SECTOR));
                (Flash::erase_time(END - START), 0)
            }
            [b'b', bytes @ ..] if self.expected.is_some_and(|(len, _)| self.package.len() + bytes.len() <= len) => {
                let from = self.package.len();
                let plain: Vec<u8> = bytes.iter().enumerate().map(|(at, byte)| byte ^ key(from + at)).collect();
                flash.program(START + u32::try_from(from).unwrap(), &plain);
                self.package.extend_from_slice(bytes);
                (Flash::program_time(48), 0)
            }
            b"c" => {
                self.is_sound = self.expected == Some((self.package.len(), crc32(&self.package)));
                (Duration::ZERO, u8::from(!self.is_sound))
            }
            b"s" if self.is_sound => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                (Duration::ZERO, 0)
            }
            _ => (Duration::ZERO, 1),
        }
    }
}

impl Messages for Casket {
    fn outbox(&mut self) -> &mut Outbox {
        &mut self.outbox
    }

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]) {
        let (time, code) = self.answer(now, flash, message);
        self.outbox.push(now + time, vec![message.first().copied().unwrap_or(b'?'), code]);
    }
}

impl Loader for Casket {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Casket", &[0x01, 0x81], &[])
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.transfer(now, flash, transfer)
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
