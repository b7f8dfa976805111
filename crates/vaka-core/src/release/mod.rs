//! Releases: one signed file with the images for all variants of a product, in stages.
//!
//! [`Release::read`] takes nothing on trust: the file must be, bit for bit, what its
//! members make; every member must be what the manifest says; and the signature, where
//! there is one, must be the key's that lies beside it. Whether that key is trusted is
//! for the caller to say. The format is specified in `docs/formats/release.md`.

pub mod archive;
mod choose;
pub mod manifest;
mod pieces;
mod release_file;
pub mod signature;

pub use choose::{ReleaseQuery, STABLE, SelectError, Selection, VersionSelector, choose};
pub use pieces::{ImageError, Inconsistency, inconsistencies, sheet_for};
pub use release_file::{MANIFEST, MOST_BYTES, Release, ReleaseError, SIGNATURE, SIGNER};
