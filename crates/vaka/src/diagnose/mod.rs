//! Obstacles on this machine and its bench: one file per area. Each function examines one thing
//! and returns findings.

pub mod host;
pub mod log;
pub mod rules;
pub mod units;
