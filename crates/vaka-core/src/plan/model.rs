//! The plan and its inputs.

use crate::plan::blocks::Run;
use crate::plan::error::PlanError;
use crate::plan::geometry::WriteLimits;
use crate::plan::step::{FinishMethod, Step};

use serde::Serialize;

use crate::matching::Approval;
use crate::sheet::Route;
use crate::sheet::{BOOTLOADER, Region, Sheet, Variant, VariantId};
use crate::sheet::{Undo, UndoPhase};
use vaka_image::Image;
use vaka_image::address::Span;

/// Everything that will be done, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Plan {
    /// The variant.
    pub variant: VariantId,
    /// The route.
    pub route: String,
    /// The steps.
    pub steps: Vec<Step>,
    /// Regions that stay untouched; empty if the unit itself decides what it erases.
    pub untouched: Vec<String>,
    /// The sectors that are erased and written.
    #[serde(skip)]
    pub(super) sectors: Vec<Span>,
    /// Whether the content is transferred as one stream.
    #[serde(skip)]
    pub(super) streamed: bool,
    /// Preserved spans that are not yet part of the image.
    #[serde(skip)]
    pub(super) kept: Vec<Span>,
}

/// A plan that a final verdict approved.
#[derive(Clone, Debug)]
pub struct ApprovedPlan(Plan);

/// The input for a plan.
#[derive(Clone, Copy, Debug)]
pub struct PlanInput<'a> {
    /// The product.
    pub sheet: &'a Sheet,
    /// The variant that was decided on.
    pub variant: &'a Variant,
    /// The route.
    pub route: &'a Route,
    /// The image to write.
    pub image: &'a Image,
    /// The write limits of the unit.
    pub geometry: WriteLimits<'a>,
    /// Whether the unit must enter update mode first.
    pub needs_entry: bool,
    /// Whether everything erasable is erased first.
    pub erase_all: bool,
    /// The known content of the unit.
    pub content: KnownContent<'a>,
    /// Names of regions to preserve.
    pub keep: &'a [String],
}

impl PlanInput<'_> {
    pub(super) fn keeps(&self) -> impl Iterator<Item = &Region> {
        self.variant.regions.iter().filter(|region| region.name != BOOTLOADER && self.keep.contains(&region.name))
    }
}

/// The known content of a unit before it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KnownContent<'a> {
    /// Unknown, and to be overwritten regardless.
    Rewrite,
    /// Unknown; it is compared first if possible.
    Unseen,
    /// These sectors already match the image.
    Equal(&'a [Span]),
}

impl KnownContent<'_> {
    pub(super) fn is_equal(self, sector: Span) -> bool {
        matches!(self, Self::Equal(sectors) if sectors.contains(&sector))
    }
}

impl Plan {
    /// Removes and returns the undo actions of the end; the caller runs them later.
    pub fn defer_undo(&mut self) -> Vec<Undo> {
        let is_it = |step: &Step| matches!(step, Step::Undo { when: UndoPhase::End, .. });
        let taken = self.steps.iter().position(is_it).map(|at| self.steps.remove(at));
        if let Some(Step::Undo { steps, .. }) = taken { steps } else { Vec::new() }
    }

    /// Adds undo actions of earlier plans to those of the end.
    pub fn append_undo(&mut self, more: &[Undo]) {
        let mut steps = self.defer_undo();
        steps.extend(more.iter().cloned());
        if !steps.is_empty() {
            self.steps.push(Step::Undo { when: UndoPhase::End, steps });
        }
    }

    /// Approves the plan with the approval of a final verdict.
    ///
    /// # Errors
    /// [`PlanError::OtherVariant`]: the two are not about the same variant.
    pub fn approve(self, approval: &Approval) -> Result<ApprovedPlan, PlanError> {
        if *approval.variant() != self.variant {
            return Err(PlanError::OtherVariant(approval.variant().clone()));
        }
        Ok(ApprovedPlan(self))
    }

    /// The sectors that will be erased and written.
    pub fn sectors(&self) -> &[Span] {
        &self.sectors
    }

    /// The same plan for a unit that stays in update mode if nothing is written.
    #[must_use]
    pub fn sending_again(mut self) -> Self {
        let write = self.steps.iter().position(|step| matches!(step, Step::Write { .. })).unwrap_or(0);
        self.steps.insert(write, Step::SendAgain);
        self
    }

    /// Whether the content is transferred as one stream, so that it is either equal or completely
    /// rewritten.
    pub fn is_streamed(&self) -> bool {
        self.streamed
    }

    /// The runs that are written, in order.
    pub fn runs(&self) -> &[Run] {
        let runs = self.steps.iter().find_map(|step| match step {
            Step::Write { runs } => Some(&runs[..]),
            _ => None,
        });
        runs.unwrap_or_default()
    }

    /// The block that is sent only once the others were read.
    pub fn held_back(&self) -> Option<Span> {
        self.steps.iter().find_map(|step| match step {
            Step::Finish { by: FinishMethod::LastBlock(span) } => Some(*span),
            _ => None,
        })
    }

    /// Preserved spans in those sectors, which must become part of the image.
    pub fn kept(&self) -> &[Span] {
        &self.kept
    }
}

impl ApprovedPlan {
    /// The plan.
    pub fn plan(&self) -> &Plan {
        &self.0
    }
}
