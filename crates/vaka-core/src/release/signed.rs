//! Members that say who signed a file: a signature over its first member, and the signer's key.

use vaka_base::checksum::sha256;

use super::archive::{ArchiveError, Entry, Member, Source};
use super::release_error::ReleaseError;
use super::signature::{PrivateKey, PublicKey, SIGNATURE_LEN};

/// The public key of the signer.
pub const SIGNER: &str = "signer.pem";

/// Largest key or signature. Chosen by us.
const MOST_KEY: u64 = 4096;

/// The signature over some bytes, and the key of the signer.
pub(super) struct Signed {
    signature: [u8; SIGNATURE_LEN],
    pem: String,
}

impl Signed {
    /// Signs.
    pub(super) fn new(bytes: &[u8], key: &PrivateKey) -> Result<Self, ReleaseError> {
        let pem = key.public().to_pem().map_err(|error| ReleaseError::Key(error.to_string()))?;
        Ok(Self { signature: key.sign(bytes), pem })
    }

    /// The two members.
    pub(super) fn members<'a>(&'a self, name: &'a str) -> [Member<'a>; 2] {
        [Member { name, data: &self.signature }, Member { name: SIGNER, data: self.pem.as_bytes() }]
    }
}

/// The bytes of a member.
pub(super) fn content(source: &dyn Source, entry: &Entry) -> Result<Vec<u8>, ReleaseError> {
    let mut bytes = vec![0; usize::try_from(entry.len).unwrap_or_default()];
    let read = source.read_at(entry.offset, &mut bytes);
    read.map_err(|error| ReleaseError::Archive(ArchiveError::Unreadable(error.to_string())))?;
    Ok(bytes)
}

/// The content of a member that is kept in memory.
pub(super) fn small(source: &dyn Source, entry: &Entry, limit: u64) -> Result<Vec<u8>, ReleaseError> {
    if entry.len > limit {
        return Err(ReleaseError::Member(entry.name.clone(), "it is too large"));
    }
    let bytes = content(source, entry)?;
    if sha256(&bytes)[..] == entry.sha256 {
        return Ok(bytes);
    }
    Err(ReleaseError::Member(entry.name.clone(), "it was changed while it was read"))
}

/// The key whose signature in the member `name` matches the bytes, and the number of members that say so; `None` and 0
/// if the file is not signed.
pub(super) fn signer(
    bytes: &[u8],
    name: &str,
    source: &dyn Source,
    rest: &[Entry],
) -> Result<(Option<PublicKey>, usize), ReleaseError> {
    let has = |name: &str| rest.iter().any(|entry| entry.name == name);
    let (signature, pem) = match rest {
        [signature, pem, ..] if signature.name == name && pem.name == SIGNER => (signature, pem),
        _ if has(name) || has(SIGNER) => return Err(ReleaseError::HalfSigned),
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
        Some(signature) if key.verify(bytes, &signature) => Ok((Some(key), 2)),
        _ => Err(ReleaseError::Signature(key.short())),
    }
}
