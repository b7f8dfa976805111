//! Firmware images: addressed bytes, and the facts that their file states.
//!
//! [`read`] parses the bytes of a file into an [`Image`]. The content decides the format (see
//! [`detect`]), never the file name. Each format has one module, which refuses ambiguous input
//! and names line or offset. There is no lenient mode.

pub mod address;
pub mod compare;
pub mod completeness;
pub mod detect;
pub mod dfu_file;
pub mod edit;
pub mod elf;
pub mod facts;
pub mod hex;
mod model;
pub mod occupancy;
mod read;
mod record;
pub mod span_set;
pub mod srec;
pub mod stamp;
mod stamp_record;
pub mod uf2;
pub mod vectors;
pub mod version_field;
pub mod wrapper;

pub use facts::{FileFacts, Format};
pub use model::{ERASED, Firmware, GroupId, Image, ImageGroup, ImageLayout, Segment};
pub use read::{FirmwareFile, ReadError, ReadOptions, StreamingReader, read, read_all};
pub use record::{RecordError, RecordFault};
