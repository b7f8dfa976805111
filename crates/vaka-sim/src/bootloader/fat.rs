//! FAT16 volumes as a unit synthesizes and reads them.
//!
//! Source: *FAT: General Overview of On-Disk Format* 1.03.

use std::borrow::Cow;

use super::disk::{SECTOR, SECTOR_LEN};

/// Sectors before the first FAT.
const RESERVED: u32 = 1;
/// Entries in the root folder: four sectors of them.
const ROOT_ENTRIES: u32 = 64;
const ROOT_SECTORS: u32 = ROOT_ENTRIES * 32 / SECTOR_LEN;

/// 2026-03-03 in the packed form of FAT.
const DATE: u16 = (46 << 9) | (3 << 5) | 3;

/// A file of a volume.
#[derive(Clone, Debug)]
pub struct File {
    /// Short name, such as `INFO_UF2.TXT`.
    pub name: Cow<'static, str>,
    /// Content.
    pub content: Vec<u8>,
}

impl File {
    /// A text file.
    pub fn text(name: impl Into<Cow<'static, str>>, text: &str) -> Self {
        Self { name: name.into(), content: text.as_bytes().to_vec() }
    }
}

/// The measures of a volume with clusters of one sector.
#[derive(Clone, Copy, Debug)]
pub struct Volume {
    /// Number of sectors.
    pub sectors: u32,
    label: [u8; 11],
}

impl Volume {
    /// A volume; at least 4200 sectors, so that it is FAT16.
    pub fn new(sectors: u32, label: &str) -> Self {
        let mut padded = [b' '; 11];
        padded.iter_mut().zip(label.bytes()).for_each(|(place, byte)| *place = byte);
        Self { sectors, label: padded }
    }

    fn fat_sectors(self) -> u32 {
        (self.sectors * 2).div_ceil(SECTOR_LEN)
    }

    fn root(self) -> u32 {
        RESERVED + 2 * self.fat_sectors()
    }

    /// The first sector after tables and root folder.
    pub fn data(self) -> u32 {
        self.root() + ROOT_SECTORS
    }

    /// A sector of the volume with these files, generated on demand.
    pub fn sector(self, at: u32, files: &[File]) -> [u8; SECTOR] {
        let mut sector = [0; SECTOR];
        let fat_end = RESERVED + 2 * self.fat_sectors();
        match at {
            0 => sector = self.boot(),
            at if at < fat_end => self.table((at - RESERVED) % self.fat_sectors(), files, &mut sector),
            at if at < self.data() => self.folder(at - self.root(), files, &mut sector),
            at => self.content(at, files, &mut sector),
        }
        sector
    }

    /// Fills a sector with the file content at this position.
    fn content(self, at: u32, files: &[File], sector: &mut [u8; SECTOR]) {
        let mut first = self.data();
        for file in files {
            let from = (at - first) as usize * SECTOR;
            let rest = file.content.get(from..).unwrap_or_default();
            let len = rest.len().min(SECTOR);
            sector[..len].copy_from_slice(&rest[..len]);
            first += clusters(file);
            if len > 0 || at < first {
                return;
            }
        }
    }

    /// All sectors.
    pub fn bytes(self, files: &[File]) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.sectors as usize * SECTOR);
        (0..self.sectors).for_each(|at| bytes.extend_from_slice(&self.sector(at, files)));
        bytes
    }

    #[allow(clippy::cast_possible_truncation)] // small volumes
    fn boot(self) -> [u8; SECTOR] {
        let mut boot = [0; SECTOR];
        boot[..11].copy_from_slice(b"\xEB\x3C\x90SKERROW ");
        boot[0x0B..0x0D].copy_from_slice(&(SECTOR as u16).to_le_bytes());
        boot[0x0D] = 1;
        boot[0x0E..0x10].copy_from_slice(&(RESERVED as u16).to_le_bytes());
        boot[0x10] = 2;
        boot[0x11..0x13].copy_from_slice(&(ROOT_ENTRIES as u16).to_le_bytes());
        boot[0x13..0x15].copy_from_slice(&(self.sectors as u16).to_le_bytes());
        boot[0x15] = 0xF8;
        boot[0x16..0x18].copy_from_slice(&(self.fat_sectors() as u16).to_le_bytes());
        boot[0x18..0x1C].copy_from_slice(&[1, 0, 1, 0]);
        boot[0x24..0x2B].copy_from_slice(&[0x80, 0, 0x29, 0x17, 0x02, 0x26, 0x20]);
        boot[0x2B..0x36].copy_from_slice(&self.label);
        boot[0x36..0x3E].copy_from_slice(b"FAT16   ");
        boot[510..].copy_from_slice(&[0x55, 0xAA]);
        boot
    }

    fn table(self, at: u32, files: &[File], sector: &mut [u8; SECTOR]) {
        let first = at * (SECTOR_LEN / 2);
        for (number, entry) in (first..).zip(sector.chunks_exact_mut(2)) {
            let value = match number {
                0 => 0xFFF8,
                1 => 0xFFFF,
                _ => cluster_after(number, files),
            };
            entry.copy_from_slice(&value.to_le_bytes());
        }
    }

    #[allow(clippy::cast_possible_truncation)]
    fn folder(self, at: u32, files: &[File], sector: &mut [u8; SECTOR]) {
        let mut entries: Vec<[u8; 32]> = Vec::new();
        let mut label = [0; 32];
        label[..11].copy_from_slice(&self.label);
        label[11] = 0x08;
        entries.push(label);
        let mut start = 2;
        for file in files {
            let mut entry = [0; 32];
            entry[..11].copy_from_slice(&short_name(&file.name));
            entry[11] = 0x20;
            entry[24..26].copy_from_slice(&DATE.to_le_bytes());
            let first = if file.content.is_empty() { 0 } else { start };
            entry[26..28].copy_from_slice(&(first as u16).to_le_bytes());
            entry[28..32].copy_from_slice(&(file.content.len() as u32).to_le_bytes());
            start += clusters(file);
            entries.push(entry);
        }
        let here = entries.iter().skip(at as usize * 16).take(16);
        sector.chunks_exact_mut(32).zip(here).for_each(|(place, entry)| place.copy_from_slice(entry));
    }
}

/// The table's entry for a cluster: the next one of its file, or the end.
#[allow(clippy::cast_possible_truncation)] // below 65525 clusters
fn cluster_after(number: u32, files: &[File]) -> u16 {
    let mut start = 2;
    for file in files {
        let end = start + clusters(file);
        if (start..end).contains(&number) {
            return if number + 1 == end { 0xFFFF } else { number as u16 + 1 };
        }
        start = end;
    }
    0
}

#[allow(clippy::cast_possible_truncation)]
fn clusters(file: &File) -> u32 {
    file.content.len().div_ceil(SECTOR) as u32
}

fn short_name(name: &str) -> [u8; 11] {
    let (stem, ending) = name.split_once('.').unwrap_or((name, ""));
    let mut short = [b' '; 11];
    short[..8].iter_mut().zip(stem.bytes()).for_each(|(place, byte)| *place = byte);
    short[8..].iter_mut().zip(ending.bytes()).for_each(|(place, byte)| *place = byte);
    short
}

/// The result of a search in the root folder of a stored volume.
pub enum Found {
    /// No such file.
    Nothing,
    /// The file exists, but its chain is incomplete.
    Partly,
    /// The whole file.
    Whole(Vec<u8>),
}

/// Searches for a file by its short name on a FAT16 volume with clusters of one sector.
pub fn find(volume: Volume, disk: &[u8], name: &str) -> Found {
    let at = |sector: u32| sector as usize * SECTOR;
    let root = &disk[at(volume.root())..at(volume.data())];
    let wanted = short_name(name);
    let Some(entry) = root.chunks_exact(32).find(|entry| entry[..11] == wanted && entry[11] & 0x18 == 0) else {
        return Found::Nothing;
    };
    let size = u32::from_le_bytes([entry[28], entry[29], entry[30], entry[31]]) as usize;
    let mut cluster = u32::from(u16::from_le_bytes([entry[26], entry[27]]));
    let mut content = Vec::new();
    while content.len() < size {
        let inside = cluster >= 2 && at(volume.data() + cluster - 1) <= disk.len();
        if !inside {
            return Found::Partly;
        }
        let from = at(volume.data() + cluster - 2);
        content.extend_from_slice(&disk[from..from + SECTOR]);
        let next = at(RESERVED) + cluster as usize * 2;
        cluster = u32::from(u16::from_le_bytes([disk[next], disk[next + 1]]));
    }
    content.truncate(size);
    if size == 0 { Found::Partly } else { Found::Whole(content) }
}
