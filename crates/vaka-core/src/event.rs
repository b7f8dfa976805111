//! Everything that happens, as one stream of values.
//!
//! Engines emit events; the program turns them into text, JSON Lines or a record, and adds
//! the time. Engines emit failures and warnings as typed values; [`Event::with_words`] replaces
//! them by sentences before an event leaves the program.

use std::time::Duration;

use std::sync::Arc;

use serde::Serialize;

use crate::matching::{Evidence, Phase, Verdict};
use crate::plan::Plan;
use crate::sheet::{ManualStep, Undo, VariantId};
use crate::unit::{Mode, UsbId};
use crate::unit_state::UnitState;
use crate::volume::VisibleFile;
use vaka_base::version::Version;
use vaka_image::address::{Address, Span};

/// One thing that happened.
///
/// `F` is the type of a failure and `W` the type of a warning: values of the engine, or, by
/// default, the sentences that the program shows and writes.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema), schemars(rename = "Event"))]
#[serde(tag = "event", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Event<F = FailureText, W = String> {
    /// A unit came, or was found.
    Seen(Box<Seen>),
    /// A unit left the bus.
    Gone {
        /// Where it was.
        unit: String,
        /// Its ids.
        id: UsbId,
    },
    /// One fact about unit or image.
    Evidence {
        /// Where the unit is; none if only a file was judged.
        #[serde(skip_serializing_if = "Option::is_none")]
        unit: Option<String>,
        /// The fact.
        #[serde(flatten)]
        evidence: Evidence,
    },
    /// A verdict was made, with all its evidence.
    Verdict {
        /// Where the unit is; none if only a file was judged.
        #[serde(skip_serializing_if = "Option::is_none")]
        unit: Option<String>,
        /// The verdict.
        #[serde(flatten)]
        verdict: Verdict,
    },
    /// The plan was made.
    Plan {
        /// Where the unit is.
        unit: String,
        /// Whether a final verdict stands behind it.
        phase: Phase,
        /// The plan.
        #[serde(flatten)]
        plan: Plan,
    },
    /// A release was chosen, and is whole.
    Release(ReleaseSeen),
    /// A stage of a release: what it will do, or where it stands.
    Stage {
        /// Which, from 1.
        number: usize,
        /// Of how many.
        of: usize,
        /// Its name.
        name: String,
        /// What it does, in one line.
        text: String,
        /// Where it stands.
        state: StageState,
    },
    /// A checked file was handed out for another tool.
    HandedOut {
        /// Where it is.
        file: String,
        /// Its SHA-256 in hex.
        sha256: String,
        /// Which tool it is for.
        tool: String,
    },
    /// A step begins or ends.
    Step {
        /// Where the unit is.
        unit: String,
        /// Which.
        step: StepName,
        /// Begins or ends.
        state: StepState,
        /// What it will do, or did.
        text: String,
        /// Bytes in it.
        #[serde(skip_serializing_if = "Option::is_none")]
        bytes: Option<u64>,
        /// USB transfers it took, once it is done.
        #[serde(skip_serializing_if = "Option::is_none")]
        transfers: Option<u64>,
    },
    /// A person has to do something.
    Hand {
        /// Where the unit is.
        unit: String,
        /// Which of how many, from 1.
        number: usize,
        /// How many.
        of: usize,
        /// What.
        #[serde(flatten)]
        hand: ManualStep,
    },
    /// The manual steps of a unit that are still to be undone; repeated when the list changes.
    Owed {
        /// Where the unit is.
        unit: String,
        /// What to do, in order. Empty once everything is undone.
        steps: Vec<String>,
    },
    /// Something is waited for; repeated while it lasts.
    Waiting {
        /// For what.
        waiting_for: String,
        /// How long it may still take, in milliseconds, where that is known.
        left_ms: Option<u64>,
    },
    /// Bytes were moved.
    Progress {
        /// Where the unit is.
        unit: Arc<str>,
        /// In which step.
        step: StepName,
        /// The region.
        region: Arc<str>,
        /// Bytes done.
        done: u64,
        /// Bytes in all.
        total: u64,
    },
    /// Something that does not stop the work, but should be known.
    Warning {
        /// What.
        text: W,
    },
    /// A frame that was not what its dialect expects, field by field.
    Frame {
        /// Of which exchange.
        exchange: String,
        /// What was wrong first.
        words: String,
        /// All of it.
        fields: Vec<FrameField>,
    },
    /// Something about this machine or its bench, and what cures it.
    Finding(Finding),
    /// What stopped the work.
    Error(F),
    /// The last event of an update.
    Result(Box<Report>),
}

impl<F, W> Event<F, W> {
    /// The same event with sentences in place of the failure or the warning that it holds.
    pub fn with_words(self, failure: impl FnOnce(F) -> FailureText, warning: impl FnOnce(W) -> String) -> Event {
        match self {
            Self::Error(value) => Event::Error(failure(value)),
            Self::Warning { text } => Event::Warning { text: warning(text) },
            Self::Seen(seen) => Event::Seen(seen),
            Self::Gone { unit, id } => Event::Gone { unit, id },
            Self::Evidence { unit, evidence } => Event::Evidence { unit, evidence },
            Self::Verdict { unit, verdict } => Event::Verdict { unit, verdict },
            Self::Plan { unit, phase, plan } => Event::Plan { unit, phase, plan },
            Self::Release(release) => Event::Release(release),
            Self::Stage { number, of, name, text, state } => Event::Stage { number, of, name, text, state },
            Self::HandedOut { file, sha256, tool } => Event::HandedOut { file, sha256, tool },
            Self::Step { unit, step, state, text, bytes, transfers } => {
                Event::Step { unit, step, state, text, bytes, transfers }
            }
            Self::Hand { unit, number, of, hand } => Event::Hand { unit, number, of, hand },
            Self::Owed { unit, steps } => Event::Owed { unit, steps },
            Self::Waiting { waiting_for, left_ms } => Event::Waiting { waiting_for, left_ms },
            Self::Progress { unit, step, region, done, total } => Event::Progress { unit, step, region, done, total },
            Self::Frame { exchange, words, fields } => Event::Frame { exchange, words, fields },
            Self::Finding(finding) => Event::Finding(finding),
            Self::Result(report) => Event::Result(report),
        }
    }
}

/// Something that was found out about a machine and its bench.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Finding {
    /// What was looked at, in a word: `usb`, `rights`, `driver`, …
    pub topic: &'static str,
    /// What it is about: a bus, a place, a file.
    pub about: String,
    /// How much it matters.
    pub weight: Severity,
    /// What was found.
    pub says: String,
    /// What cures it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cure: Option<String>,
}

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// It is as it should be.
    Fine,
    /// It may matter.
    Note,
    /// It is in the way.
    Problem,
}

impl Finding {
    /// Something that is as it should be.
    pub fn fine(topic: &'static str, about: impl Into<String>, says: impl Into<String>) -> Self {
        Self { topic, about: about.into(), weight: Severity::Fine, says: says.into(), cure: None }
    }

    /// Something that may matter.
    pub fn note(topic: &'static str, about: impl Into<String>, says: impl Into<String>) -> Self {
        Self { weight: Severity::Note, ..Self::fine(topic, about, says) }
    }

    /// Something that is in the way.
    pub fn problem(topic: &'static str, about: impl Into<String>, says: impl Into<String>) -> Self {
        Self { weight: Severity::Problem, ..Self::fine(topic, about, says) }
    }

    /// Says what cures it.
    #[must_use]
    pub fn cure(mut self, cure: impl Into<String>) -> Self {
        self.cure = Some(cure.into());
        self
    }
}

/// One field of a frame as it came.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FrameField {
    /// As the dialect writes it.
    pub field: String,
    /// Its bytes, as hex pairs.
    pub bytes: String,
    /// What they say, or what was expected.
    pub says: String,
    /// Whether this is what did not fit.
    pub is_wrong: bool,
}

/// A unit that was seen.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Seen {
    /// Where it is.
    pub unit: String,
    /// Its bus.
    pub bus: String,
    /// Its port there.
    pub port: String,
    /// Its ids.
    pub id: UsbId,
    /// Its mode.
    pub mode: Mode,
    /// The product's name, if a sheet knows it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    /// The variants it can be.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub variants: Vec<VariantId>,
    /// Its serial number.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    /// Its application's version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<Version>,
    /// The memory layout it reports.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// The disk's label, if it shows one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<String>,
    /// The folder that the system shows that disk as.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// The present application, as a file on its disk; an empty disk of that kind
    /// means that there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub present: Option<Present>,
    /// What its place is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// How fast it is connected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speed: Option<&'static str>,
    /// Other devices that it shows, each with its ids and place.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// What is odd about its descriptors.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub odd: Vec<String>,
    /// What is in the way.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub obstacle: Option<String>,
    /// What cures that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cure: Option<String>,
    /// What it may be, of a device that no sheet knows, by its classes alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hint: Option<&'static str>,
    /// What can be done next.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub next: Vec<String>,
}

/// The file in which a unit shows its present application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Present {
    /// It is there.
    File(VisibleFile),
    /// It should be there, and is not: there is no application inside.
    Missing(String),
}

/// The name of a step that takes its time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // as the plan's steps
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
    /// For people.
    pub fn words(self) -> &'static str {
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

/// Whether a step begins or ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum StepState {
    Started,
    Done,
}

/// A release that was chosen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ReleaseSeen {
    /// Its file.
    pub file: String,
    /// The product's id.
    pub product: String,
    /// Its version.
    pub version: String,
    /// The day it was made.
    pub date: String,
    /// For whom it is.
    pub channel: String,
    /// Which of its builds is used.
    pub build: String,
    /// Its other builds.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub other_builds: Vec<String>,
    /// Who signed it: the key's short name, and what this machine calls it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signer: Option<String>,
    /// What it takes away.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub loses: Vec<String>,
    /// Other releases of the product that could have been meant.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
}

/// Where a stage of a release stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum StageState {
    /// It is going to be done.
    Planned,
    /// The unit is past it.
    Past,
    /// It begins.
    Started,
    /// It is done.
    Done,
}

/// Exit status of the program, and code of a failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(into = "u8")]
#[repr(u8)]
pub enum ExitCode {
    /// Done, checked and confirmed.
    Done = 0,
    /// An error of the tool itself.
    Internal = 1,
    /// Wrong use of the command line.
    Usage = 2,
    /// Image and unit do not fit, or it cannot be decided.
    Refused = 3,
    /// No such unit, or none came in time.
    NoUnit = 4,
    /// The transfer failed.
    Transfer = 5,
    /// Verify found a difference.
    Differs = 6,
    /// Written and verified, but the application did not come back.
    NotBack = 7,
    /// A file is damaged or unreadable.
    File = 8,
    /// No access: rights, driver, or another program holds it.
    Access = 9,
    /// The work was done, but the journal or the trace could not be written to its end.
    Record = 10,
    /// Stopped by a person at a safe point.
    Stopped = 130,
}

impl ExitCode {
    /// The outcome of a failed run that changed nothing in the unit.
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

/// What stopped the work, in sentences: what happened, where, the unit's state, what to do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct FailureText {
    /// The exit status.
    pub code: ExitCode,
    /// What happened, and where.
    pub message: String,
    /// What state the unit is in now, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    /// The state of the unit that was worked on, where there was one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit_state: Option<UnitState>,
    /// What to do next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cure: Option<String>,
}

impl FailureText {
    /// A failure without a state and a cure.
    pub fn new(code: ExitCode, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), state: None, unit_state: None, cure: None }
    }

    /// Says what state the unit is in.
    #[must_use]
    pub fn state(mut self, state: impl Into<String>) -> Self {
        self.state = Some(state.into());
        self
    }

    /// Says what to do next.
    #[must_use]
    pub fn cure(mut self, cure: impl Into<String>) -> Self {
        self.cure = Some(cure.into());
        self
    }
}

/// How strongly the content was checked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Check {
    /// Every byte written was read and compared.
    ReadBack,
    /// The unit computed a checksum or digest of every byte written, and it is the
    /// image's.
    DeviceChecked,
    /// All blocks were taken without error; nothing stronger was done.
    Accepted,
    /// Nothing was checked.
    None,
}

/// What was seen after the restart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RestartState {
    /// The application came back as expected.
    Confirmed,
    /// A person said that the unit shows what the sheet describes.
    Seen,
    /// It left update mode; there is nothing more to see.
    Restarted,
    /// It did not come back as expected.
    NotBack,
    /// It was not restarted.
    NotRestarted,
}

/// How an update ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RunOutcome {
    /// New content is in the unit.
    Updated,
    /// Everything was already there; nothing was erased or written.
    Unchanged,
    /// Only the plan was wanted.
    Planned,
    /// Refused before anything was changed.
    Refused,
    /// It failed.
    Failed,
    /// A person stopped it.
    Stopped,
}

/// The outcome of an update in numbers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// Where the unit is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// The serial number of its application, or the first one that it reported.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    /// The serial number that its bootloader reported.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub boot_serial: Option<String>,
    /// The state of the unit at the end, derived from everything that the run did to it.
    /// None if no unit was found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<UnitState>,
    /// How it ended.
    pub outcome: RunOutcome,
    /// The exit status.
    pub code: ExitCode,
    /// The product's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    /// The part of the product, where it has several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// The variant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variant: Option<VariantId>,
    /// The version of the firmware before the update, where the unit reported it, its
    /// memory holds it, or the journal has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version_before: Option<Version>,
    /// How strongly the content was checked.
    pub check: Check,
    /// What was seen after the restart.
    pub after: RestartState,
    /// Bytes of the image that were written.
    pub bytes_written: u64,
    /// Bytes of the image that were compared and are equal; never more than the image has.
    pub bytes_checked: u64,
    /// Bytes of the image that were there already.
    pub bytes_skipped: u64,
    /// 0xFF bytes that were written to fill up blocks and small gaps.
    pub bytes_padded: u64,
    /// What the transfers added up to.
    pub transfers: Transfers,
    /// Time by step, in milliseconds.
    pub durations_ms: Vec<(StepName, u64)>,
    /// What a person undoes, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub undo: Vec<UndoRecord>,
    /// What is undone only once a later stage is done.
    #[serde(skip)]
    pub undo_later: Vec<Undo>,
    /// Manual steps that were shown and are not known to be undone, in the order in which
    /// to undo them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub owed: Vec<String>,
    /// What of the journal or the trace could not be written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub record_failure: Option<String>,
    /// How often the unit was lost during the run and came back.
    #[serde(skip_serializing_if = "is_zero")]
    pub interrupted: u32,
    /// What is needed next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<ApplicationInfo>,
}

impl Report {
    /// A report of which nothing is known yet.
    pub fn empty() -> Self {
        Self {
            unit: None,
            serial: None,
            boot_serial: None,
            state: None,
            outcome: RunOutcome::Failed,
            code: ExitCode::Internal,
            product: None,
            part: None,
            variant: None,
            version_before: None,
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
            owed: Vec::new(),
            record_failure: None,
            interrupted: 0,
            next: None,
        }
    }
}

#[allow(clippy::trivially_copy_pass_by_ref)] // the signature that serde wants
fn is_zero(count: &u32) -> bool {
    *count == 0
}

/// Something that a person undoes after the update.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct UndoRecord {
    /// What to do.
    #[serde(rename = "do")]
    pub action: String,
    /// Whether it was seen, or said, that it is done.
    pub seen: bool,
}

/// USB transfers by phase.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Transfers {
    /// Transfers while looking what is already there.
    pub compare: u64,
    /// Transfers while erasing.
    pub erase: u64,
    /// Transfers while writing.
    pub write: u64,
    /// Transfers while telling the unit that it has all.
    pub finish: u64,
    /// Transfers while reading back.
    pub read_back: u64,
    /// Blocks written.
    pub blocks: u64,
    /// Contiguous runs, each of which takes one address command.
    pub runs: u64,
}

impl Transfers {
    /// Adds those of another attempt.
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

/// What is needed after an update.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ApplicationInfo {
    /// Where the application is now.
    pub port: String,
    /// Serial ports and raw HID devices that this system made of it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub nodes: Vec<String>,
    /// Its ids.
    pub id: UsbId,
    /// Its serial number.
    pub serial: Option<String>,
    /// The version it tells.
    pub version: Option<Version>,
}

/// Where the verify found the first difference.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Difference {
    /// The first address that differs.
    pub first: Address,
    /// What the image has there.
    pub wanted: u8,
    /// What the unit has there.
    pub found: u8,
    /// How many bytes differ in all.
    pub bytes: u64,
    /// The sector of the first one.
    pub sector: Span,
}

/// Milliseconds of a duration, for events.
pub fn milliseconds(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}
