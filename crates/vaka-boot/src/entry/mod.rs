//! The way into update mode: what the host does, and what a person does, one thing after
//! the other as the bus shows each of them done.

mod host_trigger;
mod mistake_hints;
mod procedure;
mod runner;
mod steps;

pub use procedure::{EntryProcedure, EntryTarget};
pub use steps::enter;
