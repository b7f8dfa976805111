//! Catalogues: signed lists of the releases of a publisher.
//!
//! A catalogue is a file beside the releases, in a folder or on a web server. Its number grows with every change and it
//! is stale after a day, so that a server cannot hide a newer one unnoticed. [`Catalogue::open`] checks form and signature; whether the key is trusted, and whether a newer number was
//! seen, is up to the caller. See `docs/formats/catalogue.md` for the format.

use serde::{Deserialize, Serialize};
use thiserror::Error;
use vaka_base::checksum::sha256;

use super::archive::{self, Member};
use super::date::is_date;
use super::manifest::{Loss, is_id, is_version, is_words};
use super::release_error::ReleaseError;
use super::release_file::Release;
use super::signature::{PrivateKey, PublicKey};
use super::signed::{SIGNER, Signed, signer, small};
use super::statement::WrittenStatement;
use crate::sheet::Ids;
use vaka_base::text;
use vaka_base::version::Version;

/// The version of the format that this reads and writes.
pub const FORMAT: u32 = 1;
/// The name of the file, beside the releases.
pub const FILE: &str = "releases.catalogue";
/// The member with the list.
pub const LIST: &str = "catalogue.json";
/// The signature over the list's bytes.
pub const SIGNATURE: &str = "catalogue.sig";
/// Largest catalogue in bytes. Chosen by us: a thousand releases with their notes.
pub const MOST_BYTES: u64 = 4 << 20;
/// Largest number: the largest integer that every JSON reader represents (RFC 8259, section 6).
const MOST_NUMBER: u64 = (1 << 53) - 1;
/// Most lines of notes of a release. Chosen by us.
const MOST_NOTES: usize = 200;

/// The list of a catalogue.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    /// Version of the format.
    pub catalogue: u32,
    /// Grows with every change; from 1 on.
    pub number: u64,
    /// The day on which it was made, such as `2026-11-23`.
    pub date: String,
    /// The last day on which it is taken for complete.
    pub fresh_until: String,
    /// Statements about keys: revoked and replaced ones.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<WrittenStatement>,
    /// The releases, by product and file.
    pub releases: Vec<ListedRelease>,
}

/// A release in a catalogue.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ListedRelease {
    /// Product id.
    pub product: String,
    /// The file, relative to the catalogue.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its SHA-256 in hex.
    pub sha256: String,
    /// The release's version.
    pub version: String,
    /// Its channel.
    pub channel: String,
    /// Its date.
    pub date: String,
    /// The last day on which it may be installed without a consent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<String>,
    /// The lowest version of Vaka that may install it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs_vaka: Option<String>,
    /// The oldest version of a unit that it may update.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub updates_from: Option<String>,
    /// The variants that it has images for.
    pub variants: Vec<String>,
    /// The USB ids of the product's units, as in its sheet.
    pub ids: Vec<String>,
    /// The losses that it causes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub loses: Vec<Loss>,
    /// The notes, line by line.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Its withdrawal, if it must not be installed any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub withdrawn: Option<Withdrawal>,
}

/// Why a release must not be installed any more.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Withdrawal {
    /// The day.
    pub date: String,
    /// The reason, for people.
    pub why: String,
}

/// Why a file is not a valid catalogue.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum CatalogueError {
    /// The archive, the signature or the key.
    #[error(transparent)]
    File(#[from] ReleaseError),
    /// Its members are not those of a catalogue.
    #[error("it is not a catalogue: its members are not {LIST}, {SIGNATURE} and {SIGNER}")]
    Members,
    /// It is not signed.
    #[error("it is not signed")]
    Unsigned,
    /// The list is not valid JSON of this form.
    #[error("its list cannot be read: {0}")]
    Unreadable(String),
    /// It has another version of the format.
    #[error("its list has format {0}; this Vaka reads {FORMAT}")]
    Format(u32),
    /// The list is not canonical.
    #[error("its list is not in canonical form")]
    OtherForm,
    /// A value cannot be.
    #[error("its list has {0}")]
    Value(String),
}

/// A catalogue with its signer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SignedCatalogue {
    /// The list.
    pub list: Catalogue,
    /// The signer. The signature is valid; whether the signer is trusted is a separate question.
    pub signer: PublicKey,
    /// SHA-256 of the list, as lower-case hex digits.
    pub sha256: String,
}

impl Catalogue {
    /// Signs the catalogue; returns the bytes of its file.
    ///
    /// # Errors
    /// [`CatalogueError::Value`]: a value cannot be. [`CatalogueError::File`]: the key cannot be written.
    pub fn write(&self, key: &PrivateKey) -> Result<Vec<u8>, CatalogueError> {
        self.check()?;
        let bytes = self.to_bytes();
        let signed = Signed::new(&bytes, key)?;
        let [signature, signer] = signed.members(SIGNATURE);
        Ok(archive::write(&[Member { name: LIST, data: &bytes }, signature, signer]))
    }

    /// Reads the bytes of a file.
    ///
    /// # Errors
    /// [`CatalogueError`].
    pub fn open(bytes: Vec<u8>) -> Result<SignedCatalogue, CatalogueError> {
        let entries = archive::index(&bytes).map_err(ReleaseError::from)?;
        let [list, rest @ ..] = &entries[..] else { return Err(CatalogueError::Members) };
        if list.name != LIST {
            return Err(CatalogueError::Members);
        }
        let content = small(&bytes, list, MOST_BYTES)?;
        let (key, members) = signer(&content, SIGNATURE, &bytes, rest)?;
        let signer = key.ok_or(CatalogueError::Unsigned)?;
        if members != rest.len() {
            return Err(CatalogueError::Members);
        }
        let sha256 = text::hex(&sha256(&content));
        Ok(SignedCatalogue { list: Self::from_bytes(&content)?, signer, sha256 })
    }

    /// Whether a day such as `2026-11-23` is after the last one on which it is taken for complete.
    pub fn is_stale(&self, day: &str) -> bool {
        day > self.fresh_until.as_str()
    }

    /// The products in it, each once.
    pub fn products(&self) -> Vec<&str> {
        let mut products: Vec<&str> = self.releases.iter().map(|listed| listed.product.as_str()).collect();
        products.dedup();
        products
    }

    fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = serde_json::to_vec_pretty(self).expect("texts, numbers and lists are JSON");
        bytes.push(b'\n');
        bytes
    }

    fn from_bytes(bytes: &[u8]) -> Result<Self, CatalogueError> {
        let list: Self = serde_json::from_slice(bytes)
            .map_err(|error| CatalogueError::Unreadable(text::sanitize(&error.to_string())))?;
        if list.catalogue != FORMAT {
            return Err(CatalogueError::Format(list.catalogue));
        }
        if list.to_bytes() != bytes {
            return Err(CatalogueError::OtherForm);
        }
        list.check()?;
        Ok(list)
    }

    fn check(&self) -> Result<(), CatalogueError> {
        if !(1..=MOST_NUMBER).contains(&self.number) {
            return wrong("number", &self.number.to_string());
        }
        if !is_date(&self.date) {
            return wrong("date", &self.date);
        }
        if !is_date(&self.fresh_until) || self.fresh_until < self.date {
            return wrong("last day", &self.fresh_until);
        }
        if let Some(error) = self.keys.iter().find_map(|statement| statement.verify().err()) {
            return Err(CatalogueError::Value(format!("a statement about a key that is invalid: {error}")));
        }
        self.releases.iter().try_for_each(ListedRelease::check)?;
        let places = self.releases.windows(2).map(|pair| (pair[0].place(), pair[1].place()));
        match places.into_iter().find(|(before, after)| before >= after) {
            Some((_, (product, file))) => wrong("order of releases", &format!("{product} {file}")),
            None => Ok(()),
        }
    }
}

impl ListedRelease {
    /// The entry of a release. `ids` are those of the product's sheet.
    ///
    /// # Errors
    /// The release was changed since it was opened, or cannot be read.
    pub fn of(release: &Release, file: String, ids: Vec<String>) -> Result<Self, ReleaseError> {
        let manifest = &release.manifest;
        let images = manifest.stages.iter().flat_map(|stage| &stage.images);
        let mut variants: Vec<String> = images.flat_map(|image| image.variants.iter().cloned()).collect();
        variants.sort();
        variants.dedup();
        Ok(Self {
            product: manifest.product.clone(),
            file,
            size: release.size(),
            sha256: release.sha256()?.to_owned(),
            version: manifest.version.clone(),
            channel: manifest.channel.clone(),
            date: manifest.date.clone(),
            expires: manifest.expires.clone(),
            needs_vaka: manifest.needs_vaka.clone(),
            updates_from: manifest.updates_from.clone(),
            variants,
            ids,
            loses: manifest.loses.clone(),
            notes: release.notes().into_iter().take(MOST_NOTES).collect(),
            withdrawn: None,
        })
    }

    /// The version in comparable form.
    pub fn ordered(&self) -> Version {
        Version::parse(&self.version)
    }

    /// Product and file, which give its place in the list.
    fn place(&self) -> (&str, &str) {
        (&self.product, &self.file)
    }

    fn check(&self) -> Result<(), CatalogueError> {
        let is_hex = |b: u8| matches!(b, b'0'..=b'9' | b'a'..=b'f');
        let is_digest = self.sha256.len() == 64 && self.sha256.bytes().all(is_hex);
        let days = [Some(&self.date), self.expires.as_ref(), self.withdrawn.as_ref().map(|withdrawn| &withdrawn.date)];
        let versions = [Some(&self.version), self.needs_vaka.as_ref(), self.updates_from.as_ref()];
        let why = self.withdrawn.as_ref().map(|withdrawn| &withdrawn.why);
        let ids = [Some(&self.product), Some(&self.channel)];
        let ids = ids.into_iter().flatten().chain(&self.variants).chain(self.loses.iter().map(|loss| &loss.id));
        let found = [
            ("file", first_wrong([&self.file], archive::is_name)),
            ("digest", first_wrong([&self.sha256], |_| is_digest)),
            ("date", first_wrong(days.into_iter().flatten(), is_date)),
            ("version", first_wrong(versions.into_iter().flatten(), is_version)),
            ("name", first_wrong(ids, is_id)),
            ("id", first_wrong(&self.ids, |ids| ids.parse::<Ids>().is_ok_and(|ids| ids.is_usb()))),
            ("loss", first_wrong(self.loses.iter().map(|loss| &loss.what), is_words)),
            ("note", first_wrong(&self.notes, |note| text::sanitize(note) == note)),
            ("reason", first_wrong(why, is_words)),
        ];
        match found.into_iter().find_map(|(what, value)| Some((what, value?))) {
            Some((what, value)) => wrong(what, value),
            None if self.variants.is_empty() || self.notes.len() > MOST_NOTES => {
                wrong("number of variants or notes", &self.file)
            }
            None => Ok(()),
        }
    }
}

/// The first text that is not right.
fn first_wrong<'a>(texts: impl IntoIterator<Item = &'a String>, is_right: impl Fn(&str) -> bool) -> Option<&'a String> {
    texts.into_iter().find(|text| !is_right(text))
}

fn wrong(what: &str, value: &str) -> Result<(), CatalogueError> {
    Err(CatalogueError::Value(format!("an invalid {what}: '{}'", text::sanitize(value))))
}
