//! Checksums by parameters, and digests.

use std::collections::HashMap;
use std::sync::{Mutex, OnceLock, PoisonError};

use crc::{Algorithm, Crc, NoTable, Table};
use md5::{Digest as _, Md5};

/// The parameters of a CRC, as the `crc` crate's catalogue names them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct CrcParameters {
    /// Bits: 3 to 64.
    pub width: u8,
    /// The polynomial, most significant bit first, without its leading 1.
    pub polynomial: u64,
    /// Initial register value.
    pub start: u64,
    /// Whether the bits of each input byte are reflected (least significant bit first).
    pub reflect_in: bool,
    /// Whether the result is reflected.
    pub reflect_out: bool,
    /// Value that is XORed with the result.
    pub xor_out: u64,
}

impl CrcParameters {
    /// Whether all values fit into the width.
    pub fn is_sound(&self) -> bool {
        let fits = |number: u64| self.width == 64 || number >> self.width == 0;
        (3..=64).contains(&self.width) && fits(self.polynomial) && fits(self.start) && fits(self.xor_out)
    }
}

/// The CRC-32 that zip uses. Source: the catalogue entry CRC-32/ISO-HDLC.
pub const CRC32: CrcParameters = CrcParameters {
    width: 32,
    polynomial: 0x04C1_1DB7,
    start: 0xFFFF_FFFF,
    reflect_in: true,
    reflect_out: true,
    xor_out: 0xFFFF_FFFF,
};

/// A CRC that can be computed.
#[derive(Clone)]
pub struct CrcSum {
    parameters: CrcParameters,
    engine: Engine,
}

#[derive(Clone)]
enum Engine {
    Small(&'static Crc<u32, Table<1>>),
    Large(&'static Crc<u64, NoTable>),
}

impl std::fmt::Debug for CrcSum {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.parameters.fmt(f)
    }
}

/// The CRC crate requires `'static` parameters, so each engine is created once and kept.
static KNOWN: OnceLock<Mutex<HashMap<CrcParameters, Engine>>> = OnceLock::new();

/// Beyond this number of engines, CRCs are computed without a kept engine.
const MOST_KINDS: usize = 4096;

impl CrcSum {
    /// Returns `None` if a value does not fit into the width, or if too many engines exist.
    pub fn new(parameters: CrcParameters) -> Option<Self> {
        if !parameters.is_sound() {
            return None;
        }
        let mut known = KNOWN.get_or_init(Mutex::default).lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST_KINDS && !known.contains_key(&parameters) {
            return None;
        }
        let engine = known.entry(parameters).or_insert_with(|| Engine::new(parameters)).clone();
        Some(Self { parameters, engine })
    }

    /// The CRC of `bytes`.
    pub fn of(&self, bytes: &[u8]) -> u64 {
        if self.parameters == CRC32 {
            return u64::from(crc32(bytes));
        }
        match self.engine {
            Engine::Small(crc) => u64::from(crc.checksum(bytes)),
            Engine::Large(crc) => crc.checksum(bytes),
        }
    }

    /// The highest value it can have.
    pub fn highest(&self) -> u64 {
        u64::MAX >> (64 - self.parameters.width)
    }
}

impl Engine {
    #[allow(clippy::cast_possible_truncation)] // checked against the width
    fn new(of: CrcParameters) -> Self {
        let CrcParameters { width, polynomial, start, reflect_in, reflect_out, xor_out } = of;
        if width <= 32 {
            let algorithm = Algorithm {
                width,
                poly: polynomial as u32,
                init: start as u32,
                refin: reflect_in,
                refout: reflect_out,
                xorout: xor_out as u32,
                check: 0,
                residue: 0,
            };
            Self::Small(Box::leak(Box::new(Crc::<u32, Table<1>>::new(Box::leak(Box::new(algorithm))))))
        } else {
            let algorithm = Algorithm {
                width,
                poly: polynomial,
                init: start,
                refin: reflect_in,
                refout: reflect_out,
                xorout: xor_out,
                check: 0,
                residue: 0,
            };
            Self::Large(Box::leak(Box::new(Crc::<u64, NoTable>::new(Box::leak(Box::new(algorithm))))))
        }
    }
}

/// The MD5 digest: 16 bytes.
pub fn md5(bytes: &[u8]) -> Vec<u8> {
    Md5::digest(bytes).to_vec()
}

/// [`CRC32`] of bytes that arrive in parts.
#[derive(Clone, Debug, Default)]
pub struct Crc32(crc32fast::Hasher);

impl Crc32 {
    /// Adds bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The CRC of all bytes.
    pub fn finish(self) -> u32 {
        self.0.finalize()
    }
}

/// [`CRC32`] of `bytes`.
pub fn crc32(bytes: &[u8]) -> u32 {
    crc32fast::hash(bytes)
}

/// SHA-256 of bytes that arrive in parts. Source: FIPS 180-4.
///
/// With the feature `ring` it takes about half the time on processors without instructions for it.
#[derive(Clone)]
pub struct Sha256(Sha256Engine);

#[cfg(feature = "ring")]
type Sha256Engine = ring::digest::Context;
#[cfg(not(feature = "ring"))]
type Sha256Engine = sha2::Sha256;

impl std::fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Sha256")
    }
}

impl Default for Sha256 {
    fn default() -> Self {
        #[cfg(feature = "ring")]
        return Self(ring::digest::Context::new(&ring::digest::SHA256));
        #[cfg(not(feature = "ring"))]
        return Self(<sha2::Sha256 as sha2::Digest>::new());
    }
}

impl Sha256 {
    /// Adds bytes.
    pub fn update(&mut self, bytes: impl AsRef<[u8]>) {
        #[cfg(feature = "ring")]
        self.0.update(bytes.as_ref());
        #[cfg(not(feature = "ring"))]
        sha2::Digest::update(&mut self.0, bytes);
    }

    /// The digest of all bytes.
    ///
    /// # Panics
    /// Never: the digest has 32 bytes.
    pub fn finish(self) -> [u8; 32] {
        #[cfg(feature = "ring")]
        return self.0.finish().as_ref().try_into().expect("a SHA-256 digest has 32 bytes");
        #[cfg(not(feature = "ring"))]
        return sha2::Digest::finalize(self.0).into();
    }
}

/// The SHA-256 digest of `bytes`.
pub fn sha256(bytes: impl AsRef<[u8]>) -> [u8; 32] {
    let mut digest = Sha256::default();
    digest.update(bytes);
    digest.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Check values of "123456789" as the public catalogue of CRCs lists them.
    #[test]
    fn checksums_are_the_catalogues() {
        let kind = |width, polynomial, start, reflect, xor_out| CrcParameters {
            width,
            polynomial,
            start,
            reflect_in: reflect,
            reflect_out: reflect,
            xor_out,
        };
        for (parameters, check) in [
            (kind(8, 0x07, 0, false, 0), 0xF4),
            (kind(16, 0x1021, 0xFFFF, false, 0), 0x29B1),
            (kind(16, 0x8005, 0xFFFF, true, 0), 0x4B37),
            (kind(24, 0x86_4CFB, 0xB7_04CE, false, 0), 0x21_CF02),
            (kind(32, 0x04C1_1DB7, 0xFFFF_FFFF, true, 0xFFFF_FFFF), 0xCBF4_3926),
            (kind(64, 0x42F0_E1EB_A9EA_3693, 0, false, 0), 0x6C40_DF5F_0B49_7347),
        ] {
            assert_eq!(CrcSum::new(parameters).unwrap().of(b"123456789"), check, "{parameters:?}");
        }
        assert!(CrcSum::new(kind(8, 0x107, 0, false, 0)).is_none());
        assert!(CrcSum::new(kind(65, 7, 0, false, 0)).is_none());
        assert_eq!(md5(b"abc")[..4], [0x90, 0x01, 0x50, 0x98]);
        assert_eq!(sha256(b"abc")[..4], [0xBA, 0x78, 0x16, 0xBF]);
        let mut parts = (Sha256::default(), Crc32::default());
        for part in ["123", "", "456789"] {
            parts.0.update(part);
            parts.1.update(part.as_bytes());
        }
        // By sha256sum of coreutils 9.1, and the catalogue's check value.
        assert_eq!(parts.0.finish()[..4], [0x15, 0xE2, 0xB0, 0xD3]);
        assert_eq!(parts.1.finish(), 0xCBF4_3926);
    }
}
