//! `vaka enter`, `vaka restart`: into update mode, and back with nothing written.

use std::sync::Arc;

use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::Candidate;
use vaka_boot::bench::discovery::{self, Hunt};
use vaka_boot::context::Pace;
use vaka_boot::read_session::{self, Visit, Wish};
use vaka_core::event::{Code, Event, Failure};
use vaka_core::unit::{MemoryChoice, Mode};
use vaka_usb::SystemClock;

use super::say;
use crate::args::{Common, Format};
use crate::lock::Locks;
use crate::problem::Outcome;
use crate::setting::{self, Setting};
use crate::{interrupt, person, render};

pub fn enter(common: &Common, setting: &Setting) -> Outcome {
    with_unit(common, setting, |bench, found, wish, pace| {
        let unit = read_session::bring(bench, found, wish, &mut *person::at(common), pace)?;
        Ok(format!("{} is in update mode; nothing was changed in it.", bench.place(&unit.location)))
    })
}

pub fn restart(common: &Common, setting: &Setting) -> Outcome {
    with_unit(common, setting, |bench, found, wish, pace| {
        if found.mode == Mode::Application {
            return Ok("It runs its application already.".to_owned());
        }
        let visit = Visit::of(bench, found, wish, &mut *person::at(common), pace)?;
        Ok(format!("Nothing was written: {}.", visit.restart(pace)?))
    })
}

/// Finds the unit, does something with it, and says what came of it.
fn with_unit(
    common: &Common,
    setting: &Setting,
    work: impl for<'a> FnOnce(&'a Bench<'a>, &Candidate<'a>, &Wish, &mut Pace<'_>) -> Result<String, Failure>,
) -> Outcome {
    let sheets = setting::sheets(common)?;
    let bench = Bench::new(setting::buses(common)?, &sheets).guarded(Arc::new(Locks));
    let mut renderer = render::renderer(setting);
    let mut tell = |event: Event| renderer.event(event);
    let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
    let hunt = Hunt::any(&bench, common.unit.as_ref(), true);
    let found = discovery::find(&bench, &hunt, common.wait, &mut *person::at(common), &mut pace)?;
    let wish = Wish {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: MemoryChoice::default(),
        wait: common.wait,
        wants_variant: false,
    };
    let words = work(&bench, &found, &wish, &mut pace)?;
    if setting.format == Format::Text {
        say(&words);
    }
    Ok(Code::Done)
}
