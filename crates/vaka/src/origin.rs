//! The origin of this program.

use vaka_base::version::Version;

/// Its version.
pub const VERSION: &str = env!("CARGO_PKG_VERSION");

/// Whether this version is the needed one or newer.
pub fn is_at_least(needed: &str) -> bool {
    Version::parse(VERSION) >= Version::parse(needed)
}

/// Commit and target, by `build.rs`: `commit 9735c00a1b2c, x86_64-unknown-linux-gnu`.
pub const BUILD: &str = env!("VAKA_BUILD");

/// Version, commit and target.
pub const FULL: &str = concat!(env!("CARGO_PKG_VERSION"), " (", env!("VAKA_BUILD"), ")");
