//! Downloaded catalogues and releases, in the user's cache folder.
//!
//! Nothing in it is trusted: a catalogue has a signature, and a release the digest that its catalogue states.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use etcetera::BaseStrategy;
use vaka_base::checksum::sha256;
use vaka_base::text;
use vaka_core::release::catalogue::ListedRelease;

use crate::private_file;

/// Most releases that are kept; the oldest are removed. Chosen by us.
const MOST_RELEASES: usize = 20;

/// A folder of the cache, created if it is missing.
fn folder(name: &str) -> io::Result<PathBuf> {
    let base = etcetera::choose_base_strategy();
    let base = base.map_err(|_| io::Error::other("this system has no cache folder"))?;
    let folder = base.cache_dir().join("vaka").join(name);
    private_file::create_folder(&folder)?;
    Ok(folder)
}

/// The file of the last catalogue from a web address.
pub fn catalogue(base: &str) -> io::Result<PathBuf> {
    let name = text::hex(&sha256(base)[..16]);
    Ok(folder("catalogues")?.join(format!("{name}.catalogue")))
}

/// The file of a release, which may be missing.
pub fn release(listed: &ListedRelease) -> io::Result<PathBuf> {
    let name = listed.file.rsplit('/').next().unwrap_or_default();
    let (stem, ending) = name.rsplit_once('.').unwrap_or((name, "vaka"));
    Ok(folder("releases")?.join(format!("{stem}-{}.{ending}", &listed.sha256[..16])))
}

/// The file of a release that is not complete.
pub fn part(release: &Path) -> PathBuf {
    let mut name = release.as_os_str().to_owned();
    name.push(".part");
    PathBuf::from(name)
}

/// Removes the files that were stored first. Files that another process has removed are no error.
pub fn tidy() {
    let Ok(folder) = folder("releases") else { return };
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let time = |entry: fs::DirEntry| Some((entry.metadata().ok()?.modified().ok()?, entry.path()));
    let mut files: Vec<_> = entries.filter_map(time).collect();
    files.sort();
    let surplus = files.len().saturating_sub(MOST_RELEASES);
    for (_, path) in &files[..surplus] {
        let _ = fs::remove_file(path);
    }
}
