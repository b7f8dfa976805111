//! Files that commands read and write: images in every format, and files stored as a whole.

use std::borrow::Cow;
use std::path::Path;

use serde::Serialize;
use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_image::address::Span;
use vaka_image::facts::Suffix;
use vaka_image::{FirmwareFile, Image, ReadError, ReadOptions, dfu_file, hex, srec, uf2};

use crate::args::{Output, Writable};
use crate::cli_error::CliError;
use crate::input_file;
use crate::output_file::{self, Existing};
use crate::render::wrap;
use vaka_messages::{CommandError, OutputKind};

/// Reads one image.
pub fn read(path: &Path, options: ReadOptions) -> Result<Image, CliError> {
    if let Some(image) = input_file::in_pieces(path).filter(|_| options.family.is_none() && options.target.is_none()) {
        return Ok(image);
    }
    let file = FirmwareFile::parse(&input_file::firmware(path)?);
    // Other formats contain addresses, and --at applies only to those that do not.
    let image = file.image(options, &[]).or_else(|error| match error {
        ReadError::AddressNotWanted(_) => file.image(ReadOptions { at: None, ..options }, &[]),
        other => Err(other),
    });
    image.map_err(|error| CommandError::File { path: path.to_owned(), error }.into())
}

/// Checks the output path and format before the work starts.
pub fn may_write(path: &Path, output: &Output) -> Result<(), CliError> {
    if output.to.or_else(|| by_ending(path)).is_none() {
        return Err(no_format(path));
    }
    may_store(path, output.replace)
}

/// Checks whether a file may be created there.
pub fn may_store(path: &Path, replace: bool) -> Result<(), CliError> {
    reserve_standard_output(path);
    output_file::may_create(path, existing(replace))
        .map_err(|error| CliError::unwritten(path, error, OutputKind::Replaceable))
}

fn no_format(path: &Path) -> CliError {
    CommandError::NoFormat { path: path.to_owned() }.into()
}

/// A file that was written from an image.
#[derive(Debug, Serialize)]
#[serde(tag = "event", rename = "written")]
pub struct WrittenFile {
    pub file: String,
    /// Bytes of the image.
    pub bytes: u64,
    pub segments: usize,
    pub range: Span,
    /// Bytes of 0xFF that the format adds.
    pub padding: u64,
}

impl std::fmt::Display for WrittenFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let segments = text::count(self.segments, "segment");
        write!(f, "{}: {} in {segments}, {}", self.file, Bytes(self.bytes), self.range)?;
        match self.padding {
            0 => Ok(()),
            padding => write!(f, "; {} bytes of 0xFF pad its blocks", Grouped(padding)),
        }
    }
}

/// Writes an image.
pub fn write(image: &Image, path: &Path, output: &Output) -> Result<WrittenFile, CliError> {
    let format = output.to.or_else(|| by_ending(path)).ok_or_else(|| no_format(path))?;
    let filled = match output.fill {
        Some(byte) => Cow::Owned(image.filled(byte).map_err(|error| CliError::usage(format!("{error}.")))?),
        None => Cow::Borrowed(image),
    };
    let too_large = || CommandError::ImageTooLarge;
    let suffix = output.dfu_ids.unwrap_or(Suffix { release: 0xFFFF, product: 0xFFFF, vendor: 0xFFFF, version: 0x0100 });
    let mut padding = 0;
    match format {
        Writable::Bin => store(path, output.replace, &[single(&filled)?])?,
        Writable::Hex => store(path, output.replace, &[&hex::write(&filled)])?,
        Writable::Srec => store(path, output.replace, &[&srec::write(&filled)])?,
        Writable::Uf2 => {
            let bytes = uf2::write(&filled, output.family).ok_or_else(too_large)?;
            padding = (bytes.len() / uf2::BLOCK * 256) as u64 - filled.len();
            store(path, output.replace, &[&bytes])?;
        }
        Writable::Dfu => {
            let mut bytes = single(&filled)?.to_vec();
            dfu_file::append_suffix(&mut bytes, suffix);
            store(path, output.replace, &[&bytes])?;
        }
        Writable::DfuAddressed => {
            let bytes = dfu_file::write_addressed(&filled, 0, "", suffix).ok_or_else(too_large)?;
            store(path, output.replace, &[&bytes])?;
        }
    }
    Ok(WrittenFile {
        file: path.display().to_string(),
        bytes: filled.len(),
        segments: filled.segments().len(),
        range: filled.span(),
        padding,
    })
}

/// The bytes of an image without gaps, as formats without addresses need it.
fn single(image: &Image) -> Result<&[u8], CliError> {
    match image.segments() {
        [only] => Ok(only.data()),
        several => {
            let gap_bytes = image.span().len() - image.len();
            Err(CommandError::Gaps { segments: several.len(), gap_bytes }.into())
        }
    }
}

fn by_ending(path: &Path) -> Option<Writable> {
    Some(match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
        "bin" => Writable::Bin,
        "hex" | "ihx" | "ihex" => Writable::Hex,
        "srec" | "s19" | "s28" | "s37" | "mot" => Writable::Srec,
        "uf2" => Writable::Uf2,
        "dfu" => Writable::Dfu,
        _ => return None,
    })
}

/// Writes a file completely or not at all.
pub fn store(path: &Path, replace: bool, parts: &[&[u8]]) -> Result<(), CliError> {
    reserve_standard_output(path);
    output_file::write(path, existing(replace), parts)
        .map_err(|error| CliError::unwritten(path, error, OutputKind::Replaceable))
}

/// Writes a file completely or not at all, and never replaces one.
pub fn store_new(path: &Path, text: &str) -> Result<(), CliError> {
    reserve_standard_output(path);
    let written = output_file::write(path, Existing::Keep, &[text.as_bytes()]);
    written.map_err(|error| CliError::unwritten(path, error, OutputKind::New))
}

fn existing(replace: bool) -> Existing {
    if replace { Existing::Replace } else { Existing::Keep }
}

/// If the content goes to standard output, messages go to standard error.
fn reserve_standard_output(path: &Path) {
    if output_file::is_standard_output(path) {
        wrap::messages_to_standard_error();
    }
}
