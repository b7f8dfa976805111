//! The topics of `vaka help` and the groups of commands in the help text.

use clap::error::ErrorKind;
use clap::{CommandFactory, FromArgMatches};

use crate::args::{Args, Command, Common, add_general_options, change_each};

/// A document that `vaka help` prints.
pub struct Topic {
    pub name: &'static str,
    pub about: &'static str,
    pub text: &'static str,
}

macro_rules! topic {
    ($name:literal, $about:literal, $file:literal) => {
        Topic { name: $name, about: $about, text: include_str!(concat!("../../../docs/", $file)) }
    };
}

/// All topics, in the order in which they are listed.
pub const TOPICS: [Topic; 22] = [
    topic!("sheet", "Product sheets: every key", "formats/product-sheet.md"),
    topic!("dialect", "Dialects: the language of vendor bootloaders", "formats/dialect.md"),
    topic!("file-transfer", "XMODEM and YMODEM: ready dialects", "formats/file-transfer.md"),
    topic!("release", "Release files and their descriptions", "formats/release.md"),
    topic!("catalogue", "Catalogues: signed lists of releases", "formats/catalogue.md"),
    topic!("updater", "Updaters: the program with a release in one file", "formats/updater.md"),
    topic!("stamp", "Stamps inside images", "formats/stamp.md"),
    topic!("files", "Image formats", "formats/files.md"),
    topic!("settings", "Saved settings", "formats/settings.md"),
    topic!("config", "The configuration file", "formats/config.md"),
    topic!("exit-status", "Exit status of all commands", "exit-status.md"),
    topic!("events", "Events of --format json", "formats/events.md"),
    topic!("journal", "The journal of attempts", "formats/journal.md"),
    topic!("trace", "Recorded USB traffic", "formats/trace.md"),
    topic!("scene", "Scenes of simulated units", "formats/scene.md"),
    topic!("dfu", "DFU units", "dfu.md"),
    topic!("disk", "Units that show a disk", "disk.md"),
    topic!("can", "Units that are nodes of a CAN bus", "can.md"),
    topic!("serial", "Units on a serial port", "serial.md"),
    topic!("programmer", "Chips that are wired to a programmer", "programmer.md"),
    topic!("security", "Security: what is promised against whom", "security.md"),
    topic!("other-systems", "USB on systems other than Linux", "other-systems.md"),
];

/// The commands by purpose. Each command is in one group (see the test).
const GROUPS: [(&str, &[&str]); 7] = [
    ("Every day", &["survey", "check", "releases", "update", "line", "read", "journal"]),
    ("One unit", &["enter", "restart", "compare", "settings", "console"]),
    ("Files", &["convert", "stamp"]),
    ("Products and releases", &["sheet", "pack", "rehearse", "guide", "catalogue", "keys"]),
    ("Bootloaders", &["dialect"]),
    ("This computer", &["diagnose", "setup", "help"]),
    ("Trying out", &["demo", "simulate"]),
];

/// Examples in the long help of each command.
const EXAMPLES: [(&str, &[&str]); 44] = [
    ("survey", &["vaka survey", "vaka survey -v --unit serial=T1-00217", "vaka survey --watch"]),
    (
        "check",
        &[
            "vaka check tern-1.5.0.hex",
            "vaka check tern-1.5.0.hex --unit port=1-1",
            "vaka check --join boot.hex app.hex",
        ],
    ),
    (
        "update",
        &[
            "vaka update tern-1.5.0.hex --plan",
            "vaka update tern-1.5.0.hex --variant \"SKI-TERN R1\"",
            "vaka update gauge-1.5.0.vaka --unit serial=T1-00217 --unattended",
            "vaka update app.hex files=files.img --plan",
            "vaka update app.elf --again --console",
            "vaka update --from https://skerrow.example/gauge --before 2026-10-01",
        ],
    ),
    (
        "line",
        &[
            "vaka line gauge-1.5.0.vaka --count 24",
            "vaka line gauge-1.5.0.vaka --scan --save backups --report line.html",
            "vaka line gauge-1.5.0.vaka --plan --for 5s",
        ],
    ),
    ("journal", &["vaka journal --since 3d --failed", "vaka journal 20261123", "vaka journal --report october.html"]),
    ("enter", &["vaka enter --unit port=1-1"]),
    ("restart", &["vaka restart --unit port=1-1"]),
    ("read", &["vaka read before.hex --region application", "vaka read all.bin --times 3"]),
    ("compare", &["vaka compare tern-1.5.0.hex", "vaka compare old.hex new.hex"]),
    ("settings save", &["vaka settings save unit-217.settings"]),
    ("settings load", &["vaka settings load unit-217.settings --set serial=T1-00218"]),
    ("console", &["vaka console --send version --until ok --within 5s"]),
    (
        "convert",
        &["vaka convert tern-1.5.0.elf tern-1.5.0.hex", "vaka convert boot.hex app.hex all.uf2 --family 0x5EABD123"],
    ),
    ("stamp", &["vaka stamp tern.bin stamped.bin --at 0x0A002400 --product tern --for r1"]),
    ("pack", &["vaka pack gauge.release.toml --key skerrow", "vaka pack gauge-1.5.0.vaka --updater gauge-update"]),
    (
        "rehearse",
        &[
            "vaka rehearse gauge-1.5.0.vaka",
            "vaka rehearse gauge-1.5.0.vaka --previous gauge-1.4.0.vaka --report gauge.html",
        ],
    ),
    ("guide", &["vaka guide gauge-1.5.0.vaka --out gauge.html", "vaka guide sheets/gauge.toml --variant r1"]),
    (
        "releases",
        &["vaka releases --from https://skerrow.example/gauge", "vaka releases --from releases --channel trial"],
    ),
    ("catalogue make", &["vaka catalogue make releases --key skerrow"]),
    ("catalogue check", &["vaka catalogue check releases"]),
    ("catalogue show", &["vaka catalogue show releases"]),
    (
        "catalogue withdraw",
        &[
            "vaka catalogue withdraw releases 1.5.0 --why damaged --key skerrow",
            "vaka catalogue withdraw releases 1.5.0 --lift --key skerrow",
        ],
    ),
    ("keys new", &["vaka keys new skerrow"]),
    ("keys list", &["vaka keys list"]),
    ("keys show", &["vaka keys show skerrow > skerrow.pub.pem"]),
    ("keys trust", &["vaka keys trust skerrow.pub.pem --for tern"]),
    ("keys revoke", &["vaka keys revoke skerrow --why stolen --out revoked.json"]),
    ("keys replace", &["vaka keys replace skerrow --by new.pub.pem --why renewed --out replaced.json"]),
    ("keys distrust", &["vaka keys distrust skerrow"]),
    (
        "sheet new",
        &[
            "vaka sheet new --unit port=1-1 --out gauge.toml",
            "vaka sheet new --unit port=1-1 --both-modes --wait 2min --out gauge.toml",
        ],
    ),
    ("sheet check", &["vaka sheet check sheets/*.toml"]),
    ("sheet show", &["vaka sheet show sheets/gauge.toml"]),
    (
        "dialect new",
        &["vaka dialect new --carrier hid --out ferry.dialect.toml", "vaka dialect new --protocol xmodem-crc"],
    ),
    ("dialect check", &["vaka dialect check ferry.dialect.toml"]),
    ("dialect show", &["vaka dialect show ferry.dialect.toml"]),
    ("dialect trace", &["vaka dialect trace ferry.dialect.toml run.trace --operation write"]),
    (
        "dialect try",
        &[
            "vaka dialect try ferry.dialect.toml sync identify --unit port=1-1",
            "vaka dialect try ferry.dialect.toml --unit port=1-1",
        ],
    ),
    ("dialect replay", &["vaka dialect replay ferry.dialect.toml run.trace"]),
    ("diagnose", &["vaka diagnose", "vaka diagnose --listen 20s"]),
    ("setup rules", &["vaka setup rules --sheets sheets --out 70-vaka.rules"]),
    ("setup completions", &["vaka setup completions bash --out vaka.bash"]),
    ("setup manual", &["vaka setup manual man"]),
    ("demo", &["vaka demo", "vaka demo --list"]),
    (
        "simulate",
        &[
            "vaka simulate",
            "vaka simulate --scene bench.toml --listen 127.0.0.1:3240",
            "vaka simulate --sheet gauge.toml --variant r1 --count 2",
        ],
    ),
];

/// The command line with its commands in groups.
pub fn command_line() -> clap::Command {
    let command = add_general_options(Args::command());
    let groups = grouped_list(&command);
    let command = change_each(command, "", &|command, path| match EXAMPLES.iter().find(|(of, _)| *of == path) {
        Some((_, examples)) => {
            let text = after_help(&command, examples);
            command.after_long_help(text)
        }
        None => command,
    });
    command.override_help(groups)
}

/// Examples, exit status, environment and files of a command.
fn after_help(command: &clap::Command, examples: &[&str]) -> String {
    let uses_units = command.get_arguments().any(|arg| arg.get_id() == "bus");
    let mut text = String::from("Examples:\n");
    for example in examples {
        text += &format!("  {example}\n");
    }
    text += match uses_units {
        true => {
            "\nExit status:\n  0 done, 2 usage, 3 refused, 4 no unit, 5 transfer failed, 6 different, 7 not back, 8 file,\n  \
             9 no access, 10 incomplete record, 130 stopped; see 'vaka help exit-status'\n"
        }
        false => "\nExit status:\n  0 done, 2 usage, 3 refused, 8 file; see 'vaka help exit-status'\n",
    };
    text += "\nEnvironment:\n  COLUMNS   width of the output\n  NO_COLOR  no colours\n";
    if uses_units {
        text += "  VAKA_BUS, VAKA_SHEETS  defaults of --bus and --sheets\n";
        text += "\nFiles:\n  $XDG_CONFIG_HOME/vaka  configuration, product sheets and keys; see 'vaka help config'\n  \
                 $XDG_STATE_HOME/vaka   journal and preserved content; see 'vaka help journal'\n";
    }
    text
}

/// Parses the arguments of the process; prints help or an error and ends it if they are invalid.
pub fn parse_arguments() -> (Command, Common) {
    // The texts of the help take longer to build than a command line to parse, so they are built where they are shown.
    let mut command = add_general_options(Args::command());
    let matches = command.try_get_matches_from_mut(std::env::args_os()).unwrap_or_else(|error| match error.kind() {
        ErrorKind::DisplayVersion => error.exit(),
        _ => command_line().get_matches(),
    });
    let args = Args::from_arg_matches(&matches).unwrap_or_else(|error| error.exit());
    let mut leaf = &matches;
    let mut path = Vec::new();
    while let Some((name, deeper)) = leaf.subcommand() {
        leaf = deeper;
        path.push(name);
    }
    let common = Common::of(&matches, leaf).unwrap_or_else(|option| {
        let path = path.join(" ");
        command.error(ErrorKind::UnknownArgument, format!("'vaka {path}' has no option '--{option}'")).exit()
    });
    (args.command, common)
}

fn grouped_list(command: &clap::Command) -> String {
    let mut text = format!(
        "{}\n\nUsage: vaka COMMAND [OPTIONS]\n",
        command.get_about().map(ToString::to_string).unwrap_or_default()
    );
    for (title, names) in GROUPS {
        text.push_str(&format!("\n{title}:\n"));
        for name in names {
            let about = command.find_subcommand(name).and_then(clap::Command::get_about);
            text.push_str(&format!("  {name:<10}{}\n", about.map(ToString::to_string).unwrap_or_default()));
        }
    }
    text.push_str("\nTopics of 'vaka help TOPIC':\n");
    for Topic { name, about, .. } in &TOPICS {
        text.push_str(&format!("  {name:<15}{about}\n"));
    }
    text.push_str("\n'vaka COMMAND --help' describes a command and its options.\n");
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::args::OPTIONS;

    #[test]
    fn each_command_is_in_one_group_and_has_options_and_examples() {
        let mut grouped: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        grouped.sort_unstable();
        let command = command_line();
        let mut all: Vec<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        all.sort_unstable();
        assert_eq!(grouped, all);
        for path in leaves(&command, "") {
            assert!(OPTIONS.iter().any(|(name, _)| *name == path), "{path} has no entry for its options");
            let is_plain = ["help", "sheet schema", "setup events"].contains(&path.as_str());
            assert!(is_plain || EXAMPLES.iter().any(|(name, _)| *name == path), "{path} has no example");
        }
    }

    fn leaves(command: &clap::Command, path: &str) -> Vec<String> {
        let below = command.get_subcommands().flat_map(|sub| leaves(sub, &format!("{path} {}", sub.get_name())));
        let below: Vec<String> = below.collect();
        if below.is_empty() { vec![path.trim_start().to_owned()] } else { below }
    }

    /// Each example is a valid command line.
    #[test]
    fn examples_are_valid() {
        for example in EXAMPLES.iter().flat_map(|(_, examples)| examples.iter()) {
            let example = example.split(" > ").next().unwrap().replace("\"SKI-TERN R1\"", "SKI-TERN_R1");
            let parsed = command_line().try_get_matches_from(example.split(' '));
            assert!(parsed.is_ok(), "{example}: {}", parsed.unwrap_err());
        }
    }
}
