//! UF2: files of 512-byte blocks, each with its own target address.
//!
//! Source: the public UF2 format description (Microsoft; it has no version).
//! All integers are little-endian:
//!
//! ```text
//!   0 magic 0x0A324655 | 4 magic 0x9E5D5157 | 8 flags | 12 address | 16 payload length
//!  20 block number | 24 number of blocks | 28 family, or file size | 32 data, 476 | 508 magic 0x0AB16F30
//! ```

use std::collections::{BTreeMap, BTreeSet};

use thiserror::Error;

use crate::address::{Address, Span};
use crate::facts::{Format, Md5Region, Tags};
use crate::model::{BuildError, Builder, Firmware, GroupId, Image, ImageGroup, TooHigh};
use vaka_base::text;

/// Length of a block.
pub const BLOCK: usize = 512;
/// Room for data in a block.
const DATA: usize = 476;
/// Most families and files in one file. Chosen by us: a file for all chips of a family has a few.
const MOST_SETS: usize = 64;
/// Payload size that every unit supports, at multiples of itself.
pub const PAYLOAD: usize = 256;
const PAYLOAD_WORD: u32 = 256;

const MAGICS: [(usize, u32); 3] = [(0, 0x0A32_4655), (4, 0x9E5D_5157), (508, 0x0AB1_6F30)];

mod flag {
    pub(super) const NOT_MAIN_FLASH: u32 = 0x0001;
    pub(super) const FILE_CONTAINER: u32 = 0x1000;
    pub(super) const FAMILY: u32 = 0x2000;
    pub(super) const MD5: u32 = 0x4000;
    pub(super) const TAGS: u32 = 0x8000;
}

/// An error in a UF2 file, with the index of the block (from 0).
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("block {block} at offset {:#x}: {fault}", block * BLOCK)]
pub struct Uf2Error {
    /// The block's place in the file.
    pub block: usize,
    /// The error.
    pub fault: Uf2Fault,
}

/// An error in a block.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum Uf2Fault {
    /// The file ends inside it.
    #[error("the file ends inside this block, after {0} bytes: it is truncated")]
    Cut(usize),
    /// One of the three magic numbers is wrong.
    #[error("not a UF2 block")]
    NoBlock,
    /// The payload is empty or too long.
    #[error("a payload of {0} bytes is not possible")]
    Payload(u32),
    /// The data would exceed the 32-bit address range.
    #[error("its data exceeds the highest address, 0xFFFF_FFFF")]
    TooHigh,
    /// The block is part of a file and names a family.
    #[error("it is flagged both as part of a file and as firmware of a family")]
    Ambiguous,
    /// The file name is missing or leads elsewhere.
    #[error("it belongs to a file without a valid name")]
    FileName,
    /// The block states another number of blocks than the others.
    #[error("it states {found} blocks, the others of its set {wanted}")]
    Total {
        /// Number of blocks in the first block of the set.
        wanted: u32,
        /// Number of blocks in this block.
        found: u32,
    },
    /// The block's number is not below the number of blocks.
    #[error("its number is {number}, but there are {total} blocks")]
    Number {
        /// Number of the block.
        number: u32,
        /// Blocks in the set.
        total: u32,
    },
    /// Another block with this number has different content.
    #[error("block {other} has the same number and different content")]
    Twice {
        /// The other's place in the file.
        other: usize,
    },
    /// Blocks are missing; reported at the last block of the set.
    #[error("its set has {found} of {wanted} blocks; number {first} is missing")]
    Missing {
        /// Number of blocks in the file.
        found: u32,
        /// Blocks that should be.
        wanted: u32,
        /// The first missing number.
        first: u32,
    },
    /// The file has more images and files than any other.
    #[error("it belongs to one more family or file than the {MOST_SETS} that a file may have")]
    TooManySets,
    /// The data is larger than any image.
    #[error("the file has more than 1 GiB of data")]
    TooLarge,
    /// Two blocks assign different bytes to one address.
    #[error("it assigns another value to {0} than an earlier block")]
    Overlap(Address),
}

/// A validated block.
struct Block<'a> {
    place: usize,
    flags: u32,
    address: u32,
    number: u32,
    total: u32,
    group: BlockKind,
    payload: &'a [u8],
    raw: &'a [u8],
}

/// The blocks that are numbered together.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum BlockKind {
    Firmware(Option<u32>),
    File(String),
}

/// Reads all sets of a UF2 file.
///
/// # Errors
/// [`Uf2Error`] with the block; the file is damaged or doubtful.
pub fn read(bytes: &[u8]) -> Result<Firmware, Uf2Error> {
    let mut blocks = Vec::with_capacity(bytes.len() / BLOCK);
    for (place, raw) in bytes.chunks(BLOCK).enumerate() {
        blocks.push(block(place, raw).map_err(|fault| Uf2Error { block: place, fault })?);
    }
    let mut notes = Vec::new();
    let mut groups: BTreeMap<BlockKind, Vec<&Block<'_>>> = BTreeMap::new();
    for block in &blocks {
        groups.entry(block.group.clone()).or_default().push(block);
        if groups.len() > MOST_SETS {
            return Err(Uf2Error { block: block.place, fault: Uf2Fault::TooManySets });
        }
    }
    let numbered = groups.values().try_for_each(|group| numbering(group));
    if let Err(error) = numbered {
        // Numbers that run through over all sets are met, and unambiguous.
        let all: Vec<&Block<'_>> = blocks.iter().collect();
        if groups.len() < 2 || numbering(&all).is_err() {
            return Err(error);
        }
        notes.push("its blocks are numbered across all families".to_owned());
    }
    let mut firmware = Firmware { format: Format::Uf2, sets: Vec::new(), files: Vec::new(), notes };
    for (group, blocks) in groups {
        match group {
            BlockKind::File(name) => firmware.files.push(text::sanitize(&name)),
            BlockKind::Firmware(family) => {
                if let Some(image) = image(family, &blocks)? {
                    firmware.sets.push(ImageGroup { name: GroupId::Family(family), image });
                }
            }
        }
    }
    Ok(firmware)
}

fn block(place: usize, raw: &[u8]) -> Result<Block<'_>, Uf2Fault> {
    if raw.len() < BLOCK {
        return Err(Uf2Fault::Cut(raw.len()));
    }
    let word = |at: usize| u32::from_le_bytes([raw[at], raw[at + 1], raw[at + 2], raw[at + 3]]);
    if MAGICS.iter().any(|(at, magic)| word(*at) != *magic) {
        return Err(Uf2Fault::NoBlock);
    }
    let (flags, address, len) = (word(8), word(12), word(16));
    // The MD5 region uses the last 24 bytes of the data.
    let room = if flags & flag::MD5 != 0 { DATA - 24 } else { DATA };
    let payload = usize::try_from(len).ok().filter(|len| (1..=room).contains(len));
    let payload = &raw[32..][..payload.ok_or(Uf2Fault::Payload(len))?];
    let container = flags & flag::FILE_CONTAINER != 0;
    let family = flags & flag::FAMILY != 0;
    let group = match (container, family) {
        (true, true) => return Err(Uf2Fault::Ambiguous),
        (true, false) => BlockKind::File(file_name(&raw[32 + payload.len()..32 + DATA]).ok_or(Uf2Fault::FileName)?),
        (false, true) => BlockKind::Firmware(Some(word(28))),
        (false, false) => BlockKind::Firmware(None),
    };
    if !container && u64::from(address) + payload.len() as u64 > 1 << 32 {
        return Err(Uf2Fault::TooHigh);
    }
    Ok(Block { place, flags, address, number: word(20), total: word(24), group, payload, raw })
}

/// The file name after the payload, if it contains no path and no special characters.
fn file_name(field: &[u8]) -> Option<String> {
    let end = field.iter().position(|byte| *byte == 0)?;
    let name = std::str::from_utf8(&field[..end]).ok()?;
    let part = |part: &str| !matches!(part, "" | "." | "..") && !part.contains(|c: char| c.is_control() || c == '\\');
    name.split('/').all(part).then(|| name.to_owned())
}

/// Checks that block numbers are unique, complete and consistent with the number of blocks.
fn numbering(blocks: &[&Block<'_>]) -> Result<(), Uf2Error> {
    let fault = |block: &Block<'_>, fault| Err(Uf2Error { block: block.place, fault });
    let Some(first) = blocks.first() else { return Ok(()) };
    let is_next = |(number, block): (u32, &&Block<'_>)| (block.number, block.total) == (number, first.total);
    if blocks.len() as u64 == u64::from(first.total) && (0..).zip(blocks).all(is_next) {
        return Ok(());
    }
    let mut seen: BTreeMap<u32, &Block<'_>> = BTreeMap::new();
    for block in blocks {
        if block.total != first.total {
            return fault(block, Uf2Fault::Total { wanted: first.total, found: block.total });
        }
        if block.number >= block.total {
            return fault(block, Uf2Fault::Number { number: block.number, total: block.total });
        }
        if let Some(other) = seen.insert(block.number, block)
            && other.raw != block.raw
        {
            return fault(block, Uf2Fault::Twice { other: other.place });
        }
    }
    let missing = (0..first.total).zip(seen.keys()).find(|(wanted, found)| wanted != *found).map(|(wanted, _)| wanted);
    let found = u32::try_from(seen.len()).unwrap_or(u32::MAX);
    let missing = missing.or((found < first.total).then_some(found));
    match (missing, blocks.last()) {
        (Some(number), Some(last)) => fault(last, Uf2Fault::Missing { found, wanted: first.total, first: number }),
        _ => Ok(()),
    }
}

/// The image of a set; `None` if no block of it belongs into main flash.
fn image(family: Option<u32>, blocks: &[&Block<'_>]) -> Result<Option<Image>, Uf2Error> {
    let mut builder = Builder::default();
    let main = |block: &&&Block<'_>| block.flags & flag::NOT_MAIN_FLASH == 0;
    // Repeated blocks have equal content, so the first one is used. Numbers are below the number of blocks.
    let most = blocks.iter().map(|block| block.number as usize + 1).max().unwrap_or(0);
    let mut used = vec![false; most];
    let is_first = |block: &&&Block<'_>| !std::mem::replace(&mut used[block.number as usize], true);
    for block in blocks.iter().filter(main).filter(is_first) {
        builder
            .push(Address::new(u64::from(block.address)), block.payload)
            .map_err(|TooHigh| Uf2Error { block: block.place, fault: Uf2Fault::TooHigh })?;
    }
    let aside = blocks.iter().filter(|block| block.flags & flag::NOT_MAIN_FLASH != 0).count();
    if aside > 0 {
        builder.notes.push(format!("{} outside main flash, not part of the image", text::count(aside, "block")));
    }
    builder.facts.family = family;
    builder.facts.tags = tags_of(blocks, &mut builder.notes);
    builder.facts.md5_regions = blocks.iter().filter_map(|block| md5_region(block)).collect();
    builder.facts.md5_regions.dedup();
    match builder.finish(Format::Uf2) {
        Ok(image) => Ok(Some(image)),
        Err(BuildError::Empty) => Ok(None),
        Err(BuildError::TooLarge) => {
            Err(Uf2Error { block: blocks.last().map_or(0, |block| block.place), fault: Uf2Fault::TooLarge })
        }
        Err(BuildError::Overlap(address)) => Err(overlap(blocks, address)),
    }
}

/// The region in the last 24 bytes of a block's data: start (4), length (4),
/// sum (16). One that runs past 32 bits is left out.
fn md5_region(block: &Block<'_>) -> Option<Md5Region> {
    let field = (block.flags & flag::MD5 != 0).then(|| &block.raw[32 + DATA - 24..32 + DATA])?;
    let word = |at: usize| u64::from(u32::from_le_bytes([field[at], field[at + 1], field[at + 2], field[at + 3]]));
    let span = Span::new(Address::new(word(0)), word(4)).filter(|span| span.end().get() <= 1 << 32)?;
    Some(Md5Region { span, md5: text::hex(&field[8..]) })
}

/// The last block that contains an address on which blocks disagree.
fn overlap(blocks: &[&Block<'_>], address: Address) -> Uf2Error {
    let holds = |block: &&&Block<'_>| {
        Span::new(Address::new(u64::from(block.address)), block.payload.len() as u64)
            .is_some_and(|s| s.contains(address))
    };
    let block = blocks.iter().filter(holds).map(|block| block.place).max().unwrap_or(0);
    Uf2Error { block, fault: Uf2Fault::Overlap(address) }
}

/// The tags of the first block that has any; the other blocks should have the same.
fn tags_of(blocks: &[&Block<'_>], notes: &mut Vec<String>) -> Option<Tags> {
    let mut tagged = blocks.iter().filter(|block| block.flags & flag::TAGS != 0).map(|block| tags(block));
    let first = tagged.next()?;
    if tagged.any(|other| other != first) {
        notes.push("its blocks have different extension tags; those of the first block are used".into());
    }
    Some(first)
}

/// Tags follow the payload, each at a multiple of 4: total length (1 byte), type (3 bytes), data.
/// A length below 4 ends the list.
fn tags(block: &Block<'_>) -> Tags {
    let room = if block.flags & flag::MD5 != 0 { DATA - 24 } else { DATA };
    let mut rest = block.raw[32..32 + room].get(block.payload.len().next_multiple_of(4)..).unwrap_or_default();
    let mut tags = Tags::default();
    while let [len, t0, t1, t2, ..] = *rest {
        let len = usize::from(len);
        let Some(data) = rest.get(4..len) else { break };
        let words = || Some(text::sanitize(&String::from_utf8_lossy(data)));
        match u32::from_le_bytes([t0, t1, t2, 0]) {
            0x9F_C7BC => tags.version = words(),
            0x65_0D9D => tags.device = words(),
            0xB4_6DB0 => tags.sha2 = Some(text::hex(data)),
            0x0B_E9F7 => tags.page_size = data.try_into().ok().map(u32::from_le_bytes),
            0xC8_A729 => {
                let long = data.try_into().ok().map(u64::from_le_bytes);
                tags.device_type = long.or(data.try_into().ok().map(|short| u64::from(u32::from_le_bytes(short))));
            }
            _ => {}
        }
        rest = rest.get(len.next_multiple_of(4)..).unwrap_or_default();
    }
    tags
}

/// Writes UF2: blocks of 256 bytes at multiples of 256, in ascending order, all of one family.
/// Bytes of a block that the image does not have are 0xFF, because units silently skip blocks of
/// another size. Returns `None` if the number of blocks exceeds 32 bits.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::{Image, uf2};
///
/// let image = Image::from_memory(&[(Address::new(0x2000), vec![7; 300])]).unwrap();
/// let file = uf2::write(&image, Some(0x1234_5678)).unwrap();
/// // Two blocks of 512 bytes, with 256 bytes of payload each.
/// assert_eq!(file.len(), 1024);
/// assert_eq!(uf2::read(&file).unwrap().sets[0].image.start(), Address::new(0x2000));
/// ```
pub fn write(image: &Image, family: Option<u32>) -> Option<Vec<u8>> {
    let mut pages: Vec<u32> = Vec::new();
    for segment in image.segments() {
        let first = segment.start().to_u32()? / PAYLOAD_WORD;
        let last = u32::try_from((segment.span().end().get() - 1) / u64::from(PAYLOAD_WORD)).ok()?;
        let from = if pages.last() == Some(&first) { first + 1 } else { first };
        pages.extend(from..=last);
    }
    let total = u32::try_from(pages.len()).ok()?;
    let mut out = Vec::with_capacity(pages.len() * BLOCK);
    for (number, page) in (0..).zip(pages) {
        let address = page * PAYLOAD_WORD;
        let mut payload = [0xFF; PAYLOAD];
        image.copy_to(Address::new(u64::from(address)), &mut payload);
        out.extend_from_slice(&emit(address, &payload, number, total, family));
    }
    Some(out)
}

/// Encodes block `number` of `total` for an address that is a multiple of 256.
pub fn emit(address: u32, payload: &[u8; PAYLOAD], number: u32, total: u32, family: Option<u32>) -> [u8; BLOCK] {
    let flags = if family.is_some() { flag::FAMILY } else { 0 };
    let words = [MAGICS[0].1, MAGICS[1].1, flags, address, PAYLOAD_WORD, number, total, family.unwrap_or(0)];
    let mut block = [0; BLOCK];
    for (place, word) in block.chunks_exact_mut(4).zip(words) {
        place.copy_from_slice(&word.to_le_bytes());
    }
    block[32..32 + PAYLOAD].copy_from_slice(payload);
    block[MAGICS[2].0..].copy_from_slice(&MAGICS[2].1.to_le_bytes());
    block
}

/// Memory that a unit shows as a file of blocks.
#[derive(Clone, Debug, Default)]
pub struct AppReadback {
    pages: BTreeMap<u64, Vec<u8>>,
    /// The families that its blocks name.
    pub families: BTreeSet<u32>,
}

impl AppReadback {
    /// Reads such a file. Sectors that are not blocks are skipped, and block numbers are ignored,
    /// because units number these blocks differently.
    pub fn read(bytes: &[u8]) -> Self {
        let mut present = Self::default();
        for block in bytes.chunks(BLOCK).enumerate().filter_map(|(place, raw)| block(place, raw).ok()) {
            if let BlockKind::Firmware(family) = block.group {
                present.families.extend(family);
                present.pages.insert(u64::from(block.address), block.payload.to_vec());
            }
        }
        present
    }

    /// The address of the last block in the beginning of such a file.
    pub fn last_address(bytes: &[u8]) -> Option<Address> {
        let last = bytes.chunks_exact(BLOCK).next_back()?;
        block(0, last).ok().map(|block| Address::new(u64::from(block.address)))
    }

    /// Returns `len` bytes at an address, or `None` if the file does not have all of them.
    pub fn bytes(&self, at: Address, len: u32) -> Option<Vec<u8>> {
        let wanted = Span::new(at, u64::from(len))?;
        let mut bytes = Vec::with_capacity(len as usize);
        while bytes.len() < len as usize {
            let now = at.get() + bytes.len() as u64;
            let (start, page) = self.pages.range(..=now).next_back()?;
            let from = usize::try_from(now - start).ok()?;
            let left = usize::try_from(wanted.end().get() - now).ok()?;
            let rest = page.get(from..).filter(|rest| !rest.is_empty())?;
            bytes.extend_from_slice(&rest[..rest.len().min(left)]);
        }
        Some(bytes)
    }

    /// The address ranges in the file.
    pub fn spans(&self) -> Vec<Span> {
        let span = |(at, page): (&u64, &Vec<u8>)| Span::new(Address::new(*at), page.len() as u64);
        Span::joined(self.pages.iter().filter_map(span))
    }

    /// Whether the file has no blocks.
    pub fn is_empty(&self) -> bool {
        self.pages.is_empty()
    }
}
