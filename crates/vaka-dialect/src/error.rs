//! What is wrong with a dialect; and how the files that it names are read.

use thiserror::Error;

/// What is wrong with a dialect, and where.
#[derive(Clone, Debug, Error, PartialEq, Eq, PartialOrd, Ord)]
#[error("{file}, line {line}, column {column}: {message}")]
pub struct DialectError {
    /// The dialect's file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The column, counted from 1 in characters.
    pub column: usize,
    /// What is wrong, and what was expected.
    pub message: String,
}

/// Everything that is wrong with a dialect.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
pub struct DialectErrors(pub Vec<DialectError>);

/// Files that a dialect names: the bytes of one, or why it cannot be had.
pub type Files<'a> = &'a dyn Fn(&str) -> Result<Vec<u8>, String>;

/// A dialect may not be longer. Chosen by us.
pub const MOST_BYTES: usize = 1 << 20;
