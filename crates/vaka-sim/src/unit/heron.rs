//! The Heron shore display: a display controller, and an interface chip that does
//! the USB for it.
//!
//! While it runs it shows a disk. A HEX file that is copied there goes through the interface chip
//! into the display controller; the result is in a text file once the disk is back, and the file
//! with the installed firmware stays visible. With SERVICE held while the cable is plugged in,
//! another disk accepts the firmware of the interface chip itself, as a raw binary.

use std::ops::Range;
use std::time::Duration;

use super::firmware::{self, Application, filler_bytes};
use super::power::{ActionEffect, Power};
use super::stick::Stored;
use super::{Condition, Unit, UserAction};
use crate::bootloader::disk::{self, CLASS, Disk, ENDPOINTS};
use crate::bootloader::fat::{File, Found, Volume, find};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Descriptors, Setup};

/// Ids while it runs; of the range that 0x1209 reserves for testing.
pub const IDS: (u16, u16) = (0x1209, 0x0007);
/// Ids in service mode, from the same range.
pub const SERVICE_IDS: (u16, u16) = (0x1209, 0x0008);

/// Addresses of the display controller's firmware.
pub const DISPLAY_REGION: Range<u32> = 0x0040_0000..0x0042_0000;
/// Addresses of the interface chip's own bootloader.
pub const BOOTLOADER_REGION: Range<u32> = 0x0042_0000..0x0042_2000;
/// Addresses of the interface chip's firmware.
pub const INTERFACE_REGION: Range<u32> = 0x0042_2000..0x0043_0000;

const SECTORS: u32 = 96;
const SECTOR_SIZE: u32 = 2048;
const DISPLAY_WORD: &[u8; 4] = b"HRD1";
const INTERFACE_WORD: &[u8; 4] = b"HRI1";
const DISPLAY_FACTORY: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-display-3.0.0.bin");
const INTERFACE_FACTORY: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-interface-2.1.0.bin");

/// A file counts as complete after this time without a write.
const QUIET: Duration = Duration::from_millis(400);

/// Deviations of a unit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Quirks {
    /// Deviations of its disk.
    pub disk: disk::Quirks,
    /// It refuses every file, and reports that.
    pub refuses: bool,
    /// It leaves no result file.
    pub tells_nothing: bool,
    /// Its disk has no free space.
    pub full: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum HeronPart {
    Display,
    Interface,
}

impl HeronPart {
    fn region(self) -> Range<u32> {
        match self {
            Self::Display => DISPLAY_REGION,
            Self::Interface => INTERFACE_REGION,
        }
    }

    fn file(self) -> &'static str {
        match self {
            Self::Display => "DISPLAY.HEX",
            Self::Interface => "IFACE.BIN",
        }
    }
}

#[derive(Debug)]
struct RunMode {
    part: HeronPart,
    disk: Disk,
    stored: Stored,
}

/// A Heron.
#[derive(Debug)]
pub struct Heron {
    serial: String,
    flash: Flash,
    power: Power<RunMode>,
    bootloader: Vec<u8>,
    manner: Quirks,
    /// The content of its result file.
    result: Option<String>,
}

impl Heron {
    /// A unit in factory state: display 3.0.0, interface 2.1.0.
    pub fn new(serial: &str) -> Self {
        Self::with(serial, Quirks::default())
    }

    /// A unit with deviations.
    pub fn with(serial: &str, manner: Quirks) -> Self {
        let mut heron = Self {
            serial: serial.to_owned(),
            flash: Flash::new(DISPLAY_REGION.start, SECTORS, SECTOR_SIZE),
            power: Power::new(),
            bootloader: filler_bytes(serial, BOOTLOADER_REGION.len()),
            manner,
            result: None,
        };
        heron.fill();
        heron.boot(HeronPart::Display);
        heron
    }

    /// The unit with no firmware in its display controller.
    #[must_use]
    pub fn without_display(mut self) -> Self {
        self.flash.erase(DISPLAY_REGION);
        self.boot(HeronPart::Display);
        self
    }

    /// The unit in service mode.
    #[must_use]
    pub fn in_service_mode(mut self) -> Self {
        self.boot(HeronPart::Interface);
        self
    }

    fn fill(&mut self) {
        self.flash.erase(DISPLAY_REGION.start..INTERFACE_REGION.end);
        self.flash.put(BOOTLOADER_REGION.start, &self.bootloader);
        self.flash.put(DISPLAY_REGION.start, DISPLAY_FACTORY);
        self.flash.put(INTERFACE_REGION.start, INTERFACE_FACTORY);
    }

    fn firmware(&self, part: HeronPart) -> Option<Application> {
        firmware::inspect(&self.flash, part.region())
    }

    fn version(&self, part: HeronPart) -> String {
        let found = self.firmware(part).map(|firmware| firmware.version);
        found.map_or("none".to_owned(), |v| format!("{:x}.{:x}.{:x}", v >> 8, v >> 4 & 0xF, v & 0xF))
    }

    /// The disk of a mode, with its files.
    fn disk_of(&self, part: HeronPart) -> Vec<u8> {
        let mut files = Vec::new();
        if part == HeronPart::Display {
            let (display, interface) = (self.version(HeronPart::Display), self.version(HeronPart::Interface));
            let text = format!("Heron shore display\r\nDisplay: {display}\r\nInterface: {interface}\r\n");
            files.push(File::text("VERSION.TXT", &text));
        } else {
            files.push(File::text("SERVICE.TXT", "Put IFACE.BIN here, and nothing else.\r\n"));
        }
        if let Some(result) = self.result.as_ref().filter(|_| !self.manner.tells_nothing) {
            files.push(File::text("RESULT.TXT", result));
        }
        if part == HeronPart::Display && self.firmware(part).is_some() {
            files.push(File { name: part.file().into(), content: self.loaded() });
        }
        let volume = self.volume(part);
        if self.manner.full {
            let used: usize = files.iter().map(|file| file.content.len().div_ceil(512) * 512).sum();
            let free = (volume.sectors - volume.data()) as usize * 512 - used;
            files.push(File { name: "OLD.DAT".into(), content: vec![0x5A; free] });
        }
        volume.bytes(&files)
    }

    fn volume(&self, part: HeronPart) -> Volume {
        Volume::new(
            4400,
            match (part, self.firmware(HeronPart::Display)) {
                (HeronPart::Interface, _) => "HERON_SVC",
                (HeronPart::Display, Some(_)) => "HERON",
                (HeronPart::Display, None) => "HERON_EMPTY",
            },
        )
    }

    /// The display's firmware as a HEX file, read from its flash.
    fn loaded(&self) -> Vec<u8> {
        let start = DISPLAY_REGION.start;
        let length = self.flash.read(start + 0x44, 4).map_or(0, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
        let bytes = self.flash.read(start, length as usize + 4).unwrap_or_default();
        let record = |kind: u8, at: u32, data: &[u8]| {
            let [.., high, low] = at.to_be_bytes();
            let mut line = vec![u8::try_from(data.len()).unwrap_or(0), high, low, kind];
            line.extend_from_slice(data);
            let sum = line.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
            line.push(sum.wrapping_neg());
            let digits: String = line.iter().map(|byte| format!("{byte:02X}")).collect();
            format!(":{digits}\r\n")
        };
        let mut text = String::new();
        for (number, chunk) in (0..).zip(bytes.chunks(32)) {
            let at = start + number * 32;
            if number == 0 || at.is_multiple_of(0x1_0000) {
                text += &record(4, 0, &at.to_be_bytes()[..2]);
            }
            text += &record(0, at & 0xFFFF, chunk);
        }
        text += &record(1, 0, &[]);
        text.into_bytes()
    }

    fn mode(&self, part: HeronPart) -> RunMode {
        RunMode { part, disk: Disk::new(self.manner.disk), stored: Stored::new(self.disk_of(part)) }
    }

    fn boot(&mut self, part: HeronPart) {
        let mode = self.mode(part);
        let release = self.firmware(HeronPart::Interface).map_or(0, |firmware| firmware.version);
        let disk = DescribedInterface {
            class: CLASS,
            names: Vec::new(),
            extra: Vec::new(),
            bulk: ENDPOINTS.to_vec(),
            interrupt: Vec::new(),
        };
        let own = DescribedInterface {
            class: [0xFF, 0, 0],
            names: vec!["Lines".into()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let descriptors = match part {
            HeronPart::Display => {
                let texts = ["Skerrow Instruments", "Heron shore display", self.serial.as_str()];
                Descriptors::new(IDS, release, texts, vec![own, disk])
            }
            HeronPart::Interface => {
                let texts = ["Skerrow Instruments", "Heron service disk", self.serial.as_str()];
                Descriptors::new(SERVICE_IDS, 0x0100, texts, vec![disk])
            }
        };
        self.power.boot(mode, descriptors);
    }

    /// The interface chip starts.
    fn power_on(&mut self, now: Duration, after: Duration) {
        let part = match self.firmware(HeronPart::Interface) {
            _ if self.flash.read(BOOTLOADER_REGION.start, self.bootloader.len()) != Some(&self.bootloader[..]) => None,
            _ if self.power.holds("SERVICE") => Some(HeronPart::Interface),
            Some(firmware) if firmware.board_word != *INTERFACE_WORD => None,
            Some(_) => Some(HeronPart::Display),
            None => Some(HeronPart::Interface),
        };
        // Firmware of another product in the display controller drives the wrong pins.
        let burnt = self.firmware(HeronPart::Display).is_some_and(|firmware| firmware.board_word != *DISPLAY_WORD);
        let mode = part.filter(|_| !burnt).map(|part| self.mode(part));
        self.power.start(now + after, mode);
    }

    /// Installs a complete file.
    fn take(&mut self, now: Duration, part: HeronPart, content: &[u8]) {
        let region = part.region();
        let segments = match part {
            HeronPart::Display => parse_hex(content),
            HeronPart::Interface => Some(vec![(region.start, content.to_vec())]),
        };
        let fits = |(at, bytes): &(u32, Vec<u8>)| {
            region.contains(at) && u64::from(*at) + bytes.len() as u64 <= u64::from(region.end)
        };
        let segments = segments.filter(|all| !self.manner.refuses && !all.is_empty() && all.iter().all(fits));
        let Some(segments) = segments else {
            self.result = Some(format!("Result: refused, {} is not for this display\r\n", part.file()));
            return self.power_on(now, Duration::from_millis(200));
        };
        let mut time = Duration::ZERO;
        let touches = |sector: &Range<u32>| {
            segments.iter().any(|(at, bytes)| *at < sector.end && sector.start < end_of(*at, bytes))
        };
        let all = region.step_by(SECTOR_SIZE as usize).map(|at| at..at + SECTOR_SIZE);
        for sector in all.filter(touches) {
            time += Flash::erase_time(SECTOR_SIZE);
            self.flash.erase(sector);
        }
        for (at, bytes) in &segments {
            time += Flash::program_time(u32::try_from(bytes.len()).unwrap_or(0));
            self.flash.program(*at, bytes);
        }
        self.result = Some(match self.firmware(part) {
            Some(_) => format!("Result: loaded {}\r\n", part.file()),
            None => "Result: refused, the firmware's checksum is wrong\r\n".to_owned(),
        });
        self.power_on(now, time);
    }
}

/// The address after bytes that start at `start`.
fn end_of(start: u32, bytes: &[u8]) -> u32 {
    u32::try_from(bytes.len()).ok().and_then(|len| start.checked_add(len)).unwrap_or(u32::MAX)
}

/// The data of an Intel HEX file, as this unit reads it: record types 0, 1, 2, 4.
fn parse_hex(content: &[u8]) -> Option<Vec<(u32, Vec<u8>)>> {
    let text = std::str::from_utf8(content).ok()?;
    let (mut base, mut segments): (u32, Vec<(u32, Vec<u8>)>) = (0, Vec::new());
    for line in text.lines() {
        let digits = line.trim().strip_prefix(':')?;
        let byte = |at: usize| u8::from_str_radix(digits.get(at..at + 2)?, 16).ok();
        let bytes: Vec<u8> = (0..digits.len()).step_by(2).map(byte).collect::<Option<_>>()?;
        let (head, data) = bytes.split_at_checked(4)?;
        let (_, data) = data.split_last()?;
        let at = u32::from(u16::from_be_bytes([head[1], head[2]]));
        match head[3] {
            0 => match segments.last_mut() {
                Some((start, held)) if end_of(*start, held) == base + at => held.extend_from_slice(data),
                _ => segments.push((base + at, data.to_vec())),
            },
            1 => return Some(segments),
            2 => base = u32::from(u16::from_be_bytes(*data.first_chunk()?)) << 4,
            4 => base = u32::from(u16::from_be_bytes(*data.first_chunk()?)) << 16,
            _ => {}
        }
    }
    None
}

impl Unit for Heron {
    fn advance(&mut self, now: Duration) {
        if let Some(mode) = self.power.due(now) {
            return self.boot(mode.part);
        }
        let Some(RunMode { part, disk, stored }) = self.power.mode() else { return };
        let part = *part;
        if stored.is_ejected {
            self.result = None;
            return self.power_on(now, Duration::ZERO);
        }
        if !(disk.is_idle() && stored.written.is_some_and(|at| now >= at + QUIET)) {
            return;
        }
        let bytes = stored.bytes.clone();
        stored.written = None;
        let volume = self.volume(part);
        if let Found::Whole(content) = find(volume, &bytes, part.file())
            && !(part == HeronPart::Display && self.firmware(part).is_some() && content == self.loaded())
        {
            self.take(now, part, &content);
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, _: Duration, setup: Setup, _: &[u8]) -> Answer {
        self.power.mode().map_or(Answer::Silent, |mode| mode.disk.control(setup))
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        match self.power.mode() {
            Some(RunMode { disk, stored, .. }) => disk.bulk(now, transfer, stored),
            None => Answer::Silent,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let Some(mode) = self.power.mode() {
            mode.disk.clear_halt(endpoint);
        }
    }

    fn disk(&self) -> &[u8] {
        self.power.shown().map_or(&[], |mode| &mode.stored.bytes)
    }

    fn bus_reset(&mut self, _: Duration) {
        if let Some(mode) = self.power.mode() {
            mode.disk.bus_reset();
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match self.power.apply(action) {
            ActionEffect::Pulled => self.power.unplug(),
            ActionEffect::Plugged => self.power_on(now, Duration::ZERO),
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
        self.power.condition(|mode| match mode.part {
            HeronPart::Display => Condition::Application,
            HeronPart::Interface => Condition::Boot,
        })
    }

    fn revive(&mut self, now: Duration) {
        self.fill();
        self.power.release_all();
        self.power_on(now, Duration::ZERO);
    }
}
