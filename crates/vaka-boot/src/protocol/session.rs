//! The one trait between the executor and the protocols.

use thiserror::Error;
use vaka_core::dfu::Status;
use vaka_core::memory::SectorMap;
use vaka_core::plan::Run;
use vaka_dialect::FrameMismatch;
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_usb::{DeviceInfo, TransferError};

use crate::context::Context;
use crate::remedy::Remedy;
use crate::warning::Warning;

/// What a unit in update mode can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// Most bytes in one block; at least 1.
    pub block_size: u32,
    /// Whether its memory can be read.
    pub can_read: bool,
    /// Most bytes in one read; at least 1.
    pub read_size: u32,
    /// Whether one erase takes sectors that lie together.
    pub erases_ranges: bool,
}

impl Capabilities {
    /// A unit that is written and read by blocks of one size, and erased sector by
    /// sector.
    pub fn blocks(block_size: u32, can_read: bool) -> Self {
        Self { block_size, can_read, read_size: block_size, erases_ranges: false }
    }
}

/// Whether a unit lets its memory be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Protection {
    /// It does.
    Unprotected,
    /// It is protected, in these words; mostly it refuses to be written as well.
    Protected(String),
    /// It refuses for another reason: it cannot be read, whatever it promised.
    Unreadable(String),
    /// There is no way to tell.
    Unknown,
}

/// What a unit does once it has all of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FinishOutcome {
    /// It stays in update mode, and answers.
    Responsive,
    /// It leaves, or waits to be made to; it cannot be asked any more.
    Detached,
    /// It left in the middle of that: it may have had all it needs, or not.
    LostDuringFinish,
}

/// What was lost when a unit cannot be reached any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Loss {
    /// The unit left the bus.
    Unit,
    /// Only the link to the unit failed: the unit may still be attached, in the same mode.
    Link,
}

/// A unit in update mode, whatever it speaks.
///
/// After an error the unit's memory is as the calls before left it, except for
/// the sector or block of the call that failed, of which nothing is known.
pub trait Session {
    /// What it can do.
    fn limits(&self) -> Capabilities;

    /// The sectors that it reports, if it does.
    fn sectors(&self) -> Option<&SectorMap> {
        None
    }

    /// Whether the memory at an address can be read. Changes nothing.
    ///
    /// # Errors
    /// The unit could not be asked.
    fn protection(&mut self, at: Address, cx: &mut Context<'_>) -> Result<Protection, SessionError>;

    /// Lifts the read protection. **Erases the whole part.** The unit leaves the
    /// bus and comes back in update mode, some only after a power cycle.
    ///
    /// # Errors
    /// It refused; nothing was changed.
    fn unprotect(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = cx;
        Err(no_word())
    }

    /// Erases everything that the unit's memory has.
    ///
    /// # Errors
    /// Any of it may be erased.
    fn erase_all(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = cx;
        Err(no_word())
    }

    /// The addresses that it can give, where it tells: a unit may show no more
    /// than its application.
    ///
    /// # Errors
    /// It cannot be read.
    fn extent(&mut self, start: Address, cx: &mut Context<'_>) -> Result<Option<Vec<Span>>, SessionError> {
        let _ = (start, cx);
        Ok(None)
    }

    /// Whether [`begin`](Self::begin) makes the unit erase what is written then.
    fn begin_erases(&self) -> bool {
        false
    }

    /// What will be written next, all of it, before the first block: some units
    /// want to know how much comes.
    ///
    /// # Errors
    /// There is no room for it.
    fn begin(&mut self, image: &Image, runs: &[Run], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = (image, runs, cx);
        Ok(())
    }

    /// Erases one sector.
    ///
    /// # Errors
    /// The sector may be half erased.
    fn erase(&mut self, sector: Span, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = (sector, cx);
        Err(no_word())
    }

    /// Writes one block into erased memory; at most `block_size` bytes.
    ///
    /// # Errors
    /// The block may be half written.
    fn write(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Reads exactly `len` bytes, at most `read_size`.
    ///
    /// # Errors
    /// Nothing was changed.
    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError>;

    /// Whether the unit's own checksum of what it holds there is the one of `data`.
    ///
    /// # Errors
    /// It cannot be asked. Nothing was changed.
    fn agrees(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<bool, SessionError> {
        let _ = (at, data, cx);
        Err(no_word())
    }

    /// The device as it is enumerated now, if it left and came back on the way.
    fn device(&self) -> Option<&DeviceInfo> {
        None
    }

    /// Makes a unit take data again whose disk was ejected in vain. Does what it can; the next
    /// request shows whether that helped.
    fn reload(&mut self) {}

    /// Before [`finish`](Self::finish) where nothing had to be written: what the unit holds.
    fn prepare_end(&mut self, image: &Image) {
        let _ = image;
    }

    /// Tells the unit that it has all of the image.
    ///
    /// # Errors
    /// It does not accept the image; its application may not run.
    fn finish(&mut self, cx: &mut Context<'_>) -> Result<FinishOutcome, SessionError>;

    /// Leaves update mode, to start at an address where the protocol can say
    /// so. A unit that vanishes while it is told to is not an error: that is
    /// what it was told.
    ///
    /// # Errors
    /// It refused, and is still in update mode.
    fn restart(&mut self, at: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Leaves the unit ready for another program, still in update mode. Does
    /// what it can; a unit that is gone needs nothing.
    fn rest(&mut self, cx: &mut Context<'_>);

    /// USB transfers so far.
    fn transfers(&self) -> u64;
}

/// A plan has no such step on the route.
fn no_word() -> SessionError {
    SessionError::ProtocolViolation("its way of updating has no word for that: the unit decides it".into())
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
    /// A failure after other attempts. The first one is most often the cause, so it is told too;
    /// the kind is that of the last one, which tells the state of the unit.
    #[must_use]
    pub fn after(mut self, first: Option<Self>, cx: &mut Context<'_>) -> Self {
        let Some(first) = first.map(|first| first.to_string()).filter(|first| *first != self.to_string()) else {
            return self;
        };
        let words = match &mut self {
            Self::DfuStatus { reason, .. } | Self::NeedsAction { reason, .. } => reason,
            Self::RejectedByDialect { words, .. } | Self::Dialect { words, .. } => words,
            Self::Frame(trouble) => &mut trouble.words,
            Self::Timeout(words) | Self::ProtocolViolation(words) | Self::Transport(words) => words,
            Self::WaitsForReset | Self::Busy(_) | Self::Disconnected => {
                cx.warn(Warning::EarlierFailure(first));
                return self;
            }
        };
        *words = format!("{words}; the first attempt failed with: {first}");
        self
    }

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
            Self::Transport(_) => Some(Loss::Link),
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
