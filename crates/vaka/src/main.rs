//! The command-line program.

// A program has no external users; `pub` means "for other modules".
#![allow(unreachable_pub)]
// Comments on options are their help texts, where brackets mark optional parts.
#![allow(rustdoc::broken_intra_doc_links)]

mod args;
mod attempt;
mod backup;
mod catalogue;
mod catalogue_memory;
mod cli_error;
mod commands;
mod completion;
mod config;
mod diagnose;
mod echo;
mod environment;
mod file_history;
mod files;
mod guide;
mod help;
mod image_folder;
mod input_file;
mod journal;
mod keyring;
mod lock;
mod lock_folder;
#[cfg(test)]
mod mutations;
mod origin;
mod output_file;
mod output_options;
mod pending_undo;
mod preserved_store;
mod private_file;
mod prompt;
mod recording;
mod rehearsal;
mod release_recorder;
mod release_store;
mod release_trust;
mod render;
mod report;
mod secrets;
mod sheet_draft;
mod signals;
mod simulated;
mod state_dir;
mod trace;
mod trace_replay;
mod update_files;
mod updater;

use vaka_core::event::ExitCode;

use args::Command;
use output_options::OutputOptions;

fn main() -> std::process::ExitCode {
    updater::Place::of_this_program().map_or_else(vaka, updater::main)
}

/// The program without a release in it.
fn vaka() -> std::process::ExitCode {
    // Ends the process if a shell asks for candidates.
    clap_complete::CompleteEnv::with_factory(|| completion::add_candidates(help::command_line())).complete();
    let (command, mut common) = help::parse_arguments();
    let setting = OutputOptions::new(&common);
    let configured = config::apply(&mut common);
    let done = configured.and_then(|()| signals::install()).and_then(|()| match &command {
        Command::Demo(demo) => commands::demo::run(demo),
        Command::Survey(survey) => commands::survey::run(survey, &common, &setting),
        Command::Check(check) => commands::check::run(check, &common, &setting),
        Command::Console(console) => commands::console::run(console, &common, &setting),
        Command::Convert(convert) => commands::convert::run(convert, common.format),
        Command::Stamp(stamp) => commands::stamp::run(stamp, common.format),
        Command::Update(update) if update.again => commands::again::run(update, &common, &setting),
        Command::Update(update) => commands::update::run(update, &common, &setting),
        Command::Line(line) => commands::batch::run(line, &common, &setting),
        Command::Enter => commands::enter::enter(&common, &setting),
        Command::Restart => commands::enter::restart(&common, &setting),
        Command::Read(read) => commands::read::run(read, &common, &setting),
        Command::Settings(command) => commands::settings::run(command, &common, &setting),
        Command::Compare(compare) => commands::compare::run(compare, &common, &setting),
        Command::Journal(journal) => commands::journal::run(journal, &common, &setting),
        Command::Pack(pack) => commands::pack::run(pack, &setting),
        Command::Rehearse(rehearse) => commands::rehearse::run(rehearse, &common, &setting),
        Command::Guide(guide) => commands::guide::run(guide, &common),
        Command::Releases(releases) => commands::releases::run(releases, &common, &setting),
        Command::Catalogue(command) => commands::catalogue::run(command, &common, &setting),
        Command::Keys(keys) => commands::keys::run(keys, common.format),
        Command::Sheet(sheet) => commands::sheet::run(sheet, &common, &setting),
        Command::Diagnose(diagnose) => commands::diagnose::run(diagnose, &common, &setting),
        Command::Dialect(dialect) => commands::dialect::run(dialect, &common, &setting),
        Command::Setup(setup) => commands::setup::run(setup, &common),
        Command::Help(help) => commands::help::run(help),
        Command::Simulate(simulator) => commands::simulate::run(simulator),
    });
    let code = done.unwrap_or_else(|problem| {
        let code = problem.code();
        render::problem(&problem, &setting);
        code
    });
    // A successful update has already shown its undo actions.
    let has_shown = code == ExitCode::Done && matches!(command, Command::Update(_) | Command::Line(_));
    if setting.format == args::OutputFormat::Text && !has_shown {
        pending_undo::print();
    }
    std::process::ExitCode::from(u8::from(code))
}
