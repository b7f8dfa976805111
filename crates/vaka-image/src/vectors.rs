//! Start vectors: the table at the start of an image that holds the chip's initial stack pointer
//! and first instruction.

use serde::{Deserialize, Serialize};

use crate::address::{Address, Span};
use crate::model::Image;

/// The form of a vector table, as a product sheet names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum VectorKind {
    /// Two 32-bit little-endian words: initial stack pointer, reset handler
    /// with bit 0 set. Source: Armv7-M architecture manual, section B1.5.3.
    CortexM,
}

/// The start vectors of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct StartVectors {
    /// Initial stack pointer.
    pub stack: Address,
    /// Reset handler as stored: bit 0 selects the instruction set.
    pub reset: Address,
}

impl StartVectors {
    /// Reads them from the beginning of `image`; `None` if it is too short.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::Address;
    /// use vaka_image::vectors::{StartVectors, VectorKind};
    /// use vaka_image::Image;
    ///
    /// let mut bytes = 0x2000_4000_u32.to_le_bytes().to_vec();
    /// bytes.extend(0x0800_0101_u32.to_le_bytes());
    /// let image = Image::from_memory(&[(Address::new(0x0800_0000), bytes)]).unwrap();
    /// let vectors = StartVectors::read(VectorKind::CortexM, &image).unwrap();
    /// assert!(vectors.is_thumb());
    /// assert_eq!(vectors.first_instruction(), Address::new(0x0800_0100));
    /// ```
    pub fn read(kind: VectorKind, image: &Image) -> Option<Self> {
        let VectorKind::CortexM = kind;
        let bytes = image.bytes(Span::new(image.start(), 8)?)?;
        let word = |at: usize| {
            let bytes = [bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]];
            Address::new(u64::from(u32::from_le_bytes(bytes)))
        };
        Some(Self { stack: word(0), reset: word(4) })
    }

    /// The address of the first instruction.
    pub fn first_instruction(self) -> Address {
        self.reset.align_down(2)
    }

    /// Whether the reset handler selects the instruction set of the chip.
    pub fn is_thumb(self) -> bool {
        self.reset.get() & 1 == 1
    }
}
