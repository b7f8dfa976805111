//! Commands for this system, its records and the simulated units.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, Subcommand};
use vaka_base::duration;

#[derive(Debug, ClapArgs)]
pub struct Demo {
    /// Which example; --list names them
    #[arg(default_value = "tern")]
    pub scene: String,
    /// Name the examples
    #[arg(long)]
    pub list: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Diagnose {
    /// Watch the buses for so long, for what comes and goes again and again
    #[arg(long, value_name = "TIME", value_parser = duration::parse)]
    pub listen: Option<Duration>,
}

#[derive(Debug, Subcommand)]
pub enum SetupCommand {
    /// udev rules for the ids in the sheets, and for no others
    Rules {
        /// Where they go; else they are printed
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
        /// Overwrite the file
        #[arg(long)]
        replace: bool,
    },
    /// Completions for a shell
    Completions {
        /// Which shell
        #[arg(value_enum)]
        shell: clap_complete::Shell,
        /// Where they go; else they are printed
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
        /// Overwrite the file
        #[arg(long)]
        replace: bool,
    },
    /// JSON Schema of the events of --format json, for programs that read them
    Events,
    /// Manual pages, one for each command
    Manual {
        /// The folder that they go into
        #[arg(value_name = "DIR")]
        out: PathBuf,
    },
}

#[derive(Debug, ClapArgs)]
pub struct Journal {
    /// One attempt, in full
    #[arg(value_name = "ATTEMPT")]
    pub attempt: Option<String>,
    /// Only since then: 2026-11-23, 12h, 3d
    #[arg(long, value_name = "TIME")]
    pub since: Option<String>,
    /// Only those that did not end well
    #[arg(long)]
    pub failed: bool,
    /// Write them as comma-separated values
    #[arg(long, value_name = "FILE")]
    pub csv: Option<PathBuf>,
    /// Write a page with a summary, plots and a table
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Write one attempt as an in-toto statement with the digest that was read back
    #[arg(long, value_name = "FILE", requires = "attempt")]
    pub attest: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct Simulate {
    /// Which units there are and what goes wrong with them
    #[arg(long, value_name = "FILE")]
    pub scene: Option<PathBuf>,
    /// Answer from a trace of --trace in place of a scene
    #[arg(long, value_name = "FILE", conflicts_with = "scene")]
    pub replay: Option<PathBuf>,
    /// Where to listen; port 0 takes any free one
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:0")]
    pub listen: SocketAddr,
}
