//! The condition of a unit when the work ends with a failure.

use vaka_base::size::Grouped;
use vaka_boot::failure::{Failure, FailureKind, MissingUnit, RunEffect, UnitCondition};
use vaka_core::unit_state::UnitState;

/// The second sentence of a failure: the state of the unit, or the devices present instead.
pub(super) fn state(failure: &Failure) -> Option<String> {
    match (&failure.unit, &*failure.kind) {
        (Some(unit), _) => Some(condition(unit)),
        (None, FailureKind::MissingUnit(missing)) => Some(present(missing)),
        (None, _) => None,
    }
}

pub(super) fn condition(unit: &UnitCondition) -> String {
    match unit {
        UnitCondition::NoUnit => "Nothing was changed in any unit.".to_owned(),
        UnitCondition::Unchanged => "Nothing was changed in the unit.".to_owned(),
        UnitCondition::UnchangedAndRunning => "Nothing was changed in the unit; its application is running.".to_owned(),
        UnitCondition::OtherUnit => "It is left alone; nothing was changed in it.".to_owned(),
        UnitCondition::ExternalTool => "The effect of the other tool on the unit is not known.".to_owned(),
        UnitCondition::AfterRun(effect) => after_run(effect),
    }
}

/// Maximum number of devices in a message. Chosen by us.
const MAX_LISTED: usize = 6;

fn present(missing: &MissingUnit) -> String {
    let present = &missing.present;
    match (&present[..], &missing.empty_reason) {
        ([], Some(reason)) => format!("No unit was found: {reason}."),
        ([], None) => "No USB device is connected.".to_owned(),
        _ => {
            let rest = present.len().saturating_sub(MAX_LISTED);
            let more = if rest == 0 { String::new() } else { format!("; and {rest} more") };
            format!("Found instead: {}{more}.", present[..present.len() - rest].join("; "))
        }
    }
}

/// The state of a unit after a run, with the known numbers.
fn after_run(effect: &RunEffect) -> String {
    let RunEffect { state, in_update_mode, image_bytes, present_bytes, compared_bytes, .. } = effect;
    let (total, accepted) = (Grouped(*image_bytes), Grouped(*present_bytes));
    let numbers = format!(
        "{accepted} of {total} bytes of the image were accepted or already present, and {} were compared",
        Grouped(*compared_bytes)
    );
    let place = if *in_update_mode { ", in update mode" } else { "" };
    // The mode of a unit that left update mode by itself is not known.
    let started = if effect.not_restarted && *in_update_mode { " The application was not started." } else { "" };
    let untouched = match &effect.untouched[..] {
        [] => String::new(),
        regions => format!(" Not touched: {}.", regions.join(" and ")),
    };
    match state {
        UnitState::Unchanged => "The unit is unchanged.".to_owned(),
        UnitState::UnchangedInUpdateMode => "The unit is in update mode, unchanged.".to_owned(),
        UnitState::PartlyErased | UnitState::PartlyWritten => {
            format!("The unit is {state}{place}: {numbers}.{started}{untouched}")
        }
        UnitState::WrittenNotChecked => format!("The image is {state}{place}: {numbers}.{started}"),
        UnitState::CheckedNotStarted if *in_update_mode => format!("The image is {state}{place}: {numbers}."),
        UnitState::CheckedNotStarted => {
            format!("The image is written and checked: {numbers}. The application was not seen running.")
        }
        UnitState::Restarted => "The unit left update mode; its application was not observed.".to_owned(),
        UnitState::Running => "The application was seen running after the update.".to_owned(),
        UnitState::Unknown => format!(
            "The content of the unit is unknown: it accepted {accepted} of {total} bytes of the image, and the effect of the last request was not observed."
        ),
    }
}
