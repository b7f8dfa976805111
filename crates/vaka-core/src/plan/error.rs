//! Why no plan can be made.

use thiserror::Error;
use vaka_image::address::Span;

use crate::sheet::VariantId;

/// A request about what is erased, which only some routes can follow.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ErasesOption {
    /// Preserve regions that share a sector with the image.
    Keep,
    /// Erase everything that may be erased.
    EraseAll,
}

/// Why no plan can be made.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlanError {
    /// The unit's sectors do not cover the image.
    #[error("the unit has no sector for all of {0}")]
    NoSector(Span),
    /// An erase would take bytes of a region that the route may not write.
    #[error("erasing the sector {sector} would erase a part of what lies beside the regions that may be written{}", beside(.regions))]
    Spills {
        /// The sector.
        sector: Span,
        /// The regions that could be kept.
        regions: Vec<String>,
    },
    /// What is to be kept must be read first.
    #[error("the unit cannot be read, so nothing in a sector that is erased can be kept")]
    CannotKeep,
    /// The unit takes blocks of no bytes.
    #[error("the unit says that it takes blocks of 0 bytes")]
    NoBlockSize,
    /// The unit decides what is erased on this route.
    #[error("on a {route} route the unit itself decides what is erased")]
    UnitDecides {
        /// The kind of route.
        route: String,
        /// The request that has no meaning there.
        option: ErasesOption,
    },
    /// The plan is for another variant than the approval.
    #[error("the approval is for variant '{0}'")]
    OtherVariant(VariantId),
}

fn beside(regions: &[String]) -> String {
    if regions.is_empty() { String::new() } else { format!(": of {}", regions.join(" and ")) }
}
