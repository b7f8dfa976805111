//! A verdict that fits, with its inputs.

use vaka_core::matching::Verdict;
use vaka_core::sheet::{Route, Sheet, Variant};
use vaka_image::Image;

/// A verdict that fits, with its inputs.
pub(super) struct Resolved<'a> {
    pub(super) sheet: &'a Sheet,
    pub(super) variant: &'a Variant,
    pub(super) route: &'a Route,
    pub(super) image: Image,
    pub(super) verdict: Verdict,
}

impl Resolved<'_> {
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
