//! Writing of files that the user names.
//!
//! A regular file appears completely or not at all. A link is followed, so that it stays a link;
//! a device or a pipe is written through.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// Whether a file that exists may be replaced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Existing {
    Keep,
    Replace,
}

/// The users that may read a new file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Readers {
    /// Those whom the umask of the user allows.
    Usual,
    /// Only the user.
    Owner,
}

/// Where the bytes of an output path go.
enum Destination {
    /// Standard output of this process.
    StandardOutput,
    /// A device, a pipe or a socket.
    Stream(PathBuf),
    /// A regular file, or a new one. Links in the path are resolved.
    File(PathBuf),
}

/// How many links in a row are followed; the Linux kernel follows as many (path_resolution(7)).
const MAX_LINKS: usize = 40;

fn destination(path: &Path) -> io::Result<Destination> {
    if is_standard_output(path) {
        return Ok(Destination::StandardOutput);
    }
    match fs::metadata(path) {
        Ok(found) if found.is_file() || found.is_dir() => fs::canonicalize(path).map(Destination::File),
        Ok(_) => Ok(Destination::Stream(path.to_owned())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => target_of(path).map(Destination::File),
        Err(error) => Err(error),
    }
}

/// Whether the bytes of this output path go to standard output.
pub fn is_standard_output(path: &Path) -> bool {
    ["/dev/stdout", "/dev/fd/1", "/proc/self/fd/1"].iter().any(|name| path == Path::new(name))
}

/// The new file that a link, or a chain of links, names.
fn target_of(path: &Path) -> io::Result<PathBuf> {
    let mut path = path.to_owned();
    for _ in 0..MAX_LINKS {
        match fs::read_link(&path) {
            Ok(next) => path = path.parent().unwrap_or(Path::new("")).join(next),
            Err(_) => return Ok(path),
        }
    }
    Err(io::Error::other("too many links"))
}

/// Checks whether a file may be created at a path.
///
/// # Errors
/// `AlreadyExists`: a regular file or a folder is there, and is not to be replaced.
pub fn may_create(path: &Path, existing: Existing) -> io::Result<()> {
    match destination(path)? {
        Destination::File(file) if existing == Existing::Keep && file.exists() => {
            Err(io::Error::from(io::ErrorKind::AlreadyExists))
        }
        _ => Ok(()),
    }
}

/// Writes the parts one after the other.
///
/// # Errors
/// As of [`may_create`], or the file cannot be written: then an earlier file is unchanged.
pub fn write(path: &Path, existing: Existing, parts: &[&[u8]]) -> io::Result<()> {
    match destination(path)? {
        Destination::StandardOutput => write_parts(&mut io::stdout().lock(), parts),
        Destination::Stream(path) => write_parts(&mut OpenOptions::new().write(true).open(path)?, parts),
        Destination::File(path) => write_here(&path, existing, parts),
    }
}

/// Writes a regular file at exactly this path: a link at the end of the path is not followed.
///
/// # Errors
/// As of [`write`].
pub fn write_here(path: &Path, existing: Existing, parts: &[&[u8]]) -> io::Result<()> {
    let mut file = temporary(folder_of(path))?;
    write_parts(file.as_file_mut(), parts)?;
    match existing {
        Existing::Replace => {
            keep_mode(path, file.as_file())?;
            file.persist(path)
        }
        Existing::Keep => file.persist_noclobber(path),
    }
    .map(drop)
    .map_err(|error| error.error)
}

/// Lets those execute a file who may read it. Other outputs, such as a pipe, stay as they are.
///
/// # Errors
/// The mode cannot be changed.
pub fn make_executable(path: &Path) -> io::Result<()> {
    #[cfg(unix)]
    if path.is_file() {
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(path)?.permissions().mode();
        return fs::set_permissions(path, fs::Permissions::from_mode(mode | (mode & 0o444) >> 2));
    }
    Ok(())
}

/// The folder of a path; `.` for a bare name.
fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

fn write_parts(out: &mut dyn Write, parts: &[&[u8]]) -> io::Result<()> {
    parts.iter().try_for_each(|part| out.write_all(part))?;
    out.flush()
}

/// Opens a new file for lines that are written as they arrive.
///
/// # Errors
/// `AlreadyExists`: a regular file is there. Or it cannot be created.
pub fn create(path: &Path, readers: Readers) -> io::Result<Box<dyn Write + Send>> {
    match destination(path)? {
        Destination::StandardOutput => Ok(Box::new(io::stdout())),
        Destination::Stream(path) => Ok(Box::new(OpenOptions::new().write(true).open(path)?)),
        Destination::File(path) => {
            let mut options = OpenOptions::new();
            options.write(true).create_new(true);
            #[cfg(unix)]
            std::os::unix::fs::OpenOptionsExt::mode(&mut options, mode(readers));
            Ok(Box::new(options.open(path)?))
        }
    }
}

/// The mode before the umask takes bits away.
#[cfg(unix)]
fn mode(readers: Readers) -> u32 {
    match readers {
        Readers::Usual => 0o666,
        Readers::Owner => crate::private_file::PRIVATE_FILE,
    }
}

#[cfg(unix)]
fn temporary(folder: &Path) -> io::Result<tempfile::NamedTempFile> {
    use std::os::unix::fs::PermissionsExt;
    let permissions = fs::Permissions::from_mode(mode(Readers::Usual));
    tempfile::Builder::new().prefix(".vaka-").permissions(permissions).tempfile_in(folder)
}

#[cfg(not(unix))]
fn temporary(folder: &Path) -> io::Result<tempfile::NamedTempFile> {
    tempfile::Builder::new().prefix(".vaka-").tempfile_in(folder)
}

/// Gives a file the mode of the one that it replaces, without set-user-id and the like.
#[cfg(unix)]
fn keep_mode(replaced: &Path, file: &File) -> io::Result<()> {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    match fs::metadata(replaced) {
        Ok(found) => file.set_permissions(fs::Permissions::from_mode(found.mode() & 0o777)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    }
}

#[cfg(not(unix))]
fn keep_mode(_: &Path, _: &File) -> io::Result<()> {
    Ok(())
}
