//! Faults: scripted, so that they repeat.

use std::time::Duration;

/// Something that goes wrong at one transfer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// At which class, vendor or bulk transfer of the unit, counted from 1.
    pub at: u64,
    /// What goes wrong.
    pub kind: FaultKind,
}

/// What goes wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FaultKind {
    /// The transfer is refused, and the unit never sees it; a bulk endpoint is then
    /// halted.
    Stall,
    /// The transfer is never answered, and the unit never sees it.
    Timeout,
    /// The answer comes back with half of its bytes.
    Short,
    /// The cable is pulled, and plugged in again after a time, if one is given.
    Pull(Option<Duration>),
    /// The unit does what it was asked for, and its answer is lost.
    LostReply,
    /// The answer comes back with one byte changed.
    Garbled,
    /// The power fails for a time; the host gives the unit the same number as before.
    PowerFail(Duration),
}
