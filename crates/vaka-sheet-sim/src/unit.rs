//! A unit that is made from a product sheet.

use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use vaka_base::version::Version;
use vaka_core::sheet::{
    DescriptorPattern, FileTarget, RouteKind, SerialPattern, SignKind, UpdateMedium, VersionSource,
};
use vaka_image::Image;
use vaka_sim::bootloader::fat::File;
use vaka_sim::can::{CanFrame, CanMember, Fate, Rates};
use vaka_sim::flash::Flash;
use vaka_sim::pins::Pins;
use vaka_sim::scene::StartMode;
use vaka_sim::unit::power::{ActionEffect, Power};
use vaka_sim::unit::{Condition, Slip, Unit, UserAction};
use vaka_sim::usb::{Answer, Bulk, Descriptors, Setup};

use crate::application::Application;
use crate::design::{Design, range, release};
use crate::dfu::{Addressed, DfuMemory, Plain};
use crate::dialect::{DialectMode, Engine};
use crate::disk::{FileDisk, Uf2Disk, volume};
use crate::firmware::Content;
use crate::mode::{Exit, Mode, plain_interface};
use crate::procedures::{Procedures, StepEffect};

/// bcdDevice of a mode without one in the sheet. Chosen by us.
const RELEASE: u16 = 0x0100;

/// Ids of the device that a slip leads to. Source: the range that 0x1209 reserves for testing; no product
/// of the demo has them.
const OTHER_IDS: (u16, u16) = (0x1209, 0x00FE);

/// The kind of a mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ModeKind {
    Application,
    /// The update mode of a route; with the time at which it ends by itself, if it does.
    Update(usize, Option<Duration>),
    /// Another device, after a slip.
    Other,
}

/// A unit.
pub struct SheetUnit {
    design: Arc<Design>,
    serial: String,
    flash: Flash,
    power: Power<(ModeKind, Box<dyn Mode>)>,
    procedures: Procedures,
    /// The content of its bootloader regions, as the factory or a stage wrote it.
    bootloaders: Vec<(Range<u32>, Vec<u8>)>,
    factory: Flash,
    /// The result of the last installed file.
    result: Option<String>,
}

impl SheetUnit {
    /// A unit with this serial number; `firmware` takes the place of the factory's, if there is one.
    pub fn new(design: Arc<Design>, serial: &str, mode: StartMode, firmware: Option<&Image>) -> Self {
        let signs = design.application_signs();
        let serial = signs.serial.as_ref().map_or(serial.to_owned(), |form| example(form, serial));
        let factory = design.factory_flash(&serial, firmware);
        let mut unit = Self {
            procedures: design.procedures(),
            bootloaders: Vec::new(),
            flash: factory.clone(),
            factory,
            power: Power::new(),
            result: None,
            serial,
            design,
        };
        unit.remember_bootloaders();
        unit.begin(mode);
        unit
    }

    /// Its unique id and its number as a node: from the digits of its serial number.
    fn node(&self) -> (u64, u8) {
        let digits: String = self.serial.chars().filter(char::is_ascii_digit).collect();
        let number = digits.parse::<u64>().unwrap_or(1);
        (NODE_BASE + number, u8::try_from(number % 63 + 1).unwrap_or(1))
    }

    /// Its serial number while the application runs.
    pub fn serial(&self) -> &str {
        &self.serial
    }

    fn begin(&mut self, mode: StartMode) {
        match mode {
            StartMode::Unplugged => return,
            StartMode::Update => return self.boot(ModeKind::Update(0, None)),
            StartMode::Application => {}
            StartMode::Blank => self.flash = self.design.blank_flash(),
            StartMode::Damaged => {
                let region = self.design.written_region(0);
                self.flash.put(region.start + 4, &[0; 64]);
            }
        }
        // The unit was attached long ago.
        match self.first_mode(Duration::ZERO) {
            PowerOnResult::Mode(ModeKind::Update(_, Some(_))) => self.boot(ModeKind::Application),
            PowerOnResult::Mode(kind) => self.boot(kind),
            PowerOnResult::Silent => self.power.hang(),
            PowerOnResult::Bricked => self.power.start(Duration::ZERO, None),
        }
    }

    fn remember_bootloaders(&mut self) {
        let read = |span: Range<u32>| {
            let bytes = self.flash.read(span.start, span.len()).unwrap_or_default().to_vec();
            (span, bytes)
        };
        self.bootloaders = self.design.bootloader_spans().into_iter().map(read).collect();
    }

    /// Whether its bootloaders are those of the factory, or of a stage.
    fn has_bootloader(&mut self) -> bool {
        let is_same =
            |(span, bytes): &(Range<u32>, Vec<u8>)| self.flash.read(span.start, bytes.len()) == Some(&bytes[..]);
        if self.bootloaders.iter().all(is_same) {
            return true;
        }
        let is_new = self.design.installed_stage(&self.flash).is_some();
        if is_new {
            self.remember_bootloaders();
        }
        is_new
    }

    /// The unit gets power.
    fn power_on(&mut self, now: Duration) {
        let first = self.first_mode(now);
        self.begin_with(now, first);
    }

    fn begin_with(&mut self, now: Duration, start: PowerOnResult) {
        match start {
            PowerOnResult::Mode(kind) => self.start(now, kind),
            PowerOnResult::Silent => {
                self.power.hang();
            }
            PowerOnResult::Bricked => {
                self.power.start(now, None);
            }
        }
    }

    fn first_mode(&mut self, now: Duration) -> PowerOnResult {
        let has_bootloader = self.has_bootloader();
        if !has_bootloader {
            return if self.design.can_get_bootloader() { PowerOnResult::Silent } else { PowerOnResult::Bricked };
        }
        let listens = self.design.routes.iter().position(|route| route.route.listens.is_some());
        let window = listens.and_then(|route| Some((route, now + self.design.routes[route].route.listens?)));
        let parts = (0..self.design.parts.len()).filter(|part| !self.is_shown_by_application(*part));
        let mut contents = parts.map(|part| self.design.firmware(part, &self.flash));
        let worst = contents.try_fold(Content::Sound(None), |_, content| match content {
            Content::Sound(_) => Ok(content),
            other => Err(other),
        });
        match (worst, window) {
            (Err(Content::Foreign), _) => PowerOnResult::Bricked,
            (Ok(_), Some((route, until))) => PowerOnResult::Mode(ModeKind::Update(route, Some(until))),
            (Ok(_), None) => PowerOnResult::Mode(ModeKind::Application),
            (Err(_), Some((route, _))) => PowerOnResult::Mode(ModeKind::Update(route, None)),
            (Err(_), None) => self
                .fallback()
                .map_or(PowerOnResult::Silent, |route| PowerOnResult::Mode(ModeKind::Update(route, None))),
        }
    }

    /// Whether the application runs without the firmware of a part: its disk takes it.
    fn is_shown_by_application(&self, part: usize) -> bool {
        self.design.route_in_application().is_some_and(|route| self.design.routes[route].part == part)
    }

    /// The update mode of a unit without an application: the one that a stage has installed, or one that
    /// needs no manual steps.
    fn fallback(&self) -> Option<usize> {
        let installed = self.design.installed_stage(&self.flash).and_then(|stage| stage.shows.id.as_ref());
        let shown =
            |ids| self.design.routes.iter().position(|route| route.stage.is_none() && route.route.id.overlap(ids));
        let is_ordinary = |index: &usize| self.design.routes[*index].stage.is_none();
        let unattended =
            || (0..self.design.routes.len()).filter(is_ordinary).find(|index| !self.procedures.is_manual(*index));
        installed.and_then(shown).or_else(unattended)
    }

    fn start(&mut self, now: Duration, kind: ModeKind) {
        // Its mode is made once it is on the bus: until then the flash may change.
        self.power.start(now, Some((kind, Box::new(OtherDevice))));
    }

    fn boot(&mut self, kind: ModeKind) {
        let mode = self.mode(kind);
        let descriptors = self.descriptors_of(kind, &*mode);
        self.power.boot((kind, mode), descriptors);
    }

    fn mode(&self, kind: ModeKind) -> Box<dyn Mode> {
        match kind {
            ModeKind::Application => self.application(),
            ModeKind::Update(route, _) => self.update_mode(route),
            ModeKind::Other => Box::new(OtherDevice),
        }
    }

    fn application(&self) -> Box<dyn Mode> {
        let files = self.files();
        if let Some(route) = self.design.route_in_application()
            && let RouteKind::Volume(own) = &self.design.routes[route].route.kind
            && let UpdateMedium::File(target) = &own.takes
        {
            let disk = FileDisk::new(own, target, self.design.written_region(route), &files);
            return Box::new(disk.beside(vec![plain_interface("Data")]));
        }
        let has_eject = !self.design.signalled(|signal| *signal == vaka_core::sheet::Signal::Eject).is_empty();
        let bytes = (has_eject || !files.is_empty()).then(|| volume(None, 0).bytes(&files));
        let version = self.design.version(0, &self.flash);
        Box::new(Application::new(&self.design, version.as_ref(), bytes, self.node()))
    }

    /// The text files with versions, and the result of the last installation.
    fn files(&self) -> Vec<File> {
        let mut texts: Vec<(String, String)> = Vec::new();
        for (index, variant) in self.design.parts.iter().enumerate() {
            if let VersionSource::Text { file, after } = self.design.sheet.version_source(variant) {
                let version = self.design.version(index, &self.flash);
                let line = format!("{after} {}\r\n", version.map_or("none".to_owned(), |version| version.to_string()));
                match texts.iter_mut().find(|(name, _)| name == file) {
                    Some((_, text)) if !text.contains(&line) => *text += &line,
                    Some(_) => {}
                    None => texts.push((file.clone(), line)),
                }
            }
        }
        let target = |route: &crate::design::DesignRoute| {
            let kind = route.route.kind.volume()?;
            Some(kind.takes.file()?.result.as_ref()?.file.clone())
        };
        let result = self.result.clone().zip(self.design.routes.iter().find_map(target));
        texts.extend(result.map(|(text, file)| (file, format!("{text}\r\n"))));
        texts.into_iter().map(|(name, text)| File::text(name, &text)).collect()
    }

    fn update_mode(&self, index: usize) -> Box<dyn Mode> {
        let route = &self.design.routes[index];
        let region = self.design.written_region(index);
        match &route.route.kind {
            RouteKind::Dfu { memory } => Box::new(Addressed::new(memory, &self.flash)),
            RouteKind::PlainDfu { memory, uploads_image } => {
                let first = memory.name.clone().unwrap_or_else(|| "Firmware".to_owned());
                let mut memories = vec![DfuMemory { name: first, span: region }];
                memories.extend(self.transferable_memories(route.part));
                let (design, part) = (self.design.clone(), route.part);
                let is_sound =
                    move |flash: &Flash| matches!(design.firmware(part, flash), Content::Sound(_) | Content::Foreign);
                let is_whole = is_sound(&self.flash);
                let plain = Plain::new(memory, memories, *uploads_image, is_sound);
                Box::new(if is_whole { plain } else { plain.without_firmware() })
            }
            RouteKind::Volume(volume) => match &volume.takes {
                UpdateMedium::Uf2 { family, .. } => {
                    Box::new(Uf2Disk::new(volume, &self.design.sheet.product.name, *family, region))
                }
                UpdateMedium::File(target) => Box::new(FileDisk::new(volume, target, region, &self.disk_files(target))),
            },
            RouteKind::Dialect(dialect) => {
                let (role, node) = (self.design.role(index), self.node());
                let engine = Engine::new(&dialect.dialect, role, &dialect.tells, node);
                Box::new(DialectMode::new(engine, Exit::Restart, node.1))
            }
        }
    }

    /// The files on an update disk, without the one that it takes.
    fn disk_files(&self, target: &FileTarget) -> Vec<File> {
        self.files().into_iter().filter(|file| !file.name.eq_ignore_ascii_case(&target.name)).collect()
    }

    /// Regions that a plain DFU unit offers as memories of their own.
    fn transferable_memories(&self, part: usize) -> Vec<DfuMemory> {
        let regions = self.design.parts[part].regions.iter();
        let memory = |region: &vaka_core::sheet::Region| {
            let name = region.transferable.as_ref()?.memory.clone()?;
            Some(DfuMemory { name, span: range(region.span)? })
        };
        regions.filter_map(memory).collect()
    }

    fn descriptors_of(&self, kind: ModeKind, mode: &dyn Mode) -> Descriptors {
        match kind {
            ModeKind::Application => self.application_descriptors(mode),
            ModeKind::Update(index, _) => self.update_descriptors(index, mode),
            ModeKind::Other => Descriptors::new(OTHER_IDS, RELEASE, ["Unknown", "Another mode", ""], mode.interfaces()),
        }
    }

    fn application_descriptors(&self, mode: &dyn Mode) -> Descriptors {
        let (sheet, signs) = (&self.design.sheet, self.design.application_signs());
        let source = sheet.version_source(&self.design.parts[0]);
        let version = self.design.version(0, &self.flash);
        let number = match source {
            VersionSource::ReleaseNumber => release(version.as_ref()),
            _ => signs.release.map_or(RELEASE, |(from, _)| from.0),
        };
        let product = signs.product.clone().unwrap_or_else(|| sheet.product.name.clone());
        let maker = signs.maker.clone().unwrap_or_else(|| sheet.product.maker.clone());
        let texts = told_in(source, version.as_ref(), [maker, product, self.serial.clone()]);
        let ids = self.design.application_ids().unwrap_or_default();
        Descriptors::new(ids, number, texts.each_ref().map(String::as_str), mode.interfaces())
    }

    fn update_descriptors(&self, index: usize, mode: &dyn Mode) -> Descriptors {
        let (sheet, route) = (&self.design.sheet, &self.design.routes[index].route);
        // The bootloader that a stage installs has the descriptors of the stage.
        let shown = sheet.stages.iter().find(|stage| stage.shows.id.as_ref().is_some_and(|ids| ids.overlap(&route.id)));
        let signs = shown.map_or(route.signs.clone(), |stage| stage.shows.signs.with(&route.signs));
        let own_version = shown
            .filter(|stage| stage.shows.version == VersionSource::ReleaseNumber)
            .and_then(|stage| self.design.stage_version(stage, &self.flash));
        let DescriptorPattern { product, maker, serial, release: stated } = &signs;
        let product = product.clone().unwrap_or_else(|| format!("{} update mode", sheet.product.name));
        let maker = maker.clone().unwrap_or_else(|| sheet.product.maker.clone());
        let own = match sheet.product.stable_serial {
            true => self.serial.clone(),
            false => format!("U{}", self.serial),
        };
        let own = serial.as_ref().map_or(own.clone(), |form| example(form, &own));
        let release = match own_version {
            Some(version) => release(Some(&version)),
            None => stated.map_or(RELEASE, |(from, _)| from.0),
        };
        let ids = route.id.example().map_or((0, 0), |id| (id.vendor, id.product));
        Descriptors::new(ids, release, [&maker, &product, &own], mode.interfaces())
    }

    fn leave(&mut self, now: Duration, exit: Exit) {
        match exit {
            Exit::Enter(route) => {
                if let Some(route) = self.procedures.signal(route) {
                    self.start(now, ModeKind::Update(route, None));
                }
            }
            Exit::Jump(to) if !self.is_start(to) => self.power.start(now, None),
            Exit::Jump(_) | Exit::Restart => self.restart(now),
        }
    }

    /// Whether an address is where firmware begins.
    fn is_start(&self, to: u32) -> bool {
        let stated = self.design.routes.iter().filter_map(|route| route.route.restart_at?.to_u32());
        let images = self.design.parts.iter().filter_map(|part| part.image.region.span.start().to_u32());
        to == self.flash.base() || stated.chain(images).any(|start| start == to)
    }

    fn restart(&mut self, now: Duration) {
        let route = match self.power.shown() {
            Some((ModeKind::Update(route, _), _)) => *route,
            _ => 0,
        };
        match self.procedures.holds_update_mode() {
            true => self.start(now, ModeKind::Update(route, None)),
            // It was asked to leave, so it does not listen first.
            false => match self.first_mode(now) {
                PowerOnResult::Mode(ModeKind::Update(_, Some(_))) => self.start(now, ModeKind::Application),
                first => self.begin_with(now, first),
            },
        }
    }

    fn unplug(&mut self, now: Duration) {
        if let Some((_, mode)) = self.power.mode() {
            mode.cut(now, &mut self.flash);
        }
        self.power.unplug();
    }

    fn apply(&mut self, now: Duration, effect: StepEffect) {
        let is_bricked = self.condition() == Condition::Bricked;
        match effect {
            StepEffect::Nothing => {}
            StepEffect::Gone if self.power.is_on() => self.unplug(now),
            StepEffect::Gone => {}
            _ if is_bricked => {}
            StepEffect::Starts => {
                self.unplug(now);
                self.power_on(now);
            }
            StepEffect::Enters(route) => {
                self.unplug(now);
                self.start(now, ModeKind::Update(route, None));
            }
        }
    }

    fn slip(&mut self, now: Duration, slip: Slip) {
        self.procedures.restart();
        self.unplug(now);
        match slip {
            Slip::Application => self.power_on(now),
            Slip::Nothing => self.power.hang(),
            Slip::Other => self.start(now, ModeKind::Other),
        }
    }
}

/// Unique ids of nodes begin here. Chosen by us.
const NODE_BASE: u64 = 0x51A0_0000;

/// The name of the bus that nodes made from sheets share with their adapter.
pub const BUS: &str = "sheet";

/// How a unit starts.
enum PowerOnResult {
    Mode(ModeKind),
    Silent,
    Bricked,
}

/// A device that no sheet describes.
#[derive(Debug)]
struct OtherDevice;

impl Mode for OtherDevice {
    fn interfaces(&self) -> Vec<vaka_sim::usb::DescribedInterface> {
        vec![plain_interface("Unknown")]
    }
}

/// The texts of a unit, with its version in one of them if the sheet declares that: maker, product, serial number.
fn told_in(source: &VersionSource, version: Option<&Version>, mut texts: [String; 3]) -> [String; 3] {
    if let VersionSource::DescriptorString { of, after } = source {
        let index = match of {
            SignKind::Maker => 0,
            SignKind::Product => 1,
            SignKind::Serial | SignKind::Release => 2,
        };
        let version = version.map_or("none".to_owned(), Version::to_string);
        texts[index] = format!("{} {after}{version}", texts[index]);
    }
    texts
}

/// A serial number of a form: the own one if it fits, otherwise its digits in place of the wildcards.
fn example(form: &SerialPattern, own: &str) -> String {
    if form.is(own) {
        return own.to_owned();
    }
    let mut digits = own.chars().filter(char::is_ascii_digit).collect::<Vec<_>>().into_iter();
    let form = form.to_string();
    let one = |c: char, digits: &mut std::vec::IntoIter<char>| match c {
        '*' => digits.by_ref().collect::<String>(),
        '?' => digits.next().unwrap_or('0').to_string(),
        other => other.to_string(),
    };
    form.chars().map(|c| one(c, &mut digits)).collect()
}

impl Pins for SheetUnit {
    fn signature(&self) -> u32 {
        0
    }

    fn is_locked(&self) -> bool {
        false
    }

    fn lock(&mut self) {}

    fn wipe(&mut self) {
        self.flash = self.design.blank_flash();
    }

    fn hold(&mut self) {
        if self.power.is_on() {
            self.power.hang();
        }
    }

    fn release(&mut self, now: Duration) {
        if self.power.is_on() {
            self.power_on(now);
        }
    }

    fn flash(&mut self) -> &mut Flash {
        &mut self.flash
    }
}

impl CanMember for SheetUnit {
    fn bus(&self) -> &str {
        BUS
    }

    fn rates(&self) -> Option<Rates> {
        self.power.shown()?.1.rates()
    }

    fn next(&self) -> Option<(Duration, CanFrame)> {
        self.power.shown()?.1.next_frame()
    }

    fn sent(&mut self, _: Duration, fate: Fate) {
        if let Some((_, mode)) = self.power.mode() {
            mode.frame_sent(fate);
        }
    }

    fn receive(&mut self, at: Duration, frame: &CanFrame) {
        if let Some((_, mode)) = self.power.mode() {
            mode.hear(at, &mut self.flash, frame);
        }
    }
}

impl Unit for SheetUnit {
    fn advance(&mut self, now: Duration) {
        if let Some((kind, _)) = self.power.due(now) {
            return self.boot(kind);
        }
        let Some((kind, mode)) = self.power.mode() else { return };
        let exit = mode.advance(now, &mut self.flash);
        let is_over = matches!(kind, ModeKind::Update(_, Some(until)) if now >= *until) && !mode.was_asked();
        if let Some(result) = mode.result() {
            self.result = Some(result.to_owned());
        }
        match exit {
            Some(exit) => self.leave(now, exit),
            None if is_over => self.start(now, ModeKind::Application),
            None => {}
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        let is_node = self.power.shown().is_some_and(|(_, mode)| mode.is_node());
        self.power.descriptors().filter(|_| !is_node)
    }

    fn pins(&mut self) -> Option<&mut dyn Pins> {
        self.design.programmer_route().is_some().then_some(self)
    }

    fn can(&mut self) -> Option<&mut dyn CanMember> {
        self.design.is_node().then_some(self)
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        match self.power.mode() {
            Some((_, mode)) => mode.control(now, &mut self.flash, setup, data),
            None => Answer::Stall,
        }
    }

    fn standard(&mut self, _: Duration, setup: Setup) -> Option<Answer> {
        self.power.mode()?.1.standard(setup)
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        match self.power.mode() {
            Some((_, mode)) => mode.pipe(now, &mut self.flash, transfer),
            None => Answer::Silent,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let Some((_, mode)) = self.power.mode() {
            mode.clear_halt(endpoint);
        }
    }

    fn disk(&self) -> &[u8] {
        self.power.shown().map_or(&[], |(_, mode)| mode.disk())
    }

    fn manual_steps(&self) -> Vec<String> {
        self.procedures.steps().into_iter().map(|named| named.name.clone()).collect()
    }

    fn bus_reset(&mut self, now: Duration) {
        let exit = self.power.mode().and_then(|(_, mode)| mode.bus_reset(now, &mut self.flash));
        if let Some(exit) = exit {
            self.leave(now, exit);
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match action {
            UserAction::Do(name) => {
                let effect = self.procedures.take(name);
                return self.apply(now, effect);
            }
            UserAction::Undo(name) => {
                let effect = self.procedures.undo(name);
                self.apply(now, effect);
                // A node has its power from elsewhere, once all is as before.
                if self.design.is_node() && self.procedures.is_undone() && !self.power.is_on() {
                    self.power_on(now);
                }
                return;
            }
            UserAction::Slip(_, slip) => return self.slip(now, *slip),
            _ => {}
        }
        match self.power.apply(action) {
            ActionEffect::Pulled => self.unplug(now),
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
        self.power.condition(|(kind, _)| match kind {
            ModeKind::Application => Condition::Application,
            ModeKind::Update(..) | ModeKind::Other => Condition::Boot,
        })
    }

    fn revive(&mut self, now: Duration) {
        self.flash = self.factory.clone();
        self.remember_bootloaders();
        self.procedures = self.design.procedures();
        self.power_on(now);
    }
}
