//! The one trait between the executor and the protocols.

use vaka_core::memory::SectorMap;
use vaka_core::plan::Run;
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_usb::DeviceInfo;

use super::session_error::SessionError;
use crate::context::Context;
use crate::warning::Warning;

/// The capabilities of a unit in update mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capabilities {
    /// Maximum size of a block in bytes; at least 1.
    pub block_size: u32,
    /// Whether its memory can be read.
    pub can_read: bool,
    /// Maximum size of a read in bytes; at least 1.
    pub read_size: u32,
    /// Whether one erase may cover contiguous sectors.
    pub erases_ranges: bool,
}

impl Capabilities {
    /// A unit that is written and read by blocks of one size, and erased sector by
    /// sector.
    pub fn blocks(block_size: u32, can_read: bool) -> Self {
        Self { block_size, can_read, read_size: block_size, erases_ranges: false }
    }
}

/// The read protection of a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Protection {
    /// Memory can be read.
    Unprotected,
    /// Memory is protected, with the unit's message; usually it rejects writing as well.
    Protected(String),
    /// Reading is rejected for another reason, despite the advertised capability.
    Unreadable(String),
    /// The protocol cannot tell.
    Unknown,
}

/// The behaviour of a unit at the end of a download.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FinishOutcome {
    /// It stays in update mode and replies.
    Responsive,
    /// It disconnects or waits for a reset; it no longer replies.
    Detached,
    /// It disconnected during the end: the download may be complete or not.
    LostDuringFinish,
}

/// A session with a unit in update mode, independent of the protocol.
///
/// After an error the unit's memory is as the previous calls left it, except for the sector or
/// block of the failed call, whose content is unknown.
pub trait Session {
    /// The capabilities.
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

    /// Lifts the read protection. **Erases the whole part.** The unit disconnects and returns in
    /// update mode, some units only after a power cycle.
    ///
    /// # Errors
    /// The unit rejected it; nothing was changed.
    fn unprotect(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = cx;
        Err(unsupported())
    }

    /// Erases everything that the unit's memory has.
    ///
    /// # Errors
    /// Any part of memory may be erased.
    fn erase_all(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = cx;
        Err(unsupported())
    }

    /// The readable addresses, if known: a unit may expose only its application.
    ///
    /// # Errors
    /// The unit cannot be read.
    fn readable_ranges(&mut self, start: Address, cx: &mut Context<'_>) -> Result<Option<Vec<Span>>, SessionError> {
        let _ = (start, cx);
        Ok(None)
    }

    /// Whether the unit erases all sectors of a plan when it is written for the first time.
    fn erases_at_once(&self) -> bool {
        false
    }

    /// The image of the update, right after the session was opened.
    fn expects(&mut self, image: &Image) {
        let _ = image;
    }

    /// Makes everything that will be sent, before the first erase: what cannot be made fails then. Sends
    /// nothing.
    ///
    /// # Errors
    /// A frame cannot be made, or the user stopped the run. Nothing was changed.
    fn rehearse(
        &mut self,
        image: &Image,
        sectors: &[Span],
        runs: &[Run],
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let _ = (image, sectors, runs, cx);
        Ok(())
    }

    /// Announces everything that will be written, before the first block: some units need the
    /// total size.
    ///
    /// # Errors
    /// The unit has not enough space.
    fn begin(&mut self, image: &Image, runs: &[Run], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = (image, runs, cx);
        Ok(())
    }

    /// Erases one sector.
    ///
    /// # Errors
    /// The sector may be partly erased.
    fn erase(&mut self, sector: Span, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = (sector, cx);
        Err(unsupported())
    }

    /// Writes one block into erased memory; at most `block_size` bytes.
    ///
    /// # Errors
    /// The block may be partly written.
    fn write(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Reads exactly `len` bytes, at most `read_size`.
    ///
    /// # Errors
    /// The read failed; nothing was changed.
    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError>;

    /// Whether the unit's own checksum of its content there equals that of `data`.
    ///
    /// # Errors
    /// The checksum cannot be requested. Nothing was changed.
    fn agrees(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<bool, SessionError> {
        let _ = (at, data, cx);
        Err(unsupported())
    }

    /// The device as currently enumerated, if it disconnected and returned meanwhile.
    fn device(&self) -> Option<&DeviceInfo> {
        None
    }

    /// Lets a unit whose disk was ejected without effect accept data again. Best effort; the next
    /// request shows the result.
    fn reload(&mut self) {}

    /// Called before [`finish`](Self::finish) if nothing had to be written, with the content of
    /// the unit.
    fn prepare_end(&mut self, image: &Image) {
        let _ = image;
    }

    /// Ends the download: the unit has received the whole image.
    ///
    /// # Errors
    /// The unit rejects the image; its application may not run.
    fn finish(&mut self, cx: &mut Context<'_>) -> Result<FinishOutcome, SessionError>;

    /// Leaves update mode, with a start address if the protocol supports one. Disconnecting
    /// during this call is expected and not an error.
    ///
    /// # Errors
    /// The unit rejected it, and is still in update mode.
    fn restart(&mut self, at: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Leaves the unit in update mode, ready for another program. Best effort.
    fn rest(&mut self, cx: &mut Context<'_>);

    /// USB transfers so far.
    fn transfers(&self) -> u64;
}

/// A plan has no such step on the route.
fn unsupported() -> SessionError {
    SessionError::ProtocolViolation("this update protocol does not support that operation".into())
}

impl SessionError {
    /// Merges a failure with that of an earlier attempt. The first failure is usually the cause,
    /// so it is reported too; the kind is that of the last one, which determines the state of the
    /// unit.
    #[must_use]
    pub fn after(mut self, first: Option<Self>, cx: &mut Context<'_>) -> Self {
        let Some(first) = first.map(|first| first.to_string()).filter(|first| *first != self.to_string()) else {
            return self;
        };
        let words = match &mut self {
            SessionError::Stopped => return self,
            Self::DfuStatus { reason, .. } | Self::NeedsAction { reason, .. } | Self::SecretMissing { reason, .. } => {
                reason
            }
            Self::RejectedByDialect { words, .. } | Self::Dialect { words, .. } => words,
            Self::Frame(trouble) => &mut trouble.words,
            Self::Timeout(words) | Self::ProtocolViolation(words) | Self::Transport(words) => words,
            Self::CommandFailed(_)
            | Self::WaitsForReset
            | Self::Busy(_)
            | Self::Disconnected
            | Self::Can(_)
            | Self::SharedNodeId { .. } => {
                cx.warn(Warning::EarlierFailure(first));
                return self;
            }
        };
        *words = format!("{words}; the first attempt failed with: {first}");
        self
    }
}
