//! A named range of a variant's memory.

use vaka_image::address::Span;

use crate::settings_transfer::TransferableRegion;

/// A named range of flash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Region {
    /// Its name: `bootloader`, `application`, `settings`, …
    pub name: String,
    /// Its addresses.
    pub span: Span,
    /// What is known of its content, where it may be carried from unit to unit.
    pub transferable: Option<TransferableRegion>,
    /// Whether it may be read into a file.
    pub may_read: bool,
    /// Whether any route may write it.
    pub may_write: bool,
}
