//! The common part of both kinds of DFU: class requests, states and timing.

use std::time::Duration;

use vaka_base::text;
use vaka_core::dfu::{Attributes, Request, State, Status, StatusReply, ToIdle, next_step_to_idle};
use vaka_core::memory::SectorMap;
use vaka_usb::counting::{CountingDevice, TransferCount};
use vaka_usb::strings::{Patience, StringReader};
use vaka_usb::{Setup, SystemClock, TransferError, UsbDevice};

use crate::context::Context;
use crate::protocol::session_error::SessionError;
use crate::warning::Warning;

/// Timeout of a request in addition to the time that the unit requested. Chosen by us: busy units
/// reply late without announcing it.
pub(super) const REQUEST_TIMEOUT: Duration = Duration::from_secs(5);

/// First pause before polling a busy unit that stated no time; doubles up to [`LONGEST_PAUSE`].
/// Chosen by us.
const FIRST_PAUSE: Duration = Duration::from_millis(2);
const LONGEST_PAUSE: Duration = Duration::from_millis(100);

/// Time for the unit to leave before the connection is closed, which over USB/IP resets its port.
/// Chosen by us.
pub(super) const TIME_TO_GO: Duration = Duration::from_millis(500);

/// Pause before the second request to a unit that did not reply. Chosen by us.
const SECOND_TRY: Duration = Duration::from_secs(1);

/// Attempts to reach dfuIDLE: the longest valid path takes four, and a unit that keeps its error
/// gets three of them.
const STEPS_TO_IDLE: usize = 10;

/// The operation that a download requests; it determines the time limit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum DfuOperation {
    Command,
    Block,
    Erase,
    EraseAll,
    Manifest,
}

impl DfuOperation {
    /// Upper bound on the poll timeout we accept. Chosen by us, some ten times the data sheet
    /// values of slow parts.
    pub(super) fn ceiling(self) -> Duration {
        match self {
            Self::Command | Self::Block => Duration::from_secs(5),
            Self::Erase | Self::Manifest => Duration::from_secs(30),
            Self::EraseAll => Duration::from_secs(300),
        }
    }

    pub(super) fn words(self) -> &'static str {
        match self {
            Self::Command => "the unit to accept a command",
            Self::Block => "the unit to program a block",
            Self::Erase => "the unit to erase a sector",
            Self::EraseAll => "the unit to erase all of its memory",
            Self::Manifest => "the unit to check and activate the image",
        }
    }
}

/// The parameters of a session on an interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DfuParams {
    /// bInterfaceNumber.
    pub interface: u8,
    /// bAlternateSetting.
    pub alternate: u8,
    /// Bytes in a block: wTransferSize, or a substitute.
    pub block_size: u16,
    /// Whether that is the unit's own wTransferSize. If not, the address of a block with a higher
    /// number is unknown.
    pub size_is_known: bool,
    /// bmAttributes.
    pub attributes: Attributes,
    /// Whether the unit is written by memory addresses.
    pub addressed: bool,
    /// The sectors that it reports.
    pub sectors: Option<SectorMap>,
}

/// An interface in DFU mode.
pub(crate) struct DfuPort {
    pub(crate) device: CountingDevice,
    count: TransferCount,
    pub(crate) params: DfuParams,
    /// No DFU_GETSTATUS before this moment.
    earliest_status: Duration,
    told_of_absurd_time: bool,
}

/// Why a download was rejected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Refusal {
    /// The request itself was stalled: the unit processed nothing.
    Request,
    /// The work failed, or could not be asked for.
    DfuOperation,
}

/// Reads the status of an interface in DFU mode once. This changes nothing in a unit that has
/// just started: it is idle or in dfuERROR.
///
/// # Errors
/// The unit does not answer.
pub fn read_status(
    device: Box<dyn UsbDevice>,
    params: &DfuParams,
    cx: &mut Context<'_>,
) -> Result<StatusReply, SessionError> {
    let (device, count) = CountingDevice::new(device);
    let params = params.clone();
    let mut port = DfuPort { device, count, params, earliest_status: Duration::ZERO, told_of_absurd_time: false };
    port.device.claim(port.params.interface, port.params.alternate)?;
    port.status(cx, "the unit's status")
}

impl DfuPort {
    /// Claims the interface and brings the unit to dfuIDLE from any state that an earlier program
    /// left.
    pub(crate) fn open(
        device: Box<dyn UsbDevice>,
        params: DfuParams,
        cx: &mut Context<'_>,
    ) -> Result<Self, SessionError> {
        let (device, count) = CountingDevice::new(device);
        let mut port = Self { device, count, params, earliest_status: Duration::ZERO, told_of_absurd_time: false };
        port.device.claim(port.params.interface, port.params.alternate)?;
        match port.go_idle(cx) {
            Err(SessionError::WaitsForReset) => {
                // Last resort; the caller checks the outcome.
                let reset = port.device.reset();
                // Disconnecting during the reset makes the system report various errors.
                if !port.device.wait_for_disconnect(TIME_TO_GO) {
                    reset?;
                }
                Err(SessionError::WaitsForReset)
            }
            done => done.map(|()| port),
        }
    }

    /// The six bytes of the DFU_GETSTATUS reply.
    pub(crate) fn raw_status(&mut self, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        cx.wait_until(self.earliest_status, "the unit's status");
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::GetStatus, 0);
        Ok(self.device.control_in(setup, 6, REQUEST_TIMEOUT)?)
    }

    pub(super) fn transfers(&self) -> u64 {
        self.count.get()
    }

    /// Step by step to dfuIDLE.
    pub(crate) fn go_idle(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let mut state = self.state(cx)?;
        for _ in 0..STEPS_TO_IDLE {
            state = match next_step_to_idle(state) {
                ToIdle::Done => return Ok(()),
                ToIdle::Abort => match self.request(Request::Abort, 0, &[]) {
                    Ok(()) => self.state(cx)?,
                    Err(TransferError::Stall) => self.status(cx, "the unit's status")?.state,
                    Err(error) => return Err(error.into()),
                },
                ToIdle::ClearStatus => {
                    self.status(cx, "the unit's status")?;
                    self.request(Request::ClearStatus, 0, &[])?;
                    self.status(cx, "the unit's status")?.state
                }
                ToIdle::WaitAndAsk => {
                    let soon = cx.now() + Duration::from_secs(1);
                    cx.wait_until(soon, "the unit to finish the operation of an earlier program");
                    self.status(cx, "the unit's status")?.state
                }
                ToIdle::InApplication => {
                    return Err(SessionError::ProtocolViolation(format!("it says that {}", state.meaning())));
                }
                ToIdle::Reset => return Err(SessionError::WaitsForReset),
                ToIdle::Unknown(value) => {
                    return Err(SessionError::ProtocolViolation(format!(
                        "it is in state {value}; {}",
                        state.meaning()
                    )));
                }
            };
        }
        Err(SessionError::ProtocolViolation(format!(
            "it does not reach dfuIDLE; it stays in {state}: {}",
            state.meaning()
        )))
    }

    /// The state by DFU_GETSTATE, which changes nothing, or by DFU_GETSTATUS if the unit rejects
    /// that. A unit that does not reply is queried once more, and then assumed to wait for a
    /// reset, in which state it never replies.
    pub(super) fn state(&mut self, cx: &mut Context<'_>) -> Result<State, SessionError> {
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::GetState, 0);
        let mut answer = self.device.control_in(setup, 1, REQUEST_TIMEOUT);
        if answer == Err(TransferError::Timeout) {
            cx.wait_until(cx.now() + SECOND_TRY, "the unit to reply");
            answer = self.device.control_in(setup, 1, REQUEST_TIMEOUT);
        }
        match answer {
            Err(TransferError::Timeout) => Ok(State::ManifestWaitReset),
            answer => self.state_of(answer, cx),
        }
    }

    /// The state after a request without a reply. Unlike [`state`](Self::state) it draws no
    /// conclusion from silence.
    ///
    /// # Errors
    /// The unit does not answer this either; whether it took the request is unknown.
    pub(super) fn state_after_loss(&mut self, cx: &mut Context<'_>) -> Result<State, SessionError> {
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::GetState, 0);
        let answer = self.device.control_in(setup, 1, REQUEST_TIMEOUT);
        self.state_of(answer, cx)
    }

    /// The state in the reply to DFU_GETSTATE, or by DFU_GETSTATUS if the reply has none.
    fn state_of(
        &mut self,
        answer: Result<Vec<u8>, TransferError>,
        cx: &mut Context<'_>,
    ) -> Result<State, SessionError> {
        match answer {
            Ok(bytes) if bytes.len() == 1 => Ok(State::from_wire(bytes[0])),
            Ok(_) | Err(TransferError::Stall) => Ok(self.status(cx, "the unit's status")?.state),
            Err(error) => Err(error.into()),
        }
    }

    /// DFU_GETSTATUS, not before the moment that the unit requested. The time in the reply delays
    /// the next request in any state. Source: DFU 1.1, section 6.1.2 (bwPollTimeout).
    pub(super) fn status(&mut self, cx: &mut Context<'_>, what: &str) -> Result<StatusReply, SessionError> {
        cx.wait_until(self.earliest_status, what);
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::GetStatus, 0);
        let bytes = self.device.control_in(setup, 6, REQUEST_TIMEOUT)?;
        let reply = StatusReply::parse(&bytes).ok_or_else(|| {
            SessionError::ProtocolViolation(format!("its status has {} bytes instead of 6", bytes.len()))
        })?;
        self.earliest_status = cx.now() + reply.poll.min(DfuOperation::Command.ceiling());
        Ok(reply)
    }

    /// A download, and its status until the work is done.
    pub(crate) fn download(
        &mut self,
        block: u16,
        data: &[u8],
        work: DfuOperation,
        cx: &mut Context<'_>,
    ) -> Result<(), (Refusal, SessionError)> {
        if let Err(error) = self.request(Request::Download, block, data) {
            let refusal = if error == TransferError::Stall { Refusal::Request } else { Refusal::DfuOperation };
            return Err((refusal, self.reason(error, cx)));
        }
        self.finished(work, cx).map_err(|error| (Refusal::DfuOperation, error))
    }

    /// Asks for the status until the work of a download is done.
    fn finished(&mut self, work: DfuOperation, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let mut pauses = Backoff::new(work, cx);
        loop {
            let reply = self.status(cx, work.words())?;
            match reply.state {
                State::DownloadIdle => {
                    self.earliest_status = cx.now() + self.clamp_poll_timeout(reply.poll, work, cx);
                    return Ok(());
                }
                State::Error => return Err(self.refusal(reply)),
                state if state.is_working() => self.record_poll_timeout(reply, &mut pauses, work, cx)?,
                state => {
                    return Err(SessionError::ProtocolViolation(format!(
                        "after a download it is in {state}: {}",
                        state.meaning()
                    )));
                }
            }
        }
    }

    /// Notes how long a unit at work is to be left alone.
    pub(super) fn record_poll_timeout(
        &mut self,
        reply: StatusReply,
        pauses: &mut Backoff,
        work: DfuOperation,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        if cx.now() > pauses.deadline {
            let time = (work.ceiling() * 2).as_secs();
            return Err(SessionError::Timeout(format!("the unit is still busy after {time} s")));
        }
        let named = self.clamp_poll_timeout(reply.poll, work, cx);
        let pause = if named.is_zero() { pauses.next() } else { named };
        self.earliest_status = cx.now() + pause;
        Ok(())
    }

    /// The poll timeout, limited to what we accept; a longer one is reported once.
    pub(super) fn clamp_poll_timeout(&mut self, named: Duration, work: DfuOperation, cx: &mut Context<'_>) -> Duration {
        if named <= work.ceiling() {
            return named;
        }
        if !self.told_of_absurd_time {
            self.told_of_absurd_time = true;
            cx.warn(Warning::LongPollTimeout { asked: named, used: work.ceiling() });
        }
        work.ceiling()
    }

    /// The reason for a rejection; queried from the unit after a stall.
    pub(super) fn reason(&mut self, error: TransferError, cx: &mut Context<'_>) -> SessionError {
        if error != TransferError::Stall {
            return error.into();
        }
        match self.status(cx, "the unit's reason") {
            Ok(reply) => self.refusal(reply),
            Err(SessionError::Disconnected) => SessionError::Disconnected,
            Err(_) => error.into(),
        }
    }

    /// A rejection in the standard's words, plus the unit's own description.
    pub(super) fn refusal(&mut self, reply: StatusReply) -> SessionError {
        let mut patience = Patience::new(&SystemClock);
        let own = StringReader::of(&mut self.device, &mut patience)
            .and_then(|strings| strings.get(&mut self.device, reply.string, &mut patience));
        let status = match reply.status {
            // The request was rejected, but the status gives no reason.
            Status::Ok => format!("no reason given; its state is {}", reply.state),
            Status::Unknown(_) => reply.status.to_string(),
            known => format!("{known}; status 0x{:02X}", known.number()),
        };
        let reason = match own {
            Ok(Some(own)) => format!("{status} (\"{}\")", text::sanitize(&own)),
            _ => status,
        };
        SessionError::DfuStatus { reason, status: reply.status }
    }

    pub(crate) fn abort(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.request(Request::Abort, 0, &[]).map_err(|error| self.reason(error, cx))
    }

    pub(crate) fn upload(&mut self, block: u16, length: u16, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let setup = self.setup(Setup::CLASS_INTERFACE_IN, Request::Upload, block);
        self.device.control_in(setup, length, REQUEST_TIMEOUT).map_err(|error| self.reason(error, cx))
    }

    pub(super) fn request(&mut self, request: Request, value: u16, data: &[u8]) -> Result<(), TransferError> {
        let setup = self.setup(Setup::CLASS_INTERFACE_OUT, request, value);
        self.device.control_out(setup, data, REQUEST_TIMEOUT)
    }

    fn setup(&self, kind: u8, request: Request, value: u16) -> Setup {
        Setup { kind, request: request as u8, value, index: u16::from(self.params.interface) }
    }

    pub(super) fn is_full(&self, len: usize) -> bool {
        len == usize::from(self.params.block_size)
    }
}

/// The deadline for a busy unit, and the pauses if it states none.
pub(super) struct Backoff {
    deadline: Duration,
    pause: Duration,
}

impl Backoff {
    pub(super) fn new(work: DfuOperation, cx: &Context<'_>) -> Self {
        Self { deadline: cx.now() + work.ceiling() * 2, pause: FIRST_PAUSE }
    }

    fn next(&mut self) -> Duration {
        let now = self.pause;
        self.pause = (now * 2).min(LONGEST_PAUSE);
        now
    }
}
