//! Bulk-only transport: one command is a wrapper out, data in one direction or
//! none, a status in.
//!
//! Source: *USB Mass Storage Class, Bulk-Only Transport 1.0*; numbers in brackets
//! are its sections. What other hosts do where the standard leaves a choice is
//! done here too, since units are tried against those.

use std::time::Duration;

use vaka_usb::{EndpointInfo, Setup, TransferError, UsbDevice};

use super::sense::Sense;
use super::session_error::SessionError;

/// bRequest of Bulk-Only Mass Storage Reset (3.1).
const RESET: u8 = 0xFF;
/// bRequest of Get Max LUN (3.2).
const GET_MAX_LUN: u8 = 0xFE;

/// "USBC", before a command (5.1).
const COMMAND_SIGNATURE: u32 = 0x4342_5355;
/// "USBS", before a status (5.2).
const STATUS_SIGNATURE: [u8; 4] = *b"USBS";
/// Length of a status (5.2).
const STATUS_LEN: usize = 13;

/// Timeout of Get Max LUN, which many units do not support. Chosen by us.
const LUN_TIMEOUT: Duration = Duration::from_secs(1);
/// Timeout of a reset, a command wrapper or a status. Chosen by us.
const STEP_TIMEOUT: Duration = Duration::from_secs(5);

/// A mass-storage interface: its number and its bulk endpoints.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DiskInterface {
    /// bInterfaceNumber.
    pub number: u8,
    /// Endpoint to the host.
    pub data_in: EndpointInfo,
    /// Endpoint to the unit.
    pub data_out: EndpointInfo,
}

/// The data of a command.
#[derive(Clone, Copy, Debug)]
pub(in crate::protocol) enum Data<'a> {
    None,
    /// This many bytes to the host.
    In(u32),
    /// These bytes to the unit.
    Out(&'a [u8]),
}

/// Why a command failed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::protocol) enum BotError {
    /// The unit rejected the command; its sense data has the reason.
    Failed,
    /// The exchange broke off and was recovered, so another command may follow.
    Broken(Box<SessionError>),
    /// The device can no longer be used.
    Over(TransferError),
}

impl From<TransferError> for BotError {
    fn from(error: TransferError) -> Self {
        Self::Over(error)
    }
}

/// The transport over one interface of an open device.
pub(in crate::protocol) struct BulkOnly {
    device: Box<dyn UsbDevice>,
    interface: DiskInterface,
    tag: u32,
    commands: u64,
    /// Whether the device accepted all data of the last command, whatever its status.
    data_taken: bool,
}

impl BulkOnly {
    /// Claims the interface.
    ///
    /// # Errors
    /// Another program uses it, or the device is detached.
    pub(in crate::protocol) fn new(
        mut device: Box<dyn UsbDevice>,
        interface: DiskInterface,
    ) -> Result<Self, TransferError> {
        device.claim(interface.number, 0)?;
        Ok(Self { device, interface, tag: 0, commands: 0, data_taken: false })
    }

    /// The device.
    pub(in crate::protocol) fn device(&mut self) -> &mut dyn UsbDevice {
        &mut *self.device
    }

    /// Returns the device, for another of its interfaces.
    pub(in crate::protocol) fn into_device(self) -> Box<dyn UsbDevice> {
        self.device
    }

    /// Commands so far.
    pub(in crate::protocol) fn commands(&self) -> u64 {
        self.commands
    }

    /// Whether the device accepted all data of the last command. The status may be missing: a
    /// unit that restarts after its last block disconnects instead of sending it.
    pub(in crate::protocol) fn has_taken_data(&self) -> bool {
        self.data_taken
    }

    /// Resets the port of the device.
    pub(in crate::protocol) fn reset(&mut self) {
        // A device that cannot be reset shows that with the next command.
        let _ = self.device.reset();
    }

    /// Waits until the device has left the bus.
    pub(in crate::protocol) fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.device.wait_for_disconnect(within)
    }

    /// The highest logical unit number; 0 if the device does not report it (3.2).
    pub(in crate::protocol) fn max_lun(&mut self) -> Result<u8, TransferError> {
        let setup = self.request(Setup::CLASS_INTERFACE_IN, GET_MAX_LUN);
        match self.device.control_in(setup, 1, LUN_TIMEOUT) {
            Ok(bytes) => Ok(bytes.first().copied().filter(|lun| *lun <= 15).unwrap_or(0)),
            Err(error @ (TransferError::Disconnected | TransferError::Busy(_))) => Err(error),
            Err(_) => Ok(0),
        }
    }

    fn request(&self, kind: u8, request: u8) -> Setup {
        Setup { kind, request, value: 0, index: u16::from(self.interface.number) }
    }

    /// Executes one command. Returns the received data without padding. `timeout` applies to data
    /// and status: units are busy during these.
    pub(in crate::protocol) fn command(
        &mut self,
        lun: u8,
        block: &[u8],
        data: Data<'_>,
        timeout: Duration,
    ) -> Result<Vec<u8>, BotError> {
        self.tag = self.tag.wrapping_add(1);
        self.commands += 1;
        self.data_taken = false;
        let wrapper = self.wrapper(lun, block, data);
        self.device
            .write_endpoint(self.interface.data_out, &wrapper, STEP_TIMEOUT)
            .map_err(|error| self.recover(error))?;
        let (mut bytes, early) = self.data(data, timeout)?;
        let status = match early {
            Some(status) => status,
            None => self.status(timeout)?,
        };
        self.judge(&status, data, &mut bytes)
    }

    /// Requests the reason why the last command failed. Source: SPC, REQUEST SENSE.
    pub(in crate::protocol) fn sense(&mut self, lun: u8) -> Result<Sense, BotError> {
        match self.command(lun, &[0x03, 0, 0, 0, 18, 0], Data::In(18), STEP_TIMEOUT) {
            Ok(bytes) => Ok(Sense::parse(&bytes).unwrap_or(Sense::NONE)),
            Err(BotError::Failed) => Ok(Sense::NONE),
            Err(error) => Err(error),
        }
    }

    /// The 31 bytes before a command (5.1).
    fn wrapper(&self, lun: u8, block: &[u8], data: Data<'_>) -> [u8; 31] {
        let (length, flags) = match data {
            Data::None => (0, 0),
            Data::In(length) => (length, 0x80),
            Data::Out(bytes) => (u32::try_from(bytes.len()).unwrap_or(0), 0),
        };
        let mut wrapper = [0; 31];
        wrapper[0..4].copy_from_slice(&COMMAND_SIGNATURE.to_le_bytes());
        wrapper[4..8].copy_from_slice(&self.tag.to_le_bytes());
        wrapper[8..12].copy_from_slice(&length.to_le_bytes());
        wrapper[12] = flags;
        wrapper[13] = lun;
        wrapper[14] = u8::try_from(block.len()).unwrap_or(16);
        wrapper[15..15 + block.len()].copy_from_slice(block);
        wrapper
    }

    /// The data stage. A stall ends it, and the status has the reason; if a status arrived
    /// instead of data, it is the second value.
    fn data(&mut self, data: Data<'_>, timeout: Duration) -> Result<(Vec<u8>, Option<Vec<u8>>), BotError> {
        match data {
            Data::None => Ok((Vec::new(), None)),
            Data::In(length) => {
                // A transfer ends with a packet that is not full, or is full itself.
                let wanted = (length as usize).next_multiple_of(usize::from(self.interface.data_in.packet));
                let bytes = match self.device.read_endpoint(self.interface.data_in, wanted, timeout) {
                    Err(TransferError::Stall) => {
                        self.clear(self.interface.data_in)?;
                        Vec::new()
                    }
                    other => other.map_err(|error| self.recover(error))?,
                };
                // Some units omit the data and send the status at once.
                if bytes.len() == STATUS_LEN && length as usize != STATUS_LEN && bytes.starts_with(&STATUS_SIGNATURE) {
                    return Ok((Vec::new(), Some(bytes)));
                }
                Ok((bytes, None))
            }
            Data::Out(bytes) => match self.device.write_endpoint(self.interface.data_out, bytes, timeout) {
                Err(TransferError::Stall) => {
                    self.clear(self.interface.data_out)?;
                    Ok((Vec::new(), None))
                }
                Ok(()) => {
                    self.data_taken = true;
                    Ok((Vec::new(), None))
                }
                Err(error) => Err(self.recover(error)),
            },
        }
    }

    /// Reads the status; retries once after an empty packet or a stall (5.3.3).
    fn status(&mut self, timeout: Duration) -> Result<Vec<u8>, BotError> {
        let wanted = STATUS_LEN.next_multiple_of(usize::from(self.interface.data_in.packet));
        for attempt in 0..2 {
            match self.device.read_endpoint(self.interface.data_in, wanted, timeout) {
                Ok(bytes) if bytes.is_empty() && attempt == 0 => {}
                Err(TransferError::Stall) if attempt == 0 => self.clear(self.interface.data_in)?,
                Ok(bytes) => return Ok(bytes),
                Err(error) => return Err(self.recover(error)),
            }
        }
        Err(self.out_of_step("it sends no status".into()))
    }

    /// Evaluates a status (5.2, 6.3). Some units use another signature, which is harmless if the
    /// tag is right.
    fn judge(&mut self, status: &[u8], data: Data<'_>, bytes: &mut Vec<u8>) -> Result<Vec<u8>, BotError> {
        let Ok(fields) = <&[u8; STATUS_LEN]>::try_from(status) else {
            return Err(self.out_of_step(format!("a status of {} bytes", status.len())));
        };
        let word = |at: usize| u32::from_le_bytes([fields[at], fields[at + 1], fields[at + 2], fields[at + 3]]);
        if word(4) != self.tag {
            return Err(self.out_of_step("the status of another command".into()));
        }
        match (fields[12], data) {
            (0, Data::In(length)) if length > 0 && bytes.is_empty() => {
                Err(violation("it reports success, but sends no data".into()))
            }
            (0, Data::In(length)) => {
                let relevant = length.saturating_sub(word(8)) as usize;
                // Some units report a residue of all data although data arrived: ignore it.
                if relevant > 0 {
                    bytes.truncate(relevant);
                }
                bytes.truncate(length as usize);
                Ok(std::mem::take(bytes))
            }
            (0, Data::Out(sent)) if word(8) != 0 && word(8) as usize <= sent.len() => {
                Err(violation(format!("it left {} of {} bytes unused", word(8), sent.len())))
            }
            (0, _) => Ok(Vec::new()),
            (1, _) => Err(BotError::Failed),
            (2, _) => Err(self.out_of_step("a phase error".into())),
            (other, _) => Err(self.out_of_step(format!("a status of {other}"))),
        }
    }

    fn clear(&mut self, pipe: EndpointInfo) -> Result<(), BotError> {
        self.device.clear_halt(pipe).map_err(|error| self.recover(error))
    }

    /// Recovers the transport after a failed transfer, if the unit is still attached.
    fn recover(&mut self, error: TransferError) -> BotError {
        match error {
            TransferError::Disconnected | TransferError::Busy(_) | TransferError::Unsupported(_) => {
                BotError::Over(error)
            }
            TransferError::Stall => self.out_of_step("it rejects the command (stall)".into()),
            TransferError::Timeout => self.reset_recovery(TransferError::Timeout.into()),
            TransferError::Overflow => self.out_of_step("it sent more data than requested".into()),
            // Often the first sign of an unplug.
            error if self.device.wait_for_disconnect(Duration::from_millis(200)) => BotError::Over(match error {
                TransferError::Failed(_) => TransferError::Disconnected,
                other => other,
            }),
            error => self.out_of_step(error.to_string()),
        }
    }

    /// Recovers after a violation of the protocol.
    fn out_of_step(&mut self, why: String) -> BotError {
        self.reset_recovery(SessionError::ProtocolViolation(why))
    }

    /// Reset recovery (5.3.4): the reset, then the halts of both endpoints. A unit
    /// that refuses the reset gets one of its port.
    fn reset_recovery(&mut self, why: SessionError) -> BotError {
        let setup = self.request(Setup::CLASS_INTERFACE_OUT, RESET);
        let done = match self.device.control_out(setup, &[], STEP_TIMEOUT) {
            Ok(()) => Ok(()),
            Err(TransferError::Disconnected) => Err(TransferError::Disconnected),
            Err(_) => self.device.reset(),
        };
        let cleared = done.and_then(|()| {
            self.device.clear_halt(self.interface.data_in)?;
            self.device.clear_halt(self.interface.data_out)
        });
        match cleared {
            Ok(()) => BotError::Broken(Box::new(why)),
            Err(TransferError::Disconnected) => BotError::Over(TransferError::Disconnected),
            Err(_) => BotError::Over(TransferError::Failed(format!("{why}, and the transfer could not be recovered"))),
        }
    }
}

fn violation(why: String) -> BotError {
    BotError::Broken(Box::new(SessionError::ProtocolViolation(why)))
}
