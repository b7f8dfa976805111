//! A model of flash memory.

use std::ops::Range;
use std::time::Duration;

/// Erase time per KiB. Chosen by us, in the range of data sheets of small microcontrollers.
const ERASE_PER_KIB: Duration = Duration::from_millis(10);
/// Program time for each KiB. Chosen as above.
const PROGRAM_PER_KIB: Duration = Duration::from_millis(8);

/// Equal sectors, end to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FlashZone {
    /// First address.
    pub start: u32,
    /// Number of sectors.
    pub count: u32,
    /// Bytes in a sector.
    pub sector_size: u32,
}

impl FlashZone {
    /// The first address after it.
    pub fn end(self) -> u32 {
        self.start + self.count * self.sector_size
    }

    fn contains(self, address: u32) -> bool {
        (self.start..self.end()).contains(&address)
    }
}

/// Flash. An erase sets a sector to 0xFF; programming only clears bits.
#[derive(Clone, Debug)]
pub struct Flash {
    /// In rising order; at least one.
    zones: Vec<FlashZone>,
    /// All from the first address to the last; 0xFF between zones.
    bytes: Vec<u8>,
    stuck: Vec<StuckBit>,
    /// Bytes whose top bit an erase no longer sets.
    worn: Vec<u32>,
}

/// A bit that programming cannot clear.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StuckBit {
    /// The address of its byte.
    pub address: u32,
    /// Bit number, 0 to 7.
    pub bit: u8,
}

impl Flash {
    /// Erased flash of `count` sectors.
    pub fn new(start: u32, count: u32, sector_size: u32) -> Self {
        Self::with_zones(vec![FlashZone { start, count, sector_size }])
    }

    /// Erased flash with sectors of several sizes: at least one zone, in rising order.
    pub fn with_zones(zones: Vec<FlashZone>) -> Self {
        let len = zones.last().map_or(0, |zone| zone.end()) - zones.first().map_or(0, |zone| zone.start);
        Self { zones, bytes: vec![0xFF; len as usize], stuck: Vec::new(), worn: Vec::new() }
    }

    /// First address.
    pub fn base(&self) -> u32 {
        self.zones.first().map_or(0, |zone| zone.start)
    }

    /// Its sectors, by size.
    pub fn zones(&self) -> &[FlashZone] {
        &self.zones
    }

    /// Bytes in its first sector.
    pub fn sector_size(&self) -> u32 {
        self.zones.first().map_or(0, |zone| zone.sector_size)
    }

    /// Size in bytes.
    #[allow(clippy::cast_possible_truncation)] // made from a u32
    pub fn len(&self) -> u32 {
        self.bytes.len() as u32
    }

    /// Never true.
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// The true content, which no transfer can falsify.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The bytes at an address; `None` outside.
    pub fn read(&self, address: u32, len: usize) -> Option<&[u8]> {
        self.bytes.get(self.range(address, len)?)
    }

    /// Sets bytes without the rules of flash, as at the factory.
    pub fn put(&mut self, address: u32, data: &[u8]) {
        if let Some(range) = self.range(address, data.len()) {
            self.bytes[range].copy_from_slice(data);
        }
    }

    /// Adds a stuck bit.
    pub fn add_stuck_bit(&mut self, bit: StuckBit) {
        self.stuck.push(bit);
    }

    /// Wears a byte out: its top bit stays 0 after an erase.
    pub fn age(&mut self, address: u32) {
        self.worn.push(address);
    }

    /// The sector that contains an address, as a range of addresses.
    pub fn sector(&self, address: u32) -> Option<Range<u32>> {
        let zone = self.zones.iter().find(|zone| zone.contains(address))?;
        let start = address - (address - zone.start) % zone.sector_size;
        Some(start..start + zone.sector_size)
    }

    /// The sectors that a range of addresses touches.
    pub fn sectors_in(&self, addresses: Range<u32>) -> Vec<Range<u32>> {
        let (mut at, mut found) = (addresses.start, Vec::new());
        while at < addresses.end {
            let next = self.zones.iter().map(|zone| zone.start).find(|start| *start > at);
            match (self.sector(at), next) {
                (Some(sector), _) => {
                    at = sector.end;
                    found.push(sector);
                }
                (None, Some(next)) => at = next,
                (None, None) => break,
            }
        }
        found
    }

    /// Erases a range of addresses; addresses outside the flash are ignored.
    pub fn erase(&mut self, addresses: Range<u32>) {
        if let Some(range) = self.range(addresses.start, addresses.len()) {
            self.bytes[range].fill(0xFF);
        }
        for address in self.worn.iter().filter(|address| addresses.contains(address)) {
            let at = (address - self.base()) as usize;
            self.bytes[at] = 0x7F;
        }
    }

    /// Programs bytes: clears those bits that are 0 in `data`.
    pub fn program(&mut self, address: u32, data: &[u8]) {
        let Some(range) = self.range(address, data.len()) else { return };
        for (offset, (cell, byte)) in (0..).zip(self.bytes[range].iter_mut().zip(data)) {
            let held = self.stuck.iter().filter(|bit| bit.address == address + offset);
            let mask = held.fold(0, |mask, bit| mask | 1 << bit.bit);
            *cell &= byte | mask;
        }
    }

    /// Time to erase this many bytes.
    pub fn erase_time(len: u32) -> Duration {
        ERASE_PER_KIB * len / 1024
    }

    /// Time to program this many bytes.
    pub fn program_time(len: u32) -> Duration {
        PROGRAM_PER_KIB * len / 1024
    }

    fn range(&self, address: u32, len: usize) -> Option<Range<usize>> {
        let start = address.checked_sub(self.base())? as usize;
        let end = start.checked_add(len).filter(|end| *end <= self.bytes.len())?;
        let is_gap = |pair: &[FlashZone]| {
            let (from, to) = ((pair[0].end() - self.base()) as usize, (pair[1].start - self.base()) as usize);
            from < to && start < to && from < end
        };
        (!self.zones.windows(2).any(is_gap)).then_some(start..end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programming_only_clears_bits_and_an_erase_sets_them() {
        let mut flash = Flash::new(0x100, 2, 16);
        flash.program(0x10F, &[0x0F, 0x55]);
        flash.program(0x10F, &[0xF3, 0xFF]);
        assert_eq!(flash.read(0x10F, 2).unwrap(), [0x03, 0x55]);
        flash.erase(flash.sector(0x10F).unwrap());
        assert_eq!(flash.read(0x10F, 2).unwrap(), [0xFF, 0x55]);
        assert!(flash.read(0x11F, 2).is_none() && flash.read(0xFF, 1).is_none());
    }

    #[test]
    fn sectors_of_several_sizes_have_a_gap_between_them() {
        let zone = |start, count, sector_size| FlashZone { start, count, sector_size };
        let mut flash = Flash::with_zones(vec![zone(0x100, 2, 16), zone(0x120, 1, 32), zone(0x180, 2, 64)]);
        assert_eq!((flash.base(), flash.len()), (0x100, 0x100));
        assert_eq!((flash.sector(0x11F), flash.sector(0x12F)), (Some(0x110..0x120), Some(0x120..0x140)));
        assert_eq!(flash.sectors_in(0x118..0x181), [0x110..0x120, 0x120..0x140, 0x180..0x1C0]);
        assert_eq!(flash.sector(0x150), None);
        // Bytes in the gap are neither read nor written.
        assert!(flash.read(0x13F, 2).is_none() && flash.read(0x17F, 2).is_none() && flash.read(0x11F, 2).is_some());
        flash.program(0x13F, &[0, 0]);
        flash.program(0x180, &[0]);
        assert_eq!((flash.read(0x13F, 1), flash.read(0x180, 1)), (Some(&[0xFF][..]), Some(&[0][..])));
    }

    #[test]
    fn a_stuck_bit_stays_set() {
        let mut flash = Flash::new(0, 1, 16);
        flash.add_stuck_bit(StuckBit { address: 3, bit: 4 });
        flash.program(2, &[0, 0, 0]);
        assert_eq!(flash.read(2, 3).unwrap(), [0, 0x10, 0]);
    }

    #[test]
    fn times_are_those_of_the_demo_world() {
        assert_eq!(Flash::erase_time(2048), Duration::from_millis(20));
        assert_eq!(Flash::program_time(1024), Duration::from_millis(8));
    }
}
