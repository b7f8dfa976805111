//! The operations of a dialect, acting on flash.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use vaka_base::version::{ReleaseNumber, Version};
use vaka_core::unit::{PropertyValue, ReportedProperty};
use vaka_dialect::unit_side::{Arrival, Receipt, Request, Status, UnitSide};
use vaka_dialect::{
    Bindings, Callee, Checksum, ChecksumScope, Dialect, EraseBy, Erases, Name, OperationName, Step, Value,
};
use vaka_sim::flash::Flash;

/// Between a request to leave and being gone.
const LEAVE_TIME: Duration = Duration::from_millis(30);

/// The role of a unit in a session.
#[derive(Clone, Debug)]
pub(crate) enum Role {
    /// It is in update mode: these ranges may be written, the first of which has the image.
    Update {
        writable: Vec<Range<u32>>,
        /// The start of the flash.
        origin: u32,
    },
    /// Its application runs. With the properties that it reports.
    Application { version: Option<(String, Option<Version>)> },
}

/// A reply, and when it is ready.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Reply {
    pub(crate) exchange: usize,
    /// The bytes; `None` if the unit stays silent.
    pub(crate) bytes: Option<Vec<u8>>,
    pub(crate) status: Status,
    pub(crate) at: Duration,
}

/// The result of an arrival.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum ArrivalOutcome {
    /// A request, with its length in bytes and its reply.
    Request(usize, Reply),
    More(usize),
    Unknown,
}

/// The state of a serial line that is a signal to enter update mode.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct LineSignal {
    pub(super) baud: Option<u32>,
    pub(super) dtr: Option<bool>,
    pub(super) rts: Option<bool>,
    pub(super) is_break: bool,
    pub(super) bytes: Vec<u8>,
}

impl LineSignal {
    /// The last state that the steps of `enter` bring about, of an operation that sends no frame.
    fn of(dialect: &Dialect) -> Option<Self> {
        let mut signal = Self::default();
        signal.follow(dialect, &dialect.operation(OperationName::Enter)?.steps)?;
        (signal != Self::default()).then_some(signal)
    }

    /// `None` if a step sends a frame.
    fn follow(&mut self, dialect: &Dialect, steps: &[Step]) -> Option<()> {
        for step in steps {
            match step {
                Step::Line(line, _) => self.baud = Some(line.baud),
                Step::Signals { dtr, rts, .. } => (self.dtr, self.rts) = (dtr.or(self.dtr), rts.or(self.rts)),
                Step::Break(..) => self.is_break = true,
                Step::Raw(bytes, _) => {
                    if let Ok(Value::Bytes(bytes)) = Bindings::new(dialect.clone().into()).value(bytes) {
                        self.bytes = bytes.to_vec();
                    }
                }
                Step::Call { target, .. } => match target.callee()? {
                    Callee::Exchange(exchange) if dialect.exchange(exchange).sends() => return None,
                    Callee::Exchange(_) => {}
                    Callee::Steps(number) => self.follow(dialect, dialect.named_steps(number))?,
                },
                Step::Repeat { body, .. } | Step::Each { body, .. } | Step::Until { body, .. } => {
                    self.follow(dialect, body)?;
                }
                _ => {}
            }
        }
        Some(())
    }
}

/// The device side of a session.
#[derive(Clone, Debug)]
pub(crate) struct Engine {
    pub(crate) unit: UnitSide,
    role: Role,
    /// The sectors that were erased since the session began, of a unit that erases by itself.
    erased: BTreeSet<u32>,
    /// Where the next bytes without an address go.
    cursor: u32,
    /// The address that pieces count from.
    base: u32,
    pub(crate) busy_until: Duration,
    /// When the unit leaves for its other mode.
    pub(crate) leaves_at: Option<Duration>,
    pub(crate) was_asked: bool,
    /// The state of the serial line that makes the application leave.
    pub(super) line_signal: Option<LineSignal>,
}

/// The engine at one transfer.
pub(super) struct Work<'w> {
    pub(super) now: Duration,
    pub(super) flash: &'w mut Flash,
    pub(super) engine: &'w mut Engine,
}

impl Work<'_> {
    pub(super) fn handle(&mut self, arrival: Arrival<'_>) -> ArrivalOutcome {
        self.engine.handle(self.now, self.flash, arrival)
    }
}

impl Engine {
    /// A unit that reports these properties.
    pub(crate) fn new(
        dialect: &Arc<Dialect>,
        role: Role,
        properties: &[ReportedProperty],
        (unique, number): (u64, u8),
    ) -> Self {
        use OperationName as O;
        let wanted = matches!(role, Role::Application { .. });
        let unit = UnitSide::new(dialect.clone(), |operation| match operation {
            O::Enter => wanted,
            O::Discover | O::Sync | O::Identify | O::Unlock | O::Recover | O::Confirm => true,
            _ => !wanted,
        });
        let start = match &role {
            Role::Update { writable, .. } => writable.first().map_or(0, |range| range.start),
            Role::Application { .. } => 0,
        };
        let mut engine = Self {
            unit,
            role,
            erased: BTreeSet::new(),
            cursor: start,
            base: start,
            busy_until: Duration::ZERO,
            leaves_at: None,
            was_asked: false,
            line_signal: LineSignal::of(dialect).filter(|_| wanted),
        };
        engine.prepare(dialect, properties);
        engine.unit.set_node(unique, number);
        engine
    }

    fn prepare(&mut self, dialect: &Dialect, properties: &[ReportedProperty]) {
        let given = dialect.given();
        if let Role::Update { writable, origin } = &self.role {
            let region = writable.first().cloned().unwrap_or_default();
            let numbers = [(given.origin, *origin), (given.region_start, region.start)];
            let size = (given.region_size, region.end - region.start);
            for (name, number) in numbers.into_iter().chain([size]) {
                self.unit.set(name, Value::Int(number.into()));
            }
        }
        for (name, value) in &dialect.simulation.values {
            self.unit.set(*name, value.clone());
        }
        let told = OperationName::ALL.into_iter().filter_map(|name| dialect.operation(name));
        for field in told.flat_map(|operation| &operation.tells) {
            let property = properties.iter().find(|property| property.name == field.name);
            let own = property.map(|property| value_of(&property.value)).or_else(|| self.version_value(&field.name));
            if let Some(value) = own {
                self.unit.make(&field.value, &value);
            }
        }
    }

    /// The version of the application, if a property has it.
    fn version_value(&self, name: &str) -> Option<Value> {
        let Role::Application { version: Some((property, version)) } = &self.role else { return None };
        let number = version.as_ref()?.as_str().parse::<ReleaseNumber>().ok()?;
        (property == name).then(|| Value::Int(number.0.into()))
    }

    /// The names without a value in the sheet and in the dialect.
    pub(crate) fn open_names(&self) -> Vec<String> {
        let dialect = self.unit.dialect();
        self.unit.open_names().into_iter().map(|name| dialect.name_text(name).to_owned()).collect()
    }

    /// The application leaves for update mode.
    pub(super) fn leave(&mut self, now: Duration) {
        self.leaves_at.get_or_insert(now + LEAVE_TIME);
    }

    fn writable(&self) -> &[Range<u32>] {
        match &self.role {
            Role::Update { writable, .. } => writable,
            Role::Application { .. } => &[],
        }
    }

    /// Handles what arrived.
    pub(crate) fn handle(&mut self, now: Duration, flash: &mut Flash, arrival: Arrival<'_>) -> ArrivalOutcome {
        match self.unit.receive(arrival) {
            Receipt::More(more) => ArrivalOutcome::More(more),
            Receipt::Unknown => ArrivalOutcome::Unknown,
            Receipt::Request(request) => {
                self.was_asked = true;
                let used = request.used;
                let reply = self.answer(now, flash, &request);
                ArrivalOutcome::Request(used, reply)
            }
        }
    }

    fn answer(&mut self, now: Duration, flash: &mut Flash, request: &Request) -> Reply {
        let exchange = request.exchange;
        let is_busy = now < self.busy_until;
        if is_busy && self.unit.can_be_busy(exchange) {
            let status = Status::Busy;
            return Reply { exchange, bytes: self.unit.reply(exchange, status), status, at: now };
        }
        let before = self.busy_until.max(now);
        let (status, time) = match self.act(before, flash, request) {
            Ok(time) => (Status::Done, time),
            Err(Refused) => (Status::Refused, Duration::ZERO),
        };
        self.busy_until = before + time;
        let bytes = self.unit.reply(exchange, status);
        Reply { exchange, bytes, status, at: self.busy_until }
    }

    /// Carries out a request; returns the time that it takes.
    fn act(&mut self, now: Duration, flash: &mut Flash, request: &Request) -> Result<Duration, Refused> {
        use OperationName as O;
        let given = self.unit.dialect().given();
        if request.captured.contains(&given.address)
            && let Some(address) = self.number(given.address)
        {
            (self.cursor, self.base) = (address, address);
        }
        if request.is_only(O::Erase) {
            return self.erase(flash, request);
        }
        if request.is_only(O::Begin)
            && self.unit.dialect().operation(O::Begin).is_some_and(|begin| begin.erases.is_some())
        {
            return Ok(self.erase_all(flash));
        }
        if request.operations.contains(&O::Write) {
            return self.write(flash, request);
        }
        if request.may_be(O::Read) {
            return self.read(flash, request).map(|()| Duration::ZERO);
        }
        if request.may_be(O::Checksum) {
            self.checksum(flash, request);
        }
        let leaves = [O::Restart, O::Enter].into_iter().any(|operation| request.is_only(operation) && request.is_last);
        if leaves {
            self.leaves_at = Some(now + LEAVE_TIME);
        }
        Ok(Duration::ZERO)
    }

    fn number(&self, name: Name) -> Option<u32> {
        self.unit.int(name).and_then(|number| u32::try_from(number).ok())
    }

    fn is_writable(&self, range: &Range<u32>) -> bool {
        self.writable().iter().any(|own| own.start <= range.start && range.end <= own.end)
    }

    fn erase(&mut self, flash: &mut Flash, request: &Request) -> Result<Duration, Refused> {
        let dialect = self.unit.dialect().clone();
        let given = dialect.given();
        let is_told = [given.address, given.index, given.length].iter().any(|name| request.captured.contains(name));
        let by = dialect.operation(OperationName::Erase).map_or(EraseBy::All, |erase| erase.by);
        let sectors = match by {
            EraseBy::All => return Ok(self.erase_all(flash)),
            _ if !is_told => return Ok(Duration::ZERO),
            EraseBy::Page if !request.captured.contains(&given.address) && request.captured.contains(&given.index) => {
                let index = self.number(given.index).ok_or(Refused)?;
                let all = flash.sectors_in(flash.base()..flash.base() + flash.len());
                all.get(index as usize).cloned().into_iter().collect()
            }
            EraseBy::Page => flash.sector(self.base).into_iter().collect::<Vec<_>>(),
            EraseBy::Range => {
                let length = self.number(given.length).unwrap_or(1);
                flash.sectors_in(self.base..self.base.checked_add(length).ok_or(Refused)?)
            }
        };
        if sectors.is_empty() || !sectors.iter().all(|sector| self.is_writable(sector)) {
            return Err(Refused);
        }
        Ok(self.erase_sectors(flash, &sectors))
    }

    fn erase_all(&mut self, flash: &mut Flash) -> Duration {
        let sectors: Vec<Range<u32>> =
            self.writable().iter().flat_map(|range| flash.sectors_in(range.clone())).collect();
        self.erase_sectors(flash, &sectors)
    }

    /// Erases sectors; one that is blank already takes no time.
    fn erase_sectors(&self, flash: &mut Flash, sectors: &[Range<u32>]) -> Duration {
        let mut time = Duration::ZERO;
        let per_kib = self.unit.dialect().simulation.erase;
        for sector in sectors {
            let len = sector.end - sector.start;
            let is_blank =
                flash.read(sector.start, len as usize).is_some_and(|bytes| bytes.iter().all(|byte| *byte == 0xFF));
            if !is_blank {
                flash.erase(sector.clone());
                time += per_kib.map_or(Flash::erase_time(len), |time| time * len / 1024);
            }
        }
        time
    }

    fn write(&mut self, flash: &mut Flash, request: &Request) -> Result<Duration, Refused> {
        let dialect = self.unit.dialect().clone();
        let given = dialect.given();
        let is_told = |name: Name| request.captured.contains(&name);
        if !is_told(given.address)
            && is_told(given.index)
            && let (Some(index), Some(chunk)) = (self.number(given.index), self.chunk(&dialect))
        {
            let start = self.writable().first().map_or(0, |range| range.start);
            self.base = start.checked_add(index.checked_mul(chunk).ok_or(Refused)?).ok_or(Refused)?;
            self.cursor = self.base;
        }
        let (name, at) = match () {
            () if request.is_piece && is_told(given.place) => {
                let place = self.number(given.place).ok_or(Refused)?;
                (given.piece, self.base.checked_add(place).ok_or(Refused)?)
            }
            () if request.is_piece => (given.piece, self.cursor),
            () if is_told(given.data) => (given.data, self.cursor),
            () => return Ok(Duration::ZERO),
        };
        let Some(data) = self.unit.bytes(name) else { return Ok(Duration::ZERO) };
        let len = u32::try_from(data.len()).map_err(|_| Refused)?;
        let range = at..at.checked_add(len).ok_or(Refused)?;
        // The last chunk may be padded beyond the region.
        let end = self.writable().iter().find(|own| own.contains(&at)).ok_or(Refused)?.end;
        let data = &data[..data.len().min((end - at) as usize)];
        let time = self.erase_before_write(flash, &dialect, at..range.end.min(end));
        let cells = flash.read(at, data.len()).ok_or(Refused)?;
        if cells.iter().zip(data).any(|(cell, byte)| cell & byte != *byte) {
            return Err(Refused);
        }
        flash.program(at, data);
        self.cursor = range.end;
        let per_kib = dialect.simulation.program;
        Ok(time + per_kib.map_or(Flash::program_time(len), |time| time * len / 1024))
    }

    /// Bytes of a chunk, as the geometry states them.
    fn chunk(&self, dialect: &Dialect) -> Option<u32> {
        match self.unit.value(dialect.geometry.chunk.as_ref()?)? {
            Value::Int(number) => u32::try_from(number).ok(),
            _ => None,
        }
    }

    /// Erases the sectors that the unit erases by itself when bytes arrive.
    fn erase_before_write(&mut self, flash: &mut Flash, dialect: &Dialect, range: Range<u32>) -> Duration {
        let write = dialect.operation(OperationName::Write).and_then(|write| write.erases);
        match write {
            None => Duration::ZERO,
            Some(Erases::FirstWrite) => {
                let mut sectors = flash.sectors_in(range);
                sectors.retain(|sector| self.erased.insert(sector.start));
                self.erase_sectors(flash, &sectors)
            }
            Some(_) if self.erased.is_empty() => {
                self.erased.insert(range.start);
                self.erase_all(flash)
            }
            Some(_) => Duration::ZERO,
        }
    }

    fn read(&mut self, flash: &Flash, request: &Request) -> Result<(), Refused> {
        let dialect = self.unit.dialect().clone();
        let given = dialect.given();
        let told = request.captured.contains(&given.length).then(|| self.number(given.length)).flatten();
        let geometry = &dialect.geometry;
        let most = geometry.read_chunk.as_ref().or(geometry.chunk.as_ref());
        let most = || match self.unit.value(most?)? {
            Value::Int(number) => u32::try_from(number).ok(),
            _ => None,
        };
        let Some(length) = told.or_else(most) else { return Err(Refused) };
        let bytes = flash.read(self.cursor, length as usize).ok_or(Refused)?.to_vec();
        self.unit.set(given.length, Value::Int(length.into()));
        let result = dialect.operation(OperationName::Read).and_then(|read| read.result.as_ref());
        if !result.is_some_and(|result| self.unit.make(result, &bytes.clone().into())) {
            self.unit.set(given.data, bytes.into());
        }
        self.cursor = self.cursor.saturating_add(length);
        Ok(())
    }

    fn checksum(&mut self, flash: &Flash, request: &Request) {
        let dialect = self.unit.dialect().clone();
        let given = dialect.given();
        let Some(Checksum { over, unit, image, .. }) = dialect.checksum() else { return };
        let region = self.writable().first().cloned().unwrap_or_default();
        let told = request.captured.contains(&given.length).then(|| self.number(given.length)).flatten();
        let range = match (over, told) {
            (ChecksumScope::Region, _) | (_, None) => region,
            (_, Some(length)) => self.base..self.base.saturating_add(length),
        };
        let Some(bytes) = flash.read(range.start, range.len()) else { return };
        let len = u32::try_from(range.len()).unwrap_or(0);
        self.unit.set(given.data, bytes.to_vec().into());
        self.unit.set(given.length, Value::Int(len.into()));
        if let Some(sum) = self.unit.value(image) {
            self.unit.make(unit, &sum);
        }
    }
}

/// The unit rejects a request.
struct Refused;

fn value_of(property: &PropertyValue) -> Value {
    match property {
        PropertyValue::Number(number) => Value::Int(*number),
        PropertyValue::Text(text) => text.clone().into_bytes().into(),
    }
}
