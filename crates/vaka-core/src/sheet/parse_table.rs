//! The description of a table of regions in flash.

use super::parse::{Checked, Checker, hex_bytes};
use super::raw::{RawHeaderInt, RawTable};
use super::raw_value::{Number, Spanned};
use super::{Region, RegionTable};
use vaka_base::size::Bytes;
use vaka_image::completeness::IntForm;

/// Largest table. Chosen by us: tables fill a sector at most.
const MOST: u64 = 64 << 10;

impl Checker<'_> {
    pub(super) fn region_table(&self, raw: &Spanned<RawTable>, regions: &[Region]) -> Checked<RegionTable> {
        let raw = raw.get_ref();
        let region = self.region("region", &raw.region, regions)?;
        if region.span.len() > MOST {
            let message = format!("region '{}' is larger than {}, the most for a table", region.name, Bytes(MOST));
            return Err(self.error(&raw.region.span(), "region", message));
        }
        let small = |key: &str, number: &Spanned<Number>, least: u64, most: u64| {
            let value = self.size(key, number)?;
            match usize::try_from(value) {
                Ok(small) if (least..=most).contains(&value) => Ok(small),
                _ => Err(self.error(&number.span(), key, format!("must be {least} to {most}"))),
            }
        };
        let entry = small("entry", &raw.entry, 4, 4096)?;
        let header = raw.header.as_ref().map_or(Ok(0), |header| small("header", header, 0, region.span.len()))?;
        let inside = |offset: &Spanned<Number>, len: usize| {
            let at = small("offset", offset, 0, MOST)?;
            match at + len <= entry {
                true => Ok(at),
                false => Err(self.error(&offset.span(), "offset", "is outside the entry".into())),
            }
        };
        let number = |field: &RawHeaderInt| {
            let form = field.form.unwrap_or(IntForm::U32le);
            Ok((inside(&field.offset, usize::try_from(form.width()).unwrap_or(4))?, form))
        };
        let length = small("length", &raw.name.length, 1, 64)?;
        let magic = raw.magic.as_ref().map(|magic| {
            hex_bytes(magic.get_ref()).filter(|bytes| bytes.len() <= entry).ok_or_else(|| {
                let message = "write bytes as hex pairs, like \"AA 50\", not longer than an entry".into();
                self.error(&magic.span(), "magic", message)
            })
        });
        let unit = raw.unit.as_ref().map_or(Ok(1), |unit| small("unit", unit, 1, 1 << 20))?;
        Ok(RegionTable {
            region,
            header,
            entry,
            magic: magic.transpose()?.unwrap_or_default(),
            name: (inside(&raw.name.offset, length)?, length),
            address: number(&raw.address)?,
            size: number(&raw.size)?,
            base: raw.base.as_ref().map_or(Ok(0), |base| self.size("base", base))?,
            unit: unit as u64,
        })
    }
}
