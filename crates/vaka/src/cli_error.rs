//! What stops a command before, or beside, the work on a unit.

use std::path::Path;

use vaka_core::event::{ExitCode, FailureText};
use vaka_core::sheet::SheetError;
use vaka_dialect::DialectErrors;

/// A failure, on its way to the person.
#[derive(Debug)]
pub struct Problem(pub FailureText);

impl Problem {
    /// The exit status.
    pub fn code(&self) -> ExitCode {
        self.0.code
    }

    /// A fault of the program or of the system under it.
    pub fn internal(message: impl Into<String>) -> Self {
        Self(FailureText::new(ExitCode::Internal, message))
    }

    /// Wrong use of an option.
    pub fn usage(message: impl Into<String>) -> Self {
        Self(FailureText::new(ExitCode::Usage, message).cure("'vaka help' lists the options."))
    }

    /// A file that cannot be read or written.
    pub fn file(path: &Path, error: &std::io::Error) -> Self {
        let failure = FailureText::new(ExitCode::File, format!("{}: {error}.", path.display()));
        Self(failure.cure("Is that the right path, and may you read and write there?"))
    }
}

/// A failure of the engines, in sentences.
impl From<vaka_boot::failure::Failure> for Problem {
    fn from(failure: vaka_boot::failure::Failure) -> Self {
        Self(vaka_messages::failure(&failure))
    }
}

impl From<FailureText> for Problem {
    fn from(failure: FailureText) -> Self {
        Self(failure)
    }
}

impl From<DialectErrors> for Problem {
    fn from(errors: DialectErrors) -> Self {
        Self(
            FailureText::new(ExitCode::File, format!("{errors}."))
                .cure("docs/formats/dialect.md describes the language."),
        )
    }
}

impl From<SheetError> for Problem {
    fn from(error: SheetError) -> Self {
        Self(
            FailureText::new(ExitCode::File, format!("{error}."))
                .cure("docs/formats/product-sheet.md describes every key."),
        )
    }
}

/// A command ends with an exit status, or with what stopped it before it
/// could tell so itself.
pub type Outcome = Result<vaka_core::event::ExitCode, Problem>;
