//! The dialect language: whatever a file holds, it is read or refused, with line and
//! column inside the file; what was read can be shown.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::dialect(bytes));
