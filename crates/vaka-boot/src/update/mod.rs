//! An update of one unit.

mod candidates;
pub mod confirm;
mod consents;
mod ending;
mod errors;
pub mod executor;
mod manual_steps;
mod older;
mod planning;
mod post_restart;
mod preserve;
mod request;
mod resolve;
mod resolved;
mod run;
mod state;
mod undescribed;

pub(crate) use candidates::open_question;
pub use candidates::{by_label, hopes, told_version};
pub(crate) use errors::undecided;
pub use planning::draft;
pub(crate) use planning::undo_of;
pub use request::{History, PreservedStore, ReleaseImage, Request, Save};
pub use run::{empty_report, run};
