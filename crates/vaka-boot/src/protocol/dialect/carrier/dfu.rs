//! DFU requests that carry frames as blocks.

use std::time::Duration;

use vaka_core::unit::MemoryChoice;
use vaka_dialect::carrier::Dfu;
use vaka_dialect::{Bindings, Exchange, FrameRoute};
use vaka_usb::UsbDevice;
use vaka_usb::counting::CountingDevice;

use super::{Carrier, Transfer, missing};
use crate::context::Context;
use crate::protocol::dfu::{DfuOperation, DfuPort};
use crate::protocol::identity;
use crate::protocol::session_error::SessionError;

pub(super) struct DfuCarrier {
    port: DfuPort,
    /// Whether the last request was an upload, which must end before a download.
    uploading: bool,
}

pub(super) fn open(
    mut device: CountingDevice,
    settings: &Dfu,
    cx: &mut Context<'_>,
) -> Result<DfuCarrier, SessionError> {
    let identity = identity::identify(&mut device, cx.clock())?;
    let choice = MemoryChoice { interface: settings.interface, ..MemoryChoice::default() };
    let params = identity.first_params(&choice).ok_or_else(|| missing("DFU interface"))?;
    let port = DfuPort::open(Box::new(device), params, cx)?;
    Ok(DfuCarrier { port, uploading: false })
}

impl Carrier for DfuCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.port.device
    }

    fn interface(&self) -> u8 {
        self.port.params.interface
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        if std::mem::take(&mut self.uploading) {
            self.port.abort(cx)?;
        }
        let block = block(transfer.exchange, transfer.memory)?;
        self.port.download(block, frame, work(transfer.timeout), cx).map_err(|(_, error)| error)
    }

    fn receive(&mut self, transfer: &Transfer<'_>, _: usize, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        if transfer.exchange.take == Some(FrameRoute::Status) {
            return self.port.raw_status(cx);
        }
        if !self.uploading {
            self.port.abort(cx)?;
        }
        self.uploading = true;
        let most = self.port.params.block_size;
        let length = transfer.memory.reply_length(transfer.exchange).and_then(|len| u16::try_from(len).ok());
        let length = length.unwrap_or(most).min(most).max(1);
        self.port.upload(block(transfer.exchange, transfer.memory)?, length, cx)
    }

    fn quiesce(&mut self, cx: &mut Context<'_>) {
        let _ = self.port.go_idle(cx);
        self.uploading = false;
    }
}

/// The longest operation of a DFU unit within a timeout.
fn work(timeout: Duration) -> DfuOperation {
    if timeout > Duration::from_secs(10) { DfuOperation::Erase } else { DfuOperation::Block }
}

fn block(exchange: &Exchange, memory: &Bindings) -> Result<u16, SessionError> {
    let number = exchange.block.as_ref().map_or(Ok(0), |block| memory.int(block));
    let number = number.map_err(|error| SessionError::dialect(&exchange.name, error))?;
    Ok((number & 0xFFFF).try_into().unwrap_or(0))
}
