//! HID reports.

use std::collections::VecDeque;

use vaka_dialect::carrier::Hid;
use vaka_dialect::unit_side::Arrival;
use vaka_sim::unit::vendor_unit::hid;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::engine::{ArrivalOutcome, Reply, Work};
use crate::mode::plain_interface;

#[derive(Debug)]
pub(super) struct HidCarrier {
    hid: Hid,
    descriptor: Vec<u8>,
    pub(super) replies: VecDeque<Reply>,
}

impl HidCarrier {
    pub(super) fn new(hid: &Hid) -> Self {
        Self { hid: hid.clone(), descriptor: descriptor(hid), replies: VecDeque::new() }
    }

    pub(super) fn interfaces(&self) -> Vec<DescribedInterface> {
        let others = (0..self.hid.interface.unwrap_or(0)).map(|_| plain_interface("Other"));
        others.chain([hid::interface("Loader", &self.descriptor)]).collect()
    }

    pub(super) fn standard(&self, setup: Setup) -> Option<Answer> {
        hid::standard(setup, &self.descriptor)
    }

    /// SET_REPORT and GET_REPORT; `None` for a request of another kind. Source: HID 1.11, section 7.2.
    pub(super) fn control(&mut self, work: &mut Work<'_>, setup: Setup, data: &[u8]) -> Option<Answer> {
        match (setup.kind, setup.request) {
            _ if hid::is_formality(setup) => Some(Answer::Done),
            (0x21, 0x09) => Some(self.take(work, data)),
            (0xA1, 0x01) => Some(match self.replies.front() {
                Some(reply) if reply.at <= work.now => {
                    let mut bytes = self.next().unwrap_or_default();
                    bytes.truncate(setup.length.into());
                    Answer::Data(bytes)
                }
                Some(_) | None => Answer::Stall,
            }),
            _ => None,
        }
    }

    pub(super) fn pipe(&mut self, work: &mut Work<'_>, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(0x01, data) => self.take(work, data),
            Bulk::In(0x01, _) => {
                let is_ready = self.replies.front().is_some_and(|reply| reply.at <= work.now);
                if is_ready { self.next().map_or(Answer::Busy, Answer::Data) } else { Answer::Busy }
            }
            _ => Answer::Stall,
        }
    }

    fn take(&mut self, work: &mut Work<'_>, report: &[u8]) -> Answer {
        let frame = match (self.hid.report, report.split_first()) {
            (None, _) => report,
            (Some(_), Some((_, frame))) => frame,
            (Some(_), None) => return Answer::Stall,
        };
        let arrival = Arrival { bytes: frame, is_whole: true, is_padded: true, ..Arrival::default() };
        if let ArrivalOutcome::Request(_, reply) = work.handle(arrival)
            && reply.bytes.is_some()
        {
            self.replies.push_back(reply);
        }
        Answer::Done
    }

    /// The next reply as a report.
    fn next(&mut self) -> Option<Vec<u8>> {
        let mut bytes = self.replies.pop_front()?.bytes?;
        bytes.resize(self.hid.reply_length, self.hid.fill);
        Some(self.hid.report.into_iter().chain(bytes).collect())
    }
}

/// A report descriptor: input, output and feature reports on the vendor's page. Source: HID 1.11, section
/// 6.2.2.
fn descriptor(hid: &Hid) -> Vec<u8> {
    let mut bytes = vec![0x06, 0x5A, 0xFF, 0x09, 0x01, 0xA1, 0x01];
    bytes.extend(hid.report.into_iter().flat_map(|id| [0x85, id]));
    bytes.extend([0x15, 0x00, 0x26, 0xFF, 0x00, 0x75, 0x08]);
    for (item, length) in [(0x81, hid.reply_length), (0x91, hid.length), (0xB1, hid.length)] {
        let [low, high] = u16::try_from(length).unwrap_or(u16::MAX).to_le_bytes();
        bytes.extend([0x96, low, high, 0x09, 0x02, item, 0x02]);
    }
    bytes.push(0xC0);
    bytes
}
