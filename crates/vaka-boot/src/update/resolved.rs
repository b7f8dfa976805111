//! A verdict that fits, and what it was made of.

use vaka_core::matching::Verdict;
use vaka_core::sheet::{Route, Sheet, Variant};
use vaka_image::Image;

/// A verdict that fits, and what it was made of.
pub(super) struct Resolved<'a> {
    pub(super) sheet: &'a Sheet,
    pub(super) variant: &'a Variant,
    pub(super) route: &'a Route,
    pub(super) image: Image,
    pub(super) verdict: Verdict,
}

impl Resolved<'_> {
    /// What a plan is made of.
    pub(super) fn parts(&self) -> Parts<'_> {
        let Self { sheet, variant, route, image, .. } = self;
        Parts { sheet, variant, route, image }
    }
}

/// What a plan is made of.
#[derive(Clone, Copy)]
pub(super) struct Parts<'p> {
    pub(super) sheet: &'p Sheet,
    pub(super) variant: &'p Variant,
    pub(super) route: &'p Route,
    pub(super) image: &'p Image,
}
