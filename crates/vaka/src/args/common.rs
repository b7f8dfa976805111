//! General options: they mean the same in every command that has them.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use clap::parser::ValueSource;
use clap::{ArgMatches, Args as ClapArgs, Command, ValueEnum};
use vaka_base::duration;
use vaka_boot::bench::selector::Selector;
use vaka_core::matching::consent::CONSENTS;

/// Options that find and open a unit.
const UNIT: &[&str] = &["bus", "unit", "sheets", "wait", "trace"];
/// Options that say which hardware a unit is.
const VARIANT: &[&str] = &["variant", "part"];
/// Options that answer questions.
const CONSENT: &[&str] = &["unattended", "allow", "secret"];
/// Options that form the output.
const OUTPUT: &[&str] = &["format", "verbose", "quiet"];

/// The general options of each command. Before the command, all are accepted that it has.
pub const OPTIONS: [(&str, &[&[&str]]); 48] = [
    ("survey", &[&["bus", "unit", "sheets", "part", "trace"], OUTPUT]),
    ("check", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("update", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("line", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("journal", &[&["unit"], OUTPUT]),
    ("enter", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("restart", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("read", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("compare", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("settings save", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("settings load", &[UNIT, VARIANT, CONSENT, OUTPUT]),
    ("console", &[UNIT, &["part", "unattended"], OUTPUT]),
    ("convert", &[&["format"]]),
    ("stamp", &[&["format"]]),
    ("pack", &[&["format"]]),
    ("rehearse", &[&["sheets"], OUTPUT]),
    ("guide", &[&["variant"]]),
    ("releases", &[&["bus", "unit", "sheets", "allow"], OUTPUT]),
    ("catalogue make", &[&["format"]]),
    ("catalogue check", &[OUTPUT]),
    ("catalogue show", &[OUTPUT]),
    ("catalogue withdraw", &[&["format"]]),
    ("keys new", &[&["format"]]),
    ("keys list", &[&["format"]]),
    ("keys show", &[]),
    ("keys trust", &[&["format"]]),
    ("keys revoke", &[&["format"]]),
    ("keys replace", &[&["format"]]),
    ("keys distrust", &[&["format"]]),
    ("sheet new", &[UNIT, OUTPUT]),
    ("sheet check", &[OUTPUT]),
    ("sheet show", &[&["format"]]),
    ("sheet schema", &[]),
    ("dialect new", &[]),
    ("dialect check", &[OUTPUT]),
    ("dialect show", &[&["format"]]),
    ("dialect trace", &[&["format"]]),
    ("dialect try", &[&["bus", "unit", "sheets", "trace"], CONSENT, OUTPUT]),
    ("dialect replay", &[&["format"]]),
    ("diagnose", &[&["bus", "unit", "sheets"], OUTPUT]),
    ("setup rules", &[&["sheets"]]),
    ("setup completions", &[]),
    ("setup events", &[]),
    ("setup manual", &[]),
    ("demo", &[]),
    ("simulate", &[]),
    ("help", &[]),
    ("", &[UNIT, VARIANT, CONSENT, OUTPUT]),
];

/// Options that mean the same everywhere.
#[derive(Clone, Debug, Default, ClapArgs)]
#[command(next_help_heading = "General options")]
pub struct Common {
    /// Bus: usb (this computer, the default), usbip://HOST[:PORT], or can:NAME (network interface, or USB port of an adapter); may be repeated
    #[arg(long, value_name = "BUS", env = "VAKA_BUS", value_delimiter = ',')]
    pub bus: Vec<String>,
    /// Select one unit: id=VID:PID, serial=…, node=… (unique id on a CAN bus), programmer=… (the chip that is wired to it), port=… (a port path or its configured name), name=…, folder=… (mount point of its disk), or the value alone
    #[arg(long, value_name = "SEL")]
    pub unit: Option<Selector>,
    /// Hardware variant: its id, or the text of the label on the board
    #[arg(long, value_name = "ID")]
    pub variant: Option<String>,
    /// Part of the product, if it has several that are updated separately
    #[arg(long, value_name = "ID")]
    pub part: Option<String>,
    /// Folder of product sheets, or one product sheet
    #[arg(long, value_name = "DIR", env = "VAKA_SHEETS")]
    pub sheets: Option<PathBuf>,
    /// Maximum time to wait for a unit, such as 45s or 2min; 0: do not wait
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = duration::parse)]
    pub wait: Duration,
    /// Never prompt; refuse what would need an answer
    #[arg(long)]
    pub unattended: bool,
    /// Allow one risk that the verdict or the plan lists under this id; may be repeated
    #[arg(long, value_name = "ID")]
    pub allow: Vec<String>,
    /// Read a value that the dialect asks for, such as an unlock code, from a file; may be repeated
    #[arg(long, value_name = "NAME=FILE", value_parser = secret)]
    pub secret: Vec<GivenSecret>,
    /// Record all USB traffic into this file, including the firmware
    #[arg(long, value_name = "FILE")]
    pub trace: Option<PathBuf>,
    /// Output format
    #[arg(long, value_name = "FORMAT", value_enum, default_value_t = OutputFormat::Text)]
    pub format: OutputFormat,
    /// Print tables, plan and details too
    #[arg(long, short, conflicts_with = "quiet")]
    pub verbose: bool,
    /// Print only the result, in one line, and errors
    #[arg(long, short)]
    pub quiet: bool,
    /// Names of places on the bench and their ports, from the configuration.
    #[arg(skip)]
    pub places: BTreeMap<String, String>,
}

/// One `--secret NAME=FILE`.
#[derive(Clone, Debug)]
pub struct GivenSecret {
    /// The name in the dialect.
    pub name: String,
    /// The file.
    pub file: PathBuf,
}

/// Parses `NAME=FILE`.
fn secret(given: &str) -> Result<GivenSecret, String> {
    match given.split_once('=') {
        Some((name, file)) if !name.is_empty() && !file.is_empty() => {
            Ok(GivenSecret { name: name.to_owned(), file: file.into() })
        }
        _ => Err("expected NAME=FILE: the name in the dialect, and a file with the value".to_owned()),
    }
}

/// How results are printed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum OutputFormat {
    /// Text for reading
    #[default]
    Text,
    /// One JSON object per line
    Json,
}

impl Common {
    /// The general options, given before or after the command; those that the command does not
    /// have are at their defaults.
    ///
    /// # Errors
    /// The id of an option that was given before a command that does not have it.
    pub fn of(before: &ArgMatches, after: &ArgMatches) -> Result<Self, String> {
        let is_given = |matches: &ArgMatches, id: &str| matches.value_source(id) == Some(ValueSource::CommandLine);
        let is_strange = |id: &&clap::Id| is_given(before, id.as_str()) && after.try_contains_id(id.as_str()).is_err();
        if let Some(id) = before.ids().find(is_strange) {
            return Err(id.to_string());
        }
        let given = Given { before, after };
        Ok(Self {
            bus: given.many("bus"),
            unit: given.one("unit"),
            variant: given.one("variant"),
            part: given.one("part"),
            sheets: given.one("sheets"),
            wait: given.one("wait").unwrap_or_default(),
            unattended: given.one("unattended").unwrap_or_default(),
            allow: given.many("allow"),
            secret: given.many("secret"),
            trace: given.one("trace"),
            format: given.one("format").unwrap_or(OutputFormat::Text),
            verbose: given.one("verbose").unwrap_or_default(),
            quiet: given.one("quiet").unwrap_or_default(),
            places: BTreeMap::new(),
        })
    }
}

/// The options before and after the command.
struct Given<'a> {
    before: &'a ArgMatches,
    after: &'a ArgMatches,
}

impl<'a> Given<'a> {
    /// The matches that count for an option: what stands after the command takes precedence.
    fn of(&self, id: &str) -> Option<&'a ArgMatches> {
        self.after.try_contains_id(id).ok()?;
        let is_after = self.after.value_source(id) == Some(ValueSource::CommandLine);
        let is_before = self.before.value_source(id) == Some(ValueSource::CommandLine);
        Some(if is_before && !is_after { self.before } else { self.after })
    }

    fn one<T: Clone + Send + Sync + 'static>(&self, id: &str) -> Option<T> {
        self.of(id)?.get_one(id).cloned()
    }

    fn many<T: Clone + Send + Sync + 'static>(&self, id: &str) -> Vec<T> {
        self.of(id).and_then(|matches| matches.get_many(id)).into_iter().flatten().cloned().collect()
    }
}

/// The help of `--allow` with the list of ids.
fn allow_help() -> String {
    let mut text = "Allow one risk; may be repeated. The verdict or the plan shows which one is needed:".to_owned();
    for (id, risk) in CONSENTS {
        text += &format!("\n  {id:<21} {risk}");
    }
    text
}

/// Adds to each command the general options that apply to it.
pub fn add_general_options(command: Command) -> Command {
    let all = all_options();
    change_each(command, "", &|command, path| match OPTIONS.iter().find(|(of, _)| *of == path) {
        Some((_, groups)) => command.args(of_groups(&all, groups)),
        None => command,
    })
}

/// The general options of these groups.
pub fn general_options(groups: &[&[&str]]) -> Vec<clap::Arg> {
    of_groups(&all_options(), groups)
}

/// A command with all general options.
fn all_options() -> Command {
    Common::augment_args(Command::new("general")).mut_arg("allow", |arg| arg.long_help(allow_help()))
}

fn of_groups(all: &Command, groups: &[&[&str]]) -> Vec<clap::Arg> {
    let is_wanted = |arg: &&clap::Arg| groups.iter().any(|group| group.contains(&arg.get_id().as_str()));
    all.get_arguments().filter(is_wanted).cloned().collect()
}

/// Changes a command and all commands below it. A command has a path such as `keys list`.
pub fn change_each(command: Command, path: &str, change: &dyn Fn(Command, &str) -> Command) -> Command {
    let mut command = change(command, path);
    for below in command.get_subcommands_mut() {
        let path = format!("{path} {}", below.get_name());
        *below = change_each(std::mem::take(below), path.trim_start(), change);
    }
    command
}
