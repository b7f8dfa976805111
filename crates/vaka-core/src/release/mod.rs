//! Releases: one signed file with the images for all variants of a product, in stages.
//!
//! [`Release::open`] trusts nothing: the file must be canonical; every member must match the
//! manifest; and the signature, if there is one, must match the key beside it. Whether that key
//! is trusted is up to the caller. See `docs/formats/release.md` for the format.

pub mod archive;
mod choose;
mod date;
pub mod manifest;
mod pieces;
mod release_file;
pub mod signature;
pub mod statement;

pub use choose::{Candidate, ReleaseQuery, STABLE, SelectError, Selection, VersionSelector, choose};
pub use pieces::{ImageError, Inconsistency, inconsistencies, sheet_for};
pub use release_file::{MANIFEST, Release, ReleaseError, SIGNATURE, SIGNER};
