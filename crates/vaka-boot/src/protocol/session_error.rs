//! Why a unit in update mode did not execute a request.

use super::sense::Sense;
use crate::remedy::Remedy;
use thiserror::Error;
use vaka_can::CanError;
use vaka_core::dfu::Status;
use vaka_dialect::FrameMismatch;
use vaka_usb::TransferError;

/// The kind of connection loss.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loss {
    /// The unit left the bus.
    Unit,
    /// Only the connection failed: the unit may still be attached, in the same mode.
    Connection,
}

/// Why a unit did not execute a request.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum SessionError {
    /// The unit rejected the request with a DFU status.
    #[error("the unit rejected the request: {reason}")]
    DfuStatus {
        /// The reason, in the protocol's words and the unit's own.
        reason: String,
        /// The DFU status.
        status: Status,
    },
    /// The unit or the operating system refused, and this helps.
    #[error("{reason}")]
    NeedsAction {
        /// The reason, as the unit or the operating system reports it.
        reason: String,
        /// The remedy.
        remedy: Box<Remedy>,
    },
    /// The unit rejected the request in its dialect.
    #[error("the unit rejected '{exchange}': {words}")]
    RejectedByDialect {
        /// The exchange.
        exchange: String,
        /// The meaning of its reply.
        words: String,
        /// Whether it only stalled a transfer without a reason: the request may have been
        /// executed.
        has_no_reason: bool,
    },
    /// The unit ended a SCSI command with sense data.
    #[error("{0}")]
    CommandFailed(Sense),
    /// The unit sent a reply that its dialect does not allow.
    #[error("in '{}' {}", .0.exchange, .0.words)]
    Frame(Box<FrameMismatch>),
    /// The dialect cannot be executed with the current values.
    #[error("the dialect's '{exchange}' cannot be executed: {words}")]
    Dialect {
        /// The exchange in the dialect.
        exchange: String,
        /// The error.
        words: String,
    },
    /// The dialect asks for a value that the user did not supply. Nothing was sent to the unit.
    #[error("the dialect asks for the {question}: {reason}")]
    SecretMissing {
        /// Its description for the user.
        question: String,
        /// Its name in the dialect.
        name: String,
        /// A sentence without the value.
        reason: String,
    },
    /// The unit waits for a bus reset and does nothing else.
    #[error("the unit waits for a bus reset")]
    WaitsForReset,
    /// Another program or driver uses the unit.
    #[error("another program uses it{0}")]
    Busy(String),
    /// The unit left the bus.
    #[error("the unit disconnected")]
    Disconnected,
    /// The unit does not answer, or stays busy.
    #[error("{0}")]
    Timeout(String),
    /// The unit violates the protocol.
    #[error("the unit violates the protocol: {0}")]
    ProtocolViolation(String),
    /// The way to the unit failed.
    #[error("{0}")]
    Transport(String),
    /// Several nodes of a CAN bus answer with one unique id.
    #[error("{count} nodes answer with the unique id {id}")]
    SharedNodeId {
        /// The unique id.
        id: String,
        /// The number of nodes.
        count: usize,
    },
    /// The CAN bus failed.
    #[error(transparent)]
    Can(CanError),
    /// The user stopped the run during a long operation that changes nothing.
    #[error("the user stopped the run")]
    Stopped,
}

impl SessionError {
    /// An error in the dialect with the current values.
    pub(crate) fn dialect(exchange: &str, reason: impl std::fmt::Display) -> Self {
        Self::Dialect { exchange: exchange.to_owned(), words: reason.to_string() }
    }

    /// The remedy, if the error itself determines it.
    pub fn own_remedy(&self) -> Option<Remedy> {
        match self {
            Self::NeedsAction { remedy, .. } => Some((**remedy).clone()),
            Self::SecretMissing { name, .. } => Some(Remedy::SupplySecret(name.clone())),
            Self::Can(error) => Some(Remedy::CanBus(error.clone())),
            Self::SharedNodeId { .. } => Some(Remedy::SeparateNodes),
            _ => None,
        }
    }

    /// The lost part, if a loss is the cause.
    pub fn loss(&self) -> Option<Loss> {
        match self {
            Self::Disconnected => Some(Loss::Unit),
            Self::Transport(_) | Self::Can(CanError::BusOff) => Some(Loss::Connection),
            _ => None,
        }
    }

    /// Whether the unit itself replied that it rejects the request. A missing reply, a detached
    /// unit and a lost connection are not rejections.
    pub fn is_refusal(&self) -> bool {
        matches!(self, Self::DfuStatus { .. } | Self::NeedsAction { .. } | Self::RejectedByDialect { .. })
    }

    /// Whether the unit rejected the request with a reason, so that it did not execute it. A
    /// stall alone leaves that open.
    pub fn is_reasoned_refusal(&self) -> bool {
        match self {
            Self::DfuStatus { status, .. } => !matches!(status, Status::Ok | Status::UnknownError),
            Self::RejectedByDialect { has_no_reason, .. } => !has_no_reason,
            _ => false,
        }
    }
}

impl From<CanError> for SessionError {
    fn from(error: CanError) -> Self {
        match error {
            CanError::Adapter(error) => error.into(),
            CanError::Timeout => Self::Timeout("no reply on the CAN bus within the time limit".into()),
            error => Self::Can(error),
        }
    }
}

impl From<TransferError> for SessionError {
    /// A stall gives no reason; query the unit first if the protocol has a way.
    fn from(error: TransferError) -> Self {
        match error {
            TransferError::Stall => {
                Self::DfuStatus { reason: "no reason given (stall)".into(), status: Status::UnknownError }
            }
            TransferError::Busy(by) => Self::Busy(by),
            TransferError::Disconnected => Self::Disconnected,
            TransferError::Timeout => Self::Timeout("the unit did not reply within the time limit".into()),
            TransferError::Overflow => Self::ProtocolViolation("it sent more data than requested".into()),
            other => Self::Transport(other.to_string()),
        }
    }
}
