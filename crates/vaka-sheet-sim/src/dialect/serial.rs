//! A serial port.

use std::time::Duration;

use vaka_dialect::FrameScan;
use vaka_dialect::Framing;
use vaka_dialect::unit_side::Arrival;
use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::acm;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::engine::{ArrivalOutcome, Engine, Reply};
use crate::mode::plain_interface;

/// A line with the version of the application.
#[derive(Clone, Debug)]
pub(crate) struct VersionLine {
    /// The text after which the application prints it; when the port is opened without one.
    pub(crate) send: Option<String>,
    /// The line.
    pub(crate) line: String,
}

#[derive(Debug)]
pub(crate) struct SerialCarrier {
    line: acm::SerialLine,
    /// Interfaces before those of the port.
    before: u8,
    version: Option<VersionLine>,
}

/// The result of the first bytes of a stream.
pub(super) enum StreamStep {
    /// The first bytes are done with.
    Consumed(usize, Option<Reply>),
    /// More bytes must come.
    Waits,
}

/// Takes the first frame of a stream.
pub(super) fn take(now: Duration, flash: &mut Flash, engine: &mut Engine, stream: &[u8]) -> StreamStep {
    let framing = engine.unit.dialect().framing.clone();
    if stream.is_empty() {
        return StreamStep::Waits;
    }
    if let Framing::None | Framing::Transfer = framing {
        let is_whole = framing == Framing::Transfer;
        return match engine.handle(now, flash, Arrival { bytes: stream, is_whole, ..Arrival::default() }) {
            ArrivalOutcome::Request(used, reply) => StreamStep::Consumed(used.max(1), Some(reply)),
            ArrivalOutcome::More(_) if !is_whole => StreamStep::Waits,
            // A byte that belongs to no frame, such as one that only wakes the unit.
            ArrivalOutcome::More(_) | ArrivalOutcome::Unknown => {
                StreamStep::Consumed(if is_whole { stream.len() } else { 1 }, None)
            }
        };
    }
    match framing.cut(stream) {
        FrameScan::More(_) => StreamStep::Waits,
        FrameScan::Junk(junk) => StreamStep::Consumed(junk.max(1), None),
        FrameScan::Frame { body, used } => {
            match engine.handle(now, flash, Arrival { bytes: &body, is_whole: true, ..Arrival::default() }) {
                ArrivalOutcome::Request(_, reply) => StreamStep::Consumed(used, Some(reply)),
                ArrivalOutcome::More(_) | ArrivalOutcome::Unknown => StreamStep::Consumed(used, None),
            }
        }
    }
}

/// The bytes of a reply on a stream.
pub(super) fn wrapped(framing: &Framing, reply: Reply) -> Option<(Duration, Vec<u8>)> {
    Some((reply.at, framing.wrap(reply.bytes?).ok()?)).filter(|(_, bytes)| !bytes.is_empty())
}

impl SerialCarrier {
    /// A port; its data interface has this number, if one is given.
    pub(crate) fn new(interface: Option<u8>) -> Self {
        let before = interface.map_or(0, |data| data.saturating_sub(1));
        Self { line: acm::SerialLine::default(), before, version: None }
    }

    /// The same port, on which the application also prints its version.
    pub(crate) fn with_version(self, version: Option<VersionLine>) -> Self {
        Self { version, ..self }
    }

    pub(crate) fn interfaces(&self) -> Vec<DescribedInterface> {
        let others = (0..self.before).map(|_| plain_interface("Other"));
        others.chain(acm::interfaces_from(self.before, "Port")).collect()
    }

    /// A class request of the port; `None` for another one.
    pub(crate) fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Option<Answer> {
        let was_open = self.line.dtr;
        let answer = self.line.control(setup, data)?;
        if let Some(VersionLine { send: None, line }) = self.version.as_ref().filter(|_| self.line.dtr && !was_open) {
            self.line.replies.push((now, line.clone().into_bytes()));
        }
        Some(answer)
    }

    /// The same for a port with a dialect; a signal may make the application leave. Source: PSTN subclass of
    /// CDC 1.2, section 6.3.13: SEND_BREAK.
    pub(super) fn control_with(
        &mut self,
        now: Duration,
        engine: &mut Engine,
        setup: Setup,
        data: &[u8],
    ) -> Option<Answer> {
        let before = (self.line.dtr, self.line.rts);
        let is_break = (setup.kind, setup.request) == (0x21, 0x23);
        let answer = if is_break { Some(Answer::Done) } else { self.control(now, setup, data) };
        let acm::SerialLine { dtr, rts, baud, .. } = self.line;
        let is_due = engine.line_signal.as_ref().is_some_and(|signal| {
            let is_line =
                signal.dtr.is_none_or(|wanted| wanted == dtr) && signal.rts.is_none_or(|wanted| wanted == rts);
            let has_signals = signal.dtr.is_some() || signal.rts.is_some();
            let is_changed = if has_signals { (dtr, rts) != before && is_line } else { signal.baud.is_some() };
            let is_rate = signal.baud.is_none_or(|wanted| wanted == baud);
            signal.bytes.is_empty() && is_rate && if signal.is_break { is_break } else { is_changed }
        });
        if is_due {
            engine.leave(now);
        }
        answer
    }

    /// Prints the version if the text for it was received.
    fn answer_for_version(&mut self, now: Duration) {
        let Some(VersionLine { send: Some(send), line }) = &self.version else { return };
        let wanted = send.trim().as_bytes();
        let found = self.line.received.windows(wanted.len().max(1)).position(|window| window == wanted);
        if let Some(at) = found {
            self.line.received.drain(..at + wanted.len());
            self.line.replies.push((now, line.clone().into_bytes()));
        }
    }

    /// A data transfer of a port without a dialect.
    pub(crate) fn pipe_plain(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        let answer = self.line.pipe(now, transfer);
        self.answer_for_version(now);
        // Other text is ignored.
        let keep = self.line.received.len().saturating_sub(256);
        self.line.received.drain(..keep);
        answer
    }

    pub(super) fn reply(&mut self, framing: &Framing, reply: Reply) {
        self.line.replies.extend(wrapped(framing, reply));
    }

    pub(super) fn pipe(&mut self, now: Duration, flash: &mut Flash, engine: &mut Engine, transfer: Bulk<'_>) -> Answer {
        let answer = self.line.pipe(now, transfer);
        self.answer_for_version(now);
        let is_signal = |signal: &super::engine::LineSignal, received: &[u8]| {
            !signal.bytes.is_empty() && received.windows(signal.bytes.len()).any(|window| window == signal.bytes)
        };
        if engine.line_signal.as_ref().is_some_and(|signal| is_signal(signal, &self.line.received)) {
            self.line.received.clear();
            engine.leave(now);
        }
        while let StreamStep::Consumed(used, reply) = take(now, flash, engine, &self.line.received) {
            let echo: Vec<u8> = self.line.received.drain(..used.min(self.line.received.len())).collect();
            let Some(reply) = reply else { continue };
            let dialect = engine.unit.dialect();
            if dialect.exchange(reply.exchange).echo {
                self.line.replies.push((now, echo));
            }
            self.reply(&dialect.framing, reply);
        }
        answer
    }
}
