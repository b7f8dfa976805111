//! A unit on a bus in process, in virtual time, and the whole job on it.

#![allow(dead_code, unreachable_pub)] // each test file uses its part

pub mod products;

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::failure::{Failure, FailureKind, RefusalReason};
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_boot::warning::Warning;
use vaka_core::event::{ExitCode, Report, StepName};
use vaka_core::input::InputFile;
use vaka_core::release::Release;
use vaka_core::release::manifest::{Entry, FORMAT, File, Loss, Manifest, STANDARD, Stage};
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::{Dialect, no_files};
use vaka_image::FirmwareFile;
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::in_process::SimBus;
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::heron::{self, Heron};
use vaka_sim::unit::petrel::{self, Petrel};
use vaka_sim::unit::stick::Stick;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::vendor_unit::VendorUnit;
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::usb;
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::{Bus, Clock, Setup, UsbDevice};

pub const TERN: &str = include_str!("../../../../demo/sheets/tern.toml");
pub const GANNET: &str = include_str!("../../../../demo/sheets/gannet.toml");

pub const TERN_HEX: &[u8] = include_bytes!("../../../../demo/firmware/out/tern-r1-1.5.0.hex");
/// By `objcopy`, from the same link as the HEX file.
pub const TERN_BINARY: &[u8] = include_bytes!("../../../../demo/firmware/out/tern-r1-1.5.0.bin");
pub const GANNET_DFU: &[u8] = include_bytes!("../../../../demo/firmware/out/gannet-1.3.0.dfu");
pub const GANNET_BINARY: &[u8] = include_bytes!("../../../../demo/firmware/out/gannet-1.3.0.bin");

pub const PETREL: &str = include_str!("../../../../demo/sheets/petrel.toml");
pub const HERON: &str = include_str!("../../../../demo/sheets/heron.toml");
/// By a few lines of Python, from the binary beside it.
pub const PETREL_UF2: &[u8] = include_bytes!("../../../../demo/firmware/out/petrel-pb1-2.4.0.uf2");
pub const PETREL_BINARY: &[u8] = include_bytes!("../../../../demo/firmware/out/petrel-pb1-2.4.0.bin");
pub const DISPLAY_HEX: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-display-3.1.0.hex");
pub const DISPLAY_BINARY: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-display-3.1.0.bin");
pub const INTERFACE_BINARY: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-interface-2.2.0.bin");

pub const PORT: &str = "1-1";
/// Where an ordinary stick is plugged in.
pub const STICK: &str = "1-2";

/// One unit, what is known of it, and what it held at first.
pub struct Scene {
    pub world: SharedWorld,
    pub clock: Arc<VirtualClock>,
    pub sheets: Vec<Sheet>,
    pub before: Vec<u8>,
    /// The content of an ordinary USB stick beside it.
    pub stick: Vec<u8>,
    /// The file, the bytes that are then in the unit, and where.
    pub file: &'static [u8],
    pub binary: &'static [u8],
    pub start: u32,
    /// Further files for regions, with the place of each in the unit.
    pub further: Vec<(&'static str, u32, &'static [u8])>,
    /// Regions of which no byte may change.
    pub kept: Vec<Range<u32>>,
    /// The label that the user read, and the button for update mode.
    pub label: Option<&'static str>,
    pub button: &'static str,
    /// Whether equal sectors are written as well.
    pub rewrite: bool,
    /// Whether the user stops the program after the first block.
    pub stops_after_a_block: bool,
}

impl Scene {
    /// A Tern r1 as it is given, with the demo's file for it.
    pub fn tern(unit: Tern, faults: Vec<Fault>, sheet: &str) -> Self {
        let regions = [Tern::bootloader_region(Revision::R1), Tern::settings_region(Revision::R1)];
        let start = Tern::application_region(Revision::R1).start;
        let mut scene = Self::new(Box::new(unit), faults, sheet, regions.to_vec(), start);
        (scene.file, scene.binary) = (TERN_HEX, TERN_BINARY);
        (scene.label, scene.button) = (Some("r1"), "SET");
        scene
    }

    /// A Tern r1 in update mode.
    pub fn tern_r1(faults: Vec<Fault>) -> Self {
        Self::tern(Tern::in_boot_mode(Revision::R1, "T1-00217"), faults, TERN)
    }

    /// A Gannet as it is given, with the demo's file for it.
    pub fn gannet(unit: Gannet, faults: Vec<Fault>, sheet: &str) -> Self {
        let kept = vec![gannet::BOOTLOADER_REGION, gannet::APPLICATION_REGION.end..0x2_0000];
        Self::new(Box::new(unit), faults, sheet, kept, gannet::APPLICATION_REGION.start)
    }

    /// A Petrel on board PB1 as it is given, with the demo's file for it, and an
    /// ordinary stick beside it.
    pub fn petrel(unit: Petrel, faults: Vec<Fault>) -> Self {
        let kept = vec![petrel::BOOTLOADER_REGION, petrel::SETTINGS_REGION];
        let mut scene = Self::new(Box::new(unit), faults, PETREL, kept, petrel::APPLICATION_REGION.start);
        (scene.file, scene.binary, scene.button) = (PETREL_UF2, PETREL_BINARY, "MARK");
        scene.with_stick()
    }

    /// A Heron as it is given, with the demo's file for one of its parts.
    pub fn heron(unit: Heron, faults: Vec<Fault>, part: &str) -> Self {
        let is_display = part == "display";
        let (other, start) = match is_display {
            true => (heron::INTERFACE_REGION, heron::DISPLAY_REGION.start),
            false => (heron::DISPLAY_REGION, heron::INTERFACE_REGION.start),
        };
        let mut scene = Self::new(Box::new(unit), faults, HERON, vec![heron::BOOTLOADER_REGION, other], start);
        scene.sheets = scene.sheets.iter().filter_map(|sheet| sheet.only_part(part)).collect();
        (scene.file, scene.binary) =
            if is_display { (DISPLAY_HEX, DISPLAY_BINARY) } else { (INTERFACE_BINARY, INTERFACE_BINARY) };
        scene.button = if is_display { "NONE" } else { "SERVICE" };
        scene.with_stick()
    }

    /// A unit with a bootloader of its maker's own, and a file for it.
    pub fn loaded(
        unit: VendorUnit,
        faults: Vec<Fault>,
        sheet: Sheet,
        file: &'static [u8],
        button: &'static str,
    ) -> Self {
        let [bootloader, application, settings] = unit.regions();
        let mut scene = Self::new(Box::new(unit), faults, "", vec![bootloader, settings], application.start);
        scene.sheets = vec![sheet];
        (scene.file, scene.binary, scene.button) = (file, file, button);
        scene
    }

    fn with_stick(mut self) -> Self {
        let stick = Stick::new("BZ88");
        self.stick = stick.disk().to_vec();
        lock(&self.world).plug(STICK, Box::new(stick), Vec::new());
        self
    }

    fn new(unit: Box<dyn Unit>, faults: Vec<Fault>, sheet: &str, kept: Vec<Range<u32>>, start: u32) -> Self {
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        world.plug(PORT, unit, faults);
        let before = world.unit(PORT).unwrap().flash().bytes().to_vec();
        let sheets = if sheet.is_empty() { Vec::new() } else { vec![Sheet::parse("sheet.toml", sheet).unwrap()] };
        let (world, file, binary) = (world.shared(), GANNET_DFU, GANNET_BINARY);
        let stick = Vec::new();
        Self {
            world,
            clock,
            sheets,
            before,
            stick,
            file,
            binary,
            start,
            further: Vec::new(),
            kept,
            label: None,
            button: "BOOT",
            rewrite: true,
            stops_after_a_block: false,
        }
    }

    pub fn bus(&self) -> SimBus {
        SimBus::new(self.world.clone(), self.clock.clone())
    }

    pub fn update(&self) -> (Report, Vec<Event>) {
        self.update_with(self.file, |_| {})
    }

    /// Runs the job on a file, with what `change` asks for besides.
    pub fn update_with(&self, file: &[u8], change: impl FnOnce(&mut Request<'_>)) -> (Report, Vec<Event>) {
        let bench = Bench::new(vec![Arc::new(self.bus())], &self.sheets);
        let label = self.label.map(str::to_owned).filter(|_| !self.sheets.is_empty());
        let mut request = Request { label, rewrite: self.rewrite, wait: Duration::from_secs(5), ..Request::new(file) };
        // As the program does with the file that it opens.
        let wrappers = self.sheets.iter().flat_map(|sheet| &sheet.wrappers);
        if let Some(opened) = wrappers.filter_map(|wrapper| wrapper.unwrap(file)).next() {
            request.files[0].file = opened.unwrap().file();
        }
        for (region, _, bytes) in &self.further {
            let input = InputFile::of(FirmwareFile::parse(bytes));
            request.files.push(InputFile { region: Some((*region).to_owned()), ..input });
        }
        change(&mut request);
        let stop = AtomicBool::new(false);
        let mut events = Vec::new();
        let mut tell = |event| {
            let written = matches!(event, Event::Progress { step: StepName::Write, done, .. } if done > 0);
            stop.fetch_or(self.stops_after_a_block && written, Ordering::SeqCst);
            events.push(event);
        };
        let report = update::run(&bench, &request, &mut Unattended, &mut Context::new(&*self.clock, &mut tell, &stop));
        (report, events)
    }

    /// Performs a user action after a time; the action is given as text.
    pub fn act_at(&self, after: Duration, words: &str) {
        lock(&self.world).act_later(PORT, after, words.parse::<UserAction>().unwrap());
    }

    pub fn act(&self, action: UserAction) {
        assert!(lock(&self.world).act(PORT, &action));
    }

    /// The user's action on a unit that is stuck: pulls it, and plugs it
    /// in again with the button held.
    pub fn back_into_update_mode(&self) {
        self.act(UserAction::Pull);
        self.act(UserAction::Hold(self.button.into()));
        self.act(UserAction::Plug);
        self.clock.sleep(Duration::from_secs(1));
        self.act(UserAction::Release(self.button.into()));
    }

    pub fn condition(&self) -> Condition {
        lock(&self.world).unit(PORT).unwrap().condition()
    }

    /// Class, vendor and bulk transfers so far.
    pub fn transfers(&self) -> u64 {
        lock(&self.world).transfers(PORT)
    }

    pub fn memory(&self, range: Range<u32>) -> Vec<u8> {
        let mut world = lock(&self.world);
        world.unit(PORT).unwrap().flash().read(range.start, range.len()).unwrap().to_vec()
    }

    pub fn holds_image(&self) -> bool {
        let own = [("", self.start, self.binary)];
        let mut all = own.iter().chain(&self.further);
        all.all(|(_, start, bytes)| self.memory(*start..*start + u32::try_from(bytes.len()).unwrap()) == *bytes)
    }

    #[track_caller]
    pub fn assert_unharmed(&self, what: &str) {
        assert_ne!(self.condition(), Condition::Bricked, "{what}");
        let base = lock(&self.world).unit(PORT).unwrap().flash().base();
        for region in &self.kept {
            let before = &self.before[(region.start - base) as usize..(region.end - base) as usize];
            assert_eq!(self.memory(region.clone()), before, "{what}");
        }
        // An ordinary stick is not even opened.
        let mut world = lock(&self.world);
        if let Some(stick) = world.unit(STICK) {
            assert!(stick.disk() == self.stick, "{what}: the stick was written to");
            assert_eq!(world.opened(STICK), 0, "{what}");
        }
    }

    /// Updates a unit with a fault, and once more if that failed; whether it did.
    #[track_caller]
    pub fn is_survived(&self, what: &str) -> bool {
        let (report, events) = self.update();
        self.assert_unharmed(what);
        let succeeded = report.code == ExitCode::Done;
        assert_eq!(succeeded, failure(&events).is_none(), "{what}: {report:?}");
        if succeeded {
            assert!(self.holds_image(), "{what}: a false success");
            self.clock.sleep(Duration::from_secs(1));
            assert_eq!(self.condition(), Condition::Application, "{what}");
            return false;
        }
        let said = failure(&events).unwrap();
        assert!(said.unit.is_some() && !said.remedies.is_empty(), "{what}: {said:?}");
        assert!(matches!(report.code, ExitCode::Transfer | ExitCode::NotBack | ExitCode::NoUnit), "{what}: {said:?}");
        self.back_into_update_mode();
        let (again, events) = self.update();
        assert_eq!(again.code, ExitCode::Done, "{what}, second run: {:?}", failure(&events));
        assert!(self.holds_image(), "{what}, second run");
        self.assert_unharmed(what);
        true
    }

    /// Opens the unit as an earlier program might have.
    pub fn earlier_program(&self) -> Box<dyn UsbDevice> {
        self.bus().open(PORT).unwrap()
    }

    /// Brings the unit's DFU interface into a state, as an earlier program
    /// might have left it, by raw requests; returns the state that it tells.
    pub fn leave_in(&self, requests: &[(u8, u16, &[u8])]) -> u8 {
        let mut device = self.earlier_program();
        let second = Duration::from_secs(1);
        for (request, value, data) in requests {
            let setup = |kind| Setup { kind, request: *request, value: *value, index: 0 };
            // Some of these are refused on purpose.
            let _ = match request {
                2 => device.control_in(setup(0xA1), 1024, second).map(drop),
                3 => device.control_in(setup(0xA1), 6, second).map(drop),
                _ => device.control_out(setup(0x21), data, second),
            };
        }
        // The program ends without giving the device back: nothing is reset.
        std::mem::forget(device);
        let setup = usb::Setup { kind: 0xA1, request: 5, value: 0, index: 0, length: 1 };
        let mut world = lock(&self.world);
        let enumeration = world.unit(PORT).unwrap().descriptors().unwrap().0;
        let state = match world.control(PORT, enumeration, setup, &[]) {
            Some(usb::Answer::Data(bytes)) => bytes[0],
            Some(usb::Answer::Silent) => 8,
            _ => 4,
        };
        world.release(PORT);
        state
    }
}

pub fn failure(events: &[Event]) -> Option<&Failure> {
    events.iter().find_map(|event| match event {
        Event::Error(failure) => Some(failure),
        _ => None,
    })
}

/// A failure for a search of words: the sentence of the evidence or of the file's error, or else all of
/// it.
pub fn told(failure: &Failure) -> String {
    match &*failure.kind {
        FailureKind::Refused(RefusalReason::Evidence(against)) => against.sentence(),
        FailureKind::File(error) => error.to_string(),
        kind => format!("{kind:?} {:?}", failure.remedies),
    }
}

pub fn warnings(events: &[Event]) -> Vec<&Warning> {
    let warnings = events.iter().filter_map(|event| match event {
        Event::Warning { text } => Some(text),
        _ => None,
    });
    warnings.collect()
}

/// Everything that can go wrong with a transfer.
pub const FAULT_KINDS: [FaultKind; 5] = [
    FaultKind::Stall,
    FaultKind::Timeout,
    FaultKind::Short,
    FaultKind::Pull(None),
    FaultKind::Pull(Some(Duration::from_millis(700))),
];

/// A release of the Tern with these stages, unsigned.
pub fn release(stages: Vec<Stage>, loses: Vec<Loss>, members: BTreeMap<String, Vec<u8>>) -> Release {
    let manifest = Manifest {
        release: FORMAT,
        product: "tern".into(),
        version: "1.5.0".into(),
        date: "2026-11-02".into(),
        channel: "stable".into(),
        expires: None,
        keys: Vec::new(),
        needs_vaka: None,
        updates_from: None,
        notes: None,
        loses,
        sheets: Vec::new(),
        stages,
        members: BTreeMap::new(),
    };
    Release::open(Arc::new(Release::write(manifest, &members, None).unwrap()), "0.1.0").unwrap()
}

/// An image of a release, for one variant.
pub fn release_entry(file: &str, variant: &str, facts: &[(&str, &str)]) -> Entry {
    Entry {
        part: None,
        variants: vec![variant.into()],
        build: STANDARD.into(),
        files: vec![File { file: file.into(), at: None, region: None }],
        facts: facts.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect(),
    }
}

/// A sheet whose routes may name these dialects.
#[track_caller]
pub fn sheet_with(text: &str, dialects: &[&str]) -> Sheet {
    let parse = |text: &&str| {
        let dialect = Dialect::parse("dialect", text, &no_files).unwrap_or_else(|errors| panic!("{errors}"));
        (dialect.name.clone(), Arc::new(dialect))
    };
    let dialects: Dialects = dialects.iter().map(parse).collect();
    Sheet::parse_with("sheet.toml", text, &dialects).unwrap()
}
