//! Proof that an image is complete: a length and a checksum inside the image, at offsets that a
//! product sheet names.

use serde::Deserialize;

use crate::address::Span;
use crate::model::ERASED;
use crate::model::Image;
use vaka_base::checksum::{CrcSum, sha256};
use vaka_base::size::Grouped;

/// Maximum size of an image whose checksum is computed. Chosen by us: larger than any flash that
/// is updated over USB, small compared with the memory of a computer.
const MAX_IMAGE: u64 = 256 << 20;

/// The encoding of an integer in an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum IntForm {
    /// 16 bits, least significant byte first.
    U16le,
    /// 16 bits, big-endian.
    U16be,
    /// 24 bits, least significant byte first.
    U24le,
    /// 24 bits, big-endian.
    U24be,
    /// 32 bits, least significant byte first.
    U32le,
    /// 32 bits, big-endian.
    U32be,
}

impl IntForm {
    /// Size of the encoded integer in bytes.
    pub fn width(self) -> u64 {
        match self {
            Self::U16le | Self::U16be => 2,
            Self::U24le | Self::U24be => 3,
            Self::U32le | Self::U32be => 4,
        }
    }

    /// The bytes of a number; `None` if it does not fit.
    fn bytes(self, number: u64) -> Option<Vec<u8>> {
        let width = usize::try_from(self.width()).ok()?;
        let mut bytes = number.to_le_bytes().to_vec();
        if bytes.split_off(width).iter().any(|byte| *byte != 0) {
            return None;
        }
        if matches!(self, Self::U16be | Self::U24be | Self::U32be) {
            bytes.reverse();
        }
        Some(bytes)
    }

    /// The number in exactly [`width`](Self::width) bytes.
    pub fn parse(self, bytes: &[u8]) -> u64 {
        let fold = |number: u64, byte: &u8| number << 8 | u64::from(*byte);
        match self {
            Self::U16le | Self::U24le | Self::U32le => bytes.iter().rev().fold(0, fold),
            Self::U16be | Self::U24be | Self::U32be => bytes.iter().fold(0, fold),
        }
    }
}

/// The field in which an image stores its own length.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LengthField {
    /// Offset from the start of the image.
    pub offset: u64,
    /// Encoding of the length.
    pub form: IntForm,
    /// Bytes in one unit of it; at least 1.
    pub unit: u64,
    /// Bytes of the image that the length does not include, such as a checksum at the end.
    pub plus: u64,
}

/// The position of an image's checksum.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChecksumPlace {
    /// Offset from the start of the image.
    Offset(u64),
    /// The last bytes of the image.
    End,
}

/// The method of computing a checksum.
#[derive(Clone, Debug)]
pub enum ChecksumMethod {
    /// A CRC by its parameters.
    Crc(CrcMethod),
    /// The sum of all bytes, truncated to the width of the field.
    Sum,
    /// SHA-256, truncated to the width of the field.
    Sha256,
}

/// A CRC by its parameters.
#[derive(Clone, Debug)]
pub struct CrcMethod(pub CrcSum);

/// How the bytes of the checksum field itself are counted, if the checksum covers them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum OwnBytes {
    /// They are left out.
    #[default]
    LeftOut,
    /// Counted as 0x00.
    Zero,
    /// Counted as 0xFF.
    Ones,
}

/// The checksum of an image that is stored in the image.
#[derive(Clone, Debug)]
pub struct ChecksumField {
    /// Position of the checksum.
    pub place: ChecksumPlace,
    /// Method of computing it.
    pub method: ChecksumMethod,
    /// Width of the field in bytes.
    pub width: u64,
    /// Whether the field is little-endian; ignored for a digest.
    pub little_endian: bool,
    /// The first byte that it covers, from the start of the image.
    pub from: u64,
    /// End of the covered range, from the start of the image; `None` for the end of the image.
    pub to: Option<u64>,
    /// The value of the field's own bytes in the sum.
    pub own: OwnBytes,
}

/// The result of one proof.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Proof {
    /// The stored length or checksum is correct.
    Holds,
    /// The stored length or checksum is wrong; the reason as a sentence.
    Fails(String),
}

impl LengthField {
    /// The length that the image states, or `None` if the image ends before the field.
    fn wanted(&self, image: &Image) -> Option<u64> {
        let at = image.start().checked_add(self.offset)?;
        let bytes = image.bytes(Span::new(at, self.form.width())?)?;
        self.form.parse(bytes).checked_mul(self.unit)?.checked_add(self.plus)
    }

    /// Writes the length of the image into the field, in a copy of the image. Returns `None` if the image
    /// has no bytes at the field, or if the form cannot hold the number.
    pub fn store(&self, image: &Image) -> Option<Image> {
        let at = image.start().checked_add(self.offset)?;
        image.bytes(Span::new(at, self.form.width())?)?;
        let number = image.span().len().checked_sub(self.plus)?;
        Some(image.patched(at, &self.form.bytes(number.checked_div(self.unit)?)?))
    }

    /// Compares the length of an image with the length stored in it. Further bytes, such as
    /// padding or a stamp, are allowed.
    pub fn check(&self, image: &Image) -> Proof {
        let found = image.span().len();
        match self.wanted(image) {
            None => Proof::Fails(format!("it ends before offset 0x{:X}: it is truncated", self.offset)),
            Some(wanted) if wanted > found => Proof::Fails(format!(
                "it states {} bytes, but has {}: it is truncated",
                Grouped(wanted),
                Grouped(found)
            )),
            Some(_) => Proof::Holds,
        }
    }
}

impl ChecksumField {
    /// Computes the checksum of an image and compares it with the stored one. `length` gives the
    /// end of the image, if the image states it.
    pub fn check(&self, image: &Image, length: Option<&LengthField>) -> Proof {
        let (place, stored, computed) = match self.both(image, length) {
            Ok(both) => both,
            Err(reason) => return Proof::Fails(reason),
        };
        if stored == computed {
            return Proof::Holds;
        }
        let hex = |bytes: &[u8]| vaka_base::text::hex(bytes);
        Proof::Fails(format!(
            "{} at offset 0x{place:X}, computed {}: it is damaged or truncated",
            hex(&stored),
            hex(&computed)
        ))
    }

    /// Computes the checksum and writes it into its field, in a copy of the image. `length` is the field
    /// that states the end of the image, if there is one. Returns `None` if the image has no bytes at the
    /// field.
    pub fn store(&self, image: &Image, length: Option<&LengthField>) -> Option<Image> {
        let (place, _, computed) = self.both(image, length).ok()?;
        Some(image.patched(image.start().checked_add(place)?, &computed))
    }

    /// The offset of the checksum, the stored one and the computed one.
    fn both(&self, image: &Image, length: Option<&LengthField>) -> Result<(u64, Vec<u8>, Vec<u8>), String> {
        let found = image.span().len();
        if found > MAX_IMAGE {
            return Err(format!("the image spans {found} bytes, too many for a checksum"));
        }
        let end = length.and_then(|length| length.wanted(image)).unwrap_or(found).min(found);
        let place = match self.place {
            ChecksumPlace::Offset(offset) => Some(offset),
            ChecksumPlace::End => end.checked_sub(self.width),
        };
        let Some(place) = place.filter(|place| place.saturating_add(self.width) <= found) else {
            return Err("it ends before its checksum: it is truncated".to_owned());
        };
        let mut whole = vec![ERASED; usize::try_from(found).unwrap_or_default()];
        image.copy_to(image.start(), &mut whole);
        let default_end = if self.place == ChecksumPlace::End { place } else { end };
        let covered = self.covered(&whole, place, self.to.unwrap_or(default_end).min(found));
        let bytes = |from: u64, len: u64| {
            let from = usize::try_from(from).unwrap_or(usize::MAX);
            whole.get(from..from.saturating_add(usize::try_from(len).unwrap_or(usize::MAX))).unwrap_or_default()
        };
        Ok((place, bytes(place, self.width).to_vec(), self.compute(&covered)))
    }

    /// The covered bytes, with the field itself replaced as configured.
    fn covered(&self, whole: &[u8], place: u64, to: u64) -> Vec<u8> {
        let clamp = |at: u64| usize::try_from(at.min(to)).unwrap_or(usize::MAX).min(whole.len());
        let (from, to) = (clamp(self.from), clamp(to));
        let own = clamp(place).max(from)..clamp(place + self.width).max(from);
        let mut covered = Vec::with_capacity(to - from);
        covered.extend_from_slice(&whole[from..own.start]);
        match self.own {
            OwnBytes::LeftOut => {}
            OwnBytes::Zero => covered.resize(covered.len() + own.len(), 0),
            OwnBytes::Ones => covered.resize(covered.len() + own.len(), 0xFF),
        }
        covered.extend_from_slice(&whole[own.end..to]);
        covered
    }

    fn compute(&self, covered: &[u8]) -> Vec<u8> {
        let width = usize::try_from(self.width).unwrap_or_default();
        let number = match &self.method {
            ChecksumMethod::Sha256 => {
                let mut digest = sha256(covered).to_vec();
                digest.truncate(width);
                return digest;
            }
            ChecksumMethod::Crc(CrcMethod(crc)) => crc.of(covered),
            ChecksumMethod::Sum => covered.iter().fold(0, |sum: u64, byte| sum.wrapping_add(u64::from(*byte))),
        };
        let mut bytes = number.to_le_bytes().to_vec();
        bytes.truncate(width);
        if !self.little_endian {
            bytes.reverse();
        }
        bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address::Address;

    fn image(bytes: &[u8]) -> Image {
        Image::from_memory(&[(Address::new(0x100), bytes.to_vec())]).unwrap()
    }

    fn crc32() -> ChecksumMethod {
        ChecksumMethod::Crc(CrcMethod(CrcSum::new(vaka_base::checksum::CRC32).unwrap()))
    }

    fn field(place: ChecksumPlace, method: ChecksumMethod, width: u64) -> ChecksumField {
        ChecksumField { place, method, width, little_endian: true, from: 0, to: None, own: OwnBytes::LeftOut }
    }

    /// CRC-32 of "123456789" is CBF43926: the check value of its catalogue entry. The sum of
    /// its bytes is 477, by hand. SHA-256 of "abc" begins BA 78 16 BF: the standard's example.
    #[test]
    fn known_checksums_hold_and_every_changed_byte_fails() {
        let cases: [(&[u8], ChecksumField); 4] = [
            (b"123456789\x26\x39\xF4\xCB", field(ChecksumPlace::End, crc32(), 4)),
            (b"123456789\xDD\x01", field(ChecksumPlace::End, ChecksumMethod::Sum, 2)),
            (b"abc\xBA\x78\x16\xBF", field(ChecksumPlace::End, ChecksumMethod::Sha256, 4)),
            (
                b"\xCB\xF4\x39\x26123456789",
                ChecksumField { little_endian: false, ..field(ChecksumPlace::Offset(0), crc32(), 4) },
            ),
        ];
        for (bytes, field) in cases {
            assert_eq!(field.check(&image(bytes), None), Proof::Holds, "{bytes:02X?}");
            for at in 0..bytes.len() {
                let mut changed = bytes.to_vec();
                changed[at] ^= 0x10;
                assert!(matches!(field.check(&image(&changed), None), Proof::Fails(_)), "{at} of {bytes:02X?}");
            }
            let width = usize::try_from(field.width).unwrap();
            let erased = match field.place {
                ChecksumPlace::Offset(_) => [&[0xFF; 4], &bytes[4..]].concat(),
                ChecksumPlace::End => [&bytes[..bytes.len() - width], &[0xFF; 4]].concat(),
            };
            let erased = &erased[..bytes.len()];
            assert_eq!(field.store(&image(erased), None).unwrap().segments()[0].data(), bytes);
        }
        // The field as zeros: the CRC of four zeros and "123456789", by Python's zlib.crc32.
        let zeros = ChecksumField { own: OwnBytes::Zero, ..field(ChecksumPlace::Offset(0), crc32(), 4) };
        let mut bytes = b"\x00\x00\x00\x00123456789".to_vec();
        bytes[..4].copy_from_slice(&0x2289_6B0A_u32.to_le_bytes());
        assert_eq!(zeros.check(&image(&bytes), None), Proof::Holds);
    }

    #[test]
    fn a_length_finds_what_was_cut_or_added() {
        let length = LengthField { offset: 1, form: IntForm::U16be, unit: 2, plus: 1 };
        assert_eq!(length.store(&image(b"A\xFF\xFFBCDE")).unwrap().segments()[0].data(), b"A\0\x03BCDE");
        assert!(length.store(&image(b"A\xFF")).is_none());
        // 3 units of 2 bytes and one more: 7 bytes.
        for (bytes, holds) in [
            (&b"A\0\x03BCDE"[..], true),
            (b"A\0\x03BCD", false),
            (b"A\0", false),
            (b"A\0\x03BCDE\xFF\xFF", true),
            (b"A\0\x03BCDE\xFFX", true),
        ] {
            assert_eq!(length.check(&image(bytes)) == Proof::Holds, holds, "{bytes:?}");
        }
        let checksum = field(ChecksumPlace::End, ChecksumMethod::Sum, 1);
        // 0 + 2 + 0x30 = 0x32; the padding at the end is not covered.
        let length = LengthField { offset: 0, form: IntForm::U16be, unit: 1, plus: 2 };
        assert_eq!(checksum.check(&image(b"\0\x02\x30\x32\xFF\xFF"), Some(&length)), Proof::Holds);
    }
}
