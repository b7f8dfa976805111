//! What is wanted of an update, and who can be asked.

use std::time::Duration;

use vaka_base::version::Version;
use vaka_core::matching::Claim;
use vaka_core::sheet::Undo;
use vaka_core::unit::MemoryChoice;
use vaka_image::{FirmwareFile, Image, ReadOptions};

use crate::bench::selector::Selector;
use vaka_core::event::FailureText;

/// What is wanted.
#[derive(Clone, Debug)]
pub struct Request<'a> {
    /// The firmware file.
    pub file: FirmwareFile,
    /// Its name, which may tell a version.
    pub file_name: Option<String>,
    /// Where a raw binary starts, and which of several images is meant, as far
    /// as it was given.
    pub options: ReadOptions,
    /// Which unit; any that the sheets know, if there is only one.
    pub unit: Option<Selector>,
    /// What is printed on the hardware, as a person gave it.
    pub label: Option<String>,
    /// Which memory of a unit that nobody described.
    pub memory: MemoryChoice,
    /// Erase everything that may be first.
    pub erase_all: bool,
    /// Write also what is already equal.
    pub rewrite: bool,
    /// How long to wait for a unit, and for update mode.
    pub wait: Duration,
    /// Ids of what was consents to.
    pub consents: Vec<String>,
    /// Stop before the first step.
    pub plan_only: bool,
    /// Whether what was written is read back, where it can be.
    pub read_back: bool,
    /// Where the present content goes before anything is changed.
    pub save: Option<SaveFn<'a>>,
    /// Names of regions that stay as they are, even where they share a sector
    /// with what is written.
    pub keep: Vec<String>,
    /// The images of a release, one for each variant that it is for; they take the
    /// place of `file`.
    pub offered: &'a [ReleaseImage],
    /// Whether what a person undoes at the end is left for a later stage.
    pub undo_later: bool,
    /// What a person undoes at the end besides: of earlier stages.
    pub append_undo: &'a [Undo],
    /// Where what is kept is safe while it is not in the unit.
    pub shelf: Option<&'a dyn PreservedStore>,
    /// The versions that earlier updates confirmed.
    pub history: Option<&'a dyn History>,
}

/// What earlier updates left in units.
pub trait History: std::fmt::Debug {
    /// The version that the last confirmed update of a part of a unit of this product left in
    /// it, by any of the unit's serial numbers.
    fn last_version(&self, product: &str, part: Option<&str>, serials: &[&str]) -> Option<Version>;
}

/// An image of a release, for one variant.
#[derive(Clone, Debug)]
pub struct ReleaseImage {
    /// The variant's id.
    pub variant: String,
    /// The image.
    pub image: Image,
    /// What the release says of it.
    pub claim: Claim,
}

/// Holds what is kept of a unit while its sectors are erased, beyond the end of
/// this process if need be.
pub trait PreservedStore: std::fmt::Debug {
    /// Puts it there; gives back what that is called.
    ///
    /// # Errors
    /// It cannot be stored. Nothing was changed in the unit.
    fn put(&self, unit: &str, image: &Image) -> Result<String, FailureText>;

    /// What an earlier run left there, because it did not come to its end.
    fn left(&self, unit: &str) -> Option<Image>;

    /// It is in the unit again.
    fn clear(&self, unit: &str);
}

/// Keeps what was read of a unit; gives back what it is called.
#[derive(Clone, Copy)]
pub struct SaveFn<'a>(pub &'a dyn Fn(&Image) -> Result<String, FailureText>);

impl std::fmt::Debug for SaveFn<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Save")
    }
}

impl<'a> Request<'a> {
    /// A request for one file, with nothing said beyond that: no waiting, the
    /// strongest check.
    pub fn new(file: &[u8]) -> Self {
        Self {
            file: FirmwareFile::parse(file),
            file_name: None,
            options: ReadOptions::default(),
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
