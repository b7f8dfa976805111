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
    /// Keep printing what comes and goes, until Ctrl-C
    #[arg(long)]
    pub watch: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Console {
    /// Send this line first; may be given more than once. At a terminal what is typed is sent too
    #[arg(long, value_name = "LINE")]
    pub send: Vec<String>,
    /// End once a line holds these words; exit status 4 if none did in time
    #[arg(long, value_name = "WORDS")]
    pub until: Option<String>,
    /// How long --until may take
    #[arg(long, value_name = "TIME", default_value = "10s", value_parser = duration::parse)]
    pub within: Duration,
    /// Write all of it into this new file, too
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,
}

/// A range of memory.
#[derive(Clone, Debug, ClapArgs)]
pub struct MemoryRange {
    /// A region of the sheet, by its name
    #[arg(long, value_name = "NAME", conflicts_with = "range")]
    pub region: Option<String>,
    /// Addresses, the end not included: 0x0A002400..0x0A003000
    #[arg(long, value_name = "A..B", value_parser = range)]
    pub range: Option<Span>,
    /// Which memory of a unit that no sheet describes: its name, ALTERNATE or INTERFACE.ALTERNATE
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
    /// Read so often, and compare; for a unit or a cable that is not trusted
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub times: u32,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, ClapArgs)]
pub struct Compare {
    /// Firmware file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Another file; without it a unit's memory
    #[arg(value_name = "OTHER")]
    pub other: Option<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    #[command(flatten)]
    pub place: MemoryRange,
}

#[derive(Debug, Subcommand)]
pub enum SettingsCommand {
    /// Read a region that the sheet lets be carried into a file
    Save {
        /// Output file
        #[arg(value_name = "OUT")]
        out: PathBuf,
        /// Which region
        #[arg(long, value_name = "NAME", default_value = "settings")]
        region: String,
        /// Overwrite OUT
        #[arg(long)]
        replace: bool,
    },
    /// Write such a file into a unit; what belongs to the unit stays as it is there
    Load {
        /// A file that 'settings save' wrote
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Give one of the unit's own values in place of the present one
        #[arg(long, value_name = "NAME=VALUE", value_parser = assignment)]
        set: Vec<(String, String)>,
    },
}
