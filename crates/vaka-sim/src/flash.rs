//! A model of flash memory.

use std::ops::Range;
use std::time::Duration;

/// Erase time per KiB. Chosen by us, in the range of data sheets of small microcontrollers.
const ERASE_PER_KIB: Duration = Duration::from_millis(10);
/// Program time for each KiB. Chosen as above.
const PROGRAM_PER_KIB: Duration = Duration::from_millis(8);

/// Flash with equal sectors. An erase sets a sector to 0xFF; programming only
/// clears bits.
#[derive(Clone, Debug)]
pub struct Flash {
    base: u32,
    sector_size: u32,
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
    pub fn new(base: u32, count: u32, sector_size: u32) -> Self {
        Self {
            base,
            sector_size,
            bytes: vec![0xFF; (count * sector_size) as usize],
            stuck: Vec::new(),
            worn: Vec::new(),
        }
    }

    /// First address.
    pub fn base(&self) -> u32 {
        self.base
    }

    /// Number of sectors.
    pub fn sectors(&self) -> u32 {
        self.len() / self.sector_size
    }

    /// Bytes in a sector.
    pub fn sector_size(&self) -> u32 {
        self.sector_size
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
        self.range(address, 1)?;
        let start = address - (address - self.base) % self.sector_size;
        Some(start..start + self.sector_size)
    }

    /// Erases a range of addresses; addresses outside the flash are ignored.
    pub fn erase(&mut self, addresses: Range<u32>) {
        if let Some(range) = self.range(addresses.start, addresses.len()) {
            self.bytes[range].fill(0xFF);
        }
        for address in self.worn.iter().filter(|address| addresses.contains(address)) {
            self.bytes[(address - self.base) as usize] = 0x7F;
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
        let start = address.checked_sub(self.base)? as usize;
        let end = start.checked_add(len).filter(|end| *end <= self.bytes.len())?;
        Some(start..end)
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
