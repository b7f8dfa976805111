//! The error of parse functions.

use std::fmt;

/// The error of a parse function: a sentence, without its end, that names the text and the forms
/// that are understood.
///
/// # Examples
/// ```
/// use vaka_base::size;
///
/// let error = size::parse("3 furlongs").unwrap_err();
/// assert!(error.to_string().starts_with("'3 furlongs' is not a size"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ParseError(String);

impl ParseError {
    /// An error with this sentence.
    pub fn new(sentence: impl Into<String>) -> Self {
        Self(sentence.into())
    }
}

impl fmt::Display for ParseError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for ParseError {}

/// The message, for callers whose error type is a sentence.
impl From<ParseError> for String {
    fn from(error: ParseError) -> Self {
        error.0
    }
}
