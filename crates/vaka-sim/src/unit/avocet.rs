//! The Avocet sediment sampler.
//!
//! Its bootloader is a mass-storage device without a medium that accepts commands of 10 bytes:
//!
//! | byte 0 | bytes 2 to 5 | bytes 7 and 8 | data |
//! |---|---|---|---|
//! | 0xD1 who | - | - | to the host: "AVOC", chip u16be, page size u16be, flash size u32be |
//! | 0xD3 wipe | address u32be | pages u16be | - |
//! | 0xD5 put | address u32be | length u16be | to the unit |
//! | 0xD6 get | address u32be | length u16be | to the host |
//! | 0xDA go | - | - | - |
//!
//! Byte 9 is the sum of the bytes before it and 0x1D. A wipe ends its command at once; until it is done,
//! all other commands fail with "becoming ready" (sense 2/04/01). Further sense data: 5/24/00 bad sum or
//! length, 5/21/00 an address outside, 9/80/01 bytes that are not erased.
//!
//! The application is such a device too, and enters the bootloader at the command 0xD0 with the text
//! "CAROUSEL" after it. A unit with HATCH held while the cable is plugged in does so too.

use std::time::Duration;

use super::vendor_unit::{AppModel, Factories, Loader, UnitSpec, VendorUnit};
use crate::bootloader::disk::{self, Disk, Medium, Quirks, Sense, VendorReply, sense};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Setup};

const BASE: u32 = 0x0E00_0000;
const PAGE: u32 = 512;
const PAGES: u32 = 96;
const APPLICATION: u32 = BASE + 0x1000;
const END: u32 = BASE + PAGES * PAGE;
/// Most bytes of one put or get.
const MOST: usize = 1024;
const AT_WORK: Sense = (2, 0x04, 0x01);
const NOT_ERASED: Sense = (9, 0x80, 0x01);
const CALL: &[u8] = b"CAROUSEL";
const LEAVE_TIME: Duration = Duration::from_millis(20);

/// A unit in factory state.
pub fn avocet(serial: &str) -> VendorUnit {
    odd(serial, Quirks::default())
}

/// The same with deviations of its transport.
pub fn odd(serial: &str, quirks: Quirks) -> VendorUnit {
    let make = UnitSpec {
        names: ["Avocet sediment sampler", "Avocet loader"],
        ids: [(0x1209, 0x0016), (0x1209, 0x0017)],
        flash: (BASE, PAGES, PAGE),
        bootloader: BASE..APPLICATION,
        application: APPLICATION..BASE + 0xB000,
        settings: BASE + 0xB000..END,
        board_word: b"AVO1",
        factory: include_bytes!("../../../../demo/firmware/out/avocet-1.0.0.bin"),
        button: "HATCH",
        window: None,
        silent: false,
    };
    let factories = Factories {
        loader: Box::new(move || Box::new(Commands { disk: Disk::new(quirks), state: State::default() })),
        runner: Box::new(|_| Box::new(Sampler { disk: Disk::new(Quirks::default()), called: Called::default() })),
    };
    VendorUnit::new(make, factories, serial).with_chip(0x5A2B02, *b"ALD1")
}

fn interface(name: &str) -> DescribedInterface {
    DescribedInterface {
        class: disk::CLASS,
        names: vec![name.to_owned()],
        extra: Vec::new(),
        bulk: disk::ENDPOINTS.to_vec(),
        interrupt: Vec::new(),
    }
}

#[derive(Debug)]
struct Commands {
    disk: Disk,
    state: State,
}

#[derive(Clone, Copy, Debug, Default)]
struct State {
    busy_until: Duration,
    asked: bool,
    leaves_at: Option<Duration>,
}

/// The commands, for one transfer.
struct Bench<'a> {
    flash: &'a mut Flash,
    state: &'a mut State,
}

impl Bench<'_> {
    /// Address and length of a put or get.
    fn range(block: &[u8]) -> (u32, usize) {
        let address = u32::from_be_bytes([block[2], block[3], block[4], block[5]]);
        (address, usize::from(u16::from_be_bytes([block[7], block[8]])))
    }

    fn is_writable(from: u32, len: usize) -> bool {
        from >= APPLICATION && u64::from(from) + len as u64 <= u64::from(END)
    }

    fn wipe(&mut self, now: Duration, address: u32, pages: usize) -> Result<VendorReply, Sense> {
        let len = pages * PAGE as usize;
        if pages == 0 || !address.is_multiple_of(PAGE) || !Self::is_writable(address, len) {
            return Err(sense::NO_SUCH_SECTOR);
        }
        #[allow(clippy::cast_possible_truncation)] // inside the flash
        let len = len as u32;
        self.flash.erase(address..address + len);
        self.state.busy_until = now + Flash::erase_time(len);
        Ok(VendorReply::Nothing)
    }
}

impl Medium for Bench<'_> {
    fn vendor(&mut self, now: Duration, block: &[u8]) -> Result<VendorReply, Sense> {
        let sum = block[..9].iter().fold(0x1D, |sum: u8, byte| sum.wrapping_add(*byte));
        if sum != block[9] {
            return Err(sense::BAD_FIELD);
        }
        self.state.asked = true;
        if now < self.state.busy_until {
            return Err(AT_WORK);
        }
        let (address, length) = Self::range(block);
        match block[0] {
            0xD1 => Ok(VendorReply::Data([&b"AVOC"[..], &[0x53, 0x0A, 2, 0, 0, 0, 0xC0, 0]].concat())),
            0xD3 => self.wipe(now, address, length),
            0xD5 | 0xD6 if !(1..=MOST).contains(&length) => Err(sense::BAD_FIELD),
            0xD5 if !Self::is_writable(address, length) => Err(sense::NO_SUCH_SECTOR),
            0xD5 => {
                let blank =
                    self.flash.read(address, length).is_some_and(|bytes| bytes.iter().all(|byte| *byte == 0xFF));
                if blank { Ok(VendorReply::Takes) } else { Err(NOT_ERASED) }
            }
            0xD6 => match self.flash.read(address, length) {
                Some(bytes) => Ok(VendorReply::Data(bytes.to_vec())),
                None => Err(sense::NO_SUCH_SECTOR),
            },
            0xDA => {
                self.state.leaves_at = Some(now + LEAVE_TIME);
                Ok(VendorReply::Nothing)
            }
            _ => Err(sense::UNKNOWN_COMMAND),
        }
    }

    fn take(&mut self, _: Duration, block: &[u8], data: &[u8]) -> Result<Duration, Sense> {
        let (address, length) = Self::range(block);
        if data.len() != length {
            return Err(sense::BAD_FIELD);
        }
        self.flash.program(address, data);
        #[allow(clippy::cast_possible_truncation)] // at most 1024
        Ok(Flash::program_time(length as u32))
    }
}

impl Loader for Commands {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![interface("Loader")]
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, _: &[u8]) -> Answer {
        self.disk.control(setup)
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.disk.bulk(now, transfer, &mut Bench { flash, state: &mut self.state })
    }

    fn clear_halt(&mut self, endpoint: u8) {
        self.disk.clear_halt(endpoint);
    }

    fn bus_reset(&mut self) {
        self.disk.bus_reset();
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.state.leaves_at
    }

    fn was_asked(&self) -> bool {
        self.state.asked
    }
}

/// The application: its bottles are read by other means.
#[derive(Debug)]
struct Sampler {
    disk: Disk,
    called: Called,
}

#[derive(Clone, Copy, Debug, Default)]
struct Called {
    leaves_at: Option<Duration>,
}

impl Medium for Called {
    fn vendor(&mut self, now: Duration, block: &[u8]) -> Result<VendorReply, Sense> {
        if block[0] != 0xD0 || !block[1..].starts_with(CALL) {
            return Err(sense::UNKNOWN_COMMAND);
        }
        self.leaves_at = Some(now + LEAVE_TIME);
        Ok(VendorReply::Nothing)
    }
}

impl AppModel for Sampler {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![interface("Sampler")]
    }

    fn control(&mut self, _: Duration, setup: Setup, _: &[u8]) -> Answer {
        self.disk.control(setup)
    }

    fn pipe(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        self.disk.bulk(now, transfer, &mut self.called)
    }

    fn clear_halt(&mut self, endpoint: u8) {
        self.disk.clear_halt(endpoint);
    }

    fn bus_reset(&mut self) {
        self.disk.bus_reset();
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.called.leaves_at
    }
}
