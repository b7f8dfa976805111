//! SCSI commands of a mass-storage interface.

use vaka_dialect::carrier::Scsi;
use vaka_usb::UsbDevice;
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::{Configuration, Interface};

use super::{Carrier, Transfer, find_interface, missing};
use crate::context::Context;
use crate::protocol::bulk_only::{BotError, BulkOnly, Data, DiskInterface};
use crate::protocol::identity::disk_interface;
use crate::protocol::sense::Sense;
use crate::protocol::session_error::SessionError;

/// Sense key UNIT ATTENTION: the command was not executed, because the unit first reports an event such
/// as its reset. Source: SPC, sense keys.
const UNIT_ATTENTION: u8 = 6;

/// Unit attentions in a row at most. Chosen by us.
const ATTENTIONS: u32 = 10;

pub(super) struct ScsiCarrier {
    transport: BulkOnly,
    interface: u8,
    lun: u8,
}

pub(super) fn open(
    device: CountingDevice,
    configuration: &Configuration,
    settings: &Scsi,
) -> Result<ScsiCarrier, SessionError> {
    let fits = |i: &Interface| disk_interface(i).is_some();
    let found = find_interface(configuration, settings.interface, fits).and_then(disk_interface);
    let interface: DiskInterface = found.ok_or_else(|| missing("mass-storage interface"))?;
    let transport = BulkOnly::new(Box::new(device), interface)?;
    Ok(ScsiCarrier { transport, interface: interface.number, lun: settings.lun })
}

impl ScsiCarrier {
    /// Runs the command of an exchange.
    fn run(&mut self, transfer: &Transfer<'_>, data: Data<'_>) -> Result<Vec<u8>, SessionError> {
        let Transfer { exchange, memory, timeout } = *transfer;
        let dialect = |error| SessionError::dialect(&exchange.name, error);
        let Some(block) = memory.command(exchange).map_err(dialect)? else { return Ok(Vec::new()) };
        let mut attentions = 0;
        loop {
            let failed = match self.transport.command(self.lun, &block, data, timeout) {
                Err(BotError::Failed) => self.transport.sense(self.lun),
                Ok(bytes) => return Ok(bytes),
                Err(error) => Err(error),
            };
            match failed.map_err(session_error)? {
                Sense(UNIT_ATTENTION, ..) if attentions < ATTENTIONS => attentions += 1,
                sense => return Err(SessionError::CommandFailed(sense)),
            }
        }
    }

    /// Whether the command of an exchange fetches its reply.
    fn fetches(transfer: &Transfer<'_>) -> bool {
        transfer.exchange.has_reply() && !transfer.exchange.receives_aside()
    }
}

impl Carrier for ScsiCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        self.transport.device()
    }

    fn interface(&self) -> u8 {
        self.interface
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        if Self::fetches(transfer) {
            return Ok(());
        }
        let data = if frame.is_empty() { Data::None } else { Data::Out(frame) };
        self.run(transfer, data).map(drop)
    }

    fn receive(&mut self, transfer: &Transfer<'_>, _: usize, _: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let length = transfer.memory.reply_length(transfer.exchange).and_then(|len| u32::try_from(len).ok());
        let Some(length) = length else {
            let words = "the length of its reply is not known before";
            return Err(SessionError::dialect(&transfer.exchange.name, words));
        };
        self.run(transfer, if length == 0 { Data::None } else { Data::In(length) })
    }
}

fn session_error(error: BotError) -> SessionError {
    match error {
        BotError::Failed => SessionError::CommandFailed(Sense::NONE),
        BotError::Broken(error) => *error,
        BotError::Over(error) => error.into(),
    }
}
