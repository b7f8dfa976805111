//! What stops the work on a unit: a typed kind, what is known of the unit, and typed remedies.
//!
//! Nothing here is a sentence. The program that runs the engines words each kind, so the enums of
//! this module, of [`remedy`](crate::remedy) and of [`warning`](crate::warning) are exhaustive: a
//! new variant does not compile without its sentence.

use std::time::Duration;

use vaka_core::dfu::Status;
use vaka_core::event::{Difference, ExitCode, FailureText};
use vaka_core::matching::Evidence;
use vaka_core::plan::PlanError;
use vaka_core::release::ImageError;
use vaka_core::sheet::{SynthesisError, VariantId};
use vaka_core::unit::UsbId;
use vaka_core::unit_state::UnitState;
use vaka_image::ReadError;
use vaka_image::address::{Address, Span};
use vaka_usb::{BusError, TransferError};

use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// What stopped the work on a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// The exit status.
    pub code: ExitCode,
    /// What happened, and where.
    pub kind: Box<FailureKind>,
    /// What is known of the unit; `None` if the failure says nothing about it.
    pub unit: Option<UnitCondition>,
    /// What the user can do, in order.
    pub remedies: Vec<Remedy>,
}

impl Failure {
    /// A failure of this kind, with the exit status of the kind.
    pub fn new(kind: FailureKind) -> Self {
        Self { code: kind.code(), kind: Box::new(kind), unit: None, remedies: Vec::new() }
    }

    /// Sets what is known of the unit.
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

    /// Nothing was changed in the unit.
    #[must_use]
    pub fn unchanged(self) -> Self {
        self.unit(UnitCondition::Unchanged)
    }

    /// The state of the unit that was worked on; `None` if there was none.
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

/// What is known of the unit when the work ends with a failure.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UnitCondition {
    /// No unit was worked on.
    NoUnit,
    /// Nothing was changed in the unit.
    Unchanged,
    /// Nothing was changed in the unit, and its application runs.
    UnchangedAndRunning,
    /// The device is another unit than the one that the run works on.
    OtherUnit,
    /// Another tool worked on the unit; the effect was not observed.
    ExternalTool,
    /// The state that the run derived from everything that it did.
    AfterRun(RunEffect),
}

/// The state of a unit at the end of a run, in numbers. Sizes are bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunEffect {
    /// The state.
    pub state: UnitState,
    /// Whether the unit was in update mode when it was last observed.
    pub in_update_mode: bool,
    /// Whether the run left the application unstarted.
    pub not_restarted: bool,
    /// Bytes of the image.
    pub image_bytes: u64,
    /// Bytes of the image that were accepted or were there before.
    pub present_bytes: u64,
    /// Bytes of the image that were compared and are equal.
    pub compared_bytes: u64,
    /// Names of the regions that the plan does not touch.
    pub untouched: Vec<String>,
}

/// What a session did when it failed.
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

/// What a step of the entry into update mode waited for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AwaitedEnd {
    /// The unit in update mode.
    UpdateMode,
    /// The unit leaves the bus.
    Gone,
    /// The unit comes back on the bus.
    Back,
    /// The user confirms the step.
    Acknowledged,
}

/// The last thing that happened on the port of a unit that should enter update mode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PortEvent {
    /// The application of the named unit kept running.
    KeptRunning(String),
    /// The unit left the bus and did not come back.
    Left,
    /// The application started again.
    ApplicationAgain {
        /// Whether a manual step came before.
        after_manual_step: bool,
    },
    /// Another device came.
    Other(OtherDevice),
}

/// A device that came where a unit in update mode was expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherDevice {
    /// The ids of the device.
    pub id: UsbId,
    /// What is known of it.
    pub known: KnownAs,
    /// What was expected, as ids or as a mode.
    pub expected: String,
}

/// What is known of a device that came instead of the expected one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KnownAs {
    /// Nothing.
    Unknown,
    /// Another update mode of this product.
    UpdateModeOf(String),
    /// A DFU mode that no sheet knows.
    DfuMode,
}

/// A unit that did not enter update mode in time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntryTimeout {
    /// What was looked for, as ids or as a mode.
    pub target: String,
    /// The name of the unit.
    pub name: String,
    /// Its port.
    pub place: String,
    /// What was waited for.
    pub awaited: AwaitedEnd,
    /// The manual step that was shown last.
    pub action: Option<String>,
    /// How long the wait lasted.
    pub waited: Duration,
    /// The device on the unit's port now.
    pub present: Option<String>,
    /// The last thing that happened on that port.
    pub last_event: PortEvent,
    /// Devices that came on other ports since the entry began.
    pub elsewhere: Vec<String>,
    /// What the operating system reports about the port.
    pub kernel_report: Option<String>,
}

/// A unit that was not there in time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingUnit {
    /// What was looked for.
    pub expected: String,
    /// The ids that it would show.
    pub ids: Vec<String>,
    /// How long the wait lasted; zero if there was none.
    pub waited: Duration,
    /// The devices that are there.
    pub present: Vec<String>,
    /// Why no device is there, if the bus can tell.
    pub empty_reason: Option<String>,
}

/// A unit that the file does not fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit {
    /// Where it is.
    pub place: String,
    /// Its product; `None` if no sheet knows it.
    pub product: Option<String>,
    /// What speaks against it.
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
        /// The label as it was given.
        label: String,
    },
    /// The file is for another variant, which this piece of evidence of the unit excludes.
    MadeFor {
        /// The variant that the file is for.
        variant: VariantId,
        /// What the unit shows instead.
        against: Box<Evidence>,
    },
}

/// Where the version came from that an update would lower.
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

/// What an application did not do when the host asked it for update mode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TriggerError {
    /// It shows no disk that could be ejected.
    NoDisk,
    /// The disk cannot be ejected.
    Eject(SessionError),
    /// It refused the request in this dialect.
    Dialect {
        /// The name of the dialect.
        dialect: String,
        /// Why.
        error: SessionError,
    },
    /// It did not detach.
    Detach(SessionError),
}

/// How an external step failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ExternalStepError {
    /// The bus did not show these ids in time.
    NotSeen {
        /// The ids.
        ids: String,
        /// How long the wait lasted.
        waited: Duration,
    },
    /// The user did not confirm that it ended well.
    NotConfirmed,
}

/// What stopped the work, and where. A variant has what its message needs.
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
    /// Another program holds the unit.
    Held { place: String, by: String },
    /// The descriptors of a unit cannot be read.
    NotIdentified { place: String, error: TransferError },
    /// The disk of a unit cannot be read.
    DiskUnreadable { place: String, error: SessionError },
    /// A unit does not answer in its dialect.
    DialectSilent { place: String, dialect: String, error: SessionError },

    /// No unit came in time.
    MissingUnit(MissingUnit),
    /// Several units fit, in one line each.
    SeveralUnits(Vec<String>),
    /// Several units are there, and the file fits none.
    NoUnitFits { count: usize, nearest: Vec<Misfit> },
    /// Another unit came on the port.
    OtherUnit { place: String, found: String, expected: String },
    /// The unit did not come back in time.
    NotReturned { place: String, waited: Duration },
    /// No sheet knows the device that came back after a reset.
    ReturnedUnknown,

    /// The sheets of a unit share its ids.
    SharedIds { products: Vec<String>, id: UsbId },
    /// No variant has this id or label.
    NoSuchLabel { text: String },
    /// Several products have a variant with this label.
    LabelInSeveralProducts { text: String },
    /// The label does not tell which variant the unit is.
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
    /// The image is older than what the unit holds.
    Older { against: Box<Evidence>, origin: VersionOrigin },
    /// A variant cannot be updated over USB.
    NoRoute { variant: String },
    /// There is no plan.
    NoPlan(PlanError),
    /// No region of this name can be preserved.
    NoRegionToKeep { name: String },
    /// An erase would take content beside the image that cannot be preserved.
    SharedSectors { bytes: u64, spans: Vec<Span> },
    /// The unit's memory is read-protected.
    ReadProtected { reason: String },
    /// The present content cannot be saved.
    CannotSave(SaveObstacle),

    /// No sheet knows the unit, and what it reports is not enough.
    Undescribed(SynthesisError),
    /// No sheet knows this device, and its application runs.
    NoSheet { id: UsbId },
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
    /// The application did not do what brings it into update mode.
    Trigger { place: String, error: TriggerError },

    /// A session could not be opened.
    NotOpened(SessionError),
    /// The unit lacks the interface that the route uses.
    NoInterface,
    /// The same, when the unit was brought into update mode once more.
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
    /// The application did not come back.
    NotBack { observed: String, status: Option<Status> },
    /// The application did not come back after the unit was read once more.
    NotBackAgain { observed: String },
    /// The unit was lost before it confirmed that the image is complete.
    LostAtEnd { observed: String },
    /// The unit left before it had taken the file.
    LostBeforeFile,
    /// The unit came back, and left again while it was read.
    LeftWhileRead,
    /// The unit's result file says that it refused the file.
    FileRefused { file: String, line: String },
    /// The application that the unit shows differs from the image, from this address on or where
    /// it ends.
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
    /// The unit gives its memory only as one stream from the beginning.
    StreamOnly,
    /// The board information of the unit names another variant than the user.
    OtherBoard { reported: VariantId, board: String, given: VariantId },
    /// A unit without a sheet came back in update mode.
    BackInUpdateMode { place: String },

    /// A stage of a release is an external step, and no user is there.
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
        match self {
            Self::Program(text) => text.code,
            Self::Internal(_) => ExitCode::Internal,
            Self::Stopped => ExitCode::Stopped,
            Self::AfterReturn { then, .. } => then.code(),
            Self::Bus(BusError::NotFound(_)) => ExitCode::NoUnit,
            Self::Bus(_) | Self::Held { .. } | Self::DiskMounted { .. } => ExitCode::Access,
            Self::Session { error: SessionError::Busy(_), .. } => ExitCode::Access,
            Self::MissingUnit(_)
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

    /// Whether a message of this kind includes the message of another.
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
        ReadError::Several(_) => ExitCode::Refused,
        _ => ExitCode::File,
    }
}
