//! Why a unit in update mode did not do what it was asked for.

use crate::remedy::Remedy;
use thiserror::Error;
use vaka_core::dfu::Status;
use vaka_dialect::FrameMismatch;
use vaka_usb::TransferError;

/// What was lost when a unit cannot be reached any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loss {
    /// The unit left the bus.
    Unit,
    /// Only the link to the unit failed: the unit may still be attached, in the same mode.
    OpenTransport,
}

/// Why a unit did not do what it was asked for.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum SessionError {
    /// The unit said no, and why.
    #[error("the unit refused: {reason}")]
    DfuStatus {
        /// In the protocol's words, and the unit's own.
        reason: String,
        /// The status behind it.
        status: Status,
    },
    /// The unit or the operating system refused, and this helps.
    #[error("{reason}")]
    NeedsAction {
        /// Why, as the unit or the operating system reports it.
        reason: String,
        /// What to do.
        remedy: Box<Remedy>,
    },
    /// The unit answered that it will not, in its dialect.
    #[error("the unit refused '{exchange}': {words}")]
    RejectedByDialect {
        /// What it was asked.
        exchange: String,
        /// What its answer means.
        words: String,
        /// Whether it only stalled a transfer and gave no reason: it may have done the work.
        has_no_reason: bool,
    },
    /// The unit answered something that its dialect does not expect.
    #[error("in '{}' {}", .0.exchange, .0.words)]
    Frame(Box<FrameMismatch>),
    /// The dialect cannot be carried out with the values that there are.
    #[error("the dialect's '{exchange}' cannot be made: {words}")]
    Dialect {
        /// Where in the dialect.
        exchange: String,
        /// Why.
        words: String,
    },
    /// The unit waits for a reset of the bus and does nothing else.
    #[error("the unit waits for a reset of the bus")]
    WaitsForReset,
    /// Another program or driver holds it.
    #[error("another program holds it{0}")]
    Busy(String),
    /// The unit left the bus.
    #[error("the unit left the bus")]
    Disconnected,
    /// The unit does not answer, or stays busy.
    #[error("{0}")]
    Timeout(String),
    /// The unit does not keep to the protocol.
    #[error("the unit does not keep to the protocol: {0}")]
    ProtocolViolation(String),
    /// The way to the unit failed.
    #[error("{0}")]
    Transport(String),
}

impl SessionError {
    /// A part of a dialect that cannot be carried out with the values that there are.
    pub(crate) fn dialect(exchange: &str, reason: impl std::fmt::Display) -> Self {
        Self::Dialect { exchange: exchange.to_owned(), words: reason.to_string() }
    }

    /// What helps, if the error itself knows.
    pub fn own_remedy(&self) -> Option<Remedy> {
        match self {
            Self::NeedsAction { remedy, .. } => Some((**remedy).clone()),
            _ => None,
        }
    }

    /// What was lost, if that is the cause.
    pub fn loss(&self) -> Option<Loss> {
        match self {
            Self::Disconnected => Some(Loss::Unit),
            Self::Transport(_) => Some(Loss::OpenTransport),
            _ => None,
        }
    }

    /// Whether the unit itself answered that it will not do what it was asked for. A missing
    /// answer, a lost unit and a failed link are not refusals.
    pub fn is_refusal(&self) -> bool {
        matches!(self, Self::DfuStatus { .. } | Self::NeedsAction { .. } | Self::RejectedByDialect { .. })
    }

    /// Whether the unit refused with a reason, so that it did not do what it was asked for. A
    /// stall alone leaves that open.
    pub fn is_reasoned_refusal(&self) -> bool {
        match self {
            Self::DfuStatus { status, .. } => !matches!(status, Status::Ok | Status::UnknownError),
            Self::RejectedByDialect { has_no_reason, .. } => !has_no_reason,
            _ => false,
        }
    }
}

impl From<TransferError> for SessionError {
    /// Of a stall only this much is known; ask the unit for the reason first
    /// where the protocol has a way to.
    fn from(error: TransferError) -> Self {
        match error {
            TransferError::Stall => Self::DfuStatus {
                reason: "it stalled the request and gave no reason".into(),
                status: Status::UnknownError,
            },
            TransferError::Busy(by) => Self::Busy(by),
            TransferError::Disconnected => Self::Disconnected,
            TransferError::Timeout => Self::Timeout("the unit did not answer within the time limit".into()),
            TransferError::Overflow => Self::ProtocolViolation("it sent more than was asked for".into()),
            other => Self::Transport(other.to_string()),
        }
    }
}
