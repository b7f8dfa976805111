//! Single facts about a unit and an image.

use serde::Serialize;

use crate::sheet::VariantId;

/// The subject of a piece of evidence.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Subject {
    /// The unit on the bus.
    Unit,
    /// The hardware, as the user reads its label.
    Label,
    /// The file.
    File,
}

/// The source of an observation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // `as_str` says each in full
pub enum Source {
    BootId,
    Programmer,
    ApplicationId,
    ProductString,
    MakerString,
    Serial,
    Release,
    MemoryLayout,
    RegionTable,
    Protocol,
    Disk,
    DiskLabel,
    BoardInfo,
    Reported,
    Chip,
    Family,
    Label,
    FileName,
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
    /// The source as text, for tables.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::BootId => "boot id",
            Self::Programmer => "programmer",
            Self::ApplicationId => "application id",
            Self::ProductString => "product string",
            Self::MakerString => "maker string",
            Self::Serial => "serial number",
            Self::Release => "release number",
            Self::MemoryLayout => "memory layout",
            Self::RegionTable => "region table",
            Self::Protocol => "protocol",
            Self::Disk => "disk",
            Self::DiskLabel => "disk label",
            Self::BoardInfo => "board information",
            Self::Reported => "bootloader",
            Self::Chip => "chip",
            Self::Family => "UF2 family",
            Self::Label => "printed label",
            Self::FileName => "file name",
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

/// The effect of an observation on the verdict.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// It determines the variant.
    #[serde(rename = "decides")]
    Decisive,
    /// It agrees with the variant, but does not determine it.
    Agrees,
    /// It has no effect.
    Neutral,
    /// A hard conflict; cannot be overridden.
    Conflicts,
    /// A conflict that the consent with this id overrides.
    ConflictsUnlessAllowed(String),
}

/// One observation and its interpretation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Evidence {
    /// The subject.
    pub about: Subject,
    /// The source.
    pub source: Source,
    /// The observation.
    pub says: String,
    /// The interpretation.
    pub means: String,
    /// The effect on the verdict.
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

    /// The id of the consent that overrides it.
    pub fn consent(&self) -> Option<&str> {
        match self {
            Self::ConflictsUnlessAllowed(id) => Some(id),
            _ => None,
        }
    }
}

impl Evidence {
    /// The evidence as one line of text.
    pub fn sentence(&self) -> String {
        match self.source {
            Source::Completeness => format!("the file is {}: {}", self.says, self.means),
            // The description of a loss is complete by itself.
            Source::Loss => format!("{}: {}", self.says, self.means),
            source => format!("{} {}: {}", source.as_str(), self.says, self.means),
        }
    }

    /// Whether it conflicts with the variant.
    pub fn is_conflict(&self) -> bool {
        matches!(self.weight, Weight::Conflicts | Weight::ConflictsUnlessAllowed(_))
    }
}
