//! A unit in update mode that is only read: brought there if need be, read, and sent back to its
//! application with nothing written.

mod reading;
mod session;
mod stages;

pub(crate) use reading::read_spans;
pub use reading::{MemoryChunks, image_of};
pub use session::ReadSession;
pub use stages::{ReadRequest, enter_only, open, open_to_read};
