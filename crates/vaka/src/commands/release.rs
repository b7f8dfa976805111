//! `vaka update` with a release: stage by stage.

use std::sync::Arc;

use vaka_boot::bench::lock::UnitLock;
use vaka_boot::context::Context;
use vaka_boot::event::Event as EngineEvent;
use vaka_boot::operator::Operator;
use vaka_boot::release_install::ReleaseInstall;
use vaka_boot::update::{Request, SaveFn};
use vaka_core::event::{Event, Report};
use vaka_core::sheet::Sheet;
use vaka_image::Image;
use vaka_usb::SystemClock;

use crate::args::{Common, Update, VerifyLevel};
use crate::backup::{Backup, stored};
use crate::cli_error::CliError;
use crate::environment;
use crate::journal::Seen;
use crate::lock::Locks;
use crate::output_options::OutputOptions;
use crate::preserved_store::StateFolder;
use crate::recording::JournalEntry;
use crate::release_recorder::JournalHooks;
use crate::release_store::{self, Found};
use crate::release_trust;
use crate::render::Renderer;
use crate::{render, secrets, signals};

/// A release that may be installed.
pub struct Installation<'a> {
    pub found: &'a Found,
    /// The sheet of its product.
    pub sheet: Sheet,
    pub build: &'a str,
    pub operator: &'a mut dyn Operator,
    /// Sees each event before it is put into words.
    pub look: &'a mut dyn FnMut(&EngineEvent),
}

pub fn run(
    args: &Update,
    common: &Common,
    found: &Found,
    setting: &OutputOptions,
    operator: &mut dyn Operator,
) -> Result<Report, CliError> {
    let Found { path, release, .. } = found;
    let signer = release_trust::trusted(release, path, common)?;
    let sheet = release_store::sheet(release, path, environment::sheets(common)?)?;
    release_store::check_consistency(release, &sheet, path)?;
    let build = release_store::build(release, &args.release.build)?;
    let mut renderer = render::renderer(&setting.detailed_if(args.plan));
    renderer.event(Event::Release(release_store::seen(found, build, signer)));
    for line in release.notes() {
        if !line.is_empty() && !common.quiet {
            renderer.event(Event::Warning { text: line });
        }
    }
    let installation = Installation { found, sheet, build, operator, look: &mut |_| {} };
    install(args, common, installation, &mut *renderer)
}

/// Installs a release stage by stage.
pub fn install(
    args: &Update,
    common: &Common,
    installation: Installation<'_>,
    renderer: &mut dyn Renderer,
) -> Result<Report, CliError> {
    let Installation { found, sheet, build, operator, look } = installation;
    let Found { path, release, .. } = found;
    let sha256 = found.recorded_digest(args.plan)?;
    let buses = environment::all_buses(common, std::slice::from_ref(&sheet))?;
    let backup = args.save.as_deref().map(|path| Backup::into_file(path, args.dated)).transpose()?;
    let save = |image: &Image, report: &Report| stored(backup.as_ref(), image, report);
    let request = Request {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        erase_all: args.erase_all,
        rewrite: args.rewrite,
        wait: common.wait,
        consents: common.allow.clone(),
        plan_only: args.plan,
        read_back: args.check == VerifyLevel::Strongest,
        save: backup.as_ref().map(|_| SaveFn(&save)),
        keep: args.keep.clone(),
        shelf: Some(&StateFolder),
        history: Some(&Seen),
        ..Request::new(&[])
    };
    let (guard, secrets) = (Some(Arc::new(Locks) as Arc<dyn UnitLock>), Some(secrets::source(common)));
    let staged = ReleaseInstall { buses: &buses, guard, secrets, sheet: &sheet, release, build };
    let state = std::cell::RefCell::new(JournalEntry::default());
    let export_dir = args.release.export_dir.as_deref();
    let label = common.variant.as_deref();
    let mut around = JournalHooks { sha256, export_dir, common, label, path, release, build, state: &state };
    let mut show = |event: Event| renderer.event(event);
    let mut tell = |event| {
        look(&event);
        state.borrow_mut().pass(vaka_messages::event(event), &mut show);
    };
    let mut cx = Context::new(&SystemClock, &mut tell, signals::flag());
    let report = staged.run(&request, operator, &mut cx, &mut around);
    let code = state.borrow().code(report.code);
    Ok(Report { code, ..report })
}
