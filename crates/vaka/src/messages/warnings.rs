//! One sentence for each warning.

use std::path::Path;

use vaka_base::duration;
use vaka_base::text;
use vaka_boot::failure::OtherDevice;
use vaka_boot::warning::{ReadBackDoubt, Warning};

use super::failures::{failure, kernel_report, known_as};
use super::remedies::remedies;

/// The journal cannot be written; the reason is a phrase.
pub fn journal_unwritable(reason: &str) -> String {
    format!("The journal cannot be written ({reason}): this attempt is not recorded.")
}

/// An unsound product sheet is not used.
pub fn sheet_skipped(file: &Path, errors: usize) -> String {
    let file = file.display();
    let errors = text::count(errors, "error");
    format!("{file} is skipped, because it has {errors}; 'vaka sheet check {file}' lists them.")
}

/// The unit leaves update mode once it is closed.
pub fn reset_on_close() -> String {
    "Closing a unit over USB/IP resets it, which ends the update mode of this one.".to_owned()
}

/// A part of a run could not be recorded; the reason is a phrase.
pub fn not_recorded(reason: &str) -> String {
    format!("This run could not be recorded completely: {reason}.")
}

/// A warning, as one or more whole sentences.
#[allow(clippy::too_many_lines)] // a table
pub fn warning(warning: &Warning) -> String {
    use Warning as W;
    match warning {
        W::Program(text) => text.clone(),
        W::StoppingLater { left, waiting_for } => {
            let time = duration::words(*left);
            format!(
                "Stopping in at most {time}, because a busy unit must not be interrupted: waiting for {waiting_for}."
            )
        }
        W::OtherUsersNotExcluded { reason } => {
            let why = reason.as_ref().map(|reason| format!(" ({reason})")).unwrap_or_default();
            format!("Other users of this machine are not kept from this unit{why}. 'vaka help security' tells how to change that.")
        }
        W::NotLocked { reason } => {
            format!("The unit is not locked ({reason}): make sure that no other process works on it.")
        }
        W::EarlierFailure(error) => format!("Before that: {error}."),

        W::WaitingForReturn { failure: kind, place } => {
            format!("{} Waiting for the unit to return at {place}; the update then resumes.", failure(kind))
        }
        W::NodeOnUsb { place } => {
            format!("The node left its bus, and its chip's boot mode appeared at {place}. It is taken for the same unit.")
        }
        W::Moved { place } => {
            format!("The same unit (by its serial number) returned on another port: {place}.")
        }
        W::OtherPort { place } => {
            format!("A unit in update mode appeared on another port, {place}. It is left alone.")
        }
        W::ApplicationAgain { hint } => {
            let own = "Perhaps a button was released too early, or the steps were done in another order.";
            format!("The application started again. {} Repeat the steps.", hint.as_deref().unwrap_or(own))
        }
        W::OtherDevice { device: OtherDevice { id, known, expected }, hint } => {
            let own = "Perhaps the wrong button, switch or pad was used.";
            let (known, hint) = (known_as(known), hint.as_deref().unwrap_or(own));
            format!("{id} appeared{known}; expected {expected}. {hint} Repeat the steps.")
        }
        W::EmptyPort { time, hint, kernel_report: report } => {
            let own =
                "If it is plugged in, try the cable on a unit that works (some only charge), and check its power.";
            let report = report.as_deref().map(kernel_report).unwrap_or_default();
            let (time, hint) = (duration::words(*time), hint.as_deref().unwrap_or(own));
            format!("Its port has been empty for {time}. {hint}{report}")
        }
        W::MaybeDamaged { product } => {
            format!("If the {product} does not respond at all, its firmware may be damaged. Then:")
        }
        W::UnusualDescriptors { place, what } => format!("The unit at {place}: {what}."),

        W::BusReset => "The unit waited for a bus reset and was reset.".to_owned(),
        W::LongPollTimeout { asked, used } => format!(
            "The unit requests a pause of {} s; it is polled again after {} s.",
            asked.as_secs(),
            used.as_secs()
        ),
        W::BlockRefused { size } => {
            format!("The unit rejects a block of {size} bytes although it reports that size; trying smaller ones.")
        }
        W::ReadRefused { reason } => {
            format!("The unit rejects reading although it reports to be readable: {reason}. Written content cannot be verified.")
        }
        W::LiftingProtection => {
            "Lifting the read protection as allowed: the unit now erases its whole memory.".to_owned()
        }
        W::NoReadBackFile { file } => {
            format!("The unit's disk has no {file}: written content cannot be read back.")
        }
        W::EjectingAfterFile => {
            "The unit has the whole file and stays on the bus. Its disk is ejected now, which makes some units install it."
                .to_owned()
        }
        W::EjectingAfterBlocks => {
            "The unit has all blocks and stays in update mode. Its disk is ejected now, which makes some units restart."
                .to_owned()
        }
        W::PowerCycleNeeded => {
            "Unplug the unit and plug it in again: only a power cycle ends its update mode.".to_owned()
        }
        W::LeaveFailed(error) => format!("The request to leave update mode failed: {error}."),
        W::NotReturnedToApplication { failure: kind, remedies: all } => {
            format!("{} {}", failure(kind), remedies(all))
        }

        W::NothingToSave { is_blank: false } => "The unit has no application, so nothing was saved.".to_owned(),
        W::NothingToSave { is_blank: true } => {
            "The unit is blank there, so nothing was saved.".to_owned()
        }
        W::PreservedEarlier => {
            "Restoring the data saved before the interruption, not the current content of flash.".to_owned()
        }
        W::ReadBackProvesNothing(doubt) => {
            let why = match doubt {
                ReadBackDoubt::Differs(at) => format!("the content differs at {at}"),
                ReadBackDoubt::Failed(kind) => failure(kind).trim_end_matches('.').to_owned(),
            };
            format!("Reading back proves nothing: {why}. Plain DFU allows a unit to return other bytes than it accepted.")
        }
        W::DiffersBeforeReset => {
            "The content differs before a reset. The unit is reset and read again.".to_owned()
        }
        W::NotRead(kind) => format!("{} Its content was not read.", failure(kind)),
        W::NoResultFile { file } => format!("The unit wrote no {file} with the result."),
        W::UnclearResult { file, line } => {
            format!("The unit's {file} reports neither success nor failure: {line}.")
        }
        W::ShownFileUnreadable { file, error } => {
            format!("{file} could not be read: {error}. The content of the unit is not verified.")
        }
        W::NoApplicationShown { file } => {
            format!("The unit shows no application in {file}. Its content is not verified.")
        }

        W::UndoNotSeen { action } => format!("The bus does not show yet that this was done: {action}"),
        W::NotAsked { expected } => format!("Not checked by eye; expected: {expected}."),
        W::SerialPort(error) => format!("The application's serial port cannot be read: {error}."),
        W::OtherVersion(versions) => {
            format!("The unit reports version {}; the file name says {}.", versions.reported, versions.named)
        }

        W::StageNotPlanned { stage } => {
            format!("Stage '{stage}' can be planned in detail once the previous stage is done.")
        }
    }
}
