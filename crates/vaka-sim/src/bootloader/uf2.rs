//! The handling of sectors that are written to a UF2 disk.
//!
//! Source: the public UF2 format description. Sectors that are no blocks, and
//! blocks of another family, are dropped without a word; a block of its own is
//! programmed at once, after its flash sector was erased; when as many numbers
//! have come as the blocks say there are, the unit restarts.

use std::collections::BTreeSet;
use std::ops::Range;
use std::time::Duration;

use super::disk::{Medium, SECTOR, Sense};
use super::fat::{File, Volume};
use crate::flash::Flash;

const MAGICS: [(usize, u32); 3] = [(0, 0x0A32_4655), (4, 0x9E5D_5157), (508, 0x0AB1_6F30)];
const FAMILY: u32 = 0x2000;
const NOT_MAIN_FLASH: u32 = 1;
const PAYLOAD: usize = 256;

/// Time from the last block to the restart.
const SETTLE: Duration = Duration::from_millis(100);

/// Deviations of a loader.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Quirks {
    /// It disconnects with the last block, before the status.
    pub drops_last_reply: bool,
    /// It never counts an image as complete.
    pub never_complete: bool,
    /// It erases the whole application with the first block.
    pub erases_all: bool,
    /// It does not show the installed application.
    pub shows_nothing: bool,
    /// It stays in update mode when its disk is ejected.
    pub ignores_eject: bool,
}

/// The loader of a unit in update mode.
#[derive(Clone, Debug)]
pub struct Loader {
    family: u32,
    region: Range<u32>,
    manner: Quirks,
    erased: BTreeSet<u32>,
    seen: BTreeSet<u32>,
    total: Option<u32>,
    /// When it restarts.
    pub leaves_at: Option<Duration>,
    /// Blocks that it programmed.
    pub programmed: u64,
}

impl Loader {
    /// A loader for blocks of a family into a region.
    pub fn new(family: u32, region: Range<u32>, manner: Quirks) -> Self {
        Self {
            family,
            region,
            manner,
            erased: BTreeSet::new(),
            seen: BTreeSet::new(),
            total: None,
            leaves_at: None,
            programmed: 0,
        }
    }

    /// A sector was written.
    fn take(&mut self, now: Duration, sector: &[u8; SECTOR], flash: &mut Flash) -> Duration {
        let word = |at: usize| u32::from_le_bytes([sector[at], sector[at + 1], sector[at + 2], sector[at + 3]]);
        let is_block = MAGICS.iter().all(|(at, magic)| word(*at) == *magic);
        let flags = word(8);
        if !is_block || flags & FAMILY == 0 || word(28) != self.family {
            return Duration::ZERO;
        }
        let (address, number, total) = (word(12), word(20), word(24));
        let fits = word(16) as usize == PAYLOAD
            && address.is_multiple_of(256)
            && flags & NOT_MAIN_FLASH == 0
            && self.region.contains(&address);
        let time = if fits { self.program(address, &sector[32..32 + PAYLOAD], flash) } else { Duration::ZERO };
        self.count(now + time, number, total);
        time
    }

    fn program(&mut self, address: u32, payload: &[u8], flash: &mut Flash) -> Duration {
        let mut time = Duration::ZERO;
        let sectors: Vec<Range<u32>> = match self.manner.erases_all && self.erased.is_empty() {
            true => flash.sectors_in(self.region.clone()),
            false => flash.sector(address).into_iter().collect(),
        };
        for sector in sectors {
            if self.erased.insert(sector.start) {
                time += Flash::erase_time(sector.end - sector.start);
                flash.erase(sector);
            }
        }
        flash.program(address, payload);
        self.programmed += 1;
        time + Flash::program_time(u32::try_from(payload.len()).unwrap_or(0))
    }

    fn count(&mut self, now: Duration, number: u32, total: u32) {
        let wanted = *self.total.get_or_insert(total);
        if total != wanted || number >= wanted || self.manner.never_complete {
            return;
        }
        self.seen.insert(number);
        if self.seen.len() == wanted as usize {
            self.leaves_at.get_or_insert(if self.manner.drops_last_reply { now } else { now + SETTLE });
        }
    }
}

/// The disk that such a unit shows: generated from its files, without storage.
pub struct Shown<'a> {
    /// Layout of the volume.
    pub volume: Volume,
    /// Whether its boot sector is invalid.
    pub is_broken: bool,
    /// Files.
    pub files: &'a [File],
    /// The loader that receives blocks.
    pub loader: &'a mut Loader,
    /// The flash that receives their data.
    pub flash: &'a mut Flash,
}

impl Medium for Shown<'_> {
    fn count(&self) -> u32 {
        // Two more sectors than its boot sector states, as on some units.
        self.volume.sectors + 2
    }

    fn read(&self, sector: u32) -> [u8; SECTOR] {
        if self.is_broken && sector == 0 {
            return [0xF6; SECTOR];
        }
        self.volume.sector(sector, self.files)
    }

    fn write(&mut self, now: Duration, _: u32, data: &[u8; SECTOR]) -> Result<Duration, Sense> {
        Ok(self.loader.take(now, data, self.flash))
    }

    fn flush(&mut self, _: Duration) {}

    fn eject(&mut self, now: Duration) {
        if !self.loader.manner.ignores_eject {
            self.loader.leaves_at = Some(now + Duration::from_millis(50));
        }
    }
}

/// The present application as blocks, all of the region.
pub fn present(family: u32, flash: &Flash, region: Range<u32>) -> Vec<u8> {
    let pages: Vec<u32> = region.step_by(PAYLOAD).collect();
    let total = u32::try_from(pages.len()).unwrap_or(0);
    let mut bytes = Vec::with_capacity(pages.len() * SECTOR);
    for (number, address) in (0..).zip(pages) {
        let mut block = [0; SECTOR];
        let words = [MAGICS[0].1, MAGICS[1].1, FAMILY, address, 256, number, total, family];
        block.chunks_exact_mut(4).zip(words).for_each(|(place, word): (&mut [u8], u32)| {
            place.copy_from_slice(&word.to_le_bytes());
        });
        block[32..32 + PAYLOAD].copy_from_slice(flash.read(address, PAYLOAD).unwrap_or(&[0xFF; PAYLOAD]));
        block[508..].copy_from_slice(&MAGICS[2].1.to_le_bytes());
        bytes.extend_from_slice(&block);
    }
    bytes
}
