//! One step of a plan, and its text.

use crate::plan::blocks::Run;
use std::fmt;
use std::time::Duration;

use serde::Serialize;

use crate::sheet::EntryStep;
use crate::sheet::Ids;
use crate::sheet::{Undo, UndoPhase};
use vaka_base::duration;
use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_base::version::Version;
use vaka_image::address::{Address, Span};

/// One step of a plan.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Step {
    /// Enters update mode.
    Enter {
        /// The manual steps and host signals.
        entry: Vec<EntryStep>,
        /// The ids that must then be seen.
        #[cfg_attr(feature = "schema", schemars(with = "String"))]
        id: Ids,
    },
    /// Identifies the unit again and makes the final verdict.
    Identify,
    /// Reads content that shares a sector with the image and must be preserved; it is written
    /// back with the image.
    Keep {
        /// The preserved regions.
        regions: Vec<String>,
        /// The preserved addresses.
        spans: Vec<Span>,
    },
    /// Compares the unit's content with the image; matching sectors are skipped.
    Compare {
        /// The sectors.
        sectors: Vec<Span>,
        /// Whether all of them are written unless all match, because the unit takes the image only as a whole.
        whole: bool,
    },
    /// Sectors are erased.
    Erase {
        /// The sectors.
        sectors: Vec<Span>,
    },
    /// Requests that the unit erase everything.
    EraseAll {
        /// The erased sectors.
        sectors: Vec<Span>,
    },
    /// The unit erases sectors by itself when it is written, without a request.
    UnitErases {
        /// The sectors.
        sectors: Vec<Span>,
        /// Whether it erases everything that the route writes, not only the sectors of the image.
        everything: bool,
    },
    /// All content is present, but the unit leaves update mode only after the last block: all
    /// blocks are sent again.
    SendAgain,
    /// Blocks are written.
    Write {
        /// The contiguous runs.
        runs: Vec<Run>,
    },
    /// Ends the download; the unit activates the image.
    Finish {
        /// The method.
        by: FinishMethod,
    },
    /// Reads the written content back and compares it, padding included.
    ReadBack {
        /// The written spans.
        spans: Vec<Span>,
        /// Whether a difference is an error. Without the sheet's assurance about uploads only
        /// equality proves anything.
        vouched: bool,
    },
    /// Compares a checksum that the unit computes with that of the image.
    DeviceCheck {
        /// The spans, one checksum each.
        spans: Vec<Span>,
    },
    /// The file that the unit shows of its present application is read once it is
    /// back, and compared.
    LookAgain {
        /// Name of the file.
        file: String,
    },
    /// Re-enters update mode without a manual step, only to read the unit, and restarts it.
    ReadOnceMore {
        /// The spans to read.
        spans: Vec<Span>,
    },
    /// The unit leaves update mode.
    Restart {
        /// The method.
        by: RestartMethod,
    },
    /// The user undoes the manual steps.
    Undo {
        /// When.
        when: UndoPhase,
        /// The undo actions in order.
        steps: Vec<Undo>,
    },
    /// The application is waited for.
    Confirm {
        /// Ids of the application, if known.
        #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
        id: Option<Ids>,
        /// The version that it must report.
        version: Option<Version>,
        /// Time limit.
        #[serde(serialize_with = "as_milliseconds")]
        #[cfg_attr(feature = "schema", schemars(with = "u64"))]
        within_ms: Duration,
        /// Visible signs that the user is asked about.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        see: Vec<String>,
    },
}

fn as_milliseconds<S: serde::Serializer>(time: &Duration, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_u64(u64::try_from(time.as_millis()).unwrap_or(u64::MAX))
}

/// How a unit learns that the image is complete.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FinishMethod {
    /// By a request.
    Request,
    /// By counting blocks: the last block was deferred and is sent now.
    LastBlock(Span),
    /// A file is whole on its disk.
    File(String),
}

impl fmt::Display for FinishMethod {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Request => f.write_str("end the transfer; the unit checks and activates the image"),
            Self::LastBlock(span) => write!(f, "send the last block, {span}, which was deferred"),
            Self::File(name) => write!(f, "complete the file {name} on the unit's disk; the unit then installs it"),
        }
    }
}

/// How a unit leaves update mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RestartMethod {
    /// By a request with the start address.
    Address(Address),
    /// By a request to start the application.
    Request,
    /// The host resets the bus.
    BusReset,
    /// By itself, once it has activated the image.
    Itself,
    /// By ejecting its disk.
    Eject,
    /// By a power cycle.
    PowerCycle,
    /// No restart is needed: the application itself exposes the disk.
    Nothing,
    /// Known only in update mode.
    NotKnownYet,
}

impl fmt::Display for RestartMethod {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Address(at) => write!(f, "leave update mode and start at {at}"),
            Self::Request => f.write_str("leave update mode and start the application"),
            Self::BusReset => f.write_str("reset the bus, which starts the application"),
            Self::Itself => f.write_str("the unit restarts by itself"),
            Self::Eject => f.write_str("eject the unit's disk, which starts the application"),
            Self::PowerCycle => f.write_str("unplug the unit and plug it in again (manual step)"),
            Self::Nothing => f.write_str("none: the application runs all the time"),
            Self::NotKnownYet => f.write_str("leave update mode, by itself or by a bus reset"),
        }
    }
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Enter { entry, id } => {
                match &entry[..] {
                    [EntryStep::Signal(signal)] => write!(f, "{signal}")?,
                    _ => f.write_str("put the unit into update mode (manual step)")?,
                }
                write!(f, ", until {id} appears")
            }
            Self::Identify => f.write_str("identify the unit again and make the final verdict; no change before that"),
            Self::Keep { regions, spans } => {
                let bytes = Bytes(spans.iter().map(|span| span.len()).sum());
                let of = regions.join(" and ");
                write!(f, "read {bytes} of {of} in the image's sectors, and write them back with the image")?;
                spans.iter().try_for_each(|span| write!(f, ", {span}"))
            }
            Self::Compare { sectors, whole } => {
                let left_out = if *whole { "nothing is written if all match" } else { "those that match are skipped" };
                write!(f, "compare {}; {left_out}", text::count(sectors.len(), "sector"))
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
                write!(f, "erase the unit's whole memory at once, {}", Bytes(bytes))
            }
            Self::SendAgain => f.write_str(
                "all content is present, but the unit leaves update mode only after its last block: send all blocks again",
            ),
            Self::UnitErases { sectors, everything } => {
                let bytes = Bytes(sectors.iter().map(|sector| sector.len()).sum());
                let count = text::count(sectors.len(), "sector");
                match everything {
                    true => write!(f, "the unit itself erases everything that this route writes, {count}, {bytes}"),
                    false => write!(f, "the unit itself erases the sectors of the image, {count}, {bytes}"),
                }
            }
            Self::Write { runs } => {
                fmt_write(runs, f)
            }
            Self::Finish { by } => by.fmt(f),
            Self::LookAgain { file } => {
                write!(f, "once the disk has returned, read {file} and compare each byte with the image")
            }
            Self::ReadBack { spans, vouched } => {
                let bytes = spans.iter().map(|span| span.len()).sum();
                let sure =
                    if *vouched { "" } else { "; only equality proves anything, because this unit may return other bytes" };
                write!(f, "read {} bytes back and compare each with the written byte{sure}", Grouped(bytes))
            }
            Self::DeviceCheck { spans } => {
                let bytes = Grouped(spans.iter().map(|span| span.len()).sum());
                let of = text::count(spans.len(), "stretch").replace("stretchs", "stretches");
                write!(f, "compare the unit's checksum of {bytes} bytes in {of} with the image's")
            }
            Self::ReadOnceMore { spans } => {
                let bytes = Grouped(spans.iter().map(|span| span.len()).sum());
                write!(
                    f,
                    "enter update mode again, read {bytes} bytes, compare each, and restart the unit"
                )
            }
            Self::Restart { by } => by.fmt(f),
            Self::Undo { steps, .. } => {
                let steps: Vec<&str> = steps.iter().map(|undo| undo.action.trim_end_matches('.')).collect();
                write!(f, "by hand: {}", steps.join("; then: "))
            }
            Self::Confirm { id, version, within_ms, see } => {
                fmt_confirm(id.as_ref(), *within_ms, see, f)?;
                version.as_ref().map_or(Ok(()), |version| write!(f, ", with version {version}"))?;
                let asked = id.is_some() && !see.is_empty();
                if asked { write!(f, "; you will be asked to confirm: {}", see.join("; ")) } else { Ok(()) }
            }
        }
    }
}

fn fmt_write(runs: &[Run], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let bytes = runs.iter().map(|run| run.span().len()).sum();
    let blocks = runs.iter().map(|run| run.blocks().count()).sum();
    write!(f, "write {} bytes in {}", Grouped(bytes), text::count(runs.len(), "run"))?;
    match runs.iter().find_map(Run::block_size) {
        Some(size) => write!(f, ", {} of {}", text::count(blocks, "block"), Bytes(u64::from(size))),
        None => f.write_str("; the unit determines the block size"),
    }
}

fn fmt_confirm(id: Option<&Ids>, within: Duration, see: &[String], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let within = duration::words(within);
    match id {
        None if !see.is_empty() => write!(f, "you will be asked to confirm: {}", see.join("; ")),
        Some(id) => write!(f, "wait up to {within} for it to return as {id}"),
        None => write!(f, "wait up to {within} for the unit to leave update mode"),
    }
}
