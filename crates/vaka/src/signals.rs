//! Ctrl-C: the first asks the work to end at its next safe point, the second
//! ends the program at once.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use vaka_core::event::{Event, ExitCode, StepState};

use crate::cli_error::CliError;
use crate::echo;
use crate::render::wrap::err;

static WANTED: AtomicBool = AtomicBool::new(false);
static AT_ONCE: AtomicBool = AtomicBool::new(true);
static QUIETLY: AtomicBool = AtomicBool::new(false);
/// Set once units may be open.
static IN_USE: AtomicBool = AtomicBool::new(false);

/// Set once the user has pressed Ctrl-C.
pub fn flag() -> &'static AtomicBool {
    &WANTED
}

/// The operation that the user waits for.
static DOING: Mutex<String> = Mutex::new(String::new());

/// Time to stop before the reason of the delay is said.
const PROMPT_STOP: Duration = Duration::from_millis(1500);

/// From now on the first Ctrl-C ends the work on units at its next safe point. Before that, no unit
/// is open, and the program ends at once.
pub fn units_in_use() {
    IN_USE.store(true, Ordering::SeqCst);
    AT_ONCE.store(false, Ordering::SeqCst);
}

/// Records the operation that follows from an event, so that a delayed stop can be explained.
pub fn note(event: &Event) {
    let doing = match event {
        Event::Step { state: StepState::Started, text, .. } => text.clone(),
        Event::Waiting { waiting_for, .. } => format!("waiting for {waiting_for}"),
        _ => return,
    };
    *DOING.lock().unwrap_or_else(PoisonError::into_inner) = doing;
}

/// Says once what a stop waits for, if it takes long.
fn explain_later() {
    std::thread::spawn(|| {
        std::thread::sleep(PROMPT_STOP);
        let doing = DOING.lock().unwrap_or_else(PoisonError::into_inner);
        let last = if doing.is_empty() { String::new() } else { format!(" The last step that began: {doing}.") };
        err!("Not stopped yet: the operation in progress has not ended.{last}");
    });
}

/// From now on the first Ctrl-C ends the program at once, because no work is in progress, such as
/// during a prompt.
pub fn end_at_once(at_once: bool) {
    AT_ONCE.store(at_once, Ordering::SeqCst);
}

/// From now on Ctrl-C is the normal end of the command, without a message.
pub fn end_quietly() {
    AT_ONCE.store(false, Ordering::SeqCst);
    QUIETLY.store(true, Ordering::SeqCst);
}

/// From now on Ctrl-C interrupts work again, which is said.
pub fn end_with_message() {
    QUIETLY.store(false, Ordering::SeqCst);
}

/// Catches Ctrl-C, TERM and HUP.
pub fn install() -> Result<(), CliError> {
    ctrlc::set_handler(|| {
        let second = WANTED.swap(true, Ordering::SeqCst);
        if AT_ONCE.load(Ordering::SeqCst) {
            echo::show();
            // A question may come after a change.
            if IN_USE.load(Ordering::SeqCst) {
                anstream::eprintln!("\nStopped at the question. No operation on a unit was in progress.");
                crate::pending_undo::print();
            } else {
                anstream::eprintln!("\nStopped. Nothing was changed in any unit.");
            }
            std::process::exit(i32::from(u8::from(ExitCode::Stopped)));
        }
        if QUIETLY.load(Ordering::SeqCst) {
            return;
        }
        if second {
            anstream::eprintln!(
                "\nStopped at once. The operation on the unit is incomplete; it is in update mode unless it was restarting."
            );
            crate::pending_undo::print();
            std::process::exit(i32::from(u8::from(ExitCode::Stopped)));
        }
        anstream::eprintln!("\nStopping at the next safe point. Press Ctrl-C again to stop at once.");
        explain_later();
    })
    .map_err(|error| CliError::internal(format!("Ctrl-C cannot be caught: {error}")))
}
