//! Values that the image model, the dialect language and the product model share.
//!
//! Nothing here performs I/O.

pub mod checksum;
pub mod duration;
pub mod parse_error;
pub mod pattern;
#[cfg(feature = "schema")]
pub mod schema;
pub mod size;
pub mod text;
pub mod version;

pub use parse_error::ParseError;
