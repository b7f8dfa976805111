//! One action of a plan, and how it is shown.

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
        by: FinishMethod,
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
        by: RestartMethod,
    },
    /// A person undoes what they did on the way into update mode.
    Undo {
        /// When.
        when: UndoPhase,
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
pub enum FinishMethod {
    /// It is told so.
    Request,
    /// It counts: the last block was held back, and is sent now.
    LastBlock(Span),
    /// A file is whole on its disk.
    File(String),
}

impl fmt::Display for FinishMethod {
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
pub enum RestartMethod {
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

impl fmt::Display for RestartMethod {
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
                fmt_write(runs, f)
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
                fmt_confirm(id.as_ref(), *within_ms, see, f)?;
                version.as_ref().map_or(Ok(()), |version| write!(f, ", with version {version}"))?;
                let asked = id.is_some() && !see.is_empty();
                if asked { write!(f, "; a person is asked for: {}", see.join("; ")) } else { Ok(()) }
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
        None => f.write_str("; the unit says how large the blocks are"),
    }
}

fn fmt_confirm(id: Option<&Ids>, within: Duration, see: &[String], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    let within = duration::words(within);
    match id {
        None if !see.is_empty() => write!(f, "ask a person what the unit shows: {}", see.join("; ")),
        Some(id) => write!(f, "see the unit come back as {id} within {within}"),
        None => write!(f, "see within {within} that the unit is not in update mode any more"),
    }
}
