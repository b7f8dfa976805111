//! Detection, raw binaries, and the search for a stamp.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::stamp(bytes));
