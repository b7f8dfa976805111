//! The file of a release: a zip archive in one form only.
//!
//! Members are stored uncompressed, one after the other, without gaps, dates, attributes or
//! comments; then follow the central directory in the same order, and its end record. The same
//! members always yield the same bytes, so a reader that writes the archive again detects any
//! changed bit. Implemented here because the form must never change with a library's version.
//! Source: APPNOTE.TXT 6.3.10, sections 4.3.7, 4.3.12 and 4.3.16.

use std::io;

use thiserror::Error;
use vaka_base::checksum::{Crc32, Sha256, crc32};

use vaka_base::text;

const LOCAL: u32 = 0x0403_4B50;
const CENTRAL: u32 = 0x0201_4B50;
const END: u32 = 0x0605_4B50;
const LOCAL_LEN: usize = 30;
/// The first date that a zip can represent.
const FIRST_DAY: u16 = 0x0021;
/// Version of the format that is needed to read members that are not compressed.
const VERSION: u16 = 10;

/// Maximum number of members. Chosen by us.
pub const MOST_MEMBERS: usize = 1000;
/// Bytes that are read at once.
const PIECE: usize = 64 * 1024;
/// Longest name of a member. Chosen by us.
const MOST_NAME: usize = 120;

/// A file in a release.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Member<'a> {
    /// Name, with `/` between folders.
    pub name: &'a str,
    /// Content.
    pub data: &'a [u8],
}

/// Why a file is not an archive of a release.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ArchiveError {
    /// It does not start as a zip archive.
    #[error("it is not a zip archive")]
    NoArchive,
    /// It is truncated.
    #[error("it is truncated{}", after(.0))]
    Cut(String),
    /// A name leads out of the archive, or is none.
    #[error("the member '{}' has an invalid name: only relative paths of letters, digits, '.', '_' and '-' are allowed", text::sanitize(.0))]
    BadName(String),
    /// Two members have one name.
    #[error("the member '{0}' occurs twice")]
    Twice(String),
    /// A member is compressed or encrypted.
    #[error("the member '{0}' is compressed or encrypted; a release stores its members unchanged")]
    Packed(String),
    /// The two sizes of a member differ, or exceed the file.
    #[error("the member '{0}' states {1} bytes, but takes {2}")]
    Sizes(String, u32, u32),
    /// A member's checksum is wrong.
    #[error("the member '{0}' is damaged: its CRC-32 is wrong")]
    Damaged(String),
    /// It has too many members.
    #[error("it has more than {MOST_MEMBERS} members")]
    TooMany,
    /// It is not canonical.
    #[error("it is not canonical (first difference at byte {0}): it was changed, or made by another program")]
    OtherForm(u64),
    /// Its members are not those that were found before.
    #[error("it was changed while it was used")]
    Changed,
    /// It cannot be read.
    #[error("{0}")]
    Unreadable(String),
}

fn after(name: &str) -> String {
    if name.is_empty() { String::new() } else { format!(" after the member '{name}'") }
}

/// Whether a member name is allowed: folders and names of letters, digits, `.`, `_` and `-`, none
/// starting with a point.
///
/// # Examples
/// ```
/// use vaka_core::release::archive::is_name;
///
/// assert!(is_name("images/tern-r1.hex"));
/// assert!(!is_name("../outside") && !is_name("/absolute") && !is_name(".hidden"));
/// ```
pub fn is_name(name: &str) -> bool {
    let fits = |part: &str| {
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
        !part.is_empty() && !part.starts_with('.') && part.chars().all(plain)
    };
    name.len() <= MOST_NAME && name.split('/').all(fits)
}

/// A file whose bytes can be read at any place.
pub trait Source: std::fmt::Debug + Send + Sync {
    /// Length of the file in bytes.
    fn size(&self) -> u64;

    /// Fills a buffer with the bytes from `offset` on.
    ///
    /// # Errors
    /// The file ends before, or cannot be read.
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()>;
}

impl Source for Vec<u8> {
    fn size(&self) -> u64 {
        self.len() as u64
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        let from = usize::try_from(offset).unwrap_or(usize::MAX);
        let bytes = self.get(from..from.saturating_add(buffer.len())).ok_or(io::ErrorKind::UnexpectedEof)?;
        buffer.copy_from_slice(bytes);
        Ok(())
    }
}

/// The place of a member in its archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// Name, with `/` between folders.
    pub name: String,
    /// Place of its first byte.
    pub offset: u64,
    /// Number of its bytes.
    pub len: u64,
    /// SHA-256 of its bytes.
    pub sha256: [u8; 32],
    crc: u32,
}

/// The archive with these members, in this order.
///
/// # Panics
/// If the archive exceeds 4 GiB; a release never does.
pub fn write(members: &[Member<'_>]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut entries = Vec::new();
    for member in members {
        let (crc, len) = (crc32(member.data), size(member.data.len()));
        out.extend(LOCAL.to_le_bytes());
        out.extend(common(member.name, crc, len));
        out.extend(member.name.as_bytes());
        let offset = out.len() as u64;
        out.extend(member.data);
        let (name, len) = (member.name.to_owned(), u64::from(len));
        entries.push(Entry { name, offset, len, sha256: [0; 32], crc });
    }
    let start = size(out.len());
    out.extend(directory(&entries, start));
    out
}

/// The central directory and its end record. `start` is the place of the directory.
fn directory(entries: &[Entry], start: u32) -> Vec<u8> {
    let mut central = Vec::new();
    for entry in entries {
        let head = entry.offset - (LOCAL_LEN + entry.name.len()) as u64;
        let small = |value: u64| u32::try_from(value).expect("a release is far below 4 GiB");
        central.extend(CENTRAL.to_le_bytes());
        central.extend(VERSION.to_le_bytes());
        central.extend(common(&entry.name, entry.crc, small(entry.len)));
        // Comment, disk, attributes: none.
        central.extend([0; 10]);
        central.extend(small(head).to_le_bytes());
        central.extend(entry.name.as_bytes());
    }
    let len = size(central.len());
    let count = u16::try_from(entries.len()).expect("a release has at most a thousand members");
    central.extend(END.to_le_bytes());
    central.extend([0; 4]);
    central.extend([count.to_le_bytes(), count.to_le_bytes()].concat());
    central.extend([len.to_le_bytes(), start.to_le_bytes()].concat());
    central.extend([0; 2]);
    central
}

fn size(len: usize) -> u32 {
    u32::try_from(len).expect("a release is far below 4 GiB")
}

/// The common part of local and central header: version to length of extra field.
fn common(name: &str, crc: u32, len: u32) -> Vec<u8> {
    let words = [VERSION, 0, 0, 0, FIRST_DAY];
    let mut bytes: Vec<u8> = words.iter().flat_map(|word| word.to_le_bytes()).collect();
    for word in [crc, len, len] {
        bytes.extend(word.to_le_bytes());
    }
    bytes.extend(u16::try_from(name.len()).unwrap_or(0).to_le_bytes());
    bytes.extend([0; 2]);
    bytes
}

/// Reads an archive once, from its start to its end, and detects any bit that differs from what
/// [`write()`] produces. Needs little memory, whatever the size of the archive. Returns the members in the order of the
/// file.
///
/// # Errors
/// [`ArchiveError`], with the name of the member concerned.
pub fn index(source: &dyn Source) -> Result<Vec<Entry>, ArchiveError> {
    Walk { source, at: 0, hash: None, difference: None }.read_all().map(|(entries, _)| entries)
}

/// The SHA-256 of an archive's file, whose members are still these. It hashes each byte twice, which [`index`] avoids.
///
/// # Errors
/// [`ArchiveError`]; [`ArchiveError::Changed`]: the members are others now.
pub fn digest(source: &dyn Source, entries: &[Entry]) -> Result<[u8; 32], ArchiveError> {
    let walk = Walk { source, at: 0, hash: Some(Sha256::default()), difference: None };
    match walk.read_all()? {
        (found, Some(hash)) if found == entries => Ok(hash.finish()),
        _ => Err(ArchiveError::Changed),
    }
}
/// A walk through an archive.
struct Walk<'a> {
    source: &'a dyn Source,
    at: u64,
    /// Of all bytes so far, if it is wanted.
    hash: Option<Sha256>,
    /// The first byte that is not canonical; errors that name a member count more.
    difference: Option<u64>,
}

impl Walk<'_> {
    /// The members, and the digest of all bytes.
    fn read_all(mut self) -> Result<(Vec<Entry>, Option<Sha256>), ArchiveError> {
        let mut entries: Vec<Entry> = Vec::new();
        while self.starts_with(LOCAL)? {
            if entries.len() == MOST_MEMBERS {
                return Err(ArchiveError::TooMany);
            }
            let entry = self.member(entries.last().map_or("", |entry| &entry.name))?;
            if entries.iter().any(|other| other.name == entry.name) {
                return Err(ArchiveError::Twice(entry.name));
            }
            entries.push(entry);
        }
        if entries.is_empty() {
            return Err(ArchiveError::NoArchive);
        }
        let cut = || ArchiveError::Cut(entries.last().map_or("", |entry| &entry.name).to_owned());
        let start = u32::try_from(self.at).map_err(|_| cut())?;
        let expected = directory(&entries, start);
        if self.left() < expected.len() as u64 {
            return Err(cut());
        }
        let directory_at = self.at;
        let found = self.take(expected.len())?;
        self.compare(&found, &expected, directory_at);
        let behind = (self.left() > 0).then_some(self.at);
        match self.difference.or(behind) {
            Some(at) => Err(ArchiveError::OtherForm(at)),
            None => Ok((entries, self.hash)),
        }
    }

    fn left(&self) -> u64 {
        self.source.size().saturating_sub(self.at)
    }

    fn starts_with(&self, signature: u32) -> Result<bool, ArchiveError> {
        let mut word = [0; 4];
        if self.left() < 4 {
            return Ok(false);
        }
        self.source.read_at(self.at, &mut word).map_err(unreadable)?;
        Ok(u32::from_le_bytes(word) == signature)
    }

    /// The next bytes.
    fn take(&mut self, len: usize) -> Result<Vec<u8>, ArchiveError> {
        let mut bytes = vec![0; len];
        self.source.read_at(self.at, &mut bytes).map_err(unreadable)?;
        if let Some(hash) = &mut self.hash {
            hash.update(&bytes);
        }
        self.at += len as u64;
        Ok(bytes)
    }

    /// Records the first difference of bytes that start at `start`.
    fn compare(&mut self, found: &[u8], expected: &[u8], start: u64) {
        let differs = found.iter().zip(expected).position(|(a, b)| a != b);
        self.difference = self.difference.or(differs.map(|at| start + at as u64));
    }

    /// Reads one member from its local header on.
    fn member(&mut self, before: &str) -> Result<Entry, ArchiveError> {
        let cut = || ArchiveError::Cut(before.to_owned());
        let start = self.at;
        if self.left() < LOCAL_LEN as u64 {
            return Err(cut());
        }
        let head = self.take(LOCAL_LEN)?;
        let half = |at: usize| usize::from(u16::from_le_bytes([head[at], head[at + 1]]));
        let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        if self.left() < half(26) as u64 {
            return Err(cut());
        }
        let name = self.take(half(26))?;
        let bad = || ArchiveError::BadName(String::from_utf8_lossy(&name).into_owned());
        let name = std::str::from_utf8(&name).ok().filter(|name| is_name(name)).ok_or_else(bad)?.to_owned();
        if half(8) != 0 || half(6) & 1 != 0 {
            return Err(ArchiveError::Packed(name));
        }
        let (crc, packed, plain) = (word(14), word(18), word(22));
        if packed != plain {
            return Err(ArchiveError::Sizes(name, plain, packed));
        }
        if self.left() < u64::from(plain) {
            return Err(cut());
        }
        self.compare(&head[4..], &common(&name, crc, plain), start + 4);
        let offset = self.at;
        let (found, sha256) = self.content(u64::from(plain))?;
        if found != crc {
            return Err(ArchiveError::Damaged(name));
        }
        Ok(Entry { name, offset, len: u64::from(plain), sha256, crc })
    }

    /// CRC-32 and SHA-256 of the next bytes.
    fn content(&mut self, len: u64) -> Result<(u32, [u8; 32]), ArchiveError> {
        let (mut crc, mut hash) = (Crc32::default(), Sha256::default());
        let mut left = len;
        while left > 0 {
            let bytes = self.take(usize::try_from(left).unwrap_or(PIECE).min(PIECE))?;
            crc.update(&bytes);
            hash.update(&bytes);
            left -= bytes.len() as u64;
        }
        Ok((crc.finish(), hash.finish()))
    }
}

#[allow(clippy::needless_pass_by_value)] // of `map_err`
fn unreadable(error: io::Error) -> ArchiveError {
    ArchiveError::Unreadable(error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_lead_elsewhere_are_none() {
        for good in ["release.json", "images/tern-r1_1.hex", "a/b/c"] {
            assert!(is_name(good), "{good}");
        }
        let long = "a".repeat(121);
        for bad in
            ["", "/a", "a/", "a//b", "..", "../a", "a/../b", ".", ".hidden", "a\\b", "C:a", "a b", "a\0", "ä", &long]
        {
            assert!(!is_name(bad), "{bad}");
        }
    }

    #[test]
    fn what_is_written_is_read_and_no_bit_may_differ() {
        let members = [Member { name: "a", data: b"one" }, Member { name: "b/c", data: b"" }];
        let bytes = write(&members);
        let found = index(&bytes).unwrap();
        let names: Vec<&str> = found.iter().map(|entry| entry.name.as_str()).collect();
        assert_eq!(names, ["a", "b/c"]);
        assert_eq!(bytes[usize::try_from(found[0].offset).unwrap()..][..3], *b"one");
        assert_eq!(digest(&bytes, &found), Ok(vaka_base::checksum::sha256(&bytes)));
        let others = write(&[Member { name: "a", data: b"two" }, Member { name: "b/c", data: b"" }]);
        assert_eq!(digest(&others, &found), Err(ArchiveError::Changed));
        for bit in 0..bytes.len() * 8 {
            let mut changed = bytes.clone();
            changed[bit / 8] ^= 1 << (bit % 8);
            assert!(index(&changed).is_err(), "bit {bit}");
        }
        for len in 0..bytes.len() {
            assert!(index(&bytes[..len].to_vec()).is_err(), "length {len}");
        }
        assert!(index(&[&bytes[..], b"x"].concat()).is_err());
    }
}
