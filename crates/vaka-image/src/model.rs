//! The image model: addressed bytes in segments, and the content of a file.

use std::sync::Arc;

use serde::Serialize;

use crate::address::{Address, Span};
use crate::facts::{FileFacts, Format};
use crate::stamp_record::StampCache;
use vaka_base::version::Version;

/// The value of erased flash.
pub const ERASED: u8 = 0xFF;

/// Contiguous bytes at an address. A clone shares the bytes.
#[derive(Clone, PartialEq, Eq)]
pub struct Segment {
    pub(crate) start: Address,
    pub(crate) data: Arc<Vec<u8>>,
}

impl Segment {
    pub(crate) fn new(start: Address, data: Vec<u8>) -> Self {
        Self { start, data: Arc::new(data) }
    }

    /// Start address.
    pub fn start(&self) -> Address {
        self.start
    }

    /// The bytes; never empty.
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
/// An image of at least one byte.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Image {
    pub(crate) segments: Vec<Segment>,
    pub(crate) entry: Option<Address>,
    pub(crate) format: Format,
    pub(crate) facts: FileFacts,
    pub(crate) notes: Vec<String>,
    pub(crate) stamps: StampCache,
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

    /// Builds an image from memory that was read. Returns `None` if there are no bytes, if parts
    /// overlap with different bytes, or if they exceed the 32-bit address range.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let parts = [(Address::new(4), vec![5, 6]), (Address::new(0), vec![1, 2, 3, 4])];
    /// let image = Image::from_memory(&parts).unwrap();
    /// // The parts touch, so they are one segment.
    /// assert_eq!(image.segments().len(), 1);
    /// assert!(Image::from_memory(&[]).is_none());
    /// ```
    pub fn from_memory(parts: &[(Address, Vec<u8>)]) -> Option<Self> {
        let mut builder = Builder::default();
        for (start, bytes) in parts {
            builder.push(*start, bytes).ok()?;
        }
        builder.finish(Format::Binary).ok()
    }

    /// Returns the image without trailing 0xFF, down to a multiple of `unit` bytes, or `None` if
    /// only 0xFF remains.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let image = Image::from_memory(&[(Address::new(0), vec![1, 2, 0xFF, 0xFF, 0xFF, 0xFF])]).unwrap();
    /// assert_eq!(image.trim_trailing_blank(4).unwrap().len(), 4);
    /// ```
    pub fn trim_trailing_blank(&self, unit: u64) -> Option<Self> {
        let last_used = self.segments.iter().rev().find_map(|segment| {
            let at = segment.data.iter().rposition(|byte| *byte != 0xFF)?;
            segment.start.checked_add(at as u64)
        })?;
        let end = last_used.align_down(unit).checked_add(unit)?.min(self.span().end());
        self.cut(Span::between(self.start(), end)?).ok()
    }

    /// Returns the image with the facts that its file name states.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let image = Image::from_memory(&[(Address::new(0), vec![1])]).unwrap().named("tern-r1-1.5.0.bin");
    /// assert_eq!(image.facts().named_version.as_ref().unwrap().as_str(), "1.5.0");
    /// ```
    #[must_use]
    pub fn named(mut self, name: &str) -> Self {
        if self.facts.any_file.is_some() {
            return self;
        }
        self.facts.named_version = Version::from_file_name(name);
        self.facts.lacks_suffix = self.facts.dfu.is_none() && name.to_ascii_lowercase().ends_with(".dfu");
        self
    }

    /// The image of a raw binary, moved so that it starts at an address.
    pub(crate) fn placed_at(&self, at: Address) -> Result<Self, TooHigh> {
        let mut placed = Self { stamps: StampCache::default(), ..self.clone() };
        let start = self.start();
        for segment in &mut placed.segments {
            let from_start = segment.start.offset_from(start).unwrap_or(0);
            segment.start = at.checked_add(from_start).ok_or(TooHigh)?;
            let end = segment.start.checked_add(segment.data.len() as u64).ok_or(TooHigh)?;
            if end > ADDRESS_LIMIT {
                return Err(TooHigh);
            }
        }
        Ok(placed)
    }

    /// Format of its file.
    pub fn format(&self) -> Format {
        self.format
    }

    /// Facts that the file states.
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

    /// The range from the lowest to the highest address, gaps included.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let image = Image::from_memory(&[(Address::new(0), vec![1]), (Address::new(8), vec![2])]).unwrap();
    /// assert_eq!((image.span().len(), image.len()), (9, 2));
    /// ```
    pub fn span(&self) -> Span {
        let last = self.segments[self.segments.len() - 1].span();
        Span::between(self.start(), last.end()).expect("segments rise")
    }

    /// Number of bytes, gaps not counted.
    pub fn len(&self) -> u64 {
        self.segments.iter().map(|segment| segment.data.len() as u64).sum()
    }

    /// Always false: an image has at least one byte.
    pub fn is_empty(&self) -> bool {
        false
    }

    /// The bytes of `span`, if one segment contains all of them.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::{Address, Span};
    ///
    /// let image = Image::from_memory(&[(Address::new(8), vec![1, 2, 3, 4])]).unwrap();
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// assert_eq!(image.bytes(span(9, 11)), Some(&[2, 3][..]));
    /// assert_eq!(image.bytes(span(9, 13)), None);
    /// ```
    pub fn bytes(&self, span: Span) -> Option<&[u8]> {
        let (part, bytes) = self.parts_in(span).next()?;
        (part == span).then_some(bytes)
    }

    /// Whether the image has a byte at an address.
    pub fn contains(&self, at: Address) -> bool {
        Span::new(at, 1).is_some_and(|span| self.parts_in(span).next().is_some())
    }

    /// The parts of the image inside `span`, in rising order, each with its addresses.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::{Address, Span};
    ///
    /// let parts = [(Address::new(0), vec![1, 2]), (Address::new(8), vec![3, 4])];
    /// let image = Image::from_memory(&parts).unwrap();
    /// let span = Span::between(Address::new(1), Address::new(9)).unwrap();
    /// let inside: Vec<&[u8]> = image.parts_in(span).map(|(_, bytes)| bytes).collect();
    /// assert_eq!(inside, [&[2][..], &[3]]);
    /// ```
    pub fn parts_in(&self, span: Span) -> impl Iterator<Item = (Span, &[u8])> {
        // Segments rise and never overlap, so the first one is found by its end.
        let first = self.segments.partition_point(|segment| segment.span().end() <= span.start());
        let reached = self.segments[first..].iter().take_while(move |segment| segment.start < span.end());
        reached.filter_map(move |segment| {
            let common = segment.span().common(span)?;
            let from = offset(common.start(), segment.start);
            Some((common, &segment.data[from..from + offset(common.end(), common.start())]))
        })
    }

    /// Copies the image's bytes from `start` on into `buffer`; gaps leave the buffer unchanged.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let image = Image::from_memory(&[(Address::new(2), vec![7, 8])]).unwrap();
    /// let mut buffer = [0; 5];
    /// image.copy_to(Address::new(0), &mut buffer);
    /// assert_eq!(buffer, [0, 0, 7, 8, 0]);
    /// ```
    pub fn copy_to(&self, start: Address, buffer: &mut [u8]) {
        let Some(wanted) = Span::new(start, buffer.len() as u64) else { return };
        for (part, bytes) in self.parts_in(wanted) {
            let to = offset(part.start(), start);
            buffer[to..to + bytes.len()].copy_from_slice(bytes);
        }
    }
}

/// Distance in memory-sized bytes; both ends lie in one buffer, so it fits.
pub(crate) fn offset(address: Address, base: Address) -> usize {
    address.offset_from(base).and_then(|n| usize::try_from(n).ok()).expect("inside one buffer")
}

/// The content of a file: one image, or several separate ones.
#[derive(Clone, Debug)]
pub struct Firmware {
    /// Format of the file.
    pub format: Format,
    /// The images.
    pub sets: Vec<ImageGroup>,
    /// Sanitized names of ordinary files in a UF2 file.
    pub files: Vec<String>,
    /// Oddities of the file as a whole.
    pub notes: Vec<String>,
}

/// One of several images in a file.
#[derive(Clone, Debug)]
pub struct ImageGroup {
    /// The property that distinguishes the image from the others.
    pub name: GroupId,
    /// The image.
    pub image: Image,
}

/// The property that distinguishes the images of a file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum GroupId {
    /// The file has one image.
    Whole,
    /// A UF2 family; `None` for blocks that name none.
    Family(Option<u32>),
    /// A target of a DFU file.
    Target {
        /// bAlternateSetting.
        alternate: u8,
        /// Name of the target.
        name: Option<String>,
    },
}

impl std::fmt::Display for GroupId {
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

/// The end of the address range: all supported formats and bootloaders use 32-bit addresses.
pub(crate) const ADDRESS_LIMIT: Address = Address::new(1 << 32);

/// Data would lie at or past [`ADDRESS_LIMIT`].
#[derive(Debug)]
pub(crate) struct TooHigh;

/// Why a [`Builder`] cannot build an image.
#[derive(Debug)]
pub(crate) enum BuildError {
    /// No bytes were added.
    Empty,
    /// Two parts assign different bytes to this address.
    Overlap(Address),
    /// There are more than [`MOST_BYTES`].
    TooLarge,
}

/// Most bytes of all parts of an image. Chosen by us: the largest file that is read.
pub(crate) const MOST_BYTES: u64 = 1 << 30;

/// A run of bytes while it grows.
#[derive(Debug)]
pub(crate) struct Piece {
    pub(crate) start: Address,
    pub(crate) data: Vec<u8>,
}

impl Piece {
    /// The address after the last byte.
    fn end(&self) -> u64 {
        self.start.get() + self.data.len() as u64
    }
}

/// Collects parts in any order and builds an image from them.
#[derive(Debug, Default)]
pub(crate) struct Builder {
    pub(crate) pieces: Vec<Piece>,
    /// Bytes of all parts so far; those above the limit are not stored.
    pub(crate) total: u64,
    pub(crate) entry: Option<Address>,
    pub(crate) facts: FileFacts,
    pub(crate) notes: Vec<String>,
}

impl Builder {
    /// Adds bytes at an address; cheap if they follow the previous ones.
    pub(crate) fn push(&mut self, start: Address, data: &[u8]) -> Result<(), TooHigh> {
        let end = start.checked_add(data.len() as u64).ok_or(TooHigh)?;
        if end > ADDRESS_LIMIT {
            return Err(TooHigh);
        }
        self.total += data.len() as u64;
        match self.pieces.last_mut() {
            _ if data.is_empty() || self.total > MOST_BYTES => {}
            Some(last) if last.end() == start.get() => last.data.extend_from_slice(data),
            _ => self.pieces.push(Piece { start, data: data.to_vec() }),
        }
        Ok(())
    }

    /// Sorts, joins and checks the pieces.
    pub(crate) fn finish(mut self, format: Format) -> Result<Image, BuildError> {
        if self.total > MOST_BYTES {
            return Err(BuildError::TooLarge);
        }
        self.pieces.sort_by_key(|piece| piece.start);
        let mut repeated = 0;
        let mut segments: Vec<Piece> = Vec::new();
        for piece in self.pieces {
            match segments.last_mut() {
                Some(last) if piece.start.get() <= last.end() => {
                    repeated += join(last, &piece).map_err(BuildError::Overlap)?;
                }
                _ => segments.push(piece),
            }
        }
        if repeated > 0 {
            self.notes.push(format!("{repeated} bytes occur twice in the file, with equal values"));
        }
        if segments.is_empty() {
            return Err(BuildError::Empty);
        }
        let segments = segments.into_iter().map(|piece| Segment::new(piece.start, piece.data)).collect();
        let stamps = StampCache::default();
        Ok(Image { segments, entry: self.entry, format, facts: self.facts, notes: self.notes, stamps })
    }
}

/// Appends `piece`, which starts inside `last` or at its end. Returns the number of overlapping
/// bytes, which must be equal.
fn join(last: &mut Piece, piece: &Piece) -> Result<u64, Address> {
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
pub struct ImageLayout {
    /// Address ranges of the data.
    pub segments: Vec<Span>,
    /// Bytes, gaps not counted.
    pub bytes: u64,
    /// The entry address the file names.
    pub entry: Option<Address>,
}

impl Image {
    /// The layout of the image, without its bytes.
    pub fn outline(&self) -> ImageLayout {
        ImageLayout {
            segments: self.segments.iter().map(Segment::span).collect(),
            bytes: self.len(),
            entry: self.entry,
        }
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
    fn parts_are_found_at_any_place() {
        let parts: Vec<(Address, Vec<u8>)> = (0..40u8).map(|n| (Address::new(u64::from(n) * 10), vec![n; 5])).collect();
        let image = Image::from_memory(&parts).unwrap();
        for from in 0..410 {
            for len in 0..30 {
                let span = Span::new(Address::new(from), len).unwrap();
                let found: Vec<u64> = image
                    .parts_in(span)
                    .flat_map(|(part, bytes)| {
                        assert_eq!(part.len(), bytes.len() as u64);
                        assert!(bytes.iter().all(|byte| u64::from(*byte) == part.start().get() / 10));
                        part.start().get()..part.end().get()
                    })
                    .collect();
                let expected: Vec<u64> = (from..from + len).filter(|at| at % 10 < 5 && *at < 400).collect();
                assert_eq!(found, expected, "{span}");
            }
        }
    }

    #[test]
    fn an_image_has_a_largest_size() {
        let block = vec![0; 1 << 20];
        let build = |blocks: u64| {
            let mut builder = Builder::default();
            // The same bytes again and again, as a file whose segments share them has.
            (0..blocks).for_each(|_| builder.push(Address::new(0), &block).unwrap());
            builder.total += MOST_BYTES - (8 << 20);
            builder.finish(Format::Binary)
        };
        assert!(build(8).is_ok());
        assert!(matches!(build(9), Err(BuildError::TooLarge)));
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
}
