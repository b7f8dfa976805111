//! Ctrl-C: the first asks the work to end at its next safe point, the second
//! ends the program at once.

use std::sync::atomic::{AtomicBool, Ordering};

use vaka_core::event::ExitCode;

use crate::cli_error::CliError;

static WANTED: AtomicBool = AtomicBool::new(false);
static AT_ONCE: AtomicBool = AtomicBool::new(false);
static QUIETLY: AtomicBool = AtomicBool::new(false);

/// Set once the user has pressed Ctrl-C.
pub fn flag() -> &'static AtomicBool {
    &WANTED
}

/// From now on the first Ctrl-C ends the program at once, because no work is in progress, such as
/// during a prompt.
pub fn end_at_once(at_once: bool) {
    AT_ONCE.store(at_once, Ordering::SeqCst);
}

/// From now on Ctrl-C is the normal end of the command, without a message.
pub fn end_quietly() {
    QUIETLY.store(true, Ordering::SeqCst);
}

/// Catches Ctrl-C, TERM and HUP.
pub fn install() -> Result<(), CliError> {
    ctrlc::set_handler(|| {
        let second = WANTED.swap(true, Ordering::SeqCst);
        if AT_ONCE.load(Ordering::SeqCst) {
            anstream::eprintln!("\nStopped. Nothing was changed in any unit.");
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
    })
    .map_err(|error| CliError::internal(format!("Ctrl-C cannot be caught: {error}")))
}
