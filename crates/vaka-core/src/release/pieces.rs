//! The images in a release, and whether they go together.

use std::fmt;

use thiserror::Error;

use super::manifest::{Entry, Stage};
use crate::input::{InputError, InputFile, joined};
use crate::matching::Claim;
use crate::matching::pieces;
use crate::matching::rank_variants;
use crate::release::release_error::ReleaseError;
use crate::release::release_file::Release;
use crate::sheet::{Fact, HAND_OVER, Sheet, Variant};
use vaka_base::text;
use vaka_base::version::Version;
use vaka_image::stamp::{self, StampSearch};
use vaka_image::wrapper::{Unwrapped, WrapperError};
use vaka_image::{FirmwareFile, Image, ReadOptions};

/// Largest file of an image, in bytes. Chosen by us: Intel HEX of the largest flash that is met here.
const MOST_FILE: u64 = 256 << 20;

/// Why an image in a release cannot be used.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ImageError {
    /// Files cannot be read as an image.
    #[error("'{0}': {1}")]
    Unreadable(String, InputError),
    /// The maker's packaging is damaged.
    #[error("'{0}': {1}")]
    Wrapper(String, WrapperError),
    /// A file is larger than any flash.
    #[error("'{0}' is larger than 256 MiB, the most for an image")]
    TooLarge(String),
    /// The release cannot be read.
    #[error(transparent)]
    Release(ReleaseError),
}

impl Release {
    /// The statements of the release about an image, for the verdict.
    pub fn claim(&self, entry: &Entry) -> Claim {
        Claim {
            product: self.manifest.product.clone(),
            version: self.manifest.version.clone(),
            updates_from: self.manifest.updates_from.clone(),
            build: Some(entry.build.clone()),
            variants: entry.variants.clone(),
            facts: entry.facts(),
            losses: self.manifest.loses.iter().map(|loss| (loss.id.clone(), loss.what.clone())).collect(),
        }
    }

    /// An image, with its files joined. A raw binary without an address starts at the address
    /// that the sheet assures.
    ///
    /// # Errors
    /// [`ImageError`].
    pub fn image(&self, entry: &Entry, sheet: &Sheet, variant: &Variant) -> Result<Image, ImageError> {
        let families: Vec<u32> = variant.families().collect();
        joined(&self.files(entry, sheet)?, variant.image.binary_at, &families, &[variant]).map_err(|error| {
            let files: Vec<&str> = entry.files.iter().map(|file| file.file.as_str()).collect();
            ImageError::Unreadable(files.join("', '"), error)
        })
    }

    /// The files of an image, without the maker's packaging.
    ///
    /// # Errors
    /// [`ImageError`]. Whether their content is an image shows later.
    pub fn files(&self, entry: &Entry, sheet: &Sheet) -> Result<Vec<InputFile>, ImageError> {
        let mut variants = entry.variants.iter().filter_map(|id| sheet.variant(id)).peekable();
        let is_any = variants.peek().is_some() && variants.all(|variant| variant.image.any_file.is_some());
        let one = |file: &super::manifest::File| {
            if self.manifest.members.get(&file.file).is_some_and(|member| member.size > MOST_FILE) {
                return Err(ImageError::TooLarge(file.file.clone()));
            }
            let bytes = self.member(&file.file).map_err(ImageError::Release)?;
            let name = file.file.rsplit('/').next().map(str::to_owned);
            if is_any {
                let file = FirmwareFile::any(&bytes, name.as_deref().unwrap_or_default());
                return Ok(InputFile { name, ..InputFile::of(file) });
            }
            let opened = sheet.wrappers.iter().filter_map(|wrapper| wrapper.unwrap(&bytes)).next();
            let opened = opened.unwrap_or_else(|| Ok(Unwrapped::plain(&bytes)));
            let opened = opened.map_err(|error| ImageError::Wrapper(file.file.clone(), error))?;
            Ok(InputFile {
                file: opened.file(),
                name,
                options: ReadOptions { at: file.at.or(opened.start), ..ReadOptions::default() },
                region: file.region.clone(),
            })
        };
        entry.files.iter().map(one).collect()
    }
}

/// An inconsistency in a release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inconsistency {
    /// Name of the stage.
    pub stage: String,
    /// First file of the image.
    pub file: String,
    /// The inconsistency.
    pub what: String,
}

impl fmt::Display for Inconsistency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "stage '{}', {}: {}", self.stage, self.file, self.what)
    }
}

/// The sheet as a stage of a release uses it; `None` if the sheet has no such stage.
pub fn sheet_for(sheet: &Sheet, stage: &Stage) -> Option<Sheet> {
    match &stage.stage {
        None => Some(sheet.clone()),
        Some(id) => Some(sheet.for_stage(sheet.stage(id)?)),
    }
}

/// All inconsistencies of a release: images that do not fit a variant they are for, stamps that
/// contradict the manifest, stages whose hand-over or facts differ.
pub fn inconsistencies(release: &Release, sheet: &Sheet) -> Vec<Inconsistency> {
    let manifest = &release.manifest;
    let mut found = Vec::new();
    if manifest.product != sheet.product.id {
        let what =
            format!("the product sheet describes '{}', the release is for '{}'", sheet.product.id, manifest.product);
        return vec![Inconsistency { stage: String::new(), file: manifest.sheets.join(", "), what }];
    }
    // The facts of earlier stages for each variant, with the stage.
    let mut said: Vec<(String, String, Fact)> = Vec::new();
    for stage in &manifest.stages {
        let Some(of_stage) = sheet_for(sheet, stage) else {
            let what = format!("the sheet has no stage '{}'", stage.stage.as_deref().unwrap_or_default());
            found.push(Inconsistency { stage: stage.name.clone(), file: String::new(), what });
            continue;
        };
        for entry in &stage.images {
            let file = entry.files.first().map(|file| file.file.clone()).unwrap_or_default();
            let mut wrong = |what: String| {
                found.push(Inconsistency { stage: stage.name.clone(), file: file.clone(), what });
            };
            for id in &entry.variants {
                match of_stage.variant(id) {
                    None => wrong(format!("the sheet has no variant '{}' in this stage", text::sanitize(id))),
                    Some(variant) => {
                        let part = Piece { release, sheet: &of_stage, stage, entry, variant };
                        part.check(&mut said, &mut wrong);
                    }
                }
            }
        }
    }
    found
}

/// One image of a release for one variant.
#[derive(Clone, Copy)]
struct Piece<'r> {
    release: &'r Release,
    sheet: &'r Sheet,
    stage: &'r Stage,
    entry: &'r Entry,
    variant: &'r Variant,
}

impl Piece<'_> {
    /// Checks the image against the sheet and the facts of earlier stages.
    fn check(self, said: &mut Vec<(String, String, Fact)>, wrong: &mut impl FnMut(String)) {
        let Self { release, sheet, stage, entry, variant } = self;
        if entry.part.is_some() && entry.part != variant.part {
            wrong(format!(
                "variant '{}' does not belong to part '{}'",
                variant.id,
                entry.part.as_deref().unwrap_or_default()
            ));
        }
        let image = match release.image(entry, sheet, variant) {
            Ok(image) => image,
            // Files for external tools need not be in a format that we can parse.
            Err(_) if stage.external.is_some() => return,
            Err(error) => return wrong(error.to_string()),
        };
        let choice = rank_variants(sheet, &image).into_iter().find(|choice| choice.variant == variant.id);
        // External tools may write addresses outside all of our routes.
        if let Some(against) = choice.and_then(|choice| choice.against).filter(|_| stage.external.is_none()) {
            wrong(format!("does not fit variant '{}': {against}", variant.id));
        }
        for (rules, piece) in pieces(variant, &image) {
            if let StampSearch::One(stamp) = stamp::find(&piece, rules.stamp_offset) {
                self.check_stamp(&stamp.text, wrong);
            }
        }
        for fact in entry.facts() {
            let known = variant.facts.iter().find(|known| known.name == fact.name && !known.agrees(&fact.value));
            // A loader's hand-over address is compared with the start of the image that it
            // starts.
            if let Some(known) = known.filter(|_| fact.name != HAND_OVER) {
                wrong(format!(
                    "is for {} {}; the product sheet has {} for variant '{}'",
                    fact.name, fact.value, known.value, variant.id
                ));
            }
        }
        let own = facts_of(entry, &image, variant);
        for (variant_id, earlier, fact) in said.iter().filter(|(id, ..)| id == variant.id.as_str()) {
            if fact.name == HAND_OVER && !fact.agrees(&image.start().to_string()) {
                let (at, start) = (&fact.value, image.start());
                wrong(format!("starts at {start}; stage '{earlier}' hands over at {at} on variant '{variant_id}'"));
            }
            let other = own.iter().find(|own| own.name == fact.name && own.name != HAND_OVER);
            if let Some(other) = other.filter(|other| !other.agrees(&fact.value)) {
                let name = &fact.name;
                wrong(format!("is for {name} {}; stage '{earlier}' is for {}", other.value, fact.value));
            }
        }
        said.extend(own.into_iter().map(|fact| (variant.id.as_str().to_owned(), stage.name.clone(), fact)));
    }

    /// Compares a stamp with the manifest.
    fn check_stamp(self, said: &stamp::StampFields, wrong: &mut impl FnMut(String)) {
        let Self { release, stage, entry, variant, .. } = self;
        let manifest = &release.manifest;
        let mut differ = |what: &str, stamp: &str, manifest: &str| {
            wrong(format!("its stamp has {what} {}, the manifest {manifest}", text::sanitize(stamp)));
        };
        if let Some(product) = said.product.as_ref().filter(|product| **product != manifest.product) {
            differ("product", product, &manifest.product);
        }
        if !said.variants.is_empty() && !said.variants.iter().any(|id| id == variant.id.as_str()) {
            differ("variant", &said.variants.join(", "), variant.id.as_str());
        }
        // Images other than the application have versions of their own.
        let is_application = stage.stage.is_none() && stage.external.is_none();
        if let Some(version) = said.version.as_ref().filter(|_| is_application)
            && Version::parse(version) != Version::parse(&manifest.version)
        {
            differ("version", version, &manifest.version);
        }
        if let Some(part) = said.part.as_ref().filter(|part| Some(*part) != variant.part.as_ref()) {
            differ("part", part, variant.part.as_deref().unwrap_or("none"));
        }
        if let Some(build) = said.build.as_ref().filter(|build| **build != entry.build) {
            differ("build", build, &entry.build);
        }
        for (name, value) in &said.facts {
            let other =
                entry.facts.get(name).filter(|other| !Fact { name: name.clone(), value: value.clone() }.agrees(other));
            if let Some(other) = other {
                differ(name, value, other);
            }
        }
    }
}

/// The facts of an image: those of the manifest and of its stamp.
fn facts_of(entry: &Entry, image: &Image, variant: &Variant) -> Vec<Fact> {
    let mut facts = entry.facts();
    if let StampSearch::One(stamp) = stamp::find(image, variant.image.stamp_offset) {
        let stamped = stamp.text.facts.into_iter().map(|(name, value)| Fact { name, value });
        facts.extend(stamped.filter(|fact| !entry.facts.contains_key(&fact.name)).collect::<Vec<_>>());
    }
    facts
}
