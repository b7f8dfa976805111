//! Commands for product sheets and dialects.

use std::path::PathBuf;

use clap::{ArgGroup, Args as ClapArgs, Subcommand};
use vaka_dialect::{carrier, protocols};

#[derive(Debug, Subcommand)]
pub enum DialectCommand {
    /// Create a dialect: a commented template for a kind of carrier, or one for a standard protocol
    #[command(group(ArgGroup::new("form").required(true).args(["carrier", "protocol"])))]
    New {
        /// Transport of the frames of an own protocol
        #[arg(long, value_parser = carrier_names())]
        carrier: Option<String>,
        /// Protocol that is an open standard
        #[arg(long, value_name = "NAME", value_parser = protocol_names())]
        protocol: Option<String>,
        /// Output file; default: standard output
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Check dialects: errors with line and column, and missing operations
    Check {
        /// Dialect files
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// Show a dialect as a table of operations and frames
    Show {
        /// Dialect file
        file: PathBuf,
    },
    /// Show the frames of a trace with the names of their fields
    Trace {
        /// Dialect file
        file: PathBuf,
        /// Trace file of --trace
        trace: PathBuf,
        /// Only the frames of this operation
        #[arg(long, value_name = "NAME")]
        operation: Option<String>,
    },
    /// Send single exchanges to a unit and show the frames field by field
    Try {
        /// Dialect file
        file: PathBuf,
        /// Operations, exchanges or steps, such as identify or "read(address = 0x100, length = 16)"; without any, they are read from standard input, line by line
        #[arg(value_name = "STEPS")]
        steps: Vec<String>,
    },
    /// Test a dialect against a trace, without a unit
    Replay {
        /// Dialect file
        file: PathBuf,
        /// Trace file of --trace
        trace: PathBuf,
    },
}

/// The names of all kinds of carrier, with their descriptions.
fn carrier_names() -> impl clap::builder::TypedValueParser<Value = String> {
    use clap::builder::{PossibleValue, PossibleValuesParser};
    let value = |kind: &&carrier::CarrierKind| PossibleValue::new(kind.name).help(kind.description);
    PossibleValuesParser::new(carrier::KINDS.iter().map(value))
}

/// The names of the ready dialects, with their descriptions.
fn protocol_names() -> impl clap::builder::TypedValueParser<Value = String> {
    use clap::builder::{PossibleValue, PossibleValuesParser};
    let value = |ready: &protocols::ReadyDialect| PossibleValue::new(ready.name).help(ready.description);
    PossibleValuesParser::new(protocols::READY.iter().map(value))
}

#[derive(Debug, Subcommand)]
pub enum SheetCommand {
    /// Create a first product sheet from the descriptors of the unit
    New(NewSheet),
    /// Check product sheets: errors with line and key
    Check {
        /// Product sheets
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// Show a product sheet: variants, memory, routes and manual steps
    Show {
        /// Product sheet
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Print the JSON Schema of product sheets, for editors
    Schema,
}

#[derive(Debug, ClapArgs)]
pub struct NewSheet {
    /// Output file; default: standard output
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Memory of the unit: its name, ALTERNATE or INTERFACE.ALTERNATE
    #[arg(long, value_name = "MEMORY")]
    pub memory: Option<String>,
    /// Also wait (--wait) until the unit is in its other mode, and describe both
    #[arg(long)]
    pub both_modes: bool,
}
