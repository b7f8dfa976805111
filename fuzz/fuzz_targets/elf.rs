//! The ELF reader.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_image::elf;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(image) = elf::read(bytes) {
        // What was read is sound: rising, apart, inside 32 bits; and reads back.
        assert!(image.span().end().get() <= 1 << 32);
        assert!(image.segments().windows(2).all(|pair| pair[0].span().end() < pair[1].span().start()));
    }
});
