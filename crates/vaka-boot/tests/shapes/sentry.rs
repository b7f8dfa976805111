//! # Sentry: both sides prove that they know a key
//!
//! Vendor requests on endpoint 0. 0x51 (in) gives 16 bytes that are new each time. 0x52 (out) brings
//! 16 new bytes of the host and the CMAC of the unit's bytes followed by the host's, with a key that
//! both know. 0x53 (in) gives the CMAC of the host's bytes followed by the unit's. From then on the
//! unit works with a session key: the exclusive or of both, encrypted with the common key.
//!
//! 0x54 (out) with a page number as value erases 256 bytes. 0x55 (out) writes 64 bytes; its value is
//! their place in units of 64 bytes, and behind them stand the first 8 bytes of the CMAC of the value
//! (u16le) and the bytes, with the session key. 0x56 (in) gives 64 bytes by the same value. 0x57 (in)
//! is 1 while the unit is busy, 0 when it is done, 3 if the last tag was wrong. 0x58 (out) starts the
//! application. Before the proof, and with a wrong proof, all of these stall.

use std::time::Duration;

use aes::Aes128;
use aes::cipher::{BlockCipherEncrypt, KeyInit};
use cmac::{Cmac, Mac};
use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use super::{BASE, SECTOR, pipes, writable};

pub const DIALECT: &str = r#"
dialect = 1
name = "sentry"
[carrier]
kind = "control"
[names]
KEY = "x'5C 21 7A 90 0E D3 44 B8 6F 15 C2 39 E7 8D 02 A6'"
[table.state]
0 = "ok"
1 = "busy"
3 = "the tag of the bytes is wrong"
[geometry]
chunk = 64
[exchange.challenge]
in = { request = 0x51 }
reply = "bytes(16) theirs"
[exchange.prove]
out = { request = 0x52 }
send = "bytes ours, bytes = aes_cmac(KEY, theirs ++ ours)"
[exchange.proof]
in = { request = 0x53 }
reply = "bytes(16) = aes_cmac(KEY, ours ++ theirs)"
[exchange.done]
in = { request = 0x57 }
reply = "u8 in state"
[unlock]
do = '''
challenge
let ours = random(16)
prove; proof
let session = aes_ecb_encrypt(KEY, map(x in ours: x ^ byte(theirs, nth)))
'''
[exchange.wipe]
out = { request = 0x54, value = "(address - origin) / 256 & 0xFFFF" }
[erase]
by = "page"
do = "wipe; done"
[exchange.put]
out = { request = 0x55, value = "number" }
send = "bytes data, bytes = slice(aes_cmac(session, u16le(number) ++ data), 0, 8)"
[write]
do = "put(number = (address - origin) / 64 & 0xFFFF); done"
[read]
in = { request = 0x56, value = "(address - origin) / 64 & 0xFFFF" }
reply = "bytes(length) data"
[restart]
out = { request = 0x58 }
"#;

const KEY: [u8; 16] = [0x5C, 0x21, 0x7A, 0x90, 0x0E, 0xD3, 0x44, 0xB8, 0x6F, 0x15, 0xC2, 0x39, 0xE7, 0x8D, 0x02, 0xA6];

#[derive(Debug, Default)]
pub struct Sentry {
    ours: [u8; 16],
    theirs: [u8; 16],
    session: Option<[u8; 16]>,
    state: u8,
    busy_until: Duration,
    leaves_at: Option<Duration>,
}

fn cmac(key: &[u8; 16], parts: &[&[u8]]) -> [u8; 16] {
    let mut mac = Cmac::<Aes128>::new(&(*key).into());
    parts.iter().for_each(|part| mac.update(part));
    mac.finalize().into_bytes().into()
}

impl Sentry {
    fn prove(&mut self, data: &[u8]) -> Answer {
        let Some((theirs, proof)) = data.split_first_chunk::<16>() else { return Answer::Stall };
        (self.theirs, self.session) = (*theirs, None);
        if proof != cmac(&KEY, &[&self.ours, theirs]) {
            return Answer::Stall;
        }
        let mut session: [u8; 16] = std::array::from_fn(|at| self.ours[at] ^ theirs[at]);
        let mut block = session.into();
        Aes128::new(&KEY.into()).encrypt_block(&mut block);
        session.copy_from_slice(&block);
        self.session = Some(session);
        Answer::Done
    }

    fn write(&mut self, now: Duration, flash: &mut Flash, value: u16, data: &[u8]) -> Answer {
        let (Some(session), Some((bytes, tag))) = (self.session, data.split_last_chunk::<8>()) else {
            return Answer::Stall;
        };
        let at = BASE + u32::from(value) * 64;
        if bytes.len() != 64 || !writable(at, 64) {
            return Answer::Stall;
        }
        let is_right = cmac(&session, &[&value.to_le_bytes(), bytes])[..8] == *tag;
        self.state = if is_right { 0 } else { 3 };
        if is_right {
            flash.program(at, bytes);
            self.busy_until = now + Flash::program_time(64);
        }
        Answer::Done
    }
}

impl Loader for Sentry {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Sentry", &[], &[])
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let at = BASE + u32::from(setup.value) * 64;
        match (setup.kind, setup.request) {
            (0xC0, 0x51) => {
                // Another challenge each time, and after each start.
                self.ours = cmac(&KEY, &[&now.as_nanos().to_le_bytes(), &self.ours]);
                Answer::Data(self.ours.to_vec())
            }
            (0x40, 0x52) => self.prove(data),
            (0xC0, 0x53) if self.session.is_some() => Answer::Data(cmac(&KEY, &[&self.theirs, &self.ours]).to_vec()),
            _ if self.session.is_none() => Answer::Stall,
            (0x40, 0x54) => {
                let at = BASE + u32::from(setup.value) * SECTOR;
                if !writable(at, SECTOR as usize) {
                    return Answer::Stall;
                }
                flash.erase(at..at + SECTOR);
                self.busy_until = now + Flash::erase_time(SECTOR);
                Answer::Done
            }
            (0x40, 0x55) => self.write(now, flash, setup.value, data),
            (0xC0, 0x56) => {
                flash.read(at, usize::from(setup.length)).map_or(Answer::Stall, |bytes| Answer::Data(bytes.to_vec()))
            }
            (0xC0, 0x57) => Answer::Data(vec![if now < self.busy_until { 1 } else { self.state }]),
            (0x40, 0x58) => {
                self.leaves_at = Some(now + Duration::from_millis(40));
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}
