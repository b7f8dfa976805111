//! The content of a stamp, and the stamps of an image that were read.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use serde::Serialize;

use crate::address::Address;

/// The fields of a stamp.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct StampFields {
    /// Product id.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    /// Part id.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// The variants that it is for.
    pub variants: Vec<String>,
    /// Version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Name of the build, if one variant has several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub build: Option<String>,
    /// When it was built.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub built: Option<String>,
    /// All other entries: name and value.
    pub facts: Vec<(String, String)>,
}

/// A stamp that was found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Stamp {
    /// Address of the stamp.
    pub at: Address,
    /// Start address of the image that the stamp describes.
    pub start: Address,
    /// Fields of the stamp.
    #[serde(flatten)]
    pub text: StampFields,
    /// State of length and digest.
    pub seal: SealState,
}

/// The state of a stamp's length and digest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SealState {
    /// Both are as the link left them.
    Open,
    /// The digest is the one of the image.
    Good,
    /// Length or digest is wrong: the image was changed or truncated after it was sealed.
    Broken,
}

/// The stamps of an image that were read: their digests are computed once. It is not part of the
/// image's value.
#[derive(Clone, Default)]
pub(crate) struct StampCache(Arc<KnownStamps>);

#[derive(Default)]
struct KnownStamps {
    /// Addresses of all stamps, once they were searched for.
    places: OnceLock<Vec<Address>>,
    parsed: Mutex<BTreeMap<Address, ParsedStamp>>,
}

/// A stamp, or why it cannot be read.
type ParsedStamp = Result<Stamp, &'static str>;

impl StampCache {
    /// The addresses of all stamps.
    pub(crate) fn places_or_search(&self, search: impl FnOnce() -> Vec<Address>) -> Vec<Address> {
        self.0.places.get_or_init(search).clone()
    }

    /// The stamp at an address.
    pub(crate) fn get_or_parse(&self, at: Address, parse: impl FnOnce() -> ParsedStamp) -> ParsedStamp {
        let mut known = self.0.parsed.lock().unwrap_or_else(PoisonError::into_inner);
        known.entry(at).or_insert_with(parse).clone()
    }
}

impl PartialEq for StampCache {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for StampCache {}

impl std::fmt::Debug for StampCache {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("StampCache")
    }
}
