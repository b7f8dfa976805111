//! The dialect language: one vendor bootloader's wire protocol as data.
//!
//! A dialect describes how each operation looks on the wire; the loop over addresses belongs to
//! the tool, so a dialect cannot write outside a plan. [`Dialect::parse`] reads and checks a
//! dialect; [`Bindings`] is the state of one session, which builds the frames to send and parses
//! the replies. Transport is not part of this crate.
//!
//! The language is specified in `docs/formats/dialect.md`.

mod bindings;
pub mod carrier;
mod check;
mod cipher;
mod compression;
mod display;
mod error;
mod evaluate;
mod expression;
mod field;
mod flow;
mod frame;
mod framing;
mod lexer;
mod model;
pub mod protocols;
mod raw;
mod script;
mod secret;
mod settings;
mod steps;
mod taint;
mod types;
pub mod unit_side;
mod value;

pub use bindings::{Bindings, FrameMismatch, ReplyOutcome};
pub use carrier::{Carrier, LineSetting, Report};
pub use display::{Row, Rows};
pub use error::{DialectError, DialectErrors, Files, no_files};
pub use evaluate::EvaluationError;
pub use expression::Expression;
pub use frame::FieldView;
pub use framing::{FrameScan, Framing};
pub use model::{
    BuiltinNames, Checksum, Collection, Dialect, Exchange, FrameIds, FrameRoute, Geometry, Helper, Operation,
    OperationName, Recipient, ReportedField, RequestForm, RequestPair, RetryBy, Simulation,
};
pub use script::Script;
pub use secret::{Secret, SecretForm};
pub use settings::{ChecksumScope, EraseBy, Erases, Order};
pub use steps::{Callee, MOST_RANDOM, Step, Target, Time};
pub use value::{Name, Value};
