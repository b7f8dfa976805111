//! A verdict that fits, with its inputs.

use vaka_core::matching::Verdict;
use vaka_core::sheet::{Route, Sheet, Variant};
use vaka_core::unit::UnitFacts;
use vaka_image::Image;

use super::errors::internal;
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;

/// A verdict that fits, with its inputs.
pub(super) struct Resolved<'a> {
    pub(super) sheet: &'a Sheet,
    pub(super) variant: &'a Variant,
    pub(super) route: &'a Route,
    pub(super) image: Image,
    pub(super) verdict: Verdict,
}

impl Resolved<'_> {
    /// The same for the region that the unit selects, if its route has several for one image.
    ///
    /// # Errors
    /// The unit selects none of them.
    pub(super) fn in_slot(self, unit: &UnitFacts) -> Result<Self, Failure> {
        let slots = self.variant.slots.as_ref().filter(|slots| slots.id == self.route.id);
        let Some(slots) = slots else { return Ok(self) };
        let found = slots.selected(unit).and_then(|variant| Some((variant, variant.routes.first()?)));
        let Some((variant, route)) = found else {
            let known = slots.regions().map(|region| region.name.clone()).collect();
            let (property, reported) = (slots.by.clone(), slots.reported(unit).cloned());
            let failure = Failure::new(FailureKind::NoSlot { property, reported, known });
            return Err(failure.unchanged().remedy(Remedy::CompareGeometry));
        };
        let offset = self.image.start().get().wrapping_sub(self.variant.image.region.span.start().get());
        let start = variant.image.region.span.start().checked_add(offset);
        let moved = start.and_then(|start| self.image.moved(start).ok());
        let image = moved.ok_or_else(|| internal("the image does not fit into the selected region"))?;
        Ok(Self { variant, route, image, ..self })
    }

    /// The inputs of a plan.
    pub(super) fn parts(&self) -> Parts<'_> {
        let Self { sheet, variant, route, image, .. } = self;
        Parts { sheet, variant, route, image }
    }
}

/// The inputs of a plan.
#[derive(Clone, Copy)]
pub(super) struct Parts<'p> {
    pub(super) sheet: &'p Sheet,
    pub(super) variant: &'p Variant,
    pub(super) route: &'p Route,
    pub(super) image: &'p Image,
}
