//! The topics of `vaka help` and the groups of commands in the help text.

use clap::{CommandFactory, FromArgMatches};

use crate::args::Args;

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
pub const TOPICS: [Topic; 14] = [
    topic!("sheet", "Product sheets: every key", "formats/product-sheet.md"),
    topic!("dialect", "Dialects: the language of vendor bootloaders", "formats/dialect.md"),
    topic!("release", "Release files and their descriptions", "formats/release.md"),
    topic!("stamp", "Stamps inside images", "formats/stamp.md"),
    topic!("files", "Image formats", "formats/files.md"),
    topic!("settings", "Saved settings", "formats/settings.md"),
    topic!("config", "The configuration file", "formats/config.md"),
    topic!("events", "Events of --format json", "formats/events.md"),
    topic!("journal", "The journal of attempts", "formats/journal.md"),
    topic!("trace", "Recorded USB traffic", "formats/trace.md"),
    topic!("scene", "Scenes of simulated units", "formats/scene.md"),
    topic!("dfu", "DFU units", "dfu.md"),
    topic!("disk", "Units that show a disk", "disk.md"),
    topic!("other-systems", "USB on systems other than Linux", "other-systems.md"),
];

/// The commands by purpose. Each command is in one group (see the test).
const GROUPS: [(&str, &[&str]); 5] = [
    ("Update units", &["survey", "update", "line", "enter", "restart"]),
    ("Read units", &["read", "compare", "settings", "console", "journal"]),
    ("Prepare firmware", &["check", "convert", "stamp", "pack", "keys"]),
    ("Describe products", &["sheet", "dialect"]),
    ("This computer", &["demo", "diagnose", "setup", "simulate", "help"]),
];

/// The command line with its commands in groups.
pub fn command_line() -> clap::Command {
    let command = Args::command();
    let groups = grouped_list(&command);
    command.override_help(groups)
}

/// Parses the arguments of the process; prints help or an error and ends it if they are invalid.
pub fn parse_arguments() -> Args {
    let matches = command_line().get_matches();
    Args::from_arg_matches(&matches).unwrap_or_else(|error| error.exit())
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

    #[test]
    fn each_command_is_in_one_group() {
        let mut grouped: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        grouped.sort_unstable();
        let command = Args::command();
        let mut all: Vec<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        all.sort_unstable();
        assert_eq!(grouped, all);
    }
}
