//! Reading and writing a release.

use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

use vaka_base::checksum::sha256;

use crate::release::archive::{self, Entry, Member, Source};
use crate::release::manifest::{Digest, Manifest, ManifestError};
use crate::release::release_error::{MANIFEST, ReleaseError};
use crate::release::signature::{PrivateKey, PublicKey};
use crate::release::signed::{Signed, content, signer, small};
use vaka_base::text;

/// The signature over the manifest's bytes.
pub const SIGNATURE: &str = "release.sig";

/// Largest manifest. Chosen by us: a manifest of the most members that are allowed has a quarter of it.
const MOST_MANIFEST: u64 = 1 << 20;

/// A release that was read and is whole.
#[derive(Clone, Debug)]
pub struct Release {
    /// The manifest.
    pub manifest: Manifest,
    /// The signer, if the release is signed. The signature is valid; whether the signer is
    /// trusted is a separate question.
    pub signer: Option<PublicKey>,
    /// All entries of the archive, in its order.
    entries: Vec<Entry>,
    /// The number of entries before the first member that the manifest names.
    preamble: usize,
    /// The digest of the whole file, once it was asked for.
    sha256: OnceLock<String>,
    source: Arc<dyn Source>,
}

impl Release {
    /// Whether a file starts as a release.
    pub fn is_one(bytes: &[u8]) -> bool {
        let name = bytes.get(30..30 + MANIFEST.len());
        bytes.starts_with(b"PK\x03\x04") && name == Some(MANIFEST.as_bytes())
    }

    /// Builds the file. `members` are all members except manifest, signature and key.
    ///
    /// # Errors
    /// [`ReleaseError::Manifest`]: the manifest is inconsistent.
    pub fn write(
        mut manifest: Manifest,
        members: &BTreeMap<String, Vec<u8>>,
        key: Option<&PrivateKey>,
    ) -> Result<Vec<u8>, ReleaseError> {
        manifest.members = members.iter().map(|(name, data)| (name.clone(), digest(data))).collect();
        manifest.check()?;
        let bytes = manifest.to_bytes();
        let signed = key.map(|key| Signed::new(&bytes, key)).transpose()?;
        Ok(assemble(&bytes, signed.as_ref(), members))
    }

    /// Reads a file once, and checks everything that does not depend on trusted keys. Members are
    /// read again when they are needed. `this` is the version of this Vaka.
    ///
    /// # Errors
    /// [`ReleaseError`].
    pub fn open(source: Arc<dyn Source>, this: &str) -> Result<Self, ReleaseError> {
        let entries = archive::index(&*source)?;
        let (first, rest) =
            entries.split_first().filter(|(first, _)| first.name == MANIFEST).ok_or(ReleaseError::NoManifest)?;
        let manifest = small(&*source, first, MOST_MANIFEST)?;
        let (signer, signed) = signer(&manifest, SIGNATURE, &*source, rest)?;
        let manifest = Manifest::from_bytes(&manifest)?;
        let rest = &rest[signed..];
        for entry in rest {
            let Some(said) = manifest.members.get(&entry.name) else {
                return Err(ManifestError::Unnamed(entry.name.clone()).into());
            };
            if said.size != entry.len {
                return Err(ReleaseError::Member(entry.name.clone(), "another size"));
            }
            if said.sha256 != text::hex(&entry.sha256) {
                return Err(ReleaseError::Member(entry.name.clone(), "another SHA-256"));
            }
        }
        if let Some(missing) = manifest.members.keys().find(|name| !rest.iter().any(|entry| entry.name == **name)) {
            return Err(ManifestError::Missing(missing.clone()).into());
        }
        in_its_order(rest, &manifest)?;
        if let Some(needs) = &manifest.needs_vaka
            && vaka_base::version::Version::parse(this) < vaka_base::version::Version::parse(needs)
        {
            return Err(ReleaseError::NeedsNewer { needs: needs.clone(), this: this.to_owned() });
        }
        Ok(Self { manifest, signer, entries, preamble: 1 + signed, sha256: OnceLock::new(), source })
    }

    /// SHA-256 of the whole file, as lower-case hex digits. The first call reads the file.
    ///
    /// # Errors
    /// The file was changed since it was opened, or cannot be read.
    pub fn sha256(&self) -> Result<&str, ReleaseError> {
        if let Some(known) = self.sha256.get() {
            return Ok(known);
        }
        let digest = archive::digest(&*self.source, &self.entries)?;
        Ok(self.sha256.get_or_init(|| text::hex(&digest)))
    }

    fn entry(&self, name: &str) -> Option<&Entry> {
        self.entries[self.preamble..].iter().find(|entry| entry.name == name)
    }

    /// The size of the file in bytes.
    pub fn size(&self) -> u64 {
        self.source.size()
    }

    /// Whether it has a member of this name.
    pub fn has(&self, name: &str) -> bool {
        self.entry(name).is_some()
    }

    /// Reads a member.
    ///
    /// # Errors
    /// The file was changed since it was opened, or cannot be read.
    pub fn member(&self, name: &str) -> Result<Vec<u8>, ReleaseError> {
        let changed = || ReleaseError::Member(name.to_owned(), "it was changed while it was used");
        let entry = self.entry(name).ok_or_else(changed)?;
        let bytes = content(&*self.source, entry)?;
        if sha256(&bytes)[..] == entry.sha256 { Ok(bytes) } else { Err(changed()) }
    }

    /// The release notes, sanitized line by line.
    pub fn notes(&self) -> Vec<String> {
        let notes = self.manifest.notes.as_ref().and_then(|name| self.member(name).ok()).unwrap_or_default();
        String::from_utf8_lossy(&notes).lines().map(text::sanitize).collect()
    }
}

fn digest(data: &[u8]) -> Digest {
    Digest { size: data.len() as u64, sha256: text::hex(&sha256(data)) }
}

fn assemble(manifest: &[u8], signed: Option<&Signed>, members: &BTreeMap<String, Vec<u8>>) -> Vec<u8> {
    let mut all = vec![Member { name: MANIFEST, data: manifest }];
    all.extend(signed.iter().flat_map(|signed| signed.members(SIGNATURE)));
    all.extend(members.iter().map(|(name, data)| Member { name, data }));
    archive::write(&all)
}

/// Checks that members are in the order of their names, so that the form is unique.
fn in_its_order(found: &[Entry], manifest: &Manifest) -> Result<(), ReleaseError> {
    match found.iter().zip(manifest.members.keys()).find(|(entry, name)| entry.name != **name) {
        Some((entry, _)) => Err(ReleaseError::Member(entry.name.clone(), "another place in the file")),
        None => Ok(()),
    }
}
