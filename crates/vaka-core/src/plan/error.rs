//! Why a plan is not possible.

use thiserror::Error;
use vaka_image::address::Span;

use crate::sheet::VariantId;

/// An option about erasing that only some routes support.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ErasesOption {
    /// Preserve regions that share a sector with the image.
    Keep,
    /// Erase everything erasable.
    EraseAll,
}

/// Why a plan is not possible.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlanError {
    /// The unit's sectors do not cover the image.
    #[error("the unit has no sectors for all of {0}")]
    NoSector(Span),
    /// Erasing a sector would erase bytes of a region that the route may not write.
    #[error("erasing the sector {sector} would erase content outside the regions that the route writes{}", beside(.regions))]
    Spills {
        /// The sector.
        sector: Span,
        /// Names of the regions that could be preserved.
        regions: Vec<String>,
    },
    /// Preserved regions must be read first, but the unit cannot be read.
    #[error("the unit cannot be read, so no content of an erased sector can be preserved")]
    CannotKeep,
    /// The unit states a block size of 0.
    #[error("the unit reports a block size of 0")]
    NoBlockSize,
    /// On this route the unit decides what is erased.
    #[error("on a {route} route the unit itself decides what is erased")]
    UnitDecides {
        /// The kind of route.
        route: String,
        /// The option that the route does not support.
        option: ErasesOption,
    },
    /// The plan is for another variant than the approval.
    #[error("the approval is for variant '{0}'")]
    OtherVariant(VariantId),
}

fn beside(regions: &[String]) -> String {
    if regions.is_empty() { String::new() } else { format!(": of {}", regions.join(" and ")) }
}
