//! Runs the operations of a dialect on an open unit.

use std::slice::Chunks;
use std::sync::Arc;
use std::time::Duration;

use vaka_base::text;
use vaka_dialect::{
    Bindings, Callee, Dialect, EvaluationError, Expression, FieldView, MOST_RANDOM, Name, OperationName, Step, Target,
    Time, Value,
};
use vaka_usb::{Bus, BusError, DeviceInfo, HotplugEvent, PolledWatch, Setup, UsbDevice};

use super::transport::CarrierTransport;
use crate::bench::serial_access::SerialAccess;
use crate::context::Context;
use crate::protocol::session_error::SessionError;
use crate::secrets::SecretSource;

/// Default time limit for an operation. Chosen by us: erasing a large part takes minutes on some
/// units.
pub(super) const TOTAL: Duration = Duration::from_secs(30);
const TOTAL_LONG: Duration = Duration::from_secs(300);

/// Default time limit for a sync or a confirmation, and the pause between attempts.
const SYNC_TOTAL: Duration = Duration::from_secs(3);
const SYNC_EVERY: Duration = Duration::from_millis(50);

/// Default number of attempts of an operation that changes nothing.
const TRIES: u32 = 3;

/// Pause before the retry of a busy unit, and between iterations of an `until`.
pub(super) const BUSY_PAUSE: Duration = Duration::from_millis(5);

/// A stream counts as quiet after this time.
pub(super) const QUIET: Duration = Duration::from_millis(20);

/// Time limit for draining.
const DRAIN_MOST: Duration = Duration::from_millis(250);

/// Maximum number of bytes before the first reply of a sync: the remains of an earlier program.
const SYNC_JUNK: usize = 4096;

/// The name in traces of values that all operations know.
pub const GIVEN: &str = "given";

/// The name in traces of random bytes that an operation drew.
pub const RANDOM: &str = "random";

/// The name in traces of the values of the dialect's parameters.
pub const PARAMETERS: &str = "parameters";

/// The name in traces of the sizes of values that the user supplied.
pub const ASKED: &str = "asked";

/// A source of random bytes; a sentence if it has none.
pub type RandomSource = Box<dyn FnMut(usize) -> Result<Vec<u8>, String> + Send>;

fn from_system(size: usize) -> Result<Vec<u8>, String> {
    let mut bytes = vec![0; size];
    getrandom::fill(&mut bytes).map_err(|error| format!("the system has no random bytes: {error}"))?;
    Ok(bytes)
}

/// The information for reopening a unit after it disconnected and returned.
#[derive(Clone)]
pub struct Reconnect {
    /// The bus.
    pub bus: Arc<dyn Bus>,
    /// The unit as last enumerated.
    pub device: DeviceInfo,
    /// The way to its serial port, if the dialect uses one.
    pub serial: Option<SerialAccess>,
}

impl Reconnect {
    /// Opens the unit.
    fn open(&self, device: &DeviceInfo) -> Result<Box<dyn UsbDevice>, BusError> {
        let port = &device.location.port;
        match self.serial {
            Some(serial) => serial.open(&*self.bus, port, None),
            None => self.bus.open(port),
        }
    }
}

/// One transferred frame, for a watcher.
#[derive(Clone, Debug)]
pub struct TracedFrame {
    /// The operation.
    pub operation: OperationName,
    /// The exchange.
    pub exchange: String,
    /// Whether it was sent to the unit.
    pub sent: bool,
    /// The control request that carries it, if one does.
    pub setup: Option<Setup>,
    /// The fields.
    pub fields: Vec<FieldView>,
    /// The mismatch, if any.
    pub trouble: Option<String>,
}

/// A unit that is spoken to in a dialect.
pub struct Interpreter {
    pub(super) memory: Bindings,
    pub(super) wire: CarrierTransport,
    reopen: Option<Reconnect>,
    pub(super) buffer: Vec<u8>,
    transfers_before: u64,
    /// Whether a transfer to the unit has begun and not ended.
    is_mid_transfer: bool,
    random: RandomSource,
    secrets: Option<Arc<dyn SecretSource>>,
    pub(super) watcher: Option<Box<dyn FnMut(TracedFrame)>>,
}

/// The limits of one run of an operation.
#[derive(Clone, Copy)]
pub(super) struct OperationLimits {
    pub(super) operation: OperationName,
    pub(super) until: Duration,
    pub(super) tries: u32,
    pub(super) junk: usize,
}

/// Why an attempt at an exchange failed.
pub(super) enum Failed {
    /// Transient: a retry may help.
    Transient(SessionError),
    /// Permanent: retrying cannot help.
    Permanent(SessionError),
}

impl From<SessionError> for Failed {
    fn from(error: SessionError) -> Self {
        match is_transient(&error) {
            true => Self::Transient(error),
            false => Self::Permanent(error),
        }
    }
}

impl Interpreter {
    /// Creates the interpreter for an open device.
    ///
    /// # Errors
    /// The device lacks an interface the carrier needs, or is in use.
    pub fn open(
        device: Box<dyn UsbDevice>,
        dialect: Arc<Dialect>,
        reopen: Option<Reconnect>,
        cx: &mut Context<'_>,
    ) -> Result<Self, SessionError> {
        let mut wire = CarrierTransport::open(device, &dialect, cx)?;
        let parameters: Vec<(Name, Value)> = dialect.parameters().map(|(name, value)| (name, value.clone())).collect();
        if !parameters.is_empty() {
            wire.note(&dialect, PARAMETERS, &parameters);
        }
        let memory = Bindings::new(dialect);
        Ok(Self {
            memory,
            wire,
            reopen,
            buffer: Vec::new(),
            transfers_before: 0,
            is_mid_transfer: false,
            random: Box::new(from_system),
            secrets: None,
            watcher: None,
        })
    }

    /// Passes every frame to a watcher.
    pub fn watch(&mut self, watcher: Box<dyn FnMut(TracedFrame)>) {
        self.watcher = Some(watcher);
    }

    /// Takes random bytes from another source than the system, such as a trace.
    pub fn draw_from(&mut self, random: RandomSource) {
        self.random = random;
    }

    /// Takes the values that the dialect asks the user for from this source.
    pub fn supply(&mut self, secrets: Option<Arc<dyn SecretSource>>) {
        self.secrets = secrets;
    }

    /// Asks for every value that the user has to supply and that is not known yet.
    ///
    /// # Errors
    /// A value was not supplied. Nothing was sent to the unit.
    pub fn ask(&mut self) -> Result<(), SessionError> {
        let dialect = self.dialect().clone();
        for secret in &dialect.secrets {
            if self.memory.get(secret.name).is_some() {
                continue;
            }
            let given = match &self.secrets {
                Some(source) => source.secret(secret, self.device()),
                None => Err("it was not supplied".to_owned()),
            };
            let bytes = given.map_err(|reason| SessionError::SecretMissing {
                question: secret.question.clone(),
                name: secret.key.clone(),
                reason,
            })?;
            let size = Value::Int(bytes.len() as i128);
            self.wire.note(&dialect, ASKED, &[(secret.name, size)]);
            self.memory.set(secret.name, Some(bytes.into()));
        }
        Ok(())
    }

    /// The current variable bindings.
    pub fn memory(&self) -> &Bindings {
        &self.memory
    }

    /// The current variable bindings, for changes.
    pub fn memory_mut(&mut self) -> &mut Bindings {
        &mut self.memory
    }

    /// Binds values that all later operations know.
    pub fn give(&mut self, given: Vec<(Name, Value)>) {
        let dialect = self.dialect().clone();
        self.wire.note(&dialect, GIVEN, &given);
        for (key, value) in given {
            self.memory.set(key, Some(value));
        }
    }

    /// The dialect.
    pub fn dialect(&self) -> &Arc<Dialect> {
        self.memory.dialect()
    }

    /// The unit as currently enumerated, if it returned meanwhile.
    pub fn device(&self) -> Option<&DeviceInfo> {
        self.reopen.as_ref().map(|reopen| &reopen.device)
    }

    /// USB transfers so far.
    pub fn transfers(&self) -> u64 {
        self.transfers_before + self.wire.transfers()
    }

    /// Waits until the unit has left the bus; whether it has.
    pub fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.wire.wait_for_disconnect(within)
    }

    /// Leaves the unit ready for another program.
    pub fn rest(&mut self, cx: &mut Context<'_>) {
        self.buffer.clear();
        if self.is_mid_transfer {
            self.recover(cx);
        }
        self.wire.rest(cx);
    }

    /// Runs an operation with its arguments; `false` if the dialect does not have the operation.
    ///
    /// # Errors
    /// The unit rejects a request, does not reply, or sends an unexpected reply. Changes of the
    /// operation may be incomplete.
    ///
    /// After a failure the unit is recovered, if the dialect says how; an operation that changes
    /// nothing is then repeated.
    pub fn run(
        &mut self,
        name: OperationName,
        mut given: Vec<(Name, Value)>,
        cx: &mut Context<'_>,
    ) -> Result<bool, SessionError> {
        let dialect = self.dialect().clone();
        if dialect.operation(name).is_some() {
            self.wire.note(&dialect, name.word(), &given);
        }
        let recovers = dialect.operation(OperationName::Recover).is_some() && is_of_bootloader(name);
        let repeats = recovers && name.is_read_only() && !name.is_repeated();
        let mut left = if repeats { TRIES } else { 1 };
        let mut first = None;
        loop {
            left -= 1;
            let values = if left == 0 { std::mem::take(&mut given) } else { given.clone() };
            let error = match self.run_once(name, values, cx) {
                Ok(ran) => {
                    self.note_transfer(name);
                    return Ok(ran);
                }
                Err(error) => error,
            };
            self.is_mid_transfer |= matches!(name, OperationName::Begin | OperationName::Write);
            if recovers && is_recoverable(&error) {
                self.recover(cx);
            }
            if left == 0 || !is_transient(&error) || cx.stop_requested() {
                return Err(error.after(first, cx));
            }
            first.get_or_insert(error);
        }
    }

    /// Runs typed steps.
    ///
    /// # Errors
    /// As for [`run`](Self::run). What they changed stays changed.
    pub fn run_steps(&mut self, steps: &[Step], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let junk = self.dialect().junk;
        let bounds = OperationLimits { operation: OperationName::Identify, until: cx.now() + TOTAL, tries: 1, junk };
        self.steps(steps, bounds, cx)
    }

    /// Notes whether a transfer is under way that has begun and not ended.
    fn note_transfer(&mut self, ran: OperationName) {
        self.is_mid_transfer = match ran {
            OperationName::Begin | OperationName::Write => true,
            OperationName::End | OperationName::Restart | OperationName::Recover => false,
            _ => self.is_mid_transfer,
        };
    }

    /// Runs the recovery. Its failure is not reported: the failure before it is, and the next
    /// operation shows whether the unit recovered.
    pub(super) fn recover(&mut self, cx: &mut Context<'_>) {
        self.buffer.clear();
        if self.run_once(OperationName::Recover, Vec::new(), cx).is_ok() {
            self.is_mid_transfer = false;
        }
    }

    fn run_once(
        &mut self,
        name: OperationName,
        given: Vec<(Name, Value)>,
        cx: &mut Context<'_>,
    ) -> Result<bool, SessionError> {
        let dialect = self.dialect().clone();
        let Some(operation) = dialect.operation(name) else { return Ok(false) };
        for (key, value) in given {
            self.memory.set(key, Some(value));
        }
        let total = match &operation.total {
            Some(total) => self.time(total)?,
            None if name.is_repeated() => SYNC_TOTAL,
            None if takes_long(name) => TOTAL_LONG,
            None => TOTAL,
        };
        let bounds = OperationLimits {
            operation: name,
            until: cx.now() + total,
            // With a recovery the whole operation is repeated: it would end what an exchange began.
            tries: match dialect.operation(OperationName::Recover) {
                None if name.is_read_only() && !name.is_repeated() => TRIES,
                _ => 1,
            },
            junk: if name.is_repeated() { SYNC_JUNK } else { dialect.junk },
        };
        if !name.is_repeated() {
            return self.steps(&operation.steps, bounds, cx).map(|()| true);
        }
        let every = operation.every.as_ref().map_or(Ok(SYNC_EVERY), |every| self.time(every))?;
        self.sync(&operation.steps, every, bounds, cx).map(|()| true)
    }

    /// Repeats the operation until the unit replies.
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
                Err(error @ (SessionError::Disconnected | SessionError::Busy(_) | SessionError::Dialect { .. })) => {
                    return Err(error);
                }
                Err(error) if cx.now() + every >= bounds.until || cx.stop_requested() => return Err(error),
                Err(_) => {
                    cx.clock().sleep(every);
                    self.settle(bounds, cx);
                    if is_of_bootloader(bounds.operation) {
                        self.recover(cx);
                    }
                }
            }
        }
    }

    pub(super) fn time(&self, time: &Time) -> Result<Duration, SessionError> {
        self.memory.time(time).map_err(|error| SessionError::dialect("a time", error))
    }

    /// An error in the dialect or in a reply.
    pub(super) fn steps(
        &mut self,
        steps: &[Step],
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        steps.iter().try_for_each(|step| self.step(step, bounds, cx))
    }

    fn step(&mut self, step: &Step, bounds: OperationLimits, cx: &mut Context<'_>) -> Result<(), SessionError> {
        if cx.now() > bounds.until {
            return Err(SessionError::Timeout(format!("'{}' exceeded its time limit", bounds.operation.word())));
        }
        let wrong = |error: EvaluationError| SessionError::dialect(bounds.operation.word(), error);
        match step {
            Step::Call { target, given } => self.call(target, given, bounds, cx),
            Step::Let(name, value) => {
                let value = self.memory.value(value).map_err(wrong)?;
                self.memory.set(*name, Some(value));
                Ok(())
            }
            Step::Random(name, size) => {
                let size = self.memory.size(size).map_err(wrong)?;
                self.draw(*name, size)
            }
            Step::Wait(time) => {
                let until = (cx.now() + self.time(time)?).min(bounds.until);
                cx.wait_until(until, "a pause required by the dialect");
                Ok(())
            }
            Step::If { condition, yes, no } => {
                let chosen = if self.memory.truth(condition).map_err(wrong)? { yes } else { no };
                self.steps(chosen, bounds, cx)
            }
            Step::Each { size, of, body, .. } => {
                let size = self.memory.size(size).map_err(wrong)?;
                let bytes = self.memory.bytes(of).map_err(wrong)?;
                if size == 0 {
                    return Err(SessionError::dialect(bounds.operation.word(), "a piece must have at least one byte"));
                }
                self.each(bytes.chunks(size), body, bounds, cx)
            }
            Step::Repeat { count, body } => self.repeat(self.memory.rounds(count).map_err(wrong)?, body, bounds, cx),
            Step::Until { done, every, within, body, .. } => {
                let every = every.as_ref().map_or(Ok(BUSY_PAUSE), |every| self.time(every))?;
                let until = (cx.now() + self.time(within)?).min(bounds.until);
                while self.is_pending(body, done, bounds, cx)? {
                    if cx.now() + every > until {
                        let words = format!("in '{}' the unit was not ready in time", bounds.operation.word());
                        return Err(SessionError::Timeout(words));
                    }
                    cx.wait_until(cx.now() + every, "the unit to become ready");
                }
                Ok(())
            }
            Step::Expect(condition, sentence) => match self.memory.truth(condition).map_err(wrong)? {
                true => Ok(()),
                false => Err(self.refused(bounds.operation.word(), sentence)),
            },
            Step::Fail(sentence) => Err(self.refused(bounds.operation.word(), sentence)),
            _ => self.wire_step(step, bounds, cx),
        }
    }

    /// Gives a name random bytes.
    fn draw(&mut self, name: Name, size: usize) -> Result<(), SessionError> {
        if !(1..=MOST_RANDOM).contains(&size) {
            let words = format!("random(n) gives 1 to {MOST_RANDOM} bytes, and {size} were asked for");
            return Err(SessionError::dialect("random", words));
        }
        let bytes = (self.random)(size).map_err(|words| SessionError::dialect("random", words))?;
        let value = Value::from(bytes);
        let dialect = self.dialect().clone();
        self.wire.note(&dialect, RANDOM, &[(name, value.clone())]);
        self.memory.set(name, Some(value));
        Ok(())
    }

    /// A step that concerns the line or the bus.
    fn wire_step(&mut self, step: &Step, bounds: OperationLimits, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let left = bounds.until.saturating_sub(cx.now());
        match step {
            Step::Line(line, _) => self.wire.set_line(*line),
            Step::Signals { dtr, rts, .. } => self.wire.signal(*dtr, *rts),
            Step::Break(time, _) => {
                let time = self.time(time)?.min(left);
                self.wire.send_break(time, cx)
            }
            Step::Raw(of, _) => {
                let bytes = self.memory.bytes(of);
                let bytes = bytes.map_err(|error| SessionError::dialect(bounds.operation.word(), error))?;
                self.wire.conceal(self.dialect().is_secret(of));
                let sent = self.wire.send_raw(&bytes, left);
                self.wire.conceal(false);
                sent
            }
            Step::Alternate(number, _) => self.wire.select(*number),
            Step::BusReset => {
                self.buffer.clear();
                self.wire.reset()
            }
            Step::Drain => {
                self.settle(bounds, cx);
                Ok(())
            }
            Step::Leaves(within) => {
                let within = self.time(within)?.min(left);
                match self.wire.wait_for_disconnect(within) {
                    true => Ok(()),
                    false => Err(SessionError::Timeout("the unit did not disconnect in time".into())),
                }
            }
            Step::ComesBack(within) => {
                let until = (cx.now() + self.time(within)?).min(bounds.until);
                self.come_back(until, cx)
            }
            _ => Err(SessionError::dialect(bounds.operation.word(), "this step does not concern the line")),
        }
    }

    pub(super) fn refused(&self, exchange: &str, words: &str) -> SessionError {
        SessionError::RejectedByDialect {
            exchange: exchange.to_owned(),
            words: text::sanitize(words),
            has_no_reason: false,
        }
    }

    /// Runs an exchange or a group of steps with arguments.
    fn call(
        &mut self,
        target: &Target,
        given: &[(Name, Expression)],
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let wrong = |error: EvaluationError| SessionError::dialect(bounds.operation.word(), error);
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
            None => Err(SessionError::dialect(bounds.operation.word(), format!("'{}' does not exist", target.name))),
        };
        for (name, value) in before {
            self.memory.set(name, value);
        }
        done
    }

    fn repeat(
        &mut self,
        count: i128,
        body: &[Step],
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let index = self.dialect().given().nth;
        let before = self.memory.get(index).cloned();
        for round in 0..count {
            self.memory.set(index, Some(Value::Int(round)));
            self.steps(body, bounds, cx)?;
        }
        self.memory.set(index, before);
        Ok(())
    }

    /// Runs steps once; returns whether their condition is still pending.
    fn is_pending(
        &mut self,
        body: &[Step],
        done: &Expression,
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<bool, SessionError> {
        self.steps(body, bounds, cx)?;
        let is_done = self.memory.truth(done).map_err(|error| SessionError::dialect(bounds.operation.word(), error))?;
        Ok(!is_done)
    }

    fn each(
        &mut self,
        pieces: Chunks<'_, u8>,
        body: &[Step],
        bounds: OperationLimits,
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        let given = self.dialect().given();
        let names = [given.piece, given.place, given.nth];
        let before = names.map(|name| self.memory.get(name).cloned());
        let mut offset = 0;
        for (index, piece) in pieces.enumerate() {
            self.memory.set(given.piece, Some(piece.to_vec().into()));
            self.memory.set(given.place, Some(Value::Int(offset)));
            self.memory.set(given.nth, Some(Value::Int(index as i128)));
            self.steps(body, bounds, cx)?;
            offset += piece.len() as i128;
        }
        for (name, value) in names.into_iter().zip(before) {
            self.memory.set(name, value);
        }
        Ok(())
    }

    /// Waits for the unit to disconnect, and reopens the device that appears on its port.
    fn come_back(&mut self, until: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let Some(reopen) = self.reopen.clone() else {
            return Err(SessionError::ProtocolViolation("it disconnects, and its port is not known".into()));
        };
        self.wire.wait_for_disconnect(until.saturating_sub(cx.now()));
        let link = |error: BusError| SessionError::Transport(error.to_string());
        let mut watch = PolledWatch::from_nothing(&*reopen.bus, cx.clock());
        loop {
            let left = until.saturating_sub(cx.now());
            let wanted = &reopen.device;
            let back = watch.next(left.min(Duration::from_millis(200))).map_err(link)?.into_iter().find_map(|change| {
                match change {
                    HotplugEvent::Attached(device)
                        if device.location == wanted.location && device.address != wanted.address =>
                    {
                        Some(device)
                    }
                    _ => None,
                }
            });
            if let Some(device) = back {
                let usb = reopen.open(&device).map_err(link)?;
                self.transfers_before += self.wire.transfers();
                self.wire = CarrierTransport::open(usb, &self.dialect().clone(), cx)?;
                self.buffer.clear();
                self.reopen = Some(Reconnect { device, ..reopen });
                return Ok(());
            }
            if left.is_zero() || cx.stop_requested() {
                return Err(SessionError::Disconnected);
            }
        }
    }

    /// Discards incoming data until the unit is quiet.
    pub(super) fn settle(&mut self, bounds: OperationLimits, cx: &mut Context<'_>) {
        self.buffer.clear();
        let until = (cx.now() + DRAIN_MOST).min(bounds.until);
        while cx.now() < until && self.wire.drain(QUIET) {}
    }
}

/// Whether an operation is one with the bootloader that a recovery may follow. The application knows
/// nothing of the bootloader's recovery.
fn is_of_bootloader(name: OperationName) -> bool {
    !matches!(name, OperationName::Recover | OperationName::Enter | OperationName::Confirm)
}

/// Whether an operation may take long by default.
pub(super) fn takes_long(name: OperationName) -> bool {
    matches!(name, OperationName::Erase | OperationName::Begin | OperationName::End)
}

/// Whether the unit is still there and may wait for something else than the next request.
fn is_recoverable(error: &SessionError) -> bool {
    is_transient(error) || matches!(error, SessionError::RejectedByDialect { .. } | SessionError::DfuStatus { .. })
}

/// Whether a retry may help.
fn is_transient(error: &SessionError) -> bool {
    matches!(error, SessionError::Timeout(_) | SessionError::ProtocolViolation(_) | SessionError::Frame(_))
}
