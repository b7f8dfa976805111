//! Faults: scripted, so that they repeat.

use std::time::Duration;

/// A fault at one transfer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// At which class, vendor or bulk transfer of the unit, counted from 1.
    pub at: u64,
    /// The kind of fault.
    pub kind: FaultKind,
}

/// The kind of a fault.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FaultKind {
    /// The transfer is refused, and the unit never sees it; a bulk endpoint is then
    /// halted.
    Stall,
    /// The transfer is never answered, and the unit never sees it.
    Timeout,
    /// The reply has half of its bytes.
    Short,
    /// The cable is unplugged, and plugged in again after a time, if one is given.
    Pull(Option<Duration>),
    /// The unit executes the request, and its reply is lost.
    LostReply,
    /// One byte of the reply is changed.
    Garbled,
    /// The power fails for a time; the host assigns the same device number as before.
    PowerFail(Duration),
}
