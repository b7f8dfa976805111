//! UF2 blocks to a disk that counts them.
//!
//! Source: the public UF2 format description. The unit looks at every sector that
//! is written, programs those that are blocks of its family, and restarts once as
//! many numbers have come as each block says there are. It reports nothing. So
//! the last block is held back until the others were read.

use std::time::Duration;

use vaka_core::dfu::Status;
use vaka_core::plan::Run;
use vaka_core::sheet::{ExitMethod, VolumeRoute};
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_image::uf2::{self, AppReadback, PAYLOAD};

use super::{Disk, TIME_TO_LEAVE, leave};
use crate::context::Context;
use crate::protocol::session::{Capabilities, FinishOutcome, Protection, Session};
use crate::protocol::session_error::SessionError;
use crate::warning::Warning;

/// Bytes of flash in one write: 128 blocks, which are as many sectors.
pub(crate) const CHUNK: u32 = 128 * 256;

/// Time for a unit with all blocks to restart before its disk is ejected. Chosen by us: units
/// wait up to a second.
const TIME_TO_COUNT: Duration = Duration::from_secs(3);

/// The part of the application file that was read.
#[derive(Default)]
struct Readback {
    present: AppReadback,
    /// Up to this address; the whole file if `None`.
    until: Option<Address>,
    /// Whether the file is missing.
    is_missing: bool,
}

/// A session with a unit that takes UF2 blocks.
pub(super) struct Uf2Session {
    disk: Box<dyn Disk>,
    family: u32,
    present: Option<String>,
    leave: ExitMethod,
    /// The addresses of all blocks, in order; their places are their numbers.
    pages: Vec<u32>,
    /// The last block, until it is sent.
    held_back: Option<[u8; uf2::BLOCK]>,
    /// The unit's memory as read, until something is written.
    seen: Option<Readback>,
    /// Start address of reading.
    start: Option<Address>,
    is_finished: bool,
}

impl Uf2Session {
    pub(super) fn new(disk: Box<dyn Disk>, family: u32, route: &VolumeRoute) -> Self {
        let (present, leave) = (route.application_file.clone(), route.leave);
        Self {
            disk,
            family,
            present,
            leave,
            pages: Vec::new(),
            held_back: None,
            seen: None,
            start: None,
            is_finished: false,
        }
    }

    /// The unit's memory as it shows it: all of it, or at least up to an address.
    fn present(&mut self, until: Option<Address>, cx: &mut Context<'_>) -> Result<&AppReadback, SessionError> {
        let is_there = |seen: &Readback| until.is_some_and(|until| seen.until.is_some_and(|end| end >= until));
        if !self.seen.as_ref().is_some_and(|seen| seen.until.is_none() || is_there(seen)) {
            // Twice as far each time, so that reading on costs no more than reading all.
            let before = self.seen.as_ref().and_then(|seen| seen.until);
            let start = self.start.unwrap_or(Address::new(0));
            let doubled = before.and_then(|end| end.checked_add(end.offset_from(start)?));
            let until = until.map(|until| doubled.map_or(until, |doubled| until.max(doubled)));
            let is_enough = |bytes: &[u8]| {
                until.is_some_and(|until| AppReadback::last_address(bytes).is_some_and(|at| at >= until))
            };
            let file = match &self.present {
                Some(name) => self.disk.read_file(name, &is_enough, cx)?,
                None => None,
            };
            let is_missing = file.is_none();
            let file = file.unwrap_or_default();
            let until = until.filter(|_| is_enough(&file));
            self.seen = Some(Readback { present: AppReadback::read(&file), until, is_missing });
        }
        Ok(&self.seen.get_or_insert_default().present)
    }
}

impl Session for Uf2Session {
    fn limits(&self) -> Capabilities {
        Capabilities::blocks(CHUNK, self.present.is_some())
    }

    fn protection(&mut self, at: Address, cx: &mut Context<'_>) -> Result<Protection, SessionError> {
        let Some(name) = self.present.clone() else { return Ok(Protection::Unknown) };
        if !self.present(Some(at), cx)?.is_empty() {
            return Ok(Protection::Unprotected);
        }
        if self.seen.as_ref().is_some_and(|seen| seen.is_missing) {
            cx.warn(Warning::NoReadBackFile { file: name.to_string() });
            return Ok(Protection::Unknown);
        }
        Ok(Protection::Unreadable(format!("its {name} has no UF2 block")))
    }

    fn readable_ranges(&mut self, _: Address, cx: &mut Context<'_>) -> Result<Option<Vec<Span>>, SessionError> {
        Ok(Some(self.present(None, cx)?.spans()))
    }

    fn reload(&mut self) {
        self.disk.reload();
        self.seen = None;
    }

    fn begin(&mut self, _: &Image, runs: &[Run], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let pages = runs.iter().flat_map(|run| {
            let (from, to) = (run.span().start().get(), run.span().end().get());
            (from..to).step_by(PAYLOAD).filter_map(|at| u32::try_from(at).ok())
        });
        self.pages = pages.collect();
        self.held_back = None;
        self.disk.begin_blocks(self.pages.len(), cx)
    }

    fn write(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let wrong = || SessionError::ProtocolViolation("an unannounced block".into());
        let total = u32::try_from(self.pages.len()).map_err(|_| wrong())?;
        let first = at.to_u32().and_then(|at| self.pages.binary_search(&at).ok()).ok_or_else(wrong)?;
        let mut blocks = Vec::with_capacity(data.len() * 2);
        for (number, payload) in (first..).zip(data.chunks(PAYLOAD)) {
            let (page, payload) = (self.pages.get(number), payload.try_into());
            let (Some(page), Ok(payload)) = (page, payload) else { return Err(wrong()) };
            let number = u32::try_from(number).map_err(|_| wrong())?;
            let block = uf2::emit(*page, payload, number, total, Some(self.family));
            if number + 1 == total {
                self.held_back = Some(block);
            } else {
                blocks.extend_from_slice(&block);
            }
        }
        self.seen = None;
        if blocks.is_empty() { Ok(()) } else { self.disk.write_blocks(&blocks, cx) }
    }

    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        self.start.get_or_insert(at);
        let end = at.checked_add(u64::from(len));
        if let Some(bytes) = self.present(end, cx)?.bytes(at, len) {
            return Ok(bytes);
        }
        // The blocks are not necessarily in ascending order.
        self.present(None, cx)?.bytes(at, len).ok_or_else(|| SessionError::DfuStatus {
            reason: format!("it does not expose the content at {at}"),
            status: Status::Address,
        })
    }

    fn finish(&mut self, cx: &mut Context<'_>) -> Result<FinishOutcome, SessionError> {
        let last =
            self.held_back.take().ok_or_else(|| SessionError::ProtocolViolation("there is no last block".into()))?;
        self.is_finished = true;
        match self.disk.write_blocks(&last, cx) {
            Ok(()) => Ok(FinishOutcome::Detached),
            Err(error) => {
                let is_lost = matches!(error, SessionError::Disconnected | SessionError::Transport(_));
                match is_lost || self.disk.wait_for_disconnect(TIME_TO_COUNT) {
                    // The unit has all blocks, and disconnected instead of replying.
                    true if self.disk.has_taken_data() => Ok(FinishOutcome::Detached),
                    true => Ok(FinishOutcome::LostDuringFinish),
                    false => Err(error),
                }
            }
        }
    }

    fn restart(&mut self, _: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError> {
        if !self.is_finished {
            return leave(&mut *self.disk, self.leave, cx);
        }
        if self.disk.wait_for_disconnect(TIME_TO_COUNT) {
            return Ok(());
        }
        cx.warn(Warning::EjectingAfterBlocks);
        self.disk.eject(cx)?;
        if self.disk.wait_for_disconnect(TIME_TO_LEAVE) {
            return Ok(());
        }
        Err(SessionError::Timeout("it received every block but did not accept the image as complete".into()))
    }

    fn rest(&mut self, _: &mut Context<'_>) {
        self.seen = None;
    }

    fn transfers(&self) -> u64 {
        self.disk.transfers()
    }
}
