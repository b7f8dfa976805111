//! The version that an image or a header stores: where, and in which form.

use serde::Deserialize;
use vaka_base::version::{ReleaseNumber, Version};

use crate::address::{Address, Span};
use crate::model::{ERASED, Image};

/// Longest version as a text in bytes. Chosen by us: longer than any version that can be compared.
const MOST_TEXT: usize = 64;

/// The encoding of a version.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum VersionForm {
    /// 16 bits in packed decimal, least significant byte first: 0x0150 is 1.5.0.
    #[default]
    PackedLe,
    /// 16 bits in packed decimal, big-endian.
    PackedBe,
    /// A byte for each number.
    Bytes,
    /// 16 bits for each number, least significant byte first.
    WordsLe,
    /// 16 bits for each number, big-endian.
    WordsBe,
    /// A text that ends with a byte that is not printable ASCII, with a blank, or with its length.
    Text,
}

/// The place of a version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum VersionPlace {
    /// Bytes from the start.
    Offset(u64),
    /// Behind the first occurrence of these bytes.
    After(Vec<u8>),
}

/// A version that an image or a header stores.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VersionField {
    /// Where.
    pub place: VersionPlace,
    /// In which form.
    pub form: VersionForm,
    /// How many numbers it has; 1 to 4, for bytes and words.
    pub count: usize,
    /// Whether the last number is stored first.
    pub reversed: bool,
    /// Bytes of a text; without it, up to its end.
    pub length: Option<usize>,
}

impl VersionField {
    /// A version in the default form at an offset.
    pub fn at(offset: u64) -> Self {
        let (place, form) = (VersionPlace::Offset(offset), VersionForm::default());
        Self { place, form, count: 3, reversed: false, length: None }
    }

    /// Bytes that the version has at most.
    pub fn width(&self) -> usize {
        match self.form {
            VersionForm::PackedLe | VersionForm::PackedBe => 2,
            VersionForm::Bytes => self.count,
            VersionForm::WordsLe | VersionForm::WordsBe => 2 * self.count,
            VersionForm::Text => self.length.unwrap_or(MOST_TEXT),
        }
    }

    /// The version in an image. Offsets count from its start.
    pub fn read(&self, image: &Image) -> Option<Version> {
        let at = match &self.place {
            VersionPlace::Offset(offset) => image.start().checked_add(*offset)?,
            VersionPlace::After(marker) => {
                let found = |data: &[u8]| memchr::memmem::find(data, marker);
                let in_segment =
                    image.segments().iter().find_map(|segment| Some((segment.start(), found(segment.data())?)));
                let (start, offset) = in_segment?;
                start.checked_add((offset + marker.len()) as u64)?
            }
        };
        let segment = image.segments().iter().find(|segment| segment.span().contains(at))?;
        let from = usize::try_from(at.offset_from(segment.start())?).ok()?;
        self.parse(segment.data().get(from..)?)
    }

    /// The version in the bytes of a header.
    pub fn read_header(&self, header: &[u8]) -> Option<Version> {
        let at = match &self.place {
            VersionPlace::Offset(offset) => usize::try_from(*offset).ok()?,
            VersionPlace::After(marker) => memchr::memmem::find(header, marker)? + marker.len(),
        };
        self.parse(header.get(at..)?)
    }

    /// The addresses of the version in a region that begins at `start`, if its place is an offset.
    pub fn span(&self, start: Address) -> Option<Span> {
        let VersionPlace::Offset(offset) = self.place else { return None };
        Span::new(start.checked_add(offset)?, self.width() as u64)
    }

    /// The version at the start of these bytes; `None` for erased flash, and for a text without a digit.
    pub fn parse(&self, bytes: &[u8]) -> Option<Version> {
        if self.form == VersionForm::Text {
            return self.text(bytes);
        }
        let bytes = bytes.get(..self.width())?;
        if bytes.iter().all(|byte| *byte == ERASED) {
            return None;
        }
        let word = |pair: &[u8]| match self.form {
            VersionForm::PackedBe | VersionForm::WordsBe => u16::from_be_bytes([pair[0], pair[1]]),
            _ => u16::from_le_bytes([pair[0], pair[1]]),
        };
        let mut numbers: Vec<u16> = match self.form {
            VersionForm::PackedLe | VersionForm::PackedBe => return Some(ReleaseNumber(word(bytes)).into()),
            VersionForm::Bytes => bytes.iter().map(|byte| u16::from(*byte)).collect(),
            _ => bytes.chunks_exact(2).map(word).collect(),
        };
        if self.reversed {
            numbers.reverse();
        }
        let numbers: Vec<String> = numbers.iter().map(u16::to_string).collect();
        Some(Version::parse(&numbers.join(".")))
    }

    /// The bytes of a version with these numbers, the first of which counts most: as many as it has at most,
    /// for a text without a length those of the text and a zero.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::version_field::VersionField;
    ///
    /// assert_eq!(VersionField::at(0x40).encode(&[1, 5, 0]), [0x50, 0x01]);
    /// ```
    pub fn encode(&self, numbers: &[u8]) -> Vec<u8> {
        let number = |at: usize| u16::from(numbers.get(at).copied().unwrap_or(0));
        let word = |number: u16| match self.form {
            VersionForm::PackedBe | VersionForm::WordsBe => number.to_be_bytes(),
            _ => number.to_le_bytes(),
        };
        let mut all: Vec<u16> = (0..self.count).map(number).collect();
        if self.reversed {
            all.reverse();
        }
        match self.form {
            VersionForm::PackedLe | VersionForm::PackedBe => {
                word(number(0) << 8 | (number(1) & 0xF) << 4 | number(2) & 0xF).to_vec()
            }
            VersionForm::Bytes => all.iter().map(|number| number.to_le_bytes()[0]).collect(),
            VersionForm::WordsLe | VersionForm::WordsBe => all.into_iter().flat_map(word).collect(),
            VersionForm::Text => {
                let texts: Vec<String> = numbers.iter().map(u8::to_string).collect();
                let mut bytes = texts.join(".").into_bytes();
                bytes.push(0);
                bytes.resize(self.length.unwrap_or(bytes.len()), 0);
                bytes
            }
        }
    }

    fn text(&self, bytes: &[u8]) -> Option<Version> {
        let most = &bytes[..bytes.len().min(self.width())];
        let end = most.iter().position(|byte| !byte.is_ascii_graphic()).unwrap_or(most.len());
        let text = std::str::from_utf8(&most[..end]).ok()?;
        text.contains(|c: char| c.is_ascii_digit()).then(|| Version::parse(text))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Form, count, whether reversed, length, bytes, version.
    type Case<'a> = (VersionForm, usize, bool, Option<usize>, &'a [u8], Option<&'a str>);

    #[test]
    fn versions_are_read_in_every_form() {
        use VersionForm as F;
        let plain = VersionField::at(0);
        #[rustfmt::skip]
        let cases: [Case; 14] = [
            (F::PackedLe, 3, false, None, &[0x50, 0x01], Some("1.5.0")),
            (F::PackedBe, 3, false, None, &[0x01, 0x50], Some("1.5.0")),
            (F::PackedLe, 3, false, None, &[0xFF, 0xFF], None),
            (F::Bytes, 3, false, None, &[1, 12, 3, 9], Some("1.12.3")),
            (F::Bytes, 4, true, None, &[4, 3, 2, 1], Some("1.2.3.4")),
            (F::Bytes, 2, false, None, &[1], None),
            (F::WordsLe, 3, false, None, &[1, 0, 0, 1, 3, 0], Some("1.256.3")),
            (F::WordsBe, 3, true, None, &[0, 3, 1, 0, 0, 1], Some("1.256.3")),
            (F::WordsLe, 2, false, None, &[0xFF; 4], None),
            (F::Text, 3, false, None, b"v1.5.2-rc1\0rest", Some("v1.5.2-rc1")),
            (F::Text, 3, false, None, b"1.5.2 of May", Some("1.5.2")),
            (F::Text, 3, false, Some(3), b"1.5.2", Some("1.5")),
            (F::Text, 3, false, Some(8), b"1.5", Some("1.5")),
            (F::Text, 3, false, None, b"none\0", None),
        ];
        for (form, count, reversed, length, bytes, wanted) in cases {
            let field = VersionField { form, count, reversed, length, ..plain.clone() };
            let found = field.parse(bytes);
            assert_eq!(found.as_ref().map(Version::as_str), wanted, "{form:?} of {bytes:?}");
        }
    }

    /// Packed decimal, bytes, words and text: by hand.
    #[test]
    fn versions_are_encoded_as_they_are_read() {
        use VersionForm as F;
        let cases: [Case; 7] = [
            (F::PackedLe, 3, false, None, &[0x23, 0x01], Some("1.2.3")),
            (F::PackedBe, 3, false, None, &[0x01, 0x23], Some("1.2.3")),
            (F::Bytes, 3, false, None, &[1, 2, 3], Some("1.2.3")),
            (F::Bytes, 4, true, None, &[0, 3, 2, 1], Some("1.2.3")),
            (F::WordsBe, 2, false, None, &[0, 1, 0, 2], Some("1.2")),
            (F::Text, 3, false, None, b"1.2.3\0", Some("1.2.3")),
            (F::Text, 3, false, Some(8), b"1.2.3\0\0\0", Some("1.2.3")),
        ];
        for (form, count, reversed, length, bytes, wanted) in cases {
            let field = VersionField { form, count, reversed, length, ..VersionField::at(0) };
            assert_eq!(field.encode(&[1, 2, 3]), bytes, "{form:?}");
            assert_eq!(field.parse(bytes), wanted.map(Version::parse), "{form:?}");
        }
    }

    /// Also in a segment that is not the first, and never across a gap.
    #[test]
    fn a_version_follows_a_marker() {
        let at = |address| Address::new(address);
        let parts = [(at(0x100), vec![7; 16]), (at(0x200), b"..FWVER:2.4.1\0".to_vec())];
        let image = Image::from_memory(&parts).unwrap();
        let place = VersionPlace::After(b"FWVER:".to_vec());
        let field = VersionField { place, form: VersionForm::Text, ..VersionField::at(0) };
        assert_eq!(field.read(&image), Some(Version::parse("2.4.1")));
        assert_eq!(field.span(at(0x100)), None);
        let missing = VersionField { place: VersionPlace::After(b"OTHER:".to_vec()), ..field };
        assert_eq!(missing.read(&image), None);
        assert_eq!(VersionField::at(15).read(&image), None, "it would continue in the gap");
    }
}
