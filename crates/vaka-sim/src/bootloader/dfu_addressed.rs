//! A chip's boot mode: DFU with memory addresses, strict to the letter.
//!
//! Written from the standard's state table (DFU 1.1, appendix A) and the
//! address extension. Every request that the table does not allow is refused
//! and leads to dfuERROR; a busy unit that is asked anything does too. Work
//! starts with the DFU_GETSTATUS after the download, never before.

use std::ops::Range;
use std::time::Duration;

use crate::flash::Flash;
use crate::usb::{Answer, Setup};

/// States by their numbers in the standard.
mod state {
    pub(super) const IDLE: u8 = 2;
    pub(super) const DOWNLOAD_SYNC: u8 = 3;
    pub(super) const BUSY: u8 = 4;
    pub(super) const DOWNLOAD_IDLE: u8 = 5;
    pub(super) const MANIFEST_SYNC: u8 = 6;
    pub(super) const MANIFEST: u8 = 7;
    pub(super) const UPLOAD_IDLE: u8 = 9;
    pub(super) const ERROR: u8 = 10;
}

/// Status codes by their numbers in the standard.
mod status {
    pub(super) const OK: u8 = 0x00;
    pub(super) const ADDRESS: u8 = 0x08;
    pub(super) const VENDOR: u8 = 0x0B;
    pub(super) const USB_RESET: u8 = 0x0C;
    pub(super) const STALLED_PACKET: u8 = 0x0F;
}

/// Between "I go" and being gone.
const LEAVE_TIME: Duration = Duration::from_millis(20);

/// What a download asked for.
#[derive(Clone, Debug)]
enum Work {
    SetPointer(u32),
    Erase(Range<u32>),
    Program(u32, Vec<u8>),
    Refused(u8),
}

impl Work {
    fn time(&self) -> Duration {
        match self {
            Self::SetPointer(_) | Self::Refused(_) => Duration::ZERO,
            Self::Erase(range) => Flash::erase_time(range.end - range.start),
            Self::Program(_, data) => Flash::program_time(u32::try_from(data.len()).unwrap_or(u32::MAX)),
        }
    }
}

/// The boot mode's state.
#[derive(Clone, Debug)]
pub struct DfuAddressed {
    state: u8,
    status: u8,
    pointer: u32,
    transfer_size: u16,
    /// What was downloaded and waits for, or is in, its execution.
    work: Option<Work>,
    /// When the present work ends.
    until: Duration,
}

/// Class, subclass and protocol of DFU mode.
pub const CLASS: [u8; 3] = [0xFE, 1, 2];

impl DfuAddressed {
    /// Fresh after power-on; blocks of `transfer_size` bytes.
    pub fn new(base: u32, transfer_size: u16) -> Self {
        Self { state: state::IDLE, status: status::OK, pointer: base, transfer_size, work: None, until: Duration::ZERO }
    }

    /// Its functional descriptor: can download, upload; version 0x011A.
    pub fn functional_descriptor(&self) -> Vec<u8> {
        let [low, high] = self.transfer_size.to_le_bytes();
        vec![9, 0x21, 0x0B, 0xFF, 0x00, low, high, 0x1A, 0x01]
    }

    /// The layout text of a flash that can be read, erased and written.
    pub fn layout(name: &str, flash: &Flash) -> String {
        let size = flash.sector_size();
        let (size, unit) = if size.is_multiple_of(1024) { (size / 1024, 'K') } else { (size, 'B') };
        format!("@{name} /0x{:08X}/{:02}*{size:03}{unit}g", flash.base(), flash.sectors())
    }

    /// Lets time pass. `Some` once the unit leaves boot mode: where it starts.
    pub fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<u32> {
        if now < self.until {
            return None;
        }
        match self.state {
            state::BUSY => {
                self.finish(flash);
                self.state = state::DOWNLOAD_SYNC;
                None
            }
            state::MANIFEST => Some(self.pointer),
            _ => None,
        }
    }

    /// The bus was reset: what was under way is cut, and told.
    pub fn bus_reset(&mut self, now: Duration, flash: &mut Flash) {
        if self.state != state::IDLE {
            self.cut(now, flash);
            self.fail(status::USB_RESET);
        }
    }

    /// The power goes: what was under way is done by half.
    pub fn cut(&mut self, now: Duration, flash: &mut Flash) {
        if self.state != state::BUSY || now >= self.until {
            return;
        }
        match self.work.take() {
            Some(Work::Erase(range)) => flash.erase(range.start..range.start + (range.end - range.start) / 2),
            Some(Work::Program(at, data)) => flash.program(at, &data[..data.len() / 2]),
            _ => {}
        }
    }

    /// Answers a class request.
    pub fn control(&mut self, now: Duration, flash: &Flash, setup: Setup, data: &[u8]) -> Answer {
        if setup.index != 0 {
            return Answer::Stall;
        }
        match (setup.kind, setup.request) {
            (0x21, 1) => self.download(flash, setup.value, data),
            (0xA1, 2) => self.upload(flash, setup.value, setup.length),
            (0xA1, 3) => self.get_status(now),
            (0x21, 4) if self.state == state::ERROR => {
                self.go_idle();
                Answer::Done
            }
            (0xA1, 5) if self.state != state::BUSY && self.state != state::MANIFEST => Answer::Data(vec![self.state]),
            (0x21, 6) => self.abort(),
            _ => self.refuse(),
        }
    }

    fn download(&mut self, flash: &Flash, block: u16, data: &[u8]) -> Answer {
        if !matches!(self.state, state::IDLE | state::DOWNLOAD_IDLE) || data.len() > usize::from(self.transfer_size) {
            return self.refuse();
        }
        if data.is_empty() {
            self.state = state::MANIFEST_SYNC;
            return Answer::Done;
        }
        self.work = Some(match block {
            0 => command(flash, data),
            1 => return self.refuse(),
            _ => match self.block_address(block).filter(|at| flash.read(*at, data.len()).is_some()) {
                Some(at) => Work::Program(at, data.to_vec()),
                None => Work::Refused(status::ADDRESS),
            },
        });
        self.state = state::DOWNLOAD_SYNC;
        Answer::Done
    }

    fn block_address(&self, block: u16) -> Option<u32> {
        let offset = u32::from(block - 2).checked_mul(u32::from(self.transfer_size))?;
        self.pointer.checked_add(offset)
    }

    fn upload(&mut self, flash: &Flash, block: u16, length: u16) -> Answer {
        let allowed = matches!(self.state, state::IDLE | state::UPLOAD_IDLE);
        if !allowed || length == 0 || length > self.transfer_size || block == 1 {
            return self.refuse();
        }
        if block == 0 {
            let mut codes = vec![0x00, 0x21, 0x41];
            codes.truncate(usize::from(length));
            self.state = state::IDLE;
            return Answer::Data(codes);
        }
        let bytes = self.block_address(block).and_then(|at| flash.read(at, usize::from(length)));
        match bytes {
            Some(bytes) => {
                self.state = if length < self.transfer_size { state::IDLE } else { state::UPLOAD_IDLE };
                Answer::Data(bytes.to_vec())
            }
            None => {
                self.fail(status::ADDRESS);
                Answer::Stall
            }
        }
    }

    fn get_status(&mut self, now: Duration) -> Answer {
        let mut poll = Duration::ZERO;
        match self.state {
            state::BUSY | state::MANIFEST => return self.refuse(),
            state::DOWNLOAD_SYNC => match self.work.take() {
                Some(Work::Refused(code)) => self.fail(code),
                Some(work) => {
                    let time = work.time();
                    self.work = Some(work);
                    self.state = state::BUSY;
                    self.until = now + time;
                    // A tenth more than it takes: what data sheets do.
                    poll = time * 11 / 10;
                }
                None => self.state = state::DOWNLOAD_IDLE,
            },
            state::MANIFEST_SYNC => {
                self.state = state::MANIFEST;
                self.until = now + LEAVE_TIME;
                poll = LEAVE_TIME * 2;
            }
            _ => {}
        }
        let poll_ms = u32::try_from(poll.as_micros().div_ceil(1000)).unwrap_or(u32::MAX);
        let [p0, p1, p2, _] = poll_ms.to_le_bytes();
        Answer::Data(vec![self.status, p0, p1, p2, self.state, 0])
    }

    fn abort(&mut self) -> Answer {
        match self.state {
            state::BUSY | state::MANIFEST | state::ERROR => self.refuse(),
            _ => {
                self.go_idle();
                Answer::Done
            }
        }
    }

    fn finish(&mut self, flash: &mut Flash) {
        match self.work.take() {
            Some(Work::SetPointer(at)) => self.pointer = at,
            Some(Work::Erase(range)) => flash.erase(range),
            Some(Work::Program(at, data)) => flash.program(at, &data),
            Some(Work::Refused(_)) | None => {}
        }
    }

    fn go_idle(&mut self) {
        self.work = None;
        self.state = state::IDLE;
        self.status = status::OK;
    }

    fn fail(&mut self, code: u8) {
        self.work = None;
        self.state = state::ERROR;
        self.status = code;
    }

    /// A request that does not belong here.
    fn refuse(&mut self) -> Answer {
        if self.state != state::ERROR {
            self.fail(status::STALLED_PACKET);
        }
        Answer::Stall
    }
}

/// A command of the address extension.
fn command(flash: &Flash, data: &[u8]) -> Work {
    let address = |bytes: &[u8]| bytes.try_into().ok().map(u32::from_le_bytes);
    match data {
        [0x21, rest @ ..] => match address(rest).filter(|at| flash.read(*at, 1).is_some()) {
            Some(at) => Work::SetPointer(at),
            None => Work::Refused(status::ADDRESS),
        },
        [0x41] => Work::Erase(flash.base()..flash.base() + flash.len()),
        [0x41, rest @ ..] => match address(rest).and_then(|at| flash.sector(at)) {
            Some(sector) => Work::Erase(sector),
            None => Work::Refused(status::ADDRESS),
        },
        _ => Work::Refused(status::VENDOR),
    }
}
