//! `vaka update FILE`

use vaka_core::matching::consent;

use vaka_boot::context::Context;
use vaka_boot::operator::Operator;
use vaka_boot::update::{self, Request, SaveFn};
use vaka_core::event::{Event, Report};
use vaka_core::unit::MemoryChoice;
use vaka_image::Image;
use vaka_usb::SystemClock;

use super::release;
use crate::args::{Common, Update, VerifyLevel};
use crate::backup::{Backup, stored};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::journal::Seen;
use crate::output_options::OutputOptions;
use crate::preserved_store::StateFolder;
use crate::recording::JournalEntry;
use crate::update_files::ReadFiles;
use crate::{image_folder, prompt, release_store, render, signals};

pub fn run(args: &Update, common: &Common, setting: &OutputOptions) -> Outcome {
    Ok(once(args, common, setting, &mut *prompt::at(common))?.code)
}

/// Updates one unit.
pub fn once(
    args: &Update,
    common: &Common,
    setting: &OutputOptions,
    operator: &mut dyn Operator,
) -> Result<Report, CliError> {
    let paths = image_folder::selected(&args.files, args.release.before, common)?;
    if let Some(found) = release_store::selected(&paths, &args.release, common)? {
        return release::run(args, common, &found, setting, operator);
    }
    let files = ReadFiles::read(&paths, args.choose.options())?;
    let sheets = environment::sheets(common)?;
    if sheets.is_empty() && !common.allow.iter().any(|id| id == consent::NO_SHEET) {
        return Err(environment::no_sheets());
    }
    let files = files.opened(&sheets, common)?;
    // Only a unit that the user named is looked at as a disk without a sheet.
    let named = common.unit.clone().filter(|_| common.allow.iter().any(|id| id == consent::NO_SHEET));
    let bench = environment::bench(common, &sheets)?.with_named_disk(named);
    let backup = args.save.as_deref().map(|path| Backup::into_file(path, args.dated)).transpose()?;
    let save = |image: &Image, report: &Report| stored(backup.as_ref(), image, report);
    let request = files.requested(Request {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: args.memory.as_deref().map(MemoryChoice::parse).unwrap_or_default(),
        erase_all: args.erase_all,
        rewrite: args.rewrite,
        wait: common.wait,
        consents: common.allow.clone(),
        plan_only: args.plan,
        read_back: args.check == VerifyLevel::Strongest,
        save: backup.as_ref().map(|_| SaveFn(&save)),
        keep: args.keep.clone(),
        offered: &[],
        undo_later: false,
        append_undo: &[],
        shelf: Some(&StateFolder),
        history: Some(&Seen),
        ..Request::new(&[])
    });
    let mut renderer = render::renderer(&setting.detailed_if(args.plan));
    Ok(std::thread::scope(|scope| {
        // Digests are computed while the unit is searched.
        let mut recording = match args.plan {
            true => JournalEntry::default(),
            false => {
                let making = scope.spawn(|| files.begun(common));
                JournalEntry::making(move || making.join().map_err(|_| "its start could not be recorded".to_owned()))
            }
        };
        let mut show = |event: Event| renderer.event(event);
        let mut tell = |event| recording.pass(vaka_messages::event(event), &mut show);
        let mut cx = Context::new(&SystemClock, &mut tell, signals::flag());
        let report = update::run(&bench, &request, operator, &mut cx);
        Report { code: recording.code(report.code), ..report }
    }))
}
