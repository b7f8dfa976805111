//! DFU files: a suffix after the image, and the files of the address extension with targets and
//! addresses.
//!
//! Source: DFU 1.1, appendix B; the published address extension. All integers
//! are little-endian. The suffix stands at the end of the file:
//!
//! ```text
//!  0 bcdDevice | 2 idProduct | 4 idVendor | 6 bcdDFU | 8 "UFD" | 11 length, 16 | 12 CRC-32 of all before it
//! ```

use thiserror::Error;
use vaka_base::checksum::crc32;

use crate::address::Address;
use crate::facts::{Format, Suffix};
use crate::model::{BuildError, Builder, Firmware, GroupId, Image, ImageGroup, TooHigh};
use vaka_base::text;

/// The CRC of a DFU suffix: the zip CRC without its last inversion.
fn suffix_crc(bytes: &[u8]) -> u32 {
    !crc32(bytes)
}

/// Why a DFU file is not a valid image. Offsets are from the start of the file.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum DfuFileError {
    /// The CRC does not fit.
    #[error("the DFU suffix has CRC {found:08X}, computed {expected:08X}: the file is damaged")]
    Crc {
        /// Computed from the bytes.
        expected: u32,
        /// Stored in the file.
        found: u32,
    },
    /// The suffix claims a length that cannot be.
    #[error("the DFU suffix claims to have {0} bytes")]
    SuffixLength(u8),
    /// The prefix exists, but the suffix is missing.
    #[error("the file begins as a DFU file of the address extension, but has no suffix: it is truncated")]
    NoSuffix,
    /// A part does not lie inside the file.
    #[error("offset {offset:#x}: {what}")]
    Structure {
        /// Offset of the damage.
        offset: usize,
        /// The damage.
        what: String,
    },
    /// Two elements assign different bytes to one address.
    #[error("target {target}: two elements assign different values to {address}")]
    Overlap {
        /// bAlternateSetting of the target.
        target: u8,
        /// The first address that differs.
        address: Address,
    },
}

/// Reads the suffix at the end of a file, if its signature is present.
///
/// # Errors
/// The signature is present, but the length or the CRC is wrong.
///
/// # Examples
/// ```
/// use vaka_image::dfu_file::{append_suffix, suffix};
/// use vaka_image::facts::Suffix;
///
/// let mut file = vec![1, 2, 3, 4];
/// let written = Suffix { release: 0x0150, product: 2, vendor: 0x1209, version: 0x0100 };
/// append_suffix(&mut file, written);
/// // The content ends where the suffix begins.
/// assert_eq!(suffix(&file), Ok(Some((written, 4))));
/// assert_eq!(suffix(b"no suffix stands here"), Ok(None));
/// ```
pub fn suffix(bytes: &[u8]) -> Result<Option<(Suffix, usize)>, DfuFileError> {
    let Some(&tail) = bytes.last_chunk::<16>() else { return Ok(None) };
    if &tail[8..11] != b"UFD" {
        return Ok(None);
    }
    let length = usize::from(tail[11]);
    if length < 16 || length > bytes.len() {
        return Err(DfuFileError::SuffixLength(tail[11]));
    }
    let found = u32::from_le_bytes([tail[12], tail[13], tail[14], tail[15]]);
    let expected = suffix_crc(&bytes[..bytes.len() - 4]);
    if expected != found {
        return Err(DfuFileError::Crc { expected, found });
    }
    let half = |at: usize| u16::from_le_bytes([tail[at], tail[at + 1]]);
    let suffix = Suffix { release: half(0), product: half(2), vendor: half(4), version: half(6) };
    Ok(Some((suffix, bytes.len() - length)))
}

/// Appends a suffix.
pub fn append_suffix(bytes: &mut Vec<u8>, suffix: Suffix) {
    for half in [suffix.release, suffix.product, suffix.vendor, suffix.version] {
        bytes.extend_from_slice(&half.to_le_bytes());
    }
    bytes.extend_from_slice(b"UFD\x10");
    let crc = suffix_crc(bytes);
    bytes.extend_from_slice(&crc.to_le_bytes());
}

/// The content of a DFU file.
pub(super) enum DfuContent {
    /// A raw binary without an address; the image starts at 0.
    Plain(Box<Image>),
    /// The targets of the address extension.
    Targets(Firmware),
}

/// Reads a DFU file.
///
/// # Errors
/// [`DfuFileError`]: the file is damaged. The inner [`TooHigh`] reports bytes above the 32-bit
/// range.
pub(super) fn read(bytes: &[u8]) -> Result<DfuContent, DfuFileError> {
    let (suffix, end) = suffix(bytes)?.ok_or(DfuFileError::NoSuffix)?;
    let content = &bytes[..end];
    if content.starts_with(PREFIX) {
        let mut firmware = Firmware { format: Format::Dfu, sets: Vec::new(), files: Vec::new(), notes: Vec::new() };
        firmware.sets = targets(content, suffix, &mut firmware.notes)?;
        return Ok(DfuContent::Targets(firmware));
    }
    let mut builder = Builder::default();
    builder.facts.dfu = Some(suffix);
    let start = Address::new(0);
    builder.push(start, content).map_err(|TooHigh| structure(0, "the data exceeds the highest address".into()))?;
    let image = builder.finish(Format::Dfu).map_err(|_| structure(0, "there is no data before the suffix".into()))?;
    Ok(DfuContent::Plain(Box::new(image)))
}

/// The signature with which the address extension's files begin.
pub(super) const PREFIX: &[u8] = &[0x44, 0x66, 0x75, 0x53, 0x65];

fn structure(offset: usize, what: String) -> DfuFileError {
    DfuFileError::Structure { offset, what }
}

/// A forward reader that knows its offset.
struct Reader<'a> {
    bytes: &'a [u8],
    offset: usize,
}

impl<'a> Reader<'a> {
    fn take(&mut self, len: usize, what: &str) -> Result<&'a [u8], DfuFileError> {
        let end = self.offset.checked_add(len).filter(|end| *end <= self.bytes.len());
        let end = end.ok_or_else(|| structure(self.offset, format!("the file ends inside {what}")))?;
        let taken = &self.bytes[self.offset..end];
        self.offset = end;
        Ok(taken)
    }

    fn word(&mut self, what: &str) -> Result<u32, DfuFileError> {
        let bytes = self.take(4, what)?;
        Ok(u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]))
    }

    fn byte(&mut self, what: &str) -> Result<u8, DfuFileError> {
        Ok(self.take(1, what)?[0])
    }
}

/// Reads all targets: the prefix (11 bytes), then a header (274 bytes) and elements for each
/// target.
fn targets(content: &[u8], suffix: Suffix, notes: &mut Vec<String>) -> Result<Vec<ImageGroup>, DfuFileError> {
    let mut reader = Reader { bytes: content, offset: PREFIX.len() };
    let version = reader.byte("the prefix")?;
    if version != 1 {
        return Err(structure(5, format!("version {version} of the prefix is not supported")));
    }
    let size = reader.word("the prefix")?;
    if u64::from(size) != content.len() as u64 {
        return Err(structure(6, format!("the prefix states {size} bytes, there are {}", content.len())));
    }
    let count = reader.byte("the prefix")?;
    let mut sets: Vec<ImageGroup> = Vec::new();
    for _ in 0..count {
        let start = reader.offset;
        if let Some(set) = target(&mut reader, suffix, notes)? {
            if sets.iter().any(|other| other.name == set.name) {
                return Err(structure(start, "a second target has the same alternate setting and name".into()));
            }
            sets.push(set);
        }
    }
    if reader.offset != content.len() {
        return Err(structure(reader.offset, "extra bytes follow the last target".into()));
    }
    Ok(sets)
}

/// Reads one target. Returns `None` if it has no elements, which is legal.
fn target(
    reader: &mut Reader<'_>,
    suffix: Suffix,
    notes: &mut Vec<String>,
) -> Result<Option<ImageGroup>, DfuFileError> {
    let what = "a target's head";
    let start = reader.offset;
    if reader.take(6, what)? != b"Target" {
        return Err(structure(start, "no target starts here".into()));
    }
    let alternate = reader.byte(what)?;
    let named = reader.word(what)? != 0;
    let name = reader.take(255, what)?;
    let name = name.split(|byte| *byte == 0).next().filter(|_| named);
    let name = name.map(|name| text::sanitize(&String::from_utf8_lossy(name)));
    let (size, count) = (reader.word(what)?, reader.word(what)?);
    let begin = reader.offset;
    let mut builder = Builder::default();
    builder.facts.dfu = Some(suffix);
    for _ in 0..count {
        let at = reader.offset;
        let (address, len) = (reader.word("an element")?, reader.word("an element")?);
        let data = reader.take(len as usize, "an element")?;
        builder
            .push(Address::new(u64::from(address)), data)
            .map_err(|TooHigh| structure(at, "the element exceeds the highest address".into()))?;
    }
    if reader.offset - begin != size as usize {
        let found = reader.offset - begin;
        return Err(structure(start, format!("the target states {size} bytes, its elements have {found}")));
    }
    match builder.finish(Format::Dfu) {
        Ok(image) => Ok(Some(ImageGroup { name: GroupId::Target { alternate, name }, image })),
        Err(BuildError::Empty) => {
            notes.push(format!("target {alternate} is empty"));
            Ok(None)
        }
        Err(BuildError::TooLarge) => Err(structure(start, "the target has more than 1 GiB of data".into())),
        Err(BuildError::Overlap(address)) => Err(DfuFileError::Overlap { target: alternate, address }),
    }
}

/// Writes a file of the address extension with one target.
///
/// `None` if the image is too large for the format's 32-bit sizes.
pub fn write_addressed(image: &Image, alternate: u8, name: &str, suffix: Suffix) -> Option<Vec<u8>> {
    let elements: usize = image.segments().iter().map(|segment| 8 + segment.data().len()).sum();
    let size = u32::try_from(11 + 274 + elements).ok()?;
    let mut out = Vec::with_capacity(elements + 301);
    out.extend_from_slice(PREFIX);
    out.push(1);
    out.extend_from_slice(&size.to_le_bytes());
    out.push(1);
    out.extend_from_slice(b"Target");
    out.push(alternate);
    out.extend_from_slice(&u32::from(!name.is_empty()).to_le_bytes());
    let mut field = [0; 255];
    let len = name.len().min(254);
    field[..len].copy_from_slice(&name.as_bytes()[..len]);
    out.extend_from_slice(&field);
    out.extend_from_slice(&u32::try_from(elements).ok()?.to_le_bytes());
    out.extend_from_slice(&u32::try_from(image.segments().len()).ok()?.to_le_bytes());
    for segment in image.segments() {
        out.extend_from_slice(&segment.start().to_u32()?.to_le_bytes());
        out.extend_from_slice(&u32::try_from(segment.data().len()).ok()?.to_le_bytes());
        out.extend_from_slice(segment.data());
    }
    append_suffix(&mut out, Suffix { version: 0x011A, ..suffix });
    Some(out)
}
