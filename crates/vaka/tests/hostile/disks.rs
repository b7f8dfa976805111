//! Disks whose file system is damaged on purpose.

use vaka_sim::bootloader::fat::{File, Volume};
use vaka_sim::unit::stick::Stick;
use vaka_sim::unit::{heron, petrel};
use vaka_sim::world::lock;

use super::bounded::{Expected, all, problem, program};
use crate::support::{Bench, firmware};

const SECTOR: usize = 512;
/// Layout of the FAT32 volume: reserved sectors, sectors of its one FAT, clusters of one sector.
const RESERVED: usize = 32;
const FAT_SECTORS: usize = 520;
const CLUSTERS: usize = 66_000;

/// A FAT32 volume whose root folder is cluster 2, and nothing else. Source: *FAT: General Overview
/// of On-Disk Format* 1.03, section "Boot Sector and BPB".
struct Fat32(Vec<u8>);

impl Fat32 {
    fn new() -> Self {
        let sectors = RESERVED + FAT_SECTORS + CLUSTERS;
        let mut bytes = vec![0; sectors * SECTOR];
        bytes[..3].copy_from_slice(&[0xEB, 0x58, 0x90]);
        bytes[3..11].copy_from_slice(b"HOSTILE ");
        bytes[11..13].copy_from_slice(&512u16.to_le_bytes());
        bytes[13] = 1;
        bytes[14..16].copy_from_slice(&u16::try_from(RESERVED).unwrap().to_le_bytes());
        bytes[16] = 1;
        bytes[21] = 0xF8;
        bytes[32..36].copy_from_slice(&u32::try_from(sectors).unwrap().to_le_bytes());
        bytes[36..40].copy_from_slice(&u32::try_from(FAT_SECTORS).unwrap().to_le_bytes());
        bytes[44..48].copy_from_slice(&2u32.to_le_bytes());
        bytes[48..50].copy_from_slice(&1u16.to_le_bytes());
        bytes[66] = 0x29;
        bytes[71..82].copy_from_slice(b"HOSTILE    ");
        bytes[82..90].copy_from_slice(b"FAT32   ");
        bytes[510..512].copy_from_slice(&[0x55, 0xAA]);
        let mut volume = Self(bytes);
        // File-system information, which may be unknown.
        volume.0[512..516].copy_from_slice(b"RRaA");
        volume.0[512 + 484..512 + 488].copy_from_slice(b"rrAa");
        volume.0[512 + 488..512 + 496].fill(0xFF);
        volume.0[512 + 510..1024].copy_from_slice(&[0x55, 0xAA]);
        volume.link(0, 0x0FFF_FFF8).link(1, 0x0FFF_FFFF).link(2, 0x0FFF_FFFF);
        volume
    }

    /// Makes a cluster the one before another in its chain.
    fn link(&mut self, cluster: usize, next: u32) -> &mut Self {
        let at = RESERVED * SECTOR + cluster * 4;
        self.0[at..at + 4].copy_from_slice(&next.to_le_bytes());
        self
    }

    /// Fills a cluster of a folder with one entry, over and over.
    fn entries(&mut self, cluster: usize, entry: [u8; 32]) -> &mut Self {
        let at = (RESERVED + FAT_SECTORS + cluster - 2) * SECTOR;
        self.0[at..at + SECTOR].copy_from_slice(&entry.repeat(16));
        self
    }
}

/// A folder entry.
fn entry(name: &[u8; 11], attributes: u8, cluster: u16, size: u32) -> [u8; 32] {
    let mut entry = [0; 32];
    entry[..11].copy_from_slice(name);
    entry[11] = attributes;
    entry[26..28].copy_from_slice(&cluster.to_le_bytes());
    entry[28..32].copy_from_slice(&size.to_le_bytes());
    entry
}

/// A root folder without an end, of one entry over and over.
fn endless(entry: [u8; 32]) -> Vec<u8> {
    let mut volume = Fat32::new();
    volume.entries(2, entry).entries(3, entry).link(2, 3).link(3, 2);
    volume.0
}

/// A volume of the simulated stick, changed.
fn changed(change: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
    let files = [File::text("INFO_UF2.TXT", "UF2 Bootloader v1\r\nModel: x\r\nBoard-ID: x\r\n")];
    let mut bytes = Volume::new(4400, "HOLIDAY").bytes(&files);
    change(&mut bytes);
    bytes
}

fn half(bytes: &mut [u8], at: usize, value: u16) {
    bytes[at..at + 2].copy_from_slice(&value.to_le_bytes());
}

fn word(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

/// Disks whose folders or chains of clusters are wrong.
fn folders() -> Vec<(&'static str, Vec<u8>)> {
    let mut two = Fat32::new();
    two.entries(2, entry(b"INFO_UF2TXT", 0x20, 2, 400));
    let mut beyond = Fat32::new();
    beyond.entries(2, entry(b"\xE5NFO_UF2TXT", 0x20, 2, 400)).link(2, 0x0FFF_FFF0);
    let mut zero = Fat32::new();
    zero.entries(2, entry(b"\xE5NFO_UF2TXT", 0x20, 2, 400)).link(2, 0);
    let mut of_root_zero = Fat32::new();
    word(&mut of_root_zero.0, 44, 0);
    let mut of_root_huge = Fat32::new();
    word(&mut of_root_huge.0, 44, 0x0FFF_FFF0);
    vec![
        ("a root folder without an end, of deleted entries", endless(entry(b"\xE5NFO_UF2TXT", 0x20, 0, 0))),
        ("a root folder without an end, of long names", endless(entry(b"\x41a\0b\0c\0d\0e\0", 0x0F, 0, 0))),
        ("a root folder without an end, of labels", endless(entry(b"LABEL      ", 0x08, 0, 0))),
        ("a root folder without an end, of files", endless(entry(b"A       BIN", 0x20, 0, 0))),
        ("a root folder without an end, of texts", endless(entry(b"A       TXT", 0x20, 2, 16_000))),
        ("a root folder without an end, of folders", endless(entry(b"A          ", 0x10, 2, 0))),
        ("a root folder without an end, of UF2 files", endless(entry(b"A       UF2", 0x20, 2, u32::MAX))),
        ("a text that is its own folder", two.0),
        ("a chain beyond the volume", beyond.0),
        ("a chain that ends in a free cluster", zero.0),
        ("a root folder at cluster 0", of_root_zero.0),
        ("a root folder beyond the volume", of_root_huge.0),
    ]
}

/// Disks whose first sector or tables are wrong.
fn tables() -> Vec<(&'static str, Vec<u8>)> {
    vec![
        ("no boot sector", changed(|bytes| bytes[..512].fill(0))),
        ("noise", changed(|bytes| (0..).zip(bytes.iter_mut()).for_each(|(at, byte)| *byte = (at % 253) as u8))),
        ("sectors of 4096 bytes", changed(|bytes| half(bytes, 11, 4096))),
        ("sectors of 0 bytes", changed(|bytes| half(bytes, 11, 0))),
        ("clusters of 0 sectors", changed(|bytes| bytes[13] = 0)),
        ("clusters of 3 sectors", changed(|bytes| bytes[13] = 3)),
        ("clusters of 128 sectors", changed(|bytes| bytes[13] = 128)),
        ("no FAT", changed(|bytes| bytes[16] = 0)),
        ("255 FATs", changed(|bytes| bytes[16] = 255)),
        ("a FAT of 65535 sectors", changed(|bytes| half(bytes, 22, u16::MAX))),
        ("a FAT of 2 TiB", {
            let mut volume = Fat32::new();
            word(&mut volume.0, 36, u32::MAX);
            volume.0
        }),
        ("a FAT of one sector for many clusters", changed(|bytes| half(bytes, 22, 1))),
        ("no root folder", changed(|bytes| half(bytes, 17, 0))),
        ("a root folder of 65535 entries", changed(|bytes| half(bytes, 17, u16::MAX))),
        ("more sectors than the disk has", changed(|bytes| half(bytes, 19, u16::MAX))),
        (
            "no sectors",
            changed(|bytes| {
                half(bytes, 19, 0);
                word(bytes, 32, 0);
            }),
        ),
        ("all reserved", changed(|bytes| half(bytes, 14, u16::MAX))),
        ("nothing reserved", changed(|bytes| half(bytes, 14, 0))),
        (
            "a partition table that leads outside",
            changed(|bytes| {
                bytes[..512].fill(0);
                bytes[0x1BE + 4] = 6;
                word(bytes, 0x1BE + 8, u32::MAX);
                word(bytes, 0x1BE + 12, u32::MAX);
                bytes[510..512].copy_from_slice(&[0x55, 0xAA]);
            }),
        ),
        (
            "a partition that is its own table",
            changed(|bytes| {
                bytes[..512].fill(0);
                bytes[0x1BE + 4] = 6;
                word(bytes, 0x1BE + 8, 0);
                word(bytes, 0x1BE + 12, 100);
                bytes[510..512].copy_from_slice(&[0x55, 0xAA]);
            }),
        ),
        ("every FAT entry names cluster 2", changed(|bytes| bytes[512..512 * 8].fill(0x02))),
        ("a disk of one sector", changed(|bytes| bytes.truncate(512))),
        (
            "names of control characters",
            changed(|bytes| {
                let at = bytes.windows(11).position(|name| name == b"INFO_UF2TXT").unwrap();
                bytes[at..at + 8].copy_from_slice(b"A\x1B[2JB\x07C");
            }),
        ),
    ]
}

/// A disk that claims to be a product, what is done with it, and how that may end.
struct Case {
    ids: (u16, u16),
    bytes: Vec<u8>,
    args: Vec<String>,
    codes: &'static [i32],
}

#[test]
fn no_damaged_disk_stops_a_command_or_is_written() {
    let mut cases = Vec::new();
    for (name, bytes) in folders().into_iter().chain(tables()) {
        for (ids, image) in [(petrel::BOOT_IDS, "petrel-pb1-2.4.0.uf2"), (heron::SERVICE_IDS, "heron-h1-2.1.0.hex")] {
            let image = firmware(image).to_str().unwrap().to_owned();
            let survey: (&[&str], &[i32]) = (&["survey", "-v"], &[0]);
            let update: (&[&str], &[i32]) = (&["update", &image, "--wait", "1s"], &[3, 4, 5, 8]);
            let line: (&[&str], &[i32]) = (&["line", &image, "--count", "1", "--for", "2s"], &[3, 4, 5, 8]);
            for (args, codes) in [survey, update, line] {
                let case =
                    Case { ids, bytes: bytes.clone(), args: args.iter().map(|arg| (*arg).to_owned()).collect(), codes };
                cases.push((format!("{name}: vaka {} for {ids:04X?}", args[0]), case));
            }
        }
    }
    all(&cases, |case| {
        let disk = Stick::posing_as(case.ids, "S-1", case.bytes.clone());
        let bench = Bench::of(vec![(Box::new(disk), Vec::new())]);
        let bus = bench.bus();
        let mut args: Vec<&str> = case.args.iter().map(String::as_str).collect();
        args.extend(["--bus", &bus]);
        let mut command = program(bench.folder.path(), &args);
        let why = problem(&mut command, &Expected { codes: case.codes, words: &[] });
        let is_changed = || lock(&bench.world).unit("1-1").unwrap().disk() != case.bytes;
        why.or_else(|| is_changed().then(|| "the disk was written".to_owned()))
    });
}
