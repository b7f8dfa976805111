//! Warnings: typed values that do not end the work.

use std::time::Duration;

use vaka_base::version::Version;
use vaka_image::address::Address;

use crate::failure::{FailureKind, OtherDevice};
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// Why reading back proves nothing about the content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ReadBackDoubt {
    /// The unit returned different bytes from this address on.
    Differs(Address),
    /// It could not be read.
    Failed(Box<FailureKind>),
}

/// The version of a unit and that of its file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VersionPair {
    /// Reported by the unit.
    pub reported: Version,
    /// Taken from the file name.
    pub named: Version,
}

/// A warning; work continues.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the names of the fields say it
pub enum Warning {
    /// A warning of the program that runs the engines.
    Program(String),
    /// A stop was requested, and the unit is busy for at most this long.
    StoppingLater { left: Duration, waiting_for: String },
    /// The lock of the unit excludes only processes of this user; the reason, if there is one
    /// beside a folder that does not exist.
    OtherUsersNotExcluded { reason: Option<String> },
    /// The unit cannot be locked, so no other process is excluded.
    NotLocked { reason: String },
    /// An earlier attempt of the same request failed in another way.
    EarlierFailure(String),

    /// The unit was lost; the run waits for it.
    WaitingForReturn { failure: Box<FailureKind>, place: String },
    /// The unit returned on another port.
    Moved { place: String },
    /// A node left its bus, and its chip's boot mode appeared on a USB port.
    NodeOnUsb { place: String },
    /// A unit in update mode was attached on another port.
    OtherPort { place: String },
    /// The application started again instead of update mode; the sheet may have a hint.
    ApplicationAgain { hint: Option<String> },
    /// Another device was attached instead of update mode.
    OtherDevice { device: OtherDevice, hint: Option<String> },
    /// The unit's port has been empty for this long.
    EmptyPort { time: Duration, hint: Option<String>, kernel_report: Option<String> },
    /// A unit that does not respond may have damaged firmware; recovery steps follow.
    MaybeDamaged { product: String },
    /// A violation of the USB standard in the unit's descriptors.
    UnusualDescriptors { place: String, what: String },

    /// The unit waited for a reset of the bus, and got one.
    BusReset,
    /// The unit asks for a pause that is not believable.
    LongPollTimeout { asked: Duration, used: Duration },
    /// The unit refuses a block of the size that it advertises.
    BlockRefused { size: u32 },
    /// The unit advertises that it can be read, and refuses.
    ReadRefused { reason: String },
    /// The unit erases its whole memory, as the user consents.
    LiftingProtection,
    /// The unit's disk shows no file with its content.
    NoReadBackFile { file: String },
    /// The unit has the whole file and stays; its disk is ejected.
    EjectingAfterFile,
    /// The unit has all blocks and stays; its disk is ejected.
    EjectingAfterBlocks,
    /// Only a power cycle makes the unit leave update mode.
    PowerCycleNeeded,
    /// The request to leave update mode ended with an error.
    LeaveFailed(SessionError),
    /// The unit did not return to its application.
    NotReturnedToApplication { failure: Box<FailureKind>, remedies: Vec<Remedy> },

    /// The unit has no content to save.
    NothingToSave { is_blank: bool },
    /// Preserved content was read before the unit was lost; that content is written.
    PreservedEarlier,
    /// Reading back proves nothing about the content.
    ReadBackProvesNothing(ReadBackDoubt),
    /// The content differs before a reset; it is read again after one.
    DiffersBeforeReset,
    /// The unit could not be brought into update mode to be read.
    NotRead(Box<FailureKind>),
    /// The unit left no result file.
    NoResultFile { file: String },
    /// The result file reports neither success nor failure.
    UnclearResult { file: String, line: String },
    /// The application that the unit shows could not be read.
    ShownFileUnreadable { file: String, error: SessionError },
    /// The unit shows no application in this file.
    NoApplicationShown { file: String },

    /// The bus does not show yet that a manual step was undone.
    UndoNotSeen { action: String },
    /// No operator was available to confirm the visible signs.
    NotAsked { expected: String },
    /// The application's serial port cannot be used.
    SerialPort(SessionError),
    /// The unit reports another version than the file's name.
    OtherVersion(VersionPair),

    /// A stage of a release can be planned only after the one before.
    StageNotPlanned { stage: String },
}
