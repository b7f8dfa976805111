//! The program with a release in it: updates one product, for people who have nothing else.
//!
//! The format of the file is specified in `docs/formats/updater.md`.

mod access;
mod place;
mod plain;

use std::path::PathBuf;
use std::process::ExitCode as ProcessStatus;
use std::sync::Arc;

use clap::FromArgMatches;
use vaka_boot::event::Event as EngineEvent;
use vaka_core::event::{Event, ExitCode};
use vaka_core::release::Release;
use vaka_core::sheet::Sheet;

use crate::args::{Common, OutputFormat, UpdaterArgs};
use crate::cli_error::{CliError, Outcome};
use crate::commands::release::{Installation, install};
use crate::origin;
use crate::output_options::OutputOptions;
use crate::release_store::{self, Found, ReleaseFile};
use crate::release_trust;
use crate::render;
use crate::{pending_undo, prompt, signals};
use vaka_messages::CommandError;

pub use place::{Place, filled, this_program};

/// Runs the updater of the release in this program.
pub fn main(place: Place) -> ProcessStatus {
    let setting = OutputOptions::new(&Common::default());
    let code = open(place).and_then(|found| run(&found)).unwrap_or_else(|problem| {
        render::problem(&problem, &setting);
        problem.code()
    });
    ProcessStatus::from(u8::from(code))
}

/// The release in this program; every byte of the file is as it was written.
fn open(place: Place) -> Result<Found, CliError> {
    let damaged = |reason: String| CliError::from(CommandError::Updater { reason });
    let (path, mut file) = this_program().map_err(|error| damaged(error.to_string()))?;
    place.check(&mut file).map_err(|error| damaged(error.to_string()))?;
    let source = Arc::new(ReleaseFile::part(file, place.program, place.release));
    let release = Release::open(source, origin::VERSION).map_err(|error| damaged(error.to_string()))?;
    Ok(Found { path: PathBuf::from(path.file_name().unwrap_or_default()), release, others: Vec::new() })
}

fn run(found: &Found) -> Outcome {
    let sheet = release_store::sheet(&found.release, &found.path, Vec::new())?;
    let (args, mut common) = arguments(found, &sheet);
    let setting = OutputOptions::new(&common);
    signals::install()?;
    let done = update(found, sheet, &args, &mut common);
    Ok(done.unwrap_or_else(|problem| {
        render::problem(&problem, &setting);
        problem.code()
    }))
}

/// Parses the arguments; prints help or an error and ends the process if they are invalid.
fn arguments(found: &Found, sheet: &Sheet) -> (UpdaterArgs, Common) {
    let manifest = &found.release.manifest;
    let command = UpdaterArgs::command(&found.path.display().to_string())
        .version(format!("{} {} (Vaka {})", manifest.product, manifest.version, origin::VERSION))
        .about(format!("Updates one {} to version {} of {}.", sheet.product.name, manifest.version, manifest.date));
    let matches = command.get_matches();
    let args = UpdaterArgs::from_arg_matches(&matches).unwrap_or_else(|error| error.exit());
    let common = Common::of(&matches, &matches).unwrap_or_default();
    (args, common)
}

fn update(found: &Found, sheet: Sheet, args: &UpdaterArgs, common: &mut Common) -> Outcome {
    let setting = OutputOptions::new(common);
    let signer = trusted(&found.release, common)?;
    release_store::check_consistency(&found.release, &sheet, &found.path)?;
    let build = release_store::build(&found.release, &args.build)?;
    let mut renderer = match common.format {
        OutputFormat::Json => render::renderer(&setting),
        OutputFormat::Text => {
            let setting = setting.detailed_if(args.plan);
            Box::new(plain::Plain::new(setting, &sheet.product.name, found.release.notes()))
        }
    };
    renderer.event(Event::Release(release_store::seen(found, build, signer)));
    if !args.plan && !agree_to_losses(&found.release, common) {
        renderer.event(Event::Error(CommandError::LossesNotAccepted.text()));
        return Ok(ExitCode::Refused);
    }
    let rules = access::instructions(&sheet);
    let mut lacks_access = false;
    let mut operator = prompt::at(common);
    let mut look = |event: &EngineEvent| lacks_access |= access::is_missing(event);
    let installation = Installation { found, sheet, build, operator: &mut *operator, look: &mut look };
    let code = install(&args.update(), common, installation, &mut *renderer)?.code;
    match common.format {
        OutputFormat::Text if lacks_access => access::print(&rules),
        OutputFormat::Text if code != ExitCode::Done => pending_undo::print(),
        _ => {}
    }
    Ok(code)
}

/// Whoever starts this program trusts it, and with it the key of its release. A key that is known here as
/// revoked is not trusted all the same.
fn trusted(release: &Release, common: &Common) -> Result<String, CliError> {
    release_trust::check_expiry(release, common)?;
    let key = release
        .signer
        .as_ref()
        .ok_or_else(|| CliError::from(CommandError::Updater { reason: "its release is not signed".to_owned() }))?;
    release_trust::check_revocation(key)?;
    Ok(format!("key {key}"))
}

/// Asks the user at the terminal to accept what the release takes away; elsewhere `--allow` does.
fn agree_to_losses(release: &Release, common: &mut Common) -> bool {
    let of = |loss: &vaka_core::release::manifest::Loss| format!("lose-{}", loss.id);
    let missing = release.manifest.loses.iter().map(of).filter(|id| !common.allow.contains(id));
    let missing: Vec<String> = missing.collect();
    if missing.is_empty() || !prompt::is_answered(common) {
        return true;
    }
    let is_accepted = prompt::agree("The update takes away what is listed above. Continue? yes or no:");
    if is_accepted {
        common.allow.extend(missing);
    }
    is_accepted
}
