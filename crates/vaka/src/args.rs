//! What was typed. Nothing here does I/O.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use vaka_base::duration;
use vaka_boot::bench::selector::Selector;
use vaka_core::placeholder;
use vaka_dialect::carrier;
use vaka_image::ReadOptions;
use vaka_image::address::{Address, Span};
use vaka_image::facts::Suffix;

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
    #[arg(long, global = true, value_name = "SEL", value_parser = Selector::parse)]
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
    pub agree: Vec<String>,
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
    /// A full example on stand-ins: nothing attached, nothing left behind
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
    /// Into update mode: signals and hand steps, and a look at what came
    Enter,
    /// Back to the application, with nothing written
    Restart,
    /// A unit's memory to a file: a region, a range, or all that its route writes
    Read(Read),
    /// A file against a unit's memory, or against another file: a map, and the first difference
    Compare(Compare),
    /// A unit's settings into a file, and from a file into another unit
    #[command(subcommand)]
    Carry(CarryCommand),
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
pub struct Survey {
    /// Keep printing what comes and goes, until Ctrl-C
    #[arg(long)]
    pub watch: bool,
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
pub struct Check {
    /// Firmware files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: Choose,
}

/// Which image of a file is meant, where it holds several or has no address.
#[derive(Clone, Copy, Debug, ClapArgs)]
pub struct Choose {
    /// Where a raw binary starts
    #[arg(long, value_name = "ADDRESS", value_parser = address)]
    pub at: Option<Address>,
    /// Which UF2 family to read
    #[arg(long, value_name = "ID", value_parser = number)]
    pub from_family: Option<u32>,
    /// Which target of a DFU file to read, by its alternate setting
    #[arg(long, value_name = "N")]
    pub from_target: Option<u8>,
}

impl Choose {
    pub fn options(self) -> ReadOptions {
        ReadOptions { at: self.at, family: self.from_family, target: self.from_target }
    }
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

/// How an image is written.
#[derive(Debug, ClapArgs)]
pub struct Output {
    /// The format; else the ending of OUT decides
    #[arg(long, value_enum, value_name = "FORMAT")]
    pub to: Option<Writable>,
    /// The byte that fills gaps, such as 0xFF
    #[arg(long, value_name = "BYTE", value_parser = byte)]
    pub fill: Option<u8>,
    /// The UF2 family to write
    #[arg(long, value_name = "ID", value_parser = number)]
    pub family: Option<u32>,
    /// Ids for the DFU suffix, VID:PID or VID:PID:RELEASE, each in hex
    #[arg(long, value_name = "IDS", value_parser = suffix)]
    pub dfu_ids: Option<Suffix>,
    /// Overwrite OUT
    #[arg(long)]
    pub replace: bool,
}

/// A format that can be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Writable {
    /// Raw binary (.bin)
    Bin,
    /// Intel HEX (.hex, .ihx, .ihex)
    Hex,
    /// S-record (.srec, .s19, .s28, .s37, .mot)
    Srec,
    /// UF2 (.uf2)
    Uf2,
    /// Raw binary with a DFU suffix (.dfu)
    Dfu,
    /// DFU file of the address extension
    DfuAddressed,
}

#[derive(Debug, ClapArgs)]
pub struct Convert {
    /// Input files; several are joined
    #[arg(required = true, value_name = "IN")]
    pub files: Vec<PathBuf>,
    /// Output file
    #[arg(required = true, value_name = "OUT")]
    pub out: PathBuf,
    #[command(flatten)]
    pub choose: Choose,
    /// Only what lies in this range, the end not included: 0x0A002400..0x0A003000
    #[arg(long, value_name = "A..B", value_parser = range)]
    pub range: Option<Span>,
    /// Move it, so that it starts here
    #[arg(long, value_name = "ADDRESS", value_parser = Address::parse)]
    pub move_to: Option<Address>,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, ClapArgs)]
pub struct Stamp {
    /// Input file
    #[arg(value_name = "IN")]
    pub file: PathBuf,
    /// Output file
    #[arg(value_name = "OUT")]
    pub out: PathBuf,
    #[command(flatten)]
    pub choose: Choose,
    /// Product id
    #[arg(long, value_name = "ID")]
    pub product: Option<String>,
    /// Part id
    #[arg(long, value_name = "ID")]
    pub part: Option<String>,
    /// A variant that it is for; repeat it for several
    #[arg(long = "for", value_name = "ID")]
    pub variants: Vec<String>,
    /// Version
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    /// Name of the build
    #[arg(long, value_name = "NAME")]
    pub build: Option<String>,
    /// When it was built
    #[arg(long, value_name = "TIME")]
    pub built: Option<String>,
    /// A fact that must agree, such as crystal=8000000; repeat it for several
    #[arg(long, value_name = "NAME=VALUE", value_parser = fact)]
    pub fact: Vec<(String, String)>,
    #[command(flatten)]
    pub output: Output,
}

/// A 32-bit number, in hex with 0x or decimal.
fn number(text: &str) -> Result<u32, String> {
    Address::parse(text).ok().and_then(Address::to_u32).ok_or_else(|| format!("'{text}' is no 32-bit number"))
}

fn byte(text: &str) -> Result<u8, String> {
    number(text)?.try_into().map_err(|_| format!("'{text}' is no byte"))
}

fn range(text: &str) -> Result<Span, String> {
    let (from, to) =
        text.split_once("..").ok_or_else(|| format!("'{text}' is no range; write it like 0x1000..0x2000"))?;
    let span = Span::between(Address::parse(from)?, Address::parse(to)?).filter(|span| !span.is_empty());
    span.ok_or_else(|| format!("'{text}' is empty"))
}

fn suffix(text: &str) -> Result<Suffix, String> {
    let halves: Option<Vec<u16>> = text.split(':').map(|half| u16::from_str_radix(half, 16).ok()).collect();
    match halves.as_deref() {
        Some([vendor, product]) => Ok(Suffix { release: 0xFFFF, product: *product, vendor: *vendor, version: 0x0100 }),
        Some([vendor, product, release]) => {
            Ok(Suffix { release: *release, product: *product, vendor: *vendor, version: 0x0100 })
        }
        _ => Err(format!("'{text}' is not VID:PID or VID:PID:RELEASE")),
    }
}

/// An address that somebody means, and not one that a guide has.
fn address(text: &str) -> Result<Address, String> {
    let address = Address::parse(text)?;
    placeholder::of_address(address.get()).map_or(Ok(address), Err)
}

fn assignment(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or_else(|| format!("'{text}' is not NAME=VALUE"))?;
    placeholder::of_text(value).map_or_else(|| Ok((name.to_owned(), value.to_owned())), Err)
}

fn fact(text: &str) -> Result<(String, String), String> {
    let (name, value) = assignment(text)?;
    match name.as_str() {
        "product" | "part" | "variant" | "version" | "build" | "built" | "" => {
            Err(format!("'{name}' is no name for a fact; there is an option for it"))
        }
        _ => Ok((name, value)),
    }
}

#[derive(Debug, ClapArgs)]
pub struct Update {
    /// A firmware file, a release, several releases, or a folder of them
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: Choose,
    #[command(flatten)]
    pub release: Releases,
    /// Print every step, by tool and by hand, and stop before the first
    #[arg(long)]
    pub plan: bool,
    /// How strong a check is wanted
    #[arg(long, value_enum, default_value_t = Strength::Strongest)]
    pub check: Strength,
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
    pub clear_all: bool,
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
    pub choose: Choose,
    #[command(flatten)]
    pub release: Releases,
    /// How strong a check is wanted
    #[arg(long, value_enum, default_value_t = Strength::Strongest)]
    pub check: Strength,
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

/// Which release, and which of its builds.
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
    pub hand_out: Option<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct Pack {
    /// What goes into the release, as docs/formats/release.md describes it
    #[arg(value_name = "DESCRIPTION")]
    pub description: PathBuf,
    /// The release; else PRODUCT-VERSION.vaka here
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// The key that signs it: a name of 'vaka keys', or a PEM file
    #[arg(long, value_name = "KEY")]
    pub key: Option<String>,
    /// Overwrite the release
    #[arg(long)]
    pub replace: bool,
}

#[derive(Debug, Subcommand)]
pub enum KeysCommand {
    /// Make a key pair that signs releases
    New {
        /// What it is called here
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Keys of this user, and keys whose releases are trusted
    List,
    /// The public half of a key, in PEM, to be given to others
    Show {
        /// What it is called here
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Trust releases that this key signed
    Trust {
        /// Its public half, in PEM
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// What it is called here; else as the file
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
    },
    /// Trust them no more
    Distrust {
        /// What it is called here
        #[arg(value_name = "NAME")]
        name: String,
    },
}

/// How strong a check is wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Strength {
    /// The strongest that the unit allows
    Strongest,
    /// That the unit took all blocks without an error
    Accepted,
}

/// Which part of a memory.
#[derive(Clone, Debug, ClapArgs)]
pub struct Where {
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
    pub place: Where,
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
    pub choose: Choose,
    #[command(flatten)]
    pub place: Where,
}

#[derive(Debug, Subcommand)]
pub enum CarryCommand {
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
        /// A file that 'carry save' wrote
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Give one of the unit's own values in place of the present one
        #[arg(long, value_name = "NAME=VALUE", value_parser = assignment)]
        set: Vec<(String, String)>,
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

#[derive(Debug, Subcommand)]
pub enum DialectCommand {
    /// A commented starting point for one kind of carrier
    New {
        /// What moves the frames
        #[arg(long, value_parser = carrier_names())]
        carrier: String,
        /// Where it goes; without it to standard output
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
    /// Whether dialects are sound: what is wrong, with line and column, and what is missing
    Check {
        /// Dialects
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// The protocol as a table: operation by operation, frame by frame
    Show {
        /// The dialect
        file: PathBuf,
    },
    /// The frames of a recorded run, with the names of their fields beside the bytes
    Trace {
        /// The dialect
        file: PathBuf,
        /// What --trace recorded
        trace: PathBuf,
        /// Only the frames of this operation
        #[arg(long, value_name = "NAME")]
        operation: Option<String>,
    },
    /// Run a dialect against recorded frames, with no unit: does it send the same, and understand what came?
    Rehearse {
        /// The dialect
        file: PathBuf,
        /// What --trace recorded
        trace: PathBuf,
    },
}

/// The names of all kinds of carrier, with what each is.
fn carrier_names() -> impl clap::builder::TypedValueParser<Value = String> {
    use clap::builder::{PossibleValue, PossibleValuesParser};
    let value = |kind: &&carrier::CarrierKind| PossibleValue::new(kind.name).help(kind.description);
    PossibleValuesParser::new(carrier::KINDS.iter().map(value))
}

#[derive(Debug, Subcommand)]
pub enum SheetCommand {
    /// A first sheet of the unit that --unit names, from all that it says of itself
    New(NewSheet),
    /// Whether sheets are sound, and what is wrong where
    Check {
        /// Sheets
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
    },
    /// What a sheet says, for reading: variants, memory, ways of updating, hand steps
    Show {
        /// The sheet
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// The JSON Schema of sheets, for editors
    Schema,
}

#[derive(Debug, ClapArgs)]
pub struct NewSheet {
    /// Where to write it; else it is printed
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Which of the unit's memories: its name, ALTERNATE or INTERFACE.ALTERNATE
    #[arg(long, value_name = "MEMORY")]
    pub memory: Option<String>,
}

#[derive(Debug, ClapArgs)]
pub struct Standins {
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

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_definition_of_all_options_is_sound() {
        super::Args::command().debug_assert();
    }
}
