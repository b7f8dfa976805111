//! The plan: the complete list of actions, made before the first one runs.
//!
//! A [`Plan`] can be drafted at any time for display. Only the
//! [`Approval`](crate::matching::Approval) of a final verdict turns it into an [`ApprovedPlan`],
//! which the executor requires.

mod blocks;
mod dfu;
mod dialect;
mod disk;
mod draft;
mod error;
mod geometry;
mod ledger;
mod memory_step;
mod model;
mod sectors;
mod step;

pub use blocks::{Block, Run};
pub use error::{ErasesOption, PlanError};
pub use geometry::{DialectCapabilities, WriteLimits};
pub use ledger::Ledger;
pub use memory_step::MemoryStep;
pub use model::{ApprovedPlan, KnownContent, Plan, PlanInput};
pub use sectors::rest_of_sectors;
pub use step::{FinishMethod, RestartMethod, Step};
