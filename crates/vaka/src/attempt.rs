//! The journal's record of an attempt: its start, and what follows from its events.

use std::path::Path;

use vaka_base::checksum::{Sha256, sha256};
use vaka_base::text;
use vaka_core::event::{Event, Report};
use vaka_core::matching::Verdict;
use vaka_image::address::Address;
use vaka_image::{FirmwareFile, Image, ReadOptions};

use crate::args::Common;
use crate::journal::{self, EndRecord, ErrorRecord, FileRecord, StartRecord};
use crate::origin;

/// The record of a file.
pub fn file(path: &Path, bytes: &[u8], content: Option<&Image>) -> FileRecord {
    let content_sha256 = content.map(|image| {
        let mut digest = Sha256::default();
        image.segments().iter().for_each(|segment| digest.update(segment.data()));
        text::hex(&digest.finish())
    });
    FileRecord {
        name: path.display().to_string(),
        size: bytes.len() as u64,
        sha256: text::hex(&sha256(bytes)),
        content_sha256,
    }
}

/// The start record of an attempt.
pub fn begun(file: FileRecord, further_files: Vec<FileRecord>, common: &Common) -> StartRecord {
    StartRecord {
        time: jiff::Timestamp::now(),
        vaka: origin::VERSION.to_owned(),
        build: Some(origin::BUILD.to_owned()),
        file,
        further_files,
        release: None,
        label: common.variant.clone(),
        consents: common.allow.clone(),
    }
}

/// The content of a file, for its digest; the address of a binary does not change its bytes.
pub fn content(file: &FirmwareFile, options: ReadOptions) -> Option<Image> {
    let somewhere = ReadOptions { at: Some(options.at.unwrap_or(Address::new(0))), ..options };
    file.image(options, &[]).or_else(|_| file.image(somewhere, &[])).ok()
}

/// The events' contribution to the record.
#[derive(Default)]
pub struct RunSummary {
    ids: Vec<String>,
    version_before: Option<String>,
    verdict: Option<Verdict>,
    error: Option<ErrorRecord>,
}

impl RunSummary {
    pub fn look(&mut self, event: &Event) {
        match event {
            Event::Attached(seen) => {
                let id = seen.id.to_string();
                if !self.ids.contains(&id) {
                    self.ids.push(id);
                }
                if self.version_before.is_none() && self.verdict.is_none() {
                    self.version_before = seen.version.as_ref().map(ToString::to_string);
                }
            }
            Event::Verdict { verdict, .. } => self.verdict = Some(verdict.clone()),
            Event::Error(failure) => self.error = journal::recorded(failure),
            _ => {}
        }
    }

    /// The end record of an attempt.
    pub fn ended(self, report: &Report) -> EndRecord {
        let verdict = self.verdict;
        let outcome = verdict.as_ref().and_then(|verdict| serde_json::to_value(verdict.outcome).ok());
        let conflicts = verdict.iter().flat_map(Verdict::conflicts).map(|evidence| evidence.sentence()).collect();
        let consents =
            verdict.iter().flat_map(|verdict| &verdict.consents).map(|agreement| agreement.id.clone()).collect();
        EndRecord {
            time: jiff::Timestamp::now(),
            ids: self.ids,
            version_before: report.version_before.as_ref().map(ToString::to_string).or(self.version_before),
            verdict: outcome.and_then(|outcome| outcome.as_str().map(str::to_owned)),
            conflicts,
            consents,
            result: journal::recorded(report).unwrap_or_default(),
            error: self.error,
        }
    }
}
