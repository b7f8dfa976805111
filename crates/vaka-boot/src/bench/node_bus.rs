//! The nodes of CAN buses as one bus: each adapter has its nodes, and each node its unique id.

use std::collections::HashMap;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::{self, ThreadId};
use std::time::Duration;

use vaka_base::text;
use vaka_core::unit::PropertyValue;
use vaka_dialect::{Carrier, Dialect};
use vaka_usb::{Behind, Bus, BusError, Clock, DeviceInfo, Location, NodeInfo, NodeValue, Speed, UsbDevice};

use crate::bench::adapter_source::{AdapterSource, NODES};
use crate::bench::shared_device::SharedDevice;
use crate::context::Context;
use crate::protocol::dialect::{FoundNode, Interpreter};
use crate::protocol::session_error::SessionError;

/// Interval between two discoveries: their frames are on a bus that others use. Chosen by us.
const INTERVAL: Duration = Duration::from_millis(250);

/// The nodes of all CAN buses.
pub struct NodeBus {
    sources: Vec<AdapterSource>,
    /// The dialects in which nodes are discovered.
    dialects: Vec<Arc<Dialect>>,
    clock: Arc<dyn Clock>,
    state: Mutex<State>,
}

/// The nodes that were seen, and the adapters that are in use.
#[derive(Default)]
struct State {
    /// The last nodes of each adapter.
    nodes: HashMap<String, Vec<DeviceInfo>>,
    /// The last list and its time.
    last: Option<(Duration, Vec<DeviceInfo>)>,
    /// How often a node came; a number for each place.
    arrivals: HashMap<Location, u32>,
    /// Adapters that this process works with, and the thread that does.
    used: HashMap<String, User>,
}

/// The thread that works with an adapter, if one does.
type User = Arc<Mutex<Option<ThreadId>>>;

/// Longest time that a thread waits for an adapter. Chosen by us: some updates over a slow bus.
const MOST_WAIT: Duration = Duration::from_secs(1800);

/// Interval at which a thread tries again.
const RETRY: Duration = Duration::from_millis(20);

impl NodeBus {
    /// The name of this bus.
    pub const NAME: &'static str = NODES;

    /// The nodes on these adapters that answer in one of these dialects.
    pub fn new(sources: Vec<AdapterSource>, dialects: Vec<Arc<Dialect>>, clock: Arc<dyn Clock>) -> Self {
        Self { sources, dialects, clock, state: Mutex::default() }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The nodes of the adapters that work with one of them: they are not asked meanwhile.
    fn at_work(&self) -> Vec<DeviceInfo> {
        let state = self.state();
        let used = state.used.iter().filter(|(_, user)| taken(user).is_some());
        used.filter_map(|(adapter, _)| state.nodes.get(adapter)).flatten().cloned().collect()
    }

    /// Takes an adapter for this thread: the nodes of one adapter are worked on one after the other.
    /// `None` if this thread has it already, or another one for very long.
    fn lease(&self, adapter: &str) -> Option<Lease> {
        let until = self.clock.now() + MOST_WAIT;
        loop {
            match self.try_lease(adapter) {
                Ok(lease) => return Some(lease),
                Err(other) if other == thread::current().id() || self.clock.now() >= until => return None,
                Err(_) => self.clock.sleep(RETRY),
            }
        }
    }

    /// Takes an adapter, or returns the thread that has it.
    fn try_lease(&self, adapter: &str) -> Result<Lease, ThreadId> {
        let user = self.state().used.entry(adapter.to_owned()).or_default().clone();
        let mut now = taken(&user);
        match *now {
            Some(other) => Err(other),
            None => {
                *now = Some(thread::current().id());
                drop(now);
                Ok(Lease(user))
            }
        }
    }

    /// The bit rate of a node, for messages: that of the dialect it was found with.
    fn rate_of(&self, node: &Location) -> u32 {
        let state = self.state();
        let known = state.nodes.values().flatten().find(|device| device.location == *node);
        let found_with = |dialect: &&Arc<Dialect>| known.and_then(kind_of) == Some(&*dialect.name);
        let dialect = self.dialects.iter().find(found_with).or(self.dialects.first());
        dialect.map_or(0, |dialect| bit_rate(dialect))
    }

    /// The nodes of an adapter that answer now.
    fn discover(&self, source: &AdapterSource, adapter: &str) -> Result<Vec<DeviceInfo>, BusError> {
        let mut nodes: Vec<(String, FoundNode)> = Vec::new();
        for dialect in &self.dialects {
            let device = source.open(adapter, bit_rate(dialect))?;
            let never = AtomicBool::new(false);
            let (mut quiet, stop) = (|_| {}, &never);
            let mut cx = Context::new(&*self.clock, &mut quiet, stop);
            let found = Interpreter::open(device, dialect.clone(), None, &mut cx)
                .and_then(|mut talk| talk.discover(&mut cx))
                .map_err(|error| unusable(adapter, error))?;
            nodes.extend(found.into_iter().map(|node| (dialect.name.clone(), node)));
        }
        Ok(self.listed(adapter, nodes))
    }

    /// The nodes as devices: one for each unique id and kind.
    fn listed(&self, adapter: &str, nodes: Vec<(String, FoundNode)>) -> Vec<DeviceInfo> {
        let mut devices: Vec<DeviceInfo> = Vec::new();
        for (kind, node) in nodes {
            let location = Location { bus: Self::NAME.into(), port: format!("{adapter}:{}", node.id) };
            let same = |device: &&mut DeviceInfo| {
                device.location == location && device.node.as_ref().is_some_and(|other| other.kind == kind)
            };
            if let Some(known) = devices.iter_mut().find(same).and_then(|device| device.node.as_mut()) {
                known.answers += 1;
                continue;
            }
            let told = node.told.iter().map(|told| (told.name.clone(), value_of(&told.value))).collect();
            let info = NodeInfo { behind: Behind::Adapter, kind, id: node.id.clone(), told, answers: 1 };
            devices.push(device(location, info));
        }
        let mut state = self.state();
        let before = state.nodes.remove(adapter).unwrap_or_default();
        for device in &mut devices {
            let stayed = before.iter().find(|old| old.location == device.location && kind_of(old) == kind_of(device));
            device.address = match stayed {
                Some(old) => old.address,
                None => {
                    let arrivals = state.arrivals.entry(device.location.clone()).or_default();
                    *arrivals += 1;
                    *arrivals
                }
            };
        }
        devices.sort_by(|a, b| a.location.cmp(&b.location));
        state.nodes.insert(adapter.to_owned(), devices.clone());
        devices
    }
}

/// The bit rate of the nodes that answer in a dialect.
fn bit_rate(dialect: &Dialect) -> u32 {
    match &dialect.carrier {
        Carrier::Can(can) => can.bit_rate,
        _ => 0,
    }
}

fn value_of(value: &PropertyValue) -> NodeValue {
    match value {
        PropertyValue::Number(number) => NodeValue::Number(*number),
        PropertyValue::Text(text) => NodeValue::Text(text.clone()),
    }
}

fn kind_of(device: &DeviceInfo) -> Option<&str> {
    device.node.as_ref().map(|node| node.kind.as_str())
}

fn device(location: Location, node: NodeInfo) -> DeviceInfo {
    DeviceInfo {
        location,
        address: 0,
        speed: Speed::Unknown,
        vendor: 0,
        product: 0,
        release: 0,
        interfaces: Vec::new(),
        product_text: None,
        serial: Some(node.id.clone()),
        node: Some(Box::new(node)),
    }
}

/// A bus that cannot be used.
fn unusable(adapter: &str, error: SessionError) -> BusError {
    let location = Location { bus: NodeBus::NAME.into(), port: adapter.to_owned() };
    match error {
        SessionError::Disconnected => BusError::NotFound(location),
        SessionError::Busy(_) => BusError::Busy(location),
        error => BusError::Can { location, reason: text::sanitize(&error.to_string()) },
    }
}

impl Bus for NodeBus {
    fn name(&self) -> &str {
        Self::NAME
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        let now = self.clock.now();
        if let Some((_, known)) = self.state().last.as_ref().filter(|(at, _)| now < *at + INTERVAL) {
            return Ok(known.clone());
        }
        let mut all = self.at_work();
        for source in &self.sources {
            for adapter in source.adapters()? {
                let Ok(_lease) = self.try_lease(&adapter) else { continue };
                match self.discover(source, &adapter) {
                    Ok(nodes) => all.extend(nodes),
                    // It was unplugged meanwhile.
                    Err(BusError::NotFound(_)) => {}
                    Err(error) if source.is_named() => return Err(error),
                    // Another program may use an adapter that the user did not name.
                    Err(_) => {}
                }
            }
        }
        self.state().last = Some((self.clock.now(), all.clone()));
        Ok(all)
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let location = Location { bus: Self::NAME.into(), port: port.to_owned() };
        let absent = || BusError::NotFound(location.clone());
        let (adapter, _) = port.rsplit_once(':').ok_or_else(absent)?;
        let rate = self.rate_of(&location);
        // A server does not list an adapter that is in use.
        let lease = self.lease(adapter).ok_or(BusError::Busy(location.clone()))?;
        for source in &self.sources {
            if !source.adapters()?.iter().any(|found| found == adapter) {
                continue;
            }
            return Ok(Box::new(SharedDevice::new(source.open(adapter, rate)?, Box::new(lease))));
        }
        Err(absent())
    }

    fn empty_reason(&self) -> Option<String> {
        let named = self.sources.iter().find(|source| source.is_named())?;
        if self.state().last.as_ref().is_some_and(|(_, nodes)| !nodes.is_empty()) {
            return None;
        }
        match named.adapters() {
            Ok(found) if found.is_empty() => Some(format!("no CAN adapter {} was found", named.name())),
            _ => Some("no node on the CAN bus answers".to_owned()),
        }
    }

    fn await_change(&self, clock: &dyn Clock, interval: Duration, at_most: Duration) {
        clock.sleep(at_most.min(interval.max(INTERVAL)));
    }
}

fn taken(user: &User) -> MutexGuard<'_, Option<ThreadId>> {
    user.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The use of an adapter by a thread of this process.
struct Lease(User);

impl Drop for Lease {
    fn drop(&mut self) {
        *taken(&self.0) = None;
    }
}
