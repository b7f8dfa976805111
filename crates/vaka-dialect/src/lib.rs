//! The dialect language: one vendor bootloader's wire protocol as data.
//!
//! A dialect says how each operation looks on the wire; the loop over addresses is
//! the tool's, so no dialect can write outside a plan. [`Dialect::parse`] reads and
//! checks one; a [`Memory`] is the state of one session: it makes the frames that
//! are sent and reads those that come. What moves them is not here.
//!
//! The language is specified in `docs/formats/dialect.md`.

mod bindings;
mod check;
mod display;
mod evaluate;
mod expression;
mod field;
mod flow;
mod frame;
mod framing;
mod lexer;
mod model;
mod raw;
mod steps;
mod types;
mod value;

use serde::Deserialize;
use thiserror::Error;

pub use bindings::{Answer, Memory, Trouble};
pub use display::{Row, Rows};
pub use expression::Expression;
pub use frame::FieldView;
pub use framing::{Cut, Framing};
pub use model::{
    Ask, Callee, Carrier, Checksum, Dialect, Exchange, Geometry, Given, Helper, Operation, OperationName, Recipient,
    Report, RequestForm, Requester, Tell, Via,
};
pub use steps::{LineSetting, Step, Target, Time};
pub use value::{Name, Value};

/// What an erase takes at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EraseBy {
    /// One sector.
    Page,
    /// Sectors that lie together.
    Range,
    /// All that the route writes.
    All,
}

/// What a unit erases by itself when it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Erases {
    /// The sectors that the image covers.
    Covered,
    /// All that the route writes.
    Everything,
}

/// In which order chunks are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// From the lowest address on.
    #[default]
    Ascending,
    /// From the highest address down.
    Descending,
    /// As ascending, but the lowest chunk last: an update that breaks off leaves no
    /// application that would start.
    FirstLast,
}

/// Of what the unit computes a checksum.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Over {
    /// Of each stretch that was written.
    #[default]
    Written,
    /// Of each chunk.
    Chunk,
    /// Of all of the region that the image is for; what the image does not fill is
    /// erased.
    Region,
}

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
