//! The dialect language: one vendor bootloader's wire protocol as data.
//!
//! A dialect says how each operation looks on the wire; the loop over addresses is
//! the tool's, so no dialect can write outside a plan. [`Dialect::parse`] reads and
//! checks one; a [`Bindings`] is the state of one session: it makes the frames that
//! are sent and reads those that come. What moves them is not here.
//!
//! The language is specified in `docs/formats/dialect.md`.

mod bindings;
pub mod carrier;
mod check;
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
mod raw;
mod settings;
mod steps;
mod types;
mod value;

pub use bindings::{Bindings, FrameMismatch, ReplyOutcome};
pub use carrier::{Carrier, LineSetting, Report};
pub use display::{Row, Rows};
pub use error::{DialectError, DialectErrors, Files, MOST_BYTES, no_files};
pub use evaluate::EvaluationError;
pub use expression::Expression;
pub use frame::FieldView;
pub use framing::{FrameScan, Framing};
pub use model::{
    BuiltinNames, Checksum, Dialect, Exchange, FrameRoute, Geometry, Helper, Operation, OperationName, Recipient,
    ReportedField, RequestForm, RequestPair, RetryBy,
};
pub use settings::{ChecksumScope, EraseBy, Erases, Order};
pub use steps::{Callee, Step, Target, Time};
pub use value::{Name, Value};
