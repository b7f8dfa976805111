//! Bulk and interrupt pipes.

use std::collections::BTreeMap;
use std::time::Duration;

use vaka_dialect::carrier::Pipes;
use vaka_dialect::{Exchange, FrameRoute, Framing};
use vaka_sim::flash::Flash;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::engine::{Engine, Reply};
use super::serial::{StreamStep, take, wrapped};
use crate::mode::plain_interface;

#[derive(Debug)]
pub(super) struct PipesCarrier {
    interface: u8,
    alternate: u8,
    to_unit: u8,
    to_host: u8,
    others: Vec<u8>,
    received: Vec<u8>,
    /// Replies of each pipe to the host.
    replies: BTreeMap<u8, Vec<(Duration, Vec<u8>)>>,
}

impl PipesCarrier {
    pub(super) fn new(pipes: &Pipes, others: &[u8]) -> Self {
        Self {
            interface: pipes.interface.unwrap_or(0),
            alternate: pipes.alternate.unwrap_or(0),
            to_unit: pipes.pipe_out.unwrap_or(0x01),
            to_host: pipes.pipe_in.unwrap_or(0x81),
            others: others.to_vec(),
            received: Vec::new(),
            replies: BTreeMap::new(),
        }
    }

    pub(super) fn interfaces(&self) -> Vec<DescribedInterface> {
        let others = (0..self.interface).map(|_| plain_interface("Other"));
        let own = DescribedInterface {
            class: [0xFF, 0, 0],
            names: (0..=self.alternate).map(|number| format!("Loader {number}")).collect(),
            extra: Vec::new(),
            bulk: vec![self.to_unit, self.to_host],
            interrupt: self.others.iter().copied().filter(|own| ![self.to_unit, self.to_host].contains(own)).collect(),
        };
        others.chain([own]).collect()
    }

    pub(super) fn reply(&mut self, framing: &Framing, exchange: &Exchange, reply: Reply) {
        let (pipe, made) = match exchange.take {
            Some(FrameRoute::Pipe(address)) => (address, reply.bytes.map(|bytes| (reply.at, bytes))),
            _ => (self.to_host, wrapped(framing, reply)),
        };
        self.replies.entry(pipe).or_default().extend(made);
    }

    pub(super) fn pipe(&mut self, now: Duration, flash: &mut Flash, engine: &mut Engine, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(_, data) => {
                self.received.extend_from_slice(data);
                while let StreamStep::Consumed(used, reply) = take(now, flash, engine, &self.received) {
                    self.received.drain(..used.min(self.received.len()));
                    if let Some(reply) = reply {
                        let dialect = engine.unit.dialect().clone();
                        self.reply(&dialect.framing, dialect.exchange(reply.exchange), reply);
                    }
                }
                Answer::Done
            }
            Bulk::In(number, length) => self.next(now, number | 0x80, length),
        }
    }

    fn next(&mut self, now: Duration, pipe: u8, length: usize) -> Answer {
        let Some(replies) = self.replies.get_mut(&pipe) else { return Answer::Busy };
        match replies.first_mut() {
            Some((at, bytes)) if *at <= now => {
                let part: Vec<u8> = bytes.drain(..bytes.len().min(length)).collect();
                if bytes.is_empty() {
                    replies.remove(0);
                }
                Answer::Data(part)
            }
            _ => Answer::Busy,
        }
    }
}
