//! The readers of DFU files. The suffix is put right, so that its CRC need not be
//! guessed.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::dfu_file(bytes));
