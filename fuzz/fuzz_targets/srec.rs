//! The S-record reader, and its writer on what was read.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::srec(bytes));
