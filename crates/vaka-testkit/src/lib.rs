//! Helpers shared by the tests of several crates. It depends on none of them, so that every
//! crate's tests can use it.

pub mod demo;
pub mod files;
pub mod program;
mod random;

pub use random::Random;
