//! Errors that end a command outside of the work on a unit.

use std::io;
use std::path::Path;

use vaka_core::event::{ExitCode, FailureText};
use vaka_core::release::ReleaseError;
use vaka_core::sheet::SheetErrors;
use vaka_dialect::DialectErrors;
use vaka_messages::{CommandError, OutputKind};

/// A failure to print.
#[derive(Debug)]
pub struct CliError(pub FailureText);

impl CliError {
    /// The exit status.
    pub fn code(&self) -> ExitCode {
        self.0.code
    }

    /// A fault of the program or of the system under it.
    pub fn internal(message: impl Into<String>) -> Self {
        CommandError::Internal(message.into()).into()
    }

    /// Wrong use of an option.
    pub fn usage(message: impl Into<String>) -> Self {
        CommandError::Usage(message.into()).into()
    }

    /// The error of a file that was not written.
    pub fn unwritten(path: &Path, error: std::io::Error, output: OutputKind) -> Self {
        match error.kind() {
            std::io::ErrorKind::AlreadyExists => CommandError::FileExists { path: path.to_owned(), output }.into(),
            _ => Self::file(path, error),
        }
    }

    /// A file that cannot be read or written.
    pub fn file(path: &Path, error: io::Error) -> Self {
        CommandError::Io { path: path.to_owned(), error }.into()
    }

    /// A file that is not a valid release, or not the one that was opened.
    pub fn release(path: &Path, error: &ReleaseError) -> Self {
        CommandError::Release { path: path.to_owned(), reason: error.to_string() }.into()
    }
}

/// A failure of a command, in sentences.
impl From<CommandError> for CliError {
    fn from(error: CommandError) -> Self {
        Self(error.text())
    }
}

/// A failure of the engines, in sentences.
impl From<vaka_boot::failure::Failure> for CliError {
    fn from(failure: vaka_boot::failure::Failure) -> Self {
        Self(vaka_messages::failure(&failure))
    }
}

impl From<FailureText> for CliError {
    fn from(failure: FailureText) -> Self {
        Self(failure)
    }
}

impl From<DialectErrors> for CliError {
    fn from(errors: DialectErrors) -> Self {
        CommandError::Dialect(errors).into()
    }
}

impl From<SheetErrors> for CliError {
    fn from(error: SheetErrors) -> Self {
        CommandError::Sheet { reason: error.to_string() }.into()
    }
}

/// The result of a command: its exit status, or the error that ended it.
pub type Outcome = Result<vaka_core::event::ExitCode, CliError>;
