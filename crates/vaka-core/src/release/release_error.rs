//! Why a release cannot be read.

use thiserror::Error;

use super::archive::ArchiveError;
use super::manifest::ManifestError;

/// The manifest, the first member of every release.
pub const MANIFEST: &str = "release.json";

/// Why a file is not a valid release.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ReleaseError {
    /// The archive.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// The manifest is invalid.
    #[error(transparent)]
    Manifest(#[from] ManifestError),
    /// The manifest is missing.
    #[error("its first member is not {MANIFEST}")]
    NoManifest,
    /// A member does not match the manifest.
    #[error("the member '{0}' does not match the manifest: {1}")]
    Member(String, &'static str),
    /// The signature or its key is missing.
    #[error("it has a signature without its key, or a key without its signature")]
    HalfSigned,
    /// The key cannot be read.
    #[error("the key in 'signer.pem' cannot be used: {0}")]
    Key(String),
    /// The signature is wrong.
    #[error("its signature by key {0} does not match this manifest: it was changed after it was signed")]
    Signature(String),
    /// It requires a newer version of Vaka.
    #[error("it requires Vaka {needs}; this is {this}")]
    NeedsNewer {
        /// Required version.
        needs: String,
        /// Version of this program.
        this: String,
    },
}
