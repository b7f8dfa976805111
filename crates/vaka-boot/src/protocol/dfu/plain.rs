//! Plain DFU: blocks in order from 0; the unit decides their addresses.
//!
//! Source: DFU 1.1, sections 6 and 7. Every block but the last has exactly
//! wTransferSize bytes: units reckon with that. A download of no bytes ends the
//! image; what comes then (the manifestation) begins with the DFU_GETSTATUS
//! after it. A unit that is not manifestation tolerant answers nothing from
//! then on. Silence before that DFU_GETSTATUS was answered proves nothing.

use vaka_core::dfu::{Request, State};
use vaka_image::address::Address;
use vaka_usb::{TransferError, UsbDevice};

use super::port::{Backoff, DfuOperation, DfuParams, DfuPort, TIME_TO_GO};
use crate::context::Context;
use crate::protocol::session::{Capabilities, FinishOutcome, Protection, Session};
use crate::protocol::session_error::SessionError;

/// The transfer in progress. Addresses belong to the caller; the unit knows only the order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum TransferState {
    Idle,
    /// The next block to write, and its number. No address: a short block was
    /// the last one.
    Download(Option<Address>, u16),
    /// The next block to read, and its number; no address: the upload ended.
    Upload(Option<Address>, u16),
    /// The download is ended, and the unit leaves by itself.
    Leaving,
}

/// A unit in DFU mode that decides the addresses of blocks.
pub struct PlainSession {
    port: DfuPort,
    position: TransferState,
}

impl PlainSession {
    /// Claims the interface and brings the unit to dfuIDLE.
    ///
    /// # Errors
    /// The unit cannot be brought to dfuIDLE; nothing was changed.
    pub fn open(device: Box<dyn UsbDevice>, params: DfuParams, cx: &mut Context<'_>) -> Result<Self, SessionError> {
        Ok(Self { port: DfuPort::open(device, params, cx)?, position: TransferState::Idle })
    }

    /// The status until the manifestation is over, for a unit that answers
    /// after it.
    fn manifest(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let mut pauses = Backoff::new(DfuOperation::Manifest, cx);
        loop {
            let reply = self.port.status(cx, DfuOperation::Manifest.words())?;
            match reply.state {
                State::DfuIdle => {
                    self.position = TransferState::Idle;
                    return Ok(());
                }
                State::Error => return Err(self.port.refusal(reply)),
                state if state.is_working() => {
                    self.port.record_poll_timeout(reply, &mut pauses, DfuOperation::Manifest, cx)?
                }
                State::ManifestWaitReset => {
                    self.position = TransferState::Leaving;
                    return Ok(());
                }
                state => {
                    return Err(SessionError::ProtocolViolation(format!(
                        "after the end of the download its state is {state}"
                    )));
                }
            }
        }
    }

    /// Sends the empty download that ends the image. A request without a reply is not accepted:
    /// the state is queried, and the request is repeated if the state is still dfuDNLOAD-IDLE.
    /// Source: DFU 1.1, appendix A.
    fn send_end(&mut self, number: u16, cx: &mut Context<'_>) -> Result<End, SessionError> {
        for _ in 0..END_TRIES {
            match self.port.request(Request::Download, number, &[]) {
                Ok(()) => return Ok(End::Accepted),
                Err(TransferError::Stall) => return Err(self.port.reason(TransferError::Stall, cx)),
                Err(TransferError::Disconnected) => return Ok(End::Lost),
                Err(_) => {}
            }
            match self.port.state_after_loss(cx) {
                Ok(State::DownloadIdle) => {}
                Ok(State::ManifestSync | State::Manifest | State::ManifestWaitReset) => return Ok(End::Accepted),
                Ok(State::Error) => {
                    let reply = self.port.status(cx, "the unit's reason")?;
                    return Err(self.port.refusal(reply));
                }
                Ok(state) => {
                    return Err(SessionError::ProtocolViolation(format!(
                        "at the end of the download its state is {state}"
                    )));
                }
                Err(_) => return Ok(End::Lost),
            }
        }
        Err(SessionError::Timeout(format!("the unit did not accept the end of the download in {END_TRIES} attempts")))
    }

    /// Sends the DFU_GETSTATUS that starts manifestation in a unit that does not reply
    /// afterwards. Without a reply, the state shows whether manifestation started.
    fn start_manifestation(&mut self, cx: &mut Context<'_>) -> Result<End, SessionError> {
        self.position = TransferState::Leaving;
        let what = DfuOperation::Manifest.words();
        for _ in 0..END_TRIES {
            match self.port.status(cx, what) {
                Ok(reply) if reply.state == State::Error => return Err(self.port.refusal(reply)),
                Ok(reply) if reply.state == State::ManifestSync => {}
                Ok(reply) if reply.state == State::DownloadIdle => {
                    return Err(SessionError::ProtocolViolation(
                        "it accepted the end of the download, but waits for more data".into(),
                    ));
                }
                Ok(reply) => {
                    let time = self.port.clamp_poll_timeout(reply.poll, DfuOperation::Manifest, cx);
                    cx.wait_until(cx.now() + time, what);
                    return Ok(End::Accepted);
                }
                Err(SessionError::Timeout(_)) => match self.port.state_after_loss(cx) {
                    Ok(State::ManifestSync) => {}
                    Ok(State::Manifest | State::ManifestWaitReset) => return Ok(End::Accepted),
                    _ => return Ok(End::Lost),
                },
                Err(_) => return Ok(End::Lost),
            }
        }
        Ok(End::Lost)
    }
}

/// How often the requests that end a download are sent while the unit reports that it has not
/// accepted them. Chosen by us.
const END_TRIES: u32 = 3;

/// Whether the unit accepted the end of a download.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum End {
    Accepted,
    /// The unit disconnected or does not reply: unknown.
    Lost,
}

/// Block numbers wrap from 65535 to 0. Source: DFU 1.1, section 6.1.1.
fn after(number: u16) -> u16 {
    number.wrapping_add(1)
}

impl Session for PlainSession {
    fn limits(&self) -> Capabilities {
        let params = &self.port.params;
        Capabilities::blocks(u32::from(params.block_size), params.attributes.can_upload())
    }

    fn protection(&mut self, _: Address, _: &mut Context<'_>) -> Result<Protection, SessionError> {
        // Plain DFU has no request for this, and a rejected upload may be by design.
        Ok(Protection::Unknown)
    }

    fn write(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let number = match self.position {
            TransferState::Download(next, number) if next == Some(at) => number,
            TransferState::Idle => 0,
            _ => return Err(SessionError::ProtocolViolation("plain DFU requires contiguous blocks".into())),
        };
        self.port.download(number, data, DfuOperation::Block, cx).map_err(|(_, error)| error)?;
        let next = at.checked_add(data.len() as u64).filter(|_| self.port.is_full(data.len()));
        self.position = TransferState::Download(next, after(number));
        Ok(())
    }

    fn finish(&mut self, cx: &mut Context<'_>) -> Result<FinishOutcome, SessionError> {
        let TransferState::Download(_, number) = self.position else {
            return Err(SessionError::ProtocolViolation("the unit is not in a download".into()));
        };
        let tolerant = self.port.params.attributes.manifestation_tolerant();
        let mut end = self.send_end(number, cx)?;
        if end == End::Accepted {
            match tolerant {
                true => self.manifest(cx)?,
                false => end = self.start_manifestation(cx)?,
            }
        }
        if end == End::Lost {
            self.position = TransferState::Leaving;
            return Ok(FinishOutcome::LostDuringFinish);
        }
        Ok(if self.position == TransferState::Leaving { FinishOutcome::Detached } else { FinishOutcome::Responsive })
    }

    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let number = match self.position {
            TransferState::Upload(next, number) if next == Some(at) => number,
            TransferState::Idle => 0,
            _ => return Err(SessionError::ProtocolViolation("a plain DFU upload must start at its beginning".into())),
        };
        // Always request a whole block: a reply shorter than the request ends the upload.
        let mut bytes = self.port.upload(number, self.port.params.block_size, cx)?;
        let next = at.checked_add(bytes.len() as u64).filter(|_| self.port.is_full(bytes.len()));
        self.position = if next.is_some() { TransferState::Upload(next, after(number)) } else { TransferState::Idle };
        let len = len as usize;
        if bytes.len() < len {
            let found = bytes.len();
            self.position = TransferState::Upload(None, 0);
            return Err(SessionError::ProtocolViolation(format!(
                "its upload ends {found} bytes after {at}; {len} were requested"
            )));
        }
        bytes.truncate(len);
        Ok(bytes)
    }

    fn restart(&mut self, _: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let by_itself = self.position == TransferState::Leaving && self.port.params.attributes.will_detach();
        if by_itself && self.port.device.wait_for_disconnect(TIME_TO_GO) {
            return Ok(());
        }
        if matches!(self.position, TransferState::Upload(..)) {
            // An open upload would be aborted by the reset, and some devices then reject the
            // firmware.
            let _ = self.port.abort(cx);
        }
        match self.port.device.reset() {
            Ok(()) | Err(TransferError::Disconnected) => {}
            // Disconnecting during the reset makes the system report other errors.
            Err(_) if self.port.device.wait_for_disconnect(TIME_TO_GO) => {}
            Err(error) => return Err(error.into()),
        }
        self.port.device.wait_for_disconnect(TIME_TO_GO);
        Ok(())
    }

    fn rest(&mut self, cx: &mut Context<'_>) {
        if self.position != TransferState::Leaving {
            let _ = self.port.go_idle(cx);
            self.position = TransferState::Idle;
        }
    }

    fn transfers(&self) -> u64 {
        self.port.transfers()
    }
}
