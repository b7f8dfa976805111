//! The Dunlin salinity probe.
//!
//! Its bootloader is tiny: seven vendor requests on endpoint 0, data stages of 24 bytes, pages of
//! 128. It listens for 9 s after power-on and then starts the application. It cannot be read; it
//! computes a sum over pages.
//!
//! | request | way | wValue | wIndex | data |
//! |---|---|---|---|---|
//! | 0xD1 ask | in | 0 | 0 | 0xD7, state, page size u16le, pages u16le |
//! | 0xD2 wipe | out | page | 0 | - |
//! | 0xD3 fill | out | offset in the page | page | 1 to 24 bytes |
//! | 0xD4 burn | out | page | 0 | - |
//! | 0xD5 sum | in | first page | pages | 0x2D17 plus all bytes u16be, pages u16be |
//! | 0xD6 leave | out | 0 | 0 | - |
//!
//! States: 0 ready, 1 busy, 2 no such page, 3 nothing to burn. While busy it replies only to
//! 0xD1, and stalls the rest.

use std::time::Duration;

use super::vendor_unit::{Factories, Loader, Plain, UnitSpec, VendorUnit};
use crate::flash::Flash;
use crate::usb::{Answer, DescribedInterface, Setup};

/// Bytes in a page.
pub const PAGE: u16 = 128;
/// Pages of its flash.
pub const PAGES: u16 = 320;
/// Pages of the bootloader itself.
const OWN_PAGES: u16 = 56;
const LARGEST_DATA: usize = 24;
const SUM_SEED: u16 = 0x2D17;
/// Between "leave" and being gone.
const LEAVE_TIME: Duration = Duration::from_millis(20);

/// A unit in factory state.
pub fn dunlin(serial: &str) -> VendorUnit {
    let make = UnitSpec {
        names: ["Dunlin salinity probe", "Dunlin loader"],
        ids: [(0x1209, 0x0009), (0x1209, 0x000A)],
        flash: (0, u32::from(PAGES), u32::from(PAGE)),
        bootloader: 0..0x1C00,
        application: 0x1C00..0x9C00,
        settings: 0x9C00..0xA000,
        board_word: b"DUN1",
        factory: include_bytes!("../../../../demo/firmware/out/dunlin-1.0.0.bin"),
        button: "PROBE",
        window: Some(Duration::from_secs(9)),
        silent: false,
    };
    let factories =
        Factories { loader: Box::new(|| Box::new(DunlinLoader::default())), runner: Box::new(|_| Box::new(Plain)) };
    VendorUnit::new(make, factories, serial).with_chip(0x5A2A31, *b"DLD1")
}

#[derive(Debug)]
struct DunlinLoader {
    state: u8,
    busy_until: Duration,
    buffer: [u8; PAGE as usize],
    filled: Option<u16>,
    asked: bool,
    leaves_at: Option<Duration>,
}

impl Default for DunlinLoader {
    fn default() -> Self {
        let buffer = [0xFF; PAGE as usize];
        Self { state: 0, busy_until: Duration::ZERO, buffer, filled: None, asked: false, leaves_at: None }
    }
}

impl DunlinLoader {
    fn work(&mut self, now: Duration, page: u16, time: Duration) -> bool {
        let may = (OWN_PAGES..PAGES).contains(&page);
        self.state = if may { 0 } else { 2 };
        self.busy_until = if may { now + time } else { now };
        may
    }

    fn sum(flash: &Flash, first: u16, count: u16) -> Option<u16> {
        let bytes = flash.read(u32::from(first) * u32::from(PAGE), usize::from(count) * usize::from(PAGE))?;
        Some(bytes.iter().fold(SUM_SEED, |sum, byte| sum.wrapping_add(u16::from(*byte))))
    }
}

impl Loader for DunlinLoader {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let (names, extra) = (vec!["Loader".to_owned()], Vec::new());
        vec![DescribedInterface { class: [0xFF, 0x44, 0], names, extra, bulk: Vec::new(), interrupt: Vec::new() }]
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        self.asked = true;
        if (setup.kind, setup.request) == (0xC0, 0xD1) {
            let state = if now < self.busy_until { 1 } else { self.state };
            let [size, pages] = [PAGE.to_le_bytes(), PAGES.to_le_bytes()];
            return Answer::Data(vec![0xD7, state, size[0], size[1], pages[0], pages[1]]);
        }
        if now < self.busy_until {
            return Answer::Stall;
        }
        match (setup.kind, setup.request) {
            (0x40, 0xD2) => {
                if self.work(now, setup.value, Flash::erase_time(u32::from(PAGE))) {
                    let start = u32::from(setup.value) * u32::from(PAGE);
                    flash.erase(start..start + u32::from(PAGE));
                }
                Answer::Done
            }
            (0x40, 0xD3) if (1..=LARGEST_DATA).contains(&data.len()) && setup.index < PAGES => {
                if self.filled != Some(setup.index) {
                    self.buffer = [0xFF; PAGE as usize];
                    self.filled = Some(setup.index);
                }
                match self.buffer.get_mut(usize::from(setup.value)..usize::from(setup.value) + data.len()) {
                    Some(place) => {
                        place.copy_from_slice(data);
                        Answer::Done
                    }
                    None => Answer::Stall,
                }
            }
            (0x40, 0xD4) => {
                if self.filled.take() != Some(setup.value) {
                    self.state = 3;
                } else if self.work(now, setup.value, Flash::program_time(u32::from(PAGE))) {
                    flash.program(u32::from(setup.value) * u32::from(PAGE), &self.buffer);
                }
                Answer::Done
            }
            (0xC0, 0xD5) => match Self::sum(flash, setup.value, setup.index) {
                Some(sum) => Answer::Data([sum.to_be_bytes(), setup.index.to_be_bytes()].concat()),
                None => Answer::Stall,
            },
            (0x40, 0xD6) => {
                self.leaves_at = Some(now + LEAVE_TIME);
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }

    fn was_asked(&self) -> bool {
        self.asked
    }
}
