//! `vaka enter`, `vaka restart`: into update mode, and back with nothing written.

use std::sync::Arc;

use vaka_boot::bench::{Bench, Candidate};
use vaka_boot::hunt::{self, Hunt};
use vaka_boot::pace::Pace;
use vaka_boot::visit::{Visit, Wish};
use vaka_core::event::{Code, Event, Failure};
use vaka_core::unit::{MemoryChoice, Mode};
use vaka_usb::SystemClock;

use super::say;
use crate::Outcome;
use crate::args::{Common, Format};
use crate::lock::Locks;
use crate::setting::{self, Setting};
use crate::{interrupt, person, render};

pub fn enter(common: &Common, setting: &Setting) -> Outcome {
    visited(
        common,
        setting,
        |_| None,
        |visit, pace| {
            let words = format!("{} is in update mode; nothing was changed in it.", visit.place());
            visit.stay(pace);
            Ok(words)
        },
    )
}

pub fn restart(common: &Common, setting: &Setting) -> Outcome {
    let runs = |found: &Candidate<'_>| {
        (found.mode == Mode::Application).then(|| "It runs its application already.".to_owned())
    };
    visited(common, setting, runs, |visit, pace| Ok(format!("Nothing was written: {}.", visit.restart(pace)?)))
}

/// Opens the unit in update mode, does something, and says what came of it; says
/// what `done` finds if there is nothing to do.
fn visited(
    common: &Common,
    setting: &Setting,
    done: impl FnOnce(&Candidate<'_>) -> Option<String>,
    work: impl FnOnce(Visit<'_>, &mut Pace<'_>) -> Result<String, Failure>,
) -> Outcome {
    let sheets = setting::sheets(common)?;
    let bench = Bench::new(setting::buses(common)?, &sheets).guarded(Arc::new(Locks));
    let mut renderer = render::renderer(setting);
    let mut tell = |event: Event| renderer.event(event);
    let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
    let found = hunt::find(
        &bench,
        &Hunt::any(&bench, common.unit.as_ref(), true),
        common.wait,
        &mut *person::at(common),
        &mut pace,
    )?;
    let wish = Wish {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: MemoryChoice::default(),
        wait: common.wait,
        wants_variant: false,
    };
    let words = match done(&found) {
        Some(words) => words,
        None => work(Visit::of(&bench, &found, &wish, &mut *person::at(common), &mut pace)?, &mut pace)?,
    };
    if setting.format == Format::Text {
        say(&words);
    }
    Ok(Code::Done)
}
