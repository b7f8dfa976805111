//! A release on simulated units of its product, before anyone gets it.

mod actor;
mod bed;
mod cases;
mod page;

pub use cases::{Rehearsal, Row};
pub use page::html;
