//! The memory operations of an approved plan, and the steps around them.

use crate::plan::blocks::Run;
use crate::plan::model::{ApprovedPlan, Plan};
use crate::plan::step::{RestartMethod, Step};
use crate::sheet::{Undo, UndoPhase};
use vaka_image::address::Span;

/// An operation on the memory of a connected unit. Only an [`ApprovedPlan`] returns these.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MemoryStep<'p> {
    /// Erase these sectors.
    Erase(&'p [Span]),
    /// Erase everything with one request; these sectors go.
    EraseAll(&'p [Span]),
    /// Write these runs.
    Write(&'p [Run]),
    /// End the download: the image is complete.
    Finish,
    /// Read these spans and compare them with the written content.
    ReadBack {
        /// Spans to read.
        spans: &'p [Span],
        /// Whether a difference is an error.
        vouched: bool,
    },
    /// Compare the unit's own checksum of each of these spans.
    DeviceCheck(&'p [Span]),
}

impl Step {
    /// The memory operation of this step; `None` for steps of other phases and for those that
    /// only describe what the unit does by itself.
    fn memory(&self) -> Option<MemoryStep<'_>> {
        match self {
            Self::Erase { sectors } => Some(MemoryStep::Erase(sectors)),
            Self::EraseAll { sectors } => Some(MemoryStep::EraseAll(sectors)),
            Self::Write { runs } => Some(MemoryStep::Write(runs)),
            Self::Finish { .. } => Some(MemoryStep::Finish),
            Self::ReadBack { spans, vouched } => Some(MemoryStep::ReadBack { spans, vouched: *vouched }),
            Self::DeviceCheck { spans } => Some(MemoryStep::DeviceCheck(spans)),
            Self::Enter { .. }
            | Self::Identify
            | Self::Keep { .. }
            | Self::Compare { .. }
            | Self::UnitErases { .. }
            | Self::SendAgain
            | Self::Restart { .. }
            | Self::LookAgain { .. }
            | Self::Confirm { .. }
            | Self::ReadOnceMore { .. }
            | Self::Undo { .. } => None,
        }
    }
}

impl ApprovedPlan {
    /// The operations on the unit's memory, in order, each with the step that describes it.
    pub fn memory_steps(&self) -> impl Iterator<Item = (&Step, MemoryStep<'_>)> {
        self.plan().steps.iter().filter_map(|step| Some((step, step.memory()?)))
    }
}

impl Plan {
    /// The step that compares present content before any write, and its sectors.
    pub fn comparison(&self) -> Option<(&Step, &[Span])> {
        self.steps.iter().find_map(|step| match step {
            Step::Compare { sectors, .. } => Some((step, &sectors[..])),
            _ => None,
        })
    }

    /// How the unit leaves update mode.
    pub fn restart(&self) -> RestartMethod {
        let by = self.steps.iter().find_map(|step| match step {
            Step::Restart { by } => Some(*by),
            _ => None,
        });
        by.unwrap_or(RestartMethod::NotKnownYet)
    }

    /// The undo actions of a phase, in order.
    pub fn undo(&self, phase: UndoPhase) -> &[Undo] {
        let steps = self.steps.iter().find_map(|step| match step {
            Step::Undo { when, steps } if *when == phase => Some(&steps[..]),
            _ => None,
        });
        steps.unwrap_or_default()
    }

    /// Whether erasing is a request of its own; otherwise the unit erases what it writes.
    pub fn erases_by_request(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, Step::Erase { .. } | Step::EraseAll { .. }))
    }

    /// Whether the unit's own checksum is compared.
    pub fn checks_by_device(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, Step::DeviceCheck { .. }))
    }

    /// Whether the file that shows the application is compared after the restart.
    pub fn compares_shown_file(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, Step::LookAgain { .. }))
    }

    /// Whether the unit re-enters update mode after its restart to be read.
    pub fn rereads(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, Step::ReadOnceMore { .. }))
    }
}
