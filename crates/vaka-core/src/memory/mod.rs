//! Memory maps: the sectors of a unit, and the permitted operations.

pub mod layout;

use std::fmt;

use serde::Serialize;

use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_image::address::{Address, Span};

/// The permitted operations on memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Access {
    /// Reading is permitted.
    pub read: bool,
    /// Erasing is permitted.
    pub erase: bool,
    /// Writing is permitted.
    pub write: bool,
}

impl Access {
    /// All operations.
    pub const FULL: Self = Self { read: true, erase: true, write: true };
    /// Reading only.
    pub const READ_ONLY: Self = Self { read: true, erase: false, write: false };

    /// Whether firmware can be written: erasing and writing are permitted.
    pub const fn is_programmable(self) -> bool {
        self.erase && self.write
    }
}

/// Equal sectors, end to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Zone {
    start: Address,
    count: u32,
    sector_size: u32,
    access: Access,
}

/// Maximum number of sectors in a zone. Chosen by us: sixteen times that of a large flash, and
/// still quick to enumerate.
pub const MAX_SECTORS: u32 = 1 << 20;

impl Zone {
    /// `count` sectors of `sector_size` bytes from `start`. Returns `None` if there are no
    /// sectors, more than [`MAX_SECTORS`], empty sectors, or sectors above the 32-bit range.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::memory::{Access, Zone};
    /// use vaka_image::address::Address;
    ///
    /// let zone = Zone::new(Address::new(0x0800_0000), 4, 16 * 1024, Access::FULL).unwrap();
    /// assert_eq!(zone.span().len(), 64 * 1024);
    /// // A zone without a sector is none.
    /// assert!(Zone::new(Address::new(0), 0, 1024, Access::FULL).is_none());
    /// ```
    pub fn new(start: Address, count: u32, sector_size: u32, access: Access) -> Option<Self> {
        let len = u64::from(count) * u64::from(sector_size);
        let end = start.checked_add(len)?;
        (len > 0 && count <= MAX_SECTORS && end.get() <= 1 << 32).then_some(Self { start, count, sector_size, access })
    }

    /// The address range.
    pub fn span(&self) -> Span {
        Span::new(self.start, u64::from(self.count) * u64::from(self.sector_size)).expect("checked when made")
    }

    /// Number of sectors; at least 1.
    pub fn count(&self) -> u32 {
        self.count
    }

    /// Bytes in a sector; at least 1.
    pub fn sector_size(&self) -> u32 {
        self.sector_size
    }

    /// The permitted operations.
    pub fn access(&self) -> Access {
        self.access
    }

    /// The sector at `address`, which must be inside the zone.
    fn sector_at(&self, address: Address) -> Option<Span> {
        let offset = address.offset_from(self.start)?;
        let size = u64::from(self.sector_size);
        let start = self.start.checked_add(offset - offset % size)?;
        self.span().contains(address).then(|| Span::new(start, size)).flatten()
    }
}

impl fmt::Display for Zone {
    /// `48 sectors of 3 KiB at 0x0A00_0000`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sectors = text::count(self.count as usize, "sector");
        write!(f, "{sectors} of {} at {}", Bytes(u64::from(self.sector_size)), self.start)
    }
}

/// The sectors of a memory: zones that rise and do not overlap.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SectorMap {
    zones: Vec<Zone>,
}

impl SectorMap {
    /// A map of `zones`, in any order.
    ///
    /// # Errors
    /// The two zones that overlap.
    pub fn new(mut zones: Vec<Zone>) -> Result<Self, (Zone, Zone)> {
        zones.sort_by_key(|zone| zone.start);
        let clash = zones.windows(2).find(|pair| pair[0].span().common(pair[1].span()).is_some());
        match clash {
            Some(pair) => Err((pair[0], pair[1])),
            None => Ok(Self { zones }),
        }
    }

    /// The zones, in rising order.
    pub fn zones(&self) -> &[Zone] {
        &self.zones
    }

    /// All from the first byte to the last, in bytes from the first.
    pub fn extent(&self) -> Option<Span> {
        let (first, last) = (self.zones.first()?, self.zones.last()?);
        Span::between(first.span().start(), last.span().end())
    }

    /// The map up to an address, of whole sectors.
    #[must_use]
    pub fn up_to(&self, end: Address) -> Self {
        let cut = |zone: &Zone| {
            let len = end.offset_from(zone.span().start())?.min(zone.span().len());
            let count = u32::try_from(len / u64::from(zone.sector_size)).ok()?;
            Zone::new(zone.span().start(), count, zone.sector_size, zone.access)
        };
        Self { zones: self.zones.iter().filter_map(cut).collect() }
    }

    /// The zone that contains `address`.
    pub fn zone_at(&self, address: Address) -> Option<&Zone> {
        self.zones.iter().find(|zone| zone.span().contains(address))
    }

    /// The sector that contains `address`.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::memory::{Access, SectorMap, Zone};
    /// use vaka_image::address::{Address, Span};
    ///
    /// let zone = Zone::new(Address::new(0x1000), 2, 256, Access::FULL).unwrap();
    /// let map = SectorMap::new(vec![zone]).unwrap();
    /// let second = Span::between(Address::new(0x1100), Address::new(0x1200));
    /// assert_eq!(map.sector_at(Address::new(0x1180)), second);
    /// assert_eq!(map.sector_at(Address::new(0x1200)), None);
    /// ```
    pub fn sector_at(&self, address: Address) -> Option<Span> {
        self.zone_at(address)?.sector_at(address)
    }

    /// All sectors that overlap `span`, in ascending order, or `None` if a byte of it is in no
    /// sector.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::memory::{Access, SectorMap, Zone};
    /// use vaka_image::address::{Address, Span};
    ///
    /// let zone = Zone::new(Address::new(0), 4, 256, Access::FULL).unwrap();
    /// let map = SectorMap::new(vec![zone]).unwrap();
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// // Every sector that holds a byte of the span.
    /// assert_eq!(map.sectors_in(span(200, 300)), Some(vec![span(0, 256), span(256, 512)]));
    /// assert_eq!(map.sectors_in(span(1000, 1025)), None);
    /// ```
    pub fn sectors_in(&self, span: Span) -> Option<Vec<Span>> {
        let mut sectors = Vec::new();
        let mut at = span.start();
        while at < span.end() {
            let sector = self.sector_at(at)?;
            at = sector.end();
            sectors.push(sector);
        }
        Some(sectors)
    }

    /// Whether all of `span` is in sectors whose access `wanted` accepts.
    pub fn allows(&self, span: Span, wanted: fn(Access) -> bool) -> bool {
        self.sectors_in(span).is_some_and(|sectors| {
            sectors.iter().all(|sector| self.zone_at(sector.start()).is_some_and(|zone| wanted(zone.access)))
        })
    }
}

impl fmt::Display for SectorMap {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, zone) in self.zones.iter().enumerate() {
            write!(f, "{}{zone}", if index > 0 { ", " } else { "" })?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zone(start: u64, count: u32, size: u32) -> Zone {
        Zone::new(Address::new(start), count, size, Access::FULL).unwrap()
    }

    #[test]
    fn sectors_are_found_across_zones_but_not_across_gaps() {
        let map = SectorMap::new(vec![zone(0x300, 2, 0x200), zone(0, 3, 0x100), zone(0x1000, 1, 0x100)]).unwrap();
        let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
        assert_eq!(map.sectors_in(span(0x2FF, 0x301)).unwrap(), [span(0x200, 0x300), span(0x300, 0x500)]);
        assert_eq!(map.sectors_in(span(0x600, 0x800)), None);
        assert_eq!(map.sector_at(Address::new(0x10FF)), Some(span(0x1000, 0x1100)));
        assert!(SectorMap::new(vec![zone(0, 2, 0x100), zone(0x1FF, 1, 1)]).is_err());
    }

    #[test]
    fn a_zone_ends_inside_32_bits() {
        let make = |start, count, size| Zone::new(Address::new(start), count, size, Access::FULL);
        assert!(make(0xFFFF_F000, 1, 0x1000).is_some());
        assert!(make(0xFFFF_F000, 1, 0x1001).is_none());
        assert!(make(0, u32::MAX, u32::MAX).is_none());
        assert!(make(0, 0, 1).is_none() && make(0, 1, 0).is_none());
        assert!(make(0, MAX_SECTORS, 1).is_some() && make(0, MAX_SECTORS + 1, 1).is_none());
    }
}
