//! One unit, one process: an advisory lock for each place on a bus.

use std::any::Any;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::PathBuf;

use vaka_boot::bench::Guard;
use vaka_usb::Location;

use crate::state;

/// Locks files in the user's runtime folder, or the system's temporary one.
pub struct Locks;

fn folder() -> PathBuf {
    let runtime = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|folder| folder.is_dir());
    runtime.map_or_else(|| std::env::temp_dir().join("vaka-locks"), |folder| folder.join("vaka"))
}

impl Guard for Locks {
    /// A folder that cannot be written locks nobody out: the lock only helps.
    fn hold(&self, location: &Location) -> Result<Box<dyn Any + Send>, String> {
        let folder = folder();
        let opened = std::fs::create_dir_all(&folder).and_then(|()| {
            OpenOptions::new()
                .read(true)
                .write(true)
                .create(true)
                .truncate(false)
                .open(folder.join(state::file_name(&location.to_string(), "lock")))
        });
        let Ok(mut file) = opened else { return Ok(Box::new(())) };
        match file.try_lock() {
            Ok(()) => {
                sign(&mut file);
                Ok(Box::new(file))
            }
            Err(TryLockError::WouldBlock) => Err(holder(&mut file)),
            Err(TryLockError::Error(_)) => Ok(Box::new(())),
        }
    }
}

/// Writes down who holds the lock.
fn sign(file: &mut File) {
    let command: Vec<String> = std::env::args().skip(1).map(|word| vaka_core::text::tame(&word)).collect();
    let text = format!("process {}: vaka {}", std::process::id(), command.join(" "));
    // Only words for a message; the lock holds without them.
    let _ = file.set_len(0).and_then(|()| file.write_all(text.as_bytes()));
}

fn holder(file: &mut File) -> String {
    let mut text = String::new();
    let _ = file.rewind().and_then(|()| file.take(300).read_to_string(&mut text));
    let text = vaka_core::text::tame(&text);
    if text.is_empty() { "another vaka".to_owned() } else { text }
}
