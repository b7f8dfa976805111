//! An advisory lock for each location on a bus, so that one process at a time works on a unit.

use std::any::Any;
use std::collections::BTreeSet;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use vaka_boot::bench::lock::UnitLock;
use vaka_usb::Location;

use crate::state_dir;

/// Locks files in the user's runtime folder, or the system's temporary one.
pub struct Locks;

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

fn folder() -> PathBuf {
    let runtime = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|folder| folder.is_dir());
    runtime.map_or_else(|| std::env::temp_dir().join("vaka-locks"), |folder| folder.join("vaka"))
}

impl UnitLock for Locks {
    /// If the directory is not writable, go on unlocked; the lock is advisory.
    fn hold(&self, location: &Location) -> Result<Box<dyn Any + Send>, String> {
        let Some(mut file) = Self::file(&location.to_string(), "lock") else { return Ok(Box::new(())) };
        match lock(&file) {
            Ok(()) => {
                sign(&mut file);
                let place = location.to_string();
                own().insert(place.clone());
                Ok(Box::new(HeldLock { place, _file: file }))
            }
            Err(TryLockError::WouldBlock) => Err(holder(&mut file)),
            Err(TryLockError::Error(_)) => Ok(Box::new(())),
        }
    }

    fn held_elsewhere(&self, location: &Location) -> Option<String> {
        let place = location.to_string();
        if own().contains(&place) { None } else { Self::holder_of(&place, "lock") }
    }

    fn want(&self, bus: &str) -> Box<dyn Any + Send> {
        let Some(mut file) = Self::file(bus, "wanted") else { return Box::new(()) };
        // Several processes may want a unit; one announcement is enough.
        if file.try_lock().is_ok() {
            sign(&mut file);
        }
        Box::new(file)
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
    fn file(of: &str, ending: &str) -> Option<File> {
        let folder = folder();
        std::fs::create_dir_all(&folder).ok()?;
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false);
        options.open(folder.join(state_dir::file_name(of, ending))).ok()
    }

    /// The other process that works on a unit, or waits for one on its bus.
    pub fn wanted(location: &Location) -> Option<String> {
        Self::holder_of(&location.to_string(), "lock").or_else(|| Self::holder_of(&location.bus, "wanted"))
    }

    /// The process that holds a lock, as text; `None` if it is free.
    fn holder_of(of: &str, ending: &str) -> Option<String> {
        let mut file = Self::file(of, ending)?;
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
