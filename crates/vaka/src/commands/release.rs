//! `vaka update` with a release: stage by stage.

use std::sync::Arc;

use vaka_boot::context::Pace;
use vaka_boot::release_install::Staged;
use vaka_boot::update::Request;
use vaka_core::event::Event;
use vaka_usb::SystemClock;

use crate::args::{Common, Strength, Update};
use crate::attempt;
use crate::journal::Confirmed;
use crate::lock::Locks;
use crate::problem::Outcome;
use crate::recording::Recording;
use crate::release_recorder::Recorder;
use crate::releases::{self, Found};
use crate::setting::{self, Setting};
use crate::shelf::StateFolder;
use crate::{interrupt, person, render};

pub fn run(args: &Update, common: &Common, found: &Found, setting: &Setting) -> Outcome {
    let Found { path, release, .. } = found;
    let signer = releases::trusted(release, common)?;
    let sheet = releases::sheet(release, path, setting::sheets(common)?)?;
    releases::goes_together(release, &sheet, path)?;
    let build = releases::build(release, &args.release.build)?;
    let buses = setting::buses(common)?;
    let request = Request {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        clear_all: args.clear_all,
        rewrite: args.rewrite,
        wait: common.wait,
        agreed: common.agree.clone(),
        plan_only: args.plan,
        read_back: args.check == Strength::Strongest,
        keep: args.keep.clone(),
        shelf: Some(&StateFolder),
        history: Some(&Confirmed),
        ..Request::new(&[])
    };
    let mut renderer = render::renderer(setting);
    renderer.event(Event::Release(releases::seen(found, build, signer)));
    for line in release.notes() {
        if !line.is_empty() && !common.quiet {
            renderer.event(Event::Warning { text: line });
        }
    }
    let staged = Staged { buses: &buses, guard: Some(Arc::new(Locks)), sheet: &sheet, release, build };
    let state = std::cell::RefCell::new(Recording::default());
    let hand_out = args.release.hand_out.as_deref();
    let mut around = Recorder { plan_only: args.plan, hand_out, common, path, release, build, state: &state };
    attempt::warn_unless_writable(args.plan, &mut |event| renderer.event(event));
    let mut show = |event: Event| renderer.event(event);
    let mut tell = |event: Event| state.borrow_mut().pass(event, &mut show);
    let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
    let report = staged.run(&request, &mut *person::at(common), &mut pace, &mut around);
    Ok(state.borrow().code(report.code))
}
