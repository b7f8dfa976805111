//! Commands that inspect or read one unit.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, Subcommand};
use vaka_base::duration;
use vaka_image::address::Span;

use super::files::{ImageSelection, Output};
use super::values::{assignment, range};

#[derive(Debug, ClapArgs)]
pub struct Survey {
    /// Print each unit that is attached or detached, until Ctrl-C
    #[arg(long)]
    pub watch: bool,
}

#[derive(Debug, Default, ClapArgs)]
pub struct Console {
    /// Send this line at the start; may be repeated. At a terminal, typed lines are sent too
    #[arg(long, value_name = "LINE")]
    pub send: Vec<String>,
    /// Exit when a line contains this text; exit status 4 if none does in time
    #[arg(long, value_name = "WORDS")]
    pub until: Option<String>,
    /// Time limit of --until
    #[arg(long, value_name = "TIME", default_value = "10s", value_parser = duration::parse)]
    pub within: Duration,
    /// Also write the output into this new file
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,
    /// USB interface with the data of the serial port, if the unit has several ports
    #[arg(long, value_name = "NUMBER")]
    pub interface: Option<u8>,
}

/// A range of memory.
#[derive(Clone, Debug, ClapArgs)]
pub struct MemoryRange {
    /// Region of the product sheet
    #[arg(long, value_name = "NAME", conflicts_with = "range")]
    pub region: Option<String>,
    /// Address range without its end address: 0x0A002400..0x0A003000
    #[arg(long, value_name = "A..B", value_parser = range)]
    pub range: Option<Span>,
    /// Memory of a DFU unit without a product sheet: its name, ALTERNATE or INTERFACE.ALTERNATE
    #[arg(long, value_name = "MEMORY")]
    pub memory: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct Read {
    /// Output file
    #[arg(value_name = "OUT")]
    pub out: PathBuf,
    #[command(flatten)]
    pub place: MemoryRange,
    /// Read N times and compare the results, for unreliable units or cables
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub times: u32,
    /// Add serial number, version and time to the name of the file
    #[arg(long)]
    pub dated: bool,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, ClapArgs)]
pub struct Compare {
    /// Firmware file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Second file; without it, the memory of a unit
    #[arg(value_name = "OTHER")]
    pub other: Option<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    #[command(flatten)]
    pub place: MemoryRange,
}

#[derive(Debug, Subcommand)]
pub enum SettingsCommand {
    /// Read a transferable region of a unit into a file
    Save {
        /// Output file
        #[arg(value_name = "OUT")]
        out: PathBuf,
        /// Region name
        #[arg(long, value_name = "NAME", default_value = "settings")]
        region: String,
        /// Overwrite OUT if it exists
        #[arg(long)]
        replace: bool,
    },
    /// Write saved settings into a unit; per-unit values such as its serial number are kept
    Load {
        /// File of 'vaka settings save'
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Set a per-unit value instead of keeping the present one
        #[arg(long, value_name = "NAME=VALUE", value_parser = assignment)]
        set: Vec<(String, String)>,
    },
}
