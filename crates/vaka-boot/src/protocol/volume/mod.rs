//! Units that are updated through a small disk.
//!
//! A [`Disk`] is accessed either over its own USB device (`raw_disk`) or through the folder at
//! which the system has mounted it (`mounted`), never both; a mounted disk is never unmounted.
//! `uf2` writes UF2 blocks to it, `file_copy` a whole file.

mod file_copy;
#[cfg(target_os = "linux")]
mod mounted;
mod raw_disk;
mod scsi;
mod sector_cache;
mod uf2;

use std::io::{self, Read};
use std::sync::Arc;
use std::time::Duration;

use vaka_core::sheet::{FileTarget, UpdateMedium, VolumeRoute};
use vaka_core::volume::VolumeFacts;
use vaka_image::Image;
use vaka_image::address::Address;
use vaka_usb::mounts::Mounted;
use vaka_usb::{Bus, DeviceInfo, UsbDevice};

use crate::context::Context;
use crate::protocol::bulk_only::DiskInterface;
use crate::protocol::session::Session;
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// A file is read in pieces of this length, until it is enough.
const PIECE: usize = 32 * 1024;

/// Requests the whole file.
pub(crate) fn read_all(_: &[u8]) -> bool {
    false
}

/// Reads a file until it is enough.
fn read_until(file: &mut dyn Read, is_enough: &dyn Fn(&[u8]) -> bool) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    loop {
        let before = bytes.len();
        file.take(PIECE as u64).read_to_end(&mut bytes)?;
        if bytes.len() < before + PIECE || is_enough(&bytes) {
            return Ok(bytes);
        }
    }
}

/// Maximum size of a text file on a unit's disk; longer files are not read.
const MOST_TEXT: u64 = 16 * 1024;
/// Maximum number of text files to read.
const MOST_TEXTS: usize = 8;
/// Maximum size of the file that shows the application. Chosen by us: UF2 of 16 MiB.
const MOST_PRESENT: u64 = 32 << 20;

/// A unit's disk.
pub trait Disk: Send {
    /// Reads the description of the disk: label, files, texts.
    ///
    /// # Errors
    /// The unit cannot be used. Invalid content is not an error, but a fault in the result.
    fn look(&mut self, cx: &mut Context<'_>) -> Result<VolumeFacts, SessionError>;

    /// Reads a file in the root folder directly from the unit, up to the point where `is_enough`
    /// is true; `None` if the file is missing.
    ///
    /// # Errors
    /// The file cannot be read.
    fn read_file(
        &mut self,
        name: &str,
        is_enough: &dyn Fn(&[u8]) -> bool,
        cx: &mut Context<'_>,
    ) -> Result<Option<Vec<u8>>, SessionError>;

    /// Prepares for this many UF2 blocks.
    ///
    /// # Errors
    /// Not enough space. Nothing was written.
    fn begin_blocks(&mut self, count: usize, cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Sends UF2 blocks; returns once they have left this machine.
    ///
    /// # Errors
    /// Any of the blocks may have arrived.
    fn write_blocks(&mut self, blocks: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Whether the unit accepted all bytes of the last [`write_blocks`](Self::write_blocks), even
    /// if it disconnected before it confirmed that. False if unknown.
    fn has_taken_data(&self) -> bool {
        false
    }

    /// Prepares for a file, and deletes the file that must be deleted first.
    ///
    /// # Errors
    /// Not enough space, or a damaged file system. Nothing was written, except that a file may
    /// have been deleted.
    fn begin_file(
        &mut self,
        file: &FileTarget,
        remove: Option<&str>,
        bytes: Vec<u8>,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError>;

    /// Sends the file as far as `done` of `total`; returns once that has left
    /// this machine.
    ///
    /// # Errors
    /// Any part of the file may have arrived.
    fn write_file(&mut self, done: u64, total: u64, cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Completes the file: all data and its directory entry have left this machine.
    ///
    /// # Errors
    /// As for [`write_file`](Self::write_file).
    fn end_file(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Ejects it.
    ///
    /// # Errors
    /// The disk cannot be ejected, or the user has no permission.
    fn eject(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Resets the device, so that an ejected disk returns. Best effort.
    fn reload(&mut self) {}

    /// Waits until the unit has left the bus.
    fn wait_for_disconnect(&mut self, within: Duration) -> bool;

    /// Commands to the unit so far; of a folder, calls to the system.
    fn transfers(&self) -> u64;
}

/// Opens the disk of a unit that the system has not mounted, over its own USB device. Of several
/// disks, takes the one that `fits` accepts, else the first. Returns its description.
///
/// # Errors
/// The unit has no disk, another program uses it, or access fails.
pub fn open(
    device: Box<dyn UsbDevice>,
    interfaces: &[DiskInterface],
    fits: &dyn Fn(&VolumeFacts) -> bool,
    cx: &mut Context<'_>,
) -> Result<(Box<dyn Disk>, VolumeFacts), SessionError> {
    raw_disk::open(device, interfaces, fits, cx)
}

/// Opens the disk of a unit that the system has mounted, through its folder.
///
/// # Errors
/// The folder cannot be read.
pub fn open_mounted(
    bus: Arc<dyn Bus>,
    device: &DeviceInfo,
    mounted: Vec<Mounted>,
    fits: &dyn Fn(&VolumeFacts) -> bool,
    cx: &mut Context<'_>,
) -> Result<(Box<dyn Disk>, VolumeFacts), SessionError> {
    #[cfg(target_os = "linux")]
    return mounted::open(bus, device.clone(), mounted, fits, cx);
    // No bus reports mounted disks on other systems.
    #[cfg(not(target_os = "linux"))]
    {
        let _ = (bus, device, mounted, fits, cx);
        Err(SessionError::ProtocolViolation("mounted disks are supported on Linux only".into()))
    }
}

/// A session that updates a unit through its disk.
pub(crate) fn session(disk: Box<dyn Disk>, route: &VolumeRoute) -> Box<dyn Session> {
    match &route.takes {
        UpdateMedium::Uf2 { family, .. } => Box::new(uf2::Uf2Session::new(disk, *family, route)),
        UpdateMedium::File(file) => Box::new(file_copy::FileSession::new(disk, file, route)),
    }
}

/// Bytes of an image in one step of such a session.
pub(crate) fn chunk(route: &VolumeRoute) -> u32 {
    match route.takes {
        UpdateMedium::Uf2 { .. } => uf2::CHUNK,
        UpdateMedium::File(_) => file_copy::CHUNK,
    }
}

/// Decodes the file that the unit made of its application.
pub(crate) fn decode(route: &VolumeRoute, start: Address, bytes: &[u8]) -> Option<Image> {
    match &route.takes {
        UpdateMedium::Uf2 { .. } => None,
        UpdateMedium::File(file) => file_copy::decode(file.form, start, bytes),
    }
}

/// Whether a file is a small text with information.
fn is_text(name: &str, size: u64) -> bool {
    name.to_ascii_uppercase().ends_with(".TXT") && size <= MOST_TEXT
}

/// A disk is full.
fn full(wanted: u64, free: u64) -> SessionError {
    use vaka_base::size::Bytes;
    SessionError::NeedsAction {
        reason: format!("its disk has not enough space: {} needed, {} free", Bytes(wanted), Bytes(free)),
        remedy: Box::new(Remedy::FreeDiskSpace),
    }
}

/// Leaves update mode without writing.
fn leave(disk: &mut dyn Disk, how: vaka_core::sheet::ExitMethod, cx: &mut Context<'_>) -> Result<(), SessionError> {
    use vaka_core::sheet::ExitMethod;
    match how {
        ExitMethod::Nothing => Ok(()),
        ExitMethod::LastBlock => Err(SessionError::NeedsAction {
            reason: "it leaves update mode only after the last block of an image".into(),
            remedy: Box::new(Remedy::UpdateOrReplug),
        }),
        ExitMethod::PowerCycle => Err(SessionError::NeedsAction {
            reason: "it leaves update mode only by a power cycle".into(),
            remedy: Box::new(Remedy::Replug),
        }),
        ExitMethod::Eject => {
            disk.eject(cx)?;
            if disk.wait_for_disconnect(TIME_TO_LEAVE) {
                return Ok(());
            }
            Err(SessionError::Timeout("its disk was ejected, but it stays in update mode".into()))
        }
    }
}

/// Time for a unit to disconnect after a request, or after it has received everything. Chosen by
/// us: known units need at most a second.
const TIME_TO_LEAVE: Duration = Duration::from_secs(5);
