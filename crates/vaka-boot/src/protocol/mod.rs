//! The protocols of update mode: one engine per protocol, behind one
//! [`Session`](session::Session) trait.

pub mod bulk_only;
pub mod dfu;
pub mod dialect;
pub mod identity;
pub mod sense;
pub mod serial;
pub mod session;
pub mod session_error;
pub mod volume;
