//! `vaka help`: a document, the help of a command, or the list of commands.

use vaka_core::event::ExitCode;
use vaka_messages::CommandError;

use super::print_raw;
use crate::args::Help;
use crate::cli_error::Outcome;
use crate::help::{self, TOPICS};

/// Prints help on a topic; a topic takes precedence over a command of the same name.
pub fn run(args: &Help) -> Outcome {
    let mut command = help::command_line();
    command.build();
    let Some(name) = &args.topic else {
        print_raw(&command.render_long_help().to_string());
        return Ok(ExitCode::Done);
    };
    if let Some(topic) = TOPICS.iter().find(|topic| topic.name == name) {
        print_raw(topic.text);
        return Ok(ExitCode::Done);
    }
    match command.find_subcommand_mut(name) {
        Some(command) => print_raw(&command.render_long_help().to_string()),
        None => return Err(CommandError::NoTopic { name: name.clone() }.into()),
    }
    Ok(ExitCode::Done)
}
