//! A chip's boot mode: DFU with memory addresses, strict to the letter.
//!
//! Written from the standard's state table (DFU 1.1, appendix A) and the address extension. Every
//! request that the table does not allow is rejected and leads to dfuERROR, and so does any
//! request to a busy unit. Work starts with the DFU_GETSTATUS after the download, never before.

use std::ops::Range;
use std::time::Duration;

use super::dfu::{LEAVE_TIME, Poll, Quirks, state, status, status_reply};
use crate::flash::{Flash, FlashZone};
use crate::usb::{Answer, Setup};

/// The operation that a download requested.
#[derive(Clone, Debug)]
enum Work {
    SetPointer(u32),
    Erase(Range<u32>),
    Program(u32, Vec<u8>),
    Unprotect(Range<u32>),
    Refused(u8),
}

/// How the unit leaves boot mode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Leave {
    /// By a jump to an address.
    Jump(u32),
    /// By a reset of the chip after its memory was erased.
    Wiped,
}

impl Work {
    fn time(&self) -> Duration {
        match self {
            Self::SetPointer(_) | Self::Refused(_) => Duration::ZERO,
            Self::Erase(range) | Self::Unprotect(range) => Flash::erase_time(range.end - range.start),
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
    /// The downloaded operation that is pending or in progress.
    work: Option<Work>,
    /// When the present work ends.
    until: Duration,
    manner: Quirks,
    /// Reading, erasing and writing are refused.
    protected: bool,
}

impl DfuAddressed {
    /// Fresh after power-on; blocks of `transfer_size` bytes.
    pub fn new(base: u32, transfer_size: u16) -> Self {
        Self {
            state: state::IDLE,
            status: status::OK,
            pointer: base,
            transfer_size,
            work: None,
            until: Duration::ZERO,
            manner: Quirks::default(),
            protected: false,
        }
    }

    /// Sets deviations and read protection.
    #[must_use]
    pub fn with_manner(mut self, manner: Quirks, protected: bool) -> Self {
        self.transfer_size = manner.max_block_size.unwrap_or(self.transfer_size);
        (self.manner, self.protected) = (manner, protected);
        self
    }

    /// The functional descriptor: can download and upload; detaches by itself; version 0x011A.
    pub fn functional_descriptor(&self) -> Vec<u8> {
        self.manner.functional_descriptor(0x0B, self.transfer_size, 0x011A)
    }

    /// The state number in the standard.
    pub fn state(&self) -> u8 {
        self.state
    }

    /// The layout text of a flash that can be read, erased and written.
    pub fn layout(name: &str, flash: &Flash) -> String {
        let sectors = |zone: &FlashZone| {
            let size = zone.sector_size;
            let (size, unit) = if size.is_multiple_of(1024) { (size / 1024, 'K') } else { (size, 'B') };
            format!("{:02}*{size:03}{unit}g", zone.count)
        };
        let mut text = format!("@{name} ");
        let mut end = None;
        for zone in flash.zones() {
            match end {
                Some(end) if end == zone.start => text += ",",
                _ => text += &format!("/0x{:08X}/", zone.start),
            }
            text += &sectors(zone);
            end = Some(zone.end());
        }
        text
    }

    /// Advances time. `Some` once the unit leaves boot mode.
    pub fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<Leave> {
        if now < self.until {
            return None;
        }
        match self.state {
            state::BUSY if matches!(self.work, Some(Work::Unprotect(_))) => {
                self.finish(flash);
                Some(Leave::Wiped)
            }
            state::BUSY => {
                self.finish(flash);
                self.state = state::DOWNLOAD_SYNC;
                None
            }
            state::MANIFEST => Some(Leave::Jump(self.pointer)),
            _ => None,
        }
    }

    /// Handles a bus reset: aborts the operation in progress.
    pub fn bus_reset(&mut self, now: Duration, flash: &mut Flash) {
        if self.state != state::IDLE {
            self.cut(now, flash);
            self.fail(status::USB_RESET);
        }
    }

    /// Handles a loss of power: the operation in progress is half done.
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
            (0x21, 1) => self.download(now, flash, setup.value, data),
            (0xA1, 2) => self.upload(flash, setup.value, setup.length),
            (0xA1, 3) => self.get_status(now),
            (0x21, 4) if self.state == state::ERROR => {
                self.go_idle();
                Answer::Done
            }
            (0xA1, 5) if !self.is_deaf() => Answer::Data(vec![self.state]),
            (0x21, 6) => self.abort(),
            _ => self.refuse(),
        }
    }

    /// Whether it is busy and must not be addressed.
    fn is_deaf(&self) -> bool {
        matches!(self.state, state::BUSY | state::MANIFEST) && self.manner.poll != Poll::Zero
    }

    fn download(&mut self, now: Duration, flash: &Flash, block: u16, data: &[u8]) -> Answer {
        if !matches!(self.state, state::IDLE | state::DOWNLOAD_IDLE) || data.len() > usize::from(self.transfer_size) {
            return self.refuse();
        }
        if data.is_empty() {
            self.state = state::MANIFEST_SYNC;
            if self.manner.drops_last_reply {
                (self.state, self.until) = (state::MANIFEST, now);
            }
            return Answer::Done;
        }
        self.work = Some(match block {
            0 => self.command(flash, data),
            _ if self.protected => Work::Refused(status::VENDOR),
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
        if self.protected && allowed {
            self.fail(status::VENDOR);
            return Answer::Stall;
        }
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
        let mut time = Duration::ZERO;
        match self.state {
            state::BUSY | state::MANIFEST if self.is_deaf() => return self.refuse(),
            state::DOWNLOAD_SYNC => match self.work.take() {
                Some(Work::Refused(code)) => self.fail(code),
                Some(work) => {
                    time = work.time();
                    self.work = Some(work);
                    self.state = state::BUSY;
                    self.until = now + time;
                }
                None => self.state = state::DOWNLOAD_IDLE,
            },
            state::MANIFEST_SYNC => {
                self.state = state::MANIFEST;
                self.until = now + LEAVE_TIME;
                time = LEAVE_TIME;
            }
            _ => {}
        }
        status_reply(self.status, self.manner.poll_ms(time), self.state)
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
            Some(Work::Unprotect(range)) => {
                flash.erase(range);
                self.protected = false;
            }
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

    /// A command of the address extension.
    fn command(&self, flash: &Flash, data: &[u8]) -> Work {
        let address = |bytes: &[u8]| bytes.try_into().ok().map(u32::from_le_bytes);
        let all = flash.base()..flash.base() + flash.len();
        match data {
            [0x21, rest @ ..] => match address(rest).filter(|at| flash.read(*at, 1).is_some()) {
                Some(at) => Work::SetPointer(at),
                None => Work::Refused(status::ADDRESS),
            },
            [0x92] => Work::Unprotect(all),
            [0x41, ..] if self.protected => Work::Refused(status::VENDOR),
            [0x41] => Work::Erase(all),
            [0x41, rest @ ..] => match address(rest).and_then(|at| flash.sector(at)) {
                Some(sector) => Work::Erase(sector),
                None => Work::Refused(status::ADDRESS),
            },
            _ => Work::Refused(status::VENDOR),
        }
    }
}
