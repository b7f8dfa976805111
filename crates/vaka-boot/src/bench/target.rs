//! Chips that are wired to programmers.

use std::sync::Arc;

use vaka_core::sheet::{EntryStep, ManualStep, Programmer};
use vaka_core::unit::{DeviceId, ReportedProperty};
use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::bench::candidate::id_of;
use crate::bench::open_error::{OpenError, open_failure};
use crate::context::Context;
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;

/// The programmer of a listed target; `None` for all other devices.
pub fn programmer_of<'a>(bench: &Bench<'a>, device: &DeviceInfo) -> Option<&'a Arc<Programmer>> {
    let DeviceId::Target(name) = id_of(device) else { return None };
    let mut all = bench.sheets().iter().flat_map(|sheet| &sheet.programmers);
    all.find(|programmer| programmer.name == name.as_str())
}

/// Asks a programmer which chip is wired to it, and lets the chip run again.
///
/// # Errors
/// It reaches no chip, or cannot be used.
pub fn ask(bench: &Bench<'_>, device: &DeviceInfo, cx: &mut Context<'_>) -> Result<Vec<ReportedProperty>, Failure> {
    let opened = bench.look(device, cx).map_err(|error| target_failure(bench, device, &error))?;
    let told = opened.identity.facts.told.clone();
    let route = bench.sheets().iter().find_map(|sheet| sheet.routes_of(id_of(device)).next());
    let routed = route.and_then(|route| opened.by_route(route, None));
    if let Some(routed) = routed {
        let failed = |error| Failure::new(FailureKind::NotLeft(error)).remedy(Remedy::CheckConnection);
        let mut session = routed.open(cx).map_err(failed)?;
        session.restart(None, cx).map_err(failed)?;
    }
    Ok(told)
}

/// The failure when a programmer cannot be used. If it replies, but reaches no chip, the wiring is the
/// remedy.
pub(crate) fn target_failure(bench: &Bench<'_>, device: &DeviceInfo, error: &OpenError) -> Failure {
    let place = bench.place(&device.location);
    match (programmer_of(bench, device), error) {
        (Some(programmer), OpenError::Dialect { error, .. }) if error.is_refusal() => {
            let steps = wiring(programmer).map(|step| step.action.trim_end_matches('.').to_owned()).collect();
            let (programmer, error) = (programmer.about.clone(), error.clone());
            let failure = Failure::new(FailureKind::NoTarget { place, programmer, error });
            failure.unchanged().remedy(Remedy::CheckWiring { steps })
        }
        _ => open_failure(error, &place),
    }
}

/// The manual steps that wire a programmer.
pub(crate) fn wiring(programmer: &Programmer) -> impl Iterator<Item = &ManualStep> {
    programmer.wiring.iter().filter_map(|step| match step {
        EntryStep::Manual(step) => Some(&**step),
        EntryStep::Signal(_) => None,
    })
}
