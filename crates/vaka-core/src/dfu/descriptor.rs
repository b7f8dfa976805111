//! The functional descriptor.

/// The capabilities of a unit's DFU interface. Source: DFU 1.1, table 4.2.
///
/// ```text
/// bLength 9 | 0x21 | bmAttributes 1 | wDetachTimeOut 2 | wTransferSize 2 | bcdDFUVersion 2
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FunctionalDescriptor {
    /// Capabilities.
    pub attributes: Attributes,
    /// Milliseconds it waits for the bus reset after a detach.
    pub detach_timeout_ms: u16,
    /// Maximum size of a block in bytes.
    pub transfer_size: u16,
    /// 0x0100, 0x0110, or 0x011A for the address extension.
    pub version: u16,
}

/// bmAttributes of the functional descriptor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Attributes(pub u8);

impl Attributes {
    /// bitCanDnload.
    pub fn can_download(self) -> bool {
        self.0 & 1 != 0
    }

    /// bitCanUpload.
    pub fn can_upload(self) -> bool {
        self.0 & 2 != 0
    }

    /// bitManifestationTolerant: it answers after the manifestation.
    pub fn manifestation_tolerant(self) -> bool {
        self.0 & 4 != 0
    }

    /// bitWillDetach: the unit detaches by itself; if clear, the host resets the bus.
    pub fn will_detach(self) -> bool {
        self.0 & 8 != 0
    }
}

/// bcdDFUVersion of the address extension.
pub const VERSION_ADDRESSED: u16 = 0x011A;

/// bDescriptorType of the functional descriptor. Source: DFU 1.1, table 4.2.
pub const DESCRIPTOR_TYPE: u8 = 0x21;

impl FunctionalDescriptor {
    /// Finds and parses the descriptor among the raw descriptors after an interface. A descriptor
    /// of 7 bytes, as in DFU 1.0, has version 1.0; bytes after the ninth are ignored. The values
    /// are not validated: some units state a transfer size of 0.
    pub fn find<'a>(descriptors: impl IntoIterator<Item = &'a [u8]>) -> Option<Self> {
        descriptors.into_iter().find_map(Self::parse)
    }

    /// Parses one descriptor; `None` for another kind or fewer than 7 bytes.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let &[_, DESCRIPTOR_TYPE, attributes, d0, d1, t0, t1, ref rest @ ..] = bytes else { return None };
        let version = match rest {
            [v0, v1, ..] => u16::from_le_bytes([*v0, *v1]),
            _ => 0x0100,
        };
        Some(Self {
            attributes: Attributes(attributes),
            detach_timeout_ms: u16::from_le_bytes([d0, d1]),
            transfer_size: u16::from_le_bytes([t0, t1]),
            version,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_lengths_are_read_and_others_refused() {
        let nine = [9, 0x21, 0x0B, 0xFF, 0x00, 0x00, 0x04, 0x1A, 0x01, 0xEE];
        let found = FunctionalDescriptor::find([&[4, 0x24, 0, 0][..], &nine]).unwrap();
        assert!(found.attributes.can_download() && found.attributes.can_upload());
        assert_eq!((found.detach_timeout_ms, found.transfer_size, found.version), (255, 1024, VERSION_ADDRESSED));
        assert_eq!(FunctionalDescriptor::find([&nine[..7]]).unwrap().version, 0x0100);
        for len in 0..7 {
            assert_eq!(FunctionalDescriptor::find([&nine[..len]]), None);
        }
    }
}
