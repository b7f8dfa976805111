//! An ordinary USB stick, which must never be written to.

use std::time::Duration;

use super::power::{ActionEffect, Power};
use super::{Condition, Unit, UserAction};
use crate::bootloader::disk::{CLASS, Disk, ENDPOINTS, Medium, Quirks, SECTOR, Sense};
use crate::bootloader::fat::{File, Volume};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Descriptors, Setup};

/// USB ids. The products use all other ids that 0x1209 reserves for testing.
pub const IDS: (u16, u16) = (0x1209, 0x0000);

/// A disk with storage.
#[derive(Clone, Debug)]
pub struct Stored {
    /// All sectors.
    pub bytes: Vec<u8>,
    /// When it was last written.
    pub written: Option<Duration>,
    /// Whether it was ejected.
    pub is_ejected: bool,
}

impl Stored {
    /// A disk with this content.
    pub fn new(bytes: Vec<u8>) -> Self {
        Self { bytes, written: None, is_ejected: false }
    }
}

impl Medium for Stored {
    #[allow(clippy::cast_possible_truncation)] // small disks
    fn count(&self) -> u32 {
        (self.bytes.len() / SECTOR) as u32
    }

    fn read(&self, sector: u32) -> [u8; SECTOR] {
        let from = sector as usize * SECTOR;
        self.bytes.get(from..from + SECTOR).and_then(|bytes| bytes.try_into().ok()).unwrap_or([0; SECTOR])
    }

    fn write(&mut self, now: Duration, sector: u32, data: &[u8; SECTOR]) -> Result<Duration, Sense> {
        let from = sector as usize * SECTOR;
        self.bytes[from..from + SECTOR].copy_from_slice(data);
        self.written = Some(now);
        Ok(Duration::from_micros(50))
    }

    fn flush(&mut self, _: Duration) {}

    fn eject(&mut self, _: Duration) {
        self.is_ejected = true;
    }
}

/// A stick.
#[derive(Debug)]
pub struct Stick {
    power: Power<Disk>,
    ids: (u16, u16),
    serial: String,
    stored: Stored,
    flash: Flash,
}

impl Stick {
    /// A stick with some files on it.
    pub fn new(serial: &str) -> Self {
        let files = [File::text("REPORT.TXT", "Tides of October, not yet copied.\r\n")];
        Self::holding(serial, Volume::new(4400, "HOLIDAY").bytes(&files))
    }

    /// A stick with this content, in whole sectors.
    pub fn holding(serial: &str, bytes: Vec<u8>) -> Self {
        Self::posing_as(IDS, serial, bytes)
    }

    /// The same with the USB ids of another product.
    pub fn posing_as(ids: (u16, u16), serial: &str, bytes: Vec<u8>) -> Self {
        let stored = Stored::new(bytes);
        let (power, flash) = (Power::new(), Flash::new(0, 1, 1));
        let mut stick = Self { power, ids, serial: serial.to_owned(), stored, flash };
        stick.boot();
        stick
    }

    fn boot(&mut self) {
        let interface = DescribedInterface {
            class: CLASS,
            names: Vec::new(),
            extra: Vec::new(),
            bulk: ENDPOINTS.to_vec(),
            interrupt: Vec::new(),
        };
        let texts = ["Bazaar", "Stick", self.serial.as_str()];
        let descriptors = Descriptors::new(self.ids, 0x0100, texts, vec![interface]);
        self.power.boot(Disk::new(Quirks::default()), descriptors);
    }
}

impl Unit for Stick {
    fn advance(&mut self, now: Duration) {
        if self.power.due(now).is_some() {
            self.boot();
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, _: Duration, setup: Setup, _: &[u8]) -> Answer {
        self.power.mode().map_or(Answer::Stall, |disk| disk.control(setup))
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        match self.power.mode() {
            Some(disk) => disk.bulk(now, transfer, &mut self.stored),
            None => Answer::Silent,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let Some(disk) = self.power.mode() {
            disk.clear_halt(endpoint);
        }
    }

    fn disk(&self) -> &[u8] {
        &self.stored.bytes
    }

    fn bus_reset(&mut self, _: Duration) {
        if let Some(disk) = self.power.mode() {
            disk.bus_reset();
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match self.power.apply(action) {
            ActionEffect::Pulled => self.power.unplug(),
            ActionEffect::Plugged => self.power.start(now, Some(Disk::new(Quirks::default()))),
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
        self.power.condition(|_| Condition::Application)
    }

    fn revive(&mut self, _: Duration) {}
}
