//! The commands, one file each.

pub mod batch;
pub mod check;
pub mod check_release;
pub mod check_unit;
pub mod compare;
pub mod console;
pub mod convert;
pub mod demo;
pub mod diagnose;
pub mod dialect;
pub mod enter;
pub mod help;
pub mod journal;
pub mod keys;
pub mod pack;
pub mod read;
pub mod release;
pub mod settings;
pub mod setup;
pub mod sheet;
pub mod sheet_show;
pub mod simulate;
pub mod stamp;
pub mod survey;
pub mod update;
pub mod watch;

use std::io::Write;

/// Prints a line of a result. A closed pipe is not an error.
pub fn print_line(text: &str) {
    let mut out = anstream::stdout().lock();
    let _ = writeln!(out, "{text}");
    let _ = out.flush();
}
