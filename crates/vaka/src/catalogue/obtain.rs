//! The file of a listed release: from its folder, from the cache, or downloaded.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use vaka_base::checksum::Sha256;
use vaka_base::text;
use vaka_core::release::catalogue::ListedRelease;

use super::cache;
use super::http::{self, HttpError, Part};
use crate::args::{Common, OutputFormat, Place};
use crate::cli_error::CliError;
use crate::output_options::OutputOptions;
use crate::private_file;
use crate::render;
use vaka_messages::CommandError;

/// How often a transfer that was cut off is continued in one run. Chosen by us.
const MOST_CUTS: u32 = 5;

/// The path of a release with the digest that its catalogue states.
///
/// # Errors
/// The file is missing, has another content, or cannot be downloaded.
pub fn obtain(place: &Place, listed: &ListedRelease, common: &Common) -> Result<PathBuf, CliError> {
    match place {
        Place::Folder(folder) => {
            let path = folder.join(&listed.file);
            check(&path, listed)?;
            Ok(path)
        }
        Place::Web(base) => downloaded(&format!("{base}{}", listed.file), listed, common),
    }
}

/// The same, and of a web address downloaded now.
///
/// # Errors
/// As of [`obtain`].
pub fn obtain_now(place: &Place, listed: &ListedRelease, common: &Common) -> Result<PathBuf, CliError> {
    if let (Place::Web(_), Ok(path)) = (place, cache::release(listed)) {
        // A file that stays in the cache would be used in place of the one that the server sends.
        match fs::remove_file(&path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(CliError::file(&path, error)),
            _ => {}
        }
    }
    obtain(place, listed, common)
}

/// The path of a release that is on this computer, complete and unchanged.
pub fn local(place: &Place, listed: &ListedRelease) -> Option<PathBuf> {
    let path = match place {
        Place::Folder(folder) => folder.join(&listed.file),
        Place::Web(_) => cache::release(listed).ok()?,
    };
    check(&path, listed).is_ok().then_some(path)
}

/// Checks size and digest of a file.
fn check(path: &Path, listed: &ListedRelease) -> Result<(), CliError> {
    let size = path.metadata().map_err(|error| CliError::file(path, error))?.len();
    let wrong = |reason: String| CliError::from(CommandError::Listed { path: path.to_owned(), reason });
    if size != listed.size {
        return Err(wrong(format!("the file has {size} bytes, and the catalogue lists {}", listed.size)));
    }
    if digest_of(path).map_err(|error| CliError::file(path, error))? != listed.sha256 {
        return Err(wrong("the SHA-256 of the file is not that of the catalogue".to_owned()));
    }
    Ok(())
}

fn digest_of(path: &Path) -> io::Result<String> {
    let mut file = File::open(path)?;
    let mut digest = Sha256::default();
    let mut piece = vec![0; 128 * 1024];
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(text::hex(&digest.finish())),
            count => digest.update(&piece[..count]),
        }
    }
}

/// The file in the cache; it is downloaded if it is not there.
fn downloaded(url: &str, listed: &ListedRelease, common: &Common) -> Result<PathBuf, CliError> {
    let path = cache::release(listed).map_err(|error| no_cache(&error))?;
    if path.is_file() && check(&path, listed).is_ok() {
        return Ok(path);
    }
    let part = cache::part(&path);
    let mut download = Download { url, listed, part: &part, progress: Progress::new(listed, common) };
    let done = download.run();
    render::progress::clear();
    done.map_err(|error| failed(url, &error, &part))?;
    fs::rename(&part, &path).map_err(|error| CliError::file(&path, error))?;
    cache::tidy();
    Ok(path)
}

fn no_cache(error: &io::Error) -> CliError {
    CliError::internal(format!("Downloads cannot be stored: {error}."))
}

fn failed(url: &str, error: &DownloadError, part: &Path) -> CliError {
    let kept = part.metadata().map_or(0, |found| found.len());
    let stopped = *error == DownloadError::Transfer(HttpError::Stopped);
    CommandError::Download { url: url.to_owned(), reason: error.to_string(), kept, stopped }.into()
}

/// Why a downloaded file is not used.
#[derive(Clone, Debug, PartialEq, Eq)]
enum DownloadError {
    Transfer(HttpError),
    Short(u64, u64),
    Digest,
}

impl std::fmt::Display for DownloadError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Transfer(error) => error.fmt(f),
            Self::Short(found, wanted) => write!(f, "the server sends {found} bytes, and the catalogue lists {wanted}"),
            Self::Digest => f.write_str("the SHA-256 of the downloaded file is not that of the catalogue"),
        }
    }
}

struct Download<'a> {
    url: &'a str,
    listed: &'a ListedRelease,
    part: &'a Path,
    progress: Progress,
}

impl Download<'_> {
    /// Downloads the file, from where an earlier run was cut off.
    fn run(&mut self) -> Result<(), DownloadError> {
        let before = self.part.metadata().map_or(0, |found| found.len());
        if before > self.listed.size {
            self.forget();
        }
        let is_continued = before > 0;
        self.transferred()?;
        let found = self.part.metadata().map_or(0, |found| found.len());
        let is_right = digest_of(self.part).is_ok_and(|digest| digest == self.listed.sha256);
        match (found == self.listed.size, is_right) {
            (true, true) => Ok(()),
            // The earlier part may be of another file.
            _ if is_continued => {
                self.forget();
                self.run()
            }
            (false, _) => {
                self.forget();
                Err(DownloadError::Short(found, self.listed.size))
            }
            (true, false) => {
                self.forget();
                Err(DownloadError::Digest)
            }
        }
    }

    fn forget(&self) {
        // The next transfer reports an error of the storage.
        let _ = fs::remove_file(self.part);
    }

    /// Transfers the rest of the file. A transfer that was cut off is continued.
    fn transferred(&mut self) -> Result<(), DownloadError> {
        let mut cuts = 0;
        loop {
            let at = self.part.metadata().map_or(0, |found| found.len());
            if at == self.listed.size {
                return Ok(());
            }
            match self.piece(at) {
                Err(error) if error.is_passing() && cuts < MOST_CUTS => {
                    let now = self.part.metadata().map_or(0, |found| found.len());
                    // A server that sends nothing more is not asked again.
                    if now <= at {
                        return Err(DownloadError::Transfer(error));
                    }
                    cuts += 1;
                }
                Err(error) => {
                    if matches!(error, HttpError::TooLarge(_)) {
                        self.forget();
                    }
                    return Err(DownloadError::Transfer(error));
                }
                Ok(()) => return Ok(()),
            }
        }
    }

    /// One request, for the file from byte `at` on.
    fn piece(&mut self, at: u64) -> Result<(), HttpError> {
        let storage = |error: io::Error| HttpError::Storage(error.to_string());
        let mut open: Option<File> = None;
        let mut place = at;
        let (most, progress) = (self.listed.size, &mut self.progress);
        http::get(self.url, at, &mut |part| {
            let data = match part {
                Part::Start(start) => {
                    place = start;
                    open = Some(open_part(self.part, start).map_err(storage)?);
                    return Ok(());
                }
                Part::Data(data) => data,
            };
            place += data.len() as u64;
            if place > most {
                return Err(HttpError::TooLarge(most));
            }
            progress.show(place);
            open.as_mut().map_or(Ok(()), |file| file.write_all(data)).map_err(storage)
        })
    }
}

/// Opens the file for the bytes from `start` on.
fn open_part(path: &Path, start: u64) -> io::Result<File> {
    let mut file = private_file::open(private_file::options().write(true).create(true), path)?;
    file.set_len(start)?;
    file.seek(SeekFrom::Start(start))?;
    Ok(file)
}

/// The progress of a download, drawn or as events.
struct Progress {
    name: String,
    total: u64,
    format: OutputFormat,
    is_drawn: bool,
    /// Tenths of the file that were told.
    told: u64,
}

impl Progress {
    fn new(listed: &ListedRelease, common: &Common) -> Self {
        let is_drawn = OutputOptions::new(common).live && !common.quiet;
        Self { name: listed.file.clone(), total: listed.size, format: common.format, is_drawn, told: 0 }
    }

    fn show(&mut self, done: u64) {
        if self.is_drawn {
            render::progress::bytes("download", &self.name, done, self.total);
        }
        let tenths = done * 10 / self.total.max(1);
        if self.format == OutputFormat::Json && tenths > self.told {
            self.told = tenths;
            let event =
                serde_json::json!({ "event": "download", "file": self.name, "done": done, "total": self.total });
            render::json::line(&event);
        }
    }
}
