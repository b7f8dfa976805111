//! Product sheets. [`Sheet::parse`] reads a sheet; its result has passed every check, so its
//! users need not check again.
//!
//! The format is specified in `docs/formats/product-sheet.md`.

mod entry_step;
mod ids;
mod manual_step;
mod model;
mod parse;
mod parse_any_file;
mod parse_completeness;
mod parse_header;
mod parse_manual_steps;
mod parse_programmers;
mod parse_routes;
mod parse_stages;
mod parse_table;
mod placed;
mod programmer;
mod raw;
mod raw_route;
mod raw_value;
mod region;
mod region_table;
mod route;
mod signs;
mod stage;
mod undescribed;

pub use entry_step::{EntryStep, Signal};
pub use ids::Ids;
pub use manual_step::{BusEvent, ManualStep, MistakeHints, Undo, UndoOrderError, UndoPhase, undo_order, undone};
pub use model::{
    AmbiguousLabel, Application, Companion, ExpectedDevice, Fact, HAND_OVER, ImageRules, LabelLocation, Mark, Part,
    Product, ReportedFlash, SerialPortUse, Sheet, SheetError, SheetErrors, Slots, Stage, Variant, VariantId,
    VersionSource,
};
pub use programmer::Programmer;
#[cfg(feature = "schema")]
pub(crate) use raw::schema::product_sheet;
pub use region::{BOOTLOADER, Region};
pub use region_table::{RegionTable, TableEntry, TableError, TableReport};
pub use route::{
    DialectRoute, Dialects, ExitMethod, FileForm, FileTarget, ResultFile, Route, RouteKind, UpdateMedium, VolumeRoute,
    WriteOrder,
};
pub use signs::{DescriptorCheck, DescriptorPattern, SerialPattern, SignKind};
pub use undescribed::SynthesisError;
