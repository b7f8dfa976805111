//! The sentences of the program: failures with their remedies and the state of the unit, and
//! warnings.
//!
//! The engines emit values; [`event`] replaces them with sentences. Sentences are changed here
//! and nowhere else: `tests/messages.txt`, `tests/mistakes.txt` and `tests/matrix.txt` show those
//! of whole runs.

mod command_error;
mod conditions;
mod failures;
mod phrases;
mod remedies;
mod warnings;

use vaka_boot::event::Event;
use vaka_boot::failure::Failure;
use vaka_core::event::FailureText;

use self::failures::failure as kind;
use self::remedies::remedies;

pub use self::command_error::{CommandError, OutputKind, SignedFile};
pub use self::warnings::{journal_unwritable, not_recorded, reset_on_close, sheet_skipped, warning};

/// An event of the engines with its sentences.
pub fn event(event: Event) -> vaka_core::event::Event {
    event.with_words(|value| failure(&value), |value| warning(&value))
}

/// A failure in sentences: cause and location, state of the unit, next action.
pub fn failure(failure: &Failure) -> FailureText {
    if let vaka_boot::failure::FailureKind::Program(text) = &*failure.kind {
        let state = failure.unit.as_ref().map(conditions::condition).or_else(|| text.state.clone());
        return FailureText { code: failure.code, state, unit_state: failure.unit_state(), ..text.clone() };
    }
    let remedy = remedies(&failure.remedies);
    FailureText {
        code: failure.code,
        message: kind(&failure.kind),
        state: conditions::state(failure),
        unit_state: failure.unit_state(),
        remedy: Some(remedy).filter(|remedy| !remedy.is_empty()),
    }
}
