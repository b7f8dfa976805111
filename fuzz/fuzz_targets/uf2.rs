//! The UF2 reader, and its writer on what was read. Blocks are made whole, so that
//! the magic numbers need not be guessed.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_image::uf2;

fuzz_target!(|bytes: &[u8]| {
    let mut file = Vec::new();
    for piece in bytes.chunks(96) {
        let mut block = [0; 512];
        block[..8].copy_from_slice(&[0x55, 0x46, 0x32, 0x0A, 0x57, 0x51, 0x5D, 0x9E]);
        block[508..].copy_from_slice(&[0x30, 0x6F, 0xB1, 0x0A]);
        block[8..8 + piece.len()].copy_from_slice(piece);
        file.extend_from_slice(&block);
    }
    let _ = uf2::read(bytes);
    for set in uf2::read(&file).into_iter().flat_map(|firmware| firmware.sets) {
        let image = set.image;
        // What was read is sound: rising, apart, inside 32 bits; and reads back.
        assert!(image.span().end().get() <= 1 << 32);
        assert!(image.segments().windows(2).all(|pair| pair[0].span().end() < pair[1].span().start()));
        if let Some(written) = uf2::write(&image, Some(7)) {
            assert!(uf2::read(&written).is_ok());
        }
    }
});
