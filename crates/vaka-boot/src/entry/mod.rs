//! Entry into update mode: host signals and manual steps, in order, as the bus shows each one
//! done.

mod host_trigger;
mod mistake_hints;
mod procedure;
mod runner;
mod steps;

pub use procedure::{EntryProcedure, EntryTarget};
pub use steps::enter;
