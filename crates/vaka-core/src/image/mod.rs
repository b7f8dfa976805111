//! Images: addressed bytes, and what the file said besides them.
//!
//! [`read`] turns the bytes of a file into an [`Image`]; which format they are
//! is decided by their content (see [`detect`]), never by the file's name. One
//! file per format; each refuses what it cannot be sure of, with the line or
//! offset. There is no lenient mode.

pub mod completeness;
pub mod detect;
pub mod dfu_file;
pub mod edit;
pub mod elf;
pub mod fill;
pub mod hex;
mod record;
pub mod srec;
pub mod stamp;
pub mod uf2;
pub mod vectors;
pub mod wrapper;

pub use record::{RecordError, RecordFault};

use serde::Serialize;
use thiserror::Error;

use crate::address::{Address, Span};
use crate::version::Version;
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
    facts: FileFacts,
    notes: Vec<String>,
}

/// What a file says of itself besides its bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct FileFacts {
    /// The header of an S-record file, tamed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<String>,
    /// The UF2 family.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub family: Option<u32>,
    /// UF2 extension tags.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tags: Option<uf2::Tags>,
    /// Regions whose MD5 the UF2 blocks carry.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub md5_regions: Vec<uf2::Md5Region>,
    /// The DFU suffix.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dfu: Option<dfu_file::Suffix>,
    /// The ELF header.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elf: Option<elf::ElfFacts>,
    /// The version in the file's name: weak, since anybody can rename a file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub named_version: Option<Version>,
    /// Whether its name ends in `.dfu`, and it has no valid DFU suffix.
    pub lacks_suffix: bool,
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

    /// What was read from a memory, as an image; `None` if that is nothing, or
    /// the parts overlap with different bytes or run past 32 bits.
    pub fn of_memory(parts: &[(Address, Vec<u8>)]) -> Option<Self> {
        let mut builder = Builder::default();
        for (start, bytes) in parts {
            builder.push(*start, bytes).ok()?;
        }
        builder.finish(Format::Binary).ok()
    }

    /// The image without the 0xFF at its end, down to a multiple of `unit`
    /// bytes; `None` if there is nothing else.
    pub fn without_blank_end(&self, unit: u64) -> Option<Self> {
        let last_used = self.segments.iter().rev().find_map(|segment| {
            let at = segment.data.iter().rposition(|byte| *byte != 0xFF)?;
            segment.start.checked_add(at as u64)
        })?;
        let end = last_used.align_down(unit).checked_add(unit)?.min(self.span().end());
        self.cut(Span::between(self.start(), end)?).ok()
    }

    /// The image, with what its file's name says of it.
    #[must_use]
    pub fn named(mut self, name: &str) -> Self {
        self.facts.named_version = Version::in_name(name);
        self.facts.lacks_suffix = self.facts.dfu.is_none() && name.to_ascii_lowercase().ends_with(".dfu");
        self
    }

    /// What kind of file it came from.
    pub fn format(&self) -> Format {
        self.format
    }

    /// What the file says of itself.
    pub fn facts(&self) -> &FileFacts {
        &self.facts
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

/// All that a file holds: one image, or several that are kept apart.
#[derive(Clone, Debug)]
pub struct Firmware {
    /// What kind of file it is.
    pub format: Format,
    /// Its images.
    pub sets: Vec<Set>,
    /// Names of ordinary files that it holds besides (UF2), tamed.
    pub files: Vec<String>,
    /// Oddities of the file as a whole.
    pub notes: Vec<String>,
}

/// One image of several.
#[derive(Clone, Debug)]
pub struct Set {
    /// What keeps it apart from the others.
    pub name: SetName,
    /// The image.
    pub image: Image,
}

/// What keeps the images of a file apart.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SetName {
    /// There is only one.
    Whole,
    /// A UF2 family; `None` for blocks that name none.
    Family(Option<u32>),
    /// A target of a DFU file.
    Target {
        /// bAlternateSetting.
        alternate: u8,
        /// Its name.
        name: Option<String>,
    },
}

impl std::fmt::Display for SetName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Whole => f.write_str("all of it"),
            Self::Family(Some(family)) => write!(f, "family 0x{family:08X}"),
            Self::Family(None) => f.write_str("no family"),
            Self::Target { alternate, name: Some(name) } => write!(f, "target {alternate} \"{name}\""),
            Self::Target { alternate, name: None } => write!(f, "target {alternate}"),
        }
    }
}

/// What is given along with a file.
#[derive(Clone, Copy, Debug, Default)]
pub struct ReadOptions {
    /// Where a raw binary starts. Other formats carry their addresses.
    pub at: Option<Address>,
    /// Which of several UF2 families.
    pub family: Option<u32>,
    /// Which of several targets of a DFU file, by its alternate setting.
    pub target: Option<u8>,
}

/// Why a file is no image.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ReadError {
    /// The file is something else than firmware.
    #[error("{0}")]
    NotFirmware(NotFirmware),
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
    /// Several images, and nobody said which.
    #[error("the file holds several images, and none was chosen: {}", names(.0))]
    Several(Vec<SetName>),
    /// The chosen image is not there.
    #[error("the file does not hold what was chosen; it holds: {}", names(.0))]
    NotThere(Vec<SetName>),
    /// No bytes for flash.
    #[error("the file holds nothing that belongs into flash")]
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

fn names(sets: &[SetName]) -> String {
    if sets.is_empty() {
        return "nothing".into();
    }
    sets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// Reads everything that a file holds.
///
/// # Errors
/// [`ReadError`]: the file is to blame, or an address is missing or too much.
pub fn read_all(bytes: &[u8], at: Option<Address>) -> Result<Firmware, ReadError> {
    let format = detect::detect(bytes).map_err(ReadError::NotFirmware)?.format;
    let one = |image| Firmware {
        format,
        sets: vec![Set { name: SetName::Whole, image }],
        files: Vec::new(),
        notes: Vec::new(),
    };
    let own_addresses = |image| if at.is_some() { Err(ReadError::AddressNotWanted(format)) } else { Ok(image) };
    match format {
        Format::Binary => binary(bytes, at.ok_or(ReadError::NoAddress)?).map(one),
        Format::IntelHex => own_addresses(one(hex::read(bytes)?)),
        Format::SRecord => own_addresses(one(srec::read(bytes)?)),
        Format::Elf => own_addresses(one(elf::read(bytes)?)),
        Format::Uf2 => own_addresses(uf2::read(bytes)?),
        Format::Dfu => {
            let firmware = dfu_file::read(bytes, at)?.ok_or(ReadError::NoAddress)?;
            let plain = firmware.sets.iter().any(|set| set.name == SetName::Whole);
            if plain { Ok(firmware) } else { own_addresses(firmware) }
        }
    }
}

/// Reads Intel HEX or S-record piece by piece, for files that are too large to
/// be held in memory beside their image.
pub struct PieceReader(Pumps);

enum Pumps {
    Hex(Box<record::Pump<hex::Hex>>),
    SRecord(Box<record::Pump<srec::SRecord>>),
}

impl PieceReader {
    /// A reader for the file that begins with `head`, if it is one of the two
    /// formats by its content. A DFU suffix cannot be seen from there.
    pub fn for_head(head: &[u8]) -> Option<Self> {
        match detect::detect(head).ok()?.format {
            Format::IntelHex => Some(Self(Pumps::Hex(Box::default()))),
            Format::SRecord => Some(Self(Pumps::SRecord(Box::default()))),
            _ => None,
        }
    }

    /// Takes the next piece, which may end anywhere.
    ///
    /// # Errors
    /// The file is damaged or doubtful.
    pub fn feed(&mut self, piece: &[u8]) -> Result<(), RecordError> {
        match &mut self.0 {
            Pumps::Hex(pump) => pump.feed(piece),
            Pumps::SRecord(pump) => pump.feed(piece),
        }
    }

    /// Nothing follows any more. `None` if two records give one address
    /// different bytes: only [`read`] can tell which.
    ///
    /// # Errors
    /// The file is damaged or doubtful.
    pub fn finish(self) -> Result<Option<Image>, RecordError> {
        let finished = match self.0 {
            Pumps::Hex(pump) => pump.finish()?,
            Pumps::SRecord(pump) => pump.finish()?,
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
/// [`ReadError`]: the file is to blame, or something has to be said of it.
pub fn read(bytes: &[u8], options: ReadOptions) -> Result<Image, ReadError> {
    let mut firmware = read_all(bytes, options.at)?;
    let names = || firmware.sets.iter().map(|set| set.name.clone()).collect::<Vec<_>>();
    let chosen = |set: &Set| match set.name {
        SetName::Whole => options.family.is_none() && options.target.is_none(),
        SetName::Family(family) => options.target.is_none() && (options.family.is_none() || options.family == family),
        SetName::Target { alternate, .. } => {
            options.family.is_none() && options.target.is_none_or(|target| target == alternate)
        }
    };
    let mut found = firmware.sets.iter().enumerate().filter(|(_, set)| chosen(set)).map(|(index, _)| index);
    match (found.next(), found.next()) {
        (Some(index), None) => {
            let Set { mut image, .. } = firmware.sets.swap_remove(index);
            image.notes.splice(0..0, firmware.notes);
            Ok(image)
        }
        (Some(_), Some(_)) => Err(ReadError::Several(names())),
        (None, _) if firmware.sets.is_empty() => Err(ReadError::Nothing),
        (None, _) => Err(ReadError::NotThere(names())),
    }
}

/// The same; of several UF2 families the one is meant that is in `families`,
/// unless another choice was made.
///
/// # Errors
/// As for [`read`].
pub fn read_for(bytes: &[u8], options: ReadOptions, families: &[u32]) -> Result<Image, ReadError> {
    let Err(ReadError::Several(names)) = read(bytes, options) else { return read(bytes, options) };
    let of = |name: &SetName| match name {
        SetName::Family(Some(family)) => Some(*family).filter(|family| families.contains(family)),
        _ => None,
    };
    match names.iter().filter_map(of).collect::<Vec<_>>()[..] {
        [family] if options.family.is_none() => read(bytes, ReadOptions { family: Some(family), ..options }),
        _ => Err(ReadError::Several(names)),
    }
}

/// A raw binary that starts at `at`.
fn binary(bytes: &[u8], at: Address) -> Result<Image, ReadError> {
    let mut builder = Builder::default();
    builder.push(at, bytes).map_err(|TooHigh| ReadError::TooHigh { start: at, len: bytes.len() as u64 })?;
    builder.finish(Format::Binary).map_err(|_| ReadError::NotFirmware(NotFirmware::Empty))
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
    facts: FileFacts,
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
            Some(last) if last.start.get() + last.data.len() as u64 == start.get() => last.data.extend_from_slice(data),
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
        Ok(Image { segments, entry: self.entry, format, facts: self.facts, notes: self.notes })
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
        let at = |address| read(&bytes, ReadOptions { at: Some(Address::new(address)), ..ReadOptions::default() });
        assert_eq!(read(&bytes, ReadOptions::default()), Err(ReadError::NoAddress));
        assert_eq!(at(0xFFFF_FFFC).unwrap().span().end(), ADDRESS_LIMIT);
        assert!(matches!(at(0xFFFF_FFFD), Err(ReadError::TooHigh { .. })));
        assert!(matches!(at(u64::MAX), Err(ReadError::TooHigh { .. })));
    }
}
