//! Reading and writing a release.

use std::collections::BTreeMap;
use std::sync::Arc;

use sha2::{Digest as _, Sha256};
use thiserror::Error;

use crate::release::archive::{self, ArchiveError, Entry, Member, Source};
use crate::release::manifest::{Digest, Manifest, ManifestError};
use crate::release::signature::{PrivateKey, PublicKey, SIGNATURE_LEN};
use vaka_base::text;

/// The names of the members that every release begins with.
pub const MANIFEST: &str = "release.json";
/// The signature over the manifest's bytes.
pub const SIGNATURE: &str = "release.sig";
/// The public key of the signer.
pub const SIGNER: &str = "signer.pem";

/// Largest manifest, and largest key or signature. Chosen by us: a manifest of the most members that
/// are allowed has a quarter of it.
const MOST_MANIFEST: u64 = 1 << 20;
const MOST_KEY: u64 = 4096;

/// A release that was read and is whole.
#[derive(Clone, Debug)]
pub struct Release {
    /// The manifest.
    pub manifest: Manifest,
    /// The signer, if the release is signed. The signature is valid; whether the signer is
    /// trusted is a separate question.
    pub signer: Option<PublicKey>,
    /// SHA-256 of the whole file, as lower-case hex digits.
    pub sha256: String,
    /// The places of the members, by name.
    entries: BTreeMap<String, Entry>,
    source: Arc<dyn Source>,
}

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
    #[error("the key in '{SIGNER}' cannot be used: {0}")]
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
        let signed = key.map(|key| {
            let pem = key.public().to_pem().map_err(|error| ReleaseError::Key(error.to_string()))?;
            Ok::<_, ReleaseError>((key.sign(&bytes), pem))
        });
        let signed = signed.transpose()?;
        Ok(assemble(&bytes, signed.as_ref().map(|(signature, pem)| (&signature[..], pem.as_str())), members))
    }

    /// Reads a file once, and checks everything that does not depend on trusted keys. Members are
    /// read again when they are needed. `this` is the version of this Vaka.
    ///
    /// # Errors
    /// [`ReleaseError`].
    pub fn open(source: Arc<dyn Source>, this: &str) -> Result<Self, ReleaseError> {
        let index = archive::index(&*source)?;
        let (first, rest) =
            index.entries.split_first().filter(|(first, _)| first.name == MANIFEST).ok_or(ReleaseError::NoManifest)?;
        let manifest = small(&*source, first, MOST_MANIFEST)?;
        let (signer, signed) = signer(&manifest, &*source, rest)?;
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
        let entries = rest.iter().map(|entry| (entry.name.clone(), entry.clone())).collect();
        Ok(Self { manifest, signer, sha256: text::hex(&index.sha256), entries, source })
    }

    /// The size of the file in bytes.
    pub fn size(&self) -> u64 {
        self.source.size()
    }

    /// Whether it has a member of this name.
    pub fn has(&self, name: &str) -> bool {
        self.entries.contains_key(name)
    }

    /// Reads a member.
    ///
    /// # Errors
    /// The file was changed since it was opened, or cannot be read.
    pub fn member(&self, name: &str) -> Result<Vec<u8>, ReleaseError> {
        let changed = || ReleaseError::Member(name.to_owned(), "it was changed while it was used");
        let entry = self.entries.get(name).ok_or_else(changed)?;
        let bytes = content(&*self.source, entry)?;
        if Sha256::digest(&bytes)[..] == entry.sha256 { Ok(bytes) } else { Err(changed()) }
    }

    /// The release notes, sanitized line by line.
    pub fn notes(&self) -> Vec<String> {
        let notes = self.manifest.notes.as_ref().and_then(|name| self.member(name).ok()).unwrap_or_default();
        String::from_utf8_lossy(&notes).lines().map(text::sanitize).collect()
    }
}

fn content(source: &dyn Source, entry: &Entry) -> Result<Vec<u8>, ReleaseError> {
    let mut bytes = vec![0; usize::try_from(entry.len).unwrap_or_default()];
    let read = source.read_at(entry.offset, &mut bytes);
    read.map_err(|error| ReleaseError::Archive(ArchiveError::Unreadable(error.to_string())))?;
    Ok(bytes)
}

/// The content of a member that is kept in memory.
fn small(source: &dyn Source, entry: &Entry, limit: u64) -> Result<Vec<u8>, ReleaseError> {
    if entry.len > limit {
        return Err(ReleaseError::Member(entry.name.clone(), "it is too large"));
    }
    let bytes = content(source, entry)?;
    if Sha256::digest(&bytes)[..] == entry.sha256 {
        return Ok(bytes);
    }
    Err(ReleaseError::Member(entry.name.clone(), "it was changed while it was read"))
}

fn digest(data: &[u8]) -> Digest {
    Digest { size: data.len() as u64, sha256: text::hex(&Sha256::digest(data)) }
}

fn assemble(manifest: &[u8], signed: Option<(&[u8], &str)>, members: &BTreeMap<String, Vec<u8>>) -> Vec<u8> {
    let mut all = vec![Member { name: MANIFEST, data: manifest }];
    if let Some((signature, pem)) = signed {
        all.push(Member { name: SIGNATURE, data: signature });
        all.push(Member { name: SIGNER, data: pem.as_bytes() });
    }
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

/// The key whose signature matches the manifest, and the number of members that say so; `None` and
/// 0 if the release is not signed.
fn signer(manifest: &[u8], source: &dyn Source, rest: &[Entry]) -> Result<(Option<PublicKey>, usize), ReleaseError> {
    let has = |name: &str| rest.iter().any(|entry| entry.name == name);
    let (signature, pem) = match rest {
        [signature, pem, ..] if signature.name == SIGNATURE && pem.name == SIGNER => (signature, pem),
        _ if has(SIGNATURE) || has(SIGNER) => return Err(ReleaseError::HalfSigned),
        _ => return Ok((None, 0)),
    };
    let pem = String::from_utf8(small(source, pem, MOST_KEY)?);
    let pem = pem.map_err(|_| ReleaseError::Key("it is not text".into()))?;
    let key = PublicKey::from_pem(&pem).map_err(|error| ReleaseError::Key(error.to_string()))?;
    if key.to_pem().as_deref() != Ok(&pem) {
        return Err(ReleaseError::Key("it is not in canonical form".into()));
    }
    let signature: Option<[u8; SIGNATURE_LEN]> = small(source, signature, MOST_KEY)?.try_into().ok();
    match signature {
        Some(signature) if key.verify(manifest, &signature) => Ok((Some(key), 2)),
        _ => Err(ReleaseError::Signature(key.short())),
    }
}
