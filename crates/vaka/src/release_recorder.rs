//! The journal of a release's stages, and the files for external tools.

use std::path::Path;

use vaka_boot::release_install::StageHooks;
use vaka_core::event::FailureText;
use vaka_core::release::Release;

use crate::args::Common;
use crate::cli_error::CliError;
use crate::journal::{FileRecord, ReleaseRecord, StartRecord};
use crate::origin;
use crate::output_file::{self, Existing};
use crate::recording::JournalEntry;
use vaka_messages::OutputKind;

/// Records a release's stages, and exports files.
pub struct JournalHooks<'a> {
    /// The digest of the release's file; `None` for a plan, which is not recorded.
    pub sha256: Option<&'a str>,
    pub export_dir: Option<&'a Path>,
    pub common: &'a Common,
    /// The label of the unit.
    pub label: Option<&'a str>,
    pub path: &'a Path,
    pub release: &'a Release,
    pub build: &'a str,
    pub state: &'a std::cell::RefCell<JournalEntry<'static>>,
}

impl JournalHooks<'_> {
    fn begun(&self, number: usize, sha256: &str) -> StartRecord {
        let manifest = &self.release.manifest;
        StartRecord {
            time: jiff::Timestamp::now(),
            vaka: origin::VERSION.to_owned(),
            build: Some(origin::BUILD.to_owned()),
            file: FileRecord {
                name: self.path.display().to_string(),
                size: self.release.size(),
                sha256: sha256.to_owned(),
                content_sha256: None,
            },
            further_files: Vec::new(),
            release: Some(ReleaseRecord {
                product: manifest.product.clone(),
                version: manifest.version.clone(),
                channel: manifest.channel.clone(),
                build: self.build.to_owned(),
                stage: number + 1,
                stages: manifest.stages.len(),
            }),
            label: self.label.map(str::to_owned),
            consents: self.common.allow.clone(),
        }
    }
}

impl StageHooks for JournalHooks<'_> {
    fn begins(&mut self, number: usize) {
        let recorded = self.sha256.map(|sha256| JournalEntry::of(self.begun(number, sha256)));
        *self.state.borrow_mut() = recorded.unwrap_or_default();
    }

    fn export_file(&mut self, name: &str, bytes: &[u8]) -> Result<String, FailureText> {
        let folder = self.export_dir.unwrap_or(Path::new("."));
        let path = folder.join(name);
        // The same file from an earlier run is kept.
        if std::fs::read(&path).is_ok_and(|there| there == bytes) {
            return Ok(path.display().to_string());
        }
        // The name is the release's, not the user's: no link is followed.
        output_file::write_here(&path, Existing::Keep, &[bytes])
            .map_err(|error| CliError::unwritten(&path, error, OutputKind::New).0)?;
        Ok(path.display().to_string())
    }
}
