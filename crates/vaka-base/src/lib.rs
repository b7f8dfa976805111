//! Values that the image model, the dialect language and the product model share.
//!
//! This crate performs no I/O.

pub mod checksum;
pub mod document;
pub mod duration;
pub mod parse_error;
pub mod pattern;
#[cfg(feature = "schema")]
pub mod schema;
pub mod size;
pub mod text;
pub mod version;

pub use parse_error::ParseError;
