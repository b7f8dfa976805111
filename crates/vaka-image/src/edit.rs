//! Cutting, moving, filling and joining images. Each operation returns a new image.

use std::sync::Arc;

use thiserror::Error;

use crate::address::{Address, Span};
use crate::facts::Format;
use crate::model::{BuildError, Builder, Image, Segment, TooHigh};
use crate::stamp_record::StampCache;

/// Why an edit is not possible.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum EditError {
    /// The image has no data in the range.
    #[error("the image has no data in {0}")]
    Nothing(Span),
    /// The image would exceed the 32-bit address range.
    #[error("the image would exceed the 32-bit address space")]
    Outside,
    /// Two images assign different bytes to one address.
    #[error("different values are assigned to {0}")]
    Overlap(Address),
    /// The images together are larger than any image.
    #[error("the image would have more than 1 GiB of data")]
    TooLarge,
    /// One of several images is a payload that only the bootloader understands.
    #[error("a payload that only the bootloader understands cannot be joined with others")]
    Opaque,
    /// Two files name different chips or units.
    #[error("the files are for different chips or units: one {0}")]
    Different(&'static str),
    /// The gaps exceed the fill limit.
    #[error("the gaps have {0} bytes; cut the image first")]
    TooMuchGap(u64),
}

/// Maximum size of the gaps to fill. Chosen by us: as large as flash of this kind.
const MAX_FILL: u64 = 256 << 20;

impl Image {
    /// Returns the part of the image inside `span`.
    ///
    /// # Errors
    /// [`EditError::Nothing`] if that part is empty.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::{Address, Span};
    ///
    /// let image = Image::from_memory(&[(Address::new(0x100), vec![1, 2, 3, 4])]).unwrap();
    /// let cut = image.cut(Span::between(Address::new(0x101), Address::new(0x103)).unwrap()).unwrap();
    /// assert_eq!(cut.segments()[0].data(), [2, 3]);
    /// ```
    pub fn cut(&self, span: Span) -> Result<Self, EditError> {
        let mut builder = self.builder();
        for segment in self.segments() {
            if let Some(common) = segment.span().common(span)
                && let Some(bytes) = self.bytes(common)
            {
                builder.push(common.start(), bytes).map_err(|TooHigh| EditError::Outside)?;
            }
        }
        finish(builder, self.format()).map_err(|error| error.unwrap_or(EditError::Nothing(span)))
    }

    /// Returns the image moved to `start`. An entry point inside the image moves with it.
    ///
    /// # Errors
    /// [`EditError::Outside`].
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let image = Image::from_memory(&[(Address::new(0), vec![1, 2])]).unwrap();
    /// assert_eq!(image.moved(Address::new(0x8000)).unwrap().start(), Address::new(0x8000));
    /// ```
    pub fn moved(&self, start: Address) -> Result<Self, EditError> {
        let shift = |at: Address| {
            let offset = at.offset_from(self.start()).ok_or(EditError::Outside)?;
            start.checked_add(offset).ok_or(EditError::Outside)
        };
        let mut builder = self.builder();
        builder.entry = match self.entry() {
            Some(entry) if self.span().contains(entry) => Some(shift(entry)?),
            other => other,
        };
        for segment in self.segments() {
            builder.push(shift(segment.start())?, segment.data()).map_err(|TooHigh| EditError::Outside)?;
        }
        finish(builder, self.format()).map_err(|error| error.unwrap_or(EditError::Outside))
    }

    /// Returns the image with its gaps filled.
    ///
    /// # Errors
    /// [`EditError::TooMuchGap`].
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let parts = [(Address::new(0), vec![1]), (Address::new(3), vec![2])];
    /// let image = Image::from_memory(&parts).unwrap();
    /// assert_eq!(image.filled(0xFF).unwrap().segments()[0].data(), [1, 0xFF, 0xFF, 2]);
    /// ```
    pub fn filled(&self, byte: u8) -> Result<Self, EditError> {
        let gap = self.span().len() - self.len();
        let len = usize::try_from(self.span().len()).map_err(|_| EditError::TooMuchGap(gap))?;
        if gap > MAX_FILL {
            return Err(EditError::TooMuchGap(gap));
        }
        let mut data = vec![byte; len];
        self.copy_to(self.start(), &mut data);
        Ok(Self { segments: vec![Segment::new(self.start(), data)], ..self.clone_head() })
    }

    /// Joins images. Entry point and facts come from the first image that has them; a suffix only if
    /// all have one. Images of several formats become a raw binary, which proves nothing by itself.
    ///
    /// # Errors
    /// Two images assign different bytes to one address or name different targets, or one is opaque.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let loader = Image::from_memory(&[(Address::new(0), vec![1, 2])]).unwrap();
    /// let application = Image::from_memory(&[(Address::new(16), vec![3])]).unwrap();
    /// let joined = Image::join(&[loader, application]).unwrap().unwrap();
    /// assert_eq!((joined.segments().len(), joined.len()), (2, 3));
    /// ```
    pub fn join(images: &[Self]) -> Result<Option<Self>, EditError> {
        let Some(first) = images.first() else { return Ok(None) };
        if images.len() > 1 && images.iter().any(|image| image.facts().opaque.is_some()) {
            return Err(EditError::Opaque);
        }
        let mut builder = first.builder();
        builder.entry = images.iter().find_map(Self::entry);
        if images.len() > 1 {
            builder.facts.joined = images.iter().map(Self::span).collect();
        }
        for image in &images[1..] {
            if let Some(difference) = builder.facts.difference(image.facts()) {
                return Err(EditError::Different(difference));
            }
            builder.facts = std::mem::take(&mut builder.facts).or(image.facts());
        }
        builder.notes = images.iter().flat_map(Self::notes).cloned().collect();
        for segment in images.iter().flat_map(Self::segments) {
            builder.push(segment.start(), segment.data()).map_err(|TooHigh| EditError::Outside)?;
        }
        let format =
            if images.iter().all(|image| image.format() == first.format()) { first.format() } else { Format::Binary };
        finish(builder, format).map(Some).map_err(|error| error.unwrap_or(EditError::Outside))
    }

    /// Returns the image with some bytes replaced. Replacements outside its segments are ignored.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::Image;
    /// use vaka_image::address::Address;
    ///
    /// let image = Image::from_memory(&[(Address::new(0), vec![1, 2, 3])]).unwrap();
    /// let patched = image.patched(Address::new(1), &[9]);
    /// assert_eq!(patched.segments()[0].data(), [1, 9, 3]);
    /// // The image itself is as it was.
    /// assert_eq!(image.segments()[0].data(), [1, 2, 3]);
    /// ```
    #[must_use]
    pub fn patched(&self, at: Address, bytes: &[u8]) -> Self {
        let mut patched = Self { stamps: StampCache::default(), ..self.clone() };
        let Some(wanted) = Span::new(at, bytes.len() as u64) else { return patched };
        let first = patched.segments.partition_point(|segment| segment.span().end() <= wanted.start());
        for segment in patched.segments[first..].iter_mut().take_while(|segment| segment.start < wanted.end()) {
            if let Some(common) = segment.span().common(wanted) {
                let to = crate::model::offset(common.start(), segment.start);
                let from = crate::model::offset(common.start(), at);
                let len = crate::model::offset(common.end(), common.start());
                Arc::make_mut(&mut segment.data)[to..to + len].copy_from_slice(&bytes[from..from + len]);
            }
        }
        patched
    }

    fn builder(&self) -> Builder {
        Builder { entry: self.entry(), facts: self.facts().clone(), notes: self.notes().to_vec(), ..Builder::default() }
    }

    /// Copies everything but the segments.
    fn clone_head(&self) -> Self {
        Self {
            segments: Vec::new(),
            entry: self.entry,
            format: self.format,
            facts: self.facts.clone(),
            notes: self.notes.clone(),
            stamps: StampCache::default(),
        }
    }
}

fn finish(builder: Builder, format: Format) -> Result<Image, Option<EditError>> {
    builder.finish(format).map_err(|error| match error {
        BuildError::Empty => None,
        BuildError::TooLarge => Some(EditError::TooLarge),
        BuildError::Overlap(address) => Some(EditError::Overlap(address)),
    })
}
