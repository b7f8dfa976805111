//! What was typed. Nothing here does I/O.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use vaka_boot::bench::Selector;
use vaka_core::address::Address;
use vaka_core::duration;

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
    /// Where units are: usbip://HOST[:PORT]; repeat it for several
    #[arg(long, global = true, value_name = "BUS", env = "VAKA_BUS", value_delimiter = ',')]
    pub bus: Vec<String>,
    /// One unit: id=VID:PID, serial=…, port=…, name=…, or such a value alone
    #[arg(long, global = true, value_name = "SEL", value_parser = Selector::parse)]
    pub unit: Option<Selector>,
    /// What is printed on the board: the variant's id, or the printed text
    #[arg(long, global = true, value_name = "ID")]
    pub variant: Option<String>,
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
    pub agree: Vec<String>,
    /// How results are printed
    #[arg(long, global = true, value_name = "FORMAT", value_enum, default_value_t = Format::Text)]
    pub format: Format,
    /// More on standard error
    #[arg(long, short, global = true, conflicts_with = "quiet")]
    pub verbose: bool,
    /// Less on standard error
    #[arg(long, short, global = true)]
    pub quiet: bool,
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
    /// A full example on stand-ins: nothing attached, nothing left behind
    Demo(Demo),
    /// Every unit on the bench, what it is doing, and what can be done next
    Survey,
    /// What a file is, and which variants it fits; with --unit, whether it fits that unit
    Check(Check),
    /// The main job: wait, enter, match, erase, transfer, verify, restart, confirm
    Update(Update),
    /// Serve stand-in units over USB/IP until Ctrl-C
    Standins(Standins),
}

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
pub struct Check {
    /// Firmware files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Where a raw binary starts
    #[arg(long, value_name = "ADDRESS", value_parser = Address::parse)]
    pub at: Option<Address>,
}

#[derive(Debug, ClapArgs)]
pub struct Update {
    /// Firmware file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Where a raw binary starts
    #[arg(long, value_name = "ADDRESS", value_parser = Address::parse)]
    pub at: Option<Address>,
    /// Print every step, by tool and by hand, and stop before the first
    #[arg(long)]
    pub plan: bool,
    /// How strong a check is wanted
    #[arg(long, value_enum, default_value_t = Strength::Strongest)]
    pub check: Strength,
}

/// How strong a check is wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Strength {
    /// The strongest that the unit allows
    Strongest,
    /// That the unit took all blocks without an error
    Accepted,
}

#[derive(Debug, ClapArgs)]
pub struct Standins {
    /// Which units there are and what goes wrong with them
    #[arg(long, value_name = "FILE")]
    pub scene: Option<PathBuf>,
    /// Where to listen; port 0 takes any free one
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:0")]
    pub listen: SocketAddr,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_definition_of_all_options_is_sound() {
        super::Args::command().debug_assert();
    }
}
