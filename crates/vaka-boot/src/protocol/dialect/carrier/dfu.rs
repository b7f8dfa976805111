//! DFU requests that carry frames as blocks.

use std::time::Duration;

use vaka_core::unit::MemoryChoice;
use vaka_dialect::carrier::Dfu;
use vaka_dialect::{Exchange, Memory, Via};
use vaka_usb::UsbDevice;
use vaka_usb::counting::Counting;

use super::{Carrier, Transfer, missing};
use crate::context::Pace;
use crate::protocol::dfu::{Link, Work};
use crate::protocol::identity;
use crate::protocol::session::SessionError;

pub(super) struct DfuCarrier {
    link: Link,
    /// Whether the last request was an upload, which is ended before a download.
    uploading: bool,
}

pub(super) fn open(mut device: Counting, settings: &Dfu, pace: &mut Pace<'_>) -> Result<DfuCarrier, SessionError> {
    let identity = identity::identify(&mut device)?;
    let choice = MemoryChoice { interface: settings.interface, ..MemoryChoice::default() };
    let opening = identity.first_opening(&choice).ok_or_else(|| missing("DFU interface"))?;
    let link = Link::open(Box::new(device), opening, pace)?;
    Ok(DfuCarrier { link, uploading: false })
}

impl Carrier for DfuCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.link.device
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], pace: &mut Pace<'_>) -> Result<(), SessionError> {
        if std::mem::take(&mut self.uploading) {
            self.link.abort(pace)?;
        }
        let block = block(transfer.exchange, transfer.memory)?;
        self.link.download(block, frame, work(transfer.timeout), pace).map_err(|(_, error)| error)
    }

    fn receive(&mut self, transfer: &Transfer<'_>, _: usize, pace: &mut Pace<'_>) -> Result<Vec<u8>, SessionError> {
        if transfer.exchange.take == Some(Via::Status) {
            return self.link.raw_status(pace);
        }
        if !self.uploading {
            self.link.abort(pace)?;
        }
        self.uploading = true;
        let most = self.link.opening.block_size;
        let length = transfer.memory.reply_length(transfer.exchange).and_then(|len| u16::try_from(len).ok());
        let length = length.unwrap_or(most).min(most).max(1);
        self.link.upload(block(transfer.exchange, transfer.memory)?, length, pace)
    }

    fn quiesce(&mut self, pace: &mut Pace<'_>) {
        let _ = self.link.go_idle(pace);
        self.uploading = false;
    }
}

/// The longest work that a DFU unit may be at, for a deadline.
fn work(timeout: Duration) -> Work {
    if timeout > Duration::from_secs(10) { Work::Erase } else { Work::Block }
}

fn block(exchange: &Exchange, memory: &Memory) -> Result<u16, SessionError> {
    let number = exchange.block.as_ref().map_or(Ok(0), |block| memory.int(block));
    let number = number.map_err(|words| SessionError::Dialect { exchange: exchange.name.clone(), words })?;
    Ok((number & 0xFFFF).try_into().unwrap_or(0))
}
