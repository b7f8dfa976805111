//! The image of a request.

use vaka_core::input::{InputError, InputFile, joined};
use vaka_core::sheet::{Sheet, Variant};
use vaka_image::address::Address;
use vaka_image::{Image, ReadError};

use super::errors::unreadable;
use super::request::Request;
use crate::failure::{Failure, FailureKind, UnitCondition};
use crate::remedy::Remedy;

impl From<InputError> for Failure {
    fn from(error: InputError) -> Self {
        match error {
            InputError::Read(error) => unreadable(&error),
            InputError::NoRegion { name, known } => {
                Self::new(FailureKind::NoSuchRegion { name }).remedy(Remedy::KnownRegions(known))
            }
        }
    }
}

impl Request<'_> {
    /// One image of all files, for these possible variants; see [`joined`].
    ///
    /// # Errors
    /// The same as [`joined`].
    pub(super) fn image(
        &self,
        at: Option<Address>,
        families: &[u32],
        variants: &[&Variant],
    ) -> Result<Image, InputError> {
        joined(&self.files, at, families, variants)
    }

    /// The failure if a raw binary has no address: with several files its name and how each is given
    /// its place.
    pub(super) fn no_address(&self, sheets: &[&Sheet]) -> Failure {
        let is_open = |input: &&InputFile| {
            let image = input.file.image(input.options, &[]);
            input.region.is_none() && image == Err(ReadError::NoAddress)
        };
        let failure = match self.files.iter().find(is_open).filter(|_| self.files.len() > 1) {
            Some(InputFile { name: Some(file), .. }) => {
                let error = Box::new(ReadError::NoAddress);
                let kind = FailureKind::File(ReadError::InFile { file: file.clone(), error });
                Failure::new(kind).remedy(Remedy::GivePlace)
            }
            _ => {
                let start = |variant: &Variant| (variant.id.clone(), variant.image.region.span.start());
                let starts = sheets.iter().flat_map(|sheet| &sheet.variants).map(start).collect();
                Failure::new(FailureKind::NoAddress).remedy(Remedy::GiveAddress { starts })
            }
        };
        failure.unit(UnitCondition::NoUnit)
    }

    /// Whether a file goes to the start of a region.
    pub(super) fn names_region(&self) -> bool {
        self.files.iter().any(|input| input.region.is_some())
    }
}
