//! Where lock files are: one folder for all users of the machine if an administrator made it, else
//! a folder of this user.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use crate::private_file;

/// The folder that all users share. A package creates it with mode 1777; users cannot, because
/// only root writes in `/run`.
const SHARED: &str = "/run/vaka";

/// A folder that is safe to lock files in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LockFolder {
    /// All users of the machine may lock files in it.
    Shared(PathBuf),
    /// Only this user may.
    Own {
        path: PathBuf,
        /// Why the shared folder is not used; `None` if there is none.
        not_shared: Option<String>,
    },
}

impl LockFolder {
    /// The shared folder if it exists, else this user's own, which is created.
    ///
    /// # Errors
    /// No folder is safe: the text has the path and the reason.
    pub fn find() -> Result<Self, String> {
        let shared = Path::new(SHARED);
        let not_shared = match is_shared(shared) {
            Ok(()) => return Ok(Self::Shared(shared.to_owned())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => Some(told(shared, &error)),
        };
        let path = own_folder();
        make_own(&path).map_err(|error| told(&path, &error))?;
        Ok(Self::Own { path, not_shared })
    }

    fn path(&self) -> &Path {
        match self {
            Self::Shared(path) | Self::Own { path, .. } => path,
        }
    }

    /// Opens a lock file; creates it if it is missing.
    ///
    /// # Errors
    /// The file cannot be opened, or another user may have prepared it to damage a third file.
    pub fn open(&self, name: &str) -> Result<File, String> {
        let path = self.path().join(name);
        let opened = match self {
            Self::Own { .. } => open_own(&path),
            Self::Shared(_) => open_shared(&path),
        };
        opened.map_err(|error| told(&path, &error))
    }

    /// Whether this is the first call for this folder: then the user learns what it excludes.
    pub fn is_first_use(&self) -> bool {
        private_file::create_new(&self.path().join("first-use")).is_ok()
    }
}

fn told(path: &Path, error: &io::Error) -> String {
    format!("{}: {error}", path.display())
}

#[cfg(unix)]
mod unix {
    use std::fs::{File, Metadata};
    use std::io;
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    use std::path::{Path, PathBuf};

    use crate::private_file;

    fn refuse(why: &'static str) -> io::Error {
        io::Error::new(io::ErrorKind::PermissionDenied, why)
    }

    /// A directory, and not a link to one.
    fn real_folder(path: &Path) -> io::Result<Metadata> {
        let found = std::fs::symlink_metadata(path)?;
        if found.is_dir() { Ok(found) } else { Err(refuse("this is not a directory")) }
    }

    /// A shared folder belongs to root, and users cannot remove the files of others.
    pub fn is_shared(path: &Path) -> io::Result<()> {
        const STICKY: u32 = 0o1000;
        let found = real_folder(path)?;
        if found.uid() != 0 {
            return Err(refuse("this directory does not belong to root"));
        }
        if found.mode() & 0o022 != 0 && found.mode() & STICKY == 0 {
            return Err(refuse("users can remove the locks of others here (mode 1777 prevents that)"));
        }
        Ok(())
    }

    /// The user's runtime folder, in which only the user writes.
    fn runtime_folder() -> Option<PathBuf> {
        let set = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from);
        let usual = PathBuf::from(format!("/run/user/{}", private_file::user()));
        let is_safe = |path: &PathBuf| {
            path.is_absolute()
                && std::fs::metadata(path).is_ok_and(|found| {
                    found.is_dir() && found.uid() == private_file::user() && found.mode() & 0o022 == 0
                })
        };
        set.into_iter().chain([usual]).find(is_safe)
    }

    pub fn own_folder() -> PathBuf {
        let by_name = || std::env::temp_dir().join(format!("vaka-locks-{}", private_file::user()));
        runtime_folder().map_or_else(by_name, |folder| folder.join("vaka"))
    }

    /// Creates the folder, and checks that no other user prepared it.
    pub fn make_own(path: &Path) -> io::Result<()> {
        let created = private_file::create_folder(path);
        let found = real_folder(path)?;
        if found.uid() != private_file::user() {
            return Err(refuse("this directory belongs to another user"));
        }
        created?;
        if std::fs::symlink_metadata(path)?.mode() & 0o077 != 0 {
            return Err(refuse("other users can change this directory"));
        }
        Ok(())
    }

    pub fn open_own(path: &Path) -> io::Result<File> {
        let file = private_file::open(private_file::options().write(true).create(true).truncate(false), path)?;
        let found = file.metadata()?;
        private_file::plain(&found)?;
        if found.uid() != private_file::user() {
            return Err(refuse("this file belongs to another user"));
        }
        Ok(file)
    }

    /// Locking needs no more than the right to read. The right to write lets each user leave a name
    /// for messages.
    pub fn open_shared(path: &Path) -> io::Result<File> {
        let created = private_file::options().write(true).create_new(true).open(path);
        let file = match created {
            Ok(file) => {
                // Other users lock the same file, whatever this user's umask is.
                file.set_permissions(std::fs::Permissions::from_mode(0o666))?;
                file
            }
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => open_existing(path)?,
            Err(error) => return Err(error),
        };
        private_file::plain(&file.metadata()?)?;
        Ok(file)
    }

    fn open_existing(path: &Path) -> io::Result<File> {
        let writable = private_file::options().write(true).open(path);
        writable.or_else(|_| private_file::open(&private_file::options(), path))
    }
}

#[cfg(unix)]
use unix::{is_shared, make_own, open_own, open_shared, own_folder};

#[cfg(not(unix))]
mod other {
    use std::io;
    use std::path::{Path, PathBuf};

    use crate::private_file;

    pub fn is_shared(_: &Path) -> io::Result<()> {
        Err(io::Error::from(io::ErrorKind::NotFound))
    }

    pub fn own_folder() -> PathBuf {
        std::env::temp_dir().join("vaka-locks")
    }

    pub fn make_own(path: &Path) -> io::Result<()> {
        private_file::create_folder(path)
    }

    pub fn open_own(path: &Path) -> io::Result<File> {
        let file = private_file::open(private_file::options().write(true).create(true).truncate(false), path)?;
        Ok(file)
    }

    pub fn open_shared(path: &Path) -> io::Result<File> {
        open_own(path)
    }
}

#[cfg(not(unix))]
use other::{is_shared, make_own, open_own, open_shared, own_folder};
