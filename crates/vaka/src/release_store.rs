//! Releases as files: finding, reading, trusting, and the sheet that goes with one.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use vaka_boot::bench::buses::Bench;
use vaka_core::event::SelectedRelease;
use vaka_core::release::archive::Source;
use vaka_core::release::catalogue::ListedRelease;
use vaka_core::release::{Candidate, Release, ReleaseQuery, VersionSelector, choose, inconsistencies};
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::Dialect;

use crate::args::{Common, Place, Releases};
use crate::catalogue::{self, CheckedCatalogue};
use crate::cli_error::CliError;
use crate::environment;
use crate::input_file;
use crate::journal;
use crate::keyring;
use crate::origin;
use crate::release_trust;
use vaka_messages::CommandError;

/// The ending of release file names.
pub const ENDING: &str = "vaka";

/// A release with its path.
pub struct Found {
    pub path: PathBuf,
    pub release: Release,
    /// Other releases of the same product, and files of the folder that are not used, as text.
    pub others: Vec<String>,
}

impl Found {
    /// The digest of the file, for a journal that is written; `None` for a plan.
    ///
    /// # Errors
    /// The file was changed since it was opened, or cannot be read.
    pub fn recorded_digest(&self, plan_only: bool) -> Result<Option<&str>, CliError> {
        match plan_only {
            true => Ok(None),
            false => self.release.sha256().map(Some).map_err(|error| CliError::release(&self.path, &error)),
        }
    }
}

/// Whether a file is a release. Only the start of a file is read.
pub fn is_release(path: &Path) -> bool {
    let mut head = Vec::new();
    let is_regular = path.is_file();
    is_regular
        && File::open(path).is_ok_and(|file| file.take(64).read_to_end(&mut head).is_ok())
        && Release::is_one(&head)
}

/// Whether a folder has files with the ending of releases.
pub fn has_releases(folder: &Path) -> bool {
    let is_named = |path: &Path| path.extension().is_some_and(|ending| ending == ENDING);
    input_file::in_folder(folder, &is_named).is_ok_and(|found| !found.is_empty())
}

/// The release that the user wants: from a catalogue, or among the given files and folders. `None` if these are files
/// that are no releases.
///
/// # Errors
/// No release can be selected or used.
pub fn selected(files: &[PathBuf], wanted: &Releases, common: &Common) -> Result<Option<Found>, CliError> {
    match &wanted.from {
        Some(place) => listed(place, wanted, common).map(Some),
        None => named(files, wanted, common),
    }
}

/// A release of a catalogue.
fn listed(place: &Place, wanted: &Releases, common: &Common) -> Result<Found, CliError> {
    let opened = catalogue::open(place, common)?;
    let product = catalogue::wanted_product(&opened, &sheets_for(&opened, common)?, common)?;
    let query =
        ReleaseQuery { product: product.as_deref(), channel: wanted.channel.as_deref(), version: version(wanted) };
    let (entry, others) = catalogue::pick(&opened, &query, common)?;
    let path = catalogue::obtain(place, entry, common)?;
    let release = read(&path)?;
    let damaged = |error| CliError::release(&path, &error);
    let is_listed = release.sha256().map_err(damaged)? == entry.sha256
        && (&release.manifest.product, &release.manifest.version) == (&entry.product, &entry.version);
    if !is_listed {
        let reason = "the release is not the one that the catalogue lists".to_owned();
        return Err(CommandError::Listed { path, reason }.into());
    }
    accept_statements(&release, common)?;
    Ok(Found { path, release, others })
}

/// The sheets of a catalogue's products: those of this computer, or else those in releases that are on it.
///
/// # Errors
/// The sheets that the user named cannot be read.
pub fn sheets_for(opened: &CheckedCatalogue, common: &Common) -> Result<Vec<Sheet>, CliError> {
    let mut sheets = match common.sheets {
        Some(_) => environment::sheets(common)?,
        None => environment::sheets(common).unwrap_or_default(),
    };
    let mut newest_first: Vec<&ListedRelease> = opened.releases().collect();
    newest_first.sort_by(|a, b| b.date.cmp(&a.date));
    for listed in newest_first {
        if sheets.iter().any(|sheet| sheet.product.id == listed.product) {
            continue;
        }
        let path = catalogue::local(&opened.place, listed);
        sheets.extend(path.and_then(|path| own_sheet(&read(&path).ok()?, &path).ok()));
    }
    Ok(sheets)
}

/// The releases among the given files and folders. `None` if all are files that are no releases.
fn named(files: &[PathBuf], wanted: &Releases, common: &Common) -> Result<Option<Found>, CliError> {
    if files.iter().all(|file| !file.is_dir() && !is_release(file)) {
        return Ok(None);
    }
    let (mut releases, skipped) = usable(files, common)?;
    let product = product(common, &releases)?;
    let choosing =
        ReleaseQuery { product: product.as_deref(), channel: wanted.channel.as_deref(), version: version(wanted) };
    let candidates: Vec<Candidate<'_>> = releases.iter().map(|(_, release)| Candidate::of(release)).collect();
    let not_used: Vec<String> = skipped.iter().map(|(path, error)| not_used(path, error)).collect();
    let pick = choose(&candidates, &choosing)
        .map_err(|error| CommandError::NoReleaseSelected { error, not_used: not_used.clone() })?;
    let others = pick.others.iter().map(|at| candidates[*at].in_words());
    let others = others.chain(not_used).collect();
    let (path, release) = releases.swap_remove(pick.index);
    Ok(Some(Found { path, release, others }))
}

fn not_used(path: &Path, error: &CliError) -> String {
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let reason = error.0.message.trim_end_matches('.');
    let path = path.display().to_string();
    let reason = reason.strip_prefix(&path).map_or(reason, |rest| rest.trim_start_matches([':', ' ']));
    format!("not used: {name} ({reason})")
}

type Opened = Vec<(PathBuf, Release)>;
type Skipped = Vec<(PathBuf, CliError)>;

/// Opens the releases. One that the user names must be whole; in a folder, those that are damaged,
/// need another version of Vaka or are not trusted are skipped.
///
/// # Errors
/// A named one cannot be used, or none of a folder can.
fn usable(files: &[PathBuf], common: &Common) -> Result<(Opened, Skipped), CliError> {
    let (mut opened, mut skipped) = (Vec::new(), Vec::new());
    for file in files {
        if !file.is_dir() {
            let release = read(file)?;
            accept_statements(&release, common)?;
            opened.push((file.clone(), release));
            continue;
        }
        let entries = std::fs::read_dir(file).map_err(|error| CliError::file(file, error))?;
        let is_named = |path: &PathBuf| path.extension().is_some_and(|ending| ending == ENDING);
        let mut found: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).filter(is_named).collect();
        found.sort();
        if found.is_empty() {
            return Err(CommandError::NoReleaseIn { path: file.clone(), ending: ENDING }.into());
        }
        for path in found {
            match in_folder(&path, common) {
                Ok(release) => opened.push((path, release)),
                Err(error) => skipped.push((path, error)),
            }
        }
    }
    match (opened.is_empty(), skipped.len()) {
        (true, 1) => Err(skipped.remove(0).1),
        (true, _) => {
            let reasons = skipped.iter().map(|(path, error)| not_used(path, error)).collect();
            Err(CommandError::NoUsableRelease { reasons }.into())
        }
        (false, _) => Ok((opened, skipped)),
    }
}

fn in_folder(path: &Path, common: &Common) -> Result<Release, CliError> {
    // Opening a pipe would wait for ever.
    if !path.is_file() {
        return Err(CliError::file(path, io::Error::other("this is not a regular file")));
    }
    let release = read(path)?;
    accept_statements(&release, common)?;
    release_trust::trusted(&release, path, common)?;
    Ok(release)
}

/// Learns which keys are revoked or replaced. Each statement has a signature of its own, so that it
/// counts whoever signed the release.
fn accept_statements(release: &Release, common: &Common) -> Result<(), CliError> {
    for line in keyring::accept(&release.manifest.keys)? {
        // A change of trust is never silent.
        environment::announce(common, line);
    }
    Ok(())
}

/// Reads one release; an invalid or changed one is always refused.
pub fn read(path: &Path) -> Result<Release, CliError> {
    let source: Arc<dyn Source> = match path.is_file() {
        true => Arc::new(ReleaseFile::open(path).map_err(|error| CliError::file(path, error))?),
        // A pipe can be read only once.
        false => Arc::new(input_file::firmware(path)?),
    };
    if source.size() > input_file::MOST_FIRMWARE {
        return Err(CommandError::TooLarge { path: path.to_owned(), limit: input_file::MOST_FIRMWARE }.into());
    }
    Release::open(source, origin::VERSION).map_err(|error| CliError::release(path, &error))
}

/// The file of a release, or a part of a file; it stays open, so that a file that takes its place is not used.
#[derive(Debug)]
pub struct ReleaseFile {
    file: Mutex<File>,
    start: u64,
    size: u64,
}

impl ReleaseFile {
    fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let size = file.metadata()?.len();
        Ok(Self::part(file, 0, size))
    }

    /// The part of a file with these `size` bytes from `start` on.
    pub fn part(file: File, start: u64, size: u64) -> Self {
        Self { file: Mutex::new(file), start, size }
    }
}

impl Source for ReleaseFile {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(self.start.saturating_add(offset)))?;
        file.read_exact(buffer)
    }
}

/// The intended product, if there are releases of several: the one that `--unit name=…` names,
/// else the only one of which a unit is attached.
fn product(common: &Common, releases: &[(PathBuf, Release)]) -> Result<Option<String>, CliError> {
    use vaka_boot::bench::selector::Selector;
    let products: BTreeSet<&str> = releases.iter().map(|(_, release)| release.manifest.product.as_str()).collect();
    if products.len() < 2 {
        return Ok(None);
    }
    if let Some(Selector::Name(name) | Selector::Any(name)) = &common.unit
        && let Some(product) = products.iter().find(|product| product.eq_ignore_ascii_case(name))
    {
        return Ok(Some((*product).to_owned()));
    }
    let sheets: Vec<Sheet> = releases.iter().filter_map(|(path, release)| own_sheet(release, path).ok()).collect();
    let bench = Bench::new(environment::all_buses(common, &sheets)?, &sheets);
    let attached = bench.devices().unwrap_or_default();
    let sheets = attached.iter().filter_map(|device| bench.recognise(device)).flat_map(|candidate| candidate.sheets);
    let attached: BTreeSet<&str> = sheets.map(|sheet| sheet.product.id.as_str()).collect();
    Ok(if attached.len() == 1 { attached.first().map(|product| (*product).to_owned()) } else { None })
}

fn version(wanted: &Releases) -> VersionSelector {
    match (&wanted.version, wanted.before) {
        (Some(version), _) => VersionSelector::Version(version.clone()),
        (None, Some(day)) => VersionSelector::Before(day.to_string()),
        (None, None) if wanted.known_good => VersionSelector::KnownGood(known_good()),
        (None, None) => VersionSelector::Newest,
    }
}

/// The digests of the releases whose last stage was installed successfully here, according to the
/// journal.
fn known_good() -> Vec<String> {
    let records = journal::path().and_then(|path| journal::read(&path).ok()).map(|(records, _)| records);
    let is_good = |record: &&journal::Record| {
        let of = record.started.release.as_ref();
        let is_confirmed = record.result().after.as_deref() == Some("confirmed");
        record.is_good() && is_confirmed && of.is_some_and(|of| of.stage == of.stages)
    };
    records.iter().flatten().filter(is_good).map(|record| record.started.file.sha256.clone()).collect()
}

/// The sheet for a release: the given one for its product, else its own.
pub fn sheet(release: &Release, path: &Path, given: Vec<Sheet>) -> Result<Sheet, CliError> {
    if let Some(sheet) = given.into_iter().find(|sheet| sheet.product.id == release.manifest.product) {
        return Ok(sheet);
    }
    own_sheet(release, path)
}

fn own_sheet(release: &Release, path: &Path) -> Result<Sheet, CliError> {
    let member = |name: &str| {
        let damaged = |reason: String| {
            CliError::from(CommandError::Damaged { path: path.to_owned(), reason: format!("{name}: {reason}") })
        };
        let bytes = release.member(name).map_err(|error| damaged(error.to_string()))?;
        String::from_utf8(bytes).map_err(|_| damaged("it is not text".to_owned()))
    };
    let named = |name: &str| format!("{}, {name}", path.display());
    let is_dialect = |name: &&String| name.ends_with(".dialect.toml");
    let mut dialects = Dialects::new();
    for name in release.manifest.sheets.iter().filter(is_dialect) {
        let folder = name.rsplit_once('/').map(|(folder, _)| format!("{folder}/")).unwrap_or_default();
        let beside = |file: &str| {
            let helper = format!("{folder}{file}");
            if !release.has(&helper) {
                return Err(io::Error::new(io::ErrorKind::NotFound, format!("{file} is not in the release")));
            }
            release.member(&helper).map_err(io::Error::other)
        };
        let dialect = Dialect::parse(&named(name), &member(name)?, &beside)?;
        dialects.insert(dialect.name.clone(), Arc::new(dialect));
    }
    for name in release.manifest.sheets.iter().filter(|name| name.ends_with(".toml") && !is_dialect(name)) {
        let sheet = Sheet::parse_with(&named(name), &member(name)?, &dialects)?;
        if sheet.product.id == release.manifest.product {
            return Ok(sheet);
        }
    }
    let product = release.manifest.product.clone();
    Err(CommandError::NoSheetInRelease { path: path.to_owned(), product }.into())
}

/// Refuses an inconsistent release.
pub fn check_consistency(release: &Release, sheet: &Sheet, path: &Path) -> Result<(), CliError> {
    let found = inconsistencies(release, sheet);
    match found.is_empty() {
        true => Ok(()),
        false => Err(CommandError::Inconsistent { path: path.to_owned(), found }.into()),
    }
}

/// The selected build.
pub fn build<'r>(release: &'r Release, wanted: &str) -> Result<&'r str, CliError> {
    let builds = release.manifest.builds();
    builds.iter().find(|build| **build == wanted).copied().ok_or_else(|| {
        let builds = builds.iter().map(|build| (*build).to_owned()).collect();
        CommandError::NoBuild { wanted: wanted.to_owned(), builds }.into()
    })
}

/// The event about the selected release.
pub fn seen(found: &Found, build: &str, signer: String) -> SelectedRelease {
    let manifest = &found.release.manifest;
    let others = manifest.builds().into_iter().filter(|other| *other != build).map(str::to_owned);
    SelectedRelease {
        file: found.path.display().to_string(),
        product: manifest.product.clone(),
        version: manifest.version.clone(),
        date: manifest.date.clone(),
        channel: manifest.channel.clone(),
        build: build.to_owned(),
        other_builds: others.collect(),
        signer: Some(signer),
        loses: manifest.loses.iter().map(|loss| loss.what.clone()).collect(),
        others: found.others.clone(),
    }
}
