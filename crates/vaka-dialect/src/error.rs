//! Errors in a dialect, and the reader for the files that it refers to.

use std::io;

use thiserror::Error;

/// An error in a dialect, with its position.
#[derive(Clone, Debug, Error, PartialEq, Eq, PartialOrd, Ord)]
#[error("{file}, line {line}, column {column}: {message}")]
pub struct DialectError {
    /// The dialect's file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The column, counted from 1 in characters.
    pub column: usize,
    /// The error and the expected form.
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
/// Always: no file of this name exists.
pub fn no_files(name: &str) -> io::Result<Vec<u8>> {
    Err(io::Error::new(io::ErrorKind::NotFound, format!("there is no file {name}")))
}
