//! The Intel HEX reader, and its writer on what was read.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_image::hex;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(image) = hex::read(bytes) {
        // What was read is sound: rising, apart, inside 32 bits; and reads back.
        assert!(image.span().end().get() <= 1 << 32);
        assert!(image.segments().windows(2).all(|pair| pair[0].span().end() < pair[1].span().start()));
        assert_eq!(hex::read(&hex::write(&image)).map(|again| again.segments().to_vec()), Ok(image.segments().to_vec()));
    }
});
