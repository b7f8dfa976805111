//! Reading: from the bytes of a file to an image.

use std::sync::Arc;

use thiserror::Error;

use crate::address::Address;
use crate::detect::{self, NotFirmware};
use crate::edit::EditError;
use crate::facts::{AnyFile, Format, OpaqueHeader};
use crate::model::{Builder, Firmware, GroupId, Image, ImageGroup, TooHigh};
use crate::record::{self, RecordError};
use crate::{dfu_file, elf, hex, srec, uf2};

/// Options for reading a file.
#[derive(Clone, Copy, Debug, Default)]
pub struct ReadOptions {
    /// Start address of a raw binary. Other formats contain addresses.
    pub at: Option<Address>,
    /// The UF2 family to read.
    pub family: Option<u32>,
    /// The target of a DFU file to read, by its alternate setting.
    pub target: Option<u8>,
}

/// Why a file cannot be read as an image.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ReadError {
    /// The file is not firmware.
    #[error("{0}")]
    NotFirmware(NotFirmware),
    /// The file is a raw binary, and no start address was given.
    #[error("a raw binary has no address, and none was given")]
    NoAddress,
    /// A start address was given for a format that contains addresses.
    #[error("{0} contains addresses; an address can only be given for a raw binary")]
    AddressNotWanted(Format),
    /// The bytes would run past the highest address.
    #[error("{len} bytes from {start} exceed the 32-bit address space")]
    TooHigh {
        /// Start of the bytes.
        start: Address,
        /// Number of bytes.
        len: u64,
    },
    /// The file has several images, and none was selected.
    #[error("the file has several images, and none was selected: {}", names(.0))]
    Several(Vec<GroupId>),
    /// The selected image is not in the file.
    #[error("the selected image is not in the file; it has: {}", names(.0))]
    NotThere(Vec<GroupId>),
    /// One of several files cannot be read.
    #[error("{file}: {error}")]
    InFile {
        /// Name of the file.
        file: String,
        /// The error.
        error: Box<ReadError>,
    },
    /// Several files do not go together.
    #[error("the files do not go together: {0}")]
    Join(#[from] EditError),
    /// The file has no bytes for flash.
    #[error("the file has no data for flash")]
    Nothing,
    /// Intel HEX or S-record that is damaged or doubtful.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// An ELF file that is damaged or no program.
    #[error(transparent)]
    Elf(#[from] elf::ElfError),
    /// A UF2 file that is damaged or doubtful.
    #[error(transparent)]
    Uf2(#[from] uf2::Uf2Error),
    /// A DFU file that is damaged.
    #[error(transparent)]
    Dfu(#[from] dfu_file::DfuFileError),
}

fn names(sets: &[GroupId]) -> String {
    if sets.is_empty() {
        return "nothing".into();
    }
    sets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// A file that was parsed once. A clone shares its bytes; an image of it too.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::{FirmwareFile, ReadError, ReadOptions};
///
/// let file = FirmwareFile::parse(&[0x12, 0x34]);
/// // A raw binary carries no address.
/// assert_eq!(file.image(ReadOptions::default(), &[]), Err(ReadError::NoAddress));
/// let at = Some(Address::new(0x0800_0000));
/// let image = file.image(ReadOptions { at, ..ReadOptions::default() }, &[])?;
/// assert_eq!(image.start(), Address::new(0x0800_0000));
/// # Ok::<(), ReadError>(())
/// ```
#[derive(Clone, Debug)]
pub struct FirmwareFile(Arc<Result<Content, ReadError>>);

/// The parsed content of a file.
#[derive(Debug)]
enum Content {
    /// Images that carry their addresses.
    Addressed(Firmware),
    /// An image without an address, placed at 0.
    Raw(Box<Image>),
}

impl FirmwareFile {
    /// Parses the bytes of a file. Errors are reported by the methods that use the content.
    pub fn parse(bytes: &[u8]) -> Self {
        Self(Arc::new(Content::parse(bytes)))
    }

    /// A payload that only the bootloader understands, with the header that was in front of it. Its bytes
    /// are not examined.
    pub fn opaque(payload: &[u8], header: OpaqueHeader) -> Self {
        let image = binary(payload).map(|mut image| {
            image.facts.opaque = Some(header);
            Content::Raw(Box::new(image))
        });
        Self(Arc::new(image))
    }

    /// The bytes of a file as they are, for a unit that takes any file. A raw binary can be used as
    /// firmware too.
    pub fn any(bytes: &[u8], name: &str) -> Self {
        let is_binary = detect::detect(bytes).is_ok_and(|found| found.format == Format::Binary);
        let image = binary(bytes).map(|mut image| {
            image.facts.any_file = Some(AnyFile { name: name.to_owned(), is_binary });
            Content::Raw(Box::new(image))
        });
        Self(Arc::new(image))
    }

    /// Whether the file cannot be read as firmware.
    pub fn is_unreadable(&self) -> bool {
        self.0.is_err()
    }

    /// Whether it was made by [`any`](Self::any).
    pub fn is_any(&self) -> bool {
        matches!(&*self.0, Ok(Content::Raw(image)) if image.facts.any_file.is_some())
    }

    /// Whether the file is a raw binary.
    pub fn is_raw(&self) -> bool {
        matches!(*self.0, Ok(Content::Raw(_)))
    }

    /// The complete content of the file. `at` is the start address of a raw binary.
    ///
    /// # Errors
    /// [`ReadError`]: the file is to blame, or an address is missing or too much.
    pub fn firmware(&self, at: Option<Address>) -> Result<Firmware, ReadError> {
        match (&*self.0, at) {
            (Err(error), _) => Err(error.clone()),
            (Ok(Content::Raw(_)), None) => Err(ReadError::NoAddress),
            (Ok(Content::Raw(image)), Some(at)) => {
                let too_high = |TooHigh| ReadError::TooHigh { start: at, len: image.len() };
                let image = image.placed_at(at).map_err(too_high)?;
                let (format, sets) = (image.format(), vec![ImageGroup { name: GroupId::Whole, image }]);
                Ok(Firmware { format, sets, files: Vec::new(), notes: Vec::new() })
            }
            (Ok(Content::Addressed(firmware)), None) => Ok(firmware.clone()),
            (Ok(Content::Addressed(firmware)), Some(_)) => Err(ReadError::AddressNotWanted(firmware.format)),
        }
    }

    /// The one image of the file, or the chosen one. Of several UF2 families the one in
    /// `families` is chosen, unless `options` has another choice.
    ///
    /// # Errors
    /// [`ReadError`]: the file is invalid, or an option is missing.
    pub fn image(&self, options: ReadOptions, families: &[u32]) -> Result<Image, ReadError> {
        let mut firmware = self.firmware(options.at)?;
        let index = match select(&firmware, options) {
            Err(ReadError::Several(names)) if options.family.is_none() => {
                let is_known =
                    |set: &ImageGroup| matches!(set.name, GroupId::Family(Some(family)) if families.contains(&family));
                let mut known = firmware.sets.iter().enumerate().filter(|(_, set)| is_known(set));
                match (known.next(), known.next()) {
                    (Some((index, _)), None) => index,
                    _ => return Err(ReadError::Several(names)),
                }
            }
            selected => selected?,
        };
        let ImageGroup { mut image, .. } = firmware.sets.swap_remove(index);
        image.notes.splice(0..0, firmware.notes);
        Ok(image)
    }
}

impl Content {
    fn parse(bytes: &[u8]) -> Result<Self, ReadError> {
        let format = detect::detect(bytes).map_err(ReadError::NotFirmware)?.format;
        let one = |image| Firmware {
            format,
            sets: vec![ImageGroup { name: GroupId::Whole, image }],
            files: Vec::new(),
            notes: Vec::new(),
        };
        Ok(match format {
            Format::Binary => Self::Raw(Box::new(binary(bytes)?)),
            Format::IntelHex => Self::Addressed(one(hex::read(bytes)?)),
            Format::SRecord => Self::Addressed(one(srec::read(bytes)?)),
            Format::Elf => Self::Addressed(one(elf::read(bytes)?)),
            Format::Uf2 => Self::Addressed(uf2::read(bytes)?),
            Format::Dfu => match dfu_file::read(bytes)? {
                dfu_file::DfuContent::Plain(image) => Self::Raw(image),
                dfu_file::DfuContent::Targets(firmware) => Self::Addressed(firmware),
            },
        })
    }
}

/// Reads the complete content of a file.
///
/// # Errors
/// The same as [`FirmwareFile::firmware`].
///
/// # Examples
/// ```
/// let firmware = vaka_image::read_all(b":0100000001FE\n:00000001FF\n", None)?;
/// assert_eq!(firmware.sets.len(), 1);
/// # Ok::<(), vaka_image::ReadError>(())
/// ```
pub fn read_all(bytes: &[u8], at: Option<Address>) -> Result<Firmware, ReadError> {
    FirmwareFile::parse(bytes).firmware(at)
}

/// Reads Intel HEX or S-record in parts, for files too large to be in memory together with their
/// image.
pub struct StreamingReader(StreamKind);

enum StreamKind {
    Hex(Box<record::RecordStream<hex::Hex>>),
    SRecord(Box<record::RecordStream<srec::SRecord>>),
}

impl StreamingReader {
    /// Creates a reader for a file that starts with `head`, if it is one of the two formats. A
    /// DFU suffix at the end is not detected.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::StreamingReader;
    ///
    /// let file = b":0400100001020304E2\n:00000001FF\n";
    /// let mut reader = StreamingReader::for_head(file).unwrap();
    /// // A piece may end anywhere.
    /// reader.feed(&file[..7])?;
    /// reader.feed(&file[7..])?;
    /// assert_eq!(reader.finish()?.unwrap().len(), 4);
    /// # Ok::<(), vaka_image::RecordError>(())
    /// ```
    pub fn for_head(head: &[u8]) -> Option<Self> {
        match detect::detect(head).ok()?.format {
            Format::IntelHex => Some(Self(StreamKind::Hex(Box::default()))),
            Format::SRecord => Some(Self(StreamKind::SRecord(Box::default()))),
            _ => None,
        }
    }

    /// Processes the next part, which may end anywhere.
    ///
    /// # Errors
    /// The file is damaged or doubtful.
    pub fn feed(&mut self, piece: &[u8]) -> Result<(), RecordError> {
        match &mut self.0 {
            StreamKind::Hex(pump) => pump.feed(piece),
            StreamKind::SRecord(pump) => pump.feed(piece),
        }
    }

    /// Processes the end of the file. Returns `None` if two records assign different bytes to one
    /// address; only [`read`] can name the lines.
    ///
    /// # Errors
    /// The file is damaged or doubtful.
    pub fn finish(self) -> Result<Option<Image>, RecordError> {
        let finished = match self.0 {
            StreamKind::Hex(pump) => pump.finish()?,
            StreamKind::SRecord(pump) => pump.finish()?,
        };
        Ok(match finished {
            record::Finished::Image(image) => Some(*image),
            record::Finished::Overlap(_) => None,
        })
    }
}

/// Reads the one image of a file, or the chosen one.
///
/// # Errors
/// The same as [`FirmwareFile::image`].
///
/// # Examples
/// ```
/// use vaka_image::{ReadOptions, read};
///
/// let image = read(b":0400100001020304E2\n:00000001FF\n", ReadOptions::default())?;
/// assert_eq!(image.len(), 4);
/// # Ok::<(), vaka_image::ReadError>(())
/// ```
pub fn read(bytes: &[u8], options: ReadOptions) -> Result<Image, ReadError> {
    FirmwareFile::parse(bytes).image(options, &[])
}

/// The index of the one image that the options leave.
fn select(firmware: &Firmware, options: ReadOptions) -> Result<usize, ReadError> {
    let names = || firmware.sets.iter().map(|set| set.name.clone()).collect::<Vec<_>>();
    let is_chosen = |set: &ImageGroup| match set.name {
        GroupId::Whole => options.family.is_none() && options.target.is_none(),
        GroupId::Family(family) => options.target.is_none() && (options.family.is_none() || options.family == family),
        GroupId::Target { alternate, .. } => {
            options.family.is_none() && options.target.is_none_or(|target| target == alternate)
        }
    };
    let mut chosen = firmware.sets.iter().enumerate().filter(|(_, set)| is_chosen(set)).map(|(index, _)| index);
    match (chosen.next(), chosen.next()) {
        (Some(index), None) => Ok(index),
        (Some(_), Some(_)) => Err(ReadError::Several(names())),
        (None, _) if firmware.sets.is_empty() => Err(ReadError::Nothing),
        (None, _) => Err(ReadError::NotThere(names())),
    }
}

/// A raw binary; it starts at 0.
fn binary(bytes: &[u8]) -> Result<Image, ReadError> {
    let start = Address::new(0);
    let mut builder = Builder::default();
    builder.push(start, bytes).map_err(|TooHigh| ReadError::TooHigh { start, len: bytes.len() as u64 })?;
    builder.finish(Format::Binary).map_err(|_| ReadError::NotFirmware(NotFirmware::Empty))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::ADDRESS_LIMIT;

    #[test]
    fn a_binary_needs_an_address_and_must_end_below_4_gib() {
        let bytes = [0u8, 1, 2, 3];
        let at = |address| read(&bytes, ReadOptions { at: Some(Address::new(address)), ..ReadOptions::default() });
        assert_eq!(read(&bytes, ReadOptions::default()), Err(ReadError::NoAddress));
        assert_eq!(at(0xFFFF_FFFC).unwrap().span().end(), ADDRESS_LIMIT);
        assert!(matches!(at(0xFFFF_FFFD), Err(ReadError::TooHigh { .. })));
        assert!(matches!(at(u64::MAX), Err(ReadError::TooHigh { .. })));
    }
}
