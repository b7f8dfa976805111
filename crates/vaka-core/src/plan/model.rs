//! The plan and its steps, and how it is made of all that is known.

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
    /// For which variant.
    pub variant: VariantId,
    /// By which route.
    pub route: String,
    /// The steps.
    pub steps: Vec<Step>,
    /// Regions of which no byte is touched; empty where the unit itself
    /// decides what it erases.
    pub untouched: Vec<String>,
    /// The sectors that are erased and written.
    #[serde(skip)]
    pub(super) sectors: Vec<Span>,
    /// Whether the unit takes and gives its content as one stream.
    #[serde(skip)]
    pub(super) streamed: bool,
    /// What of them is kept, and is not yet a part of the image.
    #[serde(skip)]
    pub(super) kept: Vec<Span>,
}

/// A plan that a final verdict stands behind.
#[derive(Clone, Debug)]
pub struct ApprovedPlan(Plan);

/// What a plan is made for.
#[derive(Clone, Copy, Debug)]
pub struct PlanInput<'a> {
    /// The product.
    pub sheet: &'a Sheet,
    /// The variant that was decided on.
    pub variant: &'a Variant,
    /// How it is updated.
    pub route: &'a Route,
    /// What is written.
    pub image: &'a Image,
    /// What the unit can take.
    pub geometry: WriteLimits<'a>,
    /// Whether it must be put into update mode first.
    pub needs_entry: bool,
    /// Whether everything that may be is erased first.
    pub erase_all: bool,
    /// What is known of the unit's content.
    pub content: KnownContent<'a>,
    /// Names of regions that stay as they are.
    pub keep: &'a [String],
}

impl PlanInput<'_> {
    pub(super) fn keeps(&self) -> impl Iterator<Item = &Region> {
        self.variant.regions.iter().filter(|region| region.name != BOOTLOADER && self.keep.contains(&region.name))
    }
}

/// What is known of a unit's content before it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KnownContent<'a> {
    /// Nothing, and it is written whatever it is.
    Rewrite,
    /// Nothing yet; it is looked at first, where that is possible.
    Unseen,
    /// These sectors hold the image's bytes already.
    Equal(&'a [Span]),
}

impl KnownContent<'_> {
    pub(super) fn is_equal(self, sector: Span) -> bool {
        matches!(self, Self::Equal(sectors) if sectors.contains(&sector))
    }
}

impl Plan {
    /// Takes out what a person undoes at the end; it is then done later.
    pub fn defer_undo(&mut self) -> Vec<Undo> {
        let is_it = |step: &Step| matches!(step, Step::Undo { when: UndoPhase::End, .. });
        let taken = self.steps.iter().position(is_it).map(|at| self.steps.remove(at));
        if let Some(Step::Undo { steps, .. }) = taken { steps } else { Vec::new() }
    }

    /// Adds what a person undoes at the end besides, of what was done before this plan.
    pub fn append_undo(&mut self, more: &[Undo]) {
        let mut steps = self.defer_undo();
        steps.extend(more.iter().cloned());
        if !steps.is_empty() {
            self.steps.push(Step::Undo { when: UndoPhase::End, steps });
        }
    }

    /// Puts the final verdict's approval behind the plan.
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

    /// The same plan of a unit that did not leave update mode with nothing written.
    #[must_use]
    pub fn sending_again(mut self) -> Self {
        let write = self.steps.iter().position(|step| matches!(step, Step::Write { .. })).unwrap_or(0);
        self.steps.insert(write, Step::SendAgain);
        self
    }

    /// Whether the unit takes and gives its content as one stream, so that it is
    /// either equal or written anew.
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

    /// What of those sectors is kept, and must be made a part of the image.
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
