//! DFU with memory addresses.
//!
//! Source: the published address extension of DFU 1.1 (bcdDFUVersion 0x011A).
//! Blocks go to `pointer + (number - 2) * wTransferSize`. Units differ in what
//! they make of a short block, so a short one always stands alone behind an
//! address command of its own, where all readings agree. Reading needs dfuIDLE:
//! the address is set, then an abort leads there.

use vaka_core::dfu::{Command, FIRST_DATA_BLOCK, Request, State, Status};
use vaka_core::memory::SectorMap;
use vaka_image::address::{Address, Span};
use vaka_usb::{TransferError, UsbDevice};

use super::port::{DfuOperation, DfuParams, DfuPort, Refusal, TIME_TO_GO};
use crate::context::Context;
use crate::protocol::session::{Capabilities, FinishOutcome, Protection, Session};
use crate::protocol::session_error::SessionError;
use crate::warning::Warning;

/// The smallest part into which a block is split for a unit that accepts less than it states.
/// Source: USB 2.0, section 5.5.3 (the smallest packet).
const SMALLEST_PIECE: u16 = 8;

/// How often the requests to leave DFU mode are sent while the unit reports that it has not
/// accepted them. Chosen by us.
const LEAVE_TRIES: u32 = 3;

/// The transfer in progress.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum TransferState {
    Idle,
    /// After a command or block; `Some` has the address and number of the next block.
    Download(Option<(Address, u16)>),
    /// After a full block was read; address and number of the next block.
    Upload(Address, u16),
}

/// A unit in DFU mode that is written by memory addresses.
pub struct AddressedSession {
    port: DfuPort,
    position: TransferState,
    /// Bytes per request: the block size, or less once the unit has shown that it accepts less
    /// than it states.
    piece: u16,
}

impl AddressedSession {
    /// Claims the interface and brings the unit to dfuIDLE.
    ///
    /// # Errors
    /// The unit cannot be brought to dfuIDLE; nothing was changed.
    pub fn open(device: Box<dyn UsbDevice>, params: DfuParams, cx: &mut Context<'_>) -> Result<Self, SessionError> {
        let piece = params.block_size;
        Ok(Self { port: DfuPort::open(device, params, cx)?, position: TransferState::Idle, piece })
    }

    fn command(&mut self, command: Command, work: DfuOperation, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let bytes = command
            .emit()
            .ok_or_else(|| SessionError::Transport("the address exceeds the 32 bits of DFU".to_owned()))?;
        // Downloads are rejected during an upload.
        if let TransferState::Upload(..) = self.position {
            self.abort(cx)?;
        }
        self.position = TransferState::Download(None);
        self.port.download(0, &bytes, work, cx).map_err(|(_, error)| error)
    }

    fn abort(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.port.abort(cx)?;
        self.position = TransferState::Idle;
        Ok(())
    }

    /// Whether a request of this length can be part of a numbered sequence.
    fn is_full(&self, len: usize) -> bool {
        self.port.params.size_is_known && self.port.is_full(len)
    }

    /// Writes at most one part in one request.
    fn write_piece(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), (Refusal, SessionError)> {
        let block = match self.position {
            TransferState::Download(Some((next, block))) if next == at && self.is_full(data.len()) => block,
            _ => {
                let set = self.command(Command::SetAddress(at), DfuOperation::Command, cx);
                set.map_err(|error| (Refusal::DfuOperation, error))?;
                FIRST_DATA_BLOCK
            }
        };
        self.position = TransferState::Download(None);
        self.port.download(block, data, DfuOperation::Block, cx)?;
        let next = following(at, data.len(), block).filter(|_| self.is_full(data.len()));
        self.position = TransferState::Download(next);
        Ok(())
    }

    /// After a stalled block, halves the size of parts if that may help. Writing the same bytes
    /// to the same address again changes nothing.
    fn shrink(&mut self, len: usize, error: SessionError, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let half = self.piece / 2;
        if len <= usize::from(half) || half < SMALLEST_PIECE {
            return Err(error);
        }
        self.port.go_idle(cx)?;
        self.position = TransferState::Idle;
        if self.piece == self.port.params.block_size {
            cx.warn(Warning::BlockRefused { size: u32::from(self.piece) });
        }
        self.piece = half;
        Ok(())
    }

    /// Sends the DFU_GETSTATUS that makes the unit leave; repeats it if it did not reach the
    /// unit. The bus shows whether the unit left.
    fn start_leaving(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        for _ in 0..LEAVE_TRIES {
            match self.port.status(cx, "the unit to leave update mode") {
                Ok(reply) if reply.state == State::Error => return Err(self.port.refusal(reply)),
                Ok(reply) => {
                    self.port.device.wait_for_disconnect(reply.poll.min(DfuOperation::Command.ceiling()) + TIME_TO_GO);
                    return Ok(());
                }
                Err(SessionError::Timeout(_)) => match self.port.state_after_loss(cx) {
                    Ok(State::ManifestSync) => {}
                    _ => return Ok(()),
                },
                Err(_) => return Ok(()),
            }
        }
        Ok(())
    }

    fn read_piece(&mut self, at: Address, length: u16, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let full = self.is_full(usize::from(length));
        let block = match self.position {
            TransferState::Upload(next, block) if next == at && full => block,
            _ => {
                self.command(Command::SetAddress(at), DfuOperation::Command, cx)?;
                self.abort(cx)?;
                FIRST_DATA_BLOCK
            }
        };
        let bytes = self.port.upload(block, length, cx)?;
        // A reply shorter than a block ends the upload; some units count the requested length as
        // the block, so an abort is sent to be sure.
        self.position = match following(at, bytes.len(), block) {
            Some((next, number)) if self.is_full(bytes.len()) => TransferState::Upload(next, number),
            _ => {
                self.abort(cx)?;
                TransferState::Idle
            }
        };
        if bytes.len() != usize::from(length) {
            let found = bytes.len();
            return Err(SessionError::ProtocolViolation(format!("it returned {found} of {length} bytes at {at}")));
        }
        Ok(bytes)
    }
}

/// The block after a full block, if block numbers suffice.
fn following(at: Address, len: usize, block: u16) -> Option<(Address, u16)> {
    at.checked_add(len as u64).zip(block.checked_add(1))
}

impl Session for AddressedSession {
    fn limits(&self) -> Capabilities {
        let params = &self.port.params;
        Capabilities::blocks(u32::from(params.block_size), params.attributes.can_upload())
    }

    fn sectors(&self) -> Option<&SectorMap> {
        self.port.params.sectors.as_ref()
    }

    fn protection(&mut self, at: Address, cx: &mut Context<'_>) -> Result<Protection, SessionError> {
        if !self.limits().can_read {
            return Ok(Protection::Unknown);
        }
        let mut last = String::new();
        // A refusal with no reason may be transient; retry once.
        for _ in 0..2 {
            match self.read(at, 4, cx) {
                Ok(_) => return Ok(Protection::Unprotected),
                Err(SessionError::DfuStatus { reason, status }) => {
                    self.port.go_idle(cx)?;
                    self.position = TransferState::Idle;
                    if status == Status::Vendor {
                        return Ok(Protection::Protected(reason));
                    }
                    last = reason;
                }
                Err(SessionError::ProtocolViolation(reason)) => last = reason,
                Err(error) => return Err(error),
            }
        }
        Ok(Protection::Unreadable(last))
    }

    fn unprotect(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        match self.command(Command::Unprotect, DfuOperation::EraseAll, cx) {
            // Disconnecting during the reply is expected here.
            Ok(()) | Err(SessionError::Disconnected | SessionError::Timeout(_) | SessionError::Transport(_)) => Ok(()),
            Err(error) => Err(error),
        }
    }

    fn erase(&mut self, sector: Span, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.command(Command::Erase(sector.start()), DfuOperation::Erase, cx)
    }

    fn erase_all(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.command(Command::EraseAll, DfuOperation::EraseAll, cx)
    }

    fn write(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let mut done = 0;
        while done < data.len() {
            let len = usize::from(self.piece).min(data.len() - done);
            let here = at.checked_add(done as u64).ok_or(SessionError::ProtocolViolation("addresses end".into()))?;
            match self.write_piece(here, &data[done..done + len], cx) {
                Ok(()) => done += len,
                Err((Refusal::Request, error)) => self.shrink(len, error, cx)?,
                Err((Refusal::DfuOperation, error)) => return Err(error),
            }
        }
        Ok(())
    }

    fn finish(&mut self, _: &mut Context<'_>) -> Result<FinishOutcome, SessionError> {
        Ok(FinishOutcome::Responsive)
    }

    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let mut bytes = Vec::new();
        while bytes.len() < len as usize {
            let left = len as usize - bytes.len();
            let length = u16::try_from(left).unwrap_or(u16::MAX).min(self.piece);
            let here =
                at.checked_add(bytes.len() as u64).ok_or(SessionError::ProtocolViolation("addresses end".into()))?;
            bytes.extend(self.read_piece(here, length, cx)?);
        }
        Ok(bytes)
    }

    fn restart(&mut self, at: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError> {
        if self.position != TransferState::Idle {
            self.abort(cx)?;
        }
        if let Some(at) = at {
            self.command(Command::SetAddress(at), DfuOperation::Command, cx)?;
        }
        for _ in 0..LEAVE_TRIES {
            match self.port.request(Request::Download, 0, &[]) {
                Ok(()) => {}
                // The unit disconnected before it replied.
                Err(TransferError::Disconnected) => return Ok(()),
                Err(TransferError::Stall) => return Err(self.port.reason(TransferError::Stall, cx)),
                Err(_) => match self.port.state_after_loss(cx) {
                    Ok(State::DfuIdle | State::DownloadIdle) => continue,
                    Ok(State::Error) => {
                        let reply = self.port.status(cx, "the unit's reason")?;
                        return Err(self.port.refusal(reply));
                    }
                    Ok(_) => {}
                    // The unit does not reply; the bus shows whether it left.
                    Err(_) => return Ok(()),
                },
            }
            return self.start_leaving(cx);
        }
        Err(SessionError::Timeout(format!("the unit did not accept the request to leave in {LEAVE_TRIES} attempts")))
    }

    fn rest(&mut self, cx: &mut Context<'_>) {
        // Best effort: the next program can start from any state.
        let _ = self.port.go_idle(cx);
        self.position = TransferState::Idle;
    }

    fn transfers(&self) -> u64 {
        self.port.transfers()
    }
}
