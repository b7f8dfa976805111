//! The commands that a small disk needs.
//!
//! Source: SCSI Primary Commands (SPC) and Block Commands (SBC); each constant
//! names its command. Numbers inside commands and replies are big-endian.

use std::time::Duration;

use vaka_base::text;
use vaka_core::volume::fat::SECTOR;
use vaka_usb::TransferError;

use crate::context::Context;
use crate::protocol::bulk_only::{BotError, BulkOnly, Data};
use crate::protocol::sense::Sense;
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

/// Maximum number of sectors in one command: some units fail above it. Chosen by us.
pub(super) const MOST_SECTORS: u32 = 64;

/// Timeout of commands with little data. Chosen by us.
const SHORT: Duration = Duration::from_secs(5);
/// Timeout of reading and writing: units erase flash during a write. Chosen by us, like common
/// hosts.
const LONG: Duration = Duration::from_secs(30);
/// Timeout of SYNCHRONIZE CACHE, like common hosts.
const FLUSH: Duration = Duration::from_secs(60);
/// Maximum time for a unit to become ready. Chosen by us.
const PATIENCE: Duration = Duration::from_secs(30);
/// Maximum time without a medium for a unit that was just attached. Chosen by us.
const TIME_FOR_MEDIUM: Duration = Duration::from_secs(3);
/// Interval for polling a unit that becomes ready. Chosen by us.
const ASK_AGAIN: Duration = Duration::from_millis(200);
/// How often a command is repeated after unit attentions, which may come several times, and after
/// the exchange broke off.
const ATTENTIONS: u32 = 10;
const REPEATS: u32 = 3;

/// One SCSI command.
#[derive(Clone, Copy)]
struct Command<'d> {
    /// The command block.
    block: &'d [u8],
    data: Data<'d>,
    timeout: Duration,
    /// Whether it may be repeated after the exchange broke off.
    may_repeat: bool,
}

/// A logical unit without a disk.
pub(super) struct NoDisk {
    /// The transport, for the next logical unit.
    pub(super) transport: BulkOnly,
    /// The reason that the unit reported.
    pub(super) reason: Option<SessionError>,
}

/// A disk behind a transport.
pub(super) struct Scsi {
    transport: BulkOnly,
    lun: u8,
    /// Sectors on the disk.
    pub(super) count: u64,
    /// Whether it is write-protected.
    pub(super) is_protected: bool,
    /// Whether the medium changed since the last check.
    pub(super) has_changed: bool,
}

impl Scsi {
    /// Waits until the disk is ready, and reads its size. If the logical unit is not a disk, the
    /// transport is returned for the next one, with the unit's reason if it reported one.
    ///
    /// # Errors
    /// The unit cannot be used.
    pub(super) fn open(
        transport: BulkOnly,
        lun: u8,
        cx: &mut Context<'_>,
    ) -> Result<Result<Self, NoDisk>, SessionError> {
        let mut scsi = Self { transport, lun, count: 0, is_protected: false, has_changed: false };
        match scsi.begin(cx) {
            Ok(true) => Ok(Ok(scsi)),
            Ok(false) => Ok(Err(NoDisk { transport: scsi.transport, reason: None })),
            Err(reason @ SessionError::NeedsAction { .. }) => {
                Ok(Err(NoDisk { transport: scsi.transport, reason: Some(reason) }))
            }
            Err(error) => Err(error),
        }
    }

    /// Whether the logical unit is a disk, which is then ready.
    fn begin(&mut self, cx: &mut Context<'_>) -> Result<bool, SessionError> {
        let inquiry = self.run(&[0x12, 0, 0, 0, 36, 0], Data::In(36), SHORT, cx)?;
        // A peripheral of another type, or none: source: SPC, INQUIRY, byte 0.
        if inquiry.first().is_none_or(|kind| *kind != 0) {
            return Ok(false);
        }
        self.wait_for_medium(cx)?;
        let capacity = self.run(&[0x25, 0, 0, 0, 0, 0, 0, 0, 0, 0], Data::In(8), SHORT, cx)?;
        let Some((last, size)) = capacity.first_chunk::<8>().map(|bytes| {
            let word = |at: usize| u32::from_be_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
            (word(0), word(4))
        }) else {
            return Err(SessionError::ProtocolViolation("it does not report the size of its disk".into()));
        };
        if size as usize != SECTOR || last == u32::MAX {
            return Err(SessionError::ProtocolViolation(format!(
                "its disk has sectors of {size} bytes; only 512 is supported"
            )));
        }
        self.count = u64::from(last) + 1;
        self.is_protected = self.asks_protected(cx)?;
        self.has_changed = false;
        Ok(true)
    }

    /// TEST UNIT READY until there is a medium: some units provide it only some time after they
    /// were attached.
    fn wait_for_medium(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let deadline = cx.now() + TIME_FOR_MEDIUM;
        loop {
            match self.run(&[0; 6], Data::None, SHORT, cx) {
                Err(SessionError::NeedsAction { .. }) if cx.now() < deadline => {
                    let until = cx.now() + ASK_AGAIN;
                    cx.wait_until(until, "the unit's disk");
                }
                other => return other.map(drop),
            }
        }
    }

    /// MODE SENSE(6), all pages. A unit that does not support it is assumed writable. Source:
    /// SPC, mode parameter header, device-specific bit 7.
    fn asks_protected(&mut self, cx: &mut Context<'_>) -> Result<bool, SessionError> {
        match self.run(&[0x1A, 0, 0x3F, 0, 192, 0], Data::In(192), SHORT, cx) {
            Ok(bytes) => Ok(bytes.get(2).is_some_and(|byte| byte & 0x80 != 0)),
            Err(error @ (SessionError::Disconnected | SessionError::Busy(_) | SessionError::Transport(_))) => {
                Err(error)
            }
            Err(_) => Ok(false),
        }
    }

    pub(super) fn commands(&self) -> u64 {
        self.transport.commands()
    }

    pub(super) fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.transport.wait_for_disconnect(within)
    }

    /// Returns the transport.
    pub(super) fn into_transport(self) -> BulkOnly {
        self.transport
    }

    /// READ(10); at most [`MOST_SECTORS`].
    pub(super) fn read(&mut self, sector: u64, count: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let block = self.ten(0x28, sector, count)?;
        let wanted = count * 512;
        let bytes = self.run(&block, Data::In(wanted), LONG, cx)?;
        if bytes.len() == wanted as usize {
            return Ok(bytes);
        }
        Err(SessionError::ProtocolViolation(format!("sector {sector} returned {} of {wanted} bytes", bytes.len())))
    }

    /// WRITE(10); at most [`MOST_SECTORS`]. Sent only once if repeating it would do harm.
    pub(super) fn write(
        &mut self,
        sector: u64,
        data: &[u8],
        may_repeat: bool,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let block = self.ten(0x2A, sector, u32::try_from(data.len() / SECTOR).unwrap_or(u32::MAX))?;
        self.run_command(Command { block: &block, data: Data::Out(data), timeout: LONG, may_repeat }, cx).map(drop)
    }

    fn ten(&self, opcode: u8, sector: u64, count: u32) -> Result<[u8; 10], SessionError> {
        let inside = sector.checked_add(u64::from(count)).is_some_and(|end| end <= self.count);
        match (u32::try_from(sector), u16::try_from(count)) {
            (Ok(sector), Ok(count)) if inside => {
                let ([s0, s1, s2, s3], [c0, c1]) = (sector.to_be_bytes(), count.to_be_bytes());
                Ok([opcode, 0, s0, s1, s2, s3, 0, c0, c1, 0])
            }
            _ => Err(SessionError::ProtocolViolation(format!(
                "its file system refers to sector {sector}, beyond the end of the disk"
            ))),
        }
    }

    /// Whether the unit accepted all data of the last command, even if its status is missing.
    pub(super) fn has_taken_data(&self) -> bool {
        self.transport.has_taken_data()
    }

    /// Resets the device. The next command shows the result.
    pub(super) fn reset(&mut self) {
        self.transport.reset();
    }

    /// SYNCHRONIZE CACHE(10), complete. A unit that does not support it has no cache.
    pub(super) fn flush(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        match self.run(&[0x35, 0, 0, 0, 0, 0, 0, 0, 0, 0], Data::None, FLUSH, cx) {
            Err(SessionError::NeedsAction { .. }) => Ok(()),
            other => other.map(drop),
        }
    }

    /// Ends a PREVENT of another program, then sends START STOP UNIT with the eject bit.
    /// Disconnecting is expected.
    pub(super) fn eject(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let allowed = self.run(&[0x1E, 0, 0, 0, 0, 0], Data::None, SHORT, cx);
        if allowed == Err(SessionError::Disconnected) {
            return Ok(());
        }
        match self.run(&[0x1B, 0, 0, 0, 0x02, 0], Data::None, LONG, cx) {
            Err(SessionError::Disconnected) => Ok(()),
            other => other.map(drop),
        }
    }

    /// Runs a command that may be repeated.
    fn run(
        &mut self,
        block: &[u8],
        data: Data<'_>,
        timeout: Duration,
        cx: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        self.run_command(Command { block, data, timeout, may_repeat: true }, cx)
    }

    /// Runs a command with retries: after attentions, while the unit becomes ready, and after the
    /// exchange broke off.
    fn run_command(&mut self, command: Command<'_>, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let Command { block, data, timeout, may_repeat } = command;
        let deadline = cx.now() + PATIENCE;
        let (mut attentions, mut repeats) = (0, 0);
        let mut first: Option<SessionError> = None;
        loop {
            let sense = match self.transport.command(self.lun, block, data, timeout) {
                Ok(bytes) => return Ok(bytes),
                Err(BotError::Failed) => self.transport.sense(self.lun),
                Err(error) => Err(error),
            };
            let sense = match sense {
                Ok(sense) => sense,
                Err(BotError::Over(error)) => return Err(over(error).after(first, cx)),
                Err(BotError::Failed) => Sense::NONE,
                Err(BotError::Broken(error)) => {
                    repeats += 1;
                    let error = *error;
                    if may_repeat && repeats <= REPEATS {
                        first.get_or_insert(error);
                        continue;
                    }
                    return Err(error.after(first, cx));
                }
            };
            match sense {
                Sense(6, asc, _) if attentions < ATTENTIONS => {
                    self.has_changed |= asc == 0x28;
                    attentions += 1;
                }
                Sense(2, 0x04, 0 | 1 | 4) if cx.now() < deadline => {
                    let until = cx.now() + ASK_AGAIN;
                    cx.wait_until(until, "the unit's disk to become ready");
                }
                Sense(3, ..) if may_repeat && repeats == 0 => repeats += 1,
                sense => return Err(rejected(sense).after(first, cx)),
            }
        }
    }
}

fn over(error: TransferError) -> SessionError {
    match error {
        TransferError::Disconnected => SessionError::Disconnected,
        TransferError::Busy(by) => SessionError::Busy(by),
        other => SessionError::Transport(text::sanitize(&other.to_string())),
    }
}

fn rejected(sense: Sense) -> SessionError {
    let remedy = match sense {
        Sense(7, ..) => Remedy::LiftWriteProtection,
        Sense(2, 0x3A, _) => Remedy::ReplugAndReenter,
        _ => Remedy::ReenterOrFaulty,
    };
    SessionError::NeedsAction { reason: sense.to_string(), remedy: Box::new(remedy) }
}
