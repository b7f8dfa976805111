//! Vendor commands of a mass-storage interface.

use std::time::Duration;

use vaka_dialect::carrier::Scsi;
use vaka_dialect::unit_side::{Arrival, Status};
use vaka_sim::bootloader::disk::{self, Disk, Medium, Sense, VendorReply, sense};
use vaka_sim::flash::Flash;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::engine::{ArrivalOutcome, Engine, Reply};
use crate::mode::plain_interface;

#[derive(Debug)]
pub(super) struct ScsiCarrier {
    interface: u8,
    pub(super) disk: Disk,
}

/// The engine, for one transfer.
struct Commands<'a> {
    engine: &'a mut Engine,
    flash: &'a mut Flash,
}

impl ScsiCarrier {
    pub(super) fn new(scsi: &Scsi) -> Self {
        Self { interface: scsi.interface.unwrap_or(0), disk: Disk::new(disk::Quirks::default()) }
    }

    pub(super) fn interfaces(&self) -> Vec<DescribedInterface> {
        let others = (0..self.interface).map(|_| plain_interface("Other"));
        others.chain([crate::disk::interface()]).collect()
    }

    pub(super) fn control(&mut self, setup: Setup) -> Option<Answer> {
        let is_own = matches!((setup.kind, setup.request), (0xA1, 0xFE) | (0x21, 0xFF));
        is_own.then(|| self.disk.control(setup))
    }

    pub(super) fn pipe(&mut self, now: Duration, flash: &mut Flash, engine: &mut Engine, transfer: Bulk<'_>) -> Answer {
        self.disk.bulk(now, transfer, &mut Commands { engine, flash })
    }
}

impl Commands<'_> {
    fn execute(&mut self, now: Duration, command: &[u8], data: &[u8]) -> Result<Reply, Sense> {
        let arrival = Arrival { bytes: data, is_whole: true, command: Some(command), ..Arrival::default() };
        match self.engine.handle(now, self.flash, arrival) {
            ArrivalOutcome::Request(_, reply) if reply.status == Status::Done => Ok(reply),
            ArrivalOutcome::Request(_, reply) => {
                let told = self.engine.unit.sense(reply.exchange, reply.status);
                Err(told.map_or(sense::NO_SUCH_SECTOR, |[key, code, qualifier]| (key, code, qualifier)))
            }
            ArrivalOutcome::More(_) | ArrivalOutcome::Unknown => Err(sense::UNKNOWN_COMMAND),
        }
    }
}

impl Medium for Commands<'_> {
    fn vendor(&mut self, now: Duration, block: &[u8]) -> Result<VendorReply, Sense> {
        if self.engine.unit.takes_data(block) {
            return Ok(VendorReply::Takes);
        }
        let reply = self.execute(now, block, &[])?;
        Ok(reply.bytes.map_or(VendorReply::Nothing, VendorReply::Data))
    }

    fn take(&mut self, now: Duration, block: &[u8], data: &[u8]) -> Result<Duration, Sense> {
        let reply = self.execute(now, block, data)?;
        Ok(reply.at.saturating_sub(now))
    }
}
