//! The DFU engine, with memory addresses.
//!
//! Source: DFU 1.1 and its published address extension. What it takes care of
//! and why:
//!
//! - After every download comes a DFU_GETSTATUS; many units begin their work
//!   only with it. While a unit is at work nothing is sent to it until the time
//!   that it asked for is over. A time in an idle state only delays the next
//!   DFU_GETSTATUS, so blocks follow each other at once.
//! - Blocks go to `pointer + (number - 2) * wTransferSize`. Units differ in
//!   what they make of a short block, so a short one always stands alone
//!   behind an address command of its own, where all readings agree.
//! - Reading needs dfuIDLE: the address is set, then an abort leads there.

use std::time::Duration;

use vaka_core::address::{Address, Span};
use vaka_core::dfu::{Command, FIRST_DATA_BLOCK, Request, State, StatusReply, ToIdle, way_to_idle};
use vaka_core::memory::SectorMap;
use vaka_core::text;
use vaka_usb::counting::{Counting, TransferCount};
use vaka_usb::strings::Strings;
use vaka_usb::{Setup, TransferError, UsbDevice};

use crate::pace::Pace;
use crate::session::{Limits, Session, SessionError};

/// Time for a request on top of what the unit asked for. Chosen by us: busy
/// units answer late without saying so.
const REQUEST_TIMEOUT: Duration = Duration::from_secs(5);

/// The first pause before a unit is asked again that is at work but named no
/// time; it doubles up to [`LONGEST_PAUSE`]. Chosen by us.
const FIRST_PAUSE: Duration = Duration::from_millis(2);
const LONGEST_PAUSE: Duration = Duration::from_millis(100);

/// After a leave request: time for the unit to go before the connection is
/// closed, which over USB/IP resets its port. Chosen by us.
const TIME_TO_GO: Duration = Duration::from_millis(150);

/// Attempts on the way to dfuIDLE: the longest sound way takes four.
const STEPS_TO_IDLE: usize = 10;

/// What a download asks the unit to do; decides how long that may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Work {
    Command,
    Block,
    Erase,
}

impl Work {
    /// The longest time that is believed of a unit. Chosen by us, some ten
    /// times what data sheets give for slow parts.
    fn ceiling(self) -> Duration {
        match self {
            Self::Command | Self::Block => Duration::from_secs(5),
            Self::Erase => Duration::from_secs(30),
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::Command => "the unit to take a command",
            Self::Block => "the unit to program a block",
            Self::Erase => "the unit to erase a sector",
        }
    }
}

/// What the unit is in the middle of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Position {
    Idle,
    /// After a command or block; `Some`: the next block goes there under that number.
    Download(Option<(Address, u16)>),
    /// After a full block was read: the next comes from there under that number.
    Upload(Address, u16),
}

/// What has to be known of an interface to open a session on it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Opening {
    /// bInterfaceNumber.
    pub interface: u8,
    /// bAlternateSetting.
    pub alternate: u8,
    /// wTransferSize, or what is used in its place.
    pub block_size: u16,
    /// bitCanUpload.
    pub can_upload: bool,
    /// The sectors that it reports.
    pub sectors: Option<SectorMap>,
}

/// A unit in DFU mode.
pub struct DfuSession {
    device: Counting,
    count: TransferCount,
    opening: Opening,
    position: Position,
    /// No DFU_GETSTATUS before this moment.
    earliest_status: Duration,
    told_of_absurd_time: bool,
}

impl DfuSession {
    /// Claims the interface and brings the unit to dfuIDLE, from whatever
    /// state an earlier program left it in.
    ///
    /// # Errors
    /// It cannot be brought there; nothing was changed.
    pub fn open(device: Box<dyn UsbDevice>, opening: Opening, pace: &mut Pace<'_>) -> Result<Self, SessionError> {
        let (device, count) = Counting::new(device);
        let mut session = Self {
            device,
            count,
            opening,
            position: Position::Idle,
            earliest_status: Duration::ZERO,
            told_of_absurd_time: false,
        };
        session.device.claim(session.opening.interface, session.opening.alternate)?;
        session.go_idle(pace)?;
        Ok(session)
    }

    /// Step by step to dfuIDLE.
    fn go_idle(&mut self, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        let mut state = self.state(pace)?;
        for _ in 0..STEPS_TO_IDLE {
            state = match way_to_idle(state) {
                ToIdle::There => {
                    self.position = Position::Idle;
                    return Ok(());
                }
                ToIdle::Abort => match self.request(Request::Abort, 0, &[]) {
                    Ok(()) => self.state(pace)?,
                    Err(TransferError::Stall) => self.status(pace, "the unit's status")?.state,
                    Err(error) => return Err(error.into()),
                },
                ToIdle::ClearStatus => {
                    self.status(pace, "the unit's status")?;
                    self.request(Request::ClearStatus, 0, &[])?;
                    self.status(pace, "the unit's status")?.state
                }
                ToIdle::WaitAndAsk => {
                    let soon = pace.now() + Duration::from_secs(1);
                    pace.wait_until(soon, "the unit to finish what an earlier program began");
                    self.status(pace, "the unit's status")?.state
                }
                ToIdle::InApplication => {
                    return Err(SessionError::Misbehaved("its DFU interface says that the application runs".into()));
                }
                ToIdle::Reset => {
                    return Err(SessionError::Silent(
                        "the unit waits for a reset; unplug it and plug it in again".into(),
                    ));
                }
                ToIdle::Unknown(value) => {
                    return Err(SessionError::Misbehaved(format!("it is in state {value}, which DFU does not have")));
                }
            };
        }
        Err(SessionError::Misbehaved(format!("it does not come to dfuIDLE; its state is now {state}")))
    }

    /// The state by DFU_GETSTATE, which changes nothing; by DFU_GETSTATUS
    /// where the unit refuses that.
    fn state(&mut self, pace: &mut Pace<'_>) -> Result<State, SessionError> {
        match self.device.control_in(self.setup(Setup::CLASS_INTERFACE_IN, Request::GetState, 0), 1, REQUEST_TIMEOUT) {
            Ok(bytes) => match bytes[..] {
                [state] => Ok(State::from_wire(state)),
                _ => Ok(self.status(pace, "the unit's status")?.state),
            },
            Err(TransferError::Stall) => Ok(self.status(pace, "the unit's status")?.state),
            Err(error) => Err(error.into()),
        }
    }

    /// DFU_GETSTATUS, not before the moment that the unit asked for.
    fn status(&mut self, pace: &mut Pace<'_>, what: &str) -> Result<StatusReply, SessionError> {
        pace.wait_until(self.earliest_status, what);
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::GetStatus, 0);
        let bytes = self.device.control_in(setup, 6, REQUEST_TIMEOUT)?;
        StatusReply::parse(&bytes)
            .ok_or_else(|| SessionError::Misbehaved(format!("its status has {} bytes instead of 6", bytes.len())))
    }

    /// A download, and its status until the work is done.
    fn download(&mut self, block: u16, data: &[u8], work: Work, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        self.position = Position::Download(None);
        if let Err(error) = self.request(Request::Download, block, data) {
            return Err(self.reason(error, pace));
        }
        let deadline = pace.now() + work.ceiling() * 2;
        let mut pause = FIRST_PAUSE;
        loop {
            let reply = self.status(pace, work.words())?;
            let named = self.believable(reply.poll, work, pace);
            self.earliest_status = pace.now() + named;
            match reply.state {
                State::DownloadIdle => return Ok(()),
                State::Error => return Err(self.refusal(reply)),
                state if state.is_working() => {
                    if pace.now() > deadline {
                        return Err(SessionError::Silent(format!(
                            "the unit is still at work after {} s",
                            (work.ceiling() * 2).as_secs()
                        )));
                    }
                    if named.is_zero() {
                        self.earliest_status = pace.now() + pause;
                        pause = (pause * 2).min(LONGEST_PAUSE);
                    }
                }
                state => {
                    return Err(SessionError::Misbehaved(format!("after a download its state is {state}")));
                }
            }
        }
    }

    /// The time that a unit names, up to what is believed; the rest is told once.
    fn believable(&mut self, named: Duration, work: Work, pace: &mut Pace<'_>) -> Duration {
        if named <= work.ceiling() {
            return named;
        }
        if !self.told_of_absurd_time {
            self.told_of_absurd_time = true;
            pace.warn(format!(
                "The unit asks to be left alone for {} s; it is asked again after {} s.",
                named.as_secs(),
                work.ceiling().as_secs()
            ));
        }
        work.ceiling()
    }

    /// Why a request was refused. Of a stall the unit is asked for the reason.
    fn reason(&mut self, error: TransferError, pace: &mut Pace<'_>) -> SessionError {
        if error != TransferError::Stall {
            return error.into();
        }
        match self.status(pace, "the unit's reason") {
            Ok(reply) => self.refusal(reply),
            Err(SessionError::Gone) => SessionError::Gone,
            Err(_) => error.into(),
        }
    }

    /// A refusal in the standard's words, and in the unit's own if it has some.
    fn refusal(&mut self, reply: StatusReply) -> SessionError {
        let own = Strings::of(&mut self.device).and_then(|strings| strings.get(&mut self.device, reply.string));
        let reason = match own {
            Ok(Some(own)) => format!("{} (\"{}\")", reply.status, text::tame(&own)),
            _ => reply.status.to_string(),
        };
        SessionError::Refused { reason }
    }

    fn command(&mut self, command: Command, work: Work, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        let bytes = command
            .emit()
            .ok_or_else(|| SessionError::Link("DFU addresses have 32 bits; this one is higher".to_owned()))?;
        self.download_ready(pace)?;
        self.download(0, &bytes, work, pace)
    }

    /// Downloads are not taken in the middle of an upload.
    fn download_ready(&mut self, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        match self.position {
            Position::Upload(..) => self.abort(pace),
            Position::Idle | Position::Download(_) => Ok(()),
        }
    }

    fn abort(&mut self, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        match self.request(Request::Abort, 0, &[]) {
            Ok(()) => {
                self.position = Position::Idle;
                Ok(())
            }
            Err(error) => Err(self.reason(error, pace)),
        }
    }

    fn request(&mut self, request: Request, value: u16, data: &[u8]) -> Result<(), TransferError> {
        let setup = self.setup(Setup::CLASS_INTERFACE_OUT, request, value);
        self.device.control_out(setup, data, REQUEST_TIMEOUT)
    }

    fn setup(&self, kind: u8, request: Request, value: u16) -> Setup {
        Setup { kind, request: request as u8, value, index: u16::from(self.opening.interface) }
    }

    fn is_full(&self, len: usize) -> bool {
        len == usize::from(self.opening.block_size)
    }
}

/// The block behind a full block, if the numbers go that far.
fn following(at: Address, len: usize, block: u16) -> Option<(Address, u16)> {
    at.checked_add(len as u64).zip(block.checked_add(1))
}

impl Session for DfuSession {
    fn limits(&self) -> Limits {
        Limits { block_size: u32::from(self.opening.block_size), can_read: self.opening.can_upload }
    }

    fn sectors(&self) -> Option<&SectorMap> {
        self.opening.sectors.as_ref()
    }

    fn erase(&mut self, sector: Span, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        self.command(Command::Erase(sector.start()), Work::Erase, pace)
    }

    fn write(&mut self, at: Address, data: &[u8], pace: &mut Pace<'_>) -> Result<(), SessionError> {
        let block = match self.position {
            Position::Download(Some((next, block))) if next == at && self.is_full(data.len()) => block,
            _ => {
                self.command(Command::SetAddress(at), Work::Command, pace)?;
                FIRST_DATA_BLOCK
            }
        };
        self.download(block, data, Work::Block, pace)?;
        let next = following(at, data.len(), block).filter(|_| self.is_full(data.len()));
        self.position = Position::Download(next);
        Ok(())
    }

    fn read(&mut self, at: Address, len: u32, pace: &mut Pace<'_>) -> Result<Vec<u8>, SessionError> {
        let length = u16::try_from(len).unwrap_or(u16::MAX).min(self.opening.block_size);
        let full = self.is_full(usize::from(length));
        let block = match self.position {
            Position::Upload(next, block) if next == at && full => block,
            _ => {
                self.command(Command::SetAddress(at), Work::Command, pace)?;
                self.abort(pace)?;
                FIRST_DATA_BLOCK
            }
        };
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::Upload, block);
        let bytes = match self.device.control_in(setup, length, REQUEST_TIMEOUT) {
            Ok(bytes) => bytes,
            Err(error) => return Err(self.reason(error, pace)),
        };
        // A reply shorter than a block ends the upload.
        self.position = match following(at, bytes.len(), block) {
            Some((next, number)) if self.is_full(bytes.len()) => Position::Upload(next, number),
            Some(_) => Position::Idle,
            None => {
                self.abort(pace)?;
                Position::Idle
            }
        };
        if bytes.len() != usize::from(length) {
            let found = bytes.len();
            return Err(SessionError::Misbehaved(format!("it gave {found} of {length} bytes at {at}")));
        }
        Ok(bytes)
    }

    fn restart(&mut self, at: Address, pace: &mut Pace<'_>) -> Result<(), SessionError> {
        if self.position != Position::Idle {
            self.abort(pace)?;
        }
        self.command(Command::SetAddress(at), Work::Command, pace)?;
        match self.request(Request::Download, 0, &[]) {
            Ok(()) => {}
            // It went before it answered.
            Err(TransferError::Gone | TransferError::Timeout) => return Ok(()),
            Err(error) => return Err(self.reason(error, pace)),
        }
        let time = match self.status(pace, "the unit to leave update mode") {
            Ok(reply) if reply.state == State::Error => return Err(self.refusal(reply)),
            Ok(reply) => reply.poll.min(Work::Command.ceiling()),
            // The end was accepted; a unit that does not answer any more has gone.
            Err(_) => Duration::ZERO,
        };
        let moment = pace.now() + time + TIME_TO_GO;
        pace.wait_until(moment, "the unit to leave update mode");
        Ok(())
    }

    fn rest(&mut self, pace: &mut Pace<'_>) {
        // Best effort: the next program can do the same from where it is.
        let _ = self.go_idle(pace);
    }

    fn transfers(&self) -> u64 {
        self.count.get()
    }
}
