//! USB descriptors.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::descriptor(bytes));
