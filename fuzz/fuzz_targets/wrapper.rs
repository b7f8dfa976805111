//! A maker's own wrapper, and the product sheet that describes it: the bytes up
//! to the first zero are a sheet's end, the rest is a file.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::wrapper(bytes));
