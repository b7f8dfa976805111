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

impl Region {
    /// A region that may be read and written.
    pub fn new(name: impl Into<String>, span: Span) -> Self {
        Self { name: name.into(), span, transferable: None, may_read: true, may_write: true }
    }
}

/// The name of the region of the unit's own bootloader.
pub const BOOTLOADER: &str = "bootloader";
