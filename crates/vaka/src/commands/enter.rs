//! `vaka enter` and `vaka restart`: into update mode, and back without writing.

use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::Candidate;
use vaka_boot::bench::discovery::{self, UnitQuery};
use vaka_boot::context::Context;
use vaka_boot::read_session::{self, ReadRequest};
use vaka_core::event::ExitCode;
use vaka_core::unit::{MemoryChoice, Mode};
use vaka_usb::SystemClock;

use super::print_line;
use crate::args::{Common, OutputFormat};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::output_options::OutputOptions;
use crate::{prompt, render, signals};

pub fn enter(common: &Common, setting: &OutputOptions) -> Outcome {
    with_unit(common, setting, |bench, found, request, cx| {
        let unit = read_session::enter_only(bench, found, request, &mut *prompt::at(common), cx)?;
        Ok(format!("{} is in update mode; nothing was changed in it.", bench.place(&unit.location)))
    })
}

pub fn restart(common: &Common, setting: &OutputOptions) -> Outcome {
    with_unit(common, setting, |bench, found, request, cx| {
        if found.mode == Mode::Application {
            return Ok("Its application is already running.".to_owned());
        }
        let session = read_session::open(bench, found, request, &mut *prompt::at(common), cx)?;
        Ok(format!("Nothing was written: {}.", session.restart(cx)?))
    })
}

/// Finds the unit, runs an action on it, and prints the result.
fn with_unit(
    common: &Common,
    setting: &OutputOptions,
    work: impl for<'a> FnOnce(&'a Bench<'a>, &Candidate<'a>, &ReadRequest, &mut Context<'_>) -> Result<String, CliError>,
) -> Outcome {
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, signals::flag());
    let query = UnitQuery::any(&bench, common.unit.as_ref(), true);
    let found = discovery::find(&bench, &query, common.wait, &mut *prompt::at(common), &mut cx)?;
    let request = ReadRequest {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: MemoryChoice::default(),
        wait: common.wait,
        wants_variant: false,
    };
    let words = work(&bench, &found, &request, &mut cx)?;
    if setting.format == OutputFormat::Text {
        print_line(&words);
    }
    Ok(ExitCode::Done)
}
