//! Detection, raw binaries, and the search for a stamp.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_image::address::Address;
use vaka_image::{ReadOptions, stamp};

fuzz_target!(|bytes: &[u8]| {
    let options = ReadOptions { at: Some(Address::new(0x1000)), ..ReadOptions::default() };
    if let Ok(image) = vaka_image::read(bytes, options) {
        let _ = stamp::find(&image, Some(4));
        if let stamp::Found::One(_) = stamp::find(&image, None)
            && let Ok(sealed) = stamp::seal(&image)
        {
            let found = stamp::find(&sealed, None);
            assert!(matches!(found, stamp::Found::One(stamp) if stamp.seal == stamp::SealState::Good));
        }
    }
});
