//! A volume as a byte stream for the file-system crate: reads are cached for a while, and writes
//! are collected instead of sent. So all writes are known before anything changes, and they can
//! be sent in the order that the unit requires.

use jiff::tz::TimeZone;
use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::time::Duration;

use fatfs::{Date, DateTime, FileSystem, FsOptions, Time, TimeProvider};
use vaka_core::volume::fat::{Partition, SECTOR};

use super::scsi::{MOST_SECTORS, Scsi};
use crate::context::Context;
use crate::protocol::session_error::SessionError;

/// Number of sectors of the first read: most of the metadata is contiguous. Sequential reads
/// double it each time.
const AHEAD: u32 = 8;

/// Maximum number of cached sectors: 16 MiB. Chosen by us.
const MOST_CACHED: usize = 32 * 1024;

/// Cost of a call in bytes: the crate reads the fields of a folder entry one by one.
const CALL: u64 = 32;

/// The limits of one operation on a file system: a damaged chain of clusters has no end.
#[derive(Clone, Copy, Debug)]
pub(super) struct Budget {
    /// Bytes that may be handed to the file-system crate; each call counts for at least
    /// [`CALL`].
    pub bytes: u64,
    /// Time that it may take.
    pub time: Duration,
}

/// Sectors that were read, until the medium may have changed.
pub(super) type Cache = BTreeMap<u64, [u8; SECTOR]>;

/// The sectors of a volume.
pub(super) struct Sectors<'a, 'b> {
    scsi: &'a mut Scsi,
    cache: &'a mut Cache,
    cx: &'a mut Context<'b>,
    volume: Partition,
    bytes_left: u64,
    deadline: Duration,
    at: u64,
    /// The sector after the last read, and the size of that read.
    read: (u64, u32),
    /// Sectors that were written but not sent, relative to the volume's start.
    written: BTreeMap<u64, [u8; SECTOR]>,
    /// The disk error, because the crate does not preserve it.
    fault: Option<SessionError>,
}

impl<'a, 'b> Sectors<'a, 'b> {
    pub(super) fn new(
        scsi: &'a mut Scsi,
        cache: &'a mut Cache,
        volume: Partition,
        budget: Budget,
        cx: &'a mut Context<'b>,
    ) -> Self {
        if std::mem::take(&mut scsi.has_changed) {
            cache.clear();
        }
        let (bytes_left, deadline) = (budget.bytes, cx.now() + budget.time);
        let (read, written) = ((0, AHEAD), BTreeMap::new());
        Self { scsi, cache, cx, volume, bytes_left, deadline, at: 0, read, written, fault: None }
    }

    /// Takes from the budget.
    fn spend(&mut self, bytes: usize) -> io::Result<()> {
        if self.cx.stop_requested() {
            self.fault = Some(SessionError::Stopped);
            return Err(io::Error::other("the user stopped the run"));
        }
        match self.bytes_left.checked_sub(CALL.max(bytes as u64)) {
            Some(left) if self.cx.now() < self.deadline => self.bytes_left = left,
            Some(_) => return Err(io::Error::other("reading its folders takes too long")),
            None => return Err(io::Error::other("its folders or files have no end")),
        }
        Ok(())
    }

    /// The sectors written so far.
    pub(super) fn written(&self) -> BTreeMap<u64, [u8; SECTOR]> {
        self.written.clone()
    }

    /// The disk error, if the disk and not its content caused the failure.
    pub(super) fn fault(&mut self) -> Option<SessionError> {
        self.fault.take()
    }

    fn load(&mut self, sector: u64, count: u32) -> io::Result<()> {
        let bytes = match self.scsi.read(self.volume.start + sector, count, self.cx) {
            Ok(bytes) => bytes,
            Err(error) => {
                self.fault = Some(error);
                return Err(io::Error::other("the disk cannot be read"));
            }
        };
        if self.cache.len() >= MOST_CACHED {
            self.cache.clear();
        }
        for (number, sector) in (sector..).zip(bytes.chunks_exact(SECTOR)) {
            let Ok(mut sector) = <[u8; SECTOR]>::try_from(sector) else { continue };
            if number == 0 {
                // Some synthesized disks lack the signature, which the crate requires.
                sector[510..].copy_from_slice(&[0x55, 0xAA]);
            }
            self.cache.insert(number, sector);
        }
        Ok(())
    }

    pub(super) fn sector(&mut self, number: u64) -> io::Result<[u8; SECTOR]> {
        if let Some(found) = self.written.get(&number).or(self.cache.get(&number)) {
            return Ok(*found);
        }
        let left = self.volume.count.saturating_sub(number);
        if left == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let (end, before) = self.read;
        let ahead = if number == end { (before * 2).min(MOST_SECTORS) } else { AHEAD };
        let count = u32::try_from(left).unwrap_or(ahead).min(ahead);
        self.load(number, count)?;
        self.read = (number + u64::from(count), ahead);
        self.cache.get(&number).copied().ok_or_else(|| io::ErrorKind::UnexpectedEof.into())
    }

    fn place(&self) -> (u64, usize) {
        let at = usize::try_from(self.at % SECTOR as u64).unwrap_or(0);
        (self.at / SECTOR as u64, at)
    }
}

impl Read for Sectors<'_, '_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let (number, from) = self.place();
        if buffer.is_empty() || number >= self.volume.count {
            return Ok(0);
        }
        self.spend(buffer.len().min(SECTOR - from))?;
        let sector = self.sector(number)?;
        let len = buffer.len().min(SECTOR - from);
        buffer[..len].copy_from_slice(&sector[from..from + len]);
        self.at += len as u64;
        Ok(len)
    }
}

impl Write for Sectors<'_, '_> {
    fn write(&mut self, data: &[u8]) -> io::Result<usize> {
        let (number, from) = self.place();
        if number >= self.volume.count {
            return Err(io::ErrorKind::WriteZero.into());
        }
        self.spend(data.len().min(SECTOR - from))?;
        let len = data.len().min(SECTOR - from);
        let mut sector = if len == SECTOR { [0; SECTOR] } else { self.sector(number)? };
        sector[from..from + len].copy_from_slice(&data[..len]);
        self.written.insert(number, sector);
        self.at += len as u64;
        Ok(len)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Sectors<'_, '_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let moved = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => (self.volume.count * SECTOR as u64).checked_add_signed(by),
        };
        self.at = moved.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// Opens the file system on `sectors`. The crate reads its boot sector at the current position of
/// the stream.
pub(super) fn mount<'s, 'a, 'b>(sectors: &'s mut Sectors<'a, 'b>) -> io::Result<FileSystem<&'s mut Sectors<'a, 'b>>> {
    sectors.seek(SeekFrom::Start(0))?;
    FileSystem::new(sectors, FsOptions::new().time_provider(&FatClock))
}

/// The machine's date, in UTC: without it every file would be of 1980.
#[derive(Debug)]
struct FatClock;

impl TimeProvider for FatClock {
    fn get_current_date(&self) -> Date {
        self.get_current_date_time().date
    }

    fn get_current_date_time(&self) -> DateTime {
        let now = jiff::Timestamp::now().to_zoned(TimeZone::UTC).datetime();
        let part = |value: i8| u16::try_from(value).unwrap_or(0);
        let year = u16::try_from(now.year()).unwrap_or(0).clamp(1980, 2107);
        let time = Time { hour: part(now.hour()), min: part(now.minute()), sec: part(now.second()), millis: 0 };
        DateTime { date: Date { year, month: part(now.month()), day: part(now.day()) }, time }
    }
}
