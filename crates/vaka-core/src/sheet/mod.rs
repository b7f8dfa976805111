//! The product sheet: what a maintainer knows of their product, written down
//! once. [`Sheet::parse`] reads it; what it returns has passed every check, so
//! nothing that uses a sheet needs to check it again.
//!
//! The format is specified in `docs/formats/product-sheet.md`.

mod hand;
mod ids;
mod model;
mod parse;
mod parse_completeness;
mod parse_hands;
mod parse_routes;
mod parse_stages;
mod raw;
mod region;
mod route;
mod signs;
mod stage;
mod undescribed;

pub use hand::{BusSign, HandStep, Impossible, Moment, Slips, Undo, undo_order, undone};
pub use ids::Ids;
pub use model::{
    Application, BOOTLOADER, Companion, Fact, HAND_OVER, ImageRules, LookAt, Mark, Part, Product, Sheet, SheetError,
    Shows, Stage, Undeciding, Variant, VariantId, VersionSource,
};
#[cfg(feature = "schema")]
pub(crate) use raw::schema::product_sheet;
pub use region::Region;
pub use route::{
    DialectRoute, Dialects, DropFile, EntryStep, FileForm, Leave, ResultFile, Route, RouteKind, Signal, Takes,
    VolumeRoute, WriteOrder,
};
pub use signs::{SerialForm, Sign, SignKind, Signs};
pub use undescribed::Undescribable;
