//! Failures: a typed kind, the condition of the unit, and typed remedies.
//!
//! This module contains no sentences. The program words each kind, so the enums here, in
//! [`remedy`](crate::remedy) and in [`warning`](crate::warning) are exhaustive: a new variant
//! does not compile without its sentence.

use std::time::Duration;

use vaka_core::dfu::Status;
use vaka_core::event::{Difference, ExitCode, FailureText};
use vaka_core::matching::Evidence;
use vaka_core::plan::PlanError;
use vaka_core::release::ImageError;
use vaka_core::sheet::{SynthesisError, VariantId};
use vaka_core::unit::DeviceId;
use vaka_core::unit::PropertyValue;
use vaka_core::unit_state::UnitState;
use vaka_image::ReadError;
use vaka_image::address::{Address, Span};
use vaka_usb::{BusError, TransferError};

use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// A failure that ends the work on a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The exit status.
    pub code: ExitCode,
    /// Cause and location.
    pub kind: Box<FailureKind>,
    /// The condition of the unit; `None` if the failure does not concern one.
    pub unit: Option<UnitCondition>,
    /// Remedies for the user, in order.
    pub remedies: Vec<Remedy>,
}

impl Failure {
    /// A failure of this kind, with the exit status of the kind.
    pub fn new(kind: FailureKind) -> Self {
        Self { code: kind.code(), kind: Box::new(kind), unit: None, remedies: Vec::new() }
    }

    /// Sets the condition of the unit.
    #[must_use]
    pub fn unit(mut self, unit: UnitCondition) -> Self {
        self.unit = Some(unit);
        self
    }

    /// Adds a remedy.
    #[must_use]
    pub fn remedy(mut self, remedy: Remedy) -> Self {
        self.remedies.push(remedy);
        self
    }

    /// Sets the condition: nothing was changed in the unit.
    #[must_use]
    pub fn unchanged(self) -> Self {
        self.unit(UnitCondition::Unchanged)
    }

    /// The state of the unit; `None` if no unit was in use.
    pub fn unit_state(&self) -> Option<UnitState> {
        match &self.unit {
            Some(UnitCondition::AfterRun(effect)) => Some(effect.state),
            _ => None,
        }
    }
}

/// A failure of the program that runs the engines, which has its sentences already.
impl From<FailureText> for Failure {
    fn from(text: FailureText) -> Self {
        Self { code: text.code, ..Self::new(FailureKind::Program(text)) }
    }
}

/// The condition of the unit when the work ends with a failure.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UnitCondition {
    /// No unit was in use.
    NoUnit,
    /// Nothing was changed in the unit.
    Unchanged,
    /// Nothing was changed in the unit, and its application runs.
    UnchangedAndRunning,
    /// The device is another unit than the one that the run works on.
    OtherUnit,
    /// An external tool worked on the unit; the effect was not observed.
    ExternalTool,
    /// The state that the run derived from everything that it did.
    AfterRun(RunEffect),
}

/// The state of a unit at the end of a run, in numbers. Sizes are bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunEffect {
    /// The state.
    pub state: UnitState,
    /// Whether the unit was in update mode when last observed.
    pub in_update_mode: bool,
    /// Whether the run left the application unstarted.
    pub not_restarted: bool,
    /// Bytes of the image.
    pub image_bytes: u64,
    /// Bytes of the image that were accepted or already present.
    pub present_bytes: u64,
    /// Bytes of the image that were compared and are equal.
    pub compared_bytes: u64,
    /// Names of the regions that the plan does not touch.
    pub untouched: Vec<String>,
}

/// The activity during which a session failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Activity {
    Opening,
    Probing,
    Reading(Address),
    AskingForChecksum(Address),
    Comparing(Address),
    Erasing(Address),
    ErasingAll(Address),
    BeginningToWrite(Address),
    Writing(Address),
    ReadingBack(Address),
    Finishing(Address),
}

/// The awaited event of an entry step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AwaitedEnd {
    /// The unit in update mode.
    UpdateMode,
    /// The unit leaves the bus.
    Gone,
    /// The unit returns to the bus.
    Back,
    /// The user confirms the step.
    Acknowledged,
}

/// The last event on the port of a unit during entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PortEvent {
    /// The application of the named unit kept running.
    KeptRunning(String),
    /// The unit was detached and did not return.
    Left,
    /// The application started again.
    ApplicationAgain {
        /// Whether it followed a manual step.
        after_manual_step: bool,
    },
    /// Another device was attached.
    Other(OtherDevice),
}

/// A device that was attached instead of a unit in update mode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherDevice {
    /// The ids of the device.
    pub id: DeviceId,
    /// The identification of the device.
    pub known: KnownAs,
    /// The expected ids or mode.
    pub expected: String,
}

/// The identification of a device that was attached instead of the expected one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KnownAs {
    /// Unknown.
    Unknown,
    /// Another update mode of this product.
    UpdateModeOf(String),
    /// A DFU mode without a sheet.
    DfuMode,
}

/// A unit that did not enter update mode in time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntryTimeout {
    /// The expected ids or mode.
    pub target: String,
    /// The name of the unit.
    pub name: String,
    /// Port.
    pub place: String,
    /// The awaited event.
    pub awaited: AwaitedEnd,
    /// The manual step that was shown last.
    pub action: Option<String>,
    /// Duration of the wait.
    pub waited: Duration,
    /// The device on the unit's port now.
    pub present: Option<String>,
    /// The last event on that port.
    pub last_event: PortEvent,
    /// Devices attached on other ports since the entry started.
    pub elsewhere: Vec<String>,
    /// The kernel's message about the port.
    pub kernel_report: Option<String>,
}

/// A unit that did not appear in time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingUnit {
    /// The expected unit.
    pub expected: String,
    /// The ids that it would show.
    pub ids: Vec<String>,
    /// Duration of the wait; zero if there was none.
    pub waited: Duration,
    /// The attached devices.
    pub present: Vec<String>,
    /// Why no device is attached, if the bus can tell.
    pub empty_reason: Option<String>,
}

/// A unit that the file does not fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// Location.
    pub place: String,
    /// Product; `None` without a sheet.
    pub product: Option<String>,
    /// The reason against it.
    pub against: String,
}

/// Why a verdict refuses an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RefusalReason {
    /// The evidence leaves it open.
    Undecided,
    /// This piece of evidence speaks against it.
    Evidence(Box<Evidence>),
    /// The unit and the file agree; the label that the user read names another variant.
    LabelAlone {
        /// The variant of unit and file.
        variant: VariantId,
        /// The label as given.
        label: String,
    },
    /// The file is for another variant, which this piece of evidence of the unit excludes.
    MadeFor {
        /// The variant that the file is for.
        variant: VariantId,
        /// The conflicting report of the unit.
        against: Box<Evidence>,
    },
}

/// The source of the version that an update would lower.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum VersionOrigin {
    /// The unit's flash.
    Flash,
    /// An earlier update, by the journal.
    Journal,
}

/// Why the present content cannot be saved.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SaveObstacle {
    /// The unit cannot be read.
    Unreadable,
    /// Reading it failed.
    ReadFailed,
}

/// Why a host signal did not bring an application into update mode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TriggerError {
    /// It has no disk to eject.
    NoDisk,
    /// The disk cannot be ejected.
    Eject(SessionError),
    /// It rejected the request in this dialect.
    Dialect {
        /// The name of the dialect.
        dialect: String,
        /// The error.
        error: SessionError,
    },
    /// It did not detach.
    Detach(SessionError),
}

/// Why an external step failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ExternalStepError {
    /// The bus did not show these ids in time.
    NotSeen {
        /// The ids.
        ids: String,
        /// Duration of the wait.
        waited: Duration,
    },
    /// The user did not confirm that it ended well.
    NotConfirmed,
}

/// The kind of a failure, with the data of its message.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the names of the fields say it: a place is a port, a reason the unit's words
pub enum FailureKind {
    /// A failure of the program that runs the engines.
    Program(FailureText),
    /// A fault of these engines.
    Internal(String),
    /// The user stopped the run.
    Stopped,
    /// A later attempt of the same run failed too.
    AfterReturn { first: Box<FailureKind>, then: Box<FailureKind> },

    /// A bus or a device on it cannot be used.
    Bus(BusError),
    /// Another program uses the unit.
    Held { place: String, by: String },
    /// The descriptors of a unit cannot be read.
    NotIdentified { place: String, error: TransferError },
    /// The disk of a unit cannot be read.
    DiskUnreadable { place: String, error: SessionError },
    /// A unit does not reply in its dialect.
    DialectSilent { place: String, dialect: String, error: SessionError },

    /// No unit appeared in time.
    MissingUnit(MissingUnit),
    /// Several units fit, in one line each.
    SeveralUnits(Vec<String>),
    /// Several units are attached, and the file fits none.
    NoUnitFits { count: usize, nearest: Vec<Misfit> },
    /// Another unit is on the port.
    OtherUnit { place: String, found: String, expected: String },
    /// The unit did not return in time.
    NotReturned { place: String, waited: Duration },
    /// The device that returned after a reset has no sheet.
    ReturnedUnknown,

    /// The sheets of a unit share its ids.
    SharedIds { products: Vec<String>, id: DeviceId },
    /// No variant has this id or label.
    NoSuchLabel { text: String },
    /// Several products have a variant with this label.
    LabelInSeveralProducts { text: String },
    /// The label does not determine the variant.
    AmbiguousLabel { reads: String, place: String, why: String },
    /// Two labels name two variants.
    LabelsDisagree { first: (String, String), second: (String, String) },
    /// The evidence leaves several variants, and no label was given.
    Undecided,
    /// The variant of an external step is not known.
    VariantUnknown,

    /// The file is a raw binary, and no address was given.
    NoAddress,
    /// The file is not an image.
    File(ReadError),
    /// The verdict refuses the image.
    Refused(RefusalReason),
    /// The image is older than the version in the unit.
    Older { against: Box<Evidence>, origin: VersionOrigin },
    /// A variant cannot be updated over USB.
    NoRoute { variant: String },
    /// No plan is possible.
    NoPlan(PlanError),
    /// No region of this name can be preserved.
    NoRegionToKeep { name: String },
    /// The unit selects none of the regions that its route can write.
    NoSlot { property: String, reported: Option<PropertyValue>, known: Vec<String> },
    /// An erase would destroy content next to the image that cannot be preserved.
    SharedSectors { bytes: u64, spans: Vec<Span> },
    /// The unit's memory is read-protected.
    ReadProtected { reason: String },
    /// The present content cannot be saved.
    CannotSave(SaveObstacle),

    /// The unit has no sheet, and its own description is not sufficient.
    Undescribed(SynthesisError),
    /// The device has no sheet, and its application runs.
    NoSheet { id: DeviceId },
    /// The device that the user named has no sheet.
    NamedWithoutSheet { id: DeviceId, place: String },
    /// A programmer reaches no chip.
    NoTarget { place: String, programmer: String, error: SessionError },
    /// A programmer cannot leave a chip in update mode.
    HeldOnlyForWork { programmer: String },
    /// The route leads through a programmer, and the user did not name it.
    NeedsProgrammer { programmer: String },
    /// A unit without a sheet reports its abilities only in DFU mode.
    PlanNeedsDfuMode,
    /// The application of a unit without a sheet runs.
    UndescribedRunning,

    /// The unit did not enter update mode.
    EntryTimeout(Box<EntryTimeout>),
    /// The operating system has the disk of the application mounted.
    DiskMounted { place: String, folder: String },
    /// The application has no run-time DFU interface.
    NoDetachInterface { place: String },
    /// The host signal did not bring the application into update mode.
    Trigger { place: String, error: TriggerError },

    /// A session could not be opened.
    NotOpened(SessionError),
    /// The unit lacks the interface that the route uses.
    NoInterface,
    /// The same, when the unit re-entered update mode.
    NoInterfaceAgain,
    /// A step of a session failed.
    Session { activity: Activity, error: SessionError },
    /// The same, for a command that only reads; the unit is named.
    ReadSession { place: String, activity: Activity, error: SessionError },
    /// The content differs after writing.
    Differs(Difference),
    /// The unit's own checksum of these bytes is another one.
    ChecksumDiffers { span: Span },
    /// The unit refused to leave update mode.
    NotLeft(SessionError),
    /// The application did not return.
    NotBack { observed: String, status: Option<Status> },
    /// The application did not return after the second update mode.
    NotBackAgain { observed: String },
    /// The unit was lost before it confirmed that the image is complete.
    LostAtEnd { observed: String },
    /// The unit disconnected before it had accepted the file.
    LostBeforeFile,
    /// The unit returned and disconnected again while it was read.
    LeftWhileRead,
    /// The unit's result file reports that it refused the file.
    FileRefused { file: String, line: String },
    /// The application that the unit shows differs from the image, from this address on or at its
    /// end.
    ShownDiffers { file: String, bytes: u64, from: Option<Address> },

    /// The unit shows several memories, or none.
    NoSuchMemory { place: String },
    /// The variant has no region of this name.
    NoSuchRegion { name: String },
    /// The unit reports that it cannot be read.
    NotReadable { place: String },
    /// The unit shows no application.
    NoApplication { place: String },
    /// The unit refuses to be read.
    ReadRefused { reason: String },
    /// The sheet does not allow this region to be read.
    RegionNotReadable { region: String, span: Span },
    /// The unit's memory is readable only as one stream from the beginning.
    StreamOnly,
    /// The board information of the unit names another variant than the user.
    OtherBoard { reported: VariantId, board: String, given: VariantId },
    /// A unit without a sheet returned in update mode.
    BackInUpdateMode { place: String },

    /// A stage of a release is an external step, which requires an operator.
    NeedsUser { stage: String },
    /// The sheet does not describe this stage.
    NoSuchStage { stage: String, product: String },
    /// An image of a release is damaged.
    ReleaseImage(ImageError),
    /// The release has no image for these variants.
    NoImageFor { variants: Vec<String> },
    /// A stage has no image for this variant.
    NoStageImage { stage: String, variant: String },
    /// An external step did not end well.
    ExternalStep { stage: String, tool: String, error: ExternalStepError },
}

impl FailureKind {
    /// The exit status of a run that ends with this kind of failure.
    pub fn code(&self) -> ExitCode {
        if self.session_error() == Some(&SessionError::Stopped) {
            return ExitCode::Stopped;
        }
        if let Some(SessionError::SecretMissing { .. }) = self.session_error() {
            return ExitCode::Refused;
        }
        match self {
            Self::Program(text) => text.code,
            Self::Internal(_) => ExitCode::Internal,
            Self::Stopped => ExitCode::Stopped,
            Self::AfterReturn { then, .. } => then.code(),
            Self::Bus(BusError::NotFound(_)) => ExitCode::NoUnit,
            Self::Bus(_) | Self::Held { .. } | Self::DiskMounted { .. } => ExitCode::Access,
            Self::Session { error: SessionError::Busy(_), .. } => ExitCode::Access,
            Self::MissingUnit(_)
            | Self::NoTarget { .. }
            | Self::OtherUnit { .. }
            | Self::NotReturned { .. }
            | Self::ReturnedUnknown
            | Self::EntryTimeout(_) => ExitCode::NoUnit,
            Self::NoRegionToKeep { .. } | Self::NoSuchRegion { .. } => ExitCode::Usage,
            Self::File(error) => file_code(error),
            Self::NoSuchStage { .. } | Self::ReleaseImage(_) => ExitCode::File,
            Self::Differs(_) | Self::ChecksumDiffers { .. } | Self::ShownDiffers { .. } => ExitCode::Differs,
            Self::NotLeft(_) | Self::NotBack { .. } | Self::NotBackAgain { .. } | Self::BackInUpdateMode { .. } => {
                ExitCode::NotBack
            }
            Self::NotIdentified { .. }
            | Self::DiskUnreadable { .. }
            | Self::DialectSilent { .. }
            | Self::Trigger { .. }
            | Self::NotOpened(_)
            | Self::NoInterface
            | Self::NoInterfaceAgain
            | Self::Session { .. }
            | Self::ReadSession { .. }
            | Self::LostAtEnd { .. }
            | Self::LostBeforeFile
            | Self::LeftWhileRead
            | Self::FileRefused { .. }
            | Self::ExternalStep { .. } => ExitCode::Transfer,
            Self::SeveralUnits(_)
            | Self::NoUnitFits { .. }
            | Self::SharedIds { .. }
            | Self::NoSuchLabel { .. }
            | Self::LabelInSeveralProducts { .. }
            | Self::AmbiguousLabel { .. }
            | Self::LabelsDisagree { .. }
            | Self::Undecided
            | Self::VariantUnknown
            | Self::NoSlot { .. }
            | Self::NoAddress
            | Self::Refused(_)
            | Self::Older { .. }
            | Self::NoRoute { .. }
            | Self::NoPlan(_)
            | Self::SharedSectors { .. }
            | Self::ReadProtected { .. }
            | Self::CannotSave(_)
            | Self::Undescribed(_)
            | Self::NoSheet { .. }
            | Self::NamedWithoutSheet { .. }
            | Self::NeedsProgrammer { .. }
            | Self::HeldOnlyForWork { .. }
            | Self::PlanNeedsDfuMode
            | Self::UndescribedRunning
            | Self::NoDetachInterface { .. }
            | Self::NoSuchMemory { .. }
            | Self::NotReadable { .. }
            | Self::NoApplication { .. }
            | Self::ReadRefused { .. }
            | Self::RegionNotReadable { .. }
            | Self::StreamOnly
            | Self::OtherBoard { .. }
            | Self::NeedsUser { .. }
            | Self::NoImageFor { .. }
            | Self::NoStageImage { .. } => ExitCode::Refused,
        }
    }

    /// The error of the unit that caused it.
    fn session_error(&self) -> Option<&SessionError> {
        match self {
            Self::Trigger {
                error: TriggerError::Eject(error) | TriggerError::Dialect { error, .. } | TriggerError::Detach(error),
                ..
            }
            | Self::DiskUnreadable { error, .. }
            | Self::DialectSilent { error, .. }
            | Self::NotOpened(error)
            | Self::Session { error, .. }
            | Self::ReadSession { error, .. }
            | Self::NotLeft(error) => Some(error),
            _ => None,
        }
    }

    /// Whether the message of this kind includes that of `other`.
    pub(crate) fn includes(&self, other: &Self) -> bool {
        match self {
            Self::AfterReturn { first, then } => first.includes(other) || then.includes(other),
            own => own == other,
        }
    }
}

fn file_code(error: &ReadError) -> ExitCode {
    match error {
        ReadError::AddressNotWanted(_) | ReadError::NotThere(_) => ExitCode::Usage,
        ReadError::Several(_) | ReadError::NoAddress => ExitCode::Refused,
        ReadError::InFile { error, .. } => file_code(error),
        _ => ExitCode::File,
    }
}
