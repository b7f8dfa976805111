//! Commands that update units.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, ValueEnum};
use vaka_base::duration;

use super::files::ImageSelection;

#[derive(Debug, ClapArgs)]
pub struct Update {
    /// A firmware file, a release, several releases, or a folder of them
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    #[command(flatten)]
    pub release: Releases,
    /// Print every step, by tool and by hand, and stop before the first
    #[arg(long)]
    pub plan: bool,
    /// How strong a check is wanted
    #[arg(long, value_enum, default_value_t = VerifyLevel::Strongest)]
    pub check: VerifyLevel,
    /// Read the present content into this file first; the format by its ending
    #[arg(long, value_name = "FILE")]
    pub save: Option<PathBuf>,
    /// Write also what is already equal
    #[arg(long)]
    pub rewrite: bool,
    /// A region that stays as it is, even where it shares a sector with the application; may be given more than once
    #[arg(long, value_name = "REGION")]
    pub keep: Vec<String>,
    /// Erase the whole part first, but for its bootloader; what is lost by that is asked for as an agreement
    #[arg(long)]
    pub erase_all: bool,
    /// Which memory of a unit that no sheet describes: its name, ALTERNATE or INTERFACE.ALTERNATE
    #[arg(long, value_name = "MEMORY")]
    pub memory: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct Line {
    /// A firmware file, a release, several releases, or a folder of them
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    #[command(flatten)]
    pub release: Releases,
    /// How strong a check is wanted
    #[arg(long, value_enum, default_value_t = VerifyLevel::Strongest)]
    pub check: VerifyLevel,
    /// Write also what is already equal
    #[arg(long)]
    pub rewrite: bool,
    /// End once so many units are through
    #[arg(long, value_name = "N")]
    pub count: Option<usize>,
    /// End after this time; what is under way is finished
    #[arg(long = "for", value_name = "TIME", value_parser = duration::parse)]
    pub during: Option<Duration>,
}

/// Selection of a release and of one of its builds.
#[derive(Clone, Debug, ClapArgs)]
pub struct Releases {
    /// Of a release: which of its builds
    #[arg(long, value_name = "NAME", default_value = vaka_core::release::manifest::STANDARD)]
    pub build: String,
    /// Of several releases: newest, known-good (which ended well here before), or a version
    #[arg(long = "version", value_name = "V", default_value = "newest")]
    pub which: String,
    /// Of several releases: only those for these people, such as stable or trial
    #[arg(long, value_name = "NAME")]
    pub channel: Option<String>,
    /// Where files for another tool are put; else here
    #[arg(long, value_name = "DIR")]
    pub export_dir: Option<PathBuf>,
}

/// The requested check.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum VerifyLevel {
    /// The strongest that the unit allows
    Strongest,
    /// That the unit took all blocks without an error
    Accepted,
}
