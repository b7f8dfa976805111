//! A disk over its own USB device, with the system's driver detached.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, Write};
use std::ops::Range;
use std::time::Duration;

use fatfs::{Dir, FileSystem};
use vaka_base::text;
use vaka_core::sheet::{FileTarget, WriteOrder};
use vaka_core::volume::fat::{self, Layout, Partition, SECTOR};
use vaka_core::volume::{BOARD_FILE, VisibleFile, VolumeFacts, lines};
use vaka_image::uf2::{AppReadback, BLOCK};
use vaka_usb::{MAX_PIPE_TRANSFER, UsbDevice};

use super::scsi::{MOST_SECTORS, NoDisk, Scsi};
use super::sector_cache::{Budget, Cache, Sectors, mount};
use super::{Disk, MOST_PRESENT, MOST_TEXTS, full, is_text, read_until};
use crate::context::Context;
use crate::protocol::bulk_only::{BulkOnly, DiskInterface};
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// Maximum number of sectors of UF2 blocks in one command: what a backend supports in one piece,
/// and about half of what common hosts send.
const LARGE: usize = MAX_PIPE_TRANSFER / SECTOR;
/// The number for a unit that rejects more. Chosen by us.
const SMALL: usize = 8;

/// Maximum number of root folder entries to read: a damaged chain has no end.
const MOST_ENTRIES: usize = 1024;

/// For the description of a disk: root folder and small texts. Chosen by us: far above what update
/// disks have.
const LOOK: Budget = Budget { bytes: 4 << 20, time: Duration::from_secs(20) };

impl Budget {
    /// For a file of this length, with four passes over the largest FAT. Chosen by us: the time is
    /// that of a slow full-speed disk.
    fn of_file(len: u64) -> Self {
        Self { bytes: 4 * len + (256 << 20), time: Duration::from_secs(300) }
    }
}

/// Opens the disk that `fits` accepts, else the first one.
pub(super) fn open(
    device: Box<dyn UsbDevice>,
    interfaces: &[DiskInterface],
    fits: &dyn Fn(&VolumeFacts) -> bool,
    cx: &mut Context<'_>,
) -> Result<(Box<dyn Disk>, VolumeFacts), SessionError> {
    let mut device = device;
    let (mut first, mut refusal) = (None, None);
    for (index, interface) in interfaces.iter().enumerate() {
        let mut transport = BulkOnly::new(device, *interface)?;
        for lun in 0..=transport.max_lun()? {
            match Scsi::open(transport, lun, cx)? {
                Err(NoDisk { transport: back, reason }) => {
                    transport = back;
                    refusal = refusal.or(reason);
                }
                Ok(scsi) => {
                    let mut disk = NativeDisk::new(scsi);
                    let facts = disk.look(cx)?;
                    if fits(&facts) {
                        return Ok((Box::new(disk), facts));
                    }
                    first.get_or_insert((index, lun));
                    transport = disk.scsi.into_transport();
                }
            }
        }
        device = transport.into_device();
    }
    let Some((index, lun)) = first else {
        return Err(refusal.unwrap_or(SessionError::ProtocolViolation("it shows no disk".into())));
    };
    let transport = BulkOnly::new(device, interfaces[index])?;
    let scsi = Scsi::open(transport, lun, cx)?;
    let mut disk = NativeDisk::new(scsi.map_err(|_| SessionError::ProtocolViolation("its disk disappeared".into()))?);
    let facts = disk.look(cx)?;
    Ok((Box::new(disk), facts))
}

struct NativeDisk {
    scsi: Scsi,
    cache: Cache,
    volume: Result<Partition, String>,
    /// Free sectors, starting with that of the next block.
    room: Range<u64>,
    next: u64,
    /// Maximum number of sectors of blocks in one command.
    most: usize,
    /// The pieces of the file that is under way, in order, and how many of their
    /// sectors were sent.
    pieces: Vec<(u64, Vec<u8>)>,
    sent: u64,
}

impl NativeDisk {
    fn new(scsi: Scsi) -> Self {
        let volume = Err("it was not read".to_owned());
        Self { scsi, cache: Cache::new(), volume, room: 0..0, next: 0, most: LARGE, pieces: Vec::new(), sent: 0 }
    }

    /// The label of the volume; `None` if there is none, or it cannot be read.
    fn label(&mut self, cx: &mut Context<'_>) -> Result<Option<String>, SessionError> {
        let volume = self.volume()?;
        let mut sectors = Sectors::new(&mut self.scsi, &mut self.cache, volume, LOOK, cx);
        let label = sectors.sector(0).and_then(|boot| {
            let layout = Layout::parse(&boot, volume.count).map_err(io::Error::other)?;
            layout.label(&mut |at| sectors.sector(at))
        });
        match (label, sectors.fault()) {
            (_, Some(fault)) => Err(fault),
            (label, None) => Ok(label.ok().flatten().map(|label| text::sanitize(&label))),
        }
    }

    fn volume(&self) -> Result<Partition, SessionError> {
        self.volume.clone().map_err(|why| damaged(&why))
    }

    /// Runs an operation on the file system; returns the sectors that it writes.
    fn with<T>(
        &mut self,
        budget: Budget,
        cx: &mut Context<'_>,
        work: impl FnOnce(&FileSystem<&mut Sectors<'_, '_>>) -> io::Result<T>,
    ) -> Result<(T, BTreeMap<u64, [u8; SECTOR]>), SessionError> {
        let volume = self.volume()?;
        let mut sectors = Sectors::new(&mut self.scsi, &mut self.cache, volume, budget, cx);
        let done = mount(&mut sectors).and_then(|fs| {
            let done = work(&fs)?;
            fs.unmount()?;
            Ok(done)
        });
        match (done, sectors.fault()) {
            (_, Some(fault)) => Err(fault),
            (Ok(done), None) => Ok((done, sectors.written())),
            (Err(error), None) => Err(damaged(&error.to_string())),
        }
    }

    /// Sends parts until this many sectors have been sent in total.
    fn send(&mut self, until: u64, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let start = self.volume()?.start;
        let mut before = 0;
        for (sector, bytes) in &self.pieces {
            let len = (bytes.len() / SECTOR) as u64;
            if before >= until {
                break;
            }
            if before >= self.sent {
                // The unit may install the file while it arrives: no part is sent twice.
                self.scsi.write(start + sector, bytes, false, cx)?;
                self.sent = before + len;
            }
            before += len;
        }
        Ok(())
    }

    fn all(&self) -> u64 {
        self.pieces.iter().map(|(_, bytes)| (bytes.len() / SECTOR) as u64).sum()
    }
}

fn damaged(why: &str) -> SessionError {
    SessionError::NeedsAction {
        reason: format!("the file system on its disk is damaged or unknown: {}", text::sanitize(why)),
        remedy: Box::new(Remedy::ReplugAndReenterOrFaulty),
    }
}

/// The files of a root folder, and the lines of the texts among them.
pub(super) type DirectoryListing = (Vec<VisibleFile>, Vec<(String, Vec<String>)>);

type Root<'f, 'a, 'b, 'c> = Dir<'f, &'a mut Sectors<'b, 'c>>;

/// The files in the root folder, with the texts among them.
fn contents(root: &Root<'_, '_, '_, '_>) -> io::Result<DirectoryListing> {
    let (mut files, mut texts) = (Vec::new(), Vec::new());
    for entry in root.iter().take(MOST_ENTRIES) {
        let entry = entry?;
        if !entry.is_file() {
            continue;
        }
        let (name, size) = (text::sanitize(&entry.file_name()), entry.len());
        let on = entry.modified().date;
        let has_date = (1..=12).contains(&on.month) && on.day > 0;
        let date = has_date.then(|| format!("{:04}-{:02}-{:02}", on.year, on.month, on.day));
        if is_text(&name, size) && texts.len() < MOST_TEXTS {
            let mut bytes = Vec::new();
            entry.to_file().take(size).read_to_end(&mut bytes)?;
            texts.push((name.clone(), lines(&bytes)));
        }
        files.push(VisibleFile { name, size, date });
    }
    Ok((files, texts))
}

/// The start of the present application's file, for its family and its address.
fn shown_head(root: &Root<'_, '_, '_, '_>, file: &VisibleFile) -> AppReadback {
    let mut bytes = Vec::new();
    let read = root.open_file(&file.name).and_then(|found| found.take(8 * BLOCK as u64).read_to_end(&mut bytes));
    read.map_or_else(|_| AppReadback::default(), |_| AppReadback::read(&bytes))
}

impl Disk for NativeDisk {
    fn look(&mut self, cx: &mut Context<'_>) -> Result<VolumeFacts, SessionError> {
        self.cache.clear();
        let first = self.scsi.read(0, 1, cx)?;
        self.volume = fat::volume(&first, self.scsi.count).map_err(|error| error.to_string());
        let read_only = self.scsi.is_protected;
        let seen = self.with(LOOK, cx, |fs| {
            let root = fs.root_dir();
            let (files, texts) = contents(&root)?;
            let is_uf2 = texts.iter().any(|(name, _)| name.eq_ignore_ascii_case(BOARD_FILE));
            let mut facts = VolumeFacts { read_only, files, texts, ..VolumeFacts::default() };
            let head = facts.shown_blocks().filter(|_| is_uf2).map(|file| shown_head(&root, file));
            if let Some(head) = head {
                facts.shown_start = head.spans().first().map(|span| span.start());
                facts.families = head.families.into_iter().collect();
            }
            Ok(facts)
        });
        match seen {
            Ok((facts, _)) => Ok(VolumeFacts { label: self.label(cx)?, ..facts }),
            Err(SessionError::NeedsAction { reason, .. }) => {
                Ok(VolumeFacts { read_only, fault: Some(reason), ..VolumeFacts::default() })
            }
            Err(error) => Err(error),
        }
    }

    fn read_file(
        &mut self,
        name: &str,
        is_enough: &dyn Fn(&[u8]) -> bool,
        cx: &mut Context<'_>,
    ) -> Result<Option<Vec<u8>>, SessionError> {
        self.cache.clear();
        let (found, _) = self.with(Budget::of_file(MOST_PRESENT), cx, |fs| {
            for entry in fs.root_dir().iter().take(MOST_ENTRIES) {
                let entry = entry?;
                if !(entry.is_file() && entry.file_name().eq_ignore_ascii_case(name)) {
                    continue;
                }
                if entry.len() > MOST_PRESENT {
                    return Err(io::Error::other("its application file is larger than any flash"));
                }
                return read_until(&mut entry.to_file(), is_enough).map(Some);
            }
            Ok(None)
        })?;
        Ok(found)
    }

    fn begin_blocks(&mut self, count: usize, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let volume = self.volume()?;
        let boot = self.scsi.read(volume.start, 1, cx)?;
        let layout = Layout::parse(&boot, volume.count).map_err(|error| damaged(&error.to_string()))?;
        let mut table = Vec::new();
        let mut at = layout.fat_start;
        let end = layout.fat_start + layout.fat_sectors;
        while at < end {
            if cx.stop_requested() {
                return Err(SessionError::Stopped);
            }
            let len = u32::try_from((end - at).min(u64::from(MOST_SECTORS))).unwrap_or(1);
            table.extend(self.scsi.read(volume.start + at, len, cx)?);
            at += u64::from(len);
        }
        self.room = layout.free_run(&table);
        self.next = self.room.start;
        // Every sector can be reused: only the written content counts.
        if self.room.is_empty() {
            return Err(full((count * BLOCK) as u64, 0));
        }
        Ok(())
    }

    fn write_blocks(&mut self, blocks: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let start = self.volume()?.start;
        let mut rest = blocks;
        while !rest.is_empty() {
            if self.next >= self.room.end {
                self.next = self.room.start;
            }
            let room = usize::try_from(self.room.end - self.next).unwrap_or(self.most).min(self.most);
            let (now, behind) = rest.split_at(rest.len().min(room * SECTOR));
            match self.scsi.write(start + self.next, now, true, cx) {
                // The length may be the cause; resending blocks is harmless.
                Err(SessionError::NeedsAction { .. } | SessionError::ProtocolViolation(_))
                    if now.len() > SMALL * SECTOR =>
                {
                    self.most = SMALL;
                    continue;
                }
                done => done?,
            }
            self.next += (now.len() / SECTOR) as u64;
            rest = behind;
        }
        Ok(())
    }

    fn has_taken_data(&self) -> bool {
        self.scsi.has_taken_data()
    }

    fn begin_file(
        &mut self,
        file: &FileTarget,
        remove: Option<&str>,
        bytes: Vec<u8>,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        self.cache.clear();
        (self.pieces, self.sent) = (Vec::new(), 0);
        let has = |fs: &FileSystem<&mut Sectors<'_, '_>>, name: &str| -> io::Result<u64> {
            let mut entries = fs.root_dir().iter().take(MOST_ENTRIES).filter_map(Result::ok);
            Ok(entries.find(|entry| entry.file_name().eq_ignore_ascii_case(name)).map_or(0, |entry| entry.len()))
        };
        let budget = Budget::of_file(bytes.len() as u64);
        // Space first: delete a file only if the new one fits.
        let (room, _) = self.with(budget, cx, |fs| {
            let stats = fs.stats()?;
            let removed = remove.filter(|name| *name != file.name);
            let goes = has(fs, &file.name)? + removed.map_or(Ok(0), |name| has(fs, name))?;
            Ok(u64::from(stats.free_clusters()) * u64::from(stats.cluster_size()) + goes)
        })?;
        if room < bytes.len() as u64 {
            return Err(full(bytes.len() as u64, room));
        }
        if let Some(name) = remove {
            let (_, written) = self.with(budget, cx, |fs| match has(fs, name)? {
                0 => Ok(()),
                _ => fs.root_dir().remove(name),
            })?;
            self.pieces = grouped(written);
            let all = self.all();
            self.send(all, cx)?;
            self.scsi.flush(cx)?;
            (self.pieces, self.sent) = (Vec::new(), 0);
            self.cache.clear();
        }
        let ((), first) = self.with(budget, cx, |fs| fs.root_dir().create_file(&file.name)?.truncate())?;
        let (_, written) = self.with(budget, cx, |fs| {
            let mut created = fs.root_dir().create_file(&file.name)?;
            created.truncate()?;
            created.seek(io::SeekFrom::Start(0))?;
            created.write_all(&bytes)?;
            created.flush()
        })?;
        let volume = self.volume()?;
        let boot = self.scsi.read(volume.start, 1, cx)?;
        let layout = Layout::parse(&boot, volume.count).map_err(|error| damaged(&error.to_string()))?;
        self.pieces = in_order(file.order, &layout, first, written);
        Ok(())
    }

    fn write_file(&mut self, done: u64, total: u64, cx: &mut Context<'_>) -> Result<(), SessionError> {
        // The last piece is left to the end, so that the file is whole only then.
        let all = self.all();
        let last = self.pieces.last().map_or(0, |(_, bytes)| (bytes.len() / SECTOR) as u64);
        let share = u128::from(all) * u128::from(done) / u128::from(total.max(1));
        self.send(u64::try_from(share).unwrap_or(all).min(all - last), cx)
    }

    fn end_file(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let all = self.all();
        self.send(all, cx)?;
        self.scsi.flush(cx)
    }

    fn eject(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        match self.scsi.flush(cx) {
            Err(SessionError::Disconnected) => Ok(()),
            _ => self.scsi.eject(cx),
        }
    }

    fn reload(&mut self) {
        self.scsi.reset();
        self.cache.clear();
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.scsi.wait_for_disconnect(within)
    }

    fn transfers(&self) -> u64 {
        self.scsi.commands()
    }
}

/// Groups contiguous sectors, up to the maximum of a command.
fn grouped(sectors: BTreeMap<u64, [u8; SECTOR]>) -> Vec<(u64, Vec<u8>)> {
    let mut pieces: Vec<(u64, Vec<u8>)> = Vec::new();
    for (sector, bytes) in sectors {
        match pieces.last_mut() {
            Some((start, piece))
                if *start + (piece.len() / SECTOR) as u64 == sector && piece.len() < MOST_SECTORS as usize * SECTOR =>
            {
                piece.extend_from_slice(&bytes);
            }
            _ => pieces.push((sector, bytes.to_vec())),
        }
    }
    pieces
}

/// The groups in the order in which they are sent. `first` are the sectors that an empty file of
/// that name would write.
fn in_order(
    order: WriteOrder,
    layout: &Layout,
    first: BTreeMap<u64, [u8; SECTOR]>,
    written: BTreeMap<u64, [u8; SECTOR]>,
) -> Vec<(u64, Vec<u8>)> {
    // After the tables, an empty file writes only its folder; all else there is data.
    let is_data = |sector: &u64| *sector >= layout.data_start && !first.contains_key(sector);
    let is_table = |sector: &u64| *sector < layout.root_start;
    let (mut data, mut tables, mut folder) = (BTreeMap::new(), BTreeMap::new(), BTreeMap::new());
    for (sector, bytes) in written {
        let kind = match sector {
            _ if is_data(&sector) => &mut data,
            _ if is_table(&sector) => &mut tables,
            _ => &mut folder,
        };
        kind.insert(sector, bytes);
    }
    let mut pieces = match order {
        WriteOrder::DataFirst => Vec::new(),
        WriteOrder::EntryFirst => grouped(first.into_iter().filter(|(sector, _)| !is_table(sector)).collect()),
    };
    pieces.extend(grouped(data));
    pieces.extend(grouped(tables));
    pieces.extend(grouped(folder));
    pieces
}
