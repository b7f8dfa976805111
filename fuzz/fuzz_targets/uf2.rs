//! The UF2 reader, and its writer on what was read. Blocks are made whole, so that
//! the magic numbers need not be guessed.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::uf2(bytes));
