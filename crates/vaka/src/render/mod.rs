//! Events as text or as JSON Lines.

pub mod batch;
pub mod frames;
pub mod json;
mod large;
pub mod map;
pub mod progress;
pub mod result;
pub mod style;
pub mod table;
pub mod text;
pub mod verdict;
pub mod wrap;

use vaka_core::event::{Event, FailureText};

use crate::args::OutputFormat;
use crate::cli_error::CliError;
use crate::output_options::OutputOptions;
use crate::{pending_undo, signals};

/// Prints events as they are emitted.
pub trait Renderer {
    fn event(&mut self, event: Event);
}

/// The renderer that was asked for.
pub fn renderer(setting: &OutputOptions) -> Box<dyn Renderer> {
    let inner: Box<dyn Renderer> = match setting.format {
        OutputFormat::Json => Box::new(json::Json),
        OutputFormat::Text => Box::new(text::Text::new(*setting)),
    };
    Box::new(UndoRecorder(inner))
}

/// Records pending undo steps, so that the end of the program can print them.
struct UndoRecorder(Box<dyn Renderer>);

impl Renderer for UndoRecorder {
    fn event(&mut self, event: Event) {
        pending_undo::note(&event);
        signals::note(&event);
        self.0.event(event);
    }
}

/// Prints the error that ended a command.
pub fn problem(problem: &CliError, setting: &OutputOptions) {
    let CliError(failure) = problem;
    match setting.format {
        OutputFormat::Json => json::Json.event(Event::Error(failure.clone())),
        OutputFormat::Text => self::text::failure(failure),
    }
}

/// Cause, state and remedy in at most four lines.
fn lines(failure: &FailureText) -> Vec<String> {
    let mut lines = vec![failure.message.clone()];
    lines.extend(failure.state.clone());
    lines.extend(failure.remedy.clone());
    lines
}
