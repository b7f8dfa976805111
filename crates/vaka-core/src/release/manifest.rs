//! The manifest of a release, and its checks.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::archive;
use super::date::is_date;
use super::statement::WrittenStatement;
use crate::placeholder;
use crate::sheet::Fact;
use crate::sheet::Ids;
use vaka_base::text;
use vaka_base::version::Version;
use vaka_image::address::Address;

/// The version of the format that this reads and writes.
pub const FORMAT: u32 = 1;

/// The default build.
pub const STANDARD: &str = "standard";

/// The manifest of a release.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Manifest {
    /// Version of the format.
    pub release: u32,
    /// Product id, as in the sheet.
    pub product: String,
    /// The release's version.
    pub version: String,
    /// Date, such as `2026-11-23`.
    pub date: String,
    /// Channel: `stable`, `trial`, …
    pub channel: String,
    /// The last day on which it may be installed without a consent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<String>,
    /// Statements about keys: revoked and replaced ones.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<WrittenStatement>,
    /// The lowest version of Vaka that may install the release.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs_vaka: Option<String>,
    /// The oldest version of a unit that the release may update.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub updates_from: Option<String>,
    /// The member that contains the release notes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    /// The losses that the release causes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub loses: Vec<Loss>,
    /// The product's sheet, and dialects that it needs.
    pub sheets: Vec<String>,
    /// The stages in order.
    pub stages: Vec<Stage>,
    /// Size and digest of every member but this.
    pub members: BTreeMap<String, Digest>,
}

/// A loss.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Loss {
    /// A name, for the agreement `lose-NAME`.
    pub id: String,
    /// Description.
    pub what: String,
}

/// Size and digest of a member.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Digest {
    /// Size in bytes.
    pub size: u64,
    /// SHA-256 in hex.
    pub sha256: String,
}

/// One stage: images, or an external step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stage {
    /// Name for display.
    pub name: String,
    /// The sheet's stage; an ordinary update without one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// The external step, if another tool installs the images.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub external: Option<ExternalStep>,
    /// The images.
    pub images: Vec<Entry>,
}

/// A step that is done with another tool.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExternalStep {
    /// The tool or bus.
    pub tool: String,
    /// The instruction for the user.
    #[serde(rename = "do")]
    pub action: String,
    /// The reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The visible result.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub see: Option<String>,
    /// The ids that the bus shows then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shows: Option<String>,
}

/// The image for some variants, in one build.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Entry {
    /// The part, if the product has several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// The variants that it is for.
    pub variants: Vec<String>,
    /// The build.
    pub build: String,
    /// The files; several files have addresses of their own.
    pub files: Vec<File>,
    /// Facts that must agree with sheet and unit, and between stages.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, String>,
}

/// A file of an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct File {
    /// The member.
    pub file: String,
    /// Start address of a raw binary.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<Address>,
    /// The region at whose start a raw binary begins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub region: Option<String>,
}

impl Entry {
    /// The facts in the form that the rules use.
    pub fn facts(&self) -> Vec<Fact> {
        self.facts.iter().map(|(name, value)| Fact { name: name.clone(), value: value.clone() }).collect()
    }

    /// Whether the image is for a variant.
    pub fn is_for(&self, variant: &str) -> bool {
        self.variants.iter().any(|id| id == variant)
    }
}

/// An error in a manifest.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ManifestError {
    /// It is not valid JSON of this form.
    #[error("its manifest cannot be read: {0}")]
    Unreadable(String),
    /// It has another version of the format.
    #[error("its manifest has format {0}; this Vaka reads {FORMAT}")]
    Format(u32),
    /// It is not canonical.
    #[error("its manifest is not in canonical form")]
    OtherForm,
    /// A value cannot be.
    #[error("its manifest has {0}")]
    Value(String),
    /// It names a missing member.
    #[error("its manifest names '{0}', which is missing")]
    Missing(String),
    /// A member is not in the manifest.
    #[error("the member '{0}' is not in its manifest")]
    Unnamed(String),
    /// Two images could be meant.
    #[error("stage '{stage}' has two images for {what}: '{first}' and '{second}'")]
    Two {
        /// The stage.
        stage: String,
        /// Part, variant and build.
        what: String,
        /// The first file.
        first: String,
        /// The other.
        second: String,
    },
}

impl Manifest {
    /// Encodes the manifest in canonical form.
    ///
    /// # Panics
    /// Never: every value can be encoded.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = serde_json::to_vec_pretty(self).expect("texts, numbers and lists are JSON");
        bytes.push(b'\n');
        bytes
    }

    /// Parses a manifest and checks its consistency.
    ///
    /// # Errors
    /// [`ManifestError`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, ManifestError> {
        let manifest: Self = serde_json::from_slice(bytes)
            .map_err(|error| ManifestError::Unreadable(text::sanitize(&error.to_string())))?;
        if manifest.release != FORMAT {
            return Err(ManifestError::Format(manifest.release));
        }
        if manifest.to_bytes() != bytes {
            return Err(ManifestError::OtherForm);
        }
        manifest.check()?;
        Ok(manifest)
    }

    /// Checks its consistency: values, names, and at most one image for each purpose.
    ///
    /// # Errors
    /// [`ManifestError`].
    pub fn check(&self) -> Result<(), ManifestError> {
        self.values()?;
        if self.stages.is_empty() || self.stages.iter().any(|stage| stage.images.is_empty()) {
            return Err(ManifestError::Value("a stage without images, or no stage at all".into()));
        }
        for stage in &self.stages {
            stage.check()?;
        }
        let used: BTreeSet<&str> = self.used().collect();
        if let Some(missing) = used.iter().find(|name| !self.members.contains_key(**name)) {
            return Err(ManifestError::Missing(text::sanitize(missing)));
        }
        match self.members.keys().find(|name| !used.contains(name.as_str())) {
            Some(unused) => Err(ManifestError::Unnamed(text::sanitize(unused))),
            None => Ok(()),
        }
    }

    fn values(&self) -> Result<(), ManifestError> {
        let wrong = |what: &str, value: &str| {
            Err(ManifestError::Value(format!("an invalid {what}: '{}'", text::sanitize(value))))
        };
        for (what, value) in [("product", &self.product), ("channel", &self.channel)] {
            if !is_id(value) {
                return wrong(what, value);
            }
        }
        let versions = [Some(&self.version), self.needs_vaka.as_ref(), self.updates_from.as_ref()];
        if let Some(version) = versions.into_iter().flatten().find(|version| !is_version(version)) {
            return wrong("version", version);
        }
        if let Some(oldest) = self.updates_from.as_ref().filter(|oldest| Version::parse(oldest) > self.ordered()) {
            return wrong("oldest version above its own", oldest);
        }
        if !is_date(&self.date) {
            return wrong("date", &self.date);
        }
        if let Some(expires) = self.expires.as_ref().filter(|expires| !is_date(expires)) {
            return wrong("last day", expires);
        }
        for statement in &self.keys {
            if let Err(error) = statement.verify() {
                return Err(ManifestError::Value(format!("a statement about a key that is invalid: {error}")));
            }
        }
        let losses = &self.loses;
        for (index, loss) in losses.iter().enumerate() {
            let twice = losses[..index].iter().any(|other| other.id == loss.id);
            if !is_id(&loss.id) || !is_words(&loss.what) || twice {
                return wrong("loss", &loss.id);
            }
        }
        for (name, digest) in &self.members {
            let is_digest =
                digest.sha256.len() == 64 && digest.sha256.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'));
            if !archive::is_name(name) || !is_digest {
                return wrong("member", name);
            }
        }
        Ok(())
    }

    /// Every member that it names.
    fn used(&self) -> impl Iterator<Item = &str> {
        let files = self.stages.iter().flat_map(|stage| &stage.images).flat_map(|entry| &entry.files);
        let named = self.sheets.iter().chain(&self.notes).map(String::as_str);
        files.map(|file| file.file.as_str()).chain(named)
    }

    /// The version in comparable form.
    pub fn ordered(&self) -> Version {
        Version::parse(&self.version)
    }

    /// Every build that it has, the standard one first.
    pub fn builds(&self) -> Vec<&str> {
        let entries = self.stages.iter().flat_map(|stage| &stage.images);
        let mut builds: Vec<&str> = entries.map(|entry| entry.build.as_str()).collect();
        builds.sort_unstable_by_key(|build| (*build != STANDARD, *build));
        builds.dedup();
        builds
    }
}

impl Stage {
    fn check(&self) -> Result<(), ManifestError> {
        if !is_words(&self.name) {
            return Err(ManifestError::Value(format!(
                "a stage with an invalid name: '{}'",
                text::sanitize(&self.name)
            )));
        }
        if let Some(shows) = self.external.as_ref().and_then(|external| external.shows.as_ref()) {
            shows.parse::<Ids>().map_err(|error| ManifestError::Value(error.into()))?;
        }
        let mut seen: BTreeMap<(Option<&str>, &str, &str), &str> = BTreeMap::new();
        for entry in &self.images {
            let name = entry.files.first().map(|file| file.file.as_str());
            let Some(name) = name.filter(|_| !entry.variants.is_empty() && is_id(&entry.build)) else {
                return Err(ManifestError::Value(format!(
                    "an image in stage '{}' without file, variant or build",
                    self.name
                )));
            };
            for file in &entry.files {
                if let Some(region) = file.region.as_ref().filter(|region| file.at.is_some() || !is_id(region)) {
                    let (name, region) = (text::sanitize(&file.file), text::sanitize(region));
                    let message = format!("'{name}' has an invalid region, or an address beside it: '{region}'");
                    return Err(ManifestError::Value(message));
                }
            }
            for variant in &entry.variants {
                let key = (entry.part.as_deref(), variant.as_str(), entry.build.as_str());
                if let Some(first) = seen.insert(key, name) {
                    let part = entry.part.as_ref().map(|part| format!("part {part}, ")).unwrap_or_default();
                    return Err(ManifestError::Two {
                        stage: self.name.clone(),
                        what: format!("{part}variant {variant}, build {}", entry.build),
                        first: first.to_owned(),
                        second: name.to_owned(),
                    });
                }
            }
        }
        Ok(())
    }

    /// The image for a variant in a build, or else in the standard build.
    pub fn image(&self, variant: &str, build: &str) -> Option<&Entry> {
        let of = |build: &str| self.images.iter().find(|entry| entry.build == build && entry.is_for(variant));
        of(build).or_else(|| of(STANDARD))
    }
}

pub(super) fn is_id(text: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    !text.is_empty() && text.len() <= 64 && text.chars().all(plain) && placeholder::of_text(text).is_none()
}

/// Whether a text is a version: it begins with a digit and has no blanks.
pub(super) fn is_version(version: &str) -> bool {
    version.starts_with(|c: char| c.is_ascii_digit())
        && text::sanitize(version) == version
        && !version.contains(char::is_whitespace)
}

pub(super) fn is_words(words: &str) -> bool {
    !words.is_empty() && text::sanitize(words) == words && placeholder::of_text(words).is_none()
}
