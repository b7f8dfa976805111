//! Files with the content that a unit has, and their names.

use std::cell::Cell;
use std::path::{Path, PathBuf};

use vaka_core::event::{FailureText, Report};
use vaka_image::Image;

use crate::args::Output;
use crate::cli_error::CliError;
use crate::files;

/// Characters of a file name on every system; others become `-`. Source: POSIX, 3.265, without `_`, which
/// separates the parts.
fn is_plain(c: char) -> bool {
    c.is_ascii_alphanumeric() || matches!(c, '.' | '-')
}

/// Longest part of a name that comes from a unit; a file name has at most 255 bytes. Chosen by us.
const MOST_PART: usize = 48;

/// A text as a part of a file name.
fn plain(text: &str) -> String {
    text.chars().take(MOST_PART).map(|c| if is_plain(c) { c } else { '-' }).collect()
}

/// The unit in a dated name.
#[derive(Clone, Copy, Debug, Default)]
pub struct Origin<'a> {
    pub serial: Option<&'a str>,
    pub version: Option<&'a str>,
}

/// A name with serial number, version and time: `before_T1-00217_1.4.0_20261123T091500Z.hex`.
pub fn dated(path: &Path, origin: Origin<'_>, time: jiff::Timestamp) -> PathBuf {
    let name = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let parts = [Some(name), origin.serial.map(plain), origin.version.map(plain), Some(stamp(time))];
    let name = parts.into_iter().flatten().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("_");
    let ending = path.extension().map(|ending| format!(".{}", ending.to_string_lossy())).unwrap_or_default();
    path.with_file_name(format!("{name}{ending}"))
}

/// The form of a time in a dated name. Source: ISO 8601-1, basic format.
const STAMP: &str = "%Y%m%dT%H%M%SZ";

fn stamp(time: jiff::Timestamp) -> String {
    time.strftime(STAMP).to_string()
}

/// The time in a dated name.
pub fn date_in(name: &str) -> Option<jiff::Timestamp> {
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    let last = stem.rsplit('_').next()?;
    jiff::civil::DateTime::strptime(STAMP, last).ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|at| at.timestamp())
}

/// The place of the present content of a unit before an update.
pub enum Backup<'a> {
    /// This file; those of later stages get a number.
    File { path: &'a Path, dated: bool, count: Cell<u32> },
    /// A file for each unit in this folder, with a dated name.
    Folder(&'a Path),
}

impl<'a> Backup<'a> {
    /// A file.
    ///
    /// # Errors
    /// The file exists, or its ending is that of no format.
    pub fn into_file(path: &'a Path, dated: bool) -> Result<Self, CliError> {
        files::may_write(path, &Output::default())?;
        Ok(Self::File { path, dated, count: Cell::new(0) })
    }

    /// A folder, which is created if it does not exist.
    pub fn into_folder(path: &'a Path) -> Self {
        Self::Folder(path)
    }

    /// Stores the content; returns the name of the file.
    ///
    /// # Errors
    /// It cannot be stored.
    pub fn store(&self, image: &Image, report: &Report) -> Result<String, FailureText> {
        let version = report.version_before.as_ref().map(ToString::to_string);
        let origin = Origin { serial: report.serial.as_deref(), version: version.as_deref() };
        let to = self.path(report, origin);
        if let Self::Folder(folder) = self {
            std::fs::create_dir_all(folder).map_err(|error| CliError::file(folder, error).0)?;
        }
        files::write(image, &to, &Output::default()).map_err(|problem| problem.0)?;
        Ok(to.display().to_string())
    }

    fn path(&self, report: &Report, origin: Origin<'_>) -> PathBuf {
        match self {
            Self::Folder(folder) => {
                let product = report.product.as_deref().unwrap_or("unit");
                let place = report.unit.as_deref().filter(|_| origin.serial.is_none());
                let name: String = format!("{product} {}", place.unwrap_or_default()).trim().replace(' ', "-");
                dated(&folder.join(format!("{}.hex", plain(&name))), origin, jiff::Timestamp::now())
            }
            Self::File { path, dated: true, .. } => dated(path, origin, jiff::Timestamp::now()),
            Self::File { path, count, .. } => {
                count.set(count.get() + 1);
                numbered(path, count.get())
            }
        }
    }
}

/// Stores the content in the backup that was asked for.
///
/// # Errors
/// It cannot be stored.
pub fn stored(backup: Option<&Backup<'_>>, image: &Image, report: &Report) -> Result<String, FailureText> {
    backup.ok_or_else(|| CliError::internal("no backup was asked for").0)?.store(image, report)
}

/// The name of the backup of a stage: `before.hex`, then `before-2.hex`.
fn numbered(path: &Path, count: u32) -> PathBuf {
    let (stem, ending) = (path.file_stem().unwrap_or_default(), path.extension());
    match (count, ending) {
        (1, _) => path.to_owned(),
        (_, Some(ending)) => {
            path.with_file_name(format!("{}-{count}.{}", stem.to_string_lossy(), ending.to_string_lossy()))
        }
        (_, None) => path.with_file_name(format!("{}-{count}", stem.to_string_lossy())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dated_name_tells_unit_version_and_time() {
        let time = "2026-11-23T09:15:00Z".parse().unwrap();
        let origin = Origin { serial: Some("T1/002 17"), version: Some("1.4.0") };
        let path = dated(Path::new("saved/before.hex"), origin, time);
        assert_eq!(path, Path::new("saved/before_T1-002-17_1.4.0_20261123T091500Z.hex"));
        assert_eq!(date_in(path.file_name().unwrap().to_str().unwrap()), Some(time));
        assert_eq!(dated(Path::new("before"), Origin::default(), time), Path::new("before_20261123T091500Z"));
        let long = "../".repeat(100);
        let path = dated(Path::new("a.hex"), Origin { serial: Some(&long), version: Some(&long) }, time);
        assert!(path.components().count() == 1 && path.as_os_str().len() < 140, "{path:?}");
        for name in ["before.hex", "tern-1.5.0.hex", "a_20261399T091500Z.bin", ""] {
            assert_eq!(date_in(name), None, "{name}");
        }
    }

    #[test]
    fn the_backups_of_later_stages_have_a_number() {
        assert_eq!(numbered(Path::new("a/before.hex"), 1), Path::new("a/before.hex"));
        assert_eq!(numbered(Path::new("a/before.hex"), 2), Path::new("a/before-2.hex"));
    }
}
