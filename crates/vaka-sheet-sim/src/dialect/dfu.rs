//! DFU requests that carry frames.

use vaka_dialect::unit_side::{Arrival, Status};
use vaka_sim::bootloader::dfu::{self, state, status};
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use super::engine::{ArrivalOutcome, Work};
use crate::dfu::TRANSFER_SIZE;

#[derive(Debug)]
pub(super) struct DfuCarrier {
    state: u8,
    status: u8,
    /// A downloaded frame that waits for the status request which starts it.
    pending: Option<Vec<u8>>,
    reply: Vec<u8>,
}

impl Default for DfuCarrier {
    fn default() -> Self {
        Self { state: state::IDLE, status: status::OK, pending: None, reply: Vec::new() }
    }
}

impl DfuCarrier {
    pub(super) fn interfaces(&self) -> Vec<DescribedInterface> {
        let [low, high] = TRANSFER_SIZE.to_le_bytes();
        // It can be downloaded to and uploaded from, and stays. Source: DFU 1.1, section 4.1.3.
        let extra = vec![9, 0x21, 0x07, 0xFF, 0, low, high, 0x10, 0x01];
        let names = vec!["Loader".to_owned()];
        vec![DescribedInterface { class: dfu::CLASS, names, extra, bulk: Vec::new(), interrupt: Vec::new() }]
    }

    /// A class request; `None` for another one.
    pub(super) fn control(&mut self, work: &mut Work<'_>, setup: Setup, data: &[u8]) -> Option<Answer> {
        let is_ready = matches!(self.state, state::IDLE | state::DOWNLOAD_IDLE | state::UPLOAD_IDLE);
        Some(match (setup.kind, setup.request) {
            (0x21, 1) if is_ready => {
                self.pending = Some(data.to_vec());
                self.state = state::DOWNLOAD_SYNC;
                Answer::Done
            }
            (0xA1, 2) if is_ready => {
                let len = self.reply.len().min(setup.length.into());
                self.state = if len == usize::from(setup.length) { state::UPLOAD_IDLE } else { state::IDLE };
                Answer::Data(self.reply[..len].to_vec())
            }
            (0xA1, 3) => self.get_status(work),
            (0xA1, 5) => Answer::Data(vec![self.state]),
            (0x21, 4) if self.state == state::ERROR => {
                (self.state, self.status) = (state::IDLE, status::OK);
                Answer::Done
            }
            (0x21, 6) if self.state != state::ERROR => {
                self.state = state::IDLE;
                Answer::Done
            }
            (0x21 | 0xA1, _) => self.fail(status::STALLED_PACKET),
            _ => return None,
        })
    }

    fn fail(&mut self, code: u8) -> Answer {
        (self.state, self.status) = (state::ERROR, code);
        Answer::Stall
    }

    fn get_status(&mut self, work: &mut Work<'_>) -> Answer {
        if let Some(frame) = self.pending.take() {
            self.state = state::BUSY;
            match work.handle(Arrival { bytes: &frame, is_whole: true, ..Arrival::default() }) {
                ArrivalOutcome::Request(_, reply) if reply.status == Status::Refused && reply.bytes.is_none() => {
                    (self.state, self.status) = (state::ERROR, status::ADDRESS);
                }
                ArrivalOutcome::Request(_, reply) => self.reply = reply.bytes.unwrap_or_default(),
                ArrivalOutcome::More(_) | ArrivalOutcome::Unknown => {
                    (self.state, self.status) = (state::ERROR, status::VENDOR)
                }
            }
        }
        let left = work.engine.busy_until.saturating_sub(work.now);
        if self.state == state::BUSY && left.is_zero() {
            self.state = state::DOWNLOAD_IDLE;
        }
        // A tenth more than the actual time.
        let poll = u32::try_from((left.as_micros() * 11 / 10).div_ceil(1000)).unwrap_or(u32::MAX);
        dfu::status_reply(self.status, poll, self.state)
    }
}
