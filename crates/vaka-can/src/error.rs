//! Why a CAN bus or its adapter cannot be used.

use thiserror::Error;
use vaka_usb::TransferError;

use crate::isotp::IsoTpError;

/// An error of the bus or the adapter.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum CanError {
    /// The adapter itself failed.
    #[error(transparent)]
    Adapter(#[from] TransferError),
    /// The device is not an adapter of this kind.
    #[error("the device is not a CAN adapter that the driver gs_usb knows: {0}")]
    NoAdapter(&'static str),
    /// The adapter cannot use this bit rate.
    #[error("the adapter cannot use {0} bit/s")]
    BitRate(u32),
    /// The adapter has no FD frames.
    #[error("the adapter, or its interface, has no FD frames")]
    NoFd,
    /// No node received a frame: no acknowledge bit was seen.
    #[error("no node on the bus acknowledges a frame")]
    NotAcknowledged,
    /// Frames are disturbed.
    #[error("the bus reports errors in frames ({0})")]
    Disturbed(&'static str),
    /// The adapter has left the bus after too many errors.
    #[error("the adapter went off the bus after too many errors")]
    BusOff,
    /// No frame in time.
    #[error("no frame within the time limit")]
    Timeout,
    /// The adapter lost received frames.
    #[error("the adapter lost received frames")]
    Overflow,
    /// A message of several frames is invalid.
    #[error(transparent)]
    IsoTp(#[from] IsoTpError),
}
