//! Reading and writing a release.

use std::collections::BTreeMap;

use sha2::{Digest as _, Sha256};
use thiserror::Error;

use crate::release::archive::{ArchiveError, Member};
use crate::release::manifest::{Digest, Manifest, ManifestError};
use crate::release::signature::{PrivateKey, PublicKey, SIGNATURE_LEN};
use vaka_base::text;

/// The names of the members that every release begins with.
pub const MANIFEST: &str = "release.json";
/// The signature over the manifest's bytes.
pub const SIGNATURE: &str = "release.sig";
/// The public key of the signer.
pub const SIGNER: &str = "signer.pem";

/// Largest release. Chosen by us: far above all firmware that is met here.
pub const MOST_BYTES: usize = 1 << 30;

/// A release that was read and is whole.
#[derive(Clone, Debug)]
pub struct Release {
    /// The manifest.
    pub manifest: Manifest,
    /// The signer, if the release is signed. The signature is valid; whether the signer is
    /// trusted is a separate question.
    pub signer: Option<PublicKey>,
    /// The members by name.
    pub members: BTreeMap<String, Vec<u8>>,
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

    /// Reads a file, and checks everything that does not depend on trusted keys.
    /// `this` is the version of this Vaka.
    ///
    /// # Errors
    /// [`ReleaseError`].
    pub fn read(bytes: &[u8], this: &str) -> Result<Self, ReleaseError> {
        let all = crate::release::archive::read(bytes)?;
        let (first, rest) =
            all.split_first().filter(|(first, _)| first.name == MANIFEST).ok_or(ReleaseError::NoManifest)?;
        let signer = signer(first.data, rest)?;
        let manifest = Manifest::from_bytes(first.data)?;
        let rest: Vec<&Member<'_>> = rest.iter().filter(|member| !matches!(member.name, SIGNATURE | SIGNER)).collect();
        for member in &rest {
            let Some(said) = manifest.members.get(member.name) else {
                return Err(ManifestError::Unnamed(member.name.to_owned()).into());
            };
            if said.size != member.data.len() as u64 {
                return Err(ReleaseError::Member(member.name.to_owned(), "another size"));
            }
            if said.sha256 != digest(member.data).sha256 {
                return Err(ReleaseError::Member(member.name.to_owned(), "another SHA-256"));
            }
        }
        if let Some(missing) = manifest.members.keys().find(|name| !rest.iter().any(|member| member.name == **name)) {
            return Err(ManifestError::Missing(missing.clone()).into());
        }
        let members: BTreeMap<String, Vec<u8>> =
            rest.iter().map(|member| (member.name.to_owned(), member.data.to_vec())).collect();
        in_its_order(&rest, &members)?;
        if let Some(needs) = &manifest.needs_vaka
            && vaka_base::version::Version::parse(this) < vaka_base::version::Version::parse(needs)
        {
            return Err(ReleaseError::NeedsNewer { needs: needs.clone(), this: this.to_owned() });
        }
        Ok(Self { manifest, signer, members })
    }

    /// A member's bytes; the manifest was checked to name no other.
    pub fn member(&self, name: &str) -> &[u8] {
        self.members.get(name).map_or(&[], Vec::as_slice)
    }

    /// The release notes, sanitized line by line.
    pub fn notes(&self) -> Vec<String> {
        let notes = self.manifest.notes.as_ref().map(|name| String::from_utf8_lossy(self.member(name)).into_owned());
        notes.unwrap_or_default().lines().map(text::sanitize).collect()
    }
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
    crate::release::archive::write(&all)
}

/// Checks that members are in the order of their names, so that the form is unique.
fn in_its_order(found: &[&Member<'_>], sorted: &BTreeMap<String, Vec<u8>>) -> Result<(), ReleaseError> {
    match found.iter().zip(sorted.keys()).find(|(member, name)| member.name != **name) {
        Some((member, _)) => Err(ReleaseError::Member(member.name.to_owned(), "another place in the file")),
        None => Ok(()),
    }
}

/// The key whose signature matches the manifest; `None` if the release is not signed.
fn signer(manifest: &[u8], rest: &[Member<'_>]) -> Result<Option<PublicKey>, ReleaseError> {
    let has = |name: &str| rest.iter().any(|member| member.name == name);
    let (signature, pem) = match rest {
        [signature, pem, ..] if signature.name == SIGNATURE && pem.name == SIGNER => (signature.data, pem.data),
        _ if has(SIGNATURE) || has(SIGNER) => return Err(ReleaseError::HalfSigned),
        _ => return Ok(None),
    };
    let pem = std::str::from_utf8(pem).map_err(|_| ReleaseError::Key("it is not text".into()))?;
    let key = PublicKey::from_pem(pem).map_err(|error| ReleaseError::Key(error.to_string()))?;
    if key.to_pem().as_deref() != Ok(pem) {
        return Err(ReleaseError::Key("it is not in canonical form".into()));
    }
    let signature: Option<&[u8; SIGNATURE_LEN]> = signature.try_into().ok();
    match signature {
        Some(signature) if key.verify(manifest, signature) => Ok(Some(key)),
        _ => Err(ReleaseError::Signature(key.short())),
    }
}
