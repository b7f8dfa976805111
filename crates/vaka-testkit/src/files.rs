//! Firmware images for simulated units, and files made record by record, so that a test can make them costly or wrong.

use crate::Random;

/// An application at `start` that simulated units accept: start vectors, header with this board
/// word and version, noise with runs and repetitions, and a CRC-32.
///
/// # Panics
/// If `len` is less than 84 bytes.
#[must_use]
pub fn application(len: usize, start: u32, board_word: [u8; 4], version: u16, seed: u64) -> Vec<u8> {
    let mut random = Random(seed);
    let byte = |at: usize| match at / 512 % 3 {
        0 => random.below(256).to_le_bytes()[0],
        1 => (at / 128).to_le_bytes()[0],
        _ => (at % 37).to_le_bytes()[0],
    };
    let mut bytes: Vec<u8> = (0..len).map(byte).collect();
    let mut word = |at: usize, value: u32| bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
    word(0, 0x2000_1000);
    word(4, start + 0x61);
    word(0x40, u32::from_le_bytes(board_word));
    word(0x44, u32::try_from(len - 4).expect("an application is smaller than 4 GiB"));
    word(0x48, start);
    word(0x4C, u32::from(version));
    let crc = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(&bytes[..len - 4]);
    bytes[len - 4..].copy_from_slice(&crc.to_le_bytes());
    bytes
}

/// A record of Intel HEX, with its sum.
///
/// # Panics
/// If `data` has more than 255 bytes.
#[must_use]
pub fn hex_record(address: u16, kind: u8, data: &[u8]) -> String {
    let [high, low] = address.to_be_bytes();
    let count = u8::try_from(data.len()).expect("a record has at most 255 bytes");
    let bytes = [&[count, high, low, kind], data].concat();
    let sum = bytes.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)).wrapping_neg();
    let digits = bytes.iter().chain([&sum]).map(|byte| format!("{byte:02X}"));
    format!(":{}\n", digits.collect::<String>())
}

/// An Intel HEX file with these pieces, a record for each.
pub fn hex<'a>(pieces: impl Iterator<Item = (u32, &'a [u8])>) -> String {
    let (mut text, mut high) = (String::new(), None);
    for (address, data) in pieces {
        let [a, b, c, d] = address.to_be_bytes();
        if high.replace([a, b]) != Some([a, b]) {
            text += &hex_record(0, 4, &[a, b]);
        }
        text += &hex_record(u16::from_be_bytes([c, d]), 0, data);
    }
    text + ":00000001FF\n"
}

/// A block of UF2 with 256 bytes of content, all zero, of the family `0x5EABD123`.
#[must_use]
pub fn uf2_block(address: u32, number: u32, total: u32) -> Vec<u8> {
    let words = [0x0A32_4655, 0x9E5D_5157, 0x2000, address, 256, number, total, 0x5EAB_D123];
    let mut block: Vec<u8> = words.iter().flat_map(|word: &u32| word.to_le_bytes()).collect();
    block.resize(508, 0);
    block.extend(0x0AB1_6F30u32.to_le_bytes());
    block
}
