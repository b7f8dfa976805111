//! The Petrel wave buoy logger, on two boards.
//!
//! Both boards have the same chip, so their bootloaders accept UF2 blocks of one family and have
//! the same ids; only their board information distinguishes them. MARK held while the cable is
//! plugged in leads to the bootloader. The application shows a disk with its log beside its other
//! interface, and enters the bootloader when that disk is ejected. An image for the other board
//! starts, drives the wrong pins and bricks the unit.

use std::time::Duration;

use super::firmware::{self, Application, filler_bytes};
use super::power::{ActionEffect, Power};
use super::stick::Stored;
use super::{Condition, Unit, UserAction};
use crate::bootloader::disk::{self, CLASS, Disk, ENDPOINTS};
use crate::bootloader::fat::{File, Volume};
use crate::bootloader::uf2::{self, Loader, Shown};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Descriptors, Setup};

/// Ids while the application runs; of the range that 0x1209 reserves for testing.
pub const APPLICATION_IDS: (u16, u16) = (0x1209, 0x0005);
/// Ids of the bootloader, of the same range.
pub const BOOT_IDS: (u16, u16) = (0x1209, 0x0006);
/// The invented family of its chip.
pub const FAMILY: u32 = 0x5EAB_D123;

/// Addresses of the bootloader.
pub const BOOTLOADER_REGION: std::ops::Range<u32> = 0x0C10_0000..0x0C10_4000;
/// Addresses of the application.
pub const APPLICATION_REGION: std::ops::Range<u32> = 0x0C10_4000..0x0C18_F800;
/// Addresses of the settings.
pub const SETTINGS_REGION: std::ops::Range<u32> = 0x0C18_F800..0x0C19_0000;

const SECTORS: u32 = 288;
const SECTOR_SIZE: u32 = 2048;

/// The board.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Board {
    /// The first one.
    Pb1,
    /// The second one, with another radio.
    Pb2,
}

impl Board {
    fn word(self) -> &'static [u8; 4] {
        match self {
            Self::Pb1 => b"PBA1",
            Self::Pb2 => b"PBA2",
        }
    }

    fn id(self) -> &'static str {
        match self {
            Self::Pb1 => "Petrel-PB1-r3",
            Self::Pb2 => "Petrel-PB2-r1",
        }
    }

    fn factory(self) -> &'static [u8] {
        match self {
            Self::Pb1 => include_bytes!("../../../../demo/firmware/out/petrel-pb1-2.3.0.bin"),
            Self::Pb2 => include_bytes!("../../../../demo/firmware/out/petrel-pb2-2.3.0.bin"),
        }
    }
}

/// Deviations of a unit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Quirks {
    /// Deviations of its disk.
    pub disk: disk::Quirks,
    /// Deviations of its loader.
    pub loader: uf2::Quirks,
    /// The boot sector of its volume is invalid.
    pub broken_fat: bool,
}

#[derive(Debug)]
enum RunMode {
    Application(Disk),
    Boot(Disk, Loader),
}

/// A Petrel.
#[derive(Debug)]
pub struct Petrel {
    board: Board,
    serial: String,
    flash: Flash,
    power: Power<RunMode>,
    bootloader: Vec<u8>,
    manner: Quirks,
    /// The application's own disk.
    log: Stored,
    /// The files on the bootloader's disk, until the flash changes.
    files: Vec<File>,
    shown: u64,
}

impl Petrel {
    /// A unit in factory state, with application 2.3.0 running.
    pub fn new(board: Board, serial: &str) -> Self {
        Self::with(board, serial, Quirks::default())
    }

    /// A unit with deviations.
    pub fn with(board: Board, serial: &str, manner: Quirks) -> Self {
        let log = [File::text("WAVES.CSV", "time,height\r\n07:00,1.4\r\n")];
        let mut petrel = Self {
            board,
            serial: serial.to_owned(),
            flash: Flash::new(BOOTLOADER_REGION.start, SECTORS, SECTOR_SIZE),
            power: Power::new(),
            bootloader: filler_bytes(serial, BOOTLOADER_REGION.len()),
            manner,
            log: Stored::new(Volume::new(4400, "WAVELOG").bytes(&log)),
            files: Vec::new(),
            shown: u64::MAX,
        };
        petrel.fill();
        petrel.boot(petrel.application_mode());
        petrel
    }

    /// The unit in its bootloader.
    #[must_use]
    pub fn in_boot_mode(mut self) -> Self {
        let boot = self.boot_mode();
        self.boot(boot);
        self
    }

    fn fill(&mut self) {
        self.flash.erase(BOOTLOADER_REGION.start..SETTINGS_REGION.end);
        self.flash.put(BOOTLOADER_REGION.start, &self.bootloader);
        self.flash.put(APPLICATION_REGION.start, self.board.factory());
        self.flash.put(SETTINGS_REGION.start, &firmware::settings(&self.serial, 60, 4));
    }

    fn application_mode(&self) -> RunMode {
        RunMode::Application(Disk::new(disk::Quirks::default()))
    }

    fn boot_mode(&self) -> RunMode {
        RunMode::Boot(Disk::new(self.manner.disk), Loader::new(FAMILY, APPLICATION_REGION, self.manner.loader))
    }

    fn boot(&mut self, mode: RunMode) {
        let disk = || DescribedInterface {
            class: CLASS,
            names: Vec::new(),
            extra: Vec::new(),
            bulk: ENDPOINTS.to_vec(),
            interrupt: Vec::new(),
        };
        let descriptors = match &mode {
            RunMode::Application(_) => {
                let release = self.application().map_or(0, |application| application.version);
                let own = DescribedInterface {
                    class: [0xFF, 0, 0],
                    names: vec!["Waves".into()],
                    extra: Vec::new(),
                    bulk: Vec::new(),
                    interrupt: Vec::new(),
                };
                let texts = ["Skerrow Instruments", "Petrel wave buoy logger", self.serial.as_str()];
                Descriptors::new(APPLICATION_IDS, release, texts, vec![own, disk()])
            }
            RunMode::Boot(..) => {
                let texts = ["Skerrow Instruments", "Petrel update disk", self.serial.as_str()];
                Descriptors::new(BOOT_IDS, 0x0230, texts, vec![disk()])
            }
        };
        self.shown = u64::MAX;
        self.log.is_ejected = false;
        self.power.boot(mode, descriptors);
    }

    fn application(&self) -> Option<Application> {
        firmware::inspect(&self.flash, APPLICATION_REGION)
    }

    /// The bootloader starts, and continues to the application if possible.
    fn power_on(&mut self, now: Duration) {
        let mode = match self.application() {
            _ if self.flash.bytes()[..self.bootloader.len()] != self.bootloader[..] => None,
            _ if self.power.holds("MARK") => Some(self.boot_mode()),
            Some(application) if application.board_word != *self.board.word() => None,
            Some(_) => Some(self.application_mode()),
            None => Some(self.boot_mode()),
        };
        self.power.start(now, mode);
    }

    /// Generates the files again if blocks were programmed since.
    fn refresh(&mut self) {
        let Some(RunMode::Boot(_, loader)) = self.power.mode() else { return };
        if self.shown == loader.programmed {
            return;
        }
        self.shown = loader.programmed;
        let info = format!(
            "UF2 Bootloader v2.3.0\r\nModel: Skerrow Petrel\r\nBoard-ID: {}\r\nDate: Mar  3 2026\r\n",
            self.board.id()
        );
        self.files = vec![
            File::text("INFO_UF2.TXT", &info),
            File::text("INDEX.HTM", "<!doctype html><title>Petrel</title>See the logger's handbook.\r\n"),
        ];
        if !self.manner.loader.shows_nothing {
            let content = uf2::present(FAMILY, &self.flash, APPLICATION_REGION);
            self.files.push(File { name: "CURRENT.UF2".into(), content });
        }
    }
}

impl Unit for Petrel {
    fn advance(&mut self, now: Duration) {
        if let Some(mode) = self.power.due(now) {
            return self.boot(mode);
        }
        match self.power.mode() {
            Some(RunMode::Boot(_, loader)) if loader.leaves_at.is_some_and(|at| now >= at) => self.power_on(now),
            // Not before the host has the reply to its command.
            Some(RunMode::Application(disk)) if self.log.is_ejected && disk.is_idle() => {
                let boot = self.boot_mode();
                self.power.start(now, Some(boot));
            }
            _ => {}
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, _: Duration, setup: Setup, _: &[u8]) -> Answer {
        match self.power.mode() {
            Some(RunMode::Boot(disk, _) | RunMode::Application(disk)) => disk.control(setup),
            None => Answer::Silent,
        }
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        self.refresh();
        let (volume, is_broken) = (Volume::new(16384, "PETREL"), self.manner.broken_fat);
        match self.power.mode() {
            Some(RunMode::Boot(disk, loader)) => {
                let mut shown = Shown { volume, is_broken, files: &self.files, loader, flash: &mut self.flash };
                disk.bulk(now, transfer, &mut shown)
            }
            Some(RunMode::Application(disk)) => disk.bulk(now, transfer, &mut self.log),
            None => Answer::Silent,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let Some(RunMode::Boot(disk, _) | RunMode::Application(disk)) = self.power.mode() {
            disk.clear_halt(endpoint);
        }
    }

    fn disk(&self) -> &[u8] {
        &self.log.bytes
    }

    fn bus_reset(&mut self, _: Duration) {
        if let Some(RunMode::Boot(disk, _) | RunMode::Application(disk)) = self.power.mode() {
            disk.bus_reset();
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match self.power.apply(action) {
            ActionEffect::Pulled => self.power.unplug(),
            ActionEffect::Plugged => self.power_on(now),
            ActionEffect::Nothing | ActionEffect::Tapped(_) => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        self.shown = u64::MAX;
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        self.power.condition(|mode| match mode {
            RunMode::Application(_) => Condition::Application,
            RunMode::Boot(..) => Condition::Boot,
        })
    }

    fn revive(&mut self, now: Duration) {
        self.fill();
        self.power.release_all();
        self.power_on(now);
    }
}
