//! The Gannet hydrophone interface.
//!
//! Its application has a DFU run-time interface beside its own; after a detach request the unit
//! returns in its bootloader, which uses plain DFU 1.1. BOOT held while the cable is plugged in
//! leads there too. The bootloader starts the application if its start vectors and CRC are valid;
//! it does not check the board word.

use std::time::Duration;

use super::firmware::{self, Application, filler_bytes};
use super::power::{ActionEffect, Power};
use super::{Condition, Unit, UserAction};
use crate::bootloader::dfu::{self, LEAVE_TIME, Quirks, state, status_reply};
use crate::bootloader::dfu_plain::{DfuPlain, Traits};
use crate::flash::Flash;
use crate::usb::{Answer, DescribedInterface, Descriptors, Setup};

/// Ids of the application.
pub const APPLICATION_IDS: (u16, u16) = (0x1209, 0x0003);
/// Ids of the bootloader, of the same range.
pub const BOOT_IDS: (u16, u16) = (0x1209, 0x0004);

/// wTransferSize of the bootloader. The application's is smaller, as is met.
pub const TRANSFER_SIZE: u16 = 1024;
const RUN_TIME_TRANSFER_SIZE: u16 = 64;

/// wDetachTimeOut, the same as in the functional descriptor.
const DETACH_TIME: Duration = Duration::from_millis(1000);

/// Addresses of the application.
pub const APPLICATION_REGION: std::ops::Range<u32> = 0x5000..0x1_F800;
/// Addresses of the settings; its bootloader offers them as a second memory.
pub const SETTINGS_REGION: std::ops::Range<u32> = 0x1_F800..0x2_0000;
/// Addresses of the bootloader.
pub const BOOTLOADER_REGION: std::ops::Range<u32> = 0..0x5000;

const SECTORS: u32 = 64;
const SECTOR_SIZE: u32 = 2048;
const BOARD_WORD: &[u8; 4] = b"GNT1";
const FACTORY: &[u8] = include_bytes!("../../../../demo/firmware/out/gannet-1.2.0.bin");

/// The bInterfaceNumber of the application's DFU interface: another one than 0.
const RUN_TIME_INTERFACE: u16 = 1;

#[derive(Debug)]
enum RunMode {
    Application(Detach),
    Boot(DfuPlain),
}

/// The progress of a detach.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Detach {
    No,
    /// Waits for a bus reset until then.
    Waits(Duration),
    /// Detaches by itself at this time.
    Leaves(Duration),
}

/// A Gannet.
#[derive(Debug)]
pub struct Gannet {
    serial: String,
    flash: Flash,
    power: Power<RunMode>,
    bootloader: Vec<u8>,
    traits: Traits,
    manner: Quirks,
}

impl Gannet {
    /// The attributes of its bootloader by default.
    pub const TRAITS: Traits = Traits { can_upload: true, tolerant: true, will_detach: false };

    /// A unit in factory state, with application 1.2.0 running.
    pub fn new(serial: &str) -> Self {
        Self::with(serial, Self::TRAITS, Quirks::default())
    }

    /// A unit with other attributes and deviations.
    pub fn with(serial: &str, traits: Traits, manner: Quirks) -> Self {
        let bootloader = filler_bytes(serial, BOOTLOADER_REGION.len());
        let flash = Flash::new(0, SECTORS, SECTOR_SIZE);
        let serial = serial.to_owned();
        let mut gannet = Self { serial, flash, power: Power::new(), bootloader, traits, manner };
        gannet.fill();
        gannet.boot(RunMode::Application(Detach::No));
        gannet
    }

    /// The unit in its bootloader.
    #[must_use]
    pub fn in_boot_mode(mut self) -> Self {
        let boot = self.boot_mode();
        self.boot(boot);
        self
    }

    fn fill(&mut self) {
        self.flash.erase(0..self.flash.len());
        self.flash.put(BOOTLOADER_REGION.start, &self.bootloader);
        self.flash.put(APPLICATION_REGION.start, FACTORY);
        self.flash.put(APPLICATION_REGION.end, &firmware::settings(&self.serial, 12, 0));
    }

    fn boot_mode(&self) -> RunMode {
        let boot = DfuPlain::new(
            vec![APPLICATION_REGION, SETTINGS_REGION],
            TRANSFER_SIZE,
            self.traits,
            self.manner.clone(),
            |f| sound(f).is_some(),
        );
        RunMode::Boot(if sound(&self.flash).is_some() { boot } else { boot.for_want_of_firmware() })
    }

    fn boot(&mut self, mode: RunMode) {
        let descriptors = match &mode {
            RunMode::Application(_) => self.application_face(),
            RunMode::Boot(boot) => self.boot_face(boot),
        };
        self.power.boot(mode, descriptors);
    }

    fn application_face(&self) -> Descriptors {
        let release = sound(&self.flash).map_or(0, |application| application.version);
        let own = DescribedInterface {
            class: [0xFF, 0, 0],
            names: vec!["Sound".to_owned()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let attributes = self.traits.attributes();
        let dfu = DescribedInterface {
            class: dfu::RUN_TIME_CLASS,
            names: vec!["Gannet update".to_owned()],
            extra: Quirks { advertised_block_size: None, ..self.manner.clone() }.functional_descriptor(
                attributes,
                RUN_TIME_TRANSFER_SIZE,
                0x0110,
            ),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let texts = ["Skerrow Instruments", "Gannet hydrophone interface", &self.serial];
        Descriptors::new(APPLICATION_IDS, release, texts, vec![own, dfu])
    }

    fn boot_face(&self, boot: &DfuPlain) -> Descriptors {
        let interface = DescribedInterface {
            class: dfu::CLASS,
            names: vec!["Gannet firmware".to_owned(), "Gannet settings".to_owned()],
            extra: boot.functional_descriptor(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let texts = ["Skerrow Instruments", "Gannet bootloader", &self.serial];
        Descriptors::new(BOOT_IDS, 0x0100, texts, vec![interface])
    }

    /// The bootloader starts, and continues to the application if possible.
    fn power_on(&mut self, now: Duration) {
        let mode = match sound(&self.flash) {
            _ if self.flash.bytes()[..self.bootloader.len()] != self.bootloader[..] => None,
            _ if self.power.holds("BOOT") => Some(self.boot_mode()),
            Some(application) if application.board_word != *BOARD_WORD => None,
            Some(_) => Some(RunMode::Application(Detach::No)),
            None => Some(self.boot_mode()),
        };
        self.power.start(now, mode);
    }

    fn enter_boot_mode(&mut self, now: Duration) {
        let boot = self.boot_mode();
        self.power.start(now, Some(boot));
    }

    /// A class request to the application's DFU interface.
    fn run_time(&mut self, now: Duration, setup: Setup) -> Answer {
        let (will_detach, ignores_detach) = (self.traits.will_detach, self.manner.ignores_detach);
        let Some(RunMode::Application(detach)) = self.power.mode() else { return Answer::Stall };
        let number = if *detach == Detach::No { state::APP_IDLE } else { state::APP_DETACH };
        match (setup.kind, setup.request, setup.index) {
            (0x21, 0, RUN_TIME_INTERFACE) if *detach == Detach::No => {
                *detach = match will_detach && !ignores_detach {
                    true => Detach::Leaves(now + LEAVE_TIME),
                    false => Detach::Waits(now + DETACH_TIME),
                };
                Answer::Done
            }
            (0xA1, 3, RUN_TIME_INTERFACE) => status_reply(0, 1000, number),
            (0xA1, 5, RUN_TIME_INTERFACE) => Answer::Data(vec![number]),
            _ => Answer::Stall,
        }
    }

    fn leave_if(&mut self, leaves: bool, now: Duration) {
        if leaves {
            self.power_on(now);
        }
    }

    fn cut(&mut self, now: Duration) {
        if let Some(RunMode::Boot(boot)) = self.power.mode() {
            boot.cut(now, &mut self.flash);
        }
    }
}

fn sound(flash: &Flash) -> Option<Application> {
    firmware::inspect(flash, APPLICATION_REGION)
}

impl Unit for Gannet {
    fn advance(&mut self, now: Duration) {
        if let Some(mode) = self.power.due(now) {
            return self.boot(mode);
        }
        match self.power.mode() {
            Some(RunMode::Application(detach)) => match *detach {
                Detach::Leaves(at) if now >= at => self.enter_boot_mode(now),
                // The bus was not reset: the application keeps running.
                Detach::Waits(until) if now >= until => *detach = Detach::No,
                _ => {}
            },
            Some(RunMode::Boot(boot)) => {
                let leaves = boot.advance(now, &mut self.flash);
                self.leave_if(leaves, now);
            }
            _ => {}
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        match self.power.mode() {
            Some(RunMode::Boot(boot)) => boot.control(now, &self.flash, setup, data),
            Some(RunMode::Application(_)) => self.run_time(now, setup),
            _ => Answer::Stall,
        }
    }

    fn standard(&mut self, _: Duration, setup: Setup) -> Option<Answer> {
        const SET_INTERFACE: (u8, u8) = (0x01, 11);
        match self.power.mode() {
            Some(RunMode::Boot(boot)) if (setup.kind, setup.request) == SET_INTERFACE => {
                Some(if boot.select(setup.value) { Answer::Done } else { Answer::Stall })
            }
            _ => None,
        }
    }

    fn bus_reset(&mut self, now: Duration) {
        match self.power.mode() {
            Some(RunMode::Application(Detach::Waits(_))) => self.enter_boot_mode(now),
            Some(RunMode::Boot(boot)) => {
                let leaves = boot.bus_reset(now, &mut self.flash);
                self.leave_if(leaves, now);
            }
            _ => {}
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match self.power.apply(action) {
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
            RunMode::Application(_) => Condition::Application,
            RunMode::Boot(_) => Condition::Boot,
        })
    }

    fn revive(&mut self, now: Duration) {
        self.fill();
        self.power.release_all();
        self.power_on(now);
    }
}
