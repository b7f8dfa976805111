//! The whole list of what will be done, before any of it is done.
//!
//! A [`Plan`] can be drafted at any time, to be shown. Only with the
//! [`Approval`] of a final verdict does it become an [`ApprovedPlan`], which
//! is what the executor takes.

mod blocks;
mod ledger;

use std::fmt;
use std::time::Duration;

use serde::Serialize;
use thiserror::Error;

pub use blocks::{Block, ERASED, Run};
pub use ledger::{Ledger, SectorState};

use crate::address::{Address, Span};
use crate::duration;
use crate::image::Image;
use crate::matching::{Approval, image_version};
use crate::memory::SectorMap;
use crate::sheet::{HandStep, Route, Sheet, Variant, VariantId};
use crate::size::{Bytes, Grouped};
use crate::text;
use crate::unit::{ReleaseNumber, UsbId};

/// What the unit can take, as far as it is known.
#[derive(Clone, Copy, Debug)]
pub struct Geometry<'a> {
    /// The sectors that an erase takes.
    pub sectors: &'a SectorMap,
    /// Most bytes in one block; unknown before the unit is in update mode.
    pub block_size: Option<u32>,
    /// Whether it can be read back.
    pub can_read: bool,
}

/// One thing that will be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Step {
    /// A person puts the unit into update mode.
    Enter {
        /// What they do.
        hands: Vec<HandStep>,
        /// The ids that must then be seen.
        id: UsbId,
    },
    /// The unit is asked what it is, and the verdict made again.
    Identify,
    /// Sectors are erased.
    Erase {
        /// Which.
        sectors: Vec<Span>,
    },
    /// Blocks are written.
    Write {
        /// In which contiguous runs.
        runs: Vec<Run>,
    },
    /// What was written is read and compared, padding included.
    ReadBack {
        /// What was written.
        spans: Vec<Span>,
    },
    /// The unit leaves update mode.
    Restart {
        /// Where it starts.
        at: Address,
    },
    /// The application is waited for.
    Confirm {
        /// Its ids.
        id: UsbId,
        /// The version that it must tell.
        version: Option<ReleaseNumber>,
        /// How long that may take.
        #[serde(serialize_with = "as_milliseconds")]
        within_ms: Duration,
    },
}

fn as_milliseconds<S: serde::Serializer>(time: &Duration, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_u64(u64::try_from(time.as_millis()).unwrap_or(u64::MAX))
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Enter { id, .. } => write!(f, "put the unit into update mode by hand, until {id} is seen"),
            Self::Identify => f.write_str("ask the unit what it is and judge again; nothing is changed before that"),
            Self::Erase { sectors } => {
                let bytes = sectors.iter().map(|sector| sector.len()).sum();
                write!(f, "erase {}, {}", text::count(sectors.len(), "sector"), Bytes(bytes))?;
                for run in contiguous(sectors) {
                    write!(f, ", {run}")?;
                }
                Ok(())
            }
            Self::Write { runs } => {
                let bytes = runs.iter().map(|run| run.span().len()).sum();
                let blocks = runs.iter().map(|run| run.blocks().count()).sum();
                write!(f, "write {} bytes in {}", Grouped(bytes), text::count(runs.len(), "run"))?;
                match runs.iter().find_map(Run::block_size) {
                    Some(size) => write!(f, ", {} of {}", text::count(blocks, "block"), Bytes(u64::from(size))),
                    None => f.write_str("; the unit says how large the blocks are"),
                }
            }
            Self::ReadBack { spans } => {
                let bytes = spans.iter().map(|span| span.len()).sum();
                write!(f, "read {} bytes back and compare each with what was written", Grouped(bytes))
            }
            Self::Restart { at } => write!(f, "leave update mode and start at {at}"),
            Self::Confirm { id, version, within_ms } => {
                write!(f, "see the application come back as {id} within {}", duration::words(*within_ms))?;
                version.map_or(Ok(()), |version| write!(f, ", with version {version}"))
            }
        }
    }
}

/// Joins sectors that lie end to end.
fn contiguous(sectors: &[Span]) -> Vec<Span> {
    let mut runs: Vec<Span> = Vec::new();
    for sector in sectors {
        match runs.last_mut() {
            Some(last) if last.end() == sector.start() => {
                *last = Span::between(last.start(), sector.end()).unwrap_or(*last);
            }
            _ => runs.push(*sector),
        }
    }
    runs
}

/// Everything that will be done, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Plan {
    /// For which variant.
    pub variant: VariantId,
    /// By which route.
    pub route: String,
    /// The steps.
    pub steps: Vec<Step>,
    /// Regions of which no byte is touched.
    pub untouched: Vec<String>,
}

/// A plan that a final verdict stands behind.
#[derive(Clone, Debug)]
pub struct ApprovedPlan(Plan);

/// Why no plan can be made.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum PlanError {
    /// The unit's sectors do not cover the image.
    #[error("the unit has no sector for all of {0}")]
    NoSector(Span),
    /// An erase would take bytes of a region that the route may not write.
    #[error("erasing the sector {sector} would erase a part of what lies beside the regions that may be written")]
    Spills {
        /// The sector.
        sector: Span,
    },
    /// The unit takes blocks of no bytes.
    #[error("the unit says that it takes blocks of 0 bytes")]
    NoBlockSize,
    /// The plan is for another variant than the approval.
    #[error("the approval is for variant '{0}'")]
    OtherVariant(VariantId),
}

/// What a plan is made for.
#[derive(Clone, Copy, Debug)]
pub struct Job<'a> {
    /// The product.
    pub sheet: &'a Sheet,
    /// The variant that was decided on.
    pub variant: &'a Variant,
    /// How it is updated.
    pub route: &'a Route,
    /// What is written.
    pub image: &'a Image,
    /// What the unit can take.
    pub geometry: Geometry<'a>,
    /// Whether it must be put into update mode first.
    pub needs_entry: bool,
}

impl Plan {
    /// Drafts the plan of a job.
    ///
    /// # Errors
    /// [`PlanError`]: image, sheet and unit do not go together. A verdict that
    /// fits rules that out; this does not rely on it.
    pub fn draft(job: &Job<'_>) -> Result<Self, PlanError> {
        let spans: Vec<Span> = job.image.segments().iter().map(|segment| segment.span()).collect();
        let sectors = sectors_of(&spans, job)?;
        let runs = blocks::runs(&spans, &contiguous(&sectors), &job.geometry)?;
        let application = &job.sheet.application;
        let version = image_version(job.variant, job.image).filter(|_| application.tells_version);
        let mut steps = Vec::new();
        if job.needs_entry {
            steps.extend([Step::Enter { hands: job.route.entry.clone(), id: job.route.id }, Step::Identify]);
        }
        let untouched =
            job.variant.regions.iter().filter(|region| sectors.iter().all(|s| s.common(region.span).is_none()));
        let untouched = untouched.map(|region| region.name.clone()).collect();
        let written = runs.iter().map(Run::span).collect();
        steps.extend([Step::Erase { sectors }, Step::Write { runs }]);
        if job.geometry.can_read {
            steps.push(Step::ReadBack { spans: written });
        }
        steps.push(Step::Restart { at: job.route.restart_at });
        steps.push(Step::Confirm { id: application.id, version, within_ms: application.back_within });
        Ok(Self { variant: job.variant.id.clone(), route: job.route.kind.to_string(), steps, untouched })
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

    /// The sectors that will be erased.
    pub fn sectors(&self) -> &[Span] {
        self.steps
            .iter()
            .find_map(|step| match step {
                Step::Erase { sectors } => Some(&sectors[..]),
                _ => None,
            })
            .unwrap_or_default()
    }
}

impl ApprovedPlan {
    /// The plan.
    pub fn plan(&self) -> &Plan {
        &self.0
    }
}

/// Every sector that holds a byte of the image, each once. All of each must
/// lie in a region that the route writes: erasing takes whole sectors.
fn sectors_of(spans: &[Span], job: &Job<'_>) -> Result<Vec<Span>, PlanError> {
    let mut sectors = Vec::new();
    for span in spans {
        sectors.extend(job.geometry.sectors.sectors_in(*span).ok_or(PlanError::NoSector(*span))?);
    }
    sectors.sort();
    sectors.dedup();
    let spills = |sector: &&Span| !job.route.writes.iter().any(|region| region.span.covers(**sector));
    match sectors.iter().find(spills) {
        Some(sector) => Err(PlanError::Spills { sector: *sector }),
        None => Ok(sectors),
    }
}
