//! Units and the ports they are plugged into.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use vaka_usb::Clock;

use crate::can::{CanFrame, Fate, Wires};
use crate::fault::{Fault, FaultKind};
use crate::unit::{Unit, UserAction};
use crate::usb::{Answer, Bulk, Setup};

/// A world that several connections share.
pub type SharedWorld = Arc<Mutex<World>>;

/// Locks a shared world. A panic in another thread cannot leave it inconsistent, because its
/// calls are short.
pub fn lock(world: &SharedWorld) -> MutexGuard<'_, World> {
    world.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A class or vendor request to a unit, with the reply.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogEntry {
    /// The setup packet.
    pub setup: Setup,
    /// Number of data bytes.
    pub data_len: usize,
    /// The answer.
    pub answer: Answer,
}

/// A port with a unit.
struct Port {
    name: String,
    unit: Box<dyn Unit>,
    /// The enumeration of the device while a client has it open.
    in_use: Option<u32>,
    /// How often it was opened.
    opened: u64,
    faults: Vec<Fault>,
    transfers: u64,
    /// Endpoints that a fault halted.
    halted: Vec<u8>,
    log: Vec<LogEntry>,
    /// Bulk transfers: the endpoint, and the first bytes to the unit.
    bulk_log: Vec<(u8, Vec<u8>)>,
    /// Scheduled user actions.
    later: Vec<(Duration, UserAction)>,
    /// Whether its cable carries no data.
    has_bad_cable: bool,
    /// The difference between the unit's count of enumerations and the host's number.
    renumber: u32,
    /// The open device has lost power and must be opened again.
    is_lost: bool,
    /// The end of a power failure, and the number that the host assigns then.
    power_fail: Option<(Duration, u32)>,
}

/// All units of a scene.
pub struct World {
    clock: Arc<dyn Clock>,
    ports: Vec<Port>,
    wires: Wires,
}

/// A device in a listing.
#[derive(Clone, Debug)]
pub struct DeviceListing {
    /// Port.
    pub port: String,
    /// The bus number and the port's place, for the wire.
    pub number: u32,
    /// Changes with each enumeration.
    pub enumeration: u32,
    /// idVendor, idProduct, bcdDevice.
    pub ids: (u16, u16, u16),
    /// Class, subclass and protocol of each interface.
    pub classes: Vec<[u8; 3]>,
}

/// Why a device cannot be opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OpenError {
    /// No device is attached.
    NotThere,
    /// Another client uses it.
    InUse,
}

impl World {
    /// An empty world that goes by `clock`.
    pub fn new(clock: Arc<dyn Clock>) -> Self {
        Self { clock, ports: Vec::new(), wires: Wires::default() }
    }

    /// Shares the world between connections.
    pub fn shared(self) -> SharedWorld {
        Arc::new(Mutex::new(self))
    }

    /// Plugs a unit into a port, with its faults.
    pub fn plug(&mut self, port: &str, unit: Box<dyn Unit>, faults: Vec<Fault>) {
        let name = port.to_owned();
        self.ports.push(Port {
            name,
            unit,
            in_use: None,
            opened: 0,
            faults,
            transfers: 0,
            halted: Vec::new(),
            log: Vec::new(),
            bulk_log: Vec::new(),
            later: Vec::new(),
            has_bad_cable: false,
            renumber: 0,
            is_lost: false,
            power_fail: None,
        });
    }

    /// Removes the pending faults of a unit.
    pub fn clear_faults(&mut self, port: &str) {
        if let Some(found) = self.ports.iter_mut().find(|found| found.name == port) {
            found.faults.clear();
        }
    }

    /// The names of all ports.
    pub fn ports(&self) -> Vec<String> {
        self.ports.iter().map(|port| port.name.clone()).collect()
    }

    /// The unit at a port at the current time.
    pub fn unit(&mut self, port: &str) -> Option<&mut (dyn Unit + 'static)> {
        self.advance();
        self.ports.iter_mut().find(|found| found.name == port).map(|found| &mut *found.unit)
    }

    /// How often the device at a port was opened.
    pub fn opened(&self, port: &str) -> u64 {
        self.ports.iter().find(|found| found.name == port).map_or(0, |found| found.opened)
    }

    /// The class and vendor requests that a unit got.
    pub fn log(&self, port: &str) -> &[LogEntry] {
        self.ports.iter().find(|found| found.name == port).map_or(&[], |found| &found.log)
    }

    /// Class, vendor and bulk transfers so far.
    pub fn transfers(&self, port: &str) -> u64 {
        self.ports.iter().find(|found| found.name == port).map_or(0, |found| found.transfers)
    }

    /// The bulk transfers of a unit: the endpoint, and of data to the unit the
    /// first 32 bytes.
    pub fn bulk_log(&self, port: &str) -> &[(u8, Vec<u8>)] {
        self.ports.iter().find(|found| found.name == port).map_or(&[], |found| &found.bulk_log)
    }

    /// The user acts on the unit at a port; false if there is none.
    pub fn act(&mut self, port: &str, action: &UserAction) -> bool {
        self.advance();
        let now = self.clock.now();
        let Some(found) = self.ports.iter_mut().find(|found| found.name == port) else { return false };
        found.act(now, action);
        true
    }

    /// Swaps the units at two ports.
    pub fn swap(&mut self, one: &str, other: &str) -> bool {
        self.advance();
        let at = |name: &str| self.ports.iter().position(|port| port.name == name);
        let Some((one, other)) = at(one).zip(at(other)).filter(|(one, other)| one != other) else { return false };
        let (low, high) = self.ports.split_at_mut(one.max(other));
        std::mem::swap(&mut low[one.min(other)].unit, &mut high[0].unit);
        true
    }

    /// Schedules a user action on the unit at a port.
    pub fn act_later(&mut self, port: &str, after: Duration, action: UserAction) {
        let at = self.clock.now() + after;
        if let Some(found) = self.ports.iter_mut().find(|found| found.name == port) {
            found.later.push((at, action));
            found.later.sort_by_key(|(at, _)| *at);
        }
    }

    /// Lists the devices that are not in use.
    pub fn list(&mut self) -> Vec<DeviceListing> {
        self.advance();
        let listed = (1..)
            .zip(&self.ports)
            .filter_map(|(number, port)| port.listed(number).filter(|now| port.in_use != Some(now.enumeration)));
        listed.collect()
    }

    /// Opens the device at a port.
    ///
    /// # Errors
    /// [`OpenError`].
    pub fn open(&mut self, port: &str) -> Result<DeviceListing, OpenError> {
        self.advance();
        let (number, found) =
            (1..).zip(&mut self.ports).find(|(_, found)| found.name == port).ok_or(OpenError::NotThere)?;
        let listed = found.listed(number).ok_or(OpenError::NotThere)?;
        if found.in_use == Some(listed.enumeration) {
            return Err(OpenError::InUse);
        }
        found.in_use = Some(listed.enumeration);
        found.is_lost = false;
        found.opened += 1;
        Ok(listed)
    }

    /// Closes a device. Closing resets its port, as with the kernel's server.
    pub fn close(&mut self, port: &str, enumeration: u32) {
        self.bus_reset(port, enumeration);
        if let Some(found) = self.ports.iter_mut().find(|found| found.name == port && found.in_use == Some(enumeration))
        {
            found.in_use = None;
        }
    }

    /// Forgets that a device is open, without a reset: the effect of a client that disappeared.
    pub fn release(&mut self, port: &str) {
        if let Some(found) = self.ports.iter_mut().find(|found| found.name == port) {
            found.in_use = None;
        }
    }

    /// Resets the port of an open device; false if it is gone.
    pub fn bus_reset(&mut self, port: &str, enumeration: u32) -> bool {
        let now = self.clock.now();
        match self.present(port, enumeration) {
            Some(found) => {
                found.unit.bus_reset(now);
                true
            }
            None => false,
        }
    }

    /// Whether an open device is still the same enumeration.
    pub fn is_present(&mut self, port: &str, enumeration: u32) -> bool {
        self.present(port, enumeration).is_some()
    }

    /// A control transfer to an open device; `None` if it is gone.
    pub fn control(&mut self, port: &str, enumeration: u32, setup: Setup, data: &[u8]) -> Option<Answer> {
        let now = self.clock.now();
        let found = self.present(port, enumeration)?;
        let answer = if found.has_bad_cable {
            Answer::Stall
        } else if setup.is_standard() {
            // CLEAR_FEATURE of an endpoint: source: USB 2.0, section 9.4.1.
            if (setup.kind, setup.request) == (0x02, 1) {
                let endpoint = setup.index.to_le_bytes()[0];
                found.halted.retain(|halted| *halted != endpoint);
                found.unit.clear_halt(endpoint);
            }
            match found.unit.standard(now, setup) {
                Some(answer) => answer,
                None => found.unit.descriptors()?.1.standard(setup),
            }
        } else {
            let fault = found.due();
            let answer = found.faulty(now, fault, |unit| unit.control(now, setup, data));
            found.log.push(LogEntry { setup, data_len: data.len(), answer: answer.clone() });
            answer
        };
        // The transfer itself may have made the unit disconnect.
        self.present(port, enumeration).map(|_| answer)
    }

    /// A bulk transfer to an open device; `None` if it is gone. `again` repeats one that the unit
    /// was too busy for.
    pub fn bulk(&mut self, port: &str, enumeration: u32, transfer: Bulk<'_>, again: bool) -> Option<Answer> {
        let now = self.clock.now();
        let found = self.present(port, enumeration)?;
        let answer = found.bulk(now, transfer, again);
        self.present(port, enumeration).map(|_| answer)
    }

    /// The port of an open device, if that device is still attached.
    fn present(&mut self, port: &str, enumeration: u32) -> Option<&mut Port> {
        self.advance();
        let found = self.ports.iter_mut().find(|found| found.name == port)?;
        (found.number()? == enumeration && !found.is_lost).then_some(found)
    }

    fn advance(&mut self) {
        let now = self.clock.now();
        for port in &mut self.ports {
            while port.later.first().is_some_and(|(at, _)| *at <= now) {
                let (at, action) = port.later.remove(0);
                port.unit.advance(at);
                port.act(at, &action);
            }
            port.unit.advance(now);
            port.end_power_fail(now);
        }
        while self.exchange(now) {}
        self.probe(now);
    }

    /// Lets each programmer work on the pins of its unit.
    fn probe(&mut self, now: Duration) {
        for at in 0..self.ports.len() {
            let target = self.ports[at].unit.probe().map(|probe| probe.target().to_owned());
            let Some(target) = target else { continue };
            let Some(other) = self.ports.iter().position(|port| port.name == target).filter(|other| *other != at)
            else {
                continue;
            };
            let (low, high) = self.ports.split_at_mut(at.max(other));
            let (one, two) = (&mut low[at.min(other)], &mut high[0]);
            let (board, unit) = if at < other { (one, two) } else { (two, one) };
            if let Some(probe) = board.unit.probe() {
                probe.work(now, unit.unit.pins());
            }
        }
    }

    /// Carries the next frame of a CAN bus that has ended by now; whether there was one.
    fn exchange(&mut self, now: Duration) -> bool {
        let Some((end, sender, frame, bus)) = self.next_frame() else { return false };
        if end > now {
            return false;
        }
        self.wires.occupy(&bus, end);
        for port in &mut self.ports {
            port.unit.advance(end);
        }
        let rates = self.ports[sender].unit.can().and_then(|member| member.rates());
        let mut fate = Fate::NotAcknowledged;
        let others = self.ports.iter_mut().enumerate().filter(|(index, _)| *index != sender);
        let members = others.filter_map(|(_, port)| port.unit.can().filter(|member| member.bus() == bus)?.rates());
        for (own, rates) in members.zip(std::iter::repeat(rates)) {
            fate = match rates {
                Some(rates) if own.nominal == rates.nominal && fate != Fate::Destroyed => Fate::Acknowledged,
                _ => Fate::Destroyed,
            };
        }
        if fate == Fate::Acknowledged {
            let others = self.ports.iter_mut().enumerate().filter(|(index, _)| *index != sender);
            others.for_each(|(_, port)| port.hear(end, &bus, &frame));
        }
        if let Some(member) = self.ports[sender].unit.can() {
            member.sent(end, fate);
        }
        true
    }

    /// The frame that ends first on any bus, with its sender. Source: ISO 11898-1: of two frames that
    /// begin together the one with the lower identifier wins.
    fn next_frame(&mut self) -> Option<(Duration, usize, CanFrame, String)> {
        let wires = &self.wires;
        let ready = |(index, port): (usize, &mut Port)| {
            let member = port.unit.can()?;
            let (rates, (ready, frame)) = (member.rates()?, member.next()?);
            let bus = member.bus().to_owned();
            Some((wires.end(&bus, ready, &frame, rates), index, frame, bus))
        };
        let frames = self.ports.iter_mut().enumerate().filter_map(ready);
        frames.min_by_key(|(end, _, frame, _)| (*end, frame.id))
    }
}

impl Port {
    /// A frame of a CAN bus reaches the unit, unless a fault prevents it.
    fn hear(&mut self, at: Duration, bus: &str, frame: &CanFrame) {
        let is_member = self.unit.can().is_some_and(|member| member.bus() == bus && member.rates().is_some());
        if !is_member {
            return;
        }
        // The transfers of an adapter are those of its USB side.
        let fault = if self.unit.descriptors().is_none() { self.due() } else { None };
        match fault {
            None => {}
            Some(FaultKind::Pull(back_after)) => {
                self.unit.act(at, &UserAction::Pull);
                self.later.extend(back_after.map(|after| (at + after, UserAction::Plug)));
                return;
            }
            Some(FaultKind::PowerFail(time)) => {
                self.unit.act(at, &UserAction::Pull);
                self.later.push((at + time, UserAction::Plug));
                return;
            }
            // A frame with another error is repeated by its sender; one that a full receiver loses is not.
            Some(_) => return,
        }
        if let Some(member) = self.unit.can() {
            member.receive(at, frame);
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match action {
            UserAction::BadCable => self.has_bad_cable = true,
            UserAction::GoodCable => self.has_bad_cable = false,
            action => self.unit.act(now, action),
        }
    }

    /// Ends a power failure: the unit returns with its former number.
    fn end_power_fail(&mut self, now: Duration) {
        let Some((_, number)) = self.power_fail.filter(|(until, _)| now >= *until) else { return };
        if let Some((own, _)) = self.unit.descriptors() {
            self.renumber = own.wrapping_sub(number);
            self.power_fail = None;
        }
    }

    /// The number that the host assigned to the unit; `None` while it is off the bus.
    fn number(&self) -> Option<u32> {
        if self.power_fail.is_some() {
            return None;
        }
        Some(self.unit.descriptors()?.0.wrapping_sub(self.renumber))
    }

    fn listed(&self, number: u32) -> Option<DeviceListing> {
        let (_, descriptors) = self.unit.descriptors()?;
        let enumeration = self.number()?;
        let port = self.name.clone();
        Some(DeviceListing {
            port,
            number,
            enumeration,
            ids: descriptors.ids(),
            classes: descriptors.classes().collect(),
        })
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>, again: bool) -> Answer {
        if again {
            return self.unit.bulk(now, transfer);
        }
        let head = match transfer {
            Bulk::In(..) => Vec::new(),
            Bulk::Out(_, data) => data[..data.len().min(32)].to_vec(),
        };
        self.bulk_log.push((transfer.endpoint(), head));
        let fault = self.due();
        if self.halted.contains(&transfer.endpoint()) {
            return Answer::Stall;
        }
        if fault == Some(FaultKind::Stall) {
            self.halted.push(transfer.endpoint());
        }
        self.faulty(now, fault, |unit| unit.bulk(now, transfer))
    }

    /// Counts a transfer; returns its fault, if any.
    fn due(&mut self) -> Option<FaultKind> {
        self.transfers += 1;
        let fault = self.faults.iter().position(|fault| fault.at == self.transfers);
        fault.map(|at| self.faults.remove(at).kind)
    }

    /// Passes a transfer to the unit, or applies a fault.
    fn faulty(
        &mut self,
        now: Duration,
        fault: Option<FaultKind>,
        pass: impl FnOnce(&mut dyn Unit) -> Answer,
    ) -> Answer {
        match fault {
            None => pass(&mut *self.unit),
            Some(FaultKind::Stall) => Answer::Stall,
            Some(FaultKind::Timeout) => Answer::Silent,
            Some(FaultKind::Short) => match pass(&mut *self.unit) {
                Answer::Data(bytes) => Answer::Data(bytes[..bytes.len() / 2].to_vec()),
                other => other,
            },
            Some(FaultKind::LostReply) => {
                pass(&mut *self.unit);
                Answer::Silent
            }
            Some(FaultKind::Garbled) => match pass(&mut *self.unit) {
                Answer::Data(mut bytes) => {
                    let middle = bytes.len() / 2;
                    bytes.iter_mut().skip(middle).take(1).for_each(|byte| *byte ^= 0x5A);
                    Answer::Data(bytes)
                }
                other => other,
            },
            Some(FaultKind::PowerFail(time)) => {
                // The unit counts a new enumeration, but the host's number stays.
                let before = self.number();
                self.unit.act(now, &UserAction::Pull);
                self.unit.act(now, &UserAction::Plug);
                self.power_fail = before.map(|number| (now + time, number));
                self.is_lost = true;
                self.in_use = None;
                Answer::Silent
            }
            Some(FaultKind::Pull(back_after)) => {
                self.unit.act(now, &UserAction::Pull);
                self.later.extend(back_after.map(|after| (now + after, UserAction::Plug)));
                Answer::Silent
            }
        }
    }
}
