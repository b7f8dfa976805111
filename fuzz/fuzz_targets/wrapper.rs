//! A maker's own wrapper, and the product sheet that describes it: the bytes up
//! to the first zero are a sheet's end, the rest is a file.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_core::sheet::Sheet;

const SHEET: &str = include_str!("../../demo/sheets/tern.toml");

fuzz_target!(|bytes: &[u8]| {
    let (text, file) = bytes.split_at(bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len()));
    let Ok(text) = std::str::from_utf8(text) else { return };
    let Ok(sheet) = Sheet::parse("fuzz.toml", &format!("{SHEET}{text}")) else { return };
    for wrapper in &sheet.wrappers {
        let whole = [&wrapper.magic[..], file].concat();
        for file in [file, &whole] {
            if let Some(Ok(opened)) = wrapper.unwrap(file) {
                assert!(opened.payload.len() <= file.len());
            }
        }
    }
});
