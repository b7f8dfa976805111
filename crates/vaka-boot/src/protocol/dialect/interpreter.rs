//! Runs the operations of a dialect on an open unit.

use std::sync::Arc;
use std::time::Duration;

use vaka_base::text;
use vaka_dialect::{
    Answer, Bindings, Callee, Cut, Dialect, Exchange, Expression, FieldView, FrameMismatch, Framing, Name,
    OperationName, RetryBy, Step, Time, Value,
};
use vaka_usb::{Bus, Change, DeviceInfo, PolledWatch, UsbDevice};

use super::carrier::Transfer;
use super::frame_error::{frame_event, not_an_echo};
use super::transport::CarrierTransport;
use crate::context::Context;
use crate::protocol::session::SessionError;

/// How long a reply may take where the dialect says nothing. Chosen by us.
const REPLY_WITHIN: Duration = Duration::from_secs(1);

/// How long all of an operation may take where the dialect says nothing. Chosen by
/// us: an erase of a large part takes minutes on some.
const TOTAL: Duration = Duration::from_secs(30);
const TOTAL_LONG: Duration = Duration::from_secs(300);

/// How long a sync is tried, and the pause between, where the dialect says nothing.
const SYNC_TOTAL: Duration = Duration::from_secs(3);
const SYNC_EVERY: Duration = Duration::from_millis(50);

/// How often something that changes nothing is tried where the dialect says nothing.
const TRIES: u32 = 3;

/// Before a unit that said "busy" is asked again, and between looks of an `until`.
const BUSY_PAUSE: Duration = Duration::from_millis(5);

/// A stream counts as quiet after this time.
const QUIET: Duration = Duration::from_millis(20);

/// Draining ends by then, whatever still comes.
const DRAIN_MOST: Duration = Duration::from_millis(250);

/// What may come before the first reply of a sync: rests of an earlier program.
const SYNC_JUNK: usize = 4096;

/// A reply of which no end is seen is not waited for beyond so many bytes. Chosen by
/// us: many times what is met.
const MOST_PENDING: usize = 64 * 1024;

/// What is read at once where nobody knows how much comes.
const SOME: usize = 1;

/// What a record calls values that all operations know.
pub const GIVEN: &str = "given";

/// How a unit is opened again after it left and came back.
#[derive(Clone)]
pub struct Reconnect {
    /// Its bus.
    pub bus: Arc<dyn Bus>,
    /// The unit, as it was enumerated last.
    pub device: DeviceInfo,
}

/// One frame that went over the wire, for whoever wants to see it.
#[derive(Clone, Debug)]
pub struct Seen {
    /// In which operation.
    pub operation: OperationName,
    /// Of which exchange.
    pub exchange: String,
    /// Whether it went to the unit.
    pub sent: bool,
    /// Its fields.
    pub fields: Vec<FieldView>,
    /// What is wrong with it, if something is.
    pub trouble: Option<String>,
}

/// A unit that is spoken to in a dialect.
pub struct Talk {
    memory: Bindings,
    wire: CarrierTransport,
    reopen: Option<Reconnect>,
    buffer: Vec<u8>,
    transfers_before: u64,
    watcher: Option<Box<dyn FnMut(Seen)>>,
}

/// What one run of an operation is bound by.
#[derive(Clone, Copy)]
struct OperationLimits {
    operation: OperationName,
    until: Duration,
    tries: u32,
    junk: usize,
}

/// Why an attempt at an exchange failed.
enum Failed {
    /// It may be tried again.
    Again(SessionError),
    /// Trying again changes nothing.
    Final(SessionError),
}

impl From<SessionError> for Failed {
    fn from(error: SessionError) -> Self {
        match error {
            SessionError::Silent(_) | SessionError::Misbehaved(_) | SessionError::Frame(_) => Self::Again(error),
            error => Self::Final(error),
        }
    }
}

impl Talk {
    /// Takes an open unit.
    ///
    /// # Errors
    /// It has not what the carrier needs, or another program holds it.
    pub fn open(
        device: Box<dyn UsbDevice>,
        dialect: Arc<Dialect>,
        reopen: Option<Reconnect>,
        cx: &mut Context<'_>,
    ) -> Result<Self, SessionError> {
        let wire = CarrierTransport::open(device, &dialect, cx)?;
        let memory = Bindings::new(dialect);
        Ok(Self { memory, wire, reopen, buffer: Vec::new(), transfers_before: 0, watcher: None })
    }

    /// Shows every frame to somebody.
    pub fn watch(&mut self, watcher: Box<dyn FnMut(Seen)>) {
        self.watcher = Some(watcher);
    }

    /// What names mean by now.
    pub fn memory(&self) -> &Bindings {
        &self.memory
    }

    /// The same, to give names a value.
    pub fn memory_mut(&mut self) -> &mut Bindings {
        &mut self.memory
    }

    /// Gives names values that all operations know from then on.
    pub fn give(&mut self, given: Vec<(Name, Value)>) {
        let dialect = self.dialect().clone();
        self.wire.note(&dialect, GIVEN, &given);
        for (key, value) in given {
            self.memory.set(key, Some(value));
        }
    }

    /// Its dialect.
    pub fn dialect(&self) -> &Arc<Dialect> {
        self.memory.dialect()
    }

    /// The unit as it is enumerated now, if it came back on the way.
    pub fn device(&self) -> Option<&DeviceInfo> {
        self.reopen.as_ref().map(|reopen| &reopen.device)
    }

    /// USB transfers so far.
    pub fn transfers(&self) -> u64 {
        self.transfers_before + self.wire.transfers()
    }

    /// Waits until the unit has left the bus; whether it has.
    pub fn has_left(&mut self, within: Duration) -> bool {
        self.wire.has_left(within)
    }

    /// Leaves the unit ready for another program.
    pub fn rest(&mut self, cx: &mut Context<'_>) {
        self.buffer.clear();
        self.wire.rest(cx);
    }

    /// Runs an operation with what the tool gives it; `false` if the dialect has
    /// none of that name.
    ///
    /// # Errors
    /// The unit refuses, does not answer, or answers something else. What the
    /// operation changes may be half changed.
    pub fn run(
        &mut self,
        name: OperationName,
        given: Vec<(Name, Value)>,
        cx: &mut Context<'_>,
    ) -> Result<bool, SessionError> {
        let dialect = self.dialect().clone();
        let Some(operation) = dialect.operation(name) else { return Ok(false) };
        self.wire.note(&dialect, name.word(), &given);
        for (key, value) in given {
            self.memory.set(key, Some(value));
        }
        let total = match &operation.total {
            Some(total) => self.time(total)?,
            None if name == OperationName::Sync => SYNC_TOTAL,
            None if takes_long(name) => TOTAL_LONG,
            None => TOTAL,
        };
        let bounds = OperationLimits {
            operation: name,
            until: cx.now() + total,
            tries: if name.only_asks() && name != OperationName::Sync { TRIES } else { 1 },
            junk: if name == OperationName::Sync { SYNC_JUNK } else { dialect.junk },
        };
        if name != OperationName::Sync {
            return self.steps(&operation.steps, bounds, cx).map(|()| true);
        }
        let every = operation.every.as_ref().map_or(Ok(SYNC_EVERY), |every| self.time(every))?;
        self.sync(&operation.steps, every, bounds, cx).map(|()| true)
    }

    /// Again and again, until the unit answers.
    fn sync(
        &mut self,
        steps: &[Step],
        every: Duration,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        loop {
            match self.steps(steps, bounds, cx) {
                Ok(()) => return Ok(()),
                Err(error @ (SessionError::Gone | SessionError::Held(_) | SessionError::Dialect { .. })) => {
                    return Err(error);
                }
                Err(error) if cx.now() + every >= bounds.until || cx.wants_stop() => return Err(error),
                Err(_) => {
                    cx.clock().sleep(every);
                    self.settle(bounds, cx);
                }
            }
        }
    }

    fn time(&self, time: &Time) -> Result<Duration, SessionError> {
        self.memory.time(time).map_err(|words| self.fault("a time", words))
    }

    /// A fault of the dialect, or of what the unit said.
    fn fault(&self, exchange: &str, words: String) -> SessionError {
        SessionError::Dialect { exchange: exchange.to_owned(), words }
    }

    fn steps(&mut self, steps: &[Step], bounds: OperationLimits, cx: &mut Context<'_>) -> Result<(), SessionError> {
        steps.iter().try_for_each(|step| self.step(step, bounds, cx))
    }

    fn step(&mut self, step: &Step, bounds: OperationLimits, cx: &mut Context<'_>) -> Result<(), SessionError> {
        if cx.now() > bounds.until {
            return Err(SessionError::Silent(format!("'{}' took longer than it may", bounds.operation.word())));
        }
        let wrong = |words: String| SessionError::Dialect { exchange: bounds.operation.word().to_owned(), words };
        match step {
            Step::Call { target, given } => {
                let values: Vec<(Name, Value)> = given
                    .iter()
                    .map(|(name, value)| Ok((*name, self.memory.value(value).map_err(wrong)?)))
                    .collect::<Result<_, SessionError>>()?;
                let before: Vec<(Name, Option<Value>)> =
                    values.into_iter().map(|(name, value)| (name, self.memory.set(name, Some(value)))).collect();
                let dialect = self.dialect().clone();
                let done = match target.callee() {
                    Some(Callee::Exchange(number)) => self.exchange(dialect.exchange(number), bounds, cx),
                    Some(Callee::Steps(number)) => self.steps(dialect.named_steps(number), bounds, cx),
                    None => Err(wrong(format!("nothing is called '{}'", target.name))),
                };
                for (name, value) in before {
                    self.memory.set(name, value);
                }
                done
            }
            Step::Let(name, value) => {
                let value = self.memory.value(value).map_err(wrong)?;
                self.memory.set(*name, Some(value));
                Ok(())
            }
            Step::Wait(time) => {
                let until = (cx.now() + self.time(time)?).min(bounds.until);
                cx.wait_until(until, "the unit, as its dialect says");
                Ok(())
            }
            Step::If { condition, yes, no } => {
                let chosen = if self.memory.truth(condition).map_err(wrong)? { yes } else { no };
                self.steps(chosen, bounds, cx)
            }
            Step::Each { size, of, body, .. } => self.each(size, of, body, bounds, cx),
            Step::Repeat { count, body } => {
                let nth = self.dialect().given().nth;
                let before = self.memory.get(nth).cloned();
                for round in 0..self.memory.rounds(count).map_err(wrong)? {
                    self.memory.set(nth, Some(Value::Int(round)));
                    self.steps(body, bounds, cx)?;
                }
                self.memory.set(nth, before);
                Ok(())
            }
            Step::Until { done, every, within, body, .. } => {
                let every = every.as_ref().map_or(Ok(BUSY_PAUSE), |every| self.time(every))?;
                let until = (cx.now() + self.time(within)?).min(bounds.until);
                loop {
                    self.steps(body, bounds, cx)?;
                    if self.memory.truth(done).map_err(wrong)? {
                        return Ok(());
                    }
                    if cx.now() + every > until {
                        let words = format!("in '{}' the unit did not become ready in time", bounds.operation.word());
                        return Err(SessionError::Silent(words));
                    }
                    cx.wait_until(cx.now() + every, "the unit to become ready");
                }
            }
            Step::Expect(condition, sentence) => match self.memory.truth(condition).map_err(wrong)? {
                true => Ok(()),
                false => Err(self.refused(bounds.operation.word(), sentence)),
            },
            Step::Fail(sentence) => Err(self.refused(bounds.operation.word(), sentence)),
            Step::Line(line, _) => self.wire.set_line(*line),
            Step::Signals { dtr, rts, .. } => self.wire.signal(*dtr, *rts),
            Step::Drain => {
                self.settle(bounds, cx);
                Ok(())
            }
            Step::Leaves(within) => {
                let within = self.time(within)?.min(bounds.until.saturating_sub(cx.now()));
                match self.wire.has_left(within) {
                    true => Ok(()),
                    false => Err(SessionError::Silent("the unit did not leave the bus in time".into())),
                }
            }
            Step::ComesBack(within) => {
                let until = (cx.now() + self.time(within)?).min(bounds.until);
                self.come_back(until, cx)
            }
        }
    }

    fn refused(&self, exchange: &str, words: &str) -> SessionError {
        SessionError::Answered { exchange: exchange.to_owned(), words: text::tame(words), has_no_reason: false }
    }

    fn each(
        &mut self,
        size: &Expression,
        of: &Expression,
        body: &[Step],
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let wrong = |words: String| SessionError::Dialect { exchange: bounds.operation.word().to_owned(), words };
        let size = self.memory.size(size).map_err(wrong)?;
        let bytes = self.memory.bytes(of).map_err(wrong)?;
        if size == 0 {
            return Err(wrong("pieces have at least one byte".to_owned()));
        }
        let given = self.dialect().given();
        let names = [given.piece, given.place, given.nth];
        let before = names.map(|name| self.memory.get(name).cloned());
        for (nth, piece) in bytes.chunks(size).enumerate() {
            self.memory.set(given.piece, Some(piece.to_vec().into()));
            self.memory.set(given.place, Some(Value::Int((nth * size) as i128)));
            self.memory.set(given.nth, Some(Value::Int(nth as i128)));
            self.steps(body, bounds, cx)?;
        }
        for (name, value) in names.into_iter().zip(before) {
            self.memory.set(name, value);
        }
        Ok(())
    }

    /// The unit leaves, and what comes on its port is opened again.
    fn come_back(&mut self, until: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let Some(reopen) = self.reopen.clone() else {
            return Err(SessionError::Misbehaved("it leaves the bus, and nobody knows how to find it again".into()));
        };
        self.wire.has_left(until.saturating_sub(cx.now()));
        let link = |error: vaka_usb::BusError| SessionError::Link(error.to_string());
        let mut watch = PolledWatch::from_nothing(&*reopen.bus, cx.clock());
        loop {
            let left = until.saturating_sub(cx.now());
            let wanted = &reopen.device;
            let back = watch.next(left.min(Duration::from_millis(200))).map_err(link)?.into_iter().find_map(|change| {
                match change {
                    Change::Came(device) if device.location == wanted.location && device.address != wanted.address => {
                        Some(device)
                    }
                    _ => None,
                }
            });
            if let Some(device) = back {
                let usb = reopen.bus.open(&device.location.port).map_err(link)?;
                self.transfers_before += self.wire.transfers();
                self.wire = CarrierTransport::open(usb, &self.dialect().clone(), cx)?;
                self.buffer.clear();
                self.reopen = Some(Reconnect { device, ..reopen });
                return Ok(());
            }
            if left.is_zero() || cx.wants_stop() {
                return Err(SessionError::Gone);
            }
        }
    }

    /// Throws away what still comes, until it is quiet.
    fn settle(&mut self, bounds: OperationLimits, cx: &mut Context<'_>) {
        self.buffer.clear();
        let until = (cx.now() + DRAIN_MOST).min(bounds.until);
        while cx.now() < until && self.wire.drain(QUIET) {}
    }

    /// An exchange, as often as it may be tried.
    fn exchange(
        &mut self,
        exchange: &Exchange,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let tries = if bounds.operation == OperationName::Sync { 1 } else { exchange.tries.unwrap_or(bounds.tries) };
        let mut tried = 1;
        let mut first = None;
        loop {
            match self.attempt(exchange, bounds, cx) {
                Ok(()) => break,
                Err(Failed::Final(error)) => return Err(error.after(first, cx)),
                Err(Failed::Again(error)) if tried >= tries || cx.now() >= bounds.until => {
                    if let SessionError::Frame(trouble) = &error
                        && bounds.operation != OperationName::Sync
                    {
                        cx.tell(frame_event(trouble));
                    }
                    return Err(error.after(first, cx));
                }
                Err(Failed::Again(error)) => {
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
        let frame = self.memory.request(exchange).map_err(|words| Failed::Final(self.fault(&exchange.name, words)))?;
        let wrapped = self.dialect().framing.wrap(frame);
        let wrapped = wrapped.map_err(|words| Failed::Final(self.fault(&exchange.name, words)))?;
        loop {
            if exchange.sends() {
                self.leftovers(exchange, bounds)?;
                if self.send(exchange, &wrapped, until, bounds, cx)? {
                    continue;
                }
                if exchange.echo {
                    self.echo(exchange, &wrapped, until, bounds.junk, cx)?;
                }
            }
            if !exchange.has_reply() {
                return Ok(());
            }
            match self.reply(exchange, until, bounds, cx)? {
                Reply::Done => return Ok(()),
                Reply::SendAgain => {}
            }
        }
    }

    /// Sends a frame; `true` if the unit was busy, and it is to be sent again.
    fn send(
        &mut self,
        exchange: &Exchange,
        wrapped: &[u8],
        until: Duration,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<bool, Failed> {
        if self.watcher.is_some() {
            let fields = self.memory.view_request(exchange);
            self.show(exchange, bounds, true, fields, None);
        }
        let timeout = until.saturating_sub(cx.now()).max(Duration::from_millis(1));
        match self.wire.send(&Transfer { exchange, memory: &self.memory, timeout }, wrapped, cx) {
            Ok(()) => Ok(false),
            Err(error) if is_stall(&error) && exchange.busy_on_stall => {
                self.pause(exchange, until, cx)?;
                Ok(true)
            }
            Err(error) => Err(self.stalled(exchange, error)),
        }
    }

    fn stalled(&mut self, exchange: &Exchange, error: SessionError) -> Failed {
        let SessionError::Refused { reason, status } = &error else { return error.into() };
        self.wire.unhalt();
        // Over DFU the unit gave a status, which the dialect may explain further.
        let own = self.dialect().dfu_status(status.number());
        let words = match own.filter(|_| self.dialect().carrier.kind().explains_dfu_status) {
            Some(own) => format!("{reason}: {own}"),
            None => reason.clone(),
        };
        Failed::Final(SessionError::Answered {
            exchange: exchange.name.clone(),
            words: text::tame(&words),
            has_no_reason: !error.is_reasoned_refusal(),
        })
    }

    /// What came behind the reply before this one: too much.
    fn leftovers(&mut self, exchange: &Exchange, bounds: OperationLimits) -> Result<(), Failed> {
        let left = std::mem::take(&mut self.buffer);
        if left.len() <= bounds.junk || self.dialect().framing != Framing::None {
            return Ok(());
        }
        let words = format!(
            "{} stood behind the reply before this one: {}",
            text::count(left.len(), "byte"),
            text::hex_pairs(&left[..left.len().min(16)])
        );
        let field =
            FieldView { field: "(too much)".into(), bytes: left, says: "expected nothing more".into(), is_wrong: true };
        let trouble = FrameMismatch { exchange: exchange.name.clone(), words, fields: vec![field] };
        Err(Failed::Again(SessionError::Frame(Box::new(trouble))))
    }

    /// Waits before a busy unit is asked again.
    fn pause(&mut self, exchange: &Exchange, until: Duration, cx: &mut Context<'_>) -> Result<(), Failed> {
        let pause = exchange.pause.as_ref().map_or(Ok(BUSY_PAUSE), |pause| self.time(pause))?;
        if cx.now() + pause > until {
            let words = format!("in '{}' the unit is still busy", exchange.name);
            return Err(Failed::Final(SessionError::Silent(words)));
        }
        cx.wait_until(cx.now() + pause, "the unit, which is busy");
        Ok(())
    }

    /// The unit sends back what it got, perhaps behind a prompt.
    fn echo(
        &mut self,
        exchange: &Exchange,
        sent: &[u8],
        until: Duration,
        junk: usize,
        cx: &mut Context<'_>,
    ) -> Result<(), Failed> {
        if !self.dialect().framing.is_stream() {
            let timeout = until.saturating_sub(cx.now());
            let came = self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, sent.len(), cx)?;
            return if came.starts_with(sent) {
                Ok(())
            } else {
                Err(Failed::Again(not_an_echo(exchange, sent, &came)))
            };
        }
        let mut junk = junk;
        loop {
            while self.buffer.len() < sent.len() {
                self.fill(exchange, sent.len() - self.buffer.len(), until, cx)?;
            }
            if self.buffer.starts_with(sent) {
                self.buffer.drain(..sent.len());
                return Ok(());
            }
            if junk == 0 {
                let came: Vec<u8> = self.buffer.drain(..sent.len()).collect();
                return Err(Failed::Again(not_an_echo(exchange, sent, &came)));
            }
            junk -= 1;
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
            return Err(SessionError::Misbehaved(format!("to '{}' it sends without an end", exchange.name)).into());
        }
        match self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, wanted.max(SOME), cx) {
            Ok(bytes) => {
                self.buffer.extend(bytes);
                Ok(())
            }
            Err(SessionError::Silent(_)) => Err(self.silent(exchange)),
            Err(error) => Err(self.stalled(exchange, error)),
        }
    }

    /// No reply, or only a part of one.
    fn silent(&self, exchange: &Exchange) -> Failed {
        let name = &exchange.name;
        if self.buffer.is_empty() {
            return Failed::Again(SessionError::Silent(format!("no reply to '{name}' came in time")));
        }
        let fields = self.memory.view_answer(exchange, &self.buffer);
        let words = format!("only {} of a reply came in time", text::count(self.buffer.len(), "byte"));
        Failed::Again(SessionError::Frame(Box::new(FrameMismatch { exchange: name.clone(), words, fields })))
    }

    fn show(
        &mut self,
        exchange: &Exchange,
        bounds: OperationLimits,
        sent: bool,
        fields: Vec<FieldView>,
        trouble: Option<String>,
    ) {
        if let Some(watcher) = &mut self.watcher {
            watcher(Seen { operation: bounds.operation, exchange: exchange.name.clone(), sent, fields, trouble });
        }
    }

    /// Waits for the reply that was expected, over busy ones and what belongs to nobody.
    fn reply(
        &mut self,
        exchange: &Exchange,
        until: Duration,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<Reply, Failed> {
        let mut junk = bounds.junk;
        loop {
            let got = match self.next_answer(exchange, until, &mut junk, bounds, cx) {
                Err(Failed::Again(SessionError::Silent(_))) if exchange.optional => return Ok(Reply::Done),
                got => got?,
            };
            match got {
                Answer::Done(_) => return Ok(Reply::Done),
                Answer::Refused(words) => return Err(Failed::Final(self.refused(&exchange.name, &words))),
                Answer::Busy(_) => {
                    self.pause(exchange, until, cx)?;
                    if exchange.ask == RetryBy::Send {
                        return Ok(Reply::SendAgain);
                    }
                }
                Answer::Differs(trouble) => return Err(Failed::Again(SessionError::Frame(trouble))),
                Answer::More(_) => return Err(self.silent(exchange)),
            }
        }
    }

    /// The next frame that says something.
    fn next_answer(
        &mut self,
        exchange: &Exchange,
        until: Duration,
        junk: &mut usize,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<Answer, Failed> {
        let dialect = self.dialect().clone();
        match &dialect.framing {
            framing if !framing.is_stream() => self.transferred(exchange, until, bounds, cx),
            Framing::None => self.unframed(exchange, until, junk, bounds, cx),
            framing => self.framed(framing, exchange, until, junk, bounds, cx),
        }
    }

    /// A frame that is a transfer of its own.
    fn transferred(
        &mut self,
        exchange: &Exchange,
        until: Duration,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<Answer, Failed> {
        let timeout = until.saturating_sub(cx.now()).max(Duration::from_millis(1));
        match self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, SOME, cx) {
            Ok(frame) => Ok(self.answer(exchange, &frame, true, bounds)),
            Err(error) if is_stall(&error) && exchange.busy_on_stall => Ok(Answer::Busy(0)),
            Err(SessionError::Silent(_)) => Err(self.silent(exchange)),
            Err(error) => Err(self.stalled(exchange, error)),
        }
    }

    /// A frame of which only its own fields say where it ends.
    fn unframed(
        &mut self,
        exchange: &Exchange,
        until: Duration,
        junk: &mut usize,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<Answer, Failed> {
        loop {
            let buffer = std::mem::take(&mut self.buffer);
            let answer = match buffer.is_empty() {
                true => Answer::More(self.memory.reply_length(exchange).unwrap_or(SOME)),
                false => self.answer(exchange, &buffer, false, bounds),
            };
            self.buffer = buffer;
            match answer {
                Answer::More(more) => self.fill(exchange, more, until, cx)?,
                Answer::Differs(_) if *junk > 0 => {
                    *junk -= 1;
                    self.buffer.remove(0);
                }
                Answer::Done(used) | Answer::Busy(used) => {
                    self.buffer.drain(..used);
                    return Ok(answer);
                }
                Answer::Differs(_) | Answer::Refused(_) => {
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
        exchange: &Exchange,
        until: Duration,
        junk: &mut usize,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<Answer, Failed> {
        loop {
            if self.buffer.is_empty() {
                self.fill(exchange, SOME, until, cx)?;
            }
            match framing.cut(&self.buffer) {
                Cut::More(more) => self.fill(exchange, more, until, cx)?,
                Cut::Junk(len) => drop(self.buffer.drain(..len)),
                Cut::Frame { body, used } => {
                    self.buffer.drain(..used);
                    match self.answer(exchange, &body, true, bounds) {
                        Answer::Differs(_) if *junk >= used => *junk -= used,
                        answer => return Ok(answer),
                    }
                }
            }
        }
    }

    /// What a frame says, shown to whoever watches.
    fn answer(&mut self, exchange: &Exchange, frame: &[u8], whole: bool, bounds: OperationLimits) -> Answer {
        let before = self.watcher.is_some().then(|| self.memory.clone());
        let answer = self.memory.answer(exchange, frame, whole);
        if let Some(before) = before {
            let used = match &answer {
                Answer::Done(used) | Answer::Busy(used) if !whole => &frame[..*used],
                Answer::More(_) => return answer,
                _ => frame,
            };
            let fields = before.view_answer(exchange, used);
            let trouble = match &answer {
                Answer::Differs(trouble) => Some(trouble.words.clone()),
                Answer::Refused(words) => Some(format!("refused: {words}")),
                Answer::Busy(_) => Some("busy".to_owned()),
                _ => None,
            };
            self.show(exchange, bounds, false, fields, trouble);
        }
        answer
    }
}

/// How a reply ended.
enum Reply {
    Done,
    SendAgain,
}

/// What a unit may be busy with for long where the dialect says nothing.
fn takes_long(name: OperationName) -> bool {
    matches!(name, OperationName::Erase | OperationName::Begin | OperationName::End)
}

fn is_stall(error: &SessionError) -> bool {
    matches!(error, SessionError::Refused { .. })
}
