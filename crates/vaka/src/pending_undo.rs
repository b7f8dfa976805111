//! Pending undo actions, printed at the end of every command.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};

use vaka_core::event::Event;

/// By unit, in order. Global, because a second Ctrl-C ends the program from its signal handler.
static PENDING: Mutex<BTreeMap<String, Vec<String>>> = Mutex::new(BTreeMap::new());

/// Records the pending undo actions in an event.
pub fn note(event: &Event) {
    if let Event::PendingUndo { unit, steps } = event {
        let mut pending_undo = PENDING.lock().unwrap_or_else(PoisonError::into_inner);
        pending_undo.insert(unit.clone(), steps.clone());
    }
}

/// The pending undo actions as lines; empty if there are none.
pub fn lines() -> Vec<String> {
    let pending_undo = PENDING.lock().unwrap_or_else(PoisonError::into_inner);
    let mut lines = Vec::new();
    for (unit, steps) in pending_undo.iter().filter(|(_, steps)| !steps.is_empty()) {
        lines.push(format!("Pending undo actions on the unit at {unit}, in this order:"));
        lines.extend((1..).zip(steps).map(|(number, step)| format!("  {number}. {step}")));
    }
    lines
}

/// Prints the pending undo steps on standard error.
pub fn print() {
    lines().iter().for_each(|line| crate::render::wrap::err!("{line}"));
}
