//! The one trait between the executor and the protocols.

use vaka_core::memory::SectorMap;
use vaka_core::plan::Run;
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_usb::DeviceInfo;

use super::session_error::SessionError;
use crate::context::Context;
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
        Err(unsupported())
    }

    /// Erases everything that the unit's memory has.
    ///
    /// # Errors
    /// Any of it may be erased.
    fn erase_all(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = cx;
        Err(unsupported())
    }

    /// The addresses that it can give, where it tells: a unit may show no more
    /// than its application.
    ///
    /// # Errors
    /// It cannot be read.
    fn readable_ranges(&mut self, start: Address, cx: &mut Context<'_>) -> Result<Option<Vec<Span>>, SessionError> {
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
        Err(unsupported())
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
        Err(unsupported())
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
fn unsupported() -> SessionError {
    SessionError::ProtocolViolation("its way of updating has no word for that: the unit decides it".into())
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
}
