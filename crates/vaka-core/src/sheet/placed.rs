//! Variants as a unit's own reports place them: the table of regions, and the size of its flash.

use crate::memory::SectorMap;
use crate::sheet::model::{ImageRules, ReportedFlash, Sheet, Variant};
use crate::sheet::region::{BOOTLOADER, Region};
use crate::sheet::region_table::TableEntry;
use crate::sheet::route::{Route, RouteKind};
use crate::unit::{PropertyValue, UnitFacts};
use vaka_base::size::Bytes;
use vaka_image::address::{Address, Span};

impl Sheet {
    /// The sheet with the flash that a unit in update mode reports, and with its regions where its table
    /// places them. A variant for which that is not possible stays as it is.
    #[must_use]
    pub fn as_reported(&self, unit: &UnitFacts, entries: Option<&[TableEntry]>) -> Self {
        let mut sheet = self.clone();
        for variant in &mut sheet.variants {
            let placed = entries.and_then(|entries| variant.placed_by(entries).ok()).unwrap_or_else(|| variant.clone());
            let size = placed.route(unit.id).and_then(|route| placed.reported_flash_size(route, unit));
            *variant = size.and_then(|size| placed.with_flash(size).ok()).unwrap_or(placed);
        }
        sheet
    }

    /// Whether the flash or the regions of a variant depend on what its unit reports.
    pub fn depends_on_reports(&self) -> bool {
        self.variants.iter().any(|variant| variant.reported_flash.is_some() || variant.table.is_some())
    }
}

impl Variant {
    /// The size of the flash that a unit reports on a route, in bytes, if the sheet leaves it to the unit;
    /// without a report the smallest size.
    pub fn reported_flash_size(&self, route: &Route, unit: &UnitFacts) -> Option<u64> {
        let ReportedFlash { least, told } = self.reported_flash.as_ref()?;
        let start = self.flash.zones().first()?.span().start();
        let size = match &route.kind {
            RouteKind::Dfu { memory } => {
                let maps = unit.memories(memory).into_iter().filter_map(|memory| memory.alternate.layout.as_ref());
                let covering = maps.filter_map(|layout| layout.map.zone_at(start).map(|_| &layout.map)).next();
                covering.and_then(|map| map.zones().last()?.span().end().offset_from(start))
            }
            _ => {
                let found = told.as_ref().and_then(|name| unit.told.iter().find(|told| told.name == *name));
                match found.map(|told| &told.value) {
                    Some(PropertyValue::Number(number)) => u64::try_from(*number).ok(),
                    _ => None,
                }
            }
        };
        Some(size.unwrap_or(*least))
    }

    /// The variant with this size of flash: regions end where the flash does.
    ///
    /// # Errors
    /// The size is smaller or larger than the sheet allows.
    pub fn with_flash(&self, size: u64) -> Result<Self, String> {
        let Some(ReportedFlash { least, .. }) = self.reported_flash else { return Ok(self.clone()) };
        let extent = self.flash.extent().filter(|extent| (least..=extent.len()).contains(&size));
        let Some(end) = extent.and_then(|extent| extent.start().checked_add(size)) else {
            return Err(format!("{} has at least {}, and at most {}", self.id, Bytes(least), self.flash));
        };
        let mut variant = Self { flash: self.flash.up_to(end), ..self.clone() };
        let inside = |region: &Region| {
            let span = Span::between(region.span.start(), region.span.end().min(end))?;
            Some(Region { span, ..region.clone() }).filter(|region| !region.span.is_empty())
        };
        variant.regions = self.regions.iter().filter_map(inside).collect();
        variant.image.region = inside(&self.image.region)
            .ok_or_else(|| format!("region '{}' is beyond the flash of {}", self.image.region.name, Bytes(size)))?;
        variant.further.retain_mut(|rules| match inside(&rules.region) {
            Some(region) => {
                rules.region = region;
                true
            }
            None => false,
        });
        for route in &mut variant.routes {
            route.writes = route.writes.iter().filter_map(inside).collect();
        }
        if let Some(slots) = &mut variant.slots {
            let fits = |slot: &Self| slot.image.region.span.end() <= end;
            slots.variants.retain(fits);
        }
        Ok(variant)
    }

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
