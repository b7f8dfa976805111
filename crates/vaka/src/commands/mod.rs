//! The commands, one file each.

pub mod again;
pub mod batch;
pub mod catalogue;
pub mod check;
pub mod check_release;
pub mod check_unit;
pub mod compare;
pub mod console;
pub mod convert;
pub mod demo;
pub mod diagnose;
pub mod dialect;
mod dialect_try;
pub mod enter;
pub mod guide;
pub mod help;
pub mod journal;
pub mod keys;
mod line_labels;
mod line_watch;
pub mod pack;
pub mod read;
pub mod rehearse;
pub mod release;
pub mod releases;
pub mod settings;
pub mod setup;
pub mod sheet;
pub mod sheet_show;
pub mod simulate;
pub mod stamp;
pub mod survey;
pub mod update;
pub mod watch;

use serde::Serialize;

use crate::args::OutputFormat;
use crate::render::{json, wrap};

/// Prints a result as a JSON line with its time, or as text.
pub fn print_result(format: OutputFormat, event: &impl Serialize, text: impl FnOnce()) {
    match format {
        OutputFormat::Json => json::line(event),
        OutputFormat::Text => text(),
    }
}

/// Prints a line of a result, wrapped.
pub fn print_line(text: &str) {
    crate::render::wrap::out!("{text}");
}

/// Prints a document as it is, such as a file that another program reads.
pub fn print_raw(text: &str) {
    wrap::write_raw(&format!("{}\n", text.trim_end()));
}
