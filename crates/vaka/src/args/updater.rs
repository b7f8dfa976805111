//! The command line of an updater: the program with a release in it.

use clap::{Args as _, Command, Parser};

use super::common::general_options;
use super::files::ImageSelection;
use super::update::{Releases, Update, VerifyLevel};

/// General options of an updater.
const GENERAL: &[&str] =
    &["bus", "unit", "variant", "part", "wait", "unattended", "allow", "secret", "trace", "format", "verbose", "quiet"];

/// Time to find and plug in a unit. Chosen by us: people who do this for the first time.
const WAIT: &str = "5min";

#[derive(Debug, Parser)]
pub struct UpdaterArgs {
    /// Print the plan and stop before the first step
    #[arg(long)]
    pub plan: bool,
    /// Write all sectors, including those that already match
    #[arg(long)]
    pub rewrite: bool,
    /// Build of the release
    #[arg(long, value_name = "NAME", default_value = vaka_core::release::manifest::STANDARD)]
    pub build: String,
}

impl UpdaterArgs {
    /// The command line of the updater in a file of this name.
    pub fn command(name: &str) -> Command {
        let command = Self::augment_args(Command::new(name.to_owned()).max_term_width(100));
        let command = command.args(general_options(&[GENERAL]));
        command.mut_arg("wait", |arg| arg.default_value(WAIT)).after_help(
            "Without options it finds the unit, shows what to do by hand, updates the unit and says what was checked.\n\n\
             Exit status:\n  0 done, 2 usage, 3 refused, 4 no unit, 5 transfer failed, 7 not back, 8 this file is damaged,\n  \
             9 no access, 10 incomplete record, 130 stopped\n\n\
             Files:\n  $XDG_STATE_HOME/vaka  journal and preserved content; nothing else is written",
        )
    }

    /// The options of the update.
    pub fn update(&self) -> Update {
        let release = Releases { build: self.build.clone(), ..Releases::default() };
        Update {
            files: Vec::new(),
            choose: ImageSelection::default(),
            release,
            plan: self.plan,
            check: VerifyLevel::Strongest,
            save: None,
            dated: false,
            rewrite: self.rewrite,
            keep: Vec::new(),
            erase_all: false,
            memory: None,
            again: false,
            console: false,
        }
    }
}
