//! Transfer of a region's content from one unit to another: per-unit fields are kept, the rest
//! comes from the file, and the checksum is recomputed.

use serde::Deserialize;
use thiserror::Error;

use vaka_base::text;
use vaka_image::wrapper::ChecksumKind;

/// The description of a region that can be transferred.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TransferableRegion {
    /// The per-unit fields, which are not transferred.
    pub fields: Vec<Field>,
    /// The checksum of the region.
    pub checksum: Option<RegionChecksum>,
    /// The name of the unit's memory that is this region, if a plain DFU unit offers it as a
    /// memory of its own.
    pub memory: Option<String>,
}

/// A value that belongs to one unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Field {
    /// Name, for options.
    pub name: String,
    /// Offset from the start of the region.
    pub offset: usize,
    /// Length in bytes; at least 1, at most 8 for a number.
    pub length: usize,
    /// Encoding.
    pub kind: FieldKind,
    /// Description.
    pub meaning: String,
}

/// The encoding of a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FieldKind {
    /// Text, filled up with zeros.
    Text,
    /// A number without a sign, little-endian.
    Number,
    /// Bytes, shown as hex pairs.
    Bytes,
}

/// A checksum in the region over its beginning: 32 bits, little-endian.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RegionChecksum {
    /// Offset of the checksum.
    pub offset: usize,
    /// Kind of checksum.
    pub kind: ChecksumKind,
    /// Number of bytes covered, from the start of the region.
    pub over: usize,
}

/// Why content cannot be transferred.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum TransferError {
    /// The content is not as long as the region.
    #[error("it has {found} bytes, the region has {wanted}")]
    Length {
        /// Length of the region.
        wanted: usize,
        /// Length of the content.
        found: usize,
    },
    /// The checksum is wrong.
    #[error("its checksum is {found:08X}, computed {expected:08X}")]
    Checksum {
        /// Stored in the content.
        found: u32,
        /// Computed from the bytes.
        expected: u32,
    },
    /// The field does not exist.
    #[error("there is no field '{name}'; existing fields: {known}")]
    NoField {
        /// The name given.
        name: String,
        /// The existing fields.
        known: String,
    },
    /// The value does not go into the field.
    #[error("'{value}' is not valid for field '{name}': {why}")]
    Value {
        /// The field.
        name: String,
        /// The value.
        value: String,
        /// The reason.
        why: String,
    },
}

impl TransferableRegion {
    /// Verifies the checksum of the content; content without a checksum is valid.
    ///
    /// # Errors
    /// [`TransferError::Checksum`], or the content is too short for it.
    pub fn check(&self, content: &[u8]) -> Result<(), TransferError> {
        let Some(checksum) = self.checksum else { return Ok(()) };
        let place = checksum.offset..checksum.offset + 4;
        let found = content.get(place.clone()).and_then(|bytes| bytes.try_into().ok()).map(u32::from_le_bytes);
        let expected = content.get(..checksum.over).map(|bytes| checksum.kind.of(bytes));
        match (found, expected) {
            (Some(found), Some(expected)) if found == expected => Ok(()),
            (Some(found), Some(expected)) => Err(TransferError::Checksum { found, expected }),
            _ => Err(TransferError::Length { wanted: place.end, found: content.len() }),
        }
    }

    /// Merges `file` with the per-unit fields of `present` or those in `given`, and recomputes
    /// the checksum.
    ///
    /// # Errors
    /// The lengths differ, or a given value does not fit.
    pub fn merge(&self, file: &[u8], present: &[u8], given: &[(String, String)]) -> Result<Vec<u8>, TransferError> {
        if file.len() != present.len() {
            return Err(TransferError::Length { wanted: present.len(), found: file.len() });
        }
        for (name, _) in given {
            if !self.fields.iter().any(|field| field.name == *name) {
                let known: Vec<&str> = self.fields.iter().map(|field| field.name.as_str()).collect();
                return Err(TransferError::NoField { name: name.clone(), known: known.join(", ") });
            }
        }
        let mut content = file.to_vec();
        for field in &self.fields {
            let place = field.offset..field.offset + field.length;
            let length = TransferError::Length { wanted: place.end, found: file.len() };
            let value = match given.iter().find(|(name, _)| *name == field.name) {
                Some((_, value)) => field.bytes_of(value)?,
                None => present.get(place.clone()).ok_or_else(|| length.clone())?.to_vec(),
            };
            content.get_mut(place).ok_or(length)?.copy_from_slice(&value);
        }
        if let Some(checksum) = self.checksum {
            let length = TransferError::Length { wanted: checksum.offset + 4, found: file.len() };
            let sum =
                content.get(..checksum.over).map(|bytes| checksum.kind.of(bytes)).ok_or_else(|| length.clone())?;
            content.get_mut(checksum.offset..checksum.offset + 4).ok_or(length)?.copy_from_slice(&sum.to_le_bytes());
        }
        Ok(content)
    }
}

impl Field {
    /// The field's value as text; `None` if the content is too short.
    pub fn value(&self, content: &[u8]) -> Option<String> {
        let bytes = content.get(self.offset..self.offset + self.length)?;
        Some(match self.kind {
            FieldKind::Text => {
                let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
                vaka_base::text::sanitize(&String::from_utf8_lossy(&bytes[..end]))
            }
            FieldKind::Number => bytes.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte)).to_string(),
            FieldKind::Bytes => text::hex_pairs(bytes),
        })
    }

    fn bytes_of(&self, value: &str) -> Result<Vec<u8>, TransferError> {
        let wrong =
            |why: &str| TransferError::Value { name: self.name.clone(), value: value.to_owned(), why: why.to_owned() };
        let mut bytes = match self.kind {
            FieldKind::Text => value.as_bytes().to_vec(),
            FieldKind::Number => {
                let number: u64 = value.parse().map_err(|_| wrong("it is not a number"))?;
                let bytes = number.to_le_bytes();
                if bytes[self.length.min(8)..].iter().any(|byte| *byte != 0) {
                    return Err(wrong("it is too large"));
                }
                bytes[..self.length.min(8)].to_vec()
            }
            FieldKind::Bytes => {
                let bytes = text::parse_hex(value).ok_or_else(|| wrong("write bytes as hex pairs, like 54 52"))?;
                if bytes.len() != self.length {
                    return Err(wrong("its length differs"));
                }
                bytes
            }
        };
        if bytes.len() > self.length {
            return Err(wrong("it is too long"));
        }
        bytes.resize(self.length, 0);
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn region() -> TransferableRegion {
        let field = |name: &str, offset, length, kind| Field {
            name: name.to_owned(),
            offset,
            length,
            kind,
            meaning: String::new(),
        };
        TransferableRegion {
            fields: vec![
                field("number", 0, 4, FieldKind::Text),
                field("zero", 4, 2, FieldKind::Number),
                field("key", 6, 2, FieldKind::Bytes),
            ],
            checksum: Some(RegionChecksum { offset: 12, kind: ChecksumKind::Sum, over: 12 }),
            memory: None,
        }
    }

    #[test]
    fn a_units_own_fields_stay_and_the_rest_is_carried() {
        let file = [9, 9, 9, 9, 8, 8, 7, 7, 1, 2, 3, 4, 0, 0, 0, 0, 0xFF, 0xFF];
        let present = [b'A', b'1', 0, 0, 0x34, 0x12, 0xAB, 0xCD, 5, 6, 7, 8, 0, 0, 0, 0, 0xFF, 0xFF];
        let region = region();
        let merged = region.merge(&file, &present, &[]).unwrap();
        // By hand: 0x41 + 0x31 + 0x34 + 0x12 + 0xAB + 0xCD + 1 + 2 + 3 + 4 = 0x23A.
        let wanted = [b'A', b'1', 0, 0, 0x34, 0x12, 0xAB, 0xCD, 1, 2, 3, 4, 0x3A, 0x02, 0, 0, 0xFF, 0xFF];
        assert_eq!(merged, wanted);
        assert_eq!(region.check(&merged), Ok(()));
        assert_eq!(region.check(&file), Err(TransferError::Checksum { found: 0, expected: 36 + 16 + 14 + 10 }));
        let values: Vec<String> = region.fields.iter().map(|field| field.value(&merged).unwrap()).collect();
        assert_eq!(values, ["A1", "4660", "AB CD"]);
    }

    #[test]
    fn given_values_take_the_place_of_present_ones_or_are_refused() {
        let region = region();
        let merge = |name: &str, value: &str| region.merge(&[0; 18], &[0; 18], &[(name.to_owned(), value.to_owned())]);
        assert_eq!(merge("number", "B2").unwrap()[..4], *b"B2\0\0");
        assert_eq!(merge("zero", "258").unwrap()[4..6], [2, 1]);
        assert_eq!(merge("key", "0a FF").unwrap()[6..8], [0x0A, 0xFF]);
        for (name, value, words) in [
            ("number", "B2345", "too long"),
            ("zero", "65536", "too large"),
            ("zero", "two", "number"),
            ("key", "0a", "its length differs"),
            ("key", "xx yy", "hex pairs"),
            ("colour", "red", "existing fields: number, zero, key"),
        ] {
            let error = merge(name, value).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
        assert!(matches!(region.merge(&[0; 17], &[0; 18], &[]), Err(TransferError::Length { .. })));
        assert!(matches!(region.merge(&[0; 5], &[0; 5], &[]), Err(TransferError::Length { .. })));
    }
}
