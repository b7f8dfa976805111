//! Message authentication and block ciphers with keys of variable length, as the language offers
//! them. The algorithms are those of the RustCrypto crates.

use aes::cipher::block_padding::NoPadding;
use aes::cipher::{BlockModeDecrypt, BlockModeEncrypt, KeyInit, KeyIvInit};
use aes::{Aes128, Aes256};
use cmac::{Cmac, Mac};
use hmac::Hmac;
use sha1::{Digest, Sha1};
use sha2::Sha256;

/// Bytes in a block of AES. Source: FIPS 197, section 3.1.
pub(crate) const BLOCK: usize = 16;

/// Why a value cannot be computed, as a sentence without its full stop.
pub(crate) type Computed<T> = Result<T, &'static str>;

const KEY: &str = "a key of AES has 16 or 32 bytes";
const BLOCKS: &str = "AES works on blocks of 16 bytes; pad the bytes first";
const START: &str = "the initial value has 16 bytes";

/// The direction of a cipher.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Way {
    Encrypt,
    Decrypt,
}

/// SHA-1. Source: FIPS 180-4, section 6.1.
pub(crate) fn sha1(bytes: &[u8]) -> Vec<u8> {
    Sha1::digest(bytes).to_vec()
}

/// HMAC with SHA-1. Source: RFC 2104.
pub(crate) fn hmac_sha1(key: &[u8], bytes: &[u8]) -> Computed<Vec<u8>> {
    mac(Hmac::<Sha1>::new_from_slice(key).map_err(|_| "this is not a key")?, bytes)
}

/// HMAC with SHA-256. Source: RFC 2104.
pub(crate) fn hmac_sha256(key: &[u8], bytes: &[u8]) -> Computed<Vec<u8>> {
    mac(Hmac::<Sha256>::new_from_slice(key).map_err(|_| "this is not a key")?, bytes)
}

/// AES-CMAC. Source: RFC 4493.
pub(crate) fn aes_cmac(key: &[u8], bytes: &[u8]) -> Computed<Vec<u8>> {
    match key.len() {
        16 => mac(Cmac::<Aes128>::new_from_slice(key).map_err(|_| KEY)?, bytes),
        32 => mac(Cmac::<Aes256>::new_from_slice(key).map_err(|_| KEY)?, bytes),
        _ => Err(KEY),
    }
}

fn mac(mut mac: impl Mac, bytes: &[u8]) -> Computed<Vec<u8>> {
    mac.update(bytes);
    Ok(mac.finalize().into_bytes().to_vec())
}

/// AES with each block by itself. Source: NIST SP 800-38A, section 6.1.
pub(crate) fn aes_ecb(way: Way, key: &[u8], bytes: &[u8]) -> Computed<Vec<u8>> {
    match (way, key.len()) {
        (Way::Encrypt, 16) => encrypted(ecb::Encryptor::<Aes128>::new_from_slice(key).map_err(|_| KEY)?, bytes),
        (Way::Encrypt, 32) => encrypted(ecb::Encryptor::<Aes256>::new_from_slice(key).map_err(|_| KEY)?, bytes),
        (Way::Decrypt, 16) => decrypted(ecb::Decryptor::<Aes128>::new_from_slice(key).map_err(|_| KEY)?, bytes),
        (Way::Decrypt, 32) => decrypted(ecb::Decryptor::<Aes256>::new_from_slice(key).map_err(|_| KEY)?, bytes),
        _ => Err(KEY),
    }
}

/// AES with chained blocks from the initial value `start`. Source: NIST SP 800-38A, section 6.2.
pub(crate) fn aes_cbc(way: Way, key: &[u8], start: &[u8], bytes: &[u8]) -> Computed<Vec<u8>> {
    if !matches!(key.len(), 16 | 32) {
        return Err(KEY);
    }
    match (way, key.len()) {
        (Way::Encrypt, 16) => {
            encrypted(cbc::Encryptor::<Aes128>::new_from_slices(key, start).map_err(|_| START)?, bytes)
        }
        (Way::Encrypt, _) => {
            encrypted(cbc::Encryptor::<Aes256>::new_from_slices(key, start).map_err(|_| START)?, bytes)
        }
        (Way::Decrypt, 16) => {
            decrypted(cbc::Decryptor::<Aes128>::new_from_slices(key, start).map_err(|_| START)?, bytes)
        }
        (Way::Decrypt, _) => {
            decrypted(cbc::Decryptor::<Aes256>::new_from_slices(key, start).map_err(|_| START)?, bytes)
        }
    }
}

fn encrypted(cipher: impl BlockModeEncrypt, bytes: &[u8]) -> Computed<Vec<u8>> {
    if !bytes.len().is_multiple_of(BLOCK) {
        return Err(BLOCKS);
    }
    Ok(cipher.encrypt_padded_vec::<NoPadding>(bytes))
}

fn decrypted(cipher: impl BlockModeDecrypt, bytes: &[u8]) -> Computed<Vec<u8>> {
    cipher.decrypt_padded_vec::<NoPadding>(bytes).map_err(|_| BLOCKS)
}
