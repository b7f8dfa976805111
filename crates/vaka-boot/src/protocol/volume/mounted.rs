//! A disk through the folder that the system shows it as.
//!
//! The OS buffers writes, so each chunk is synced and progress means bytes sent. It also caches
//! reads, so the cache is dropped before a file is read again.

use std::fs::{self, File, OpenOptions};
use std::io::{self, ErrorKind, Read, Write};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{Timestamp, civil};
use rustix::fs::{Advice, OFlags, fadvise, statvfs};
use vaka_base::text;
use vaka_core::sheet::FileTarget;
use vaka_core::volume::fat::{Layout, SECTOR};
use vaka_core::volume::{BOARD_FILE, VisibleFile, VolumeFacts, lines};
use vaka_image::uf2::AppReadback;
use vaka_usb::mounts::Mounted;
use vaka_usb::{Bus, Clock, DeviceInfo, SystemClock};

use super::raw_disk::DirectoryListing;
use super::{Disk, MOST_PRESENT, MOST_TEXTS, full, is_text, read_all, read_until};
use crate::context::Context;
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// The file name for UF2 blocks; units ignore it.
const BLOCKS_NAME: &str = "UPDATE.UF2";

/// Time for a unit to disconnect after the system reported an error, because disconnecting is its
/// usual cause.
const TIME_TO_GO: Duration = Duration::from_secs(2);

/// Opens the disk that `fits` accepts, else the first one.
pub(super) fn open(
    bus: Arc<dyn Bus>,
    device: DeviceInfo,
    mounted: Vec<Mounted>,
    fits: &dyn Fn(&VolumeFacts) -> bool,
    cx: &mut Context<'_>,
) -> Result<(Box<dyn Disk>, VolumeFacts), SessionError> {
    let mut disk =
        FolderDisk { bus, device, mounted: mounted[0].clone(), file: None, bytes: Vec::new(), sent: 0, calls: 0 };
    for one in &mounted {
        disk.mounted = one.clone();
        let facts = disk.look(cx)?;
        if fits(&facts) {
            return Ok((Box::new(disk), facts));
        }
    }
    disk.mounted = mounted[0].clone();
    let facts = disk.look(cx)?;
    Ok((Box::new(disk), facts))
}

struct FolderDisk {
    /// Used only to check whether the unit is still attached; needs no permission on the USB
    /// device.
    bus: Arc<dyn Bus>,
    device: DeviceInfo,
    mounted: Mounted,
    /// The file that is being written.
    file: Option<File>,
    /// The content of the file, and how much of it was written.
    bytes: Vec<u8>,
    sent: usize,
    calls: u64,
}

/// A disk that is mounted may hold links to files of this machine: none is followed, and no pipe
/// is waited for.
fn unfollowed() -> OpenOptions {
    let flags = OFlags::NOFOLLOW | OFlags::NONBLOCK;
    let mut options = OpenOptions::new();
    options.custom_flags(i32::try_from(flags.bits()).unwrap_or_default());
    options
}

impl FolderDisk {
    /// Waits until the unit is not on its bus any more.
    fn is_gone(&self, within: Duration) -> bool {
        const LOOK: Duration = Duration::from_millis(10);
        let deadline = SystemClock.now() + within;
        loop {
            let is_there = self.bus.list().is_ok_and(|devices| devices.contains(&self.device));
            let left = deadline.saturating_sub(SystemClock.now());
            if !is_there || left.is_zero() {
                return !is_there;
            }
            self.bus.await_change(&SystemClock, LOOK, left);
        }
    }

    /// A file in the folder, by its name in any case.
    fn find(&self, name: &str) -> io::Result<Option<PathBuf>> {
        for entry in fs::read_dir(&self.mounted.folder)? {
            let entry = entry?;
            if entry.file_name().to_string_lossy().eq_ignore_ascii_case(name) {
                return Ok(Some(entry.path()));
            }
        }
        Ok(None)
    }

    fn files(&mut self) -> io::Result<DirectoryListing> {
        let (mut files, mut texts) = (Vec::new(), Vec::new());
        for entry in fs::read_dir(&self.mounted.folder)? {
            let entry = entry?;
            let about = entry.metadata()?;
            if !about.is_file() {
                continue;
            }
            let name = text::sanitize(&entry.file_name().to_string_lossy());
            if is_text(&name, about.len()) && texts.len() < MOST_TEXTS {
                texts.push((name.clone(), lines(&self.fresh(&entry.path(), about.len(), &read_all)?)));
            }
            let time = about.modified().ok().and_then(|time| Timestamp::try_from(time).ok());
            let date = time.map(|time| time.to_zoned(TimeZone::UTC).date());
            // A unit without a clock returns the first date that FAT can represent.
            let date = date.filter(|date| *date > civil::date(1980, 1, 1)).map(|date| date.to_string());
            files.push(VisibleFile { name, size: about.len(), date });
        }
        files.sort_by(|a, b| a.name.cmp(&b.name));
        Ok((files, texts))
    }

    /// Reads a file from the unit, bypassing the system's cache.
    fn fresh(&mut self, path: &Path, most: u64, is_enough: &dyn Fn(&[u8]) -> bool) -> io::Result<Vec<u8>> {
        self.calls += 1;
        let file = unfollowed().read(true).open(path)?;
        let _ = fadvise(&file, 0, None, Advice::DontNeed);
        read_until(&mut file.take(most), is_enough)
    }

    /// Converts an error of the system: usually the unit disconnected, and the system noticed
    /// while writing.
    fn fault(&mut self, error: &io::Error) -> SessionError {
        let folder = self.mounted.folder.display().to_string();
        match error.kind() {
            ErrorKind::StorageFull => full(self.bytes.len() as u64, 0),
            ErrorKind::PermissionDenied => {
                SessionError::Busy(format!(" (this user has no write permission on {folder})"))
            }
            ErrorKind::ReadOnlyFilesystem if !self.is_gone(Duration::ZERO) => SessionError::NeedsAction {
                reason: format!("{folder} is mounted read-only"),
                remedy: Box::new(Remedy::MountWritable),
            },
            _ if self.is_gone(TIME_TO_GO) => SessionError::Disconnected,
            _ => SessionError::NeedsAction {
                reason: format!("the system reports for {folder}: {}", text::sanitize(&error.to_string())),
                remedy: Box::new(Remedy::UnmountAndReenter),
            },
        }
    }

    /// Writes on, and waits until it has left this machine.
    fn write_out(&mut self, until: usize) -> Result<(), SessionError> {
        let Some(mut file) = self.file.take() else {
            return Err(SessionError::ProtocolViolation("no file was started on its disk".into()));
        };
        let until = until.min(self.bytes.len());
        self.calls += 2;
        let written = file.write_all(&self.bytes[self.sent.min(until)..until]).and_then(|()| file.sync_data());
        self.file = Some(file);
        self.sent = self.sent.max(until);
        written.map_err(|error| self.fault(&error))
    }

    fn create(&mut self, name: &str) -> Result<(), SessionError> {
        let path = self.find(name).map(|found| found.unwrap_or_else(|| self.mounted.folder.join(name)));
        let made = path.and_then(|path| unfollowed().write(true).create(true).truncate(true).open(path));
        self.file = Some(made.map_err(|error| self.fault(&error))?);
        self.calls += 1;
        Ok(())
    }

    /// Ends the file: its size and its place in the folder go out too.
    fn close(&mut self) -> Result<(), SessionError> {
        let Some(file) = self.file.take() else { return Ok(()) };
        self.calls += 2;
        let folder = File::open(&self.mounted.folder);
        let done = file.sync_all().and_then(|()| folder?.sync_all());
        done.map_err(|error| self.fault(&error))
    }
}

impl Disk for FolderDisk {
    fn look(&mut self, _: &mut Context<'_>) -> Result<VolumeFacts, SessionError> {
        let (files, texts) = match self.files() {
            Ok(found) => found,
            Err(error) => return Err(self.fault(&error)),
        };
        let is_uf2 = texts.iter().any(|(name, _)| name.eq_ignore_ascii_case(BOARD_FILE));
        let mut facts = VolumeFacts {
            label: self.label(),
            read_only: self.mounted.read_only,
            folder: Some(text::sanitize(&self.mounted.folder.display().to_string())),
            files,
            texts,
            ..VolumeFacts::default()
        };
        if let Some(name) = facts.shown_blocks().filter(|_| is_uf2).map(|file| file.name.clone()) {
            let head = self.find(&name).ok().flatten().and_then(|path| self.fresh(&path, 4096, &read_all).ok());
            let head = AppReadback::read(&head.unwrap_or_default());
            facts.shown_start = head.spans().first().map(|span| span.start());
            facts.families = head.families.into_iter().collect();
        }
        Ok(facts)
    }

    fn read_file(
        &mut self,
        name: &str,
        is_enough: &dyn Fn(&[u8]) -> bool,
        _: &mut Context<'_>,
    ) -> Result<Option<Vec<u8>>, SessionError> {
        let found = self.find(name).map_err(|error| self.fault(&error))?;
        let Some(path) = found else { return Ok(None) };
        self.fresh(&path, MOST_PRESENT, is_enough).map(Some).map_err(|error| self.fault(&error))
    }

    fn begin_blocks(&mut self, _: usize, _: &mut Context<'_>) -> Result<(), SessionError> {
        (self.bytes, self.sent) = (Vec::new(), 0);
        self.create(BLOCKS_NAME)
    }

    fn write_blocks(&mut self, blocks: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        self.bytes.extend_from_slice(blocks);
        self.write_out(self.bytes.len())
    }

    fn begin_file(
        &mut self,
        file: &FileTarget,
        remove: Option<&str>,
        bytes: Vec<u8>,
        _: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        // Space first: delete a file only if the new one fits.
        let goes = |name: &str| {
            let old = self.find(name).ok().flatten().and_then(|path| fs::metadata(path).ok());
            old.map_or(0, |about| about.len())
        };
        let going = goes(&file.name) + remove.filter(|name| *name != file.name).map_or(0, goes);
        let stats = statvfs(&self.mounted.folder).map_err(|error| self.fault(&error.into()))?;
        let room = stats.f_bavail.saturating_mul(stats.f_frsize).saturating_add(going);
        if room < bytes.len() as u64 {
            return Err(full(bytes.len() as u64, room));
        }
        if let Some(path) = remove.and_then(|name| self.find(name).ok().flatten()) {
            let folder = self.mounted.folder.clone();
            let gone = fs::remove_file(path).and_then(|()| File::open(folder)?.sync_all());
            gone.map_err(|error| self.fault(&error))?;
        }
        (self.bytes, self.sent) = (bytes, 0);
        self.create(&file.name)
    }

    fn write_file(&mut self, done: u64, total: u64, _: &mut Context<'_>) -> Result<(), SessionError> {
        let share = self.bytes.len() as u128 * u128::from(done) / u128::from(total.max(1));
        // Whole sectors, so that no sector is sent twice.
        let until = usize::try_from(share).unwrap_or(self.bytes.len());
        self.write_out(until - until % vaka_core::volume::fat::SECTOR)
    }

    fn end_file(&mut self, _: &mut Context<'_>) -> Result<(), SessionError> {
        self.write_out(self.bytes.len())?;
        self.close()
    }

    fn eject(&mut self, _: &mut Context<'_>) -> Result<(), SessionError> {
        if self.is_gone(Duration::ZERO) {
            return Ok(());
        }
        let (folder, node) = (self.mounted.folder.display(), self.mounted.node.display());
        Err(SessionError::NeedsAction {
            reason: format!(
                "the system has mounted its disk at {folder}, and Vaka does not eject mounted disks by itself ({node})"
            ),
            remedy: Box::new(Remedy::EjectOrUnmount),
        })
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.is_gone(within)
    }

    fn transfers(&self) -> u64 {
        self.calls
    }
}

impl FolderDisk {
    /// The label, from the links of udev, or from the volume itself if the user may read it.
    fn label(&self) -> Option<String> {
        let of_link = || {
            let own = fs::canonicalize(&self.mounted.node).ok()?;
            let mut links = fs::read_dir("/dev/disk/by-label").ok()?.flatten();
            let found = links.find(|link| fs::canonicalize(link.path()).is_ok_and(|node| node == own))?;
            Some(unescape(&found.file_name().to_string_lossy()))
        };
        let label = of_link().or_else(|| label_on(&self.mounted.node));
        label.map(|label| text::sanitize(&label)).filter(|label| !label.is_empty() && label != "NO NAME")
    }
}

/// The label of a mounted volume, by reading it. `None` without permission.
fn label_on(node: &Path) -> Option<String> {
    let disk = OpenOptions::new().read(true).open(node).ok()?;
    let mut read = |sector: u64| {
        let mut bytes = [0; SECTOR];
        disk.read_exact_at(&mut bytes, sector * SECTOR as u64).map(|()| bytes)
    };
    let boot = read(0).ok()?;
    // The system has mounted it, so its size is as stated.
    Layout::parse(&boot, u64::from(u32::MAX)).ok()?.label(&mut read).ok()?
}

/// udev encodes characters that are not allowed in file names as `\x20`. Source: libudev,
/// udev_util_encode_string.
fn unescape(name: &str) -> String {
    let mut bytes = Vec::with_capacity(name.len());
    let mut rest = name.as_bytes();
    while let [first, behind @ ..] = rest {
        let digits = rest.strip_prefix(b"\\x").and_then(|digits| std::str::from_utf8(digits.get(..2)?).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
            Some(byte) => (bytes.push(byte), rest = &rest[4..]),
            None => (bytes.push(*first), rest = behind),
        };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::AtomicBool;
    use vaka_core::sheet::{FileForm, WriteOrder};
    use vaka_usb::{BusError, Location, Speed, UsbDevice};

    /// A bus on which the unit is, and stays.
    struct Here(DeviceInfo);

    impl Bus for Here {
        fn name(&self) -> &str {
            "here"
        }

        fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
            Ok(vec![self.0.clone()])
        }

        fn open(&self, _: &str) -> Result<Box<dyn UsbDevice>, BusError> {
            Err(BusError::NotFound(self.0.location.clone()))
        }
    }

    fn unit() -> DeviceInfo {
        DeviceInfo {
            location: Location { bus: "here".into(), port: "1-1".into() },
            address: 7,
            speed: Speed::Full,
            vendor: 0x1209,
            product: 7,
            release: 0,
            interfaces: Vec::new(),
            product_text: None,
            serial: None,
            node: None,
        }
    }

    #[test]
    fn names_of_the_device_manager_are_read() {
        assert_eq!(unescape("HERON\\x20DISK"), "HERON DISK");
        assert_eq!(unescape("a\\x2fb\\x2"), "a/b\\x2");
        assert_eq!(unescape("PETREL"), "PETREL");
    }

    /// On an ordinary folder: what is written, when, and what is read again.
    #[test]
    fn a_file_goes_out_in_whole_sectors_and_replaces_the_old_one() {
        let folder = std::env::temp_dir().join(format!("vaka-folder-{}", std::process::id()));
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("display.hex"), b"the one before, and longer than the new one").unwrap();
        fs::write(folder.join("VERSION.TXT"), b"Display: 3.0.0\r\n").unwrap();
        let mounted = Mounted { folder: folder.clone(), node: "/nonexistent".into(), read_only: false };
        let (stop, mut ignore) = (AtomicBool::new(false), |_| {});
        let mut cx = Context::new(&SystemClock, &mut ignore, &stop);
        let (mut disk, facts) = open(Arc::new(Here(unit())), unit(), vec![mounted], &|_| true, &mut cx).unwrap();
        assert_eq!(facts.text("version.txt").unwrap(), ["Display: 3.0.0"]);
        assert_eq!((facts.label, facts.folder.as_deref()), (None, folder.to_str()));
        let file = FileTarget {
            form: FileForm::Hex,
            name: "DISPLAY.HEX".into(),
            order: WriteOrder::DataFirst,
            remove_first: false,
            eject_after: false,
            result: None,
        };
        let content: Vec<u8> = (0..1500_u32).map(|n| n.to_le_bytes()[0]).collect();
        disk.begin_file(&file, None, content.clone(), &mut cx).unwrap();
        disk.write_file(1, 2, &mut cx).unwrap();
        // Half of 1500 bytes is one sector of 512 and a part of the next.
        assert_eq!(fs::read(folder.join("display.hex")).unwrap(), content[..512]);
        disk.end_file(&mut cx).unwrap();
        assert_eq!(disk.read_file("DISPLAY.HEX", &super::super::read_all, &mut cx).unwrap().unwrap(), content);
        assert_eq!(disk.read_file("NONE.TXT", &super::super::read_all, &mut cx).unwrap(), None);
        assert!(matches!(disk.eject(&mut cx), Err(SessionError::NeedsAction { .. })));
        fs::remove_dir_all(&folder).unwrap();
    }
}
