//! The files of an update, as one image for its possible variants.

use thiserror::Error;

use crate::sheet::Variant;
use vaka_image::address::Address;
use vaka_image::{FirmwareFile, Image, ReadError, ReadOptions};

/// One file of an update.
#[derive(Clone, Debug)]
pub struct InputFile {
    /// The firmware file.
    pub file: FirmwareFile,
    /// Name of the file, which may contain a version; `None` if it has none.
    pub name: Option<String>,
    /// Options for reading it, with the address of a raw binary if that is given.
    pub options: ReadOptions,
    /// The region at whose start a raw binary begins.
    pub region: Option<String>,
}

impl InputFile {
    /// A file without a name and options.
    pub fn of(file: FirmwareFile) -> Self {
        Self { file, name: None, options: ReadOptions::default(), region: None }
    }
}

/// Why files are no image.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum InputError {
    /// A file cannot be read, or the place of a raw binary is not known yet.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// No variant has the region.
    #[error("no region has the name '{name}'; existing regions: {}", known.join(", "))]
    NoRegion {
        /// The name.
        name: String,
        /// The names of the regions.
        known: Vec<String>,
    },
}

/// One image of all files. A raw binary for a region begins at its start, if that is the same in all
/// `variants`; one without a place begins at `at`.
///
/// # Errors
/// `ReadError::NoAddress`: the place of a raw binary is not known yet. Or [`InputError`].
pub fn joined(
    files: &[InputFile],
    at: Option<Address>,
    families: &[u32],
    variants: &[&Variant],
) -> Result<Image, InputError> {
    let one = |input: &InputFile| {
        let image = placed(input, at, families, variants)?;
        Ok(match &input.name {
            Some(name) => image.named(name),
            None => image,
        })
    };
    if let [only] = files {
        return one(only);
    }
    let in_file = |input: &InputFile| one(input).map_err(|error| named(error, input.name.as_deref()));
    let images = files.iter().map(in_file).collect::<Result<Vec<_>, InputError>>()?;
    Ok(Image::join(&images).map_err(ReadError::from)?.ok_or(ReadError::Nothing)?)
}

/// Names the file, unless only its address is missing.
fn named(error: InputError, file: Option<&str>) -> InputError {
    match (error, file) {
        (InputError::Read(error), Some(file)) if error != ReadError::NoAddress => {
            ReadError::InFile { file: file.to_owned(), error: Box::new(error) }.into()
        }
        (error, _) => error,
    }
}

fn placed(
    input: &InputFile,
    at: Option<Address>,
    families: &[u32],
    variants: &[&Variant],
) -> Result<Image, InputError> {
    let InputFile { file, options, region, .. } = input;
    match (file.image(*options, families), region) {
        (Err(ReadError::NoAddress), Some(name)) => {
            let at = Some(start_of(name, variants)?);
            Ok(file.image(ReadOptions { at, ..*options }, families)?)
        }
        (Ok(image), Some(_)) => Err(ReadError::AddressNotWanted(image.format()).into()),
        (Err(ReadError::NoAddress), None) => Ok(file.image(ReadOptions { at, ..*options }, families)?),
        (image, _) => Ok(image?),
    }
}

/// The start of a region.
fn start_of(name: &str, variants: &[&Variant]) -> Result<Address, InputError> {
    let regions = || variants.iter().flat_map(|variant| &variant.regions);
    let named = regions().filter(|region| region.name == name);
    let mut starts: Vec<Address> = named.map(|region| region.span.start()).collect();
    starts.sort_unstable();
    starts.dedup();
    match starts[..] {
        [start] => Ok(start),
        [] => {
            let mut known: Vec<String> = regions().map(|region| region.name.clone()).collect();
            known.sort_unstable();
            known.dedup();
            Err(InputError::NoRegion { name: name.to_owned(), known })
        }
        _ => Err(ReadError::NoAddress.into()),
    }
}
