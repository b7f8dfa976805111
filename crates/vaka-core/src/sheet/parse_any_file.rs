//! A variant that is a file on a unit's disk: a script, settings, a picture.

use super::parse::{Checked, Checker};
use super::raw::{RawAnyFile, RawVariant};
use super::raw_value::Spanned;
use super::{FileForm, ImageRules, Mark, Region, RouteKind, UpdateMedium, Variant};
use crate::memory::{Access, SectorMap, Zone};
use vaka_image::address::{Address, Span};

/// The region of the file: its bytes are counted from 0.
const REGION: &str = "file";

/// Largest file. Chosen by us: more than the small disks of units have.
const MOST: u64 = 64 << 20;

impl Checker<'_> {
    /// The file as a memory of one sector.
    pub(super) fn any_file(
        &self,
        raw: &Spanned<RawAnyFile>,
        variant: &RawVariant,
    ) -> Checked<(SectorMap, Vec<Region>, ImageRules)> {
        let is_plain = variant.flash.is_empty()
            && variant.image.is_none()
            && variant.region.is_empty()
            && variant.further_image.is_empty()
            && variant.stage_image.is_empty()
            && variant.table.is_none();
        if !is_plain {
            let message = "replaces `flash`, `region`, `table` and all images of the variant";
            return Err(self.error(&raw.span(), "any_file", message.into()));
        }
        let RawAnyFile { most, endings, marks } = raw.get_ref();
        let size = self.size("most", most)?;
        let zone = u32::try_from(size)
            .ok()
            .filter(|_| (1..=MOST).contains(&size))
            .and_then(|size| Zone::new(Address::new(0), 1, size, Access::FULL));
        let made = zone.and_then(|zone| Some((SectorMap::new(vec![zone]).ok()?, Span::new(Address::new(0), size)?)));
        let Some((flash, span)) = made else {
            return Err(self.error(&most.span(), "most", "must be 1 byte to 64 MiB".into()));
        };
        let endings = endings.iter().map(|ending| {
            let text = self.words("endings", ending)?;
            match text.chars().all(|c| c.is_ascii_alphanumeric()) {
                true => Ok(text),
                false => Err(self.error(&ending.span(), "endings", "write endings without a dot, like \"TXT\"".into())),
            }
        });
        let marks = marks.iter().map(|mark| {
            let (offset, bytes) = (self.size("offset", &mark.offset)?, self.mark_bytes(mark)?);
            Ok(Mark { offset, bytes, meaning: self.words("meaning", &mark.meaning)? })
        });
        let region = Region::new(REGION, span);
        let rules = ImageRules {
            binary_at: Some(span.start()),
            any_file: Some(endings.collect::<Checked<_>>()?),
            marks: marks.collect::<Checked<_>>()?,
            ..ImageRules::of(region.clone())
        };
        Ok((flash, vec![region], rules))
    }

    /// A disk that takes any file is for a variant that is one, and the other way round.
    pub(super) fn takes_any_file(
        &self,
        kind: &RouteKind,
        variant: &Variant,
        place: &std::ops::Range<usize>,
    ) -> Checked<()> {
        let takes = |route: &super::VolumeRoute| matches!(&route.takes, UpdateMedium::File(file) if file.form == FileForm::AsIs);
        match (kind.volume().is_some_and(takes), &variant.image.any_file) {
            (true, None) => {
                let message = format!("takes = \"file\" is for a variant with `any_file`; '{}' has none", variant.id);
                Err(self.error(place, "takes", message))
            }
            (false, Some(_)) => {
                let message =
                    format!("variant '{}' is a file: its route has kind = \"volume\", takes = \"file\"", variant.id);
                Err(self.error(place, "kind", message))
            }
            _ => Ok(()),
        }
    }
}
