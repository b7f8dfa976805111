//! The request for an update.

use std::time::Duration;

use vaka_base::version::Version;
use vaka_core::input::InputFile;
use vaka_core::matching::Claim;
use vaka_core::sheet::Undo;
use vaka_core::unit::MemoryChoice;
use vaka_image::{FirmwareFile, Image};

use crate::bench::selector::Selector;
use crate::operator::EarlierVariant;
use vaka_core::event::{FailureText, Report};

/// The request for an update.
#[derive(Clone, Debug)]
pub struct Request<'a> {
    /// The firmware files, which are joined.
    pub files: Vec<InputFile>,
    /// The unit; by default the only one that a sheet describes.
    pub unit: Option<Selector>,
    /// The label, as the user gave it.
    pub label: Option<String>,
    /// The memory, for a unit without a sheet.
    pub memory: MemoryChoice,
    /// Erase everything erasable before writing.
    pub erase_all: bool,
    /// Also write sectors that already match.
    pub rewrite: bool,
    /// Time limit for the unit to appear, and for entering update mode.
    pub wait: Duration,
    /// Ids of the consents given.
    pub consents: Vec<String>,
    /// Stop before the first step.
    pub plan_only: bool,
    /// Whether written content is read back if possible.
    pub read_back: bool,
    /// The function that saves the present content before any change.
    pub save: Option<SaveFn<'a>>,
    /// Names of regions to preserve, even if they share a sector with the image.
    pub keep: Vec<String>,
    /// The images of a release, one for each of its variants; they replace `files`.
    pub offered: &'a [ReleaseImage],
    /// Whether the undo actions of the end are deferred to a later stage.
    pub undo_later: bool,
    /// Undo steps carried over from earlier stages.
    pub append_undo: &'a [Undo],
    /// Backing store for preserved data while its flash is erased.
    pub shelf: Option<&'a dyn PreservedStore>,
    /// The versions that earlier updates confirmed.
    pub history: Option<&'a dyn History>,
}

/// Records of earlier updates.
pub trait History: std::fmt::Debug {
    /// The newest version that was seen in a part of a unit of this product, by any of the unit's
    /// serial numbers.
    fn newest_version(&self, product: &str, part: Option<&str>, serials: &[&str]) -> Option<Version>;

    /// The variant as which a unit of this product was updated last, by any of its serial numbers.
    fn last_variant(&self, product: &str, serials: &[&str]) -> Option<EarlierVariant> {
        let _ = (product, serials);
        None
    }
}

/// An image of a release, for one variant.
#[derive(Clone, Debug)]
pub struct ReleaseImage {
    /// The variant's id.
    pub variant: String,
    /// The image.
    pub image: Image,
    /// Its files.
    pub files: Vec<InputFile>,
    /// The statements of the release about it.
    pub claim: Claim,
}

/// Stores preserved content of a unit while its sectors are erased, so that it survives this
/// process.
pub trait PreservedStore: std::fmt::Debug {
    /// Stores the image and returns its name.
    ///
    /// # Errors
    /// The content cannot be stored. Nothing was changed in the unit.
    fn put(&self, unit: &str, image: &Image) -> Result<String, FailureText>;

    /// The content that an earlier, interrupted run stored.
    fn left(&self, unit: &str) -> Option<Image>;

    /// Discards the content: it is in the unit again.
    fn clear(&self, unit: &str);
}

/// Saves the content of a unit; returns the name of the backup. The report tells what is known of the unit.
#[derive(Clone, Copy)]
pub struct SaveFn<'a>(pub &'a dyn Fn(&Image, &Report) -> Result<String, FailureText>);

impl std::fmt::Debug for SaveFn<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Save")
    }
}

impl<'a> Request<'a> {
    /// A request for one file with defaults: no waiting, the strongest check.
    pub fn new(file: &[u8]) -> Self {
        Self {
            files: vec![InputFile::of(FirmwareFile::parse(file))],
            unit: None,
            label: None,
            memory: MemoryChoice::default(),
            erase_all: false,
            rewrite: false,
            wait: Duration::ZERO,
            consents: Vec::new(),
            plan_only: false,
            read_back: true,
            save: None,
            keep: Vec::new(),
            offered: &[],
            undo_later: false,
            append_undo: &[],
            shelf: None,
            history: None,
        }
    }
}
