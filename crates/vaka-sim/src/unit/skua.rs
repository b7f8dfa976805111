//! The Skua gateway: its USB bridge chip.
//!
//! The bridge provides the USB of the gateway. With damaged firmware it is not on the bus at all;
//! with its two BRIDGE pads connected while the cable is plugged in, its chip's boot mode
//! appears, a DFU interface whose downloads and uploads (block 7) carry command blocks. A block
//! to the unit is 0xB5, operation, sequence number u16le, length u16le, that many bytes, CRC-32
//! u32le; the reply is 0x5B, operation, the sequence number, status, length u16le, that many
//! bytes, CRC-32 u32le.
//!
//! | operation | bytes | the answer's bytes |
//! |---|---|---|
//! | 1 who | - | chip u16le, KiB u16le, challenge 8 bytes |
//! | 2 open | answer u32le | - |
//! | 3 wipe | address u32le | - |
//! | 4 put | address u32le, up to 64 bytes | - |
//! | 5 get | address u32le, count u16le | `count` bytes |
//! | 6 go | - | - |
//!
//! Status: 0 done, 0x40 locked, 0x44 wrong answer, 0x45 outside, 0x46 garbled, 0x47 not
//! erased. The answer to the challenge: from 0x51C0_A7E5 on, for each byte shifted
//! left by 5, combined with itself shifted right by 2 and with the byte.

use std::time::Duration;

use super::vendor_unit::{Factories, Loader, Plain, UnitSpec, VendorUnit};
use crate::bootloader::dfu::{self, state, status, status_reply};
use crate::flash::Flash;
use crate::usb::{Answer, DescribedInterface, Setup};

const BASE: u32 = 0x0900_0000;
const SECTOR: u32 = 512;
const SECTORS: u32 = 64;
const OWN: u32 = 4096;
const BLOCK: u16 = 7;
const TRANSFER_SIZE: u16 = 256;
const CHALLENGE: [u8; 8] = [0x3D, 0x91, 0x07, 0xE4, 0x5A, 0xC8, 0x12, 0xBF];
const LEAVE_TIME: Duration = Duration::from_millis(20);

/// A unit in factory state.
pub fn skua(serial: &str) -> VendorUnit {
    let make = UnitSpec {
        names: ["Skua gateway", "Skua bridge boot mode"],
        ids: [(0x1209, 0x000F), (0x1209, 0x0010)],
        flash: (BASE, SECTORS, SECTOR),
        bootloader: BASE..BASE + OWN,
        application: BASE + OWN..BASE + 30 * 1024,
        settings: BASE + 30 * 1024..BASE + 32 * 1024,
        board_word: b"SKB1",
        factory: include_bytes!("../../../../demo/firmware/out/skua-bridge-1.6.0.bin"),
        button: "BRIDGE",
        window: None,
        silent: true,
    };
    let factories =
        Factories { loader: Box::new(|| Box::new(SkuaLoader::default())), runner: Box::new(|_| Box::new(Plain)) };
    VendorUnit::new(make, factories, serial)
}

#[derive(Debug)]
struct SkuaLoader {
    state: u8,
    status: u8,
    /// The downloaded block that waits for the status request which starts it.
    pending: Option<Vec<u8>>,
    busy_until: Duration,
    answer: Vec<u8>,
    open: bool,
    asked: bool,
    leaves_at: Option<Duration>,
}

impl Default for SkuaLoader {
    fn default() -> Self {
        Self {
            state: state::IDLE,
            status: status::OK,
            pending: None,
            busy_until: Duration::ZERO,
            answer: Vec::new(),
            open: false,
            asked: false,
            leaves_at: None,
        }
    }
}

fn crc32(bytes: &[u8]) -> [u8; 4] {
    crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(bytes).to_le_bytes()
}

impl SkuaLoader {
    fn expected() -> u32 {
        CHALLENGE.iter().fold(0x51C0_A7E5_u32, |sum, byte| (sum << 5) ^ (sum >> 2) ^ u32::from(*byte))
    }

    /// Executes a block; returns its duration.
    fn execute_command(&mut self, now: Duration, flash: &mut Flash, block: &[u8]) -> Duration {
        let head: [u8; 6] = block.get(..6).and_then(|head| head.try_into().ok()).unwrap_or_default();
        let length = usize::from(u16::from_le_bytes([head[4], head[5]]));
        let body = block.get(6..6 + length).unwrap_or_default().to_vec();
        let sound = head[0] == 0xB5 && block.len() == 10 + length && block[6 + length..] == crc32(&block[..6 + length]);
        let (status, payload, time) = match sound {
            true => self.operation(now, flash, head[1], &body),
            false => (0x46, Vec::new(), Duration::ZERO),
        };
        self.answer = vec![0x5B, head[1], head[2], head[3], status];
        self.answer.extend(u16::try_from(payload.len()).unwrap_or(0).to_le_bytes());
        self.answer.extend(payload);
        let sum = crc32(&self.answer);
        self.answer.extend(sum);
        time
    }

    fn operation(&mut self, now: Duration, flash: &mut Flash, operation: u8, body: &[u8]) -> (u8, Vec<u8>, Duration) {
        let instant = Duration::ZERO;
        let word = |at: usize| body.get(at..at + 4).map_or(u32::MAX, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
        let address = word(0);
        let inside =
            |len: usize| address >= BASE + OWN && u64::from(address) + len as u64 <= u64::from(BASE + SECTORS * SECTOR);
        match operation {
            1 => (0, [&[0x2B, 0x5C, 32, 0][..], &CHALLENGE].concat(), instant),
            2 => {
                self.open = word(0) == Self::expected();
                (if self.open { 0 } else { 0x44 }, Vec::new(), instant)
            }
            3..=5 if !self.open => (0x40, Vec::new(), instant),
            3 if inside(1) && address.is_multiple_of(SECTOR) => {
                flash.erase(address..address + SECTOR);
                (0, Vec::new(), Flash::erase_time(SECTOR))
            }
            4 if (5..=68).contains(&body.len()) && inside(body.len() - 4) => {
                let data = &body[4..];
                if flash.read(address, data.len()).unwrap_or_default().iter().any(|byte| *byte != 0xFF) {
                    return (0x47, Vec::new(), instant);
                }
                flash.program(address, data);
                (0, Vec::new(), Flash::program_time(u32::try_from(data.len()).unwrap_or(0)))
            }
            5 => {
                let count = body.get(4..6).map_or(0, |b| usize::from(u16::from_le_bytes([b[0], b[1]])));
                match flash.read(address, count).filter(|_| count <= 192) {
                    Some(bytes) => (0, bytes.to_vec(), instant),
                    None => (0x45, Vec::new(), instant),
                }
            }
            6 => {
                self.leaves_at = Some(now + LEAVE_TIME);
                (0, Vec::new(), instant)
            }
            _ => (0x45, Vec::new(), instant),
        }
    }

    fn status(&mut self, now: Duration, flash: &mut Flash) -> Answer {
        if let Some(block) = self.pending.take() {
            let time = self.execute_command(now, flash, &block);
            self.busy_until = now + time;
            self.state = state::BUSY;
        }
        if self.state == state::BUSY && now >= self.busy_until {
            self.state = state::DOWNLOAD_IDLE;
        }
        // A tenth more than the actual time.
        let left = self.busy_until.saturating_sub(now).as_micros() * 11 / 10;
        let poll = u32::try_from(left.div_ceil(1000)).unwrap_or(u32::MAX);
        status_reply(self.status, poll, self.state)
    }
}

impl Loader for SkuaLoader {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let size = TRANSFER_SIZE.to_le_bytes();
        let extra = vec![9, 0x21, 0x07, 0xFF, 0, size[0], size[1], 0x10, 0x01];
        let names = vec!["Bridge".to_owned()];
        vec![DescribedInterface { class: dfu::CLASS, names, extra, bulk: Vec::new(), interrupt: Vec::new() }]
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        self.asked = true;
        match (setup.kind, setup.request) {
            (0x21, 1)
                if setup.value == BLOCK
                    && !data.is_empty()
                    && matches!(self.state, state::IDLE | state::DOWNLOAD_IDLE) =>
            {
                self.pending = Some(data.to_vec());
                self.state = state::DOWNLOAD_SYNC;
                Answer::Done
            }
            (0xA1, 2) if setup.value == BLOCK && matches!(self.state, state::IDLE | state::UPLOAD_IDLE) => {
                self.state =
                    if self.answer.len() == usize::from(setup.length) { state::UPLOAD_IDLE } else { state::IDLE };
                Answer::Data(self.answer[..self.answer.len().min(usize::from(setup.length))].to_vec())
            }
            (0xA1, 3) => self.status(now, flash),
            (0xA1, 5) => Answer::Data(vec![self.state]),
            (0x21, 4) if self.state == state::ERROR => {
                (self.state, self.status) = (state::IDLE, status::OK);
                Answer::Done
            }
            (0x21, 6) if self.state != state::ERROR => {
                self.state = state::IDLE;
                Answer::Done
            }
            _ => {
                (self.state, self.status) = (state::ERROR, status::STALLED_PACKET);
                Answer::Stall
            }
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }

    fn was_asked(&self) -> bool {
        self.asked
    }
}
