//! Plain DFU 1.1: blocks in order, erased and written as they arrive.
//!
//! Written from the standard's state table (DFU 1.1, appendix A), to the letter unless its
//! [`Quirks`] deviate. A block with a number out of order, or after a short one, is rejected. An
//! operation in progress at a loss of power is half done.
//!
//! It spares its flash: a block that is already present is neither erased nor programmed. If a
//! later block of a sector differs, the earlier content of that sector is programmed again from a
//! buffer.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use super::dfu::{LEAVE_TIME, Poll, Quirks, Staging, state, status, status_reply};
use crate::flash::Flash;
use crate::usb::{Answer, Setup};

/// Time to check an image and to activate it.
const MANIFEST_TIME: Duration = Duration::from_millis(60);

/// The bmAttributes of the boot mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Traits {
    /// bitCanUpload.
    pub can_upload: bool,
    /// bitManifestationTolerant.
    pub tolerant: bool,
    /// bitWillDetach.
    pub will_detach: bool,
}

impl Traits {
    /// bmAttributes; it can always be downloaded to.
    pub fn attributes(self) -> u8 {
        1 | u8::from(self.can_upload) << 1 | u8::from(self.tolerant) << 2 | u8::from(self.will_detach) << 3
    }
}

/// Decides whether the memory contains a valid application.
#[derive(Clone)]
struct Soundness(Arc<dyn Fn(&Flash) -> bool + Send + Sync>);

impl fmt::Debug for Soundness {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Soundness")
    }
}

/// A block that waits for, or is in, its execution.
#[derive(Clone, Debug)]
struct Work {
    at: u32,
    data: Vec<u8>,
    /// The sectors that begin with this block.
    erase: Vec<Range<u32>>,
}

impl Work {
    fn time(&self) -> Duration {
        let erase: u32 = self.erase.iter().map(|range| range.end - range.start).sum();
        Flash::erase_time(erase) + Flash::program_time(u32::try_from(self.data.len()).unwrap_or(u32::MAX))
    }
}

/// The boot mode's state.
#[derive(Clone, Debug)]
pub struct DfuPlain {
    state: u8,
    status: u8,
    traits: Traits,
    manner: Quirks,
    transfer_size: u16,
    /// The memory of each alternate setting; the first is the application.
    memories: Vec<Range<u32>>,
    /// The memory in use.
    region: Range<u32>,
    next_block: u16,
    /// Address of the next block.
    cursor: u32,
    /// Up to here sectors were erased since the download began.
    erased_to: u32,
    /// A short block was the last one.
    closed: bool,
    work: Option<Work>,
    manifested: bool,
    /// Downloaded content that is not active yet.
    staged: Vec<u8>,
    /// Whether the staged image was accepted, and waits for a reset.
    is_accepted: bool,
    until: Duration,
    is_sound: Soundness,
}

impl DfuPlain {
    /// Creates it after power-on; in dfuERROR if no application can run. The first of `memories`,
    /// one for each alternate setting, is the application.
    pub fn new(
        memories: Vec<Range<u32>>,
        transfer_size: u16,
        traits: Traits,
        manner: Quirks,
        is_sound: impl Fn(&Flash) -> bool + Send + Sync + 'static,
    ) -> Self {
        let region = memories.first().cloned().unwrap_or_default();
        Self {
            state: state::IDLE,
            status: status::OK,
            transfer_size: manner.max_block_size.unwrap_or(transfer_size),
            cursor: region.start,
            erased_to: region.start,
            region,
            memories,
            traits,
            manner,
            next_block: 0,

            closed: false,
            work: None,
            manifested: false,
            staged: Vec::new(),
            is_accepted: false,
            until: Duration::ZERO,
            is_sound: Soundness(Arc::new(is_sound)),
        }
    }

    /// Sets the state of a unit whose application cannot run.
    #[must_use]
    pub fn for_want_of_firmware(mut self) -> Self {
        self.fail(status::FIRMWARE);
        self
    }

    /// Selects a memory by its alternate setting; false if there is none.
    pub fn select(&mut self, alternate: u16) -> bool {
        let Some(region) = self.memories.get(usize::from(alternate)) else { return false };
        self.region = region.clone();
        self.start_over();
        true
    }

    /// Whether manifestation accepts the content; it checks the application only if that was
    /// written.
    fn accepts(&self, flash: &Flash) -> bool {
        if !self.staged.is_empty() {
            return (self.is_sound.0)(&self.staged_flash(flash));
        }
        self.memories.first() != Some(&self.region) || (self.is_sound.0)(flash)
    }

    /// The functional descriptor.
    pub fn functional_descriptor(&self) -> Vec<u8> {
        self.manner.functional_descriptor(self.traits.attributes(), self.transfer_size, 0x0110)
    }

    /// The state number in the standard.
    pub fn state(&self) -> u8 {
        self.state
    }

    /// Advances time; true once the unit leaves by itself.
    pub fn advance(&mut self, now: Duration, flash: &mut Flash) -> bool {
        if now < self.until {
            return false;
        }
        match self.state {
            state::BUSY => {
                if let Some(work) = self.work.take() {
                    match self.manner.staging {
                        Staging::None => {
                            work.erase.into_iter().for_each(|range| flash.erase(range));
                            flash.program(work.at, &work.data);
                        }
                        Staging::UntilManifest | Staging::UntilReset => self.staged.extend(work.data),
                    }
                }
                self.state = state::DOWNLOAD_SYNC;
                false
            }
            state::MANIFEST if self.manner.staging == Staging::UntilManifest && !self.staged.is_empty() => {
                self.apply_staged(flash);
                self.advance(now, flash)
            }
            state::MANIFEST if self.traits.tolerant => {
                (self.state, self.manifested) = (state::MANIFEST_SYNC, true);
                false
            }
            state::MANIFEST => {
                self.state = state::WAIT_RESET;
                self.until += LEAVE_TIME;
                false
            }
            state::WAIT_RESET => self.traits.will_detach && !self.manner.ignores_detach,
            _ => false,
        }
    }

    /// The bus is reset; true if the unit leaves for its application.
    pub fn bus_reset(&mut self, now: Duration, flash: &mut Flash) -> bool {
        self.cut(now, flash);
        if std::mem::take(&mut self.is_accepted) {
            self.apply_staged(flash);
        }
        self.staged.clear();
        if (self.is_sound.0)(flash) {
            return true;
        }
        let cut = !matches!(self.state, state::IDLE | state::ERROR | state::WAIT_RESET);
        self.start_over();
        self.fail(if cut { status::USB_RESET } else { status::FIRMWARE });
        false
    }

    /// Replaces the application with the staged content.
    fn apply_staged(&mut self, flash: &mut Flash) {
        let staged = std::mem::take(&mut self.staged);
        let end = self.region.start + u32::try_from(staged.len()).unwrap_or(0);
        let mut at = self.region.start;
        while let Some(sector) = flash.sector(at).filter(|_| at < end) {
            at = sector.end;
            flash.erase(sector);
        }
        flash.program(self.region.start, &staged);
    }

    /// The application with the staged content applied.
    fn staged_flash(&self, flash: &Flash) -> Flash {
        let mut copy = flash.clone();
        let mut other = Self { staged: self.staged.clone(), ..self.clone() };
        other.apply_staged(&mut copy);
        copy
    }

    /// Handles a loss of power: the operation in progress is half done.
    pub fn cut(&mut self, now: Duration, flash: &mut Flash) {
        if self.state != state::BUSY || now >= self.until || self.manner.staging != Staging::None {
            return;
        }
        if let Some(work) = self.work.take() {
            work.erase.into_iter().for_each(|range| flash.erase(range));
            flash.program(work.at, &work.data[..work.data.len() / 2]);
        }
    }

    /// Answers a class request to the DFU interface.
    pub fn control(&mut self, now: Duration, flash: &Flash, setup: Setup, data: &[u8]) -> Answer {
        if self.state == state::WAIT_RESET {
            return Answer::Silent;
        }
        if setup.index != 0 {
            return Answer::Stall;
        }
        match (setup.kind, setup.request) {
            (0x21, 1) => self.download(now, flash, setup.value, data),
            (0xA1, 2) => self.upload(flash, setup.value, setup.length),
            (0xA1, 3) => self.get_status(now, flash),
            (0x21, 4) if self.state == state::ERROR => {
                self.go_idle();
                Answer::Done
            }
            (0xA1, 5) if !self.is_deaf() => Answer::Data(vec![self.state]),
            (0x21, 6) => match self.state {
                state::BUSY | state::MANIFEST | state::ERROR => self.refuse(),
                _ => {
                    self.go_idle();
                    Answer::Done
                }
            },
            _ => self.refuse(),
        }
    }

    fn is_deaf(&self) -> bool {
        matches!(self.state, state::BUSY | state::MANIFEST) && self.manner.poll != Poll::Zero
    }

    fn download(&mut self, now: Duration, flash: &Flash, block: u16, data: &[u8]) -> Answer {
        let (len, open) = (data.len(), self.state == state::DOWNLOAD_IDLE);
        if !(open || self.state == state::IDLE) || len > usize::from(self.transfer_size) {
            return self.refuse();
        }
        if data.is_empty() {
            if !open {
                return self.refuse();
            }
            self.state = state::MANIFEST_SYNC;
            if self.manner.drops_last_reply {
                // It disconnects during its reply.
                (self.state, self.until) = (state::WAIT_RESET, now);
            }
            return Answer::Done;
        }
        let room = self.region.end - self.cursor;
        if block != self.next_block || self.closed {
            return self.refuse();
        }
        if len > room as usize {
            self.fail(status::ADDRESS);
            return Answer::Stall;
        }
        self.work = Some(self.work_for(flash, data));
        self.state = state::DOWNLOAD_SYNC;
        Answer::Done
    }

    #[allow(clippy::cast_possible_truncation)] // a block has at most 65535 bytes
    fn work_for(&mut self, flash: &Flash, data: &[u8]) -> Work {
        let (at, end) = (self.cursor, self.cursor + data.len() as u32);
        self.cursor = end;
        self.next_block = self.next_block.wrapping_add(1);
        self.closed = data.len() < usize::from(self.transfer_size);
        if self.manner.staging != Staging::None {
            return Work { at, data: data.to_vec(), erase: Vec::new() };
        }
        if end > self.erased_to && flash.read(at, data.len()) == Some(data) {
            return Work { at, data: Vec::new(), erase: Vec::new() };
        }
        let mut erase: Vec<Range<u32>> = (at..end).filter_map(|address| flash.sector(address)).collect();
        erase.dedup();
        erase.retain(|sector| sector.end > self.erased_to);
        let Some(first) = erase.first().map(|sector| sector.start.max(self.region.start)) else {
            return Work { at, data: data.to_vec(), erase };
        };
        self.erased_to = erase.last().map_or(self.erased_to, |sector| sector.end);
        // The buffer includes the part of this sector that was found equal.
        let mut again = flash.read(first.min(at), (at - first.min(at)) as usize).unwrap_or_default().to_vec();
        again.extend(data);
        Work { at: first.min(at), data: again, erase }
    }

    fn upload(&mut self, flash: &Flash, block: u16, length: u16) -> Answer {
        let allowed = matches!(self.state, state::IDLE | state::UPLOAD_IDLE) && self.traits.can_upload;
        if !allowed || length == 0 || block != self.next_block {
            return self.refuse();
        }
        let left = self.region.end - self.cursor;
        let len = u32::from(length.min(self.transfer_size)).min(left);
        let bytes = flash.read(self.cursor, len as usize).unwrap_or_default().to_vec();
        self.cursor += len;
        self.next_block = self.next_block.wrapping_add(1);
        self.state = state::UPLOAD_IDLE;
        if len < u32::from(length) {
            self.go_idle();
        }
        Answer::Data(bytes)
    }

    fn get_status(&mut self, now: Duration, flash: &Flash) -> Answer {
        let mut time = Duration::ZERO;
        match self.state {
            state::BUSY | state::MANIFEST if self.is_deaf() => return self.refuse(),
            state::DOWNLOAD_SYNC => match &self.work {
                Some(work) if work.data.is_empty() => {
                    self.work = None;
                    self.state = state::DOWNLOAD_IDLE;
                }
                Some(work) => {
                    time = work.time();
                    (self.state, self.until) = (state::BUSY, now + time);
                }
                None => self.state = state::DOWNLOAD_IDLE,
            },
            state::MANIFEST_SYNC if self.manifested => self.go_idle(),
            state::MANIFEST_SYNC if !self.accepts(flash) => self.fail(status::FILE),
            state::MANIFEST_SYNC => {
                time = MANIFEST_TIME;
                self.is_accepted = self.manner.staging == Staging::UntilReset;
                (self.state, self.until) = (state::MANIFEST, now + time);
            }
            _ => {}
        }
        status_reply(self.status, self.manner.poll_ms(time), self.state)
    }

    fn start_over(&mut self) {
        (self.next_block, self.cursor, self.closed) = (0, self.region.start, false);
        self.erased_to = self.region.start;
        (self.work, self.manifested) = (None, false);
        if !self.is_accepted {
            self.staged.clear();
        }
    }

    fn go_idle(&mut self) {
        self.start_over();
        (self.state, self.status) = (state::IDLE, status::OK);
    }

    fn fail(&mut self, code: u8) {
        self.work = None;
        (self.state, self.status) = (state::ERROR, code);
    }

    /// A request that does not belong here.
    fn refuse(&mut self) -> Answer {
        if self.state != state::ERROR {
            self.fail(if self.state == state::DOWNLOAD_IDLE && self.closed {
                status::NOT_DONE
            } else {
                status::STALLED_PACKET
            });
        }
        Answer::Stall
    }
}
