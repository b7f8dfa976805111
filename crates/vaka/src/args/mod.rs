//! The command line, without I/O; one file per group of commands.

mod catalogue;
mod common;
mod describe;
mod files;
mod place;
mod release;
mod system;
mod unit;
mod update;
mod updater;
mod values;

use clap::{Parser, Subcommand};

pub use catalogue::{CatalogueCommand, ListReleases, MakeCatalogue, Signing, Withdraw};
#[cfg(test)]
pub use common::OPTIONS;
pub use common::{Common, GivenSecret, OutputFormat, add_general_options, change_each};
pub use describe::{DialectCommand, NewSheet, SheetCommand};
pub use files::{Check, Convert, Output, Stamp, Writable};
pub use place::Place;
pub use release::{Guide, KeysCommand, Pack, Rehearse, StatementArgs};
pub use system::{Demo, Diagnose, Help, Journal, SetupCommand, Simulate, SimulatedMode};
pub use unit::{Compare, Console, MemoryRange, Read, SettingsCommand, Survey};
pub use update::{Line, Releases, Update, VerifyLevel};
pub use updater::UpdaterArgs;

/// Updates the firmware of hardware products over USB. Checks that the image fits the unit,
/// explains why, and reports only what it verified.
#[derive(Debug, Parser)]
#[command(version = crate::origin::FULL, max_term_width = 100, disable_help_subcommand = true)]
pub struct Args {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run an example on simulated units, without hardware
    Demo(Demo),
    /// List the connected units, their mode and the next possible command
    Survey(Survey),
    /// Describe firmware files and the variants they fit; with --unit, whether they fit that unit
    Check(Check),
    /// Show the serial output of an application with timestamps; releases the port for updates
    Console(Console),
    /// Convert an image to another format; cut, move, fill or join images
    Convert(Convert),
    /// Add a stamp (product, variant, version, digest) to an image, or seal a linked one
    Stamp(Stamp),
    /// Update one unit: enter update mode, match, erase, write, verify, restart, confirm
    Update(Update),
    /// Update every unit that is plugged in, several at once
    Line(Line),
    /// Put a unit into update mode
    Enter,
    /// Restart the application without writing
    Restart,
    /// Read a region, an address range or all writable regions of a unit into a file
    Read(Read),
    /// Compare a file with a unit's memory or with another file
    Compare(Compare),
    /// Save the settings of a unit, or load them into another unit
    #[command(subcommand)]
    Settings(SettingsCommand),
    /// List past attempts; show one, or export a report
    Journal(Journal),
    /// Create a signed release file with the images of all variants
    Pack(Pack),
    /// Rehearse a release on simulated units of its product, and print a table of the results
    Rehearse(Rehearse),
    /// Write the step-by-step guide to an update, for screen and print
    Guide(Guide),
    /// List the releases of a catalogue and the connected units that they fit
    Releases(ListReleases),
    /// Make, check or show the signed catalogue of a folder of releases, or withdraw one of them
    #[command(subcommand)]
    Catalogue(CatalogueCommand),
    /// Manage signing keys and trusted keys
    #[command(subcommand)]
    Keys(KeysCommand),
    /// Create, check or show product sheets
    #[command(subcommand)]
    Sheet(SheetCommand),
    /// Create, check or test dialects, which describe vendor bootloaders
    #[command(subcommand)]
    Dialect(DialectCommand),
    /// Check this computer's USB, permissions, drivers and cables, with remedies
    Diagnose(Diagnose),
    /// Generate udev rules, shell completions and manual pages
    #[command(subcommand)]
    Setup(SetupCommand),
    /// Serve simulated units over USB/IP until Ctrl-C
    Simulate(Simulate),
    /// Show help on a topic or a command
    Help(Help),
}
