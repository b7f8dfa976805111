//! Update modes that show a disk.

use std::ops::Range;
use std::time::Duration;

use vaka_core::sheet::{ExitMethod, FileForm, FileTarget, UpdateMedium, VolumeRoute};
use vaka_image::{Format, ReadOptions};
use vaka_sim::bootloader::disk::{self, CLASS, Disk, ENDPOINTS};
use vaka_sim::bootloader::fat::{File, Found, Volume, find};
use vaka_sim::bootloader::uf2::{self, Loader, Shown};
use vaka_sim::flash::Flash;
use vaka_sim::unit::stick::Stored;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use crate::mode::{Exit, Mode};

/// Sectors of a disk at least, so that it is FAT16, and at most.
const SECTORS: std::ops::RangeInclusive<u32> = 4400..=65_000;

/// How long a disk is left alone before a file on it is installed.
const QUIET: Duration = Duration::from_millis(200);

pub(crate) fn interface() -> DescribedInterface {
    DescribedInterface {
        class: CLASS,
        names: Vec::new(),
        extra: Vec::new(),
        bulk: ENDPOINTS.to_vec(),
        interrupt: Vec::new(),
    }
}

/// A volume with room for files of this many bytes.
pub(crate) fn volume(label: Option<&str>, bytes: usize) -> Volume {
    let sectors = u32::try_from(bytes / 512 + 512).unwrap_or(u32::MAX);
    Volume::new(sectors.clamp(*SECTORS.start(), *SECTORS.end()), label.unwrap_or("UPDATE"))
}

/// The disk of a unit that takes UF2 blocks.
#[derive(Debug)]
pub(crate) struct Uf2Disk {
    route: VolumeRoute,
    model: String,
    family: u32,
    region: Range<u32>,
    disk: Disk,
    loader: Loader,
    files: Vec<File>,
    /// Blocks that were programmed when `files` were made.
    shown: u64,
}

impl Uf2Disk {
    pub(crate) fn new(route: &VolumeRoute, model: &str, family: u32, region: Range<u32>) -> Self {
        let ignores_eject = route.leave != ExitMethod::Eject;
        let quirks = uf2::Quirks { ignores_eject, ..uf2::Quirks::default() };
        Self {
            route: route.clone(),
            model: model.to_owned(),
            family,
            disk: Disk::new(disk::Quirks::default()),
            loader: Loader::new(family, region.clone(), quirks),
            region,
            files: Vec::new(),
            shown: u64::MAX,
        }
    }

    /// Makes the files again if blocks were programmed since.
    fn refresh(&mut self, flash: &Flash) {
        if std::mem::replace(&mut self.shown, self.loader.programmed) == self.loader.programmed {
            return;
        }
        let board = match &self.route.takes {
            UpdateMedium::Uf2 { board_id: Some(id), .. } => format!("Board-ID: {id}\r\n"),
            _ => String::new(),
        };
        let info = format!("UF2 Bootloader v1.0.0\r\nModel: {}\r\n{board}", self.model);
        self.files = vec![File::text("INFO_UF2.TXT", &info)];
        if let Some(name) = &self.route.application_file {
            let content = uf2::present(self.family, flash, self.region.clone());
            self.files.push(File { name: name.clone().into(), content });
        }
    }
}

impl Mode for Uf2Disk {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        vec![interface()]
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, _: &[u8]) -> Answer {
        self.disk.control(setup)
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.refresh(flash);
        let volume = volume(self.route.labels.first().map(String::as_str), self.region.len() * 2);
        let mut shown = Shown { volume, is_broken: false, files: &self.files, loader: &mut self.loader, flash };
        self.disk.bulk(now, transfer, &mut shown)
    }

    fn clear_halt(&mut self, endpoint: u8) {
        self.disk.clear_halt(endpoint);
    }

    fn bus_reset(&mut self, _: Duration, _: &mut Flash) -> Option<Exit> {
        self.disk.bus_reset();
        None
    }

    fn advance(&mut self, now: Duration, _: &mut Flash) -> Option<Exit> {
        self.loader.leaves_at.is_some_and(|at| now >= at).then_some(Exit::Restart)
    }
}

/// The disk of a unit that takes a whole file.
#[derive(Debug)]
pub(crate) struct FileDisk {
    target: FileTarget,
    leave: ExitMethod,
    volume: Volume,
    region: Range<u32>,
    disk: Disk,
    stored: Stored,
    /// When the file that it takes is in its flash.
    installed: Option<Duration>,
    /// The result of the installation.
    result: Option<String>,
    /// Interfaces before that of the disk.
    others: Vec<DescribedInterface>,
}

impl FileDisk {
    /// A disk with these files.
    pub(crate) fn new(route: &VolumeRoute, target: &FileTarget, region: Range<u32>, files: &[File]) -> Self {
        let volume = volume(route.labels.first().map(String::as_str), region.len() * 6);
        Self {
            target: target.clone(),
            leave: route.leave,
            volume,
            region,
            disk: Disk::new(disk::Quirks::default()),
            stored: Stored::new(volume.bytes(files)),
            installed: None,
            result: None,
            others: Vec::new(),
        }
    }

    /// The same with interfaces before that of the disk.
    pub(crate) fn beside(self, others: Vec<DescribedInterface>) -> Self {
        Self { others, ..self }
    }

    /// Installs a complete file; returns the time that it takes.
    fn install(&mut self, flash: &mut Flash, content: &[u8]) -> Duration {
        let Some(parts) = self.parts(content) else {
            self.result = self.target.result.as_ref().map(|result| result.failure.clone());
            return QUIET;
        };
        let mut time = Duration::ZERO;
        let end = |at: u32, bytes: &[u8]| at.saturating_add(u32::try_from(bytes.len()).unwrap_or(u32::MAX));
        let spans = parts.iter().flat_map(|(at, bytes)| flash.sectors_in(*at..end(*at, bytes)));
        let mut sectors: Vec<Range<u32>> = spans.collect();
        sectors.sort_by_key(|sector| sector.start);
        sectors.dedup();
        for sector in sectors {
            time += Flash::erase_time(sector.end - sector.start);
            flash.erase(sector);
        }
        for (at, bytes) in &parts {
            time += Flash::program_time(u32::try_from(bytes.len()).unwrap_or(0));
            flash.program(*at, bytes);
        }
        self.result = self.target.result.as_ref().map(|result| result.success.clone());
        time
    }

    /// The bytes of a file and their addresses; `None` if they are not for its region.
    fn parts(&self, content: &[u8]) -> Option<Vec<(u32, Vec<u8>)>> {
        let parts: Vec<(u32, Vec<u8>)> = match self.target.form {
            FileForm::Binary | FileForm::AsIs => vec![(self.region.start, content.to_vec())],
            FileForm::Hex => {
                let image = vaka_image::read(content, ReadOptions::default()).ok()?;
                let segments = image.segments().iter().filter(|_| image.format() == Format::IntelHex);
                segments.map(|part| Some((part.start().to_u32()?, part.data().to_vec()))).collect::<Option<_>>()?
            }
        };
        let fits = |(at, bytes): &(u32, Vec<u8>)| {
            self.region.contains(at) && u64::from(*at) + bytes.len() as u64 <= u64::from(self.region.end)
        };
        (!parts.is_empty() && parts.iter().all(fits)).then_some(parts)
    }

    /// Whether the host has left the disk alone for a while, and ejected it where the unit waits for that.
    fn is_ready(&self, now: Duration) -> bool {
        let is_quiet = self.stored.written.is_some_and(|at| now >= at + QUIET);
        self.disk.is_idle() && if self.target.eject_after { self.stored.is_ejected } else { is_quiet }
    }
}

impl Mode for FileDisk {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        self.others.iter().cloned().chain([interface()]).collect()
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, _: &[u8]) -> Answer {
        self.disk.control(setup)
    }

    fn result(&self) -> Option<&str> {
        self.result.as_deref()
    }

    fn pipe(&mut self, now: Duration, _: &mut Flash, transfer: Bulk<'_>) -> Answer {
        self.disk.bulk(now, transfer, &mut self.stored)
    }

    fn clear_halt(&mut self, endpoint: u8) {
        self.disk.clear_halt(endpoint);
    }

    fn bus_reset(&mut self, _: Duration, _: &mut Flash) -> Option<Exit> {
        self.disk.bus_reset();
        None
    }

    fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        if let Some(at) = self.installed {
            return (now >= at).then_some(Exit::Restart);
        }
        if self.stored.written.is_some() && self.is_ready(now) {
            self.stored.written = None;
            if let Found::Whole(content) = find(self.volume, &self.stored.bytes, &self.target.name) {
                self.installed = Some(now + self.install(flash, &content));
                return None;
            }
        }
        (self.stored.is_ejected && self.disk.is_idle() && self.leave == ExitMethod::Eject).then_some(Exit::Restart)
    }

    fn disk(&self) -> &[u8] {
        &self.stored.bytes
    }
}
