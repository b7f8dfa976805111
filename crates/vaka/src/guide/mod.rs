//! The step-by-step guide of a product or of a release, for people at a bench.

mod content;
mod hands;
mod markdown;
mod page;
mod plain;

pub use content::{Content, Subject};
pub use markdown::markdown;
pub use page::page;
pub use plain::plain;
