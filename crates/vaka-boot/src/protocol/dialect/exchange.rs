//! One exchange of frames with a unit: send, echo, reply, retry.

use std::time::Duration;

use vaka_base::text;
use vaka_dialect::{Exchange, FieldView, FrameMismatch, FrameScan, Framing, ReplyOutcome, RetryBy};

use super::carrier::Transfer;
use super::frame_error::{frame_event, not_an_echo};
use super::interpreter::{BUSY_PAUSE, Failed, Interpreter, OperationLimits, QUIET, TOTAL, TracedFrame, takes_long};
use crate::context::Context;
use crate::protocol::sense::Sense;
use crate::protocol::session_error::SessionError;

/// Default time limit for a reply. Chosen by us.
const REPLY_WITHIN: Duration = Duration::from_secs(1);

/// Give up on an unterminated reply after this many bytes. Chosen by us: many times the size of
/// real replies.
const MOST_PENDING: usize = 64 * 1024;

/// Number of bytes to read if the length of the reply is unknown.
const SOME: usize = 1;

/// One attempt at an exchange.
struct Attempt<'e> {
    exchange: &'e Exchange,
    /// When the attempt has failed.
    until: Duration,
    limits: OperationLimits,
    /// Number of garbage bytes that are still allowed.
    garbage: usize,
    /// How often the frame may still be sent again because the unit did not receive it intact.
    naks: u32,
}

impl Attempt<'_> {
    /// A frame of the attempt, without its content.
    fn traced(&self, sent: bool) -> TracedFrame {
        let (operation, exchange) = (self.limits.operation, self.exchange.name.clone());
        TracedFrame { operation, exchange, sent, setup: None, fields: Vec::new(), trouble: None }
    }
}

/// The outcome of a reply.
enum Reply {
    Done,
    SendAgain,
}

impl Interpreter {
    /// Runs an exchange with its allowed number of attempts.
    pub(super) fn exchange(
        &mut self,
        exchange: &Exchange,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let tries = if bounds.operation.is_repeated() { 1 } else { exchange.tries.unwrap_or(bounds.tries) };
        let mut tried = 1;
        let mut first = None;
        loop {
            match self.attempt(exchange, bounds, cx) {
                Ok(()) => break,
                Err(Failed::Permanent(error)) => return Err(error.after(first, cx)),
                Err(Failed::Transient(error)) if tried >= tries || cx.now() >= bounds.until => {
                    if let SessionError::Frame(trouble) = &error
                        && !bounds.operation.is_repeated()
                    {
                        cx.tell(frame_event(trouble));
                    }
                    return Err(error.after(first, cx));
                }
                Err(Failed::Transient(error)) => {
                    first.get_or_insert(error);
                    tried += 1;
                    self.settle(bounds, cx);
                }
            }
        }
        let dialect = self.dialect().clone();
        self.steps(&exchange.then, bounds, cx)?;
        self.steps(dialect.after_each(), bounds, cx)
    }

    fn attempt(&mut self, exchange: &Exchange, bounds: OperationLimits, cx: &mut Context<'_>) -> Result<(), Failed> {
        let within = match &exchange.within {
            Some(within) => self.time(within)?,
            None if takes_long(bounds.operation) => TOTAL,
            None => REPLY_WITHIN,
        };
        let now = cx.now();
        let until = (now + within).min(bounds.until.max(now + Duration::from_millis(1)));
        let mut at = Attempt { exchange, until, limits: bounds, garbage: bounds.junk, naks: exchange.naks };
        let frame = self
            .memory
            .request(exchange)
            .map_err(|error| Failed::Permanent(SessionError::dialect(&exchange.name, error)))?;
        let wrapped = match exchange.sends_aside() {
            true => Ok(frame),
            false => self.dialect().framing.wrap(frame),
        };
        let wrapped = wrapped.map_err(|error| Failed::Permanent(SessionError::dialect(&exchange.name, error)))?;
        loop {
            if exchange.sends() {
                self.leftovers(&at)?;
                self.wire.conceal(exchange.is_secret);
                let sent = self.send_with_echo(&at, &wrapped, cx);
                self.wire.conceal(false);
                if sent? {
                    continue;
                }
            }
            if !exchange.has_reply() {
                return Ok(());
            }
            at.garbage = bounds.junk;
            match self.reply(&mut at, cx)? {
                Reply::Done => return Ok(()),
                Reply::SendAgain => {}
            }
        }
    }

    /// Sends a frame and reads its echo; `true` if the unit was busy and the frame must be sent again.
    fn send_with_echo(&mut self, at: &Attempt<'_>, wrapped: &[u8], cx: &mut Context<'_>) -> Result<bool, Failed> {
        let is_busy = self.send(at, wrapped, cx)?;
        if at.exchange.echo && !is_busy {
            self.echo(at, wrapped, cx)?;
        }
        Ok(is_busy)
    }

    /// Sends a frame; `true` if the unit was busy and the frame must be sent again.
    fn send(&mut self, at: &Attempt<'_>, wrapped: &[u8], cx: &mut Context<'_>) -> Result<bool, Failed> {
        let Attempt { exchange, until, .. } = *at;
        if self.watcher.is_some() {
            let fields = self.memory.view_request(exchange);
            let setup = self.wire.setup(exchange, &self.memory, false);
            self.show(TracedFrame { setup, fields, ..at.traced(true) });
        }
        let timeout = until.saturating_sub(cx.now()).max(Duration::from_millis(1));
        match self.wire.send(&Transfer { exchange, memory: &self.memory, timeout }, wrapped, cx) {
            Ok(()) => Ok(false),
            Err(error) if is_stall(&error) && exchange.busy_on_stall => {
                self.pause(exchange, until, cx)?;
                Ok(true)
            }
            Err(SessionError::CommandFailed(sense)) => match self.sensed(at, sense)? {
                ReplyOutcome::Busy(_) => {
                    self.pause(exchange, until, cx)?;
                    Ok(true)
                }
                ReplyOutcome::Refused(words) => Err(Failed::Permanent(self.refused(&exchange.name, &words))),
                _ => Ok(false),
            },
            Err(error) => Err(self.stalled(exchange, error)),
        }
    }

    /// The meaning of the sense data of a failed command: done, busy or refused. Without a pattern of the
    /// exchange it is refused, with the words of the standard.
    fn sensed(&mut self, at: &Attempt<'_>, sense: Sense) -> Result<ReplyOutcome, Failed> {
        let outcome = match self.memory.sense(at.exchange, [sense.0, sense.1, sense.2]) {
            ReplyOutcome::Refused(words) => ReplyOutcome::Refused(format!("{words} ({})", sense.code())),
            known @ (ReplyOutcome::Busy(_) | ReplyOutcome::Done(_)) => known,
            _ => ReplyOutcome::Refused(sense.to_string()),
        };
        if self.watcher.is_some() {
            let bytes = vec![sense.0, sense.1, sense.2];
            let fields = vec![FieldView { field: "sense".into(), bytes, says: sense.to_string(), is_wrong: false }];
            self.show(TracedFrame { fields, trouble: trouble(&outcome), ..at.traced(false) });
        }
        match outcome {
            ReplyOutcome::Refused(words) if sense == Sense::NONE => {
                let exchange = at.exchange.name.clone();
                Err(Failed::Permanent(SessionError::RejectedByDialect { exchange, words, has_no_reason: true }))
            }
            outcome => Ok(outcome),
        }
    }

    fn stalled(&mut self, exchange: &Exchange, error: SessionError) -> Failed {
        let SessionError::DfuStatus { reason, status } = &error else { return error.into() };
        self.wire.clear_halts();
        // Over DFU the unit returned a status, which the dialect may explain further.
        let own = self.dialect().dfu_status(status.number());
        let words = match own.filter(|_| self.dialect().carrier.kind().explains_dfu_status) {
            Some(own) => format!("{reason}: {own}"),
            None => reason.clone(),
        };
        Failed::Permanent(SessionError::RejectedByDialect {
            exchange: exchange.name.clone(),
            words: text::sanitize(&words),
            has_no_reason: !error.is_reasoned_refusal(),
        })
    }

    /// Reports extra bytes after the previous reply.
    fn leftovers(&mut self, at: &Attempt<'_>) -> Result<(), Failed> {
        let left = std::mem::take(&mut self.buffer);
        if left.len() <= at.limits.junk || self.dialect().framing != Framing::None {
            return Ok(());
        }
        let words = format!(
            "{} followed the previous reply: {}",
            text::count(left.len(), "byte"),
            text::hex_pairs(&left[..left.len().min(16)])
        );
        let field = FieldView {
            field: "(too much)".into(),
            bytes: left,
            says: "expected no more bytes".into(),
            is_wrong: true,
        };
        let trouble = FrameMismatch { exchange: at.exchange.name.clone(), words, fields: vec![field] };
        Err(Failed::Transient(SessionError::Frame(Box::new(trouble))))
    }

    /// Pauses before the retry of a busy unit.
    fn pause(&mut self, exchange: &Exchange, until: Duration, cx: &mut Context<'_>) -> Result<(), Failed> {
        let pause = exchange.pause.as_ref().map_or(Ok(BUSY_PAUSE), |pause| self.time(pause))?;
        if cx.now() + pause > until {
            let words = format!("in '{}' the unit is still busy", exchange.name);
            return Err(Failed::Permanent(SessionError::Timeout(words)));
        }
        cx.wait_until(cx.now() + pause, "the unit, which is busy");
        Ok(())
    }

    /// Reads the echo of a frame, which may follow a prompt.
    fn echo(&mut self, at: &Attempt<'_>, sent: &[u8], cx: &mut Context<'_>) -> Result<(), Failed> {
        let Attempt { exchange, until, limits, .. } = *at;
        if !self.dialect().framing.is_stream() {
            let timeout = until.saturating_sub(cx.now());
            let came = self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, sent.len(), cx)?;
            return if came.starts_with(sent) {
                Ok(())
            } else {
                Err(Failed::Transient(not_an_echo(exchange, sent, &came)))
            };
        }
        let mut garbage = limits.junk;
        loop {
            while self.buffer.len() < sent.len() {
                self.fill(exchange, sent.len() - self.buffer.len(), until, cx)?;
            }
            if self.buffer.starts_with(sent) {
                self.buffer.drain(..sent.len());
                return Ok(());
            }
            if garbage == 0 {
                let came: Vec<u8> = self.buffer.drain(..sent.len()).collect();
                return Err(Failed::Transient(not_an_echo(exchange, sent, &came)));
            }
            garbage -= 1;
            self.buffer.remove(0);
        }
    }

    /// Reads more of a stream.
    fn fill(
        &mut self,
        exchange: &Exchange,
        wanted: usize,
        until: Duration,
        cx: &mut Context<'_>,
    ) -> Result<(), Failed> {
        let timeout = until.saturating_sub(cx.now());
        if timeout.is_zero() {
            return Err(self.silent(exchange));
        }
        if self.buffer.len() > MOST_PENDING.max(wanted.saturating_mul(2)) {
            self.buffer.clear();
            return Err(
                SessionError::ProtocolViolation(format!("its reply to '{}' does not end", exchange.name)).into()
            );
        }
        match self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, wanted.max(SOME), cx) {
            Ok(bytes) => {
                self.buffer.extend(bytes);
                Ok(())
            }
            Err(SessionError::Timeout(_)) => Err(self.silent(exchange)),
            Err(error) => Err(self.stalled(exchange, error)),
        }
    }

    /// The failure for a missing or partial reply.
    fn silent(&self, exchange: &Exchange) -> Failed {
        self.silent_after(exchange, &self.buffer)
    }

    /// The failure for a reply of which only these bytes arrived.
    fn silent_after(&self, exchange: &Exchange, came: &[u8]) -> Failed {
        let name = &exchange.name;
        if came.is_empty() {
            return Failed::Transient(SessionError::Timeout(format!("no reply to '{name}' in time")));
        }
        let fields = self.memory.view_answer(exchange, came);
        let words = format!("only {} of a reply arrived in time", text::count(came.len(), "byte"));
        Failed::Transient(SessionError::Frame(Box::new(FrameMismatch { exchange: name.clone(), words, fields })))
    }

    /// The failure of a frame that the unit never received intact.
    fn never_intact(&self, exchange: &Exchange) -> Failed {
        let times = text::count(exchange.naks as usize + 1, "time");
        let words = format!("it reported {times} that the frame of '{}' did not arrive intact", exchange.name);
        Failed::Permanent(SessionError::ProtocolViolation(words))
    }

    pub(super) fn show(&mut self, frame: TracedFrame) {
        if let Some(watcher) = &mut self.watcher {
            watcher(frame);
        }
    }

    /// Waits for the expected reply; skips busy replies and garbage.
    fn reply(&mut self, at: &mut Attempt<'_>, cx: &mut Context<'_>) -> Result<Reply, Failed> {
        let Attempt { exchange, until, .. } = *at;
        loop {
            let got = match self.next_answer(at, cx) {
                Err(Failed::Transient(SessionError::Timeout(_))) if exchange.optional => return Ok(Reply::Done),
                got => got?,
            };
            match got {
                ReplyOutcome::Done(_) => return Ok(Reply::Done),
                ReplyOutcome::Refused(words) => return Err(Failed::Permanent(self.refused(&exchange.name, &words))),
                ReplyOutcome::Busy(_) => {
                    self.pause(exchange, until, cx)?;
                    if exchange.ask == RetryBy::Send {
                        return Ok(Reply::SendAgain);
                    }
                }
                ReplyOutcome::Nak(_) => {
                    at.naks = at.naks.checked_sub(1).ok_or_else(|| self.never_intact(exchange))?;
                    return Ok(Reply::SendAgain);
                }
                ReplyOutcome::Differs(trouble) => return Err(Failed::Transient(SessionError::Frame(trouble))),
                ReplyOutcome::More(_) => return Err(self.silent(exchange)),
            }
        }
    }

    /// Reads the next frame with content.
    fn next_answer(&mut self, at: &mut Attempt<'_>, cx: &mut Context<'_>) -> Result<ReplyOutcome, Failed> {
        let dialect = self.dialect().clone();
        match &dialect.framing {
            framing if !framing.is_stream() || at.exchange.receives_aside() => self.transferred(at, cx),
            Framing::None => self.unframed(at, cx),
            framing => self.framed(framing, at, cx),
        }
    }

    /// Reads a frame that is one transfer. It may have several packets: it ends with a packet that
    /// is not full, or with its last field.
    fn transferred(&mut self, at: &Attempt<'_>, cx: &mut Context<'_>) -> Result<ReplyOutcome, Failed> {
        let Attempt { exchange, until, .. } = *at;
        let mut frame = Vec::new();
        let mut wanted = self.memory.reply_length(exchange).unwrap_or(SOME).min(MOST_PENDING);
        loop {
            // A reply of full packets without an end of its own ends if no more follows.
            let may_end = !frame.is_empty() && self.memory.is_reply_open(exchange);
            let left = until.saturating_sub(cx.now()).max(Duration::from_millis(1));
            let timeout = if may_end { QUIET.min(left) } else { left };
            match self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, wanted, cx) {
                Ok(bytes) => {
                    let is_end = self.wire.is_end(exchange, wanted, bytes.len());
                    frame.extend(bytes);
                    if is_end || frame.len() >= MOST_PENDING {
                        return Ok(self.answer(at, &frame, true));
                    }
                    match self.answer(at, &frame, false) {
                        ReplyOutcome::More(more) => wanted = more,
                        answer => return Ok(answer),
                    }
                }
                Err(error) if is_stall(&error) && exchange.busy_on_stall => return Ok(ReplyOutcome::Busy(0)),
                Err(SessionError::CommandFailed(sense)) => return self.sensed(at, sense),
                Err(SessionError::Timeout(_)) if may_end => return Ok(self.answer(at, &frame, true)),
                Err(SessionError::Timeout(_)) => return Err(self.silent_after(exchange, &frame)),
                Err(error) => return Err(self.stalled(exchange, error)),
            }
        }
    }

    /// Reads a frame whose own fields determine its end.
    fn unframed(&mut self, at: &mut Attempt<'_>, cx: &mut Context<'_>) -> Result<ReplyOutcome, Failed> {
        let Attempt { exchange, until, .. } = *at;
        loop {
            let buffer = std::mem::take(&mut self.buffer);
            let answer = match buffer.is_empty() {
                true => ReplyOutcome::More(self.memory.reply_length(exchange).unwrap_or(SOME)),
                false => self.answer(at, &buffer, false),
            };
            self.buffer = buffer;
            match answer {
                ReplyOutcome::More(more) => self.fill(exchange, more, until, cx)?,
                ReplyOutcome::Differs(_) if at.garbage > 0 => {
                    at.garbage -= 1;
                    self.buffer.remove(0);
                }
                ReplyOutcome::Done(used) | ReplyOutcome::Busy(used) | ReplyOutcome::Nak(used) => {
                    self.buffer.drain(..used);
                    return Ok(answer);
                }
                ReplyOutcome::Differs(_) | ReplyOutcome::Refused(_) => {
                    self.buffer.clear();
                    return Ok(answer);
                }
            }
        }
    }

    /// A frame between marks.
    fn framed(
        &mut self,
        framing: &Framing,
        at: &mut Attempt<'_>,
        cx: &mut Context<'_>,
    ) -> Result<ReplyOutcome, Failed> {
        let Attempt { exchange, until, .. } = *at;
        loop {
            if self.buffer.is_empty() {
                self.fill(exchange, SOME, until, cx)?;
            }
            match framing.cut(&self.buffer) {
                FrameScan::More(more) => self.fill(exchange, more, until, cx)?,
                FrameScan::Junk(len) => drop(self.buffer.drain(..len)),
                FrameScan::Frame { body, used } => {
                    self.buffer.drain(..used);
                    match self.answer(at, &body, true) {
                        ReplyOutcome::Differs(_) if at.garbage >= used => at.garbage -= used,
                        answer => return Ok(answer),
                    }
                }
            }
        }
    }

    /// Parses a frame and passes it to the watcher.
    fn answer(&mut self, at: &Attempt<'_>, frame: &[u8], whole: bool) -> ReplyOutcome {
        let exchange = at.exchange;
        let before = self.watcher.is_some().then(|| self.memory.clone());
        let answer = self.memory.answer(exchange, frame, whole);
        if let Some(before) = before {
            let used = match &answer {
                ReplyOutcome::Done(used) | ReplyOutcome::Busy(used) | ReplyOutcome::Nak(used) if !whole => {
                    &frame[..*used]
                }
                ReplyOutcome::More(_) => return answer,
                _ => frame,
            };
            let fields = before.view_answer(exchange, used);
            let setup = self.wire.setup(exchange, &before, true);
            self.show(TracedFrame { setup, fields, trouble: trouble(&answer), ..at.traced(false) });
        }
        answer
    }
}

/// Why a reply is not the expected one.
fn trouble(answer: &ReplyOutcome) -> Option<String> {
    match answer {
        ReplyOutcome::Differs(trouble) => Some(trouble.words.clone()),
        ReplyOutcome::Refused(words) => Some(format!("refused: {words}")),
        ReplyOutcome::Busy(_) => Some("busy".to_owned()),
        ReplyOutcome::Nak(_) => Some("not received intact".to_owned()),
        _ => None,
    }
}

fn is_stall(error: &SessionError) -> bool {
    matches!(error, SessionError::DfuStatus { .. })
}
