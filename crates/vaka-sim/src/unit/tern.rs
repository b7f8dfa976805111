//! The Tern tide gauge, revisions r1 and r2.
//!
//! Two boards with equal labels outside and different chips inside. Their chip's boot mode has
//! one generic id; SET held while RESET is tapped, or while the cable is plugged in, leads there.
//! The unit's own bootloader starts the application if its start vectors and CRC are valid. It
//! does not check the board word: an image for the other board starts, drives the wrong pins and
//! bricks the unit.
//!
//! A unit may also be delivered blank, or get a new bootloader: the Tern loader, which has ids of
//! its own when MODE is held during start, or when there is no valid application, and accepts one
//! by plain DFU. A partly written loader starts nothing; SET still leads to the chip's boot mode.

use std::time::Duration;

use super::firmware::{self, Application, filler_bytes};
use super::power::{ActionEffect, Power};
use super::{Condition, Unit, UserAction};
use crate::bootloader::dfu::{self, Quirks};
use crate::bootloader::dfu_addressed::{DfuAddressed, Leave};
use crate::bootloader::dfu_plain::{DfuPlain, Traits};
use crate::flash::Flash;
use crate::usb::{Answer, DescribedInterface, Descriptors, Setup};

/// Ids while the application runs; of the range that 0x1209 reserves for testing.
pub const APPLICATION_IDS: (u16, u16) = (0x1209, 0x0001);
/// Ids of the chip's boot mode, of the same range.
pub const BOOT_IDS: (u16, u16) = (0x1209, 0x0002);

/// Ids of the Tern loader, of the same range.
pub const LOADER_IDS: (u16, u16) = (0x1209, 0x0011);

/// The attributes of the Tern loader.
const LOADER_TRAITS: Traits = Traits { can_upload: true, tolerant: true, will_detach: false };

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

/// The differences between the boards.
struct Board {
    sectors: u32,
    sector_size: u32,
    bootloader_sectors: u32,
    board_word: &'static [u8; 4],
    loader_word: &'static [u8; 4],
    /// Product string of the loader.
    loader_name: &'static str,
    /// Checks the application region.
    is_sound: fn(&Flash) -> bool,
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
                loader_word: b"TLD1",
                loader_name: "Tern loader r1",
                is_sound: |flash| firmware::inspect(flash, Tern::application_region(Self::R1)).is_some(),
                factory: include_bytes!("../../../../demo/firmware/out/tern-r1-1.4.0.bin"),
            },
            Self::R2 => Board {
                sectors: 40,
                sector_size: 6 * 1024,
                bootloader_sectors: 2,
                board_word: b"TRN2",
                loader_word: b"TLD2",
                loader_name: "Tern loader r2",
                is_sound: |flash| firmware::inspect(flash, Tern::application_region(Self::R2)).is_some(),
                factory: include_bytes!("../../../../demo/firmware/out/tern-r2-1.4.0.bin"),
            },
        }
    }
}

#[derive(Debug)]
enum RunMode {
    Application,
    Boot(DfuAddressed),
    Loader(DfuPlain),
}

/// The content of the bootloader region.
enum BootChoice {
    /// The factory bootloader.
    Factory,
    /// A Tern loader, and whether it is for this board.
    Loader { version: u16, fits: bool },
    /// Erased flash.
    Blank,
    /// Other content.
    Broken,
}

/// A Tern.
#[derive(Debug)]
pub struct Tern {
    revision: Revision,
    serial: String,
    flash: Flash,
    power: Power<RunMode>,
    /// The bootloader as the factory wrote it.
    bootloader: Vec<u8>,
    manner: Quirks,
    is_protected: bool,
    /// Whether it was delivered blank.
    is_blank_ware: bool,
}

impl Tern {
    /// A unit in factory state, with application 1.4.0 running.
    pub fn new(revision: Revision, serial: &str) -> Self {
        let board = revision.board();
        let flash = Flash::new(BASE, board.sectors, board.sector_size);
        let bootloader = filler_bytes(serial, (board.bootloader_sectors * board.sector_size) as usize);
        let mut tern = Self {
            revision,
            serial: serial.to_owned(),
            flash,
            power: Power::new(),
            bootloader,
            manner: Quirks::default(),
            is_protected: false,
            is_blank_ware: false,
        };
        tern.fill();
        tern.boot(RunMode::Application);
        tern
    }

    /// A unit in factory state, in the chip's boot mode.
    pub fn in_boot_mode(revision: Revision, serial: &str) -> Self {
        let mut tern = Self::new(revision, serial);
        let boot = tern.boot_mode();
        tern.boot(boot);
        tern
    }

    /// A plugged-in board that was never programmed.
    pub fn blank(revision: Revision, serial: &str) -> Self {
        let mut tern = Self::new(revision, serial);
        tern.is_blank_ware = true;
        tern.fill();
        let boot = tern.boot_mode();
        tern.boot(boot);
        tern
    }

    /// The unit before it is plugged in.
    #[must_use]
    pub fn unplugged(mut self) -> Self {
        self.power.unplug();
        self
    }

    /// Sets deviations and read protection.
    #[must_use]
    pub fn with_manner(mut self, manner: Quirks, is_protected: bool) -> Self {
        (self.manner, self.is_protected) = (manner, is_protected);
        if let Some(RunMode::Boot(_)) = self.power.mode() {
            let boot = self.boot_mode();
            self.boot(boot);
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
        if self.is_blank_ware {
            return;
        }
        self.flash.put(BASE, &self.bootloader);
        self.flash.put(Self::application_region(self.revision).start, self.revision.board().factory);
        self.flash.put(Self::settings_region(self.revision).start, &settings);
    }

    fn boot_mode(&self) -> RunMode {
        RunMode::Boot(DfuAddressed::new(BASE, TRANSFER_SIZE).with_manner(self.manner.clone(), self.is_protected))
    }

    fn boot(&mut self, mode: RunMode) {
        let descriptors = match &mode {
            RunMode::Application => self.application_face(),
            RunMode::Boot(boot) => self.boot_face(boot),
            RunMode::Loader(loader) => self.loader_face(loader),
        };
        self.power.boot(mode, descriptors);
    }

    fn application_face(&self) -> Descriptors {
        let release = self.application().map_or(0, |(application, _)| application.version);
        let interface = DescribedInterface {
            class: [0xFF, 0, 0],
            names: vec!["Tide data".to_owned()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        Descriptors::new(
            APPLICATION_IDS,
            release,
            ["Skerrow Instruments", "Tern tide gauge", &self.serial],
            vec![interface],
        )
    }

    /// The descriptors of the chip, which does not know the product.
    fn boot_face(&self, boot: &DfuAddressed) -> Descriptors {
        let interface = DescribedInterface {
            class: dfu::CLASS,
            names: vec![DfuAddressed::layout("Tide Flash", &self.flash)],
            extra: boot.functional_descriptor(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let chip_serial: String = self.serial.bytes().map(|byte| format!("{:02X}", byte.rotate_left(3))).collect();
        Descriptors::new(BOOT_IDS, 0x0200, ["Oyster Silicon", "Oyster boot mode", &chip_serial], vec![interface])
    }

    fn loader_mode(&self) -> RunMode {
        let region = Self::application_region(self.revision);
        let is_sound = self.revision.board().is_sound;
        let loader = DfuPlain::new(vec![region], TRANSFER_SIZE, LOADER_TRAITS, self.manner.clone(), is_sound);
        RunMode::Loader(if is_sound(&self.flash) { loader } else { loader.for_want_of_firmware() })
    }

    fn loader_face(&self, loader: &DfuPlain) -> Descriptors {
        let interface = DescribedInterface {
            class: dfu::CLASS,
            names: vec!["Tern application".to_owned()],
            extra: loader.functional_descriptor(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let version = if let BootChoice::Loader { version, .. } = self.boots() { version } else { 0 };
        let texts = ["Skerrow Instruments", self.revision.board().loader_name, &self.serial];
        Descriptors::new(LOADER_IDS, version, texts, vec![interface])
    }

    /// The content of the bootloader region.
    fn boots(&self) -> BootChoice {
        let region = Self::bootloader_region(self.revision);
        let bytes = self.flash.read(region.start, region.len()).unwrap_or_default();
        match firmware::inspect(&self.flash, region) {
            _ if bytes == &self.bootloader[..] => BootChoice::Factory,
            Some(loader) => BootChoice::Loader {
                version: loader.version,
                fits: loader.board_word == *self.revision.board().loader_word,
            },
            None if bytes[..8].iter().all(|byte| *byte == 0xFF) => BootChoice::Blank,
            None => BootChoice::Broken,
        }
    }

    /// The chip starts: in its boot mode if SET is held, else with the bootloader.
    fn power_on(&mut self, now: Duration) {
        match self.power.holds("SET") {
            true => {
                let boot = self.boot_mode();
                self.power.start(now, Some(boot));
            }
            false => self.run_bootloader(now),
        }
    }

    /// Runs the bootloader region: it starts the application or an update mode, or bricks the
    /// unit.
    fn run_bootloader(&mut self, now: Duration) {
        let application = self.application().map(|(_, fits)| fits);
        let wants_loader = self.power.holds("MODE");
        let mode = match (self.boots(), application) {
            // Without a bootloader the chip starts its boot mode.
            (BootChoice::Blank, _) if self.is_blank_ware => Some(self.boot_mode()),
            (BootChoice::Broken, _) if self.is_blank_ware => return self.power.hang(),
            (BootChoice::Loader { fits: false, .. } | BootChoice::Blank | BootChoice::Broken, _) => None,
            (BootChoice::Loader { .. }, _) if wants_loader => Some(self.loader_mode()),
            (_, Some(false)) => None,
            (_, Some(true)) => Some(RunMode::Application),
            (BootChoice::Loader { .. }, None) => Some(self.loader_mode()),
            (BootChoice::Factory, None) => Some(self.boot_mode()),
        };
        self.power.start(now, mode);
    }

    /// Leaves the boot mode by a jump.
    fn jump(&mut self, now: Duration, to: u32) {
        let application = Self::application_region(self.revision).start;
        let mode = match to {
            BASE => return self.run_bootloader(now),
            to if to == application => self.application().filter(|(_, fits)| *fits).map(|_| RunMode::Application),
            // A jump to invalid code bricks the unit.
            _ => None,
        };
        self.power.start(now, mode);
    }

    fn leave_if(&mut self, leaves: bool, now: Duration) {
        if leaves {
            self.power_on(now);
        }
    }

    fn cut(&mut self, now: Duration) {
        match self.power.mode() {
            Some(RunMode::Boot(boot)) => boot.cut(now, &mut self.flash),
            Some(RunMode::Loader(loader)) => loader.cut(now, &mut self.flash),
            _ => {}
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
        if let Some(mode) = self.power.due(now) {
            return self.boot(mode);
        }
        let boot = match self.power.mode() {
            Some(RunMode::Boot(boot)) => boot,
            Some(RunMode::Loader(loader)) => {
                let leaves = loader.advance(now, &mut self.flash);
                return self.leave_if(leaves, now);
            }
            _ => return,
        };
        match boot.advance(now, &mut self.flash) {
            Some(Leave::Jump(to)) => self.jump(now, to),
            // The chip restarts without a bootloader, in its boot mode.
            Some(Leave::Wiped) => {
                self.is_protected = false;
                let boot = self.boot_mode();
                self.power.start(now, Some(boot));
            }
            None => {}
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        match self.power.mode() {
            Some(RunMode::Boot(boot)) => boot.control(now, &self.flash, setup, data),
            Some(RunMode::Loader(loader)) => loader.control(now, &self.flash, setup, data),
            _ => Answer::Stall,
        }
    }

    fn bus_reset(&mut self, now: Duration) {
        // The chip's boot mode survives a bus reset, and so does the application.
        match self.power.mode() {
            Some(RunMode::Boot(boot)) => boot.bus_reset(now, &mut self.flash),
            Some(RunMode::Loader(loader)) => {
                let leaves = loader.bus_reset(now, &mut self.flash);
                self.leave_if(leaves, now);
            }
            _ => {}
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match self.power.apply(action) {
            ActionEffect::Tapped("RESET") => {
                self.cut(now);
                self.power_on(now);
            }
            ActionEffect::Pulled => {
                self.cut(now);
                self.power.unplug();
            }
            ActionEffect::Plugged => self.power_on(now),
            ActionEffect::Nothing | ActionEffect::Tapped(_) => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        self.power.condition(|mode| match mode {
            RunMode::Application => Condition::Application,
            RunMode::Boot(_) | RunMode::Loader(_) => Condition::Boot,
        })
    }

    fn revive(&mut self, now: Duration) {
        self.fill();
        self.power.release_all();
        self.power_on(now);
    }
}
