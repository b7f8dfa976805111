//! What is wrong with a dialect; and how the files that it names are read.

use std::io;

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

/// Reads a file that a dialect names, such as its helper.
pub type Files<'a> = &'a dyn Fn(&str) -> io::Result<Vec<u8>>;

/// The files of a dialect that names none.
///
/// # Errors
/// Always: there is no file of this name.
pub fn no_files(name: &str) -> io::Result<Vec<u8>> {
    Err(io::Error::new(io::ErrorKind::NotFound, format!("there is no file {name}")))
}

/// A dialect may not be longer. Chosen by us.
pub const MOST_BYTES: usize = 1 << 20;
