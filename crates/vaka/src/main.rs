//! The command-line program.

// A program has no external users; `pub` means "for other modules".
#![allow(unreachable_pub)]
// Comments on options are their help texts, where brackets mark optional parts.
#![allow(rustdoc::broken_intra_doc_links)]

mod args;
mod attempt;
mod cli_error;
mod commands;
mod config;
mod diagnose;
mod environment;
mod file_history;
mod files;
mod help;
mod journal;
mod keyring;
mod lock;
mod pending_undo;
mod preserved_store;
mod prompt;
mod recording;
mod release_recorder;
mod release_store;
mod render;
mod report;
mod signals;
mod state_dir;
mod trace;
mod trace_replay;

use vaka_core::event::ExitCode;

use args::Command;
use environment::OutputOptions;

fn main() -> std::process::ExitCode {
    let mut args = help::parse_arguments();
    let setting = OutputOptions::new(&args.common);
    let configured = config::apply(&mut args.common);
    let done = configured.and_then(|()| signals::install()).and_then(|()| match &args.command {
        Command::Demo(demo) => commands::demo::run(demo),
        Command::Survey(survey) => commands::survey::run(survey, &args.common, &setting),
        Command::Check(check) => commands::check::run(check, &args.common, &setting),
        Command::Console(console) => commands::console::run(console, &args.common, &setting),
        Command::Convert(convert) => commands::convert::run(convert),
        Command::Stamp(stamp) => commands::stamp::run(stamp),
        Command::Update(update) => commands::update::run(update, &args.common, &setting),
        Command::Line(line) => commands::batch::run(line, &args.common, &setting),
        Command::Enter => commands::enter::enter(&args.common, &setting),
        Command::Restart => commands::enter::restart(&args.common, &setting),
        Command::Read(read) => commands::read::run(read, &args.common, &setting),
        Command::Settings(command) => commands::settings::run(command, &args.common, &setting),
        Command::Compare(compare) => commands::compare::run(compare, &args.common, &setting),
        Command::Journal(journal) => commands::journal::run(journal, &args.common, &setting),
        Command::Pack(pack) => commands::pack::run(pack, &setting),
        Command::Keys(keys) => commands::keys::run(keys),
        Command::Sheet(sheet) => commands::sheet::run(sheet, &args.common, &setting),
        Command::Diagnose(diagnose) => commands::diagnose::run(diagnose, &args.common, &setting),
        Command::Dialect(dialect) => commands::dialect::run(dialect, &setting),
        Command::Setup(setup) => commands::setup::run(setup, &args.common),
        Command::Help(help) => commands::help::run(help),
        Command::Simulate(simulator) => commands::simulate::run(simulator),
    });
    let code = done.unwrap_or_else(|problem| {
        let code = problem.code();
        render::problem(&problem, &setting);
        code
    });
    // A successful update has already shown its undo actions.
    let has_shown = code == ExitCode::Done && matches!(args.command, Command::Update(_) | Command::Line(_));
    if setting.format == args::Format::Text && !has_shown {
        pending_undo::print();
    }
    std::process::ExitCode::from(u8::from(code))
}
