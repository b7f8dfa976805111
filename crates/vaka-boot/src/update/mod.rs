//! An update of one unit.

mod candidates;
pub mod confirm;
mod drafted;
mod errors;
mod executor;
mod input;
mod leaving;
mod located;
mod manual_steps;
mod older;
mod planning;
mod post_restart;
mod preserve;
mod progress;
mod reported;
mod request;
mod resolve;
mod resolved;
mod restarted;
mod run;
mod stop;
mod surveyed;
mod undescribed;
mod update_run;
mod wiring;
mod written;

pub(crate) use candidates::open_question;
pub use candidates::{candidate_sheets, reported_version, variant_by_label};
pub(crate) use errors::undecided;
pub(crate) use leaving::request_restart;
pub use planning::draft;
pub(crate) use planning::undo_of;
pub use request::{History, PreservedStore, ReleaseImage, Request, SaveFn};
pub use run::run;
pub(crate) use stop::StepError;
