//! Signatures of releases: Ed25519 over the manifest. Keys are PEM, PKCS#8 and SPKI, compatible
//! with openssl. Source: RFC 8032; RFC 8410 for the keys.

use std::fmt;

use ed25519_dalek::pkcs8::spki::der::pem::LineEnding;
use ed25519_dalek::pkcs8::{DecodePrivateKey, DecodePublicKey, EncodePublicKey, KeypairBytes};
use ed25519_dalek::{Signer as _, SigningKey, VerifyingKey};
use sha2::{Digest, Sha256};
use thiserror::Error;

use vaka_base::text;

/// Bytes of a signature.
pub const SIGNATURE_LEN: usize = 64;

/// Why a key cannot be used.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum KeyError {
    /// It is not a private key of this kind.
    #[error("it is not a private Ed25519 key in PEM (PKCS#8, 'BEGIN PRIVATE KEY')")]
    NotPrivate,
    /// It is not a public key of this kind.
    #[error("it is not a public Ed25519 key in PEM (SPKI, 'BEGIN PUBLIC KEY')")]
    NotPublic,
    /// It is encrypted with a passphrase.
    #[error("it is encrypted with a passphrase, which is not supported; give the decrypted key")]
    Locked,
}

/// A private key.
pub struct PrivateKey(SigningKey);

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey of {}", self.public())
    }
}

impl PrivateKey {
    /// Creates the key from 32 random bytes.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::release::signature::PrivateKey;
    ///
    /// // Bytes for an example only; a real key is random.
    /// let key = PrivateKey::from_random([7; 32]);
    /// let signature = key.sign(b"manifest");
    /// assert!(key.public().verify(b"manifest", &signature));
    /// assert!(!key.public().verify(b"another manifest", &signature));
    /// ```
    pub fn from_random(bytes: [u8; 32]) -> Self {
        Self(SigningKey::from_bytes(&bytes))
    }

    /// Reads a key.
    ///
    /// # Errors
    /// [`KeyError`].
    pub fn from_pem(pem: &str) -> Result<Self, KeyError> {
        if pem.contains("ENCRYPTED") {
            return Err(KeyError::Locked);
        }
        SigningKey::from_pkcs8_pem(pem.trim_start()).map(Self).map_err(|_| KeyError::NotPrivate)
    }

    /// The key as a file. Version 1 of PKCS#8, which every openssl reads.
    ///
    /// # Errors
    /// [`KeyError::NotPrivate`]; cannot happen with a key of ours.
    pub fn to_pem(&self) -> Result<String, KeyError> {
        use ed25519_dalek::pkcs8::EncodePrivateKey;
        let pair = KeypairBytes { secret_key: self.0.to_bytes(), public_key: None };
        let pem = pair.to_pkcs8_pem(LineEnding::LF).map_err(|_| KeyError::NotPrivate)?;
        Ok(pem.to_string())
    }

    /// The public half.
    pub fn public(&self) -> PublicKey {
        PublicKey(self.0.verifying_key())
    }

    /// Signs.
    pub fn sign(&self, message: &[u8]) -> [u8; SIGNATURE_LEN] {
        self.0.sign(message).to_bytes()
    }
}

/// A public key. Shown as the beginning of the SHA-256 of its SPKI bytes.
#[derive(Clone, PartialEq, Eq)]
pub struct PublicKey(VerifyingKey);

impl PublicKey {
    /// Reads a key.
    ///
    /// # Errors
    /// [`KeyError::NotPublic`].
    pub fn from_pem(pem: &str) -> Result<Self, KeyError> {
        VerifyingKey::from_public_key_pem(pem.trim_start()).map(Self).map_err(|_| KeyError::NotPublic)
    }

    /// The key as a file.
    ///
    /// # Errors
    /// [`KeyError::NotPublic`]; cannot happen with a key of ours.
    pub fn to_pem(&self) -> Result<String, KeyError> {
        self.0.to_public_key_pem(LineEnding::LF).map_err(|_| KeyError::NotPublic)
    }

    /// The fingerprint: the first 32 hex digits (128 bits) of the SHA-256 of its SPKI bytes.
    pub fn short(&self) -> String {
        let der = self.0.to_public_key_der().map(|der| der.as_bytes().to_vec()).unwrap_or_default();
        text::hex(&Sha256::digest(&der)[..16])
    }

    /// The key as 64 hex digits.
    pub fn to_hex(&self) -> String {
        text::hex(self.0.as_bytes())
    }

    /// Reads 64 hex digits in lower case; `None` if they are no key.
    pub fn from_hex(digits: &str) -> Option<Self> {
        let bytes: [u8; 32] = text::parse_hex(digits)?.try_into().ok()?;
        VerifyingKey::from_bytes(&bytes).ok().map(Self).filter(|key| key.to_hex() == digits)
    }

    /// Verifies a signature over a message. Weak keys never verify.
    pub fn verify(&self, message: &[u8], signature: &[u8; SIGNATURE_LEN]) -> bool {
        let signature = ed25519_dalek::Signature::from_bytes(signature);
        self.0.verify_strict(message, &signature).is_ok()
    }
}

impl fmt::Display for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.short())
    }
}

impl fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Source: RFC 8032, section 7.1, test 2.
    #[test]
    fn a_signature_is_the_standards() {
        let bytes = |hex: &str| -> Vec<u8> {
            (0..hex.len() / 2).map(|at| u8::from_str_radix(&hex[at * 2..][..2], 16).unwrap()).collect()
        };
        let secret = bytes("4ccd089b28ff96da9db6c346ec114e0f5b8a319f35aba624da8cf6ed4fb8a6fb");
        let key = PrivateKey::from_random(secret.try_into().unwrap());
        let wanted = bytes(
            "92a009a9f0d4cab8720e820b5f642540a2b27b5416503f8fb3762223ebdb69da085ac1e43e15996e458f3613d0f11d8c387b2eaeb4302aeeb00d291612bb0c00",
        );
        assert_eq!(key.sign(&[0x72])[..], wanted);
        let mut signature: [u8; 64] = wanted.try_into().unwrap();
        assert!(key.public().verify(&[0x72], &signature) && !key.public().verify(&[0x73], &signature));
        signature[40] ^= 1;
        assert!(!key.public().verify(&[0x72], &signature));
    }

    #[test]
    fn keys_come_back_from_their_files() {
        let key = PrivateKey::from_random([7; 32]);
        let again = PrivateKey::from_pem(&key.to_pem().unwrap()).unwrap();
        assert_eq!(again.public(), key.public());
        assert_eq!(key.public().to_string(), key.public().short());
        assert_eq!(PublicKey::from_pem(&key.public().to_pem().unwrap()).unwrap(), key.public());
        assert!(PrivateKey::from_pem(&key.public().to_pem().unwrap()).is_err());
        assert!(PublicKey::from_pem("-----BEGIN PUBLIC KEY-----\nMCow\n-----END PUBLIC KEY-----\n").is_err());
        assert_eq!(key.public().short().len(), 32);
    }
}
