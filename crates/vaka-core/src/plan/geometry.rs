//! The write limits of a unit.

use vaka_dialect::{ChecksumScope, Dialect, EraseBy, Erases, OperationName, Order};

use crate::dfu::Attributes;
use crate::memory::SectorMap;

/// The write limits of a unit, as far as they are known.
#[derive(Clone, Copy, Debug)]
pub struct WriteLimits<'a> {
    /// The erase sectors.
    pub sectors: &'a SectorMap,
    /// Maximum size of a block in bytes; unknown before update mode.
    pub block_size: Option<u32>,
    /// Whether the unit can be read back.
    pub can_read: bool,
    /// Attributes of its functional descriptor; unknown before update mode.
    pub attributes: Option<Attributes>,
    /// Capabilities of its dialect, once the unit replied in it.
    pub offer: Option<DialectCapabilities>,
}

/// The capabilities of a dialect on one unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DialectCapabilities {
    /// Chunks begin at multiples of this from the start of the flash; at least 1.
    pub align: u32,
    /// Whether the last chunk is padded.
    pub pad: bool,
    /// The order of chunks.
    pub order: Order,
    /// The granularity of an erase; `None` if there is no erase request.
    pub erase: Option<EraseBy>,
    /// The sectors that the unit erases by itself when it is written.
    pub erases_itself: Option<Erases>,
    /// Whether the unit appends each chunk to the previous one, regardless of its address.
    pub stream: bool,
    /// The scope of the unit's checksum, if it computes one.
    pub check: Option<ChecksumScope>,
    /// Whether an equal checksum proves that nothing needs to be written.
    pub decides: bool,
    /// Whether it has an end operation.
    pub ends: bool,
    /// Whether it has a restart operation.
    pub restarts: bool,
    /// Whether `end` must run even if nothing was written, so that the unit leaves update mode.
    pub needs_end: bool,
}

impl DialectCapabilities {
    /// The capabilities before the unit has replied; chunk sizes are unknown.
    pub fn of(dialect: &Dialect) -> Self {
        Self {
            align: 1,
            pad: dialect.geometry.pad,
            order: dialect.geometry.order,
            erase: dialect.erases_by(),
            erases_itself: dialect.erases_itself(),
            stream: dialect.geometry.stream,
            check: dialect.checksum().map(|checksum| checksum.over),
            decides: dialect.checksum().is_some_and(|checksum| checksum.decides),
            ends: dialect.operation(OperationName::End).is_some(),
            restarts: dialect.operation(OperationName::Restart).is_some(),
            needs_end: dialect.operation(OperationName::Restart).is_none_or(|restart| restart.needs_end),
        }
    }
}
