//! Protocols that the dialect language was not made for: for each a bootloader that
//! was written from its description, and a dialect of at most 120 lines.

#![allow(dead_code, unreachable_pub)] // each test file uses its part

pub mod avowal;
pub mod beckon;
pub mod belfry;
pub mod bellows;
pub mod berth;
pub mod casket;
pub mod chorus;
pub mod folio;
pub mod galley;
pub mod ledger;
pub mod parcel;
pub mod porter;
pub mod ribbon;
pub mod satchel;
pub mod sentry;
pub mod skein;
pub mod spoken;
pub mod tagged;
pub mod tally;

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use vaka_core::event::{Check, ExitCode, RestartState};
use vaka_core::sheet::{Dialects, Sheet, SheetErrors};
use vaka_dialect::{Dialect, no_files};
use vaka_sim::fault::Fault;
use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::{AppModel, Factories, Loader, Plain, UnitSpec, VendorUnit};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};
use vaka_testkit::files;

use crate::support::{FAULT_KINDS, Scene, failure};

/// Where the flash of these units begins: 64 sectors of 256 bytes.
pub const BASE: u32 = 0x0B00_0000;
pub const SECTOR: u32 = 256;
/// The application: behind 2 KiB of bootloader, 12 KiB.
pub const START: u32 = BASE + 0x800;
pub const END: u32 = START + 0x3000;
pub const LIMIT: u32 = BASE + 64 * SECTOR;

/// Whether a bootloader may write there.
pub fn writable(from: u32, len: usize) -> bool {
    from >= START && u64::from(from) + len as u64 <= u64::from(LIMIT)
}

/// A vendor interface with these bulk and interrupt endpoints.
pub fn pipes(name: &str, bulk: &[u8], interrupt: &[u8]) -> Vec<DescribedInterface> {
    let (names, extra) = (vec![name.to_owned()], Vec::new());
    vec![DescribedInterface { class: [0xFF, 0, 0], names, extra, bulk: bulk.to_vec(), interrupt: interrupt.to_vec() }]
}

/// Transfers to the host, each with the time at which it is available.
#[derive(Debug, Default)]
pub struct Outbox {
    transfers: VecDeque<(Duration, Vec<u8>)>,
}

impl Outbox {
    pub fn push(&mut self, at: Duration, bytes: Vec<u8>) {
        self.transfers.push_back((at, bytes));
    }

    /// The reply to a request for at most `length` bytes: all bytes of a transfer that fit. A
    /// transfer of whole packets has no empty packet behind it.
    pub fn pull(&mut self, now: Duration, length: usize) -> Answer {
        match self.transfers.front_mut() {
            Some((at, bytes)) if *at <= now => {
                let part: Vec<u8> = bytes.drain(..bytes.len().min(length)).collect();
                if bytes.is_empty() {
                    self.transfers.pop_front();
                }
                Answer::Data(part)
            }
            _ => Answer::Busy,
        }
    }
}

/// A bootloader on pipe 1 in both directions, with a message in each transfer.
pub trait Messages {
    fn outbox(&mut self) -> &mut Outbox;

    fn message(&mut self, now: Duration, flash: &mut Flash, message: &[u8]);

    fn transfer(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(1, data) => {
                self.message(now, flash, data);
                Answer::Done
            }
            Bulk::In(1, length) => self.outbox().pull(now, length),
            _ => Answer::Stall,
        }
    }
}

/// Four bytes as a number, little-endian.
pub fn word(bytes: &[u8]) -> u32 {
    u32::from_le_bytes(bytes[..4].try_into().unwrap())
}

/// The sum of all bytes.
pub fn sum(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0, |sum, byte| sum.wrapping_add(*byte))
}

/// CRC-16 with the polynomial 0x1021, from 0xFFFF.
pub fn crc16(bytes: &[u8]) -> u16 {
    crc::Crc::<u16>::new(&crc::CRC_16_IBM_3740).checksum(bytes)
}

pub fn crc32(bytes: &[u8]) -> u32 {
    crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(bytes)
}

/// Creates a loader whenever the unit starts.
pub type Maker = Box<dyn Fn() -> Box<dyn Loader> + Send>;

/// One protocol.
pub struct Shape {
    pub name: &'static str,
    pub dialect: &'static str,
    /// Creates the loader whenever the unit starts.
    pub maker: fn() -> Maker,
    pub check: Check,
    /// Bytes of the image.
    pub len: usize,
}

/// An application of this size that the bootloaders accept.
pub fn application(len: usize, version: u16, seed: u64) -> Vec<u8> {
    files::application(len, START, *b"SHP1", version, seed)
}

impl Shape {
    pub fn unit(&self) -> VendorUnit {
        self.unit_running(Box::new(|_| Box::new(Plain)))
    }

    /// A unit with this application, which gets its version in packed decimal.
    pub fn unit_running(&self, runner: Box<dyn Fn(u16) -> Box<dyn AppModel> + Send>) -> VendorUnit {
        self.unit_named(["Shape", "Shape loader"], runner)
    }

    /// The same with these product strings of the application and the bootloader.
    pub fn unit_named(
        &self,
        names: [&'static str; 2],
        runner: Box<dyn Fn(u16) -> Box<dyn AppModel> + Send>,
    ) -> VendorUnit {
        self.unit_with(names, runner, application(3000, 0x0100, 7))
    }

    /// The same with this content behind the bootloader.
    pub fn unit_with(
        &self,
        names: [&'static str; 2],
        runner: Box<dyn Fn(u16) -> Box<dyn AppModel> + Send>,
        factory: Vec<u8>,
    ) -> VendorUnit {
        let make = UnitSpec {
            names,
            ids: [(0x1209, 0x0009), (0x1209, 0x000A)],
            flash: (BASE, 64, SECTOR),
            bootloader: BASE..START,
            application: START..END,
            settings: END..LIMIT,
            board_word: b"SHP1",
            factory: Box::leak(factory.into_boxed_slice()),
            button: "BOOT",
            window: None,
            silent: false,
        };
        let makers = Factories { loader: (self.maker)(), runner };
        VendorUnit::new(make, makers, "X-1").in_boot_mode()
    }

    pub fn sheet(&self) -> Sheet {
        self.sheet_of(&format!("{SHEET}\ndialect = \"{}\"\n", self.name))
    }

    /// A sheet with this text and the dialect.
    pub fn sheet_of(&self, text: &str) -> Sheet {
        self.try_sheet_of(text).unwrap_or_else(|errors| panic!("{errors}"))
    }

    pub fn try_sheet_of(&self, text: &str) -> Result<Sheet, SheetErrors> {
        let dialect = Dialect::parse(self.name, self.dialect, &no_files).unwrap_or_else(|errors| panic!("{errors}"));
        // A unit that shows nothing of its memory cannot be verified.
        let says_more = dialect.warnings.iter().any(|warning| !warning.message.starts_with("no verification"));
        assert!(!says_more, "{}: {:?}", self.name, dialect.warnings);
        let dialects: Dialects = [(dialect.name.clone(), Arc::new(dialect))].into();
        Sheet::parse_with("shape.toml", text, &dialects)
    }

    pub fn scene(&self, faults: Vec<Fault>) -> Scene {
        let file = Box::leak(application(self.len, 0x0110, 11).into_boxed_slice());
        Scene::loaded(self.unit(), faults, self.sheet(), file, "BOOT")
    }

    /// Updates the unit, and looks into its memory; then with faults at transfers.
    #[track_caller]
    pub fn holds(&self) {
        self.holds_in(&|faults| self.scene(faults));
    }

    /// The same in a scene of its own.
    #[track_caller]
    pub fn holds_in(&self, scene: &dyn Fn(Vec<Fault>) -> Scene) {
        let lines = self.dialect.lines().filter(|line| !line.trim().is_empty()).count();
        assert!(lines <= 120, "{}: {lines} lines", self.name);
        let whole = scene(Vec::new());
        let (report, events) = whole.update();
        assert_eq!(
            (report.code, report.check, report.after),
            (ExitCode::Done, self.check, RestartState::Confirmed),
            "{}: {:?}",
            self.name,
            failure(&events)
        );
        assert!(whole.holds_image(), "{}: another image", self.name);
        whole.assert_unharmed(self.name);
        let count = whole.transfers();
        // Some of the middle, and all of the first and last ones, which set things up.
        for at in (1..=count).filter(|at| *at < 25 || at % (count / 30).max(7) == 0 || *at > count - 12) {
            for kind in &FAULT_KINDS {
                let what = format!("{}, {kind:?} at transfer {at} of {count}", self.name);
                scene(vec![Fault { at, kind: kind.clone() }]).is_survived(&what);
            }
        }
    }
}

pub const SHEET: &str = r#"
sheet = 1
[product]
id = "shape"
name = "Shape"
maker = "Skerrow Instruments"
[application]
id = "1209:0009"
version = "release-number"
[[variant]]
id = "s1"
name = "Shape"
look_at = [{ place = "lid", reads = "SHAPE" }]
flash = [{ start = 0x0B00_0000, sectors = 64, size = 256 }]
ram = { start = 0x2000_0000, size = "4 KiB" }
[variant.image]
region = "application"
binary_at = 0x0B00_0800
vectors = "cortex-m"
version = { offset = 0x4C }
[[variant.region]]
name = "bootloader"
start = 0x0B00_0000
size = "2 KiB"
[[variant.region]]
name = "application"
start = 0x0B00_0800
size = "12 KiB"
[[variant.region]]
name = "settings"
start = 0x0B00_3800
size = "2 KiB"
[[route]]
kind = "dialect"
id = "1209:000a"
writes = ["application"]
"#;
