//! The form of the output.

use std::io::IsTerminal;

use crate::args::{Common, OutputFormat};

/// Output options.
#[derive(Clone, Copy, Debug)]
pub struct OutputOptions {
    pub format: OutputFormat,
    pub quiet: bool,
    /// Whether tables, plans and figures are printed even where one line suffices.
    pub details: bool,
    /// Whether progress may be redrawn in place.
    pub live: bool,
}

impl OutputOptions {
    pub fn new(common: &Common) -> Self {
        let live = std::io::stderr().is_terminal() && std::env::var_os("TERM").is_none_or(|term| term != "dumb");
        Self {
            format: common.format,
            quiet: common.quiet,
            details: common.verbose,
            live: live && common.format == OutputFormat::Text,
        }
    }

    /// These options, with details if `details` is true.
    pub fn detailed_if(self, details: bool) -> Self {
        Self { details: self.details || details, ..self }
    }
}
