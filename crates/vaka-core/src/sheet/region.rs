//! A named range of a variant's memory.

use vaka_image::address::Span;

use crate::settings_transfer::TransferableRegion;

/// A named range of flash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Region {
    /// Name: `bootloader`, `application`, `settings`, …
    pub name: String,
    /// Address range.
    pub span: Span,
    /// The description of its content, if it can be transferred between units.
    pub transferable: Option<TransferableRegion>,
    /// Whether it may be read.
    pub may_read: bool,
    /// Whether a route may write it.
    pub may_write: bool,
}
