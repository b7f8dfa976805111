//! Variants whose regions a table in the unit's flash has moved.

use crate::memory::SectorMap;
use crate::sheet::model::{ImageRules, Sheet, Variant};
use crate::sheet::region::{BOOTLOADER, Region};
use crate::sheet::region_table::TableEntry;
use vaka_image::address::{Address, Span};

impl Sheet {
    /// The sheet with the regions of each variant where the table of its unit places them. A variant
    /// for which that is not possible stays as it is; see [`Variant::placed_by`].
    #[must_use]
    pub fn placed_by(&self, entries: &[TableEntry]) -> Self {
        let mut sheet = self.clone();
        for variant in &mut sheet.variants {
            if let Ok(placed) = variant.placed_by(entries) {
                *variant = placed;
            }
        }
        sheet
    }
}

impl Variant {
    /// The variant with its regions where a table places them. Regions that the table does not
    /// name, the table's own and the bootloader stay in their place.
    ///
    /// # Errors
    /// A region that the table moves would be outside the flash, divide a sector, or overlap another one.
    pub fn placed_by(&self, entries: &[TableEntry]) -> Result<Self, String> {
        let Some(table) = &self.table else { return Ok(self.clone()) };
        let mut regions: Vec<Region> = Vec::new();
        for region in &self.regions {
            let is_fixed = region.name == BOOTLOADER || region.name == table.region.name;
            let entry = entries.iter().find(|entry| entry.name == region.name && !is_fixed);
            let placed = entry.map_or(region.span, |entry| entry.span);
            if placed != region.span && !is_whole(placed, &self.flash) {
                return Err(format!("'{}', {placed}, is not made of whole sectors of the flash", region.name));
            }
            if let Some(other) = regions.iter().find(|other| other.span.common(placed).is_some()) {
                return Err(format!("'{}', {placed}, overlaps region '{}'", region.name, other.name));
            }
            regions.push(Region { span: placed, ..region.clone() });
        }
        let mut variant = self.clone();
        for (old, new) in self.regions.iter().zip(&regions).filter(|(old, new)| old.span != new.span) {
            variant.move_region(old, new);
        }
        variant.regions = regions;
        if let Some(slots) = &mut variant.slots {
            for slot in &mut slots.variants {
                *slot = slot.placed_by(entries)?;
                if slot.image.region.span.len() != variant.image.region.span.len() {
                    return Err(format!("'{}' has another size than the region of the image", slot.image.region.name));
                }
            }
        }
        Ok(variant)
    }

    /// Moves what refers to a region.
    fn move_region(&mut self, old: &Region, new: &Region) {
        let moved = |at: Address| new.span.start().checked_add(at.offset_from(old.span.start())?);
        let inside = |at: &Option<Address>| at.filter(|at| old.span.contains(*at));
        for rules in [&mut self.image].into_iter().chain(&mut self.further) {
            let ImageRules { region, binary_at, .. } = rules;
            if region.name == old.name {
                *region = new.clone();
                *binary_at = inside(binary_at).and_then(moved);
            }
        }
        for route in &mut self.routes {
            route.restart_at = inside(&route.restart_at).and_then(moved).or(route.restart_at);
            route.writes.iter_mut().filter(|region| region.name == old.name).for_each(|region| *region = new.clone());
        }
    }
}

/// Whether a span consists of whole sectors.
fn is_whole(span: Span, flash: &SectorMap) -> bool {
    let sectors = flash.sectors_in(span).unwrap_or_default();
    sectors.iter().map(|sector| sector.len()).sum::<u64>() == span.len()
}
