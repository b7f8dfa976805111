//! Files and folders that belong to one user: locks, the journal, preserved content, keys.
//!
//! Other users of the machine may have prepared links, pipes or files of their own at the same
//! paths. Nothing here follows such a link or opens such a file.

use std::fs::{DirBuilder, File, Metadata, OpenOptions};
use std::io;
use std::path::Path;

/// Mode of files that only this user may read.
pub const PRIVATE_FILE: u32 = 0o600;

/// Creates a folder for this user only (mode 0700), and the folders above it with the usual mode.
/// A folder of this user that others may enter is closed to them.
///
/// # Errors
/// The folder cannot be created, or the path is not a folder.
pub fn create_folder(path: &Path) -> io::Result<()> {
    if let Some(above) = path.parent() {
        std::fs::create_dir_all(above)?;
    }
    match private_folder_builder().create(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => close_to_others(path),
        other => other,
    }
}

fn private_folder_builder() -> DirBuilder {
    #[allow(unused_mut)] // only Unix sets a mode
    let mut builder = DirBuilder::new();
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder
}

#[cfg(unix)]
fn close_to_others(path: &Path) -> io::Result<()> {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    let found = std::fs::metadata(path)?;
    if !found.is_dir() {
        return Err(io::Error::from(io::ErrorKind::NotADirectory));
    }
    if found.uid() == user() && found.mode() & 0o077 != 0 {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o700))?;
    }
    Ok(())
}

#[cfg(not(unix))]
fn close_to_others(path: &Path) -> io::Result<()> {
    if path.is_dir() { Ok(()) } else { Err(io::Error::from(io::ErrorKind::NotADirectory)) }
}

/// The user whose rights this process has.
#[cfg(unix)]
pub fn user() -> u32 {
    nix::unistd::geteuid().as_raw()
}

/// Options that neither follow a link at the end of the path nor wait for the other end of a pipe.
/// A created file is for this user only.
pub fn options() -> OpenOptions {
    let mut options = OpenOptions::new();
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        // The standard library adds O_CLOEXEC.
        options.custom_flags(nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK).mode(PRIVATE_FILE);
    }
    options.read(true);
    options
}

/// Opens a file, and names a link by its name.
///
/// # Errors
/// As of [`OpenOptions::open`].
pub fn open(options: &OpenOptions, path: &Path) -> io::Result<File> {
    options.open(path).map_err(|error| match std::fs::symlink_metadata(path) {
        Ok(found) if found.is_symlink() => io::Error::new(io::ErrorKind::InvalidInput, "this is a link"),
        _ => error,
    })
}

/// Opens a file for appending and reading; creates it for this user only.
///
/// # Errors
/// The file cannot be opened, or is not a plain file: a link, a pipe, a device, or a file that has
/// a second name.
pub fn open_to_append(path: &Path) -> io::Result<File> {
    let file = open(options().append(true).create(true), path)?;
    plain(&file.metadata()?)?;
    Ok(file)
}

/// Creates a new file for this user only.
///
/// # Errors
/// The path exists already, also as a link, or the file cannot be created.
pub fn create_new(path: &Path) -> io::Result<File> {
    options().write(true).create_new(true).open(path)
}

/// Writes a file for this user only, completely or not at all. It replaces an earlier one, or a
/// link.
///
/// # Errors
/// The file cannot be written: then an earlier one is unchanged.
pub fn write(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let mut file = tempfile::Builder::new().prefix(".vaka-").tempfile_in(folder)?;
    io::Write::write_all(&mut file, bytes)?;
    file.persist(path).map(drop).map_err(|error| error.error)
}

/// Checks that a file is regular and has one name only.
///
/// # Errors
/// It is not.
pub fn plain(found: &Metadata) -> io::Result<()> {
    if !found.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "the path is not a regular file"));
    }
    #[cfg(unix)]
    if std::os::unix::fs::MetadataExt::nlink(found) != 1 {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, "the file has a second name (a hard link)"));
    }
    Ok(())
}
