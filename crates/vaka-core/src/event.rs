//! Events: the single stream that reports all work.
//!
//! Engines emit events; the program adds the time and prints them as text or JSON Lines, or
//! records them in the journal. Engines emit failures and warnings as typed values;
//! [`Event::with_words`] replaces them with sentences before an event leaves the program.

use std::time::Duration;

use std::sync::Arc;

use serde::Serialize;

use crate::attached_unit::AttachedUnit;
use crate::matching::{Evidence, Phase, Verdict};
use crate::plan::Plan;
use crate::sheet::{ManualStep, Undo, VariantId};
use crate::unit::DeviceId;
use crate::unit_state::UnitState;
use vaka_base::version::Version;
use vaka_image::address::{Address, Span};

/// A report of one observation, decision or piece of work.
///
/// `F` is the type of a failure and `W` the type of a warning: typed values inside the engine,
/// sentences (the defaults) in the program's output.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema), schemars(rename = "Event"))]
#[serde(tag = "event", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Event<F = FailureText, W = String> {
    /// A unit is attached.
    Attached(Box<AttachedUnit>),
    /// A unit was detached from the bus.
    Detached {
        /// The unit's former location.
        unit: String,
        /// The unit's USB ids.
        id: DeviceId,
    },
    /// The connection to a unit was lost in the middle of an attempt, which resumes if the unit
    /// returns in time.
    Lost {
        /// The unit's location.
        unit: String,
        /// Time until the attempt gives up, in milliseconds.
        left_ms: u64,
    },
    /// One observation of unit or image.
    Evidence {
        /// The unit's location; none if only a file was judged.
        #[serde(skip_serializing_if = "Option::is_none")]
        unit: Option<String>,
        /// The observation.
        #[serde(flatten)]
        evidence: Evidence,
    },
    /// A verdict with all its evidence.
    Verdict {
        /// The unit's location; none if only a file was judged.
        #[serde(skip_serializing_if = "Option::is_none")]
        unit: Option<String>,
        /// The verdict.
        #[serde(flatten)]
        verdict: Verdict,
    },
    /// The complete plan.
    Plan {
        /// The unit's location.
        unit: String,
        /// The phase of the verdict that the plan follows from.
        phase: Phase,
        /// The plan.
        #[serde(flatten)]
        plan: Plan,
    },
    /// The release that was selected and verified.
    Release(SelectedRelease),
    /// The state of one stage of a release.
    Stage {
        /// The stage's number, from 1.
        number: usize,
        /// The number of stages.
        of: usize,
        /// The stage's name.
        name: String,
        /// A summary in one line.
        text: String,
        /// The progress of the stage.
        state: StageState,
    },
    /// A verified file was exported for an external tool.
    Exported {
        /// Path of the file.
        file: String,
        /// SHA-256 of the file, in hex.
        sha256: String,
        /// The external tool.
        tool: String,
    },
    /// A step starts or is done.
    Step {
        /// The unit's location.
        unit: String,
        /// The step.
        step: StepName,
        /// Whether the step starts or is done.
        state: StepState,
        /// The action, in one line.
        text: String,
        /// Bytes that the step covers.
        #[serde(skip_serializing_if = "Option::is_none")]
        bytes: Option<u64>,
        /// USB transfers used, once the step is done.
        #[serde(skip_serializing_if = "Option::is_none")]
        transfers: Option<u64>,
    },
    /// A step that the user performs.
    ManualStep {
        /// The unit's location.
        unit: String,
        /// The step's number, from 1.
        number: usize,
        /// The number of manual steps.
        of: usize,
        /// The step.
        #[serde(flatten)]
        step: ManualStep,
    },
    /// The manual steps of a unit that the user has still to undo; emitted when the list changes.
    PendingUndo {
        /// The unit's location.
        unit: String,
        /// The undo actions, in order. Empty once all are done.
        steps: Vec<String>,
    },
    /// The run waits; emitted repeatedly meanwhile.
    Waiting {
        /// The awaited event.
        waiting_for: String,
        /// Time until the deadline in milliseconds, if there is one.
        left_ms: Option<u64>,
    },
    /// Progress of a step in bytes.
    Progress {
        /// The unit's location.
        unit: Arc<str>,
        /// The step.
        step: StepName,
        /// The region.
        region: Arc<str>,
        /// Bytes done.
        done: u64,
        /// Total bytes.
        total: u64,
    },
    /// A warning; work continues.
    Warning {
        /// The warning.
        text: W,
    },
    /// A frame that does not match its dialect, field by field.
    Frame {
        /// The exchange that the frame belongs to.
        exchange: String,
        /// The first mismatch.
        problem: String,
        /// All fields of the frame.
        fields: Vec<FrameField>,
    },
    /// A finding about this machine or its bench.
    Finding(Finding),
    /// The failure that ended the work.
    Error(F),
    /// The last event of an update.
    Result(Box<Report>),
}

impl<F, W> Event<F, W> {
    /// Converts the failure or warning that the event holds to sentences.
    pub fn with_words(self, failure: impl FnOnce(F) -> FailureText, warning: impl FnOnce(W) -> String) -> Event {
        match self {
            Self::Error(value) => Event::Error(failure(value)),
            Self::Warning { text } => Event::Warning { text: warning(text) },
            Self::Attached(unit) => Event::Attached(unit),
            Self::Detached { unit, id } => Event::Detached { unit, id },
            Self::Lost { unit, left_ms } => Event::Lost { unit, left_ms },
            Self::Evidence { unit, evidence } => Event::Evidence { unit, evidence },
            Self::Verdict { unit, verdict } => Event::Verdict { unit, verdict },
            Self::Plan { unit, phase, plan } => Event::Plan { unit, phase, plan },
            Self::Release(release) => Event::Release(release),
            Self::Stage { number, of, name, text, state } => Event::Stage { number, of, name, text, state },
            Self::Exported { file, sha256, tool } => Event::Exported { file, sha256, tool },
            Self::Step { unit, step, state, text, bytes, transfers } => {
                Event::Step { unit, step, state, text, bytes, transfers }
            }
            Self::ManualStep { unit, number, of, step } => Event::ManualStep { unit, number, of, step },
            Self::PendingUndo { unit, steps } => Event::PendingUndo { unit, steps },
            Self::Waiting { waiting_for, left_ms } => Event::Waiting { waiting_for, left_ms },
            Self::Progress { unit, step, region, done, total } => Event::Progress { unit, step, region, done, total },
            Self::Frame { exchange, problem, fields } => Event::Frame { exchange, problem, fields },
            Self::Finding(finding) => Event::Finding(finding),
            Self::Result(report) => Event::Result(report),
        }
    }
}

/// A finding about a machine and its bench.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Finding {
    /// The topic in one word: `usb`, `rights`, `driver`, …
    pub topic: &'static str,
    /// The object examined: a bus, a location, a file.
    pub about: String,
    /// How serious the finding is.
    pub severity: Severity,
    /// The finding.
    pub message: String,
    /// The remedy.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

/// How serious a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// No action is needed.
    Ok,
    /// Possibly relevant.
    Note,
    /// An obstacle to updates.
    Problem,
}

impl Finding {
    /// A finding that needs no action.
    pub fn ok(topic: &'static str, about: impl Into<String>, message: impl Into<String>) -> Self {
        Self { topic, about: about.into(), severity: Severity::Ok, message: message.into(), remedy: None }
    }

    /// A finding that may be relevant.
    pub fn note(topic: &'static str, about: impl Into<String>, message: impl Into<String>) -> Self {
        Self { severity: Severity::Note, ..Self::ok(topic, about, message) }
    }

    /// An obstacle to updates.
    pub fn problem(topic: &'static str, about: impl Into<String>, message: impl Into<String>) -> Self {
        Self { severity: Severity::Problem, ..Self::ok(topic, about, message) }
    }

    /// Adds the remedy.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
}

/// One field of a received frame.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FrameField {
    /// The field as the dialect writes it.
    pub field: String,
    /// The received bytes, as hex pairs.
    pub bytes: String,
    /// The decoded value, or the expected one.
    pub meaning: String,
    /// Whether this field does not match.
    pub is_mismatch: bool,
}

/// The name of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // documented at the steps of the plan
pub enum StepName {
    Enter,
    Identify,
    Read,
    Compare,
    Erase,
    Write,
    Finish,
    ReadBack,
    DeviceCheck,
    Restart,
    Confirm,
}

impl StepName {
    /// The name as text output shows it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Enter => "enter",
            Self::Identify => "identify",
            Self::Read => "read",
            Self::Compare => "compare",
            Self::Erase => "erase",
            Self::Write => "write",
            Self::Finish => "finish",
            Self::ReadBack => "read back",
            Self::DeviceCheck => "check",
            Self::Restart => "restart",
            Self::Confirm => "confirm",
        }
    }
}

/// Whether a step starts or is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum StepState {
    Started,
    Done,
}

/// The release that was selected.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SelectedRelease {
    /// Path of the file.
    pub file: String,
    /// Product id.
    pub product: String,
    /// Version.
    pub version: String,
    /// Date on which the release was made.
    pub date: String,
    /// Channel, such as `stable`.
    pub channel: String,
    /// The selected build.
    pub build: String,
    /// The other builds in the release.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_builds: Vec<String>,
    /// The signer: fingerprint of the key, and its local name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signer: Option<String>,
    /// Losses that the release announces.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub loses: Vec<String>,
    /// Other releases of the product among the given files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
}

/// The progress of a stage of a release.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StageState {
    /// Not started.
    Planned,
    /// Completed before this run.
    Past,
    /// Started.
    Started,
    /// Completed by this run.
    Done,
}

/// Exit status of the program, also the code of a failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(into = "u8")]
#[repr(u8)]
pub enum ExitCode {
    /// Done, checked as requested, and confirmed where the sheet allows it.
    Done = 0,
    /// Internal error.
    Internal = 1,
    /// Invalid command line.
    Usage = 2,
    /// Image and unit do not fit, or the evidence does not decide it.
    Refused = 3,
    /// No such unit, or none appeared in time.
    NoUnit = 4,
    /// The transfer failed.
    Transfer = 5,
    /// Verification found a difference.
    Differs = 6,
    /// Written and verified, but the application did not return.
    NotBack = 7,
    /// A file is damaged or unreadable.
    File = 8,
    /// No access: permissions, driver, or use by another program.
    Access = 9,
    /// The work is done, but the journal or the trace is incomplete.
    Record = 10,
    /// Stopped by the user at a safe point.
    Stopped = 130,
}

impl ExitCode {
    /// The outcome of a run that failed before it changed the unit.
    pub fn outcome_unchanged(self) -> RunOutcome {
        match self {
            Self::Stopped => RunOutcome::Stopped,
            Self::Refused | Self::NoUnit | Self::File | Self::Access | Self::Usage => RunOutcome::Refused,
            _ => RunOutcome::Failed,
        }
    }
}

impl From<ExitCode> for u8 {
    fn from(code: ExitCode) -> Self {
        code as Self
    }
}

/// A failure in sentences: cause and location, state of the unit, next action.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FailureText {
    /// Exit status.
    pub code: ExitCode,
    /// Cause and location.
    pub message: String,
    /// State of the unit, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// State of the unit as data, if a unit was in use.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit_state: Option<UnitState>,
    /// Next action.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
}

impl FailureText {
    /// A failure with neither state nor remedy.
    pub fn new(code: ExitCode, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), state: None, unit_state: None, remedy: None }
    }

    /// Adds the state of the unit.
    #[must_use]
    pub fn state(mut self, state: impl Into<String>) -> Self {
        self.state = Some(state.into());
        self
    }

    /// Adds the next action.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
}

/// The strongest check that covers the content.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Check {
    /// Every written byte was read back and compared.
    ReadBack,
    /// The unit computed a checksum or digest of every written byte, and it equals that of
    /// the image.
    DeviceChecked,
    /// The unit accepted all blocks without error; no stronger check ran.
    Accepted,
    /// No check ran.
    None,
}

/// The observed result of the restart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RestartState {
    /// The application returned as expected.
    Confirmed,
    /// The user confirmed the visible signs that the sheet describes.
    Seen,
    /// The unit left update mode; no further sign is available.
    Restarted,
    /// The application did not return as expected.
    NotBack,
    /// The unit was not restarted.
    NotRestarted,
}

/// The outcome of an update.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RunOutcome {
    /// New content was written.
    Updated,
    /// All content was already present; nothing was erased or written.
    Unchanged,
    /// Only the plan was requested.
    Planned,
    /// Refused before any change.
    Refused,
    /// Failed.
    Failed,
    /// Stopped by the user.
    Stopped,
}

/// The result of an update.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// Location of the unit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Serial number that the application reported, or else the first one that the unit reported.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    /// Serial number that the bootloader reported.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bootloader_serial: Option<String>,
    /// The serial port or CAN interface of the system through which the unit was updated, if it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// The programmer through which the unit was updated, if it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub programmer: Option<String>,
    /// Final state of the unit, derived from all that the run did to it. None if no unit was
    /// found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<UnitState>,
    /// Outcome.
    pub outcome: RunOutcome,
    /// Exit status.
    pub code: ExitCode,
    /// Name of the product.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    /// Part of the product, if it has several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Variant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variant: Option<VariantId>,
    /// Version of the firmware before the update, as the unit reported it, its memory shows it
    /// or the journal has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version_before: Option<Version>,
    /// The file with the content that the unit had before, if it was saved.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub backup: Option<String>,
    /// The strongest check that covers all bytes.
    pub check: Check,
    /// The observed result of the restart.
    pub after: RestartState,
    /// Bytes of the image that were written.
    pub bytes_written: u64,
    /// Bytes of the image that were compared and are equal; at most the size of the image.
    pub bytes_checked: u64,
    /// Bytes of the image that were already present.
    pub bytes_skipped: u64,
    /// 0xFF bytes written as padding of blocks and small gaps.
    pub bytes_padded: u64,
    /// Number of transfers by phase.
    pub transfers: Transfers,
    /// Duration of each step, in milliseconds.
    pub durations_ms: Vec<(StepName, u64)>,
    /// Manual steps that the user undoes, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub undo: Vec<UndoRecord>,
    /// Undo actions that are deferred until a later stage is done.
    #[serde(skip)]
    pub undo_later: Vec<Undo>,
    /// Undo actions that are not known to be done, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub pending_undo: Vec<String>,
    /// The part of the journal or the trace that could not be written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub record_failure: Option<String>,
    /// How often the unit disconnected during the run and returned.
    #[serde(skip_serializing_if = "is_zero")]
    pub disconnects: u32,
    /// The application after the update, for further work with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application: Option<ApplicationInfo>,
}

impl Report {
    /// A report before any work: failed, with no unit and no bytes.
    pub fn empty() -> Self {
        Self {
            unit: None,
            serial: None,
            bootloader_serial: None,
            through: None,
            programmer: None,
            state: None,
            outcome: RunOutcome::Failed,
            code: ExitCode::Internal,
            product: None,
            part: None,
            variant: None,
            version_before: None,
            backup: None,
            check: Check::None,
            after: RestartState::NotRestarted,
            bytes_written: 0,
            bytes_checked: 0,
            bytes_skipped: 0,
            bytes_padded: 0,
            transfers: Transfers::default(),
            durations_ms: Vec::new(),
            undo: Vec::new(),
            undo_later: Vec::new(),
            pending_undo: Vec::new(),
            record_failure: None,
            disconnects: 0,
            application: None,
        }
    }
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde requires
fn is_zero(count: &u32) -> bool {
    *count == 0
}

/// An undo action after the update.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UndoRecord {
    /// The action.
    #[serde(rename = "do")]
    pub action: String,
    /// Whether the bus showed, or the user confirmed, that it is done.
    pub done: bool,
}

/// USB transfers by phase.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Transfers {
    /// Transfers while comparing present content.
    pub compare: u64,
    /// Transfers while erasing.
    pub erase: u64,
    /// Transfers while writing.
    pub write: u64,
    /// Transfers while ending the download.
    pub finish: u64,
    /// Transfers while reading back.
    pub read_back: u64,
    /// Blocks written.
    pub blocks: u64,
    /// Contiguous runs of blocks; each needs one address command.
    pub runs: u64,
}

impl Transfers {
    /// Adds the transfers of another attempt.
    pub fn add(&mut self, other: &Self) {
        self.compare += other.compare;
        self.erase += other.erase;
        self.write += other.write;
        self.finish += other.finish;
        self.read_back += other.read_back;
        self.blocks += other.blocks;
        self.runs += other.runs;
    }
}

/// The application after an update.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ApplicationInfo {
    /// Port path of the application.
    pub port: String,
    /// Serial ports and raw HID devices that the system created for it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub nodes: Vec<String>,
    /// USB ids.
    pub id: DeviceId,
    /// Serial number.
    pub serial: Option<String>,
    /// Reported version.
    pub version: Option<Version>,
}

/// The first difference that verification found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Difference {
    /// The first address that differs.
    pub first: Address,
    /// The byte in the image.
    pub expected: u8,
    /// The byte in the unit.
    pub found: u8,
    /// Number of bytes that differ.
    pub bytes: u64,
    /// The sector of the first difference.
    pub sector: Span,
}

/// A duration in milliseconds, saturating, for events.
pub fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}
