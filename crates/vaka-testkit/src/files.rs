//! Firmware files made record by record, so that a test can make them costly or wrong.

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
