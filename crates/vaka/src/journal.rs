//! The record of every attempt: JSON Lines in the user's state folder.
//!
//! An attempt has a line at its start and one at its end, so that a killed run is on record too.
//! Each line is written at once, under a lock, after a line end: neither another process nor a
//! crash can damage earlier lines. Torn lines are skipped and counted when the journal is read.
//! See `docs/formats/journal.md` for the format.

use std::cmp;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU32, Ordering};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use vaka_base::version::Version;
use vaka_boot::operator::EarlierVariant;

use crate::private_file;
use crate::render::json;
use crate::state_dir;

/// The version of the format.
const FORMAT: u32 = 1;

/// Data at the start of an attempt.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct StartRecord {
    pub time: jiff::Timestamp,
    /// The version of this program.
    pub vaka: String,
    /// Its commit and target.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub build: Option<String>,
    pub file: FileRecord,
    /// Further files of the same update.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further_files: Vec<FileRecord>,
    /// The release of the image.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<ReleaseRecord>,
    /// Options on the command line: label, consents, unit.
    pub label: Option<String>,
    pub consents: Vec<String>,
}

impl StartRecord {
    /// All files.
    pub fn files(&self) -> impl Iterator<Item = &FileRecord> {
        [&self.file].into_iter().chain(&self.further_files)
    }
}

/// The file.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
pub struct FileRecord {
    pub name: String,
    pub size: u64,
    /// SHA-256 of the file.
    pub sha256: String,
    /// SHA-256 of the image's bytes in ascending order, without gaps.
    pub content_sha256: Option<String>,
}

/// The stage of a release.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct ReleaseRecord {
    pub product: String,
    pub version: String,
    pub channel: String,
    pub build: String,
    /// The stage, from 1, and of how many.
    pub stage: usize,
    pub stages: usize,
}

/// Data at the end of an attempt.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct EndRecord {
    pub time: jiff::Timestamp,
    /// Ids that the unit showed, in their order.
    pub ids: Vec<String>,
    /// The version that the application reported first.
    pub version_before: Option<String>,
    /// The last verdict's outcome, and the conflicts that it found.
    pub verdict: Option<String>,
    pub conflicts: Vec<String>,
    /// Agreements that were needed.
    pub consents: Vec<String>,
    /// The `result` event.
    pub result: ResultRecord,
    /// The failure that ended it.
    pub error: Option<ErrorRecord>,
}

/// The fields of a `result` event that this program uses; the others are preserved. Another
/// version may have written it, so every field is optional.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(default)]
pub struct ResultRecord {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bootloader_serial: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub outcome: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
    /// The file with the former content of the unit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub backup: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub check: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes_written: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes_checked: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes_skipped: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disconnects: Option<u64>,
    /// Milliseconds by step, in their order.
    pub durations_ms: Vec<(String, u64)>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pending_undo: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application: Option<ApplicationRecord>,
    #[serde(flatten)]
    /// The other fields.
    pub rest: Map<String, Value>,
}

/// The application after an attempt.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(default)]
pub struct ApplicationRecord {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    #[serde(flatten)]
    rest: Map<String, Value>,
}

/// An `error` event.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(default)]
pub struct ErrorRecord {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    #[serde(flatten)]
    rest: Map<String, Value>,
}

/// Converts an event to its recorded form.
pub fn recorded<R: for<'de> Deserialize<'de>>(event: &impl Serialize) -> Option<R> {
    serde_json::to_value(event).and_then(serde_json::from_value).ok()
}

#[derive(Deserialize, Serialize)]
struct JournalLine {
    journal: u32,
    attempt: String,
    #[serde(flatten)]
    what: RecordBody,
}

#[derive(Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
enum RecordBody {
    #[serde(rename = "started")]
    StartRecord(Box<StartRecord>),
    /// Pending undo actions; the last such line counts for an attempt without an end.
    PendingUndo(Vec<String>),
    #[serde(rename = "ended")]
    EndRecord(Box<EndRecord>),
}

/// One attempt. Without an end it was killed, or is still running.
#[derive(Clone, Debug, Serialize)]
pub struct Record {
    pub attempt: String,
    pub started: StartRecord,
    /// Pending undo actions when this was last written.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pending_undo: Vec<String>,
    pub ended: Option<EndRecord>,
}

impl Record {
    /// The known result; empty for an attempt without an end.
    pub fn result(&self) -> &ResultRecord {
        static NONE: LazyLock<ResultRecord> = LazyLock::new(ResultRecord::default);
        self.ended.as_ref().map_or(&*NONE, |ended| &ended.result)
    }

    /// The serial numbers of the unit: of its application and of its bootloader.
    pub fn serials(&self) -> Vec<&str> {
        let result = self.result();
        let application = result.application.as_ref().and_then(|application| application.serial.as_deref());
        let mut serials: Vec<&str> = [result.serial.as_deref(), result.bootloader_serial.as_deref(), application]
            .into_iter()
            .flatten()
            .collect();
        serials.sort_unstable();
        serials.dedup();
        serials
    }

    /// Pending undo actions on the unit.
    pub fn pending_undo(&self) -> &[String] {
        self.ended.as_ref().map_or(&self.pending_undo, |ended| &ended.result.pending_undo)
    }

    /// The version that the application reported afterwards.
    pub fn version_after(&self) -> Option<&str> {
        self.result().application.as_ref()?.version.as_deref()
    }

    /// The versions that the unit reported, and that of a release that was installed to its last
    /// stage: a unit may not report its version.
    fn versions(&self) -> Vec<Version> {
        let before = self.ended.as_ref().and_then(|ended| ended.version_before.as_deref());
        let release = self.started.release.as_ref().filter(|of| self.is_good() && of.stage == of.stages);
        let all = [before, self.version_after(), release.map(|release| release.version.as_str())];
        all.into_iter().flatten().map(Version::parse).collect()
    }

    /// The message of the failure that ended it.
    pub fn error(&self) -> Option<&str> {
        self.ended.as_ref()?.error.as_ref()?.message.as_deref()
    }

    /// The outcome in one word.
    pub fn outcome(&self) -> &str {
        self.result().outcome.as_deref().unwrap_or("not ended")
    }

    /// Whether it only read the unit.
    pub fn is_read(&self) -> bool {
        self.outcome() == READ
    }

    /// Whether the attempt succeeded.
    pub fn is_good(&self) -> bool {
        self.result().code == Some(0)
    }

    /// Milliseconds by step, in their order.
    pub fn durations(&self) -> &[(String, u64)] {
        &self.result().durations_ms
    }
}

/// The outcome of a record of content that was read from a unit.
const READ: &str = "read";

/// Records content that was read from a unit; `Err` has the reason of a failure.
pub fn record_read(started: StartRecord, ended: EndRecord) -> Result<(), String> {
    let result = ResultRecord { outcome: Some(READ.to_owned()), code: Some(0), ..ended.result };
    Attempt::begin(started)?.end(EndRecord { result, ..ended })
}

/// One unit with its attempts in order.
pub struct UnitHistory<'r> {
    /// The product, if known.
    pub product: Option<&'r str>,
    /// Serial numbers of its application and its bootloader.
    pub serials: Vec<&'r str>,
    /// Its last location.
    pub place: Option<&'r str>,
    pub attempts: Vec<&'r Record>,
}

impl UnitHistory<'_> {
    /// The name in a list.
    pub fn name(&self) -> String {
        let product = self.product.unwrap_or("a unit");
        match (&self.serials[..], self.place) {
            ([], place) => format!("{product} at {}", place.unwrap_or("an unknown place")),
            (serials, _) => format!("{product} {}", serials.join(" / ")),
        }
    }
}

/// The units of these attempts: attempts on one product with a common serial number belong to one
/// unit. Without a serial number the location identifies the unit.
pub fn units<'r>(records: &[&'r Record]) -> Vec<UnitHistory<'r>> {
    let mut units: Vec<UnitHistory<'r>> = Vec::new();
    // A read changes nothing in the unit, so it is not its last state.
    for record in records.iter().copied().filter(|record| !record.is_read()) {
        let (serials, place, product) =
            (record.serials(), record.result().unit.as_deref(), record.result().product.as_deref());
        let is_it = |unit: &UnitHistory<'_>| {
            let is_same_product = product.is_none() || unit.product.is_none() || unit.product == product;
            let shares = unit.serials.iter().any(|serial| serials.contains(serial));
            let is_at = serials.is_empty() && unit.serials.is_empty() && place.is_some() && unit.place == place;
            is_same_product && (shares || is_at)
        };
        let index = units.iter().position(is_it).unwrap_or_else(|| {
            units.push(UnitHistory { product, serials: Vec::new(), place, attempts: Vec::new() });
            units.len() - 1
        });
        let unit = &mut units[index];
        unit.serials.extend(serials);
        unit.serials.sort_unstable();
        unit.serials.dedup();
        unit.product = unit.product.or(product);
        unit.place = place.or(unit.place);
        unit.attempts.push(record);
    }
    // An attempt that found no unit is none.
    units.retain(|unit| !unit.serials.is_empty() || unit.place.is_some());
    units
}

/// Path of the journal; `None` on a system without a state folder.
pub fn path() -> Option<PathBuf> {
    Some(state_dir::folder()?.join("journal.jsonl"))
}

/// Checks whether the journal can be written, without writing; `Err` has the reason.
pub fn must_be_writable() -> Result<(), String> {
    let path = path().ok_or("this system has no state folder")?;
    let told = |error: io::Error| format!("{}: {error}", path.display());
    private_file::create_folder(path.parent().unwrap_or(&path)).map_err(told)?;
    private_file::open_to_append(&path).map(drop).map_err(told)
}

/// The versions that earlier attempts saw in units.
#[derive(Debug)]
pub struct Seen;

impl vaka_boot::update::History for Seen {
    fn newest_version(&self, product: &str, part: Option<&str>, serials: &[&str]) -> Option<Version> {
        let (records, _) = read(&path()?).ok()?;
        let is_it = |record: &&Record| {
            record.serials().iter().any(|serial| serials.contains(serial))
                && record.result().product.as_deref() == Some(product)
                && record.result().part.as_deref() == part
        };
        let versions = records.iter().filter(is_it).flat_map(Record::versions);
        versions.max_by(|a, b| a.partial_cmp(b).unwrap_or(cmp::Ordering::Equal))
    }

    fn last_variant(&self, product: &str, serials: &[&str]) -> Option<EarlierVariant> {
        let (records, _) = read(&path()?).ok()?;
        let is_it = |record: &&Record| {
            record.serials().iter().any(|serial| serials.contains(serial))
                && record.result().product.as_deref() == Some(product)
                && record.is_good()
                && !record.is_read()
        };
        let last = records.iter().rev().find(is_it)?;
        let day = last.started.time.to_zoned(jiff::tz::TimeZone::system()).strftime("%-d %B %Y").to_string();
        Some(EarlierVariant { variant: last.result().variant.clone()?, day })
    }
}

/// An attempt under way.
pub struct Attempt {
    id: String,
    path: PathBuf,
}

impl Attempt {
    /// Records the start of an attempt; `Err` has the reason of a failure.
    pub fn begin(begun: StartRecord) -> Result<Self, String> {
        let path = path().ok_or("this system has no state folder")?;
        let folder = path.parent().ok_or("this system has no state folder")?;
        let told = |error: io::Error| format!("{}: {error}", path.display());
        private_file::create_folder(folder).map_err(told)?;
        // One process may work on several units at once.
        static COUNT: AtomicU32 = AtomicU32::new(0);
        let number = match COUNT.fetch_add(1, Ordering::Relaxed) {
            0 => String::new(),
            number => format!("-{number}"),
        };
        let id = format!("{}-{}{number}", begun.time.strftime("%Y%m%dT%H%M%S%3f"), std::process::id());
        append(&path, &id, RecordBody::StartRecord(Box::new(begun))).map_err(told)?;
        Ok(Self { id, path })
    }

    /// Records the pending undo actions.
    pub fn record_pending_undo(&self, steps: &[String]) -> Result<(), String> {
        append(&self.path, &self.id, RecordBody::PendingUndo(steps.to_vec()))
            .map_err(|error| format!("{}: {error}", self.path.display()))
    }

    /// Notes how it ended.
    pub fn end(self, ended: EndRecord) -> Result<(), String> {
        append(&self.path, &self.id, RecordBody::EndRecord(Box::new(ended)))
            .map_err(|error| format!("{}: {error}", self.path.display()))
    }
}

/// The attempts of this process since a time, oldest first; `Err` has the reason of a failure.
pub fn of_this_process(since: jiff::Timestamp) -> Result<Vec<Record>, String> {
    let path = path().ok_or("this system has no state folder")?;
    let (records, _) = read(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    let own = std::process::id().to_string();
    let is_own = |record: &Record| record.attempt.split('-').nth(1) == Some(&own);
    // A process id returns.
    Ok(records.into_iter().filter(is_own).filter(|record| record.started.time >= since).collect())
}

fn append(path: &Path, attempt: &str, what: RecordBody) -> io::Result<()> {
    let line = JournalLine { journal: FORMAT, attempt: attempt.to_owned(), what };
    let mut text = json::to_string(&line)?.into_bytes();
    text.push(b'\n');
    let mut file = private_file::open_to_append(path)?;
    file.lock()?;
    if !ends_a_line(&mut file)? {
        // The last line is torn: continue on a line of its own.
        text.insert(0, b'\n');
    }
    file.write_all(&text)?;
    file.sync_data()
}

fn ends_a_line(file: &mut File) -> io::Result<bool> {
    if file.metadata()?.len() == 0 {
        return Ok(true);
    }
    let mut last = [0];
    file.seek(SeekFrom::End(-1))?;
    file.read_exact(&mut last)?;
    Ok(last == [b'\n'])
}

/// All attempts, oldest first, and the number of lines that could not be read: torn, or in a later format.
pub fn read(path: &Path) -> io::Result<(Vec<Record>, usize)> {
    let bytes = match std::fs::read(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok((Vec::new(), 0)),
        other => other?,
    };
    let mut records: Vec<Record> = Vec::new();
    let mut torn = 0;
    for line in bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty()) {
        let line = serde_json::from_slice::<JournalLine>(line).ok().filter(|line| line.journal == FORMAT);
        let Some(line) = line else {
            torn += 1;
            continue;
        };
        match line.what {
            RecordBody::StartRecord(begun) => {
                records.push(Record { attempt: line.attempt, started: *begun, pending_undo: Vec::new(), ended: None })
            }
            RecordBody::PendingUndo(pending_undo) => {
                match records.iter_mut().rev().find(|record| record.attempt == line.attempt) {
                    Some(record) => record.pending_undo = pending_undo,
                    None => torn += 1,
                }
            }
            RecordBody::EndRecord(ended) => {
                match records.iter_mut().rev().find(|record| record.attempt == line.attempt) {
                    Some(record) => record.ended = Some(*ended),
                    None => torn += 1,
                }
            }
        }
    }
    Ok((records, torn))
}
