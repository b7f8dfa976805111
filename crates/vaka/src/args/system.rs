//! Commands for this system, its records and the simulated units.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, Subcommand, ValueEnum};
use vaka_base::duration;

#[derive(Debug, ClapArgs)]
pub struct Demo {
    /// Name of the example; see --list
    #[arg(default_value = "tern")]
    pub scene: String,
    /// List the examples
    #[arg(long)]
    pub list: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Help {
    /// Topic or command
    #[arg(value_name = "TOPIC")]
    pub topic: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct Diagnose {
    /// Also watch the buses for this time to find units that reconnect repeatedly
    #[arg(long, value_name = "TIME", value_parser = duration::parse)]
    pub listen: Option<Duration>,
}

#[derive(Debug, Subcommand)]
pub enum SetupCommand {
    /// Generate udev rules for the ids in the product sheets only
    Rules {
        /// Output file; default: standard output
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
        /// Overwrite the file if it exists
        #[arg(long)]
        replace: bool,
    },
    /// Generate completions for a shell
    Completions {
        /// Shell
        #[arg(value_enum)]
        shell: clap_complete::Shell,
        /// Output file; default: standard output
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
        /// Overwrite the file if it exists
        #[arg(long)]
        replace: bool,
    },
    /// Print the JSON Schema of the events of --format json
    Events,
    /// Generate manual pages, one per command
    Manual {
        /// Output folder
        #[arg(value_name = "DIR")]
        out: PathBuf,
    },
}

#[derive(Debug, ClapArgs)]
pub struct Journal {
    /// Show one attempt in full
    #[arg(value_name = "ATTEMPT")]
    pub attempt: Option<String>,
    /// Only attempts since this time: 2026-11-23, 12h, 3d
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Only unsuccessful attempts
    #[arg(long)]
    pub failed: bool,
    /// Write the attempts as comma-separated values
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,
    /// Write an HTML report with a summary, plots and a table
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Write one attempt as an in-toto statement with the digest that was read back
    #[arg(long, value_name = "FILE", requires = "attempt")]
    pub attest: Option<PathBuf>,
}

/// State of a simulated unit at the start.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum SimulatedMode {
    /// Its application runs
    Application,
    /// In the update mode of its first route
    Update,
    /// Its application is damaged
    Damaged,
    /// Its flash is empty
    Blank,
    /// Not attached
    Unplugged,
}

#[derive(Debug, ClapArgs)]
pub struct Simulate {
    /// Scene file: the units and their faults
    #[arg(long, value_name = "FILE")]
    pub scene: Option<PathBuf>,
    /// Replay a trace of --trace instead of a scene
    #[arg(long, value_name = "FILE", conflicts_with_all = ["scene", "sheet"])]
    pub replay: Option<PathBuf>,
    /// Product sheet: simulate units of your own product
    #[arg(long, value_name = "FILE", conflicts_with = "scene")]
    pub sheet: Option<PathBuf>,
    /// Variant of the product sheet; without it, one unit of each
    #[arg(long, value_name = "ID", requires = "sheet")]
    pub variant: Option<String>,
    /// Units of each variant
    #[arg(long, value_name = "N", requires = "sheet", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..=256))]
    pub count: u16,
    /// Firmware that the units run; without it, firmware is made for the rules of the sheet
    #[arg(long, value_name = "FILE", requires = "variant")]
    pub image: Option<PathBuf>,
    /// State of the units at the start
    #[arg(long, value_name = "MODE", requires = "sheet", default_value = "application")]
    pub mode: SimulatedMode,
    /// Listen address; port 0 selects a free port
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:0")]
    pub listen: SocketAddr,
}
