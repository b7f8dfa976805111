//! Frames of a CAN bus, through an adapter.

use std::collections::VecDeque;
use std::time::Duration;

use vaka_can::isotp::{self, CONSECUTIVE_TIMEOUT, FLOW_TIMEOUT, Form, Received, Receiver, SendStep, Sender};
use vaka_can::{Adapter, BusSettings, CanError, CanFrame, CanId};
use vaka_dialect::carrier::{Can, IsoTp};
use vaka_dialect::{Exchange, Expression};
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::Configuration;
use vaka_usb::{EndpointInfo, UsbDevice};

use super::{Carrier, Transfer};
use crate::context::Context;
use crate::protocol::session_error::SessionError;

pub(super) struct CanCarrier {
    adapter: Adapter<CountingDevice>,
    settings: Can,
    /// Frames that arrived while another kind was awaited.
    held: VecDeque<CanFrame>,
    received_id: Option<u32>,
}

/// Frames that are held at most. Chosen by us.
const MOST_HELD: usize = 256;

pub(super) fn open(
    device: CountingDevice,
    configuration: &Configuration,
    settings: &Can,
) -> Result<CanCarrier, SessionError> {
    let rates = BusSettings { bit_rate: settings.bit_rate, data_rate: settings.data_rate };
    let adapter = Adapter::open(device, configuration, rates)?;
    Ok(CanCarrier { adapter, settings: settings.clone(), held: VecDeque::new(), received_id: None })
}

/// The identifiers of replies: a number, and the bits that count.
#[derive(Clone, Copy)]
struct Replies {
    id: u32,
    mask: u32,
    is_extended: bool,
}

impl Replies {
    fn fits(self, id: CanId) -> bool {
        matches!(id, CanId::Extended(_)) == self.is_extended && id.number() & self.mask == self.id & self.mask
    }

    /// Whether several nodes may reply.
    fn are_many(self) -> bool {
        self.mask & CanId::MOST_STANDARD != CanId::MOST_STANDARD
    }
}

impl CanCarrier {
    fn number(transfer: &Transfer<'_>, of: &Expression) -> Result<u32, SessionError> {
        let wrong = |error: String| SessionError::dialect(&transfer.exchange.name, error);
        let number = transfer.memory.int(of).map_err(|error| wrong(error.to_string()))?;
        u32::try_from(number).map_err(|_| wrong(format!("{number} does not fit an identifier of a CAN frame")))
    }

    /// The identifier of frames to the unit.
    fn id(&self, transfer: &Transfer<'_>) -> Result<CanId, SessionError> {
        let exchange = transfer.exchange;
        let Some(of) = &exchange.ids.send else {
            return Err(SessionError::dialect(&exchange.name, "it has no identifier for its frames".to_owned()));
        };
        let number = Self::number(transfer, of)?;
        CanId::new(number, self.settings.is_extended).ok_or_else(|| {
            SessionError::dialect(&exchange.name, format!("the identifier 0x{number:X} has too many bits"))
        })
    }

    fn replies(&self, transfer: &Transfer<'_>) -> Result<Option<Replies>, SessionError> {
        let ids = &transfer.exchange.ids;
        let Some(id) = &ids.reply else { return Ok(None) };
        let is_extended = self.settings.is_extended;
        let all = if is_extended { CanId::MOST_EXTENDED } else { CanId::MOST_STANDARD };
        let mask = ids.mask.as_ref().map_or(Ok(all), |mask| Self::number(transfer, mask))?;
        Ok(Some(Replies { id: Self::number(transfer, id)?, mask, is_extended }))
    }

    fn form(&self) -> Form {
        Form { is_fd: self.settings.data_rate.is_some(), padding: self.settings.padding }
    }

    fn frame(&self, id: CanId, data: Vec<u8>) -> CanFrame {
        CanFrame { id, data, is_fd: self.settings.data_rate.is_some() }
    }

    /// The next frame with a fitting identifier; others are of no concern.
    fn next(&mut self, replies: Replies, until: Duration, cx: &Context<'_>) -> Result<CanFrame, CanError> {
        loop {
            let frame = match self.held.pop_front() {
                Some(frame) => frame,
                None => self.adapter.receive(cx.clock(), until.saturating_sub(cx.now()))?,
            };
            if replies.fits(frame.id) {
                return Ok(frame);
            }
        }
    }

    /// Sends a message in as many frames as it needs.
    fn send_message(
        &mut self,
        id: CanId,
        replies: Option<Replies>,
        (message, until): (&[u8], Duration),
        cx: &mut Context<'_>,
    ) -> Result<(), CanError> {
        let mut sender = Sender::new(message, self.form());
        let mut is_first = true;
        loop {
            match sender.step() {
                SendStep::Done => return Ok(()),
                SendStep::Frame(data) => {
                    if !std::mem::take(&mut is_first) && !sender.separation().is_zero() {
                        // The time counts between frames on the bus.
                        self.adapter.flush(cx.clock(), until.saturating_sub(cx.now()))?;
                        cx.clock().sleep(sender.separation());
                    }
                    let frame = self.frame(id, data);
                    self.adapter.send(&frame, cx.clock(), until.saturating_sub(cx.now()))?;
                }
                SendStep::AwaitFlow => {
                    let Some(replies) = replies else { return Err(CanError::Timeout) };
                    let frame = self.next(replies, until.min(cx.now() + FLOW_TIMEOUT), cx)?;
                    if !sender.take(&frame.data)? && self.held.len() < MOST_HELD {
                        self.held.push_back(frame);
                    }
                }
            }
        }
    }

    /// Receives a message of one or more frames.
    fn receive_message(
        &mut self,
        iso_tp: IsoTp,
        replies: Replies,
        (transfer, until): (&Transfer<'_>, Duration),
        cx: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        let flow = isotp::Flow { block: iso_tp.block, separation: iso_tp.separation };
        let mut receiver = Receiver::new(self.form(), flow);
        loop {
            let deadline = if receiver.has_begun() { until.min(cx.now() + CONSECUTIVE_TIMEOUT) } else { until };
            let frame = self.next(replies, deadline, cx)?;
            self.received_id = Some(frame.id.number());
            match receiver.take(&frame.data) {
                Ok(Received::Message(message)) => return Ok(message),
                Ok(Received::More) => {}
                // A discovery takes replies of one frame: several nodes reply at once.
                Ok(Received::Reply(_)) if replies.are_many() => receiver = Receiver::new(self.form(), flow),
                Ok(Received::Reply(flow)) => {
                    let answer = self.frame(self.id(transfer)?, flow);
                    self.adapter.send(&answer, cx.clock(), until.saturating_sub(cx.now()))?;
                }
                Err(error) => {
                    if let isotp::IsoTpError::TooLong(_) = error {
                        let answer = self.frame(self.id(transfer)?, receiver.refusal());
                        let _ = self.adapter.send(&answer, cx.clock(), until.saturating_sub(cx.now()));
                    }
                    return Err(CanError::IsoTp(error).into());
                }
            }
        }
    }

    /// Forgets the frames that arrived before a request: replies to an earlier one.
    fn forget_earlier(&mut self, exchange: &Exchange) {
        if exchange.has_reply() {
            self.held.clear();
            self.adapter.forget();
        }
    }
}

impl Carrier for CanCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        self.adapter.device()
    }

    fn interface(&self) -> u8 {
        0
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let (id, replies) = (self.id(transfer)?, self.replies(transfer)?);
        let until = cx.now() + transfer.timeout;
        self.forget_earlier(transfer.exchange);
        match self.settings.iso_tp {
            Some(_) => self.send_message(id, replies, (frame, until), cx)?,
            None => {
                let frame = self.frame(id, self.form().padded(frame.to_vec()));
                self.adapter.send(&frame, cx.clock(), transfer.timeout)?;
            }
        }
        if !transfer.exchange.has_reply() {
            self.adapter.flush(cx.clock(), until.saturating_sub(cx.now()))?;
        }
        Ok(())
    }

    fn receive(&mut self, transfer: &Transfer<'_>, _: usize, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let until = cx.now() + transfer.timeout;
        let Some(replies) = self.replies(transfer)? else { return Ok(Vec::new()) };
        if let Some(iso_tp) = self.settings.iso_tp {
            return self.receive_message(iso_tp, replies, (transfer, until), cx);
        }
        let frame = self.next(replies, until, cx)?;
        self.received_id = Some(frame.id.number());
        Ok(frame.data)
    }

    fn flush(&mut self, within: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        Ok(self.adapter.flush(cx.clock(), within)?)
    }

    fn received_id(&self) -> Option<u32> {
        self.received_id
    }

    fn pipes(&self) -> Vec<EndpointInfo> {
        self.adapter.pipes().to_vec()
    }
}
