//! The common part of units with a vendor bootloader: flash with regions, a bootloader that
//! starts a valid application, a button that prevents it, and an application that accepts entry
//! signals.
//!
//! The protocol itself is the unit's: a [`Loader`] answers while the bootloader runs,
//! a [`AppModel`] while the application does.

use std::fmt::Debug;
use std::ops::Range;
use std::time::Duration;

use super::firmware::{self, Application, filler_bytes};
use super::power::{ActionEffect, Power};
use super::{Condition, Unit, UserAction};
use crate::flash::Flash;
use crate::pins::Pins;
use crate::usb::{Answer, Bulk, DescribedInterface, Descriptors, Setup};

/// The construction of a unit.
#[derive(Clone, Debug)]
pub struct UnitSpec {
    /// Product strings of the application and of the bootloader.
    pub names: [&'static str; 2],
    /// The application's ids, and the bootloader's.
    pub ids: [(u16, u16); 2],
    /// Flash: start, number of sectors, sector size.
    pub flash: (u32, u32, u32),
    /// Addresses of the bootloader.
    pub bootloader: Range<u32>,
    /// Addresses of the application.
    pub application: Range<u32>,
    /// Addresses of the settings.
    pub settings: Range<u32>,
    /// Board word of its applications.
    pub board_word: &'static [u8; 4],
    /// Factory firmware.
    pub factory: &'static [u8],
    /// The button that keeps it in the bootloader if held while the cable is plugged in.
    pub button: &'static str,
    /// How long the bootloader listens after power-on before it continues.
    pub window: Option<Duration>,
    /// Whether it stays off the bus without a valid application, unless the button is held.
    pub silent: bool,
}

/// The device side of a bootloader.
pub trait Loader: Send + Debug {
    /// The interfaces.
    fn interfaces(&self) -> Vec<DescribedInterface>;

    /// A class or vendor request.
    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let _ = (now, flash, setup, data);
        Answer::Stall
    }

    /// A transfer on a pipe.
    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let _ = (now, flash, transfer);
        Answer::Stall
    }

    /// Clears the halt of an endpoint.
    fn clear_halt(&mut self, endpoint: u8) {
        let _ = endpoint;
    }

    /// The bus is reset.
    fn bus_reset(&mut self) {}

    /// A standard request that its face does not answer.
    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        let _ = setup;
        None
    }

    /// When it leaves for the application, if requested.
    fn leaves_at(&self) -> Option<Duration>;

    /// Whether it received a request: then it does not continue by itself. A loader that waits for
    /// ever is as good as asked.
    fn was_asked(&self) -> bool {
        true
    }
}

/// The device side of an application.
pub trait AppModel: Send + Debug {
    /// The interfaces.
    fn interfaces(&self) -> Vec<DescribedInterface>;

    /// A class or vendor request.
    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        let _ = (now, setup, data);
        Answer::Stall
    }

    /// A transfer on a pipe.
    fn pipe(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        let _ = (now, transfer);
        Answer::Stall
    }

    /// Clears the halt of an endpoint.
    fn clear_halt(&mut self, endpoint: u8) {
        let _ = endpoint;
    }

    /// The bus is reset.
    fn bus_reset(&mut self) {}

    /// A standard request that its face does not answer.
    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        let _ = setup;
        None
    }

    /// When it leaves for the bootloader, if it was asked to.
    fn leaves_at(&self) -> Option<Duration>;
}

/// Creates a new loader and a new application model at each start.
pub struct Factories {
    /// A bootloader that was just started.
    pub loader: Box<dyn Fn() -> Box<dyn Loader> + Send>,
    /// An application of this version, in packed decimal, that was just started.
    pub runner: Box<dyn Fn(u16) -> Box<dyn AppModel> + Send>,
}

#[derive(Debug)]
enum RunMode {
    Application(Box<dyn AppModel>),
    /// With the time at which it continues by itself, if it does.
    Boot(Box<dyn Loader>, Option<Duration>),
}

/// A unit with a vendor bootloader.
pub struct VendorUnit {
    spec: UnitSpec,
    factories: Factories,
    serial: String,
    flash: Flash,
    bootloader: Vec<u8>,
    power: Power<RunMode>,
    /// Selects the region that runs; it appears at the addresses of the application.
    running: Option<fn(&Flash) -> Range<u32>>,
    chip: Option<Chip>,
}

/// The chip of a unit that a programmer can reach.
#[derive(Clone, Copy, Debug)]
struct Chip {
    signature: u32,
    /// The board word of bootloaders that a programmer may write.
    loader_word: [u8; 4],
    is_locked: bool,
    is_held: bool,
}

impl VendorUnit {
    /// A unit in factory state, with its application running.
    pub fn new(spec: UnitSpec, factories: Factories, serial: &str) -> Self {
        let bootloader = filler_bytes(serial, spec.bootloader.len());
        let (base, sectors, size) = spec.flash;
        let flash = Flash::new(base, sectors, size);
        let (serial, power) = (serial.to_owned(), Power::new());
        let mut unit = Self { spec, factories, serial, flash, bootloader, power, running: None, chip: None };
        unit.fill();
        let version = unit.sound().map_or(0, |application| application.version);
        let mode = RunMode::Application((unit.factories.runner)(version));
        unit.boot(mode);
        unit
    }

    /// A unit with several regions for its application, of which `running` selects one.
    #[must_use]
    pub fn with_slots(mut self, running: fn(&Flash) -> Range<u32>) -> Self {
        self.running = Some(running);
        self
    }

    /// A unit whose chip has pins for a programmer: its signature, and the board word of its bootloaders.
    #[must_use]
    pub fn with_chip(mut self, signature: u32, loader_word: [u8; 4]) -> Self {
        self.chip = Some(Chip { signature, loader_word, is_locked: false, is_held: false });
        self
    }

    /// The unit with an empty chip, which shows nothing.
    #[must_use]
    pub fn blank(mut self) -> Self {
        self.wipe();
        self.power.hang();
        self
    }

    /// The unit in its bootloader.
    #[must_use]
    pub fn in_boot_mode(mut self) -> Self {
        let mode = RunMode::Boot((self.factories.loader)(), None);
        self.boot(mode);
        self
    }

    /// The unit with damaged firmware.
    #[must_use]
    pub fn damaged(mut self) -> Self {
        let at = self.spec.application.start + 0x100;
        self.flash.put(at, &[0; 64]);
        self.power_on(Duration::ZERO);
        self
    }

    /// The unit before it is plugged in.
    #[must_use]
    pub fn unplugged(mut self) -> Self {
        self.power.unplug();
        self
    }

    /// The addresses of its regions: bootloader, application, settings.
    pub fn regions(&self) -> [Range<u32>; 3] {
        [self.spec.bootloader.clone(), self.spec.application.clone(), self.spec.settings.clone()]
    }

    fn fill(&mut self) {
        let (base, sectors, size) = self.spec.flash;
        self.flash.erase(base..base + sectors * size);
        self.flash.put(self.spec.bootloader.start, &self.bootloader);
        self.flash.put(self.spec.application.start, self.spec.factory);
        self.flash.put(self.spec.settings.start, &firmware::settings(&self.serial, 7, 3));
    }

    fn sound(&self) -> Option<Application> {
        let linked = &self.spec.application;
        let region = self.running.map_or(linked.clone(), |running| running(&self.flash));
        firmware::inspect_linked(&self.flash, region, linked)
    }

    fn boot(&mut self, mode: RunMode) {
        let release = self.sound().map_or(0, |application| application.version);
        let UnitSpec { names, ids, .. } = &self.spec;
        let descriptors = match &mode {
            RunMode::Application(runner) => {
                let texts = ["Skerrow Instruments", names[0], &self.serial];
                Descriptors::new(ids[0], release, texts, runner.interfaces())
            }
            RunMode::Boot(loader, _) => {
                Descriptors::new(ids[1], 0x0100, ["Skerrow Instruments", names[1], &self.serial], loader.interfaces())
            }
        };
        self.power.boot(mode, descriptors);
    }

    /// The bootloader starts, and continues if possible.
    fn power_on(&mut self, now: Duration) {
        let starts = self.bootloader_is_whole();
        let held = self.power.holds(self.spec.button);
        let boot = |until| RunMode::Boot((self.factories.loader)(), until);
        if self.chip.is_some_and(|chip| chip.is_held) || self.is_blank() {
            return self.power.hang();
        }
        let mode = match self.sound() {
            _ if !starts => None,
            _ if held => Some(boot(None)),
            None if self.spec.silent => return self.power.hang(),
            None => Some(boot(None)),
            Some(_) if self.spec.window.is_some() => {
                // Off the bus for the usual start time.
                Some(boot(self.spec.window.map(|window| now + window)))
            }
            Some(application) => self.application(application),
        };
        self.power.start(now, mode);
    }

    /// Whether it has the bootloader of the factory, or one that a programmer wrote.
    fn bootloader_is_whole(&self) -> bool {
        let region = self.spec.bootloader.clone();
        let is_factory = self.flash.read(region.start, self.bootloader.len()) == Some(&self.bootloader[..]);
        let is_loader = |chip: Chip| {
            firmware::inspect(&self.flash, region).is_some_and(|found| found.board_word == chip.loader_word)
        };
        is_factory || self.chip.is_some_and(is_loader)
    }

    /// Whether a chip with pins has no bootloader at all.
    fn is_blank(&self) -> bool {
        let start = self.flash.read(self.spec.bootloader.start, 8).unwrap_or_default();
        self.chip.is_some() && start.iter().all(|byte| *byte == 0xFF)
    }

    /// The application; none if it was built for another board.
    fn application(&self, application: Application) -> Option<RunMode> {
        let fits = application.board_word == *self.spec.board_word;
        fits.then(|| RunMode::Application((self.factories.runner)(application.version)))
    }

    /// Continues from the bootloader to the application, if it is valid.
    fn go_on(&mut self, now: Duration) {
        let mode = match self.sound() {
            _ if !self.bootloader_is_whole() => None,
            Some(application) => self.application(application),
            None if self.spec.silent => return self.power.hang(),
            None => Some(RunMode::Boot((self.factories.loader)(), None)),
        };
        self.power.start(now, mode);
    }
}

impl Unit for VendorUnit {
    fn advance(&mut self, now: Duration) {
        if let Some(mode) = self.power.due(now) {
            return self.boot(mode);
        }
        match self.power.mode() {
            Some(RunMode::Application(runner)) if runner.leaves_at().is_some_and(|at| now >= at) => {
                let mode = RunMode::Boot((self.factories.loader)(), None);
                self.power.start(now, Some(mode));
            }
            Some(RunMode::Boot(loader, until)) => {
                let over = until.is_some_and(|until| now >= until) && !loader.was_asked();
                if over || loader.leaves_at().is_some_and(|at| now >= at) {
                    self.go_on(now);
                }
            }
            _ => {}
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        match self.power.mode() {
            Some(RunMode::Application(runner)) => runner.control(now, setup, data),
            Some(RunMode::Boot(loader, _)) => loader.control(now, &mut self.flash, setup, data),
            None => Answer::Stall,
        }
    }

    fn standard(&mut self, _: Duration, setup: Setup) -> Option<Answer> {
        match self.power.mode()? {
            RunMode::Application(runner) => runner.standard(setup),
            RunMode::Boot(loader, _) => loader.standard(setup),
        }
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        match self.power.mode() {
            Some(RunMode::Application(runner)) => runner.pipe(now, transfer),
            Some(RunMode::Boot(loader, _)) => loader.pipe(now, &mut self.flash, transfer),
            None => Answer::Stall,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        match self.power.mode() {
            Some(RunMode::Application(runner)) => runner.clear_halt(endpoint),
            Some(RunMode::Boot(loader, _)) => loader.clear_halt(endpoint),
            None => {}
        }
    }

    fn pins(&mut self) -> Option<&mut dyn Pins> {
        self.chip.is_some().then_some(self as &mut dyn Pins)
    }

    fn bus_reset(&mut self, _: Duration) {
        match self.power.mode() {
            Some(RunMode::Application(runner)) => runner.bus_reset(),
            Some(RunMode::Boot(loader, _)) => loader.bus_reset(),
            None => {}
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

impl Pins for VendorUnit {
    fn signature(&self) -> u32 {
        self.chip.map_or(0, |chip| chip.signature)
    }

    fn is_locked(&self) -> bool {
        self.chip.is_some_and(|chip| chip.is_locked)
    }

    fn lock(&mut self) {
        self.chip.iter_mut().for_each(|chip| chip.is_locked = true);
    }

    fn wipe(&mut self) {
        let (base, sectors, size) = self.spec.flash;
        self.flash.erase(base..base + sectors * size);
        self.chip.iter_mut().for_each(|chip| chip.is_locked = false);
    }

    fn hold(&mut self) {
        self.chip.iter_mut().for_each(|chip| chip.is_held = true);
        if self.power.is_on() {
            self.power.hang();
        }
    }

    fn release(&mut self, now: Duration) {
        self.chip.iter_mut().for_each(|chip| chip.is_held = false);
        if self.power.is_on() {
            self.power_on(now);
        }
    }

    fn flash(&mut self) -> &mut Flash {
        &mut self.flash
    }
}

/// An application with an interface of its own and no entry signal.
#[derive(Debug)]
pub struct Plain;

impl AppModel for Plain {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![DescribedInterface {
            class: [0xFF, 0, 0],
            names: vec!["Readings".to_owned()],
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        }]
    }

    fn leaves_at(&self) -> Option<Duration> {
        None
    }
}

/// A HID interface: class descriptor and report descriptor. Source: HID 1.11, sections 6.2.1 and
/// 6.2.2.
pub mod hid {
    use crate::usb::{Answer, DescribedInterface, Setup};

    /// A report descriptor: vendor page, one collection with input, output and
    /// feature reports of `length` bytes under an id.
    #[allow(clippy::cast_possible_truncation)] // reports of some dozen bytes
    pub fn report_descriptor(id: u8, length: usize) -> Vec<u8> {
        let mut bytes = vec![0x06, 0x5A, 0xFF, 0x09, 0x01, 0xA1, 0x01, 0x85, id];
        bytes.extend([0x15, 0x00, 0x26, 0xFF, 0x00, 0x75, 0x08, 0x95, length as u8]);
        for item in [0x81, 0x91, 0xB1] {
            bytes.extend([0x09, 0x02, item, 0x02]);
        }
        bytes.push(0xC0);
        bytes
    }

    /// The interface, with an interrupt pipe each way.
    #[allow(clippy::cast_possible_truncation)] // as above
    pub fn interface(name: &str, report: &[u8]) -> DescribedInterface {
        let extra = vec![9, 0x21, 0x11, 0x01, 0, 1, 0x22, report.len() as u8, 0];
        DescribedInterface {
            class: [3, 0, 0],
            names: vec![name.to_owned()],
            extra,
            bulk: Vec::new(),
            interrupt: vec![0x81, 0x01],
        }
    }

    /// GET_DESCRIPTOR of the report descriptor, and SET_IDLE.
    pub fn standard(setup: Setup, report: &[u8]) -> Option<Answer> {
        let is_report = (setup.kind, setup.request, setup.value >> 8) == (0x81, 6, 0x22);
        is_report.then(|| Answer::Data(report[..report.len().min(usize::from(setup.length))].to_vec()))
    }

    /// SET_IDLE and SET_PROTOCOL, which systems send and the unit ignores.
    pub fn is_formality(setup: Setup) -> bool {
        setup.kind == 0x21 && matches!(setup.request, 0x0A | 0x0B)
    }
}

/// A serial port by CDC-ACM. Source: CDC 1.2, section 5.2; PSTN 1.2, section 5.3.
pub mod acm {
    use std::time::Duration;

    use crate::usb::{Answer, Bulk, DescribedInterface, Setup};

    /// The communication interface and its data interface, as the first two.
    pub fn interfaces(name: &str) -> Vec<DescribedInterface> {
        interfaces_from(0, name)
    }

    /// The same with other interfaces before them.
    pub fn interfaces_from(first: u8, name: &str) -> Vec<DescribedInterface> {
        let (own, data) = (first, first + 1);
        let extra = vec![5, 0x24, 0, 0x10, 0x01, 4, 0x24, 0x02, 0x02, 5, 0x24, 0x06, own, data, 5, 0x24, 0x01, 0, data];
        let control = DescribedInterface {
            class: [2, 2, 0],
            names: vec![name.to_owned()],
            extra,
            bulk: Vec::new(),
            interrupt: vec![0x83],
        };
        let (names, extra) = (Vec::new(), Vec::new());
        let data =
            DescribedInterface { class: [0x0A, 0, 0], names, extra, bulk: vec![0x02, 0x82], interrupt: Vec::new() };
        vec![control, data]
    }

    /// The unit's side of a serial line.
    #[derive(Debug, Default)]
    pub struct SerialLine {
        /// Received bytes that are not processed yet.
        pub received: Vec<u8>,
        /// Replies, each with the time at which it is available.
        pub replies: Vec<(Duration, Vec<u8>)>,
        /// bits per second, as the host set them.
        pub baud: u32,
        /// DTR and RTS, as the host set them.
        pub dtr: bool,
        /// See `dtr`.
        pub rts: bool,
    }

    impl SerialLine {
        /// The class requests of a port; `None` for any other.
        pub fn control(&mut self, setup: Setup, data: &[u8]) -> Option<Answer> {
            match (setup.kind, setup.request) {
                (0x21, 0x20) if data.len() == 7 => {
                    self.baud = u32::from_le_bytes([data[0], data[1], data[2], data[3]]);
                    Some(Answer::Done)
                }
                (0xA1, 0x21) => Some(Answer::Data([&self.baud.to_le_bytes()[..], &[0, 0, 8]].concat())),
                (0x21, 0x22) => {
                    (self.dtr, self.rts) = (setup.value & 1 != 0, setup.value & 2 != 0);
                    Some(Answer::Done)
                }
                _ => None,
            }
        }

        /// A data transfer; received data is appended to `received`.
        pub fn pipe(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
            match transfer {
                Bulk::Out(0x02, data) => {
                    self.received.extend_from_slice(data);
                    Answer::Done
                }
                Bulk::In(0x02, length) => match self.replies.first() {
                    Some((at, _)) if *at <= now => {
                        let (_, bytes) = &mut self.replies[0];
                        let part: Vec<u8> = bytes.drain(..bytes.len().min(length).min(64)).collect();
                        if bytes.is_empty() {
                            self.replies.remove(0);
                        }
                        Answer::Data(part)
                    }
                    _ => Answer::Busy,
                },
                // There are no notifications.
                Bulk::In(0x03, _) => Answer::Busy,
                _ => Answer::Stall,
            }
        }
    }
}
