//! The command line, without I/O; one file per group of commands.

mod describe;
mod files;
mod release;
mod system;
mod unit;
mod update;
mod values;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use vaka_base::duration;
use vaka_boot::bench::selector::Selector;

pub use describe::{DialectCommand, NewSheet, SheetCommand};
pub use files::{Check, Convert, Output, Stamp, Writable};
pub use release::{KeysCommand, Pack};
pub use system::{Demo, Diagnose, Journal, SetupCommand, Simulate};
pub use unit::{Compare, Console, MemoryRange, Read, SettingsCommand, Survey};
pub use update::{Line, Releases, Update, VerifyLevel};

/// Updates the firmware of hardware products over their own USB port: knows
/// which image fits which unit, says why, and reports what it checked.
#[derive(Debug, Parser)]
#[command(version, max_term_width = 100)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
    #[command(flatten)]
    pub common: Common,
}

/// Options that mean the same everywhere.
#[derive(Debug, ClapArgs)]
#[command(next_help_heading = "Options that mean the same everywhere")]
pub struct Common {
    /// Where units are: usb (this machine, the default) or usbip://HOST[:PORT]; repeat it for several
    #[arg(long, global = true, value_name = "BUS", env = "VAKA_BUS", value_delimiter = ',')]
    pub bus: Vec<String>,
    /// One unit: id=VID:PID, serial=…, port=… (or its place's name), name=…, folder=… (where its disk is mounted), or such a value alone
    #[arg(long, global = true, value_name = "SEL")]
    pub unit: Option<Selector>,
    /// What is printed on the board: the variant's id, or the printed text
    #[arg(long, global = true, value_name = "ID")]
    pub variant: Option<String>,
    /// Which part of the product, where it has several that are updated each on its own
    #[arg(long, global = true, value_name = "ID")]
    pub part: Option<String>,
    /// Folder of product sheets, or one sheet
    #[arg(long, global = true, value_name = "DIR", env = "VAKA_SHEETS")]
    pub sheets: Option<PathBuf>,
    /// How long to wait for a unit: 45s, 2min, 0 for not at all
    #[arg(long, global = true, value_name = "TIME", default_value = "30s", value_parser = duration::parse)]
    pub wait: Duration,
    /// Nobody is there: ask nothing; what would be asked is refused
    #[arg(long, global = true)]
    pub unattended: bool,
    /// Consent to one thing that verdict or plan names by this id
    #[arg(long, global = true, value_name = "ID")]
    pub allow: Vec<String>,
    /// Write all that goes over the wire into this file, firmware included
    #[arg(long, global = true, value_name = "FILE")]
    pub trace: Option<PathBuf>,
    /// How results are printed
    #[arg(long, global = true, value_name = "FORMAT", value_enum, default_value_t = Format::Text)]
    pub format: Format,
    /// More on standard error
    #[arg(long, short, global = true, conflicts_with = "quiet")]
    pub verbose: bool,
    /// Less on standard error
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Names of places on the bench and their ports, from the configuration.
    #[arg(skip)]
    pub places: BTreeMap<String, String>,
}

/// How results are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For reading
    Text,
    /// One JSON object a line
    Json,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// A full example on simulated units: nothing attached, nothing left behind
    Demo(Demo),
    /// Every unit on the bench, what it is doing, and what can be done next
    Survey(Survey),
    /// What a file is, and which variants it fits; with --unit, whether it fits that unit
    Check(Check),
    /// The application's serial text, with times; lets go when an update wants the port
    Console(Console),
    /// One image format into another: ranges cut, moved, filled, files joined
    Convert(Convert),
    /// Put the product's own stamp into an image, or seal the one that the link put there
    Stamp(Stamp),
    /// The main job: wait, enter, match, erase, transfer, verify, restart, confirm
    Update(Update),
    /// The same update for every unit that is plugged in, several at once, each one recorded
    Line(Line),
    /// Into update mode: signals and manual steps, and a look at what came
    Enter,
    /// Back to the application, with nothing written
    Restart,
    /// A unit's memory to a file: a region, a range, or all that its route writes
    Read(Read),
    /// A file against a unit's memory, or against another file: a map, and the first difference
    Compare(Compare),
    /// A unit's settings into a file, and from a file into another unit
    #[command(subcommand)]
    Settings(SettingsCommand),
    /// What was done: every attempt, filtered, in full, or as a page with plots
    Journal(Journal),
    /// One signed file with the images for all variants, in stages
    Pack(Pack),
    /// Keys that sign releases, and keys that are trusted
    #[command(subcommand)]
    Keys(KeysCommand),
    /// Product sheets: make a first one from a unit, check one, show one
    #[command(subcommand)]
    Sheet(SheetCommand),
    /// Dialects, which describe a vendor's bootloader: begin one, check it, look at its frames
    #[command(subcommand)]
    Dialect(DialectCommand),
    /// This machine and its bench: USB, rights, drivers, holders, leads; each finding with its cure
    Diagnose(Diagnose),
    /// What this system wants: udev rules from the sheets, shell completions, manual pages
    #[command(subcommand)]
    Setup(SetupCommand),
    /// Serve simulated units over USB/IP until Ctrl-C
    Simulate(Simulate),
}
