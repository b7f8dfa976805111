//! The whole list of what will be done, before any of it is done.
//!
//! A [`Plan`] can be drafted at any time, to be shown. Only with the
//! [`Approval`] of a final verdict does it become an [`ApprovedPlan`], which
//! is what the executor takes.

mod blocks;
mod dialect;
mod disk;
mod ledger;

use std::fmt;
use std::time::Duration;

use serde::Serialize;
use thiserror::Error;

pub use blocks::{Block, Run};
pub use dialect::Offer;
pub use ledger::Ledger;

use crate::dfu::Attributes;
use crate::matching::{Approval, image_version};
use crate::memory::SectorMap;
use crate::sheet::{
    BOOTLOADER, EntryStep, Ids, Moment, Region, Route, RouteKind, Sheet, Takes, Undo, Variant, VariantId,
    VersionSource, undone,
};
use vaka_base::duration;
use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_base::version::Version;
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_image::span_set::SpanSet;

/// What the unit can take, as far as it is known.
#[derive(Clone, Copy, Debug)]
pub struct Geometry<'a> {
    /// The sectors that an erase takes.
    pub sectors: &'a SectorMap,
    /// Most bytes in one block; unknown before the unit is in update mode.
    pub block_size: Option<u32>,
    /// Whether it can be read back.
    pub can_read: bool,
    /// What its functional descriptor says; unknown before it is in update mode.
    pub attributes: Option<Attributes>,
    /// What its dialect offers, once the unit answered in it.
    pub offer: Option<Offer>,
}

/// One thing that will be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Step {
    /// The unit is put into update mode.
    Enter {
        /// What a person or the host does.
        entry: Vec<EntryStep>,
        /// The ids that must then be seen.
        #[cfg_attr(feature = "schema", schemars(with = "String"))]
        id: Ids,
    },
    /// The unit is asked what it is, and the verdict made again.
    Identify,
    /// What shares a sector with the image and is to stay is read, to be written
    /// again with it.
    Keep {
        /// Of which regions.
        regions: Vec<String>,
        /// Which addresses.
        spans: Vec<Span>,
    },
    /// The unit's content is read first; what already holds the image's bytes is
    /// left as it is.
    Compare {
        /// Which sectors.
        sectors: Vec<Span>,
    },
    /// Sectors are erased.
    Erase {
        /// Which.
        sectors: Vec<Span>,
    },
    /// The unit is told to erase all that it has.
    EraseAll {
        /// What that is.
        sectors: Vec<Span>,
    },
    /// The unit erases sectors by itself when it is written; no request asks for it.
    UnitErases {
        /// Which.
        sectors: Vec<Span>,
        /// Whether that is all that the route writes, and not only what the image covers.
        everything: bool,
    },
    /// The unit holds all of the image, and leaves update mode only after its last block: all
    /// blocks are sent again.
    SendAgain,
    /// Blocks are written.
    Write {
        /// In which contiguous runs.
        runs: Vec<Run>,
    },
    /// The unit is told that this was all; it makes the image effective.
    Finish {
        /// How.
        by: FinishBy,
    },
    /// What was written is read and compared, padding included.
    ReadBack {
        /// What was written.
        spans: Vec<Span>,
        /// Whether a difference is a fault. Where nobody vouches for what an
        /// upload gives, only equality proves something.
        vouched: bool,
    },
    /// The unit computes a checksum of what was written, which is compared with the
    /// image's.
    DeviceCheck {
        /// Of each of these.
        spans: Vec<Span>,
    },
    /// The file that the unit shows of its present application is read once it is
    /// back, and compared.
    LookAgain {
        /// Its name.
        file: String,
    },
    /// The unit is brought into update mode once more with nobody's hands, only to
    /// be read, and started again.
    ReadOnceMore {
        /// What is read.
        spans: Vec<Span>,
    },
    /// The unit leaves update mode.
    Restart {
        /// How.
        by: RestartBy,
    },
    /// A person undoes what they did on the way into update mode.
    Undo {
        /// When.
        when: Moment,
        /// What, in order.
        steps: Vec<Undo>,
    },
    /// The application is waited for.
    Confirm {
        /// Its ids, where they are known.
        #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
        id: Option<Ids>,
        /// The version that it must tell.
        version: Option<Version>,
        /// How long that may take.
        #[serde(serialize_with = "as_milliseconds")]
        #[cfg_attr(feature = "schema", schemars(with = "u64"))]
        within_ms: Duration,
        /// What a person is asked to look at.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        see: Vec<String>,
    },
}

fn as_milliseconds<S: serde::Serializer>(time: &Duration, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_u64(u64::try_from(time.as_millis()).unwrap_or(u64::MAX))
}

/// How a unit learns that it has all of an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FinishBy {
    /// It is told so.
    Request,
    /// It counts: the last block was held back, and is sent now.
    LastBlock(Span),
    /// A file is whole on its disk.
    File(String),
}

impl fmt::Display for FinishBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Request => f.write_str("tell the unit that this was all; it checks the image and makes it effective"),
            Self::LastBlock(span) => write!(f, "send the last block, {span}, which was held back until here"),
            Self::File(name) => write!(f, "complete the file {name} on the unit's disk; the unit then takes it"),
        }
    }
}

/// How a unit leaves update mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RestartBy {
    /// It is told where to start.
    Address(Address),
    /// It is told to start its application.
    Request,
    /// The host resets the bus.
    BusReset,
    /// It leaves once it has made the image effective.
    Itself,
    /// Its disk is ejected.
    Eject,
    /// It is unplugged and plugged in.
    PowerCycle,
    /// It needs not: its application is what shows the disk.
    Nothing,
    /// It says how only once it is in update mode.
    NotKnownYet,
}

impl fmt::Display for RestartBy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Address(at) => write!(f, "leave update mode and start at {at}"),
            Self::Request => f.write_str("tell the unit to leave update mode and start its application"),
            Self::BusReset => f.write_str("reset the bus, which makes the unit start its application"),
            Self::Itself => f.write_str("the unit restarts by itself"),
            Self::Eject => f.write_str("eject the unit's disk, which makes it start its application"),
            Self::PowerCycle => f.write_str("unplug the unit and plug it in again, by hand"),
            Self::Nothing => f.write_str("nothing: the unit's application runs all the time"),
            Self::NotKnownYet => f.write_str("leave update mode, by itself or by a reset of the bus"),
        }
    }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Enter { entry, id } => {
                match &entry[..] {
                    [EntryStep::Signal(signal)] => write!(f, "{signal}")?,
                    _ => f.write_str("put the unit into update mode by hand")?,
                }
                write!(f, ", until {id} is seen")
            }
            Self::Identify => f.write_str("ask the unit what it is and judge again; nothing is changed before that"),
            Self::Keep { regions, spans } => {
                let bytes = Bytes(spans.iter().map(|span| span.len()).sum());
                let of = regions.join(" and ");
                write!(f, "read {bytes} of {of} beside the image in its sectors, and write them again with it")?;
                spans.iter().try_for_each(|span| write!(f, ", {span}"))
            }
            Self::Compare { sectors } => {
                let count = text::count(sectors.len(), "sector");
                write!(f, "read {count}; what holds the image's bytes already is left out of the steps below")
            }
            Self::Erase { sectors } => {
                let bytes = sectors.iter().map(|sector| sector.len()).sum();
                write!(f, "erase {}, {}", text::count(sectors.len(), "sector"), Bytes(bytes))?;
                for run in Span::joined(sectors.iter().copied()) {
                    write!(f, ", {run}")?;
                }
                Ok(())
            }
            Self::EraseAll { sectors } => {
                let bytes = sectors.iter().map(|sector| sector.len()).sum();
                write!(f, "erase all of the unit's memory at once, {}", Bytes(bytes))
            }
            Self::SendAgain => f.write_str(
                "the unit holds all of the image, and leaves update mode only after its last block: send all blocks again",
            ),
            Self::UnitErases { sectors, everything } => {
                let bytes = Bytes(sectors.iter().map(|sector| sector.len()).sum());
                let count = text::count(sectors.len(), "sector");
                match everything {
                    true => write!(f, "the unit erases everything that this route writes by itself, {count}, {bytes}"),
                    false => write!(f, "the unit erases what the image covers by itself, {count}, {bytes}"),
                }
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
            Self::Finish { by } => by.fmt(f),
            Self::LookAgain { file } => {
                write!(f, "once the disk is there again, read {file} from it and compare each byte with the image")
            }
            Self::ReadBack { spans, vouched } => {
                let bytes = spans.iter().map(|span| span.len()).sum();
                let sure =
                    if *vouched { "" } else { "; only equality proves something, this unit may give other bytes" };
                write!(f, "read {} bytes back and compare each with what was written{sure}", Grouped(bytes))
            }
            Self::DeviceCheck { spans } => {
                let bytes = Grouped(spans.iter().map(|span| span.len()).sum());
                let of = text::count(spans.len(), "stretch").replace("stretchs", "stretches");
                write!(f, "let the unit compute its checksum of {bytes} bytes in {of} and compare it with the image's")
            }
            Self::ReadOnceMore { spans } => {
                let bytes = Grouped(spans.iter().map(|span| span.len()).sum());
                write!(
                    f,
                    "bring the unit into update mode once more, read {bytes} bytes and compare each, start it again"
                )
            }
            Self::Restart { by } => by.fmt(f),
            Self::Undo { steps, .. } => {
                let steps: Vec<&str> = steps.iter().map(|undo| undo.action.trim_end_matches('.')).collect();
                write!(f, "by hand: {}", steps.join("; then: "))
            }
            Self::Confirm { id, version, within_ms, see } => {
                let within = duration::words(*within_ms);
                match id {
                    None if !see.is_empty() => write!(f, "ask a person what the unit shows: {}", see.join("; "))?,
                    Some(id) => write!(f, "see the unit come back as {id} within {within}")?,
                    None => write!(f, "see within {within} that the unit is not in update mode any more")?,
                }
                version.as_ref().map_or(Ok(()), |version| write!(f, ", with version {version}"))?;
                let asked = id.is_some() && !see.is_empty();
                if asked { write!(f, "; a person is asked for: {}", see.join("; ")) } else { Ok(()) }
            }
        }
    }
}

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
    sectors: Vec<Span>,
    /// Whether the unit takes and gives its content as one stream.
    #[serde(skip)]
    streamed: bool,
    /// What of them is kept, and is not yet a part of the image.
    #[serde(skip)]
    kept: Vec<Span>,
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
    #[error("erasing the sector {sector} would erase a part of what lies beside the regions that may be written{}", beside(.regions))]
    Spills {
        /// The sector.
        sector: Span,
        /// The regions that could be kept.
        regions: Vec<String>,
    },
    /// What is to be kept must be read first.
    #[error("the unit cannot be read, so nothing in a sector that is erased can be kept")]
    CannotKeep,
    /// The unit takes blocks of no bytes.
    #[error("the unit says that it takes blocks of 0 bytes")]
    NoBlockSize,
    /// The unit decides what is erased on this route.
    #[error("on a {route} route the unit itself decides what is erased; {option} has no meaning there")]
    UnitDecides {
        /// The kind of route.
        route: String,
        /// The option.
        option: &'static str,
    },
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
    /// Whether everything that may be is erased first.
    pub clear_all: bool,
    /// What is known of the unit's content.
    pub content: Content<'a>,
    /// Names of regions that stay as they are.
    pub keep: &'a [String],
}

impl Job<'_> {
    fn keeps(&self) -> impl Iterator<Item = &Region> {
        self.variant.regions.iter().filter(|region| region.name != BOOTLOADER && self.keep.contains(&region.name))
    }
}

fn beside(regions: &[String]) -> String {
    if regions.is_empty() { String::new() } else { format!(": of {}", regions.join(" and ")) }
}

/// What is known of a unit's content before it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Content<'a> {
    /// Nothing, and it is written whatever it is.
    Rewrite,
    /// Nothing yet; it is looked at first, where that is possible.
    Unseen,
    /// These sectors hold the image's bytes already.
    Equal(&'a [Span]),
}

impl Content<'_> {
    fn is_equal(self, sector: Span) -> bool {
        matches!(self, Self::Equal(sectors) if sectors.contains(&sector))
    }
}

impl Plan {
    /// Drafts the plan of a job.
    ///
    /// # Errors
    /// [`PlanError`]: image, sheet and unit do not go together. A verdict that
    /// fits rules that out; this does not rely on it.
    pub fn draft(job: &Job<'_>) -> Result<Self, PlanError> {
        let (after, id) = (job.sheet.after(), job.sheet.application_ids(job.variant).cloned());
        let tells = *job.sheet.version_source(job.variant) != VersionSource::Nowhere;
        let version = image_version(job.variant, job.image).filter(|_| tells);
        let mut steps = Vec::new();
        if job.needs_entry {
            steps.extend([Step::Enter { entry: job.route.entry.clone(), id: job.route.id.clone() }, Step::Identify]);
        }
        let mut kept = Vec::new();
        let sectors = match &job.route.kind {
            RouteKind::Dfu { .. } => addressed(job, &mut steps, &mut kept)?,
            RouteKind::PlainDfu { uploads_image, .. } => streamed(job, *uploads_image, &mut steps)?,
            RouteKind::Volume(route) => match &route.takes {
                Takes::Uf2 { .. } => disk::blocks(job, route, &mut steps)?,
                Takes::File(file) => disk::file(job, route, file, &mut steps)?,
            },
            RouteKind::Dialect(route) => dialect::steps(job, route, &mut steps, &mut kept)?,
        };
        let streamed = match &job.route.kind {
            RouteKind::Dfu { .. } | RouteKind::Dialect(_) => false,
            RouteKind::PlainDfu { .. } => true,
            RouteKind::Volume(route) => matches!(route.takes, Takes::File(_)),
        };
        let restart = steps.iter().rposition(|step| matches!(step, Step::Restart { .. })).unwrap_or(steps.len());
        let entered = steps.iter().position(|step| *step == Step::Identify).map_or(0, |at| at + 1);
        for (at, when) in [(restart, Moment::Written), (entered, Moment::Entered)] {
            if let Some(undo) = undo(job, when) {
                steps.insert(at, undo);
            }
        }
        steps.push(Step::Confirm { id, version, within_ms: after.back_within, see: after.see.clone() });
        steps.extend(once_more(job, &steps));
        steps.extend(undo(job, Moment::End));
        let is_untouched = |region: &&Region| sectors.iter().all(|sector| sector.common(region.span).is_none());
        let untouched = match &job.route.kind {
            RouteKind::Dfu { .. } | RouteKind::Volume(_) | RouteKind::Dialect(_) => {
                job.variant.regions.iter().filter(is_untouched).map(|r| r.name.clone()).collect()
            }
            RouteKind::PlainDfu { .. } => Vec::new(),
        };
        let (variant, route) = (job.variant.id.clone(), job.route.kind.to_string());
        Ok(Self { variant, route, steps, untouched, sectors, streamed, kept })
    }

    /// Takes out what a person undoes at the end; it is then done later.
    pub fn take_undo(&mut self) -> Vec<Undo> {
        let is_it = |step: &Step| matches!(step, Step::Undo { when: Moment::End, .. });
        let taken = self.steps.iter().position(is_it).map(|at| self.steps.remove(at));
        if let Some(Step::Undo { steps, .. }) = taken { steps } else { Vec::new() }
    }

    /// Adds what a person undoes at the end besides, of what was done before this plan.
    pub fn undo_also(&mut self, more: &[Undo]) {
        let mut steps = self.take_undo();
        steps.extend(more.iter().cloned());
        if !steps.is_empty() {
            self.steps.push(Step::Undo { when: Moment::End, steps });
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
            Step::Finish { by: FinishBy::LastBlock(span) } => Some(*span),
            _ => None,
        })
    }

    /// Whether a span is read back after the writing.
    pub fn reads_back(&self, part: Span) -> bool {
        self.steps.iter().any(|step| match step {
            Step::ReadBack { spans, .. } => spans.iter().any(|span| span.covers(part)),
            _ => false,
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

/// The steps for a unit that is erased and written by address; returns the
/// sectors that are erased.
fn addressed(job: &Job<'_>, steps: &mut Vec<Step>, kept: &mut Vec<Span>) -> Result<Vec<Span>, PlanError> {
    let spans: Vec<Span> = job.image.segments().iter().map(|segment| segment.span()).collect();
    let of_image = sectors_of(&spans, job)?;
    let mut sectors = if job.clear_all { all_sectors(job) } else { of_image.clone() };
    sectors.retain(|sector| !job.content.is_equal(*sector));
    *kept = to_be_kept(job, &sectors)?;
    steps.extend(keep(job, kept));
    if job.content == Content::Unseen && job.geometry.can_read && !job.clear_all {
        steps.push(Step::Compare { sectors: of_image });
    }
    if !sectors.is_empty() {
        let erased = Span::joined(sectors.iter().copied());
        let changed: Vec<Span> = erased.iter().flat_map(|e| spans.iter().filter_map(|span| span.common(*e))).collect();
        let runs = blocks::runs(&changed, &erased, &job.geometry)?;
        let written = runs.iter().map(Run::span).collect();
        let at_once = job.clear_all && bootloader(job.variant).is_none() && job.keeps().next().is_none();
        steps.push(match at_once {
            true => Step::EraseAll { sectors: sectors.clone() },
            false => Step::Erase { sectors: sectors.clone() },
        });
        steps.push(Step::Write { runs });
        if job.geometry.can_read {
            steps.push(Step::ReadBack { spans: written, vouched: true });
        }
    }
    let at = job.route.restart_at.unwrap_or(job.image.start());
    steps.push(Step::Restart { by: RestartBy::Address(at) });
    Ok(sectors)
}

/// A unit that left before it could be read is brought back for that, where nobody's
/// hands are needed and what it gives is what it took.
fn once_more(job: &Job<'_>, steps: &[Step]) -> Option<Step> {
    let RouteKind::PlainDfu { uploads_image: true, .. } = job.route.kind else { return None };
    let finishes = steps.iter().any(|step| matches!(step, Step::Finish { .. }));
    let leaves = job.geometry.attributes.is_some_and(|attributes| !attributes.manifestation_tolerant());
    let wanted = finishes && leaves && job.geometry.can_read && job.route.enters_by_itself();
    wanted.then(|| Step::ReadOnceMore { spans: vec![job.image.span()] })
}

/// What a person undoes at one moment, if there is something.
fn undo(job: &Job<'_>, when: Moment) -> Option<Step> {
    let steps = undone(&job.route.hands(), when).unwrap_or_default();
    let steps: Vec<Undo> = steps.into_iter().map(|(_, undo)| undo.clone()).collect();
    (!steps.is_empty()).then_some(Step::Undo { when, steps })
}

/// Refuses what only a route with addresses can do.
fn unit_decides(job: &Job<'_>) -> Result<(), PlanError> {
    let option = match (job.clear_all, job.keep) {
        (true, _) => "--clear-all",
        (false, [_, ..]) => "--keep",
        (false, []) => return Ok(()),
    };
    Err(PlanError::UnitDecides { route: job.route.kind.to_string(), option })
}

/// The steps for a unit that takes the whole image as one stream of bytes.
fn streamed(job: &Job<'_>, uploads_image: bool, steps: &mut Vec<Step>) -> Result<Vec<Span>, PlanError> {
    unit_decides(job)?;
    if job.geometry.block_size == Some(0) {
        return Err(PlanError::NoBlockSize);
    }
    let span = job.image.span();
    let sectors = sectors_of(&[span], job)?;
    // Only what is known to come back as it went in can be compared.
    if job.content == Content::Unseen && job.geometry.can_read && uploads_image {
        steps.push(Step::Compare { sectors: sectors.clone() });
    }
    if sectors.iter().all(|sector| job.content.is_equal(*sector)) {
        steps.push(Step::Restart { by: RestartBy::BusReset });
        return Ok(Vec::new());
    }
    steps.push(Step::Write { runs: vec![Run::stream(span, job.geometry.block_size)] });
    steps.push(Step::Finish { by: FinishBy::Request });
    let stays = job.geometry.attributes.is_none_or(Attributes::manifestation_tolerant);
    if job.geometry.can_read && stays {
        steps.push(Step::ReadBack { spans: vec![span], vouched: uploads_image });
    }
    let by = match job.geometry.attributes {
        None => RestartBy::NotKnownYet,
        Some(attributes) if attributes.manifestation_tolerant() || !attributes.will_detach() => RestartBy::BusReset,
        Some(_) => RestartBy::Itself,
    };
    steps.push(Step::Restart { by });
    Ok(sectors)
}

fn bootloader(variant: &Variant) -> Option<&Region> {
    variant.regions.iter().find(|region| region.name == BOOTLOADER)
}

/// Every sector that can be erased, but for the bootloader's.
fn all_sectors(job: &Job<'_>) -> Vec<Span> {
    let keep = bootloader(job.variant).map(|region| region.span);
    let zones = job.geometry.sectors.zones().iter().filter(|zone| zone.access().takes_firmware());
    let all = zones.flat_map(|zone| job.geometry.sectors.sectors_in(zone.span()).unwrap_or_default());
    let stays = |sector: &Span| job.keeps().any(|region| region.span.covers(*sector));
    all.filter(|sector| keep.is_none_or(|keep| sector.common(keep).is_none()) && !stays(sector)).collect()
}

/// What the erased sectors hold of kept regions, but for what the image has. Without a sheet
/// nobody knows what lies beside the image in its sectors: all of it is kept, where the unit can
/// be read.
fn to_be_kept(job: &Job<'_>, sectors: &[Span]) -> Result<Vec<Span>, PlanError> {
    if !job.sheet.is_described {
        let rest = rest_of_sectors(job.image, sectors);
        return Ok(if job.clear_all || !job.geometry.can_read { Vec::new() } else { rest });
    }
    let of_sector = |sector: &Span| job.keeps().filter_map(|region| region.span.common(*sector)).collect::<Vec<_>>();
    let is_open = |span: &Span| job.image.bytes(*span).is_none();
    let kept = Span::joined(sectors.iter().flat_map(of_sector).filter(is_open));
    if kept.is_empty() || job.geometry.can_read { Ok(kept) } else { Err(PlanError::CannotKeep) }
}

/// What sectors hold beside an image.
pub fn rest_of_sectors(image: &Image, sectors: &[Span]) -> Vec<Span> {
    let mut rest = SpanSet::default();
    sectors.iter().for_each(|sector| rest.insert(*sector));
    image.segments().iter().for_each(|segment| rest.remove(segment.span()));
    rest.spans().to_vec()
}

/// The step that reads what is kept, if something is.
fn keep(job: &Job<'_>, kept: &[Span]) -> Option<Step> {
    if !job.sheet.is_described {
        let regions = vec!["what the unit holds".to_owned()];
        return (!kept.is_empty()).then(|| Step::Keep { regions, spans: kept.to_vec() });
    }
    let is_in = |region: &&Region| kept.iter().any(|span| region.span.common(*span).is_some());
    let regions = job.keeps().filter(is_in).map(|region| region.name.clone()).collect();
    (!kept.is_empty()).then(|| Step::Keep { regions, spans: kept.to_vec() })
}

/// Every sector that holds a byte of the image, each once. All of each must
/// lie in regions that the route writes or that are kept: erasing takes whole
/// sectors.
fn sectors_of(spans: &[Span], job: &Job<'_>) -> Result<Vec<Span>, PlanError> {
    let mut sectors = Vec::new();
    for span in spans {
        sectors.extend(job.geometry.sectors.sectors_in(*span).ok_or(PlanError::NoSector(*span))?);
    }
    sectors.sort();
    sectors.dedup();
    let written = |region: &Region| job.route.writes.iter().any(|other| other.name == region.name);
    let may_go = |region: &&Region| written(region) || job.keeps().any(|kept| kept.name == region.name);
    let spills = |sector: &&Span| {
        let regions = job.variant.regions.iter().filter(may_go);
        regions.filter_map(|region| region.span.common(**sector)).map(Span::len).sum::<u64>() < sector.len()
    };
    let Some(sector) = sectors.iter().find(spills).copied() else { return Ok(sectors) };
    let in_the_way = |region: &&Region| region.span.common(sector).is_some() && !may_go(region);
    let regions = job.variant.regions.iter().filter(in_the_way).filter(|region| region.name != BOOTLOADER);
    Err(PlanError::Spills { sector, regions: regions.map(|region| region.name.clone()).collect() })
}
