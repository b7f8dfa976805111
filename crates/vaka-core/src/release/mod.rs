//! Releases: one signed file with the images for all variants of a product, in stages.
//!
//! [`Release::open`] trusts nothing: the file must be canonical; every member must match the
//! manifest; and the signature, if there is one, must match the key beside it. Whether that key
//! is trusted is up to the caller. See `docs/formats/release.md` for the format, and `docs/formats/catalogue.md` for
//! signed lists of releases.

pub mod archive;
pub mod catalogue;
mod choose;
mod date;
pub mod manifest;
mod pieces;
mod release_error;
mod release_file;
pub mod signature;
mod signed;
pub mod statement;

pub use choose::{Candidate, CandidateFile, ReleaseQuery, STABLE, SelectError, Selection, VersionSelector, choose};
pub use pieces::{ImageError, Inconsistency, inconsistencies, sheet_for};
pub use release_error::{MANIFEST, ReleaseError};
pub use release_file::{Release, SIGNATURE};
pub use signed::SIGNER;
