//! What a unit can take.

use vaka_dialect::{ChecksumScope, Dialect, EraseBy, Erases, OperationName, Order};

use crate::dfu::Attributes;
use crate::memory::SectorMap;

/// What the unit can take, as far as it is known.
#[derive(Clone, Copy, Debug)]
pub struct WriteLimits<'a> {
    /// The sectors that an erase takes.
    pub sectors: &'a SectorMap,
    /// Most bytes in one block; unknown before the unit is in update mode.
    pub block_size: Option<u32>,
    /// Whether it can be read back.
    pub can_read: bool,
    /// What its functional descriptor says; unknown before it is in update mode.
    pub attributes: Option<Attributes>,
    /// What its dialect offers, once the unit answered in it.
    pub offer: Option<DialectCapabilities>,
}

/// What a dialect offers on one unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DialectCapabilities {
    /// Chunks begin at multiples of this from the start of the flash; at least 1.
    pub align: u32,
    /// Whether the last chunk is filled up.
    pub pad: bool,
    /// In which order chunks go.
    pub order: Order,
    /// What an erase takes at once; `None` if there is no request to erase.
    pub erase: Option<EraseBy>,
    /// What the unit erases by itself when it is written.
    pub erases_itself: Option<Erases>,
    /// Whether the unit puts each chunk behind the one before, whatever its address.
    pub stream: bool,
    /// Of what the unit computes a checksum, if it does.
    pub check: Option<ChecksumScope>,
    /// Whether an equal checksum proves that nothing needs to be written.
    pub decides: bool,
    /// Whether it is told that it has all.
    pub ends: bool,
    /// Whether it can be told to start its application.
    pub restarts: bool,
    /// Whether it has to be told that it has all even if nothing was written, so that it leaves.
    pub needs_end: bool,
}

impl DialectCapabilities {
    /// What a dialect offers before the unit was asked; nothing is known of chunks.
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
