//! What is in the way on this machine and its bench: one file for each place that is
//! looked at. Each function looks at one thing, and gives findings.

pub mod host;
pub mod log;
pub mod rules;
pub mod units;
