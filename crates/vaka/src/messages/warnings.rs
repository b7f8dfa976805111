//! One sentence for each warning.

use vaka_base::duration;
use vaka_boot::failure::OtherDevice;
use vaka_boot::warning::{ReadBackDoubt, Warning};

use super::failures::{failure, kernel_report, known_as};
use super::remedies::remedies;

/// The journal cannot be written; the reason is a phrase.
pub fn journal_unwritable(reason: &str) -> String {
    format!("The journal cannot be written ({reason}): this attempt will not be on record.")
}

/// The unit leaves update mode once it is closed.
pub fn reset_on_close() -> String {
    "Over USB/IP a unit is reset when it is let go: this one leaves its update mode by that.".to_owned()
}

/// A part of a run could not be recorded; the reason is a phrase.
pub fn not_recorded(reason: &str) -> String {
    format!("Not all of this run could be recorded: {reason}.")
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
                "Stopping after this, in {time} at the most, since a unit at work is left alone: waiting for {waiting_for}."
            )
        }
        W::EarlierFailure(error) => format!("Before that: {error}."),

        W::WaitingForReturn { failure: kind, place } => {
            format!("{} Waiting for the unit to come back at {place}; the work then goes on.", failure(kind))
        }
        W::Moved { place } => {
            format!("It came at {place}, another port, with the same serial number: it is the same unit.")
        }
        W::OtherPort { place } => {
            format!("A unit in update mode came at {place}. That is another port; it is left alone.")
        }
        W::ApplicationAgain { hint } => {
            let own = "Perhaps a button was let go too early, or the steps were done in another order.";
            format!("The application started again. {} Do the steps once more.", hint.as_deref().unwrap_or(own))
        }
        W::OtherDevice { device: OtherDevice { id, known, expected }, hint } => {
            let own = "Perhaps another button, switch or pad was used than the step says.";
            let (known, hint) = (known_as(known), hint.as_deref().unwrap_or(own));
            format!("{id} came{known}; {expected} was expected. {hint} Do the steps once more.")
        }
        W::EmptyPort { time, hint, kernel_report: report } => {
            let own =
                "If it is plugged in: try the cable on a unit that works (some only charge), and look at its power.";
            let report = report.as_deref().map(kernel_report).unwrap_or_default();
            let (time, hint) = (duration::words(*time), hint.as_deref().unwrap_or(own));
            format!("Nothing has come on its port for {time}. {hint}{report}")
        }
        W::MaybeDamaged { product } => {
            format!("If the {product} shows nothing at all, its firmware may be damaged. Then:")
        }
        W::UnusualDescriptors { place, what } => format!("The unit at {place}: {what}."),

        W::BusReset => "The unit waited for a reset of the bus; it got one.".to_owned(),
        W::LongPollTimeout { asked, used } => format!(
            "The unit asks to be left alone for {} s; it is asked again after {} s.",
            asked.as_secs(),
            used.as_secs()
        ),
        W::BlockRefused { size } => {
            format!("The unit says that it takes blocks of {size} bytes, but refuses one; smaller ones are tried.")
        }
        W::ReadRefused { reason } => {
            format!("The unit says that it can be read, and refuses: {reason}. What is written cannot be checked.")
        }
        W::LiftingProtection => {
            "Lifting the read protection, as consents: the unit erases its whole memory now.".to_owned()
        }
        W::NoReadBackFile { file } => {
            format!("The unit's disk shows no {file}: what is written cannot be read back.")
        }
        W::EjectingAfterFile => {
            "The unit has the whole file and does not leave the bus; its disk is ejected now, which makes some take it."
                .to_owned()
        }
        W::EjectingAfterBlocks => {
            "The unit has all blocks and stays in update mode; its disk is ejected now, which makes some leave."
                .to_owned()
        }
        W::PowerCycleNeeded => {
            "Unplug the unit and plug it in again: nothing else makes it leave update mode.".to_owned()
        }
        W::LeaveFailed(error) => format!("The request to leave update mode ended with: {error}."),
        W::NotReturnedToApplication { failure: kind, remedies: all } => {
            format!("{} {}", failure(kind), remedies(all))
        }

        W::NothingToSave { is_blank: false } => "The unit shows no application, and nothing was saved.".to_owned(),
        W::NothingToSave { is_blank: true } => {
            "The unit holds nothing there: it is blank, and nothing was saved.".to_owned()
        }
        W::PreservedEarlier => {
            "What is kept was read before a break; those bytes are written, not what is there now.".to_owned()
        }
        W::ReadBackProvesNothing(doubt) => {
            let why = match doubt {
                ReadBackDoubt::Differs(at) => format!("what it gives differs at {at}"),
                ReadBackDoubt::Failed(kind) => failure(kind).trim_end_matches('.').to_owned(),
            };
            format!("Reading back proved nothing: {why}. Plain DFU lets a unit give other bytes than it took.")
        }
        W::DiffersBeforeReset => {
            "What the unit gives differs before a reset. It is reset and read again before it is judged.".to_owned()
        }
        W::NotRead(kind) => format!("{} What it holds was not read.", failure(kind)),
        W::NoResultFile { file } => format!("The unit left no {file} that would say whether it took the file."),
        W::UnclearResult { file, line } => {
            format!("The unit's {file} says neither that it took the file nor that it refused: {line}.")
        }
        W::ShownFileUnreadable { file, error } => {
            format!("{file} could not be read: {error}. What the unit holds is not checked.")
        }
        W::NoApplicationShown { file } => {
            format!("The unit shows no application in {file}. What it holds is not checked.")
        }

        W::UndoNotSeen { action } => format!("Nothing on the bus shows yet that this was done: {action}"),
        W::NotAsked { expected } => format!("Nobody was asked what the unit shows; it should be: {expected}."),
        W::SerialPort(error) => format!("The application's serial port cannot be listened to: {error}."),
        W::OtherVersion(versions) => {
            format!("The unit says that it is version {}; the file's name says {}.", versions.reported, versions.named)
        }

        W::StageNotPlanned { stage } => {
            format!("Stage '{stage}' can be planned in detail once the one before is done.")
        }
    }
}
