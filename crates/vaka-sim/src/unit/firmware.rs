//! Skerrow's applications, as their bootloaders check them.

use std::ops::Range;

use crate::flash::Flash;

const RAM_BASE: u32 = 0x2000_0000;
/// Highest end of RAM in the chip family; the bootloaders check nothing stricter.
const RAM_END_OF_FAMILY: u32 = 0x2000_8000;

/// A sound application.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Application {
    /// Version in packed decimal.
    pub version: u16,
    /// The board it was built for. No bootloader checks this.
    pub board_word: [u8; 4],
}

/// Checks a region as the bootloaders do: start vectors and CRC.
pub fn inspect(flash: &Flash, region: Range<u32>) -> Option<Application> {
    inspect_linked(flash, region.clone(), &region)
}

/// The same for an application that runs at other addresses than it lies at.
pub fn inspect_linked(flash: &Flash, region: Range<u32>, linked: &Range<u32>) -> Option<Application> {
    let word = |address: u32| Some(u32::from_le_bytes(flash.read(address, 4)?.try_into().ok()?));
    let (stack, reset) = (word(region.start)?, word(region.start + 4)?);
    let length = word(region.start + 0x44)?;
    let version = flash.read(region.start + 0x4C, 2)?;
    let sound = (RAM_BASE..=RAM_END_OF_FAMILY).contains(&stack)
        && linked.contains(&reset)
        && reset % 2 == 1
        && (0x60..region.end - region.start - 4).contains(&length);
    if !sound {
        return None;
    }
    let crc = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(flash.read(region.start, length as usize)?);
    let board_word = flash.read(region.start + 0x40, 4)?.try_into().ok()?;
    (word(region.start + length)? == crc)
        .then(|| Application { version: u16::from_le_bytes([version[0], version[1]]), board_word })
}

/// Bytes that resemble code: equal for the same unit, different for others.
pub fn filler_bytes(seed: &str, len: usize) -> Vec<u8> {
    let mut state =
        seed.bytes().fold(0x9E37_79B9_u32, |state, byte| (state ^ u32::from(byte)).wrapping_mul(0x0100_0193)) | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        state.to_le_bytes()[1]
    };
    (0..len).map(|_| next()).collect()
}

/// Settings as the factory writes them: a sign, the unit's own number (16 bytes
/// of text), an offset, a harbour, and a CRC-32 over those 32 bytes.
pub fn settings(serial: &str, offset: u32, harbour: u32) -> Vec<u8> {
    let mut bytes = b"SKSET2\0\0".to_vec();
    let number: Vec<u8> = serial.bytes().chain(std::iter::repeat(0)).take(16).collect();
    bytes.extend(number);
    bytes.extend(offset.to_le_bytes());
    bytes.extend(harbour.to_le_bytes());
    let crc = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(&bytes);
    bytes.extend(crc.to_le_bytes());
    bytes
}
