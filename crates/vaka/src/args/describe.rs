//! Commands for product sheets and dialects.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};
use vaka_dialect::carrier;

#[derive(Debug, Subcommand)]
pub enum DialectCommand {
    /// A commented starting point for one kind of carrier
    New {
        /// What moves the frames
        #[arg(long, value_parser = carrier_names())]
        carrier: String,
        /// Where it goes; without it to standard output
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Whether dialects are sound: what is wrong, with line and column, and what is missing
    Check {
        /// Dialects
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// The protocol as a table: operation by operation, frame by frame
    Show {
        /// The dialect
        file: PathBuf,
    },
    /// The frames of a recorded run, with the names of their fields beside the bytes
    Trace {
        /// The dialect
        file: PathBuf,
        /// What --trace recorded
        trace: PathBuf,
        /// Only the frames of this operation
        #[arg(long, value_name = "NAME")]
        operation: Option<String>,
    },
    /// Run a dialect against recorded frames, with no unit: does it send the same, and understand what came?
    Replay {
        /// The dialect
        file: PathBuf,
        /// What --trace recorded
        trace: PathBuf,
    },
}

/// The names of all kinds of carrier, with their descriptions.
fn carrier_names() -> impl clap::builder::TypedValueParser<Value = String> {
    use clap::builder::{PossibleValue, PossibleValuesParser};
    let value = |kind: &&carrier::CarrierKind| PossibleValue::new(kind.name).help(kind.description);
    PossibleValuesParser::new(carrier::KINDS.iter().map(value))
}

#[derive(Debug, Subcommand)]
pub enum SheetCommand {
    /// A first sheet of the unit that --unit names, from all that it says of itself
    New(NewSheet),
    /// Whether sheets are sound, and what is wrong where
    Check {
        /// Sheets
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// What a sheet says, for reading: variants, memory, ways of updating, manual steps
    Show {
        /// The sheet
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// The JSON Schema of sheets, for editors
    Schema,
}

#[derive(Debug, ClapArgs)]
pub struct NewSheet {
    /// Where to write it; else it is printed
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Which of the unit's memories: its name, ALTERNATE or INTERFACE.ALTERNATE
    #[arg(long, value_name = "MEMORY")]
    pub memory: Option<String>,
}
