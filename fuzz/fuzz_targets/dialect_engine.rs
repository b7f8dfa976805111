//! The dialect engine against a hostile unit: whatever it answers, every operation ends
//! by its deadline, and nothing panics.

#![no_main]

#[path = "../readers.rs"]
mod readers;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| readers::dialect_engine(bytes));
