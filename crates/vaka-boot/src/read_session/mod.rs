//! Sessions that only read: the unit enters update mode if necessary, is read, and returns to its
//! application without a write.

mod reading;
mod session;
mod stages;

pub(crate) use reading::read_spans;
pub use reading::{MemoryChunks, image_of};
pub use session::ReadSession;
pub use stages::{ReadRequest, enter_only, open, open_to_read};
