//! The Tern tide gauge, revisions r1 and r2.
//!
//! Two boards with the same labels outside and different chips inside. Their
//! chip's boot mode shows one generic id; SET held while RESET is tapped, or
//! while the cable is plugged in, leads there. The unit's own bootloader starts
//! the application if its start vectors and CRC are sound. It does not look at
//! the board word: an image for the other board starts, drives the wrong pins,
//! and that was the last of that unit.

use std::time::Duration;

use super::body::{Body, Touch};
use super::firmware::{self, Application, noise};
use super::{Condition, Hand, Unit};
use crate::bootloader::dfu::{self, Manner};
use crate::bootloader::dfu_addressed::{DfuAddressed, Leave};
use crate::flash::Flash;
use crate::usb::{Answer, Face, FaceInterface, Setup};

/// Ids while the application runs; of the range that 0x1209 reserves for testing.
pub const APPLICATION_IDS: (u16, u16) = (0x1209, 0x0001);
/// Ids of the chip's boot mode, of the same range.
pub const BOOT_IDS: (u16, u16) = (0x1209, 0x0002);

/// wTransferSize of the boot mode.
pub const TRANSFER_SIZE: u16 = 1024;

const BASE: u32 = 0x0A00_0000;

/// A board revision.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Revision {
    /// 48 sectors of 3 KiB.
    R1,
    /// 40 sectors of 6 KiB.
    R2,
}

/// What differs between the boards.
struct Board {
    sectors: u32,
    sector_size: u32,
    bootloader_sectors: u32,
    board_word: &'static [u8; 4],
    factory: &'static [u8],
}

impl Revision {
    fn board(self) -> Board {
        match self {
            Self::R1 => Board {
                sectors: 48,
                sector_size: 3 * 1024,
                bootloader_sectors: 3,
                board_word: b"TRN1",
                factory: include_bytes!("../../../../demo/firmware/out/tern-r1-1.4.0.bin"),
            },
            Self::R2 => Board {
                sectors: 40,
                sector_size: 6 * 1024,
                bootloader_sectors: 2,
                board_word: b"TRN2",
                factory: include_bytes!("../../../../demo/firmware/out/tern-r2-1.4.0.bin"),
            },
        }
    }
}

#[derive(Debug)]
enum Mode {
    Application,
    Boot(DfuAddressed),
}

/// A Tern.
#[derive(Debug)]
pub struct Tern {
    revision: Revision,
    serial: String,
    flash: Flash,
    body: Body<Mode>,
    /// The bootloader as the factory wrote it.
    bootloader: Vec<u8>,
    manner: Manner,
    is_protected: bool,
}

impl Tern {
    /// A unit as it left the factory, with application 1.4.0 running.
    pub fn new(revision: Revision, serial: &str) -> Self {
        let board = revision.board();
        let flash = Flash::new(BASE, board.sectors, board.sector_size);
        let bootloader = noise(serial, (board.bootloader_sectors * board.sector_size) as usize);
        let mut tern = Self {
            revision,
            serial: serial.to_owned(),
            flash,
            body: Body::new(),
            bootloader,
            manner: Manner::default(),
            is_protected: false,
        };
        tern.fill();
        tern.come_up(Mode::Application);
        tern
    }

    /// The same, but found in the chip's boot mode.
    pub fn in_boot_mode(revision: Revision, serial: &str) -> Self {
        let mut tern = Self::new(revision, serial);
        let boot = tern.boot_mode();
        tern.come_up(boot);
        tern
    }

    /// The same with manners of its own, and perhaps read-protected.
    #[must_use]
    pub fn with_manner(mut self, manner: Manner, is_protected: bool) -> Self {
        (self.manner, self.is_protected) = (manner, is_protected);
        if let Some(Mode::Boot(_)) = self.body.mode() {
            let boot = self.boot_mode();
            self.come_up(boot);
        }
        self
    }

    /// Addresses of the bootloader region.
    pub fn bootloader_region(revision: Revision) -> std::ops::Range<u32> {
        let board = revision.board();
        BASE..BASE + board.bootloader_sectors * board.sector_size
    }

    /// Addresses of the application region.
    pub fn application_region(revision: Revision) -> std::ops::Range<u32> {
        let board = revision.board();
        Self::bootloader_region(revision).end..BASE + (board.sectors - 1) * board.sector_size
    }

    /// Addresses of the settings region.
    pub fn settings_region(revision: Revision) -> std::ops::Range<u32> {
        let board = revision.board();
        let start = Self::application_region(revision).end;
        start..start + board.sector_size
    }

    /// Fills the flash as the factory does.
    fn fill(&mut self) {
        let settings = firmware::settings(&self.serial, 1840, 3);
        self.flash.erase(BASE..BASE + self.flash.len());
        self.flash.put(BASE, &self.bootloader);
        self.flash.put(Self::application_region(self.revision).start, self.revision.board().factory);
        self.flash.put(Self::settings_region(self.revision).start, &settings);
    }

    fn boot_mode(&self) -> Mode {
        Mode::Boot(DfuAddressed::new(BASE, TRANSFER_SIZE).with_manner(self.manner.clone(), self.is_protected))
    }

    fn come_up(&mut self, mode: Mode) {
        let face = match &mode {
            Mode::Application => self.application_face(),
            Mode::Boot(boot) => self.boot_face(boot),
        };
        self.body.come_up(mode, face);
    }

    fn application_face(&self) -> Face {
        let release = self.application().map_or(0, |(application, _)| application.version);
        let interface = FaceInterface {
            class: [0xFF, 0, 0],
            names: vec!["Tide data".to_owned()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        Face::new(APPLICATION_IDS, release, ["Skerrow Instruments", "Tern tide gauge", &self.serial], vec![interface])
    }

    /// The chip's own texts: it knows nothing of the product around it.
    fn boot_face(&self, boot: &DfuAddressed) -> Face {
        let interface = FaceInterface {
            class: dfu::CLASS,
            names: vec![DfuAddressed::layout("Tide Flash", &self.flash)],
            extra: boot.functional_descriptor(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let chip_serial: String = self.serial.bytes().map(|byte| format!("{:02X}", byte.rotate_left(3))).collect();
        Face::new(BOOT_IDS, 0x0200, ["Oyster Silicon", "Oyster boot mode", &chip_serial], vec![interface])
    }

    /// The chip starts: into its boot mode if SET is held, else at the bootloader.
    fn power_on(&mut self, now: Duration) {
        let mode = if self.body.holds("SET") { Some(self.boot_mode()) } else { self.run_bootloader() };
        self.body.start(now, mode);
    }

    /// The unit's own bootloader starts the application, or else the chip's
    /// boot mode. `None`: that was the last of this unit.
    fn run_bootloader(&self) -> Option<Mode> {
        if self.flash.bytes()[..self.bootloader.len()] != self.bootloader[..] {
            return None;
        }
        match self.application() {
            Some((_, false)) => None,
            Some(_) => Some(Mode::Application),
            None => Some(self.boot_mode()),
        }
    }

    /// Leaves the boot mode by a jump.
    fn jump(&mut self, now: Duration, to: u32) {
        let application = Self::application_region(self.revision).start;
        let mode = match to {
            BASE => self.run_bootloader(),
            to if to == application => self.application().filter(|(_, fits)| *fits).map(|_| Mode::Application),
            // A jump into nothing runs wild.
            _ => None,
        };
        self.body.start(now, mode);
    }

    fn cut(&mut self, now: Duration) {
        if let Some(Mode::Boot(boot)) = self.body.mode() {
            boot.cut(now, &mut self.flash);
        }
    }

    /// The application, if it is sound, and whether it is for this board.
    fn application(&self) -> Option<(Application, bool)> {
        let found = firmware::inspect(&self.flash, Self::application_region(self.revision))?;
        let fits = found.board_word == *self.revision.board().board_word;
        Some((found, fits))
    }
}

impl Unit for Tern {
    fn advance(&mut self, now: Duration) {
        if let Some(mode) = self.body.due(now) {
            return self.come_up(mode);
        }
        let Some(Mode::Boot(boot)) = self.body.mode() else { return };
        match boot.advance(now, &mut self.flash) {
            Some(Leave::Jump(to)) => self.jump(now, to),
            // The chip starts anew and finds nothing to start: that is its boot mode.
            Some(Leave::Wiped) => {
                self.is_protected = false;
                let boot = self.boot_mode();
                self.body.start(now, Some(boot));
            }
            None => {}
        }
    }

    fn face(&self) -> Option<(u32, &Face)> {
        self.body.face()
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        match self.body.mode() {
            Some(Mode::Boot(boot)) => boot.control(now, &self.flash, setup, data),
            _ => Answer::Stall,
        }
    }

    fn bus_reset(&mut self, now: Duration) {
        // The chip's boot mode survives a bus reset, and so does the application.
        if let Some(Mode::Boot(boot)) = self.body.mode() {
            boot.bus_reset(now, &mut self.flash);
        }
    }

    fn hand(&mut self, now: Duration, hand: &Hand) {
        match self.body.feel(hand) {
            Touch::Tapped("RESET") => {
                self.cut(now);
                self.power_on(now);
            }
            Touch::Pulled => {
                self.cut(now);
                self.body.unplug();
            }
            Touch::Plugged => self.power_on(now),
            Touch::Nothing | Touch::Tapped(_) => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        self.body.condition(|mode| match mode {
            Mode::Application => Condition::Application,
            Mode::Boot(_) => Condition::Boot,
        })
    }

    fn revive(&mut self, now: Duration) {
        self.fill();
        self.body.let_go();
        self.power_on(now);
    }
}
