//! The readers of DFU files. The suffix is put right, so that its CRC need not be
//! guessed.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_image::address::Address;
use vaka_image::dfu_file;
use vaka_image::facts::Suffix;

fuzz_target!(|bytes: &[u8]| {
    let _ = dfu_file::suffix(bytes);
    let mut file = bytes.to_vec();
    dfu_file::append_suffix(&mut file, Suffix { release: 1, product: 2, vendor: 3, version: 0x011A });
    for at in [None, Some(Address::new(0xFFFF_FF00))] {
        for set in vaka_image::read_all(&file, at).into_iter().flat_map(|firmware| firmware.sets) {
            assert!(set.image.span().end().get() <= 1 << 32);
        }
    }
});
