//! The file of a release: a zip archive in one form only.
//!
//! Members are stored uncompressed, one after the other, without gaps, dates, attributes or
//! comments; then follow the central directory in the same order, and its end record. The same
//! members always yield the same bytes, so a reader that writes the archive again detects any
//! changed bit. Implemented here because the form must never change with a library's version.
//! Source: APPNOTE.TXT 6.3.10, sections 4.3.7, 4.3.12 and 4.3.16.

use thiserror::Error;

use vaka_base::text;

const LOCAL: u32 = 0x0403_4B50;
const CENTRAL: u32 = 0x0201_4B50;
const END: u32 = 0x0605_4B50;
const LOCAL_LEN: usize = 30;
const CENTRAL_LEN: usize = 46;
const END_LEN: usize = 22;
/// The first date that a zip can represent.
const FIRST_DAY: u16 = 0x0021;
/// Version of the format that is needed to read members that are not compressed.
const VERSION: u16 = 10;

/// Maximum number of members. Chosen by us.
pub const MOST_MEMBERS: usize = 1000;
/// Longest name of a member. Chosen by us.
const MOST_NAME: usize = 120;

/// The checksum of zip members.
const CRC: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC);

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
    OtherForm(usize),
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

/// The archive with these members, in this order.
///
/// # Panics
/// If the archive exceeds 4 GiB; a release never does.
pub fn write(members: &[Member<'_>]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut central = Vec::new();
    for member in members {
        let offset = size(out.len());
        let common = common(member);
        out.extend(LOCAL.to_le_bytes());
        out.extend(&common);
        out.extend(member.name.as_bytes());
        out.extend(member.data);
        central.extend(CENTRAL.to_le_bytes());
        central.extend(VERSION.to_le_bytes());
        central.extend(&common);
        // Comment, disk, attributes: none.
        central.extend([0; 10]);
        central.extend(offset.to_le_bytes());
        central.extend(member.name.as_bytes());
    }
    let (start, len) = (size(out.len()), size(central.len()));
    let count = u16::try_from(members.len()).expect("a release has at most a thousand members");
    out.extend(central);
    out.extend(END.to_le_bytes());
    out.extend([0; 4]);
    out.extend([count.to_le_bytes(), count.to_le_bytes()].concat());
    out.extend([len.to_le_bytes(), start.to_le_bytes()].concat());
    out.extend([0; 2]);
    out
}

fn size(len: usize) -> u32 {
    u32::try_from(len).expect("a release is far below 4 GiB")
}

/// The common part of local and central header: version to length of extra field.
fn common(member: &Member<'_>) -> Vec<u8> {
    let len = size(member.data.len());
    let words = [VERSION, 0, 0, 0, FIRST_DAY];
    let mut bytes: Vec<u8> = words.iter().flat_map(|word| word.to_le_bytes()).collect();
    for word in [CRC.checksum(member.data), len, len] {
        bytes.extend(word.to_le_bytes());
    }
    bytes.extend(u16::try_from(member.name.len()).unwrap_or(0).to_le_bytes());
    bytes.extend([0; 2]);
    bytes
}

/// Reads an archive, and detects any bit that differs from what [`write()`] produces.
///
/// # Errors
/// [`ArchiveError`], with the name of the member concerned.
pub fn read(bytes: &[u8]) -> Result<Vec<Member<'_>>, ArchiveError> {
    if word(bytes, 0) != Some(LOCAL) {
        return Err(ArchiveError::NoArchive);
    }
    let mut members: Vec<Member<'_>> = Vec::new();
    let mut at = 0;
    while word(bytes, at) == Some(LOCAL) {
        if members.len() == MOST_MEMBERS {
            return Err(ArchiveError::TooMany);
        }
        let member = local(bytes, at, members.last().map_or("", |member| member.name))?;
        if members.iter().any(|other| other.name == member.name) {
            return Err(ArchiveError::Twice(member.name.to_owned()));
        }
        at += LOCAL_LEN + member.name.len() + member.data.len();
        members.push(member);
    }
    let directory: usize = members.iter().map(|member| CENTRAL_LEN + member.name.len()).sum();
    if bytes.len() < at + directory + END_LEN {
        return Err(ArchiveError::Cut(members.last().map_or("", |member| member.name).to_owned()));
    }
    let again = write(&members);
    let differs = bytes.iter().zip(&again).position(|(a, b)| a != b);
    match differs.or((bytes.len() != again.len()).then_some(again.len().min(bytes.len()))) {
        Some(at) => Err(ArchiveError::OtherForm(at)),
        None => Ok(members),
    }
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at.checked_add(4)?)?.try_into().ok()?))
}

fn half(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]))
}

/// Reads one member by its local header; fields that are not examined here are compared by
/// writing the archive again.
fn local<'a>(bytes: &'a [u8], at: usize, before: &str) -> Result<Member<'a>, ArchiveError> {
    let cut = || ArchiveError::Cut(before.to_owned());
    let head = bytes.get(at..at + LOCAL_LEN).ok_or_else(cut)?;
    let name_at = at + LOCAL_LEN;
    let name_bytes = bytes.get(name_at..name_at + half(head, 26)).ok_or_else(cut)?;
    let bad = || ArchiveError::BadName(String::from_utf8_lossy(name_bytes).into_owned());
    let name = std::str::from_utf8(name_bytes).ok().filter(|name| is_name(name)).ok_or_else(bad)?;
    if half(head, 8) != 0 || half(head, 6) & 1 != 0 {
        return Err(ArchiveError::Packed(name.to_owned()));
    }
    let (packed, plain) = (word(head, 18).unwrap_or(0), word(head, 22).unwrap_or(0));
    let data_at = name_at + name.len() + half(head, 28);
    let data = usize::try_from(plain).ok().and_then(|len| bytes.get(data_at..data_at.checked_add(len)?));
    let Some(data) = data.filter(|_| packed == plain) else {
        return Err(if packed == plain { cut() } else { ArchiveError::Sizes(name.to_owned(), plain, packed) });
    };
    if word(head, 14) != Some(CRC.checksum(data)) {
        return Err(ArchiveError::Damaged(name.to_owned()));
    }
    Ok(Member { name, data })
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
        assert_eq!(read(&bytes).unwrap(), members);
        for bit in 0..bytes.len() * 8 {
            let mut changed = bytes.clone();
            changed[bit / 8] ^= 1 << (bit % 8);
            assert!(read(&changed).is_err(), "bit {bit}");
        }
        for len in 0..bytes.len() {
            assert!(read(&bytes[..len]).is_err(), "length {len}");
        }
        assert!(read(&[&bytes[..], b"x"].concat()).is_err());
    }
}
