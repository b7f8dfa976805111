//! Single facts about a unit and an image.

use serde::Serialize;

use crate::sheet::VariantId;

/// What a piece of evidence is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Subject {
    /// The unit on the bus.
    Unit,
    /// The hardware, as a person reads it.
    Label,
    /// The file.
    File,
}

/// Where a fact was seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // `as_str` says each in full
pub enum Source {
    BootId,
    ApplicationId,
    ProductString,
    MakerString,
    Serial,
    Release,
    MemoryLayout,
    Protocol,
    Disk,
    DiskLabel,
    BoardInfo,
    Reported,
    Family,
    Label,
    Addresses,
    StartAddress,
    StartVectors,
    Mark,
    Stamp,
    DfuSuffix,
    Machine,
    Fact,
    Manifest,
    Version,
    Completeness,
    Sheet,
    Loss,
}

impl Source {
    /// In words, for a table.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::BootId => "boot id",
            Self::ApplicationId => "application id",
            Self::ProductString => "product string",
            Self::MakerString => "maker string",
            Self::Serial => "serial number",
            Self::Release => "release number",
            Self::MemoryLayout => "memory layout",
            Self::Protocol => "protocol",
            Self::Disk => "disk",
            Self::DiskLabel => "disk label",
            Self::BoardInfo => "board information",
            Self::Reported => "bootloader",
            Self::Family => "UF2 family",
            Self::Label => "printed label",
            Self::Addresses => "addresses",
            Self::StartAddress => "start address",
            Self::StartVectors => "start vectors",
            Self::Mark => "mark",
            Self::Stamp => "stamp",
            Self::DfuSuffix => "DFU suffix",
            Self::Machine => "machine",
            Self::Fact => "fact",
            Self::Manifest => "release",
            Self::Version => "version",
            Self::Completeness => "completeness",
            Self::Sheet => "product sheet",
            Self::Loss => "loss",
        }
    }
}

/// What a fact does to the verdict.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// It settles which variant this is.
    #[serde(rename = "decides")]
    Decisive,
    /// It agrees with the variant; that alone settles nothing.
    Agrees,
    /// It says nothing for or against.
    Neutral,
    /// It cannot be: this refuses, and nothing overrides it.
    Conflicts,
    /// It should not be. The agreement with this id overrides it.
    ConflictsUnlessAllowed(String),
}

/// One fact, and what it means.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Evidence {
    /// What it is about.
    pub about: Subject,
    /// Where it was seen.
    pub source: Source,
    /// What was seen.
    pub says: String,
    /// What that means.
    pub means: String,
    /// What it does to the verdict.
    pub weight: Weight,
    /// The variant that it was compared with, if one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variant: Option<VariantId>,
}

impl Weight {
    /// A conflict that the agreement with this id overrides.
    pub(super) fn unless_allowed(id: impl Into<String>) -> Self {
        Self::ConflictsUnlessAllowed(id.into())
    }
}

impl Evidence {
    /// It in one line.
    pub fn sentence(&self) -> String {
        match self.source {
            Source::Completeness => format!("the file is {}: {}", self.says, self.means),
            // What is lost says itself what it is.
            Source::Loss => format!("{}: {}", self.says, self.means),
            source => format!("{} {}: {}", source.as_str(), self.says, self.means),
        }
    }

    /// Whether it speaks against the variant.
    pub fn is_conflict(&self) -> bool {
        matches!(self.weight, Weight::Conflicts | Weight::ConflictsUnlessAllowed(_))
    }
}
