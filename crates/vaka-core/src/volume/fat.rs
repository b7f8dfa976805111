//! The layout of a FAT volume.
//!
//! Source: *FAT: General Overview of On-Disk Format* 1.03, sections "Boot Sector
//! and BPB" and "FAT Type Determination". Reading and writing files is the
//! `fatfs` crate's; this is for writing to sectors that belong to no file.

use std::ops::Range;

use thiserror::Error;

/// Length of a sector that is worked with: other ones are not met on update disks.
pub const SECTOR: usize = 512;

/// The kind of FAT, which only the number of clusters decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the format's names
pub enum FatKind {
    Fat12,
    Fat16,
    Fat32,
}

/// Why a sector is not a valid boot sector.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("not a FAT volume: {0}")]
pub struct NoFat(&'static str);

/// The first sector and the size of a volume on its disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Partition {
    /// First sector.
    pub start: u64,
    /// Sectors.
    pub count: u64,
}

/// The parts of a volume, in sectors from its beginning.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Kind of FAT.
    pub kind: FatKind,
    /// Number of sectors: the smaller of the stated and the actual number.
    pub sectors: u64,
    /// First sector of the first FAT.
    pub fat_start: u64,
    /// Sectors in one FAT.
    pub fat_sectors: u64,
    /// First sector of the root folder on FAT12 and FAT16.
    pub root_start: u64,
    /// First sector of the clusters.
    pub data_start: u64,
    /// Sectors in a cluster.
    pub cluster_sectors: u64,
    /// Clusters, which are numbered from 2.
    pub clusters: u64,
    /// First cluster of the root folder on FAT32.
    pub root_cluster: u64,
    /// The label in the boot sector, padded with blanks.
    boot_label: [u8; LABEL_LEN],
}

/// Length of a label in a boot sector and of a name in a folder. Source: section "Boot Sector and
/// BPB", `BS_VolLab`.
const LABEL_LEN: usize = 11;
/// Length of a folder entry. Source: section "Directory Structure".
const ENTRY_LEN: usize = 32;
/// Largest FAT, in sectors: 64 MiB. Chosen by us: enough for a volume of 32 GiB with small
/// clusters, and read in a minute over full-speed USB.
const MOST_FAT_SECTORS: u64 = (64 << 20) / SECTOR as u64;
/// Largest number of sectors of a root folder that are searched for a label: 4096 entries. Chosen by us.
const MOST_ROOT_SECTORS: u64 = 256;

/// Finds the volume on a disk: the whole disk, or the first FAT partition. `first` is sector 0,
/// `count` the number of sectors.
///
/// # Errors
/// There is no volume.
pub fn volume(first: &[u8], count: u64) -> Result<Partition, NoFat> {
    if let Ok(layout) = Layout::parse(first, count) {
        return Ok(Partition { start: 0, count: layout.sectors });
    }
    if first.get(510..512) != Some(&[0x55, 0xAA]) {
        return Err(NoFat("sector 0 is neither a boot sector nor a partition table"));
    }
    // Four entries of 16 bytes: type at 4, first sector at 8, sectors at 12.
    let entries = first.get(0x1BE..0x1FE).unwrap_or_default().chunks_exact(16);
    let word = |entry: &[u8], at: usize| {
        u64::from(u32::from_le_bytes([entry[at], entry[at + 1], entry[at + 2], entry[at + 3]]))
    };
    let mut fat = entries.filter(|entry| matches!(entry[4], 0x01 | 0x04 | 0x06 | 0x0B | 0x0C | 0x0E));
    let found = fat.find_map(|entry| {
        let (start, len) = (word(entry, 8), word(entry, 12));
        (start > 0 && len > 0 && start + len <= count).then_some(Partition { start, count: len })
    });
    found.ok_or(NoFat("its partition table has no FAT partition inside the disk"))
}

impl Layout {
    /// Parses a boot sector; `count` is the actual number of sectors.
    ///
    /// # Errors
    /// It contradicts itself or the disk.
    pub fn parse(boot: &[u8], count: u64) -> Result<Self, NoFat> {
        let boot: &[u8; SECTOR] = boot.first_chunk().ok_or(NoFat("the boot sector is truncated"))?;
        let half = |at: usize| u64::from(u16::from_le_bytes([boot[at], boot[at + 1]]));
        let word = |at: usize| u64::from(u32::from_le_bytes([boot[at], boot[at + 1], boot[at + 2], boot[at + 3]]));
        if half(0x0B) != SECTOR as u64 {
            return Err(NoFat("its boot sector does not state 512 bytes per sector"));
        }
        let (cluster_sectors, fat_start, fats) = (u64::from(boot[0x0D]), half(0x0E), u64::from(boot[0x10]));
        if !cluster_sectors.is_power_of_two() || fat_start == 0 || !(1..=2).contains(&fats) {
            return Err(NoFat("invalid clusters, reserved sectors or number of FATs"));
        }
        let total = if half(0x13) == 0 { word(0x20) } else { half(0x13) };
        let fat_sectors = if half(0x16) == 0 { word(0x24) } else { half(0x16) };
        let root_sectors = (half(0x11) * 32).div_ceil(SECTOR as u64);
        let root_start = fat_start + fats * fat_sectors;
        let data_start = root_start + root_sectors;
        // Some boot sectors state a few sectors too many: the smaller number counts.
        let total = total.min(count);
        if fat_sectors > MOST_FAT_SECTORS {
            return Err(NoFat("its file allocation table is larger than 64 MiB"));
        }
        if fat_sectors == 0 || total <= data_start {
            return Err(NoFat("it has no space for files"));
        }
        let clusters = (total - data_start) / cluster_sectors;
        let kind = match clusters {
            _ if half(0x16) == 0 => FatKind::Fat32,
            0..4085 => FatKind::Fat12,
            4085..65525 => FatKind::Fat16,
            _ => FatKind::Fat32,
        };
        let label_at = if kind == FatKind::Fat32 { 0x47 } else { 0x2B };
        let boot_label = boot[label_at..].first_chunk().copied().unwrap_or_default();
        let root_cluster = if kind == FatKind::Fat32 { word(0x2C) } else { 0 };
        let layout = Self {
            kind,
            sectors: total,
            fat_start,
            fat_sectors,
            root_start,
            data_start,
            cluster_sectors,
            clusters,
            root_cluster,
            boot_label,
        };
        let room = fat_sectors * SECTOR as u64 * 8 / layout.entry_bits();
        Ok(Self { clusters: clusters.min(room.saturating_sub(2)), ..layout })
    }

    fn entry_bits(&self) -> u64 {
        match self.kind {
            FatKind::Fat12 => 12,
            FatKind::Fat16 => 16,
            FatKind::Fat32 => 32,
        }
    }

    /// The FAT entry of a cluster; 0 is free. `None` outside `fat`.
    fn entry(&self, fat: &[u8], cluster: u64) -> Option<u32> {
        let at = usize::try_from(cluster * self.entry_bits() / 8).ok()?;
        Some(match self.kind {
            FatKind::Fat12 => {
                let pair = u32::from(u16::from_le_bytes(*fat.get(at..)?.first_chunk()?));
                if cluster.is_multiple_of(2) { pair & 0xFFF } else { pair >> 4 }
            }
            FatKind::Fat16 => u32::from(u16::from_le_bytes(*fat.get(at..)?.first_chunk()?)),
            FatKind::Fat32 => u32::from_le_bytes(*fat.get(at..)?.first_chunk()?) & 0x0FFF_FFFF,
        })
    }

    /// The longest run of sectors that no file uses, by the first FAT.
    pub fn free_run(&self, fat: &[u8]) -> Range<u64> {
        let is_free = |cluster: u64| self.entry(fat, cluster) == Some(0);
        let (mut best, mut run) = (2..2, 2..2);
        for cluster in 2..self.clusters + 2 {
            run = if is_free(cluster) { run.start..cluster + 1 } else { cluster + 1..cluster + 1 };
            if run.end - run.start > best.end - best.start {
                best = run.clone();
            }
        }
        self.sector(best.start)..self.sector(best.end)
    }

    /// The volume's label: that of the root folder, else that of the boot sector. Reads at most 256
    /// sectors of the folder, so that a chain without an end does no harm.
    ///
    /// # Errors
    /// That of `read`, which returns a sector.
    pub fn label<E>(&self, read: &mut dyn FnMut(u64) -> Result<[u8; SECTOR], E>) -> Result<Option<String>, E> {
        let mut cluster = self.root_cluster;
        let mut left = MOST_ROOT_SECTORS;
        loop {
            let run = match self.kind {
                FatKind::Fat32 if !(2..self.clusters + 2).contains(&cluster) => break,
                FatKind::Fat32 => self.sector(cluster)..self.sector(cluster + 1),
                FatKind::Fat12 | FatKind::Fat16 => self.root_start..self.data_start,
            };
            for sector in run {
                if left == 0 {
                    return Ok(text_of(&self.boot_label));
                }
                left -= 1;
                match label_in(&read(sector)?) {
                    EntrySearch::Found(label) => return Ok(text_of(&label)),
                    EntrySearch::End => return Ok(text_of(&self.boot_label)),
                    EntrySearch::Continue => {}
                }
            }
            if self.kind != FatKind::Fat32 {
                break;
            }
            let per_sector = SECTOR as u64 / 4;
            let table = read(self.fat_start + cluster / per_sector)?;
            cluster = u64::from(self.entry(&table, cluster % per_sector).unwrap_or(0));
        }
        Ok(text_of(&self.boot_label))
    }

    /// The first sector of a cluster.
    fn sector(&self, cluster: u64) -> u64 {
        self.data_start + (cluster - 2) * self.cluster_sectors
    }
}

/// Result of a search for the label in a sector of a folder.
enum EntrySearch {
    Found([u8; LABEL_LEN]),
    /// The folder ends here.
    End,
    Continue,
}

/// Searches a sector of the root folder. Source: section "Directory Structure", `DIR_Attr`.
fn label_in(sector: &[u8; SECTOR]) -> EntrySearch {
    const VOLUME_ID: u8 = 0x08;
    const DIRECTORY: u8 = 0x10;
    const LONG_NAME: u8 = 0x0F;
    for entry in sector.as_chunks::<ENTRY_LEN>().0 {
        let attributes = entry[LABEL_LEN];
        match entry[0] {
            0 => return EntrySearch::End,
            0xE5 => {}
            _ if attributes & 0x3F == LONG_NAME => {}
            _ if attributes & (VOLUME_ID | DIRECTORY) == VOLUME_ID => {
                return EntrySearch::Found(entry.first_chunk().copied().unwrap_or_default());
            }
            _ => {}
        }
    }
    EntrySearch::Continue
}

/// A label as text; characters outside ASCII depend on the unit's code page and become `\u{FFFD}`.
/// `None` if there is none.
fn text_of(label: &[u8; LABEL_LEN]) -> Option<String> {
    let plain = |byte: &u8| if byte.is_ascii() { char::from(*byte) } else { char::REPLACEMENT_CHARACTER };
    let text: String = label.iter().map(plain).collect();
    let text = text.trim_end_matches([' ', '\0']);
    (!text.is_empty() && text != "NO NAME").then(|| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The start of a 40 MiB FAT16 volume that `mkfs.vfat` created.
    const BOOT: [u8; 61] = [
        0xEB, 0x3C, 0x90, 0x6D, 0x6B, 0x66, 0x73, 0x2E, 0x66, 0x61, 0x74, 0x00, 0x02, 0x04, 0x04, 0x00, //
        0x02, 0x00, 0x02, 0x00, 0x00, 0xF8, 0x50, 0x00, 0x20, 0x00, 0x08, 0x00, 0x00, 0x00, 0x00, 0x00, //
        0x00, 0x40, 0x01, 0x00, 0x80, 0x00, 0x29, 0xCD, 0xAB, 0x34, 0x12, 0x50, 0x45, 0x54, 0x52, 0x45, //
        0x4C, 0x5F, 0x42, 0x4F, 0x4F, 0x54, 0x46, 0x41, 0x54, 0x31, 0x36, 0x20, 0x20,
    ];

    fn boot() -> Vec<u8> {
        let mut sector = BOOT.to_vec();
        sector.resize(SECTOR, 0);
        sector[510..].copy_from_slice(&[0x55, 0xAA]);
        sector
    }

    /// Computed by hand: root at 4 + 2 × 80, data 32 sectors after it, (81920 − 196) / 4
    /// clusters.
    #[test]
    fn a_volume_of_mkfs_is_laid_out_as_the_format_says() {
        let layout = Layout::parse(&boot(), 81920).unwrap();
        assert_eq!((layout.fat_start, layout.fat_sectors, layout.data_start), (4, 80, 196));
        assert_eq!((layout.kind, layout.clusters, layout.cluster_sectors), (FatKind::Fat16, 20431, 4));
        let mut fat = vec![0; 80 * SECTOR];
        fat[..8].copy_from_slice(&[0xF8, 0xFF, 0xFF, 0xFF, 3, 0, 0xFF, 0xFF]);
        fat[200] = 7; // cluster 100
        assert_eq!(layout.free_run(&fat), 196 + 99 * 4..196 + 20431 * 4);
    }

    #[test]
    fn twelve_bit_entries_cross_bytes() {
        let layout = Layout {
            kind: FatKind::Fat12,
            sectors: 9,
            fat_start: 1,
            fat_sectors: 1,
            root_start: 3,
            data_start: 4,
            cluster_sectors: 1,
            clusters: 5,
            root_cluster: 0,
            boot_label: [b' '; LABEL_LEN],
        };
        // Entries 0 to 6: F8F FFF 003 FFF 000 000 FF7.
        let fat = [0x8F, 0xFF, 0xFF, 0x03, 0xF0, 0xFF, 0x00, 0x00, 0x00, 0xF7, 0x0F, 0x00];
        assert_eq!(layout.entry(&fat, 2), Some(3));
        assert_eq!(layout.entry(&fat, 3), Some(0xFFF));
        assert_eq!(layout.free_run(&fat), 6..8);
    }

    /// A folder's sector: an entry for each name and attribute.
    fn folder(entries: &[(&[u8; 11], u8)]) -> [u8; SECTOR] {
        let mut sector = [0; SECTOR];
        for (place, (name, attributes)) in sector.as_chunks_mut::<ENTRY_LEN>().0.iter_mut().zip(entries) {
            place[..11].copy_from_slice(*name);
            place[11] = *attributes;
        }
        sector
    }

    #[test]
    fn the_label_of_the_root_folder_counts_before_that_of_the_boot_sector() {
        let layout = Layout::parse(&boot(), 81920).unwrap();
        let long = (b"Axxxxxxxxxx", 0x0F);
        for (entries, label) in [
            (&[(b"README  TXT", 0x20), (b"TERN_BOOT  ", 0x08)][..], "TERN_BOOT"),
            (&[long, (b"\xE5ERN_OLD   ", 0x08), (b"NEW LABEL  ", 0x28)], "NEW LABEL"),
            (&[(b"README  TXT", 0x20)], "PETREL_BOOT"),
            (&[(b"README  TXT", 0x20), (b"\0          ", 0), (b"AFTER END  ", 0x08)], "PETREL_BOOT"),
            (&[(b"T\x84RN       ", 0x08)], "T\u{FFFD}RN"),
        ] {
            let sector = folder(entries);
            let found = layout.label(&mut |at| if at == 164 { Ok(sector) } else { Err(at) });
            assert_eq!(found, Ok(Some(label.to_owned())));
        }
    }

    #[test]
    fn a_root_folder_without_an_end_is_left() {
        let full: Vec<_> = (0..16).map(|_| (b"A       TXT", 0x20)).collect();
        let endless = folder(&full);
        let layout = Layout {
            kind: FatKind::Fat32,
            fat_start: 32,
            fat_sectors: 600,
            data_start: 632,
            clusters: 70_000,
            cluster_sectors: 1,
            root_cluster: 2,
            ..Layout::parse(&boot(), 81920).unwrap()
        };
        let mut reads = 0;
        let found = layout.label(&mut |at| {
            reads += 1;
            // Cluster 2 names itself as the next one.
            let mut table = [0; SECTOR];
            table[8] = 2;
            Ok::<_, ()>(if at == 32 { table } else { endless })
        });
        assert_eq!((found, reads), (Ok(Some("PETREL_BOOT".to_owned())), 512));
    }

    #[test]
    fn a_huge_table_is_refused() {
        let mut sector = boot();
        sector[0x16..0x18].fill(0);
        sector[0x24..0x28].copy_from_slice(&(131_072u32 + 1).to_le_bytes());
        let error = Layout::parse(&sector, u64::from(u32::MAX)).unwrap_err();
        assert!(error.to_string().contains("larger than 64 MiB"));
    }

    #[test]
    fn nonsense_is_no_volume() {
        for (at, value) in [(0x0B, 1), (0x0C, 1), (0x0D, 3), (0x0D, 0), (0x0E, 0), (0x10, 0), (0x10, 9)] {
            let mut sector = boot();
            sector[at] = value;
            assert!(Layout::parse(&sector, 81920).is_err(), "{at:#x} = {value}");
        }
        assert!(Layout::parse(&boot(), 196).is_err(), "a disk that ends before the first cluster");
        assert!(Layout::parse(&boot()[..100], 81920).is_err());
        // A FAT with fewer entries than clusters.
        let mut sector = boot();
        sector[0x16] = 1;
        assert_eq!(Layout::parse(&sector, 81920).unwrap().clusters, 254);
    }

    #[test]
    fn a_partition_is_found_and_must_lie_inside_the_disk() {
        let mut table = vec![0; SECTOR];
        table[510..].copy_from_slice(&[0x55, 0xAA]);
        assert!(volume(&table, 1000).is_err());
        table[0x1BE + 4] = 0x83;
        table[0x1CE + 4] = 0x06;
        table[0x1CE + 8] = 32;
        table[0x1CE + 13] = 2;
        assert_eq!(volume(&table, 1000).unwrap(), Partition { start: 32, count: 512 });
        assert!(volume(&table, 543).is_err());
        assert_eq!(volume(&boot(), 81920).unwrap(), Partition { start: 0, count: 81920 });
        table[510] = 0;
        assert!(volume(&table, 1000).is_err());
    }

    proptest::proptest! {
        #[test]
        fn any_sector_is_read_without_a_fault(sector: Vec<u8>, fat: Vec<u8>, count in 0u64..1 << 20) {
            let _ = volume(&sector, count);
            if let Ok(layout) = Layout::parse(&sector, count) {
                layout.free_run(&fat);
                let _ = layout.label(&mut |at| Ok::<_, ()>([u8::try_from(at % 251).unwrap_or(0); SECTOR]));
            }
        }
    }
}
