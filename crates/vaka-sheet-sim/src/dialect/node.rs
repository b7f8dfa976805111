//! A node of a CAN bus.

use std::collections::VecDeque;
use std::time::Duration;

use vaka_can::isotp::{Flow, Form, Received, Receiver};
use vaka_dialect::carrier::Can;
use vaka_dialect::unit_side::Arrival;
use vaka_sim::can::{CanFrame, Fate, Rates};
use vaka_sim::flash::Flash;

use super::engine::{ArrivalOutcome, Engine};

/// Time from a request to its reply. Chosen by us.
const REPLY_TIME: Duration = Duration::from_micros(200);

/// A longer message of ISO-TP that is being sent. Source: ISO 15765-2, section 9.6.
#[derive(Clone, Debug)]
struct Outgoing {
    id: u32,
    rest: Vec<u8>,
    /// Number of the next consecutive frame.
    number: u8,
}

/// The node's side of its carrier.
#[derive(Debug)]
pub(super) struct NodeCarrier {
    can: Can,
    outgoing: VecDeque<(Duration, CanFrame)>,
    /// The message that arrives, and the identifier of its frames.
    incoming: Option<(u32, Receiver)>,
    message: Option<Outgoing>,
    /// The place of the node among those that reply at once.
    place: u32,
}

impl NodeCarrier {
    pub(super) fn new(can: &Can, place: u8) -> Self {
        let (outgoing, place) = (VecDeque::new(), place.into());
        Self { can: can.clone(), outgoing, incoming: None, message: None, place }
    }

    pub(super) fn rates(&self) -> Rates {
        Rates { nominal: self.can.bit_rate, data: self.can.data_rate.unwrap_or(self.can.bit_rate) }
    }

    pub(super) fn next(&self) -> Option<(Duration, CanFrame)> {
        self.outgoing.front().cloned()
    }

    pub(super) fn sent(&mut self, fate: Fate) {
        if fate == Fate::Acknowledged {
            self.outgoing.pop_front();
        }
    }

    fn form(&self) -> Form {
        Form { is_fd: self.can.data_rate.is_some(), padding: self.can.padding }
    }

    fn send(&mut self, at: Duration, id: u32, data: Vec<u8>) {
        let (is_extended, is_fd) = (self.can.is_extended, self.can.data_rate.is_some());
        let data = self.form().padded(data);
        self.outgoing.push_back((at, CanFrame { id, is_extended, data, is_fd }));
    }

    /// Takes a frame of the host.
    pub(super) fn hear(&mut self, at: Duration, flash: &mut Flash, engine: &mut Engine, frame: &CanFrame) {
        if frame.is_extended != self.can.is_extended || !engine.unit.listens_to(frame.id) {
            return;
        }
        let Some(iso_tp) = self.can.iso_tp else {
            return self.take(at, flash, engine, (frame.id, &frame.data, self.can.padding.is_some()));
        };
        // Source: ISO 15765-2, section 9.6.5: a flow control begins with 3.
        if frame.data.first().is_some_and(|kind| kind >> 4 == 3) {
            return self.go_on(at, &frame.data);
        }
        let form = self.form();
        let flow = Flow { block: iso_tp.block, separation: iso_tp.separation };
        let begun = self.incoming.take().filter(|(id, _)| *id == frame.id).map(|(_, receiver)| receiver);
        let mut receiver = begun.unwrap_or_else(|| Receiver::new(form, flow));
        match receiver.take(&frame.data) {
            Ok(Received::Message(message)) => self.take(at, flash, engine, (frame.id, &message, false)),
            Ok(Received::Reply(flow)) => {
                if let Some(id) = engine.unit.reply_id_for(frame.id) {
                    self.send(at + REPLY_TIME, id, flow);
                }
                self.incoming = Some((frame.id, receiver));
            }
            Ok(Received::More) => self.incoming = Some((frame.id, receiver)),
            Err(_) => {}
        }
    }

    /// Takes a message, and replies.
    fn take(
        &mut self,
        at: Duration,
        flash: &mut Flash,
        engine: &mut Engine,
        (id, bytes, is_padded): (u32, &[u8], bool),
    ) {
        let arrival = Arrival { bytes, is_whole: true, is_padded, id: Some(id), ..Arrival::default() };
        let ArrivalOutcome::Request(_, reply) = engine.handle(at, flash, arrival) else { return };
        let (Some(bytes), Some(to)) = (reply.bytes, engine.unit.reply_id(reply.exchange)) else { return };
        // Nodes that reply at once do so one after the other.
        let ready = reply.at.max(at) + REPLY_TIME * (1 + self.place);
        match self.can.iso_tp {
            None => self.send(ready, to, bytes),
            Some(_) => self.send_message(ready, to, &bytes),
        }
    }

    /// Sends a message in as many frames as it needs. Source: ISO 15765-2, section 9.6.2 and 9.6.3.
    fn send_message(&mut self, at: Duration, id: u32, message: &[u8]) {
        let most = if self.can.data_rate.is_some() { 64 } else { 8 };
        let len = message.len();
        let short = u8::try_from(len).unwrap_or(u8::MAX);
        if len <= 7 {
            return self.send(at, id, [&[short], message].concat());
        }
        if len + 2 <= most {
            return self.send(at, id, [&[0, short], message].concat());
        }
        let [high, low] = u16::try_from(len.min(0xFFF)).unwrap_or(0).to_be_bytes();
        let (first, rest) = message.split_at(most - 2);
        self.send(at, id, [&[0x10 | high, low], first].concat());
        self.message = Some(Outgoing { id, rest: rest.to_vec(), number: 1 });
    }

    /// Sends the frames that a flow control allows.
    fn go_on(&mut self, at: Duration, flow: &[u8]) {
        let Some(mut message) = self.message.take() else { return };
        let [state, block, separation, ..] = *flow else { return };
        match state & 0xF {
            0 => {}
            1 => {
                self.message = Some(message);
                return;
            }
            _ => return,
        }
        let pause = match separation {
            millis @ 0..=0x7F => Duration::from_millis(millis.into()),
            hundreds @ 0xF1..=0xF9 => Duration::from_micros(u64::from(hundreds - 0xF0) * 100),
            _ => Duration::from_millis(0x7F),
        };
        let most = if self.can.data_rate.is_some() { 63 } else { 7 };
        let mut ready = at + REPLY_TIME;
        let mut left = if block == 0 { usize::MAX } else { block.into() };
        while !message.rest.is_empty() && left > 0 {
            let part: Vec<u8> = message.rest.drain(..message.rest.len().min(most)).collect();
            self.send(ready, message.id, [&[0x20 | message.number], &part[..]].concat());
            message.number = (message.number + 1) % 16;
            (ready, left) = (ready + pause, left - 1);
        }
        if !message.rest.is_empty() {
            self.message = Some(message);
        }
    }
}
