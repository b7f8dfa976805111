//! Images: addressed bytes, and what the file said besides them.
//!
//! [`read`] turns the bytes of a file into an [`Image`]; which format they are
//! is decided by their content (see [`detect`]), never by the file's name. One
//! file per format; each refuses what it cannot be sure of, with the line or
//! offset. There is no lenient mode.

pub mod detect;
pub mod hex;
pub mod vectors;

use serde::Serialize;
use thiserror::Error;

use crate::address::{Address, Span};
use detect::{Format, NotFirmware};

/// One run of bytes at an address.
#[derive(Clone, PartialEq, Eq)]
pub struct Segment {
    start: Address,
    data: Vec<u8>,
}

impl Segment {
    /// Where it starts.
    pub fn start(&self) -> Address {
        self.start
    }

    /// Its bytes; never empty.
    pub fn data(&self) -> &[u8] {
        &self.data
    }

    /// The addresses it covers.
    pub fn span(&self) -> Span {
        Span::new(self.start, self.data.len() as u64).expect("checked when the segment was made")
    }
}

impl std::fmt::Debug for Segment {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Segment({})", self.span())
    }
}

/// Addressed bytes in segments that rise, never overlap and never touch.
///
/// An image holds at least one byte: a file without any is no image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Image {
    segments: Vec<Segment>,
    entry: Option<Address>,
    format: Format,
    notes: Vec<String>,
}

impl Image {
    /// The segments, in rising order.
    pub fn segments(&self) -> &[Segment] {
        &self.segments
    }

    /// The entry address that the file names; evidence, not an order.
    pub fn entry(&self) -> Option<Address> {
        self.entry
    }

    /// What kind of file it came from.
    pub fn format(&self) -> Format {
        self.format
    }

    /// Oddities met while reading, each a sentence.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// Lowest address.
    pub fn start(&self) -> Address {
        self.segments[0].start
    }

    /// From the lowest to the highest address, gaps included.
    pub fn span(&self) -> Span {
        let last = self.segments[self.segments.len() - 1].span();
        Span::between(self.start(), last.end()).expect("segments rise")
    }

    /// Number of bytes, gaps not counted.
    pub fn len(&self) -> u64 {
        self.segments.iter().map(|segment| segment.data.len() as u64).sum()
    }

    /// Always false: an image holds at least one byte.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// The bytes of `span`, if one segment holds all of them.
    pub fn bytes(&self, span: Span) -> Option<&[u8]> {
        let segment = self.segments.iter().find(|segment| segment.span().covers(span))?;
        let from = usize::try_from(span.start().offset_from(segment.start)?).ok()?;
        segment.data.get(from..from + usize::try_from(span.len()).ok()?)
    }

    /// Copies what the image holds of the addresses from `start` on into
    /// `buffer`; bytes in gaps stay as they are.
    pub fn copy_to(&self, start: Address, buffer: &mut [u8]) {
        let Some(wanted) = Span::new(start, buffer.len() as u64) else { return };
        for segment in &self.segments {
            if let Some(common) = segment.span().common(wanted) {
                let from = offset(common.start(), segment.start);
                let to = offset(common.start(), start);
                let len = offset(common.end(), common.start());
                buffer[to..to + len].copy_from_slice(&segment.data[from..from + len]);
            }
        }
    }
}

/// Distance in memory-sized bytes; both ends lie in one buffer, so it fits.
fn offset(address: Address, base: Address) -> usize {
    address.offset_from(base).and_then(|n| usize::try_from(n).ok()).expect("inside one buffer")
}

/// What is given along with a file.
#[derive(Clone, Copy, Debug, Default)]
pub struct ReadOptions {
    /// Where a raw binary starts. Other formats carry their addresses.
    pub at: Option<Address>,
}

/// Why a file is no image.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ReadError {
    /// The file is something else than firmware.
    #[error("{0}")]
    NotFirmware(NotFirmware),
    /// Firmware in a format that is recognised, but not read.
    #[error("this is {0}, which Vaka cannot read yet; convert it to Intel HEX or a binary")]
    Unsupported(Format),
    /// A raw binary, and nobody said where it starts.
    #[error("a raw binary carries no address, and none was given")]
    NoAddress,
    /// An address was given, but the file carries its own.
    #[error("{0} carries its own addresses; an address can only be given for a raw binary")]
    AddressNotWanted(Format),
    /// The bytes would run past the highest address.
    #[error("{len} bytes from {start} run past the end of the 32-bit address space")]
    TooHigh {
        /// Where they start.
        start: Address,
        /// How many they are.
        len: u64,
    },
    /// Intel HEX that is damaged or doubtful.
    #[error(transparent)]
    Hex(#[from] hex::HexError),
}

/// Reads an image from the bytes of a file.
///
/// # Errors
/// [`ReadError`]: the file is to blame, or an address is missing or too much.
pub fn read(bytes: &[u8], options: ReadOptions) -> Result<Image, ReadError> {
    let format = detect::detect(bytes).map_err(ReadError::NotFirmware)?.format;
    match (format, options.at) {
        (Format::Binary, Some(at)) => binary(bytes, at),
        (Format::Binary, None) => Err(ReadError::NoAddress),
        (Format::IntelHex, Some(_)) => Err(ReadError::AddressNotWanted(format)),
        (Format::IntelHex, None) => Ok(hex::read(bytes)?),
        (other, _) => Err(ReadError::Unsupported(other)),
    }
}

/// A raw binary that starts at `at`.
fn binary(bytes: &[u8], at: Address) -> Result<Image, ReadError> {
    let mut builder = Builder::default();
    builder.push(at, bytes).map_err(|TooHigh| ReadError::TooHigh { start: at, len: bytes.len() as u64 })?;
    Ok(builder.finish(Format::Binary).expect("one piece cannot overlap, and a binary is not empty"))
}

/// The highest address behind the last byte: 32 bits is what all formats and
/// bootloaders here can name.
const ADDRESS_LIMIT: Address = Address::new(1 << 32);

/// Data would lie at or past [`ADDRESS_LIMIT`].
#[derive(Debug)]
struct TooHigh;

/// Why a [`Builder`] makes no image.
#[derive(Debug)]
enum BuildError {
    /// No byte was pushed.
    Empty,
    /// Two pieces give this address different bytes.
    Overlap(Address),
}

/// Collects pieces in any order and makes an image of them.
#[derive(Debug, Default)]
struct Builder {
    pieces: Vec<Segment>,
    entry: Option<Address>,
    notes: Vec<String>,
}

impl Builder {
    /// Adds bytes at an address; cheap where they follow the last ones.
    fn push(&mut self, start: Address, data: &[u8]) -> Result<(), TooHigh> {
        let end = start.checked_add(data.len() as u64).ok_or(TooHigh)?;
        if end > ADDRESS_LIMIT {
            return Err(TooHigh);
        }
        match self.pieces.last_mut() {
            _ if data.is_empty() => {}
            Some(last) if last.span().end() == start => last.data.extend_from_slice(data),
            _ => self.pieces.push(Segment { start, data: data.to_vec() }),
        }
        Ok(())
    }

    /// Sorts, joins and checks the pieces.
    fn finish(mut self, format: Format) -> Result<Image, BuildError> {
        self.pieces.sort_by_key(|piece| piece.start);
        let mut repeated = 0;
        let mut segments: Vec<Segment> = Vec::new();
        for piece in self.pieces {
            match segments.last_mut() {
                Some(last) if piece.start <= last.span().end() => {
                    repeated += join(last, &piece).map_err(BuildError::Overlap)?;
                }
                _ => segments.push(piece),
            }
        }
        if repeated > 0 {
            self.notes.push(format!("{repeated} bytes stand in the file twice, with equal values"));
        }
        if segments.is_empty() {
            return Err(BuildError::Empty);
        }
        Ok(Image { segments, entry: self.entry, format, notes: self.notes })
    }
}

/// Joins `piece`, which starts inside or right behind `last`, to it. Returns
/// how many bytes both had; they must be equal.
fn join(last: &mut Segment, piece: &Segment) -> Result<u64, Address> {
    let from = offset(piece.start, last.start);
    let common = piece.data.len().min(last.data.len() - from);
    let differs = last.data[from..from + common].iter().zip(&piece.data).position(|(a, b)| a != b);
    if let Some(index) = differs {
        return Err(piece.start.checked_add(index as u64).expect("inside a checked piece"));
    }
    last.data.extend_from_slice(&piece.data[common..]);
    Ok(common as u64)
}

/// The outline of an image, for output.
#[derive(Clone, Debug, Serialize)]
pub struct Outline {
    /// Where the file's data lies.
    pub segments: Vec<Span>,
    /// Bytes, gaps not counted.
    pub bytes: u64,
    /// The entry address the file names.
    pub entry: Option<Address>,
}

impl Image {
    /// Its outline.
    pub fn outline(&self) -> Outline {
        Outline { segments: self.segments.iter().map(Segment::span).collect(), bytes: self.len(), entry: self.entry }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_join_in_any_order() {
        let mut builder = Builder::default();
        builder.push(Address::new(8), &[8, 9]).unwrap();
        builder.push(Address::new(4), &[4, 5, 6, 7]).unwrap();
        builder.push(Address::new(20), &[]).unwrap();
        builder.push(Address::new(16), &[16]).unwrap();
        let image = builder.finish(Format::Binary).unwrap();
        assert_eq!(
            format!("{:?}", image.segments()),
            "[Segment(0x0000_0004..0x0000_000A), Segment(0x0000_0010..0x0000_0011)]"
        );
        assert_eq!(image.len(), 7);
        let mut buffer = [0xA5; 8];
        image.copy_to(Address::new(9), &mut buffer);
        assert_eq!(buffer, [9, 0xA5, 0xA5, 0xA5, 0xA5, 0xA5, 0xA5, 16]);
    }

    #[test]
    fn equal_overlap_is_noted_and_different_overlap_refused() {
        let push = |second: &[u8]| {
            let mut builder = Builder::default();
            builder.push(Address::new(0), &[1, 2, 3, 4]).unwrap();
            builder.push(Address::new(2), second).unwrap();
            builder.finish(Format::Binary)
        };
        let image = push(&[3, 4, 5]).unwrap();
        assert_eq!(image.segments()[0].data(), [1, 2, 3, 4, 5]);
        assert_eq!(image.notes().len(), 1);
        assert!(matches!(push(&[3, 9]), Err(BuildError::Overlap(at)) if at == Address::new(3)));
    }

    #[test]
    fn a_binary_needs_an_address_and_must_end_below_4_gib() {
        let bytes = [0u8, 1, 2, 3];
        let at = |address| read(&bytes, ReadOptions { at: Some(Address::new(address)) });
        assert_eq!(read(&bytes, ReadOptions::default()), Err(ReadError::NoAddress));
        assert_eq!(at(0xFFFF_FFFC).unwrap().span().end(), ADDRESS_LIMIT);
        assert!(matches!(at(0xFFFF_FFFD), Err(ReadError::TooHigh { .. })));
        assert!(matches!(at(u64::MAX), Err(ReadError::TooHigh { .. })));
    }
}
