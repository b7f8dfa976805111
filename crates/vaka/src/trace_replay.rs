//! Replays a recorded run against a dialect: repeats the recorded operations, returns the
//! recorded replies, and examines every frame.
//!
//! Time is virtual, so nothing waits. A frame that differs from the recorded one ends its
//! operation.

use std::cell::Cell;
use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::rc::Rc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use vaka_base::text;
use vaka_boot::context::Context;
use vaka_boot::protocol::dialect::{ASKED, GIVEN, Interpreter, PARAMETERS, RANDOM, Reconnect, TracedFrame};
use vaka_dialect::{Dialect, OperationName, Value};
use vaka_usb::trace_format::{FORMAT, TraceLine};
use vaka_usb::{
    Behind, Bus, BusError, Clock, DeviceInfo, EndpointInfo, InterfaceClass, Location, NodeInfo, Setup, Speed,
    TransferError, UsbDevice,
};

/// Largest secret that a replay makes up in bytes: many times a real one.
const MOST_SECRET: usize = 64 * 1024;

/// The result of one operation.
pub struct ReplayResult {
    /// Name.
    pub operation: String,
    /// Frames.
    pub frames: Vec<TracedFrame>,
    /// The failure, if any.
    pub fault: Option<String>,
    /// Each wait of the dialect between two transfers, and the time that the record has there.
    pub waits: Vec<(Duration, Duration)>,
}

/// One recorded transfer.
#[derive(Clone, Debug)]
struct Transfer {
    asked: RequestKey,
    data: Vec<u8>,
    ended: Result<Vec<u8>, TransferError>,
    /// The size of a transfer whose bytes the trace conceals.
    concealed: Option<u64>,
    /// Its end, in milliseconds since the start of the trace, and its duration.
    end_ms: f64,
    took_ms: f64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum RequestKey {
    Control([u8; 8]),
    Endpoint(u8),
}

/// An operation, its arguments, and its transfers.
type RecordedOperation = (String, BTreeMap<String, String>, VecDeque<Transfer>);

/// The record of one opened device.
#[derive(Default)]
struct Recorded {
    standard: HashMap<[u8; 8], Result<Vec<u8>, TransferError>>,
    /// Transfers before the first operation.
    before: VecDeque<Transfer>,
    operations: Vec<RecordedOperation>,
    dialect: Option<String>,
    /// Random bytes that the operations drew, in order.
    random: VecDeque<Vec<u8>>,
    /// Values of the dialect's parameters.
    parameters: BTreeMap<String, String>,
}

/// Reads the devices of a trace; a sentence if it is none.
fn read(trace: &str) -> Result<Vec<Recorded>, String> {
    let mut devices: Vec<(u32, Recorded)> = Vec::new();
    for (index, line) in trace.lines().enumerate() {
        let parsed: TraceLine = match serde_json::from_str(line) {
            Ok(parsed) => parsed,
            // A run that was killed tears its last line.
            Err(_) if index > 0 && trace.lines().count() == index + 1 => break,
            Err(_) if index == 0 => return Err("this is not a trace: its first line is not a trace header".into()),
            Err(_) => return Err(format!("line {} is malformed", index + 1)),
        };
        match (index, parsed.trace) {
            (0, Some(FORMAT)) => continue,
            (0, Some(other)) => return Err(format!("the trace has format {other}; format {FORMAT} can be read")),
            (0, None) => return Err("this is not a trace: its first line is not a trace header".into()),
            _ => {}
        }
        if let Some(number) = parsed.open {
            devices.push((number, Recorded::default()));
            continue;
        }
        let Some((_, device)) = devices.iter_mut().rev().find(|(number, _)| Some(*number) == parsed.device) else {
            continue;
        };
        device.take(parsed);
    }
    Ok(devices.into_iter().map(|(_, device)| device).collect())
}

impl Recorded {
    fn take(&mut self, line: TraceLine) {
        if let Some(name) = line.operation {
            if name == RANDOM {
                // It belongs to the operation before it.
                self.random.extend(line.given.values().filter_map(text::parse_hex));
                return;
            }
            if name == PARAMETERS {
                self.parameters = line.given;
                return;
            }
            self.dialect = line.dialect;
            self.operations.push((name, line.given, VecDeque::new()));
            return;
        }
        let asked = match (&line.setup, &line.pipe) {
            (Some(setup), _) => match <[u8; 8]>::try_from(setup.0.clone()) {
                Ok(setup) => RequestKey::Control(setup),
                Err(_) => return,
            },
            (None, Some(pipe)) => RequestKey::Endpoint(pipe.0.first().copied().unwrap_or(0)),
            (None, None) => return,
        };
        let ended = line.outcome();
        if let RequestKey::Control(setup @ [kind, ..]) = asked
            && kind & 0x60 == 0
        {
            self.standard.insert(setup, ended);
            return;
        }
        let data = line.data.unwrap_or_default().0;
        let (end_ms, took_ms) = (line.t.unwrap_or(0.0), line.took.unwrap_or(0.0));
        let transfer = Transfer { asked, data, ended, concealed: line.concealed, end_ms, took_ms };
        match self.operations.last_mut() {
            Some((_, _, transfers)) => transfers.push_back(transfer),
            None => self.before.push_back(transfer),
        }
    }
}

/// The record in use, shared by the device and the replay.
#[derive(Default)]
struct ReplayState {
    transfers: Mutex<VecDeque<Transfer>>,
    difference: Mutex<Option<String>>,
    /// Devices that appear when the unit disconnects and returns.
    later: Mutex<VecDeque<Recorded>>,
    /// Operations of a later device.
    more: Mutex<Vec<RecordedOperation>>,
    /// The end of the last transfer: by the clock, and in the record in milliseconds.
    last: Mutex<Option<(Duration, f64)>>,
    /// Waits of the present operation.
    waits: Mutex<Vec<(Duration, Duration)>>,
}

/// A pause that is compared. Chosen by us: shorter ones are the host's own time.
const SHORTEST_WAIT: Duration = Duration::from_millis(1);

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A clock that advances only when a caller waits.
#[derive(Clone, Default)]
struct ReplayClock(Arc<AtomicU64>);

impl Clock for ReplayClock {
    fn now(&self) -> Duration {
        Duration::from_micros(self.0.load(Ordering::Relaxed))
    }

    fn sleep(&self, time: Duration) {
        self.0.fetch_add(u64::try_from(time.as_micros()).unwrap_or(u64::MAX / 4), Ordering::Relaxed);
    }
}

/// A device that returns recorded replies.
struct Replayer {
    stage: Arc<ReplayState>,
    standard: HashMap<[u8; 8], Result<Vec<u8>, TransferError>>,
    clock: ReplayClock,
}

impl Replayer {
    fn play(&mut self, asked: RequestKey, data: &[u8], timeout: Duration) -> Result<Vec<u8>, TransferError> {
        if let RequestKey::Control(setup) = asked
            && setup[0] & 0x60 == 0
        {
            return self.standard.get(&setup).cloned().unwrap_or(Err(TransferError::Stall));
        }
        // A read that only drains is not part of the protocol.
        let next = lock(&self.stage.transfers).front().cloned();
        let is_in = |asked: RequestKey| match asked {
            RequestKey::Control(setup) => setup[0] & 0x80 != 0,
            RequestKey::Endpoint(address) => address & 0x80 != 0,
        };
        let Some(next) = next else {
            self.clock.sleep(timeout);
            return match is_in(asked) {
                true => Err(TransferError::Timeout),
                false => Err(self.differs(format!("the record ends here; sent now: {}", shown(asked, data)))),
            };
        };
        // An earlier version of the tool may have waited in shorter intervals.
        if next.asked != asked && is_in(next.asked) && matches!(next.ended, Err(TransferError::Timeout)) {
            lock(&self.stage.transfers).pop_front();
            return self.play(asked, data, timeout);
        }
        if let (Some(_), true) = (next.concealed, is_in(asked)) {
            return Err(self.differs("the record conceals this reply".into()));
        }
        let is_same = next.concealed.map_or(next.data == data, |len| len == data.len() as u64);
        if next.asked != asked || (!is_in(asked) && !is_same) {
            return Err(self.differs(format!(
                "recorded: {}; now: {}",
                shown(next.asked, &next.data),
                shown(asked, data)
            )));
        }
        lock(&self.stage.transfers).pop_front();
        self.compare_wait(&next);
        if matches!(next.ended, Err(TransferError::Timeout)) {
            self.clock.sleep(timeout);
        }
        *lock(&self.stage.last) = Some((self.clock.now(), next.end_ms));
        next.ended
    }

    /// Notes the time since the last transfer, if the dialect waited.
    fn compare_wait(&self, next: &Transfer) {
        let Some((since, end_ms)) = *lock(&self.stage.last) else { return };
        let waited = self.clock.now().saturating_sub(since);
        if waited >= SHORTEST_WAIT {
            let recorded = Duration::try_from_secs_f64((next.end_ms - next.took_ms - end_ms).max(0.0) / 1000.0);
            lock(&self.stage.waits).push((waited, recorded.unwrap_or_default()));
        }
    }

    fn differs(&self, words: String) -> TransferError {
        lock(&self.stage.difference).get_or_insert(words);
        TransferError::Failed("it differs from the record".into())
    }
}

fn shown(asked: RequestKey, data: &[u8]) -> String {
    let bytes = match data {
        [] => "no data".to_owned(),
        data if data.len() > 32 => format!("{} … ({} bytes)", text::hex_pairs(&data[..32]), data.len()),
        data => text::hex_pairs(data),
    };
    match asked {
        RequestKey::Control(setup) => format!("request {} with {bytes}", text::hex_pairs(&setup)),
        RequestKey::Endpoint(address) if address & 0x80 != 0 => format!("read from endpoint {address:02x}"),
        RequestKey::Endpoint(address) => format!("endpoint {address:02x}: {bytes}"),
    }
}

impl UsbDevice for Replayer {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.play(RequestKey::Control(setup.bytes(length)), &[], timeout)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let length = u16::try_from(data.len()).unwrap_or(u16::MAX);
        self.play(RequestKey::Control(setup.bytes(length)), data, timeout).map(drop)
    }

    fn claim(&mut self, _: u8, _: u8) -> Result<(), TransferError> {
        Ok(())
    }

    fn read_endpoint(&mut self, pipe: EndpointInfo, _: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.play(RequestKey::Endpoint(pipe.address), &[], timeout)
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.play(RequestKey::Endpoint(pipe.address), data, timeout).map(drop)
    }

    fn clear_halt(&mut self, _: EndpointInfo) -> Result<(), TransferError> {
        Ok(())
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.clock.sleep(within);
        true
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        Ok(())
    }
}

/// The port of the unit: it returns as the device that was opened next.
struct ReplayPort {
    stage: Arc<ReplayState>,
    clock: ReplayClock,
}

fn info(address: u32) -> DeviceInfo {
    DeviceInfo {
        location: Location { bus: "trace".into(), port: "trace".into() },
        address,
        speed: Speed::Unknown,
        vendor: 0,
        product: 0,
        release: 0,
        interfaces: vec![InterfaceClass { class: 0, subclass: 0, protocol: 0 }],
        product_text: None,
        serial: None,
        node: None,
    }
}

impl Bus for ReplayPort {
    fn name(&self) -> &str {
        "trace"
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        let left = u32::try_from(lock(&self.stage.later).len()).unwrap_or(0);
        Ok(if left == 0 { Vec::new() } else { vec![info(1 + left)] })
    }

    fn open(&self, _: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let Some(next) = lock(&self.stage.later).pop_front() else {
            return Err(BusError::NotFound(info(0).location));
        };
        *lock(&self.stage.transfers) = next.before;
        *lock(&self.stage.more) = next.operations;
        Ok(Box::new(Replayer { stage: self.stage.clone(), standard: next.standard, clock: self.clock.clone() }))
    }
}

/// Plays a trace against a dialect.
///
/// # Errors
/// A sentence: the trace cannot be read, or has no operation of a dialect.
pub fn play(dialect: &Arc<Dialect>, trace: &str) -> Result<Vec<ReplayResult>, String> {
    let mut devices: VecDeque<Recorded> = read(trace)?.into();
    let spoken: Vec<String> = devices.iter().filter_map(|device| device.dialect.clone()).collect();
    devices.retain(|device| device.dialect.as_ref() == Some(&dialect.name));
    let mut all = Vec::new();
    while let Some(device) = devices.pop_front() {
        if device.operations.is_empty() {
            continue;
        }
        all.extend(play_device(dialect, device, &mut devices));
    }
    match all.is_empty() {
        true if spoken.is_empty() => Err("it contains no operation of a dialect".into()),
        true => Err(format!("it was recorded with {}, not with '{}'", spoken.join(", "), dialect.name)),
        false => Ok(all),
    }
}

fn play_device(dialect: &Arc<Dialect>, device: Recorded, later: &mut VecDeque<Recorded>) -> Vec<ReplayResult> {
    let stage = Arc::new(ReplayState::default());
    let clock = ReplayClock::default();
    *lock(&stage.transfers) = device.before;
    *lock(&stage.later) = std::mem::take(later);
    let player = Replayer { stage: stage.clone(), standard: device.standard, clock: clock.clone() };
    let port = Arc::new(ReplayPort { stage: stage.clone(), clock: clock.clone() });
    let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
    let mut cx = Context::new(&clock, &mut quiet, &never);
    let reopen = Reconnect { bus: port, device: info(1), serial: None };
    let mut played = Vec::new();
    let frames: Rc<RefCell<Vec<TracedFrame>>> = Rc::default();
    let dialect = match with_parameters(dialect, &device.parameters) {
        Ok(dialect) => dialect,
        Err(fault) => {
            let (operation, frames, waits) = (PARAMETERS.into(), Vec::new(), Vec::new());
            return vec![ReplayResult { operation, frames, fault: Some(fault), waits }];
        }
    };
    match Interpreter::open(Box::new(player), dialect, Some(reopen), &mut cx) {
        Err(error) => {
            let fault = lock(&stage.difference).take().unwrap_or_else(|| error.to_string());
            let (operation, frames, waits) = ("(opening)".into(), Vec::new(), Vec::new());
            played.push(ReplayResult { operation, frames, fault: Some(fault), waits });
        }
        Ok(mut talk) => {
            let mut random = device.random;
            let next = move |size| {
                let bytes: Option<Vec<u8>> = random.pop_front();
                bytes
                    .filter(|bytes| bytes.len() == size)
                    .ok_or_else(|| format!("the trace has no {size} random bytes here"))
            };
            talk.draw_from(Box::new(next));
            // A trace has the header of an opaque image only.
            let header = talk.dialect().given().header;
            talk.memory_mut().set(header, Some(Vec::new().into()));
            let sink = frames.clone();
            talk.watch(Box::new(move |seen| sink.borrow_mut().push(seen)));
            let mut operations: VecDeque<_> = device.operations.into();
            let mut talk = Some(talk);
            while let Some((name, given, transfers)) = operations.pop_front() {
                *lock(&stage.transfers) = transfers;
                let fault = talk.as_mut().and_then(|talk| run(talk, &name, &given, &stage, &mut cx));
                operations.extend(std::mem::take(&mut *lock(&stage.more)));
                // The record of the last operation includes the transfers that close the device.
                if operations.is_empty() {
                    talk = None;
                }
                let fault = fault.or_else(|| unused(&stage));
                let frames = std::mem::take(&mut *frames.borrow_mut());
                let waits = std::mem::take(&mut *lock(&stage.waits));
                if name != GIVEN && name != ASKED {
                    played.push(ReplayResult { operation: name, frames, fault, waits });
                }
            }
        }
    }
    *later = std::mem::take(&mut *lock(&stage.later));
    played
}

/// The dialect with the recorded values of its parameters.
fn with_parameters(dialect: &Arc<Dialect>, given: &BTreeMap<String, String>) -> Result<Arc<Dialect>, String> {
    let mut values = BTreeMap::new();
    for (name, default) in dialect.parameters() {
        let name = dialect.name_text(name);
        let value = given.get(name).and_then(|text| match default {
            Value::Int(_) => text.parse().ok().map(Value::Int),
            _ => text::parse_hex(text).map(Value::from),
        });
        values.extend(value.map(|value| (name.to_owned(), value)));
    }
    match values.is_empty() {
        true => Ok(dialect.clone()),
        false => dialect.with(&values).map(Arc::new).map_err(|errors| errors.to_string()),
    }
}

/// The node that a recorded session works with.
fn node_of(dialect: &Dialect, id: &str) -> NodeInfo {
    let (kind, id) = (dialect.name.clone(), id.to_owned());
    NodeInfo { behind: Behind::Adapter, kind, id, told: Vec::new(), answers: 1 }
}

/// Repeats one operation; returns the failure, if any.
fn run(
    talk: &mut Interpreter,
    name: &str,
    recorded: &BTreeMap<String, String>,
    stage: &ReplayState,
    cx: &mut Context<'_>,
) -> Option<String> {
    let dialect = talk.dialect().clone();
    let names = dialect.given();
    let known = [
        names.address,
        names.length,
        names.data,
        names.index,
        names.chunks,
        names.last,
        names.origin,
        names.region_start,
        names.region_size,
        names.whole,
        names.header,
    ];
    let value = |name| {
        let text = recorded.get(dialect.name_text(name))?;
        Some(match name == names.data || name == names.whole || name == names.header {
            true => text::parse_hex(text)?.into(),
            false => Value::Int(text.parse().ok()?),
        })
    };
    let given = known.into_iter().filter_map(|name| Some((name, value(name)?))).collect();
    if name == GIVEN {
        talk.give(given);
        return None;
    }
    if name == ASKED {
        // Only their sizes are known, and traces do not show what depends on them.
        for secret in &dialect.secrets {
            let size = recorded.get(&secret.key).and_then(|size| size.parse::<usize>().ok());
            talk.memory_mut().set(secret.name, size.map(|size| vec![0; size.min(MOST_SECRET)].into()));
        }
        return None;
    }
    let operation = OperationName::parse(name)?;
    let node = recorded.get(dialect.name_text(names.node));
    let ran = match (operation, node) {
        (OperationName::Discover, Some(id)) => talk.at_node(&node_of(&dialect, id), cx).map(|_| true),
        (OperationName::Discover, None) => talk.discover(cx).map(|_| true),
        _ => talk.run(operation, given, cx),
    };
    let difference = lock(&stage.difference).take();
    let ended = Cell::new(matches!(ran, Err(vaka_boot::protocol::session_error::SessionError::Disconnected)));
    match (difference, ran) {
        (Some(difference), _) => Some(difference),
        (None, Ok(false)) => Some("the dialect does not have this recorded operation".into()),
        (None, Err(error)) if !ended.replace(false) => Some(error.to_string()),
        _ => None,
    }
}

/// The sentence about recorded transfers that the dialect did not need, if there are some.
fn unused(stage: &ReplayState) -> Option<String> {
    let left = lock(&stage.transfers).iter().filter(|transfer| transfer.ended.is_ok()).count();
    let verb = if left == 1 { "was" } else { "were" };
    (left > 0).then(|| format!("{} of the record {verb} not used", text::count(left, "transfer")))
}
