//! Reading of files that the user names, or that lie in a folder that the user names.
//!
//! Every file has a largest size. In a folder only regular files count: opening a pipe would wait
//! for ever.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use vaka_base::document::MOST_BYTES;
use vaka_image::{Image, StreamingReader};

use crate::cli_error::CliError;
use vaka_messages::CommandError;

/// Largest firmware file, release, trace or settings file: 1 GiB.
pub const MOST_FIRMWARE: u64 = 1 << 30;

/// Reads at most `limit` bytes, also of a pipe or a device.
///
/// # Errors
/// `FileTooLarge`: there are more. Or the file cannot be read.
pub fn bytes(path: &Path, limit: u64) -> io::Result<Vec<u8>> {
    let file = File::open(path)?;
    let size = file.metadata()?.len();
    let mut bytes = Vec::with_capacity(usize::try_from(size.min(limit)).unwrap_or(0));
    file.take(limit + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > limit {
        return Err(io::Error::from(io::ErrorKind::FileTooLarge));
    }
    Ok(bytes)
}

/// Reads a description: a sheet, a dialect, a scene, a key, the configuration.
pub fn text(path: &Path) -> Result<String, CliError> {
    text_up_to(path, MOST_BYTES as u64)
}

/// Reads a record of a run, which may be as large as firmware.
pub fn record(path: &Path) -> Result<String, CliError> {
    text_up_to(path, MOST_FIRMWARE)
}

fn text_up_to(path: &Path, limit: u64) -> Result<String, CliError> {
    let bytes = bytes(path, limit).map_err(|error| unread(path, error, limit))?;
    String::from_utf8(bytes).map_err(|_| CliError::file(path, io::Error::other("this is not a text in UTF-8")))
}

/// Reads a firmware file.
pub fn firmware(path: &Path) -> Result<Vec<u8>, CliError> {
    bytes(path, MOST_FIRMWARE).map_err(|error| unread(path, error, MOST_FIRMWARE))
}

fn unread(path: &Path, error: io::Error, limit: u64) -> CliError {
    match error.kind() {
        io::ErrorKind::FileTooLarge => CommandError::TooLarge { path: path.to_owned(), limit }.into(),
        _ => CliError::file(path, error),
    }
}

/// The regular files of a folder that `is_wanted`, by name.
pub fn in_folder(folder: &Path, is_wanted: &dyn Fn(&Path) -> bool) -> Result<Vec<PathBuf>, CliError> {
    let entries = std::fs::read_dir(folder).map_err(|error| CliError::file(folder, error))?;
    let mut files = Vec::new();
    for entry in entries {
        let file = entry.map_err(|error| CliError::file(folder, error))?.path();
        if is_wanted(&file) && file.is_file() {
            files.push(file);
        }
    }
    files.sort();
    Ok(files)
}

/// Reads Intel HEX or S-record in parts, because such files are three times the size of their
/// content. `None` for other files and for files with errors: reading the whole file reports
/// them.
pub fn in_pieces(path: &Path) -> Option<Image> {
    const PIECE: usize = 128 * 1024;
    let mut file = File::open(path).ok()?;
    // A DFU suffix at the end makes it another format.
    let mut tail = [0; 16];
    if file.seek(SeekFrom::End(-16)).is_ok() {
        file.read_exact(&mut tail).ok()?;
    }
    file.rewind().ok()?;
    let mut piece = vec![0; PIECE];
    let mut reader = None;
    loop {
        let count = file.read(&mut piece).ok()?;
        if count == 0 {
            return reader.and_then(|reader: StreamingReader| reader.finish().ok()?);
        }
        if reader.is_none() {
            reader = StreamingReader::for_head(&piece[..count]).filter(|_| &tail[8..11] != b"UFD");
        }
        reader.as_mut()?.feed(&piece[..count]).ok()?;
    }
}
