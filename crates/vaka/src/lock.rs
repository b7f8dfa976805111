//! An advisory lock for each location on a bus, so that one process at a time works on a unit.

use std::any::Any;
use std::collections::BTreeSet;
use std::fs::{File, TryLockError};
use std::io::{Read, Seek, Write};
use std::sync::{LazyLock, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use vaka_boot::bench::lock::UnitLock;
use vaka_boot::warning::Warning;
use vaka_usb::Location;

use crate::lock_folder::LockFolder;
use crate::state_dir;

/// Locks files in the lock folder.
pub struct Locks;

/// The lock folder of this process, or why there is none.
static FOLDER: LazyLock<Result<LockFolder, String>> = LazyLock::new(LockFolder::find);

/// The locations that this process has locked. A file lock does not exclude its own process.
static OWN: Mutex<BTreeSet<String>> = Mutex::new(BTreeSet::new());

fn own() -> MutexGuard<'static, BTreeSet<String>> {
    OWN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A location that this process has locked.
struct HeldLock {
    place: String,
    _file: File,
}

impl Drop for HeldLock {
    fn drop(&mut self) {
        own().remove(&self.place);
    }
}

impl UnitLock for Locks {
    /// Without a lock file the work goes on with a warning: the lock is advisory.
    fn hold(&self, location: &Location, warn: &mut dyn FnMut(Warning)) -> Result<Box<dyn Any + Send>, String> {
        let place = location.to_string();
        let mut file = match Self::file(&place, "lock") {
            Ok(file) => file,
            Err(reason) => {
                warn(Warning::NotLocked { reason });
                return Ok(Box::new(()));
            }
        };
        match lock(&file) {
            Ok(()) => {
                sign(&mut file);
                warn_of_other_users(warn);
                own().insert(place.clone());
                Ok(Box::new(HeldLock { place, _file: file }))
            }
            Err(TryLockError::WouldBlock) => Err(holder(&mut file)),
            Err(TryLockError::Error(error)) => {
                warn(Warning::NotLocked { reason: error.to_string() });
                Ok(Box::new(()))
            }
        }
    }

    fn held_elsewhere(&self, location: &Location) -> Option<String> {
        let place = location.to_string();
        if own().contains(&place) { None } else { Self::holder_of(&place, "lock") }
    }

    fn want(&self, bus: &str) -> Box<dyn Any + Send> {
        let Ok(mut file) = Self::file(bus, "wanted") else { return Box::new(()) };
        // Several processes may want a unit; one announcement is enough.
        if file.try_lock().is_ok() {
            sign(&mut file);
        }
        Box::new(file)
    }
}

/// Says once for each lock folder that it does not exclude other users. The runtime folder of a
/// user is new after each login.
fn warn_of_other_users(warn: &mut dyn FnMut(Warning)) {
    if let Ok(folder @ LockFolder::Own { not_shared, .. }) = &*FOLDER
        && folder.is_first_use()
    {
        warn(Warning::OtherUsersNotExcluded { reason: not_shared.clone() });
    }
}

/// Locks a file. Another process may hold the lock briefly just to check it, so a failure is
/// retried once.
fn lock(file: &File) -> Result<(), TryLockError> {
    file.try_lock().or_else(|_| {
        std::thread::sleep(Duration::from_millis(20));
        file.try_lock()
    })
}

impl Locks {
    /// The lock file of a unit, or of a request for any unit of a bus.
    fn file(of: &str, ending: &str) -> Result<File, String> {
        FOLDER.as_ref().map_err(Clone::clone)?.open(&state_dir::file_name(of, ending))
    }

    /// The other process that works on a unit, or waits for one on its bus.
    pub fn wanted(location: &Location) -> Option<String> {
        Self::holder_of(&location.to_string(), "lock").or_else(|| Self::holder_of(&location.bus, "wanted"))
    }

    /// The process that holds a lock, as text; `None` if it is free.
    fn holder_of(of: &str, ending: &str) -> Option<String> {
        let mut file = Self::file(of, ending).ok()?;
        matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock)).then(|| holder(&mut file))
    }
}

/// Writes the name of the process that holds the lock.
fn sign(file: &mut File) {
    let words = std::env::args_os().skip(1);
    let command: Vec<String> = words.map(|word| vaka_base::text::sanitize(&word.to_string_lossy())).collect();
    let text = format!("process {}: vaka {}", std::process::id(), command.join(" "));
    // The name is only for messages; the lock works without it.
    let _ = file.set_len(0).and_then(|()| file.write_all(text.as_bytes()));
}

fn holder(file: &mut File) -> String {
    let mut text = String::new();
    let _ = file.rewind().and_then(|()| file.take(300).read_to_string(&mut text));
    let text = vaka_base::text::sanitize(&text);
    if text.is_empty() { "another vaka".to_owned() } else { text }
}
