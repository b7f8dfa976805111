//! A maker's own packaging of a firmware file, as a product sheet describes
//! it: a header with a magic, then the payload. Integers in the header are
//! of any form.

use serde::Deserialize;
use thiserror::Error;
use vaka_base::checksum::{crc32, sha256};

use crate::FirmwareFile;
use crate::address::Address;
use crate::completeness::IntForm;
use crate::facts::OpaqueHeader;
use crate::version_field::VersionField;
use vaka_base::version::Version;

/// The description of a wrapper. All places lie inside the header.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wrapper {
    /// Name for messages.
    pub name: String,
    /// First bytes of the file.
    pub magic: Vec<u8>,
    /// Bytes before the payload.
    pub header: usize,
    /// The payload's length: its offset and form; without it the payload is the rest of the file.
    pub length: Option<(usize, IntForm)>,
    /// The payload's address, for a raw binary: its offset and form.
    pub start: Option<(usize, IntForm)>,
    /// The version in the header.
    pub version: Option<VersionField>,
    /// Offset, form and kind of a checksum over the payload.
    pub checksum: Option<(usize, IntForm, ChecksumKind)>,
    /// Whether only the bootloader understands the payload, such as an encrypted one.
    pub is_opaque: bool,
}

/// A checksum over the payload; the header holds 32 bits of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ChecksumKind {
    /// CRC-32, the one zip uses.
    Crc32,
    /// The sum of all bytes.
    Sum,
    /// The first four bytes of SHA-256.
    Sha256,
}

/// The content of a wrapped file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unwrapped<'a> {
    /// The wrapper's name.
    pub name: &'a str,
    /// The payload: a firmware file of its own.
    pub payload: &'a [u8],
    /// Start address, if the header has one.
    pub start: Option<Address>,
    /// The header.
    pub header: &'a [u8],
    /// Whether only the bootloader understands the payload.
    pub is_opaque: bool,
    /// Whether the header has the length or a checksum of the payload.
    pub proves_whole: bool,
    /// Version, if the header has one.
    pub version: Option<Version>,
}

/// An error in a wrapped file.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum WrapperError {
    /// The file ends inside the header.
    #[error("the file begins as a {0}, but ends inside its header: it is truncated")]
    Header(String),
    /// The length does not fit the file.
    #[error("the header of the {name} states {said} more bytes, there are {found}")]
    Length {
        /// The wrapper.
        name: String,
        /// Length in the header.
        said: u64,
        /// Actual length.
        found: usize,
    },
    /// The checksum does not fit.
    #[error("the header of the {name} has checksum {found:08X}, computed {expected:08X}: the file is damaged")]
    Checksum {
        /// The wrapper.
        name: String,
        /// Computed from the payload.
        expected: u32,
        /// Stored in the header.
        found: u32,
    },
}

impl Wrapper {
    /// Unwraps a file; `None` if it does not begin with this wrapper's magic.
    ///
    /// # Errors
    /// The file has the magic bytes, but is damaged.
    pub fn unwrap<'a>(&'a self, bytes: &'a [u8]) -> Option<Result<Unwrapped<'a>, WrapperError>> {
        bytes.starts_with(&self.magic).then(|| self.open(bytes))
    }

    fn open<'a>(&'a self, bytes: &'a [u8]) -> Result<Unwrapped<'a>, WrapperError> {
        let (header, payload) =
            bytes.split_at_checked(self.header).ok_or_else(|| WrapperError::Header(self.name.clone()))?;
        let number =
            |(at, form): (usize, IntForm)| form.parse(&header[at..at + usize::try_from(form.width()).unwrap_or(0)]);
        if let Some(said) = self.length.map(number)
            && usize::try_from(said) != Ok(payload.len())
        {
            return Err(WrapperError::Length { name: self.name.clone(), said, found: payload.len() });
        }
        if let Some((at, form, kind)) = self.checksum {
            let mask = u32::MAX >> (32 - 8 * form.width().min(4));
            let found = u32::try_from(number((at, form))).unwrap_or(0);
            let expected = kind.of(payload) & mask;
            if expected != found {
                return Err(WrapperError::Checksum { name: self.name.clone(), expected, found });
            }
        }
        let version = self.version.as_ref().and_then(|field| field.read_header(header));
        let start = self.start.map(|place| Address::new(number(place)));
        let (is_opaque, proves_whole) = (self.is_opaque, self.length.is_some() || self.checksum.is_some());
        Ok(Unwrapped { name: &self.name, payload, start, header, is_opaque, proves_whole, version })
    }
}

impl<'a> Unwrapped<'a> {
    /// A file that is in no wrapper.
    pub fn plain(file: &'a [u8]) -> Self {
        Self { name: "", payload: file, start: None, header: &[], is_opaque: false, proves_whole: false, version: None }
    }

    /// The firmware in the payload.
    pub fn file(&self) -> FirmwareFile {
        match self.is_opaque {
            true => {
                let (bytes, version) = (self.header.into(), self.version.clone());
                let header = OpaqueHeader { bytes, version, proves_whole: self.proves_whole };
                FirmwareFile::opaque(self.payload, header)
            }
            false => FirmwareFile::parse(self.payload),
        }
    }
}

impl ChecksumKind {
    /// The checksum of these bytes.
    pub fn of(self, payload: &[u8]) -> u32 {
        match self {
            Self::Crc32 => crc32(payload),
            Self::Sum => payload.iter().fold(0, |sum, byte| sum.wrapping_add(u32::from(*byte))),
            Self::Sha256 => {
                let digest = sha256(payload);
                u32::from_le_bytes([digest[0], digest[1], digest[2], digest[3]])
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrapper_is_opened_and_checked() {
        let wrapper = Wrapper {
            name: "Skerrow package".into(),
            magic: b"SKW1".to_vec(),
            header: 20,
            length: Some((4, IntForm::U32le)),
            start: Some((12, IntForm::U32le)),
            version: Some(VersionField::at(16)),
            checksum: Some((8, IntForm::U32le, ChecksumKind::Crc32)),
            is_opaque: false,
        };
        // CRC-32 of "123456789" is CBF43926: the check value of its catalogue entry.
        let mut file = b"SKW1\x09\0\0\0\x26\x39\xF4\xCB\x00\x24\x00\x0A\x50\x01\x00\x00123456789".to_vec();
        let found = wrapper.unwrap(&file).unwrap().unwrap();
        assert_eq!((found.payload, found.start), (&b"123456789"[..], Some(Address::new(0x0A00_2400))));
        assert_eq!(found.version, Some(Version::parse("1.5.0")));
        assert!(wrapper.unwrap(b"SKW2").is_none());
        assert!(matches!(wrapper.unwrap(&file[..19]), Some(Err(WrapperError::Header(_)))));
        assert!(matches!(wrapper.unwrap(&file[..28]), Some(Err(WrapperError::Length { said: 9, found: 8, .. }))));
        file[25] ^= 1;
        assert!(matches!(wrapper.unwrap(&file), Some(Err(WrapperError::Checksum { found: 0xCBF4_3926, .. }))));
        // Sums by hand: '1' to '9' are 0x31 to 0x39, 9 * 0x35 = 477.
        assert_eq!(ChecksumKind::Sum.of(b"123456789"), 477);
        // The standard's example: SHA-256 of "abc" begins BA 78 16 BF.
        assert_eq!(ChecksumKind::Sha256.of(b"abc").to_le_bytes(), [0xBA, 0x78, 0x16, 0xBF]);
    }
}
