//! The one trait between the executor and the protocols.

use thiserror::Error;
use vaka_core::address::{Address, Span};
use vaka_core::memory::SectorMap;
use vaka_usb::TransferError;

use crate::pace::Pace;

/// What a unit in update mode can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Most bytes in one block; at least 1.
    pub block_size: u32,
    /// Whether its memory can be read.
    pub can_read: bool,
}

/// A unit in update mode, whatever it speaks.
///
/// After an error the unit's memory is as the calls before left it, except for
/// the sector or block of the call that failed, of which nothing is known.
pub trait Session {
    /// What it can do.
    fn limits(&self) -> Limits;

    /// The sectors that it reports, if it does.
    fn sectors(&self) -> Option<&SectorMap>;

    /// Erases one sector.
    ///
    /// # Errors
    /// The sector may be half erased.
    fn erase(&mut self, sector: Span, pace: &mut Pace<'_>) -> Result<(), SessionError>;

    /// Writes one block into erased memory; at most `block_size` bytes.
    ///
    /// # Errors
    /// The block may be half written.
    fn write(&mut self, at: Address, data: &[u8], pace: &mut Pace<'_>) -> Result<(), SessionError>;

    /// Reads exactly `len` bytes, at most `block_size`.
    ///
    /// # Errors
    /// Nothing was changed.
    fn read(&mut self, at: Address, len: u32, pace: &mut Pace<'_>) -> Result<Vec<u8>, SessionError>;

    /// Leaves update mode and starts at an address. A unit that vanishes
    /// while it is told to is not an error: that is what it was told.
    ///
    /// # Errors
    /// It refused, and is still in update mode.
    fn restart(&mut self, at: Address, pace: &mut Pace<'_>) -> Result<(), SessionError>;

    /// Leaves the unit ready for another program, still in update mode. Does
    /// what it can; a unit that is gone needs nothing.
    fn rest(&mut self, pace: &mut Pace<'_>);

    /// USB transfers so far.
    fn transfers(&self) -> u64;
}

/// Why a unit did not do what it was asked for.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum SessionError {
    /// The unit said no, and why.
    #[error("the unit refused: {reason}")]
    Refused {
        /// In the protocol's words, and the unit's own.
        reason: String,
    },
    /// The unit left the bus.
    #[error("the unit left the bus")]
    Gone,
    /// The unit does not answer, or stays busy.
    #[error("{0}")]
    Silent(String),
    /// The unit does not keep to the protocol.
    #[error("the unit does not keep to the protocol: {0}")]
    Misbehaved(String),
    /// The way to the unit failed.
    #[error("{0}")]
    Link(String),
}

impl From<TransferError> for SessionError {
    /// Of a stall only this much is known; ask the unit for the reason first
    /// where the protocol has a way to.
    fn from(error: TransferError) -> Self {
        match error {
            TransferError::Stall => Self::Refused { reason: "it gave no reason (stall)".into() },
            TransferError::Gone => Self::Gone,
            TransferError::Timeout => Self::Silent("the unit did not answer within the time limit".into()),
            TransferError::TooMuch => Self::Misbehaved("it sent more than was asked for".into()),
            other => Self::Link(other.to_string()),
        }
    }
}
