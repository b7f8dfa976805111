//! Commands that update units.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, ValueEnum};
use vaka_base::duration;

use super::files::ImageSelection;
use super::place::Place;

#[derive(Debug, ClapArgs)]
pub struct Update {
    /// A firmware file, a release, several releases, or a folder of them. Several firmware files are
    /// one update; REGION=FILE or ADDRESS=FILE places a raw binary
    #[arg(required_unless_present = "from", conflicts_with = "from", value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    #[command(flatten)]
    pub release: Releases,
    /// Print the plan and stop before the first step
    #[arg(long)]
    pub plan: bool,
    /// Required verification
    #[arg(long, value_enum, default_value_t = VerifyLevel::Strongest)]
    pub check: VerifyLevel,
    /// Back up the present content into this file first; its extension determines the format
    #[arg(long, value_name = "FILE")]
    pub save: Option<PathBuf>,
    /// Add serial number, version and time to the name of the backup
    #[arg(long, requires = "save")]
    pub dated: bool,
    /// Write all sectors, including those that already match
    #[arg(long)]
    pub rewrite: bool,
    /// Preserve this region, even if it shares a sector with the application; may be repeated
    #[arg(long, value_name = "REGION")]
    pub keep: Vec<String>,
    /// Erase everything except the bootloader first; what is lost needs --allow
    #[arg(long)]
    pub erase_all: bool,
    /// Memory of a DFU unit without a product sheet: its name, ALTERNATE or INTERFACE.ALTERNATE
    #[arg(long, value_name = "MEMORY")]
    pub memory: Option<String>,
    /// Update the same unit again whenever FILE has a new, complete content, until Ctrl-C
    #[arg(long, conflicts_with_all = ["plan", "from"])]
    pub again: bool,
    /// Show the serial output of the unit between the updates
    #[arg(long, requires = "again")]
    pub console: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Line {
    /// A firmware file, a release, several releases, or a folder of them; several firmware files as
    /// for update
    #[arg(required_unless_present = "from", conflicts_with = "from", value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    #[command(flatten)]
    pub release: Releases,
    /// Print the plan of each unit and change nothing
    #[arg(long)]
    pub plan: bool,
    /// Required verification
    #[arg(long, value_enum, default_value_t = VerifyLevel::Strongest)]
    pub check: VerifyLevel,
    /// Take the label of each unit from standard input, such as from a scanner: one line for each, in the order in
    /// which they are connected
    #[arg(long, conflicts_with = "variant")]
    pub scan: bool,
    /// Back up the present content of each unit into this folder first
    #[arg(long, value_name = "DIR")]
    pub save: Option<PathBuf>,
    /// Write all sectors, including those that already match
    #[arg(long)]
    pub rewrite: bool,
    /// Preserve this region, even if it shares a sector with the application; may be repeated
    #[arg(long, value_name = "REGION")]
    pub keep: Vec<String>,
    /// Erase everything except the bootloader first; what is lost needs --allow
    #[arg(long)]
    pub erase_all: bool,
    /// Write the attempts of this run as an HTML page at the end
    #[arg(long, value_name = "FILE", conflicts_with = "plan")]
    pub report: Option<PathBuf>,
    /// Overwrite the page if it exists
    #[arg(long, requires = "report")]
    pub replace: bool,
    /// Exit after this number of units
    #[arg(long, value_name = "N")]
    pub count: Option<usize>,
    /// Exit after this time; running updates are completed
    #[arg(long = "for", value_name = "TIME", value_parser = duration::parse)]
    pub during: Option<Duration>,
}

/// Selection of a release and of one of its builds.
#[derive(Clone, Debug, Default, ClapArgs)]
pub struct Releases {
    /// Select the release from a catalogue, in this folder or at this web address
    #[arg(long, value_name = "URL|DIR")]
    pub from: Option<Place>,
    /// Build of a release
    #[arg(long, value_name = "NAME", default_value = vaka_core::release::manifest::STANDARD)]
    pub build: String,
    /// Version to select from several releases; default: the newest
    #[arg(long, value_name = "V", conflicts_with = "known_good")]
    pub version: Option<String>,
    /// Select the newest release, or image of a folder, that is older than this day, such as 2026-03-01
    #[arg(long, value_name = "DATE", conflicts_with_all = ["known_good", "version"])]
    pub before: Option<jiff::civil::Date>,
    /// Select the newest release that was installed successfully before, according to the journal
    #[arg(long)]
    pub known_good: bool,
    /// Channel to select from several releases, such as stable or trial
    #[arg(long, value_name = "NAME")]
    pub channel: Option<String>,
    /// Folder for files that an external tool writes; default: the current folder
    #[arg(long, value_name = "DIR")]
    pub export_dir: Option<PathBuf>,
}

/// The requested check.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum VerifyLevel {
    /// The strongest check that the unit supports
    Strongest,
    /// The unit accepted all blocks without an error
    Accepted,
}
