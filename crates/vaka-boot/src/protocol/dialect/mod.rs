//! Units that are spoken to in a dialect.
//!
//! [`connect`] opens the unit and identifies it; [`session`] turns it into a [`Session`].
//! [`Interpreter`] runs the operations over the carrier that the dialect names. The loop over
//! addresses belongs to the executor: a dialect only describes how each chunk looks on the wire.

mod carrier;
mod discovery;
mod exchange;
mod frame_error;
mod interpreter;
mod rehearsal;
mod transport;

use std::sync::Arc;
use std::time::Duration;

use vaka_base::text;
use vaka_core::plan::{DialectCapabilities, Run};
use vaka_core::sheet::{Route, Variant};
use vaka_core::unit::ReportedProperty;
use vaka_dialect::{Dialect, EraseBy, Erases, Expression, OperationName, Value};
use vaka_image::ERASED;
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_usb::{Behind, DeviceInfo, NodeInfo, UsbDevice};

pub use discovery::FoundNode;
pub use interpreter::{ASKED, GIVEN, Interpreter, PARAMETERS, RANDOM, RandomSource, Reconnect, TracedFrame};

use self::rehearsal::Rehearsal;
use crate::context::Context;
use crate::protocol::session::{Capabilities, FinishOutcome, Protection, Session};
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;
use crate::secrets::SecretSource;
use crate::warning::Warning;

/// Time for the unit to leave before the connection is closed, which over USB/IP resets its port.
/// Chosen by us.
const TIME_TO_GO: Duration = Duration::from_millis(500);

/// Opens a unit and identifies it. Changes nothing in it.
///
/// # Errors
/// The unit does not reply in that dialect.
pub fn connect(
    device: Box<dyn UsbDevice>,
    dialect: Arc<Dialect>,
    reopen: Reconnect,
    cx: &mut Context<'_>,
) -> Result<(Interpreter, Vec<ReportedProperty>), SessionError> {
    let node = reopen.device.node.clone();
    let mut talk = Interpreter::open(device, dialect, Some(reopen), cx)?;
    let discovered = at_node(&mut talk, node.as_deref(), cx)?;
    let mut told = sync_and_identify(&mut talk, cx)?;
    told.splice(
        ..0,
        discovered.into_iter().filter(|one| told.iter().all(|other| other.name != one.name)).collect::<Vec<_>>(),
    );
    Ok((talk, told))
}

/// Speaks to a node of a CAN bus, if the unit is one; returns what it reported.
fn at_node(
    talk: &mut Interpreter,
    node: Option<&NodeInfo>,
    cx: &mut Context<'_>,
) -> Result<Vec<ReportedProperty>, SessionError> {
    match node {
        Some(node) if node.behind == Behind::Adapter => talk.at_node(node, cx),
        _ => Ok(Vec::new()),
    }
}

/// Syncs with the unit and identifies it; returns its reported properties.
///
/// # Errors
/// The unit does not reply, or sends an unexpected reply.
pub fn sync_and_identify(talk: &mut Interpreter, cx: &mut Context<'_>) -> Result<Vec<ReportedProperty>, SessionError> {
    if talk.dialect().operation(OperationName::Recover).is_some_and(|recover| recover.at_start) {
        talk.recover(cx);
    }
    talk.run(OperationName::Sync, Vec::new(), cx)?;
    ask_for(OperationName::Identify, talk, cx)
}

/// Runs an operation and returns the properties that it reports.
fn ask_for(
    name: OperationName,
    talk: &mut Interpreter,
    cx: &mut Context<'_>,
) -> Result<Vec<ReportedProperty>, SessionError> {
    talk.run(name, Vec::new(), cx)?;
    let dialect = talk.dialect().clone();
    let tells = dialect.operation(name).map_or(&[][..], |operation| &operation.tells);
    let told = tells.iter().map(|tell| {
        let value = talk.memory().value(&tell.value).map_err(|error| SessionError::dialect(name.word(), error))?;
        Ok(ReportedProperty { name: tell.name.clone(), value: (&value).into() })
    });
    told.collect()
}

/// Asks a running application to confirm that it works; returns its reported properties.
///
/// # Errors
/// It does not confirm in time, or rejects it.
pub fn confirm(
    device: Box<dyn UsbDevice>,
    dialect: &Arc<Dialect>,
    node: Option<&NodeInfo>,
    cx: &mut Context<'_>,
) -> Result<Vec<ReportedProperty>, SessionError> {
    let mut talk = Interpreter::open(device, dialect.clone(), None, cx)?;
    at_node(&mut talk, node, cx)?;
    let told = ask_for(OperationName::Confirm, &mut talk, cx);
    talk.rest(cx);
    told
}

/// The bytes of an image in a span; gaps are filled with the value of erased flash.
fn filled(image: &Image, span: Span) -> Vec<u8> {
    let mut data = vec![ERASED; usize::try_from(span.len()).unwrap_or_default()];
    image.copy_to(span.start(), &mut data);
    data
}

/// Requests update mode from the application on an open device.
///
/// # Errors
/// The application rejects it or does not reply; it keeps running.
pub fn enter(
    device: Box<dyn UsbDevice>,
    dialect: Arc<Dialect>,
    node: Option<&NodeInfo>,
    secrets: Option<Arc<dyn SecretSource>>,
    cx: &mut Context<'_>,
) -> Result<(), SessionError> {
    let mut talk = Interpreter::open(device, dialect, None, cx)?;
    at_node(&mut talk, node, cx)?;
    talk.supply(secrets);
    if talk.dialect().needs_secret(OperationName::Enter) {
        talk.ask()?;
    }
    match talk.run(OperationName::Enter, Vec::new(), cx) {
        // The unit may disconnect before its reply is complete.
        Ok(_) | Err(SessionError::Disconnected) => {}
        Err(SessionError::Transport(_) | SessionError::Timeout(_)) if talk.wait_for_disconnect(TIME_TO_GO) => {
            return Ok(());
        }
        Err(error) => return Err(error),
    }
    talk.wait_for_disconnect(TIME_TO_GO * 2);
    Ok(())
}

/// The parameters of a session.
#[derive(Clone, Debug)]
pub struct DialectParams {
    /// The capabilities of the dialect on this unit.
    pub offer: DialectCapabilities,
    /// Bytes in one write; at least 1.
    pub chunk: u32,
    /// Maximum size of a read in bytes; at least 1.
    pub read_chunk: u32,
    /// Whether the unit can be read.
    pub can_read: bool,
    /// The first address of the flash, of the region that is written, and its size.
    given: [u64; 3],
    /// Start of the application.
    start: Address,
    /// An obstacle: the unit can write less than the route would.
    obstacle: Option<String>,
}

impl DialectParams {
    /// The parameters for a route of an identified unit; `None` if its numbers are invalid.
    pub(crate) fn of(talk: &Interpreter, route: &Route, variant: Option<&Variant>) -> Option<Self> {
        let dialect = talk.dialect();
        let region = variant.map(|variant| variant.image.region.span).or_else(|| Some(route.writes.first()?.span))?;
        let region = route.writes.iter().map(|writes| writes.span).find(|span| span.covers(region)).unwrap_or(region);
        let origin = variant.and_then(|variant| variant.flash.zones().first().map(|zone| zone.span().start()));
        let origin = origin.unwrap_or(region.start());
        let given = [origin.get(), region.start().get(), region.len()];
        let mut memory = talk.memory().clone();
        let names = dialect.given();
        for (name, value) in [names.origin, names.region_start, names.region_size].into_iter().zip(given) {
            memory.set(name, Some(Value::Int(i128::from(value))));
        }
        let size = |of: &Expression| {
            let size = memory.size(of).ok().filter(|size| (1..=1 << 20).contains(size))?;
            u32::try_from(size).ok()
        };
        let geometry = &dialect.geometry;
        let chunk = size(geometry.chunk.as_ref()?)?;
        let read_chunk = geometry.read_chunk.as_ref().map_or(Some(chunk), size)?;
        let align = geometry.align.as_ref().map_or(Some(chunk), size)?;
        let offer = DialectCapabilities { align, ..DialectCapabilities::of(dialect) };
        let (can_read, start) = (dialect.can_read(), route.restart_at.unwrap_or(region.start()));
        let number = |of: &Expression| memory.int(of).ok().and_then(|number| u64::try_from(number).ok());
        let window = geometry.size.as_ref().and_then(number).map(|size| {
            let first = geometry.start.as_ref().and_then(number).unwrap_or(0);
            (first, first.saturating_add(size))
        });
        let outside = |(first, end): &(u64, u64)| {
            let within = |span: Span| span.start().get() >= *first && span.end().get() <= *end;
            !route.writes.iter().all(|region| within(region.span))
        };
        let obstacle = window.filter(outside).map(|(first, end)| {
            format!("it can write 0x{first:X}..0x{end:X}, but the route in the product sheet exceeds that")
        });
        Some(Self { offer, chunk, read_chunk, can_read, given, start, obstacle })
    }
}

/// Unlocks the unit and loads its helper, if the dialect has these operations.
///
/// # Errors
/// The unit rejects it. Nothing was changed in its flash.
pub fn session(
    mut talk: Interpreter,
    params: DialectParams,
    cx: &mut Context<'_>,
) -> Result<Box<dyn Session>, SessionError> {
    if let Some(reason) = &params.obstacle {
        let remedy = Box::new(Remedy::CompareGeometry);
        return Err(SessionError::NeedsAction { reason: reason.clone(), remedy });
    }
    let names = talk.dialect().given();
    talk.ask()?;
    prepare(&mut talk, cx)?;
    let given = [names.origin, names.region_start, names.region_size].into_iter().zip(params.given);
    talk.give(given.map(|(name, value)| (name, Value::Int(i128::from(value)))).collect());
    Ok(Box::new(DialectSession { talk, params, index: 0, chunks: 0, whole: None }))
}

/// Runs the optional `unlock` and `helper` operations.
fn prepare(talk: &mut Interpreter, cx: &mut Context<'_>) -> Result<(), SessionError> {
    talk.run(OperationName::Unlock, Vec::new(), cx)?;
    let dialect = talk.dialect().clone();
    let Some(helper) = dialect.operation(OperationName::Helper).and_then(|helper| helper.helper.as_ref()) else {
        return Ok(());
    };
    let names = dialect.given();
    let mut given =
        vec![(names.data, Value::Bytes(helper.data.clone())), (names.length, Value::Int(helper.data.len() as i128))];
    if let Some(address) = &helper.address {
        let address = talk.memory().value(address).map_err(|error| SessionError::dialect("helper", error))?;
        given.push((names.address, address));
    }
    talk.run(OperationName::Helper, given, cx).map(drop)
}

/// A unit that is updated in a dialect.
struct DialectSession {
    talk: Interpreter,
    params: DialectParams,
    /// The number of the next chunk.
    index: u64,
    chunks: u64,
    /// All content to write: start address and bytes.
    whole: Option<(Address, Arc<[u8]>)>,
}

impl DialectSession {
    fn address(at: Address) -> Value {
        Value::Int(i128::from(at.get()))
    }

    fn number(number: u64) -> Value {
        Value::Int(i128::from(number))
    }

    /// Gives the dialect the header of an opaque image, or nothing.
    fn set_header(&mut self, image: &Image) {
        let header = image.facts().opaque.as_ref().map(|opaque| Value::Bytes(opaque.bytes.clone()));
        let name = self.talk.dialect().given().header;
        self.talk.memory_mut().set(name, Some(header.unwrap_or_else(|| Vec::new().into())));
    }

    /// Sets what begins at the first chunk.
    fn prepare(&mut self, image: &Image, runs: &[Run]) {
        self.set_header(image);
        self.index = 0;
        self.chunks = runs.iter().map(|run| run.blocks().count() as u64).sum();
        let start = runs.iter().map(|run| run.span().start()).min();
        let end = runs.iter().map(|run| run.span().end()).max();
        let span = start.zip(end).and_then(|(start, end)| Span::between(start, end));
        self.whole = span.map(|span| (span.start(), filled(image, span).into()));
    }

    /// The arguments of an `erase` of everything that the route writes.
    fn of_everything(&self) -> Vec<(vaka_dialect::Name, Value)> {
        let names = self.talk.dialect().given();
        let [_, start, size] = self.params.given;
        vec![(names.address, Self::number(start)), (names.length, Self::number(size)), (names.index, Self::number(0))]
    }

    /// The arguments of `erase` for a sector.
    fn of_sector(&self, sector: Span) -> Vec<(vaka_dialect::Name, Value)> {
        let names = self.talk.dialect().given();
        let from = sector.start().get().saturating_sub(self.params.given[0]);
        vec![
            (names.address, Self::address(sector.start())),
            (names.length, Self::number(sector.len())),
            (names.index, Self::number(from / sector.len().max(1))),
        ]
    }

    /// The arguments of `write` for a chunk.
    fn of_chunk(&self, index: u64, at: Address, data: &[u8]) -> Vec<(vaka_dialect::Name, Value)> {
        let names = self.talk.dialect().given();
        vec![
            (names.address, Self::address(at)),
            (names.length, Self::number(data.len() as u64)),
            (names.data, data.to_vec().into()),
            (names.index, Self::number(index)),
            (names.chunks, Self::number(self.chunks)),
            (names.last, Value::Int(i128::from(index + 1 == self.chunks))),
        ]
    }

    /// The arguments of `begin` and `end`.
    fn of_whole(&self) -> Vec<(vaka_dialect::Name, Value)> {
        let names = self.talk.dialect().given();
        let Some((start, data)) = &self.whole else { return Vec::new() };
        vec![
            (names.address, Self::address(*start)),
            (names.length, Self::number(data.len() as u64)),
            (names.data, Value::Bytes(data.clone())),
            (names.chunks, Self::number(self.chunks)),
        ]
    }
}

impl Session for DialectSession {
    fn limits(&self) -> Capabilities {
        Capabilities {
            block_size: self.params.chunk,
            can_read: self.params.can_read,
            read_size: self.params.read_chunk,
            erases_ranges: self.params.offer.erase == Some(EraseBy::Range),
        }
    }

    fn protection(&mut self, _: Address, cx: &mut Context<'_>) -> Result<Protection, SessionError> {
        let dialect = self.talk.dialect().clone();
        let Some(operation) = dialect.operation(OperationName::Protection) else { return Ok(Protection::Unknown) };
        self.talk.run(OperationName::Protection, Vec::new(), cx)?;
        let Some(protected) = &operation.protected else { return Ok(Protection::Unknown) };
        match self.talk.memory().truth(protected).map_err(|error| SessionError::dialect("protection", error))? {
            true => Ok(Protection::Protected("its dialect reports that it is protected".to_owned())),
            false => Ok(Protection::Unprotected),
        }
    }

    fn unprotect(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        match self.talk.run(OperationName::Unprotect, Vec::new(), cx) {
            Ok(true) | Err(SessionError::Disconnected) => Ok(()),
            Ok(false) => Err(SessionError::ProtocolViolation("its dialect cannot lift the protection".into())),
            Err(error) => Err(error),
        }
    }

    fn erase_all(&mut self, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.talk.run(OperationName::Erase, self.of_everything(), cx).map(drop)
    }

    fn erases_at_once(&self) -> bool {
        matches!(self.talk.dialect().erases_itself(), Some(Erases::Covered | Erases::Everything))
    }

    fn rehearse(
        &mut self,
        image: &Image,
        sectors: &[Span],
        runs: &[Run],
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        self.prepare(image, runs);
        let mut rehearsal = Rehearsal::new(self.talk.memory().clone());
        match self.params.offer.erase {
            Some(EraseBy::All) => rehearsal.run(OperationName::Erase, self.of_everything())?,
            Some(_) => {
                sectors.iter().try_for_each(|sector| rehearsal.run(OperationName::Erase, self.of_sector(*sector)))?;
            }
            None => {}
        }
        let names = self.talk.dialect().given();
        let whole = self.whole.iter().filter(|_| self.talk.dialect().needs_whole);
        let mut begun = self.of_whole();
        begun.extend(whole.map(|(_, whole)| (names.whole, Value::Bytes(whole.clone()))));
        rehearsal.run(OperationName::Begin, begun)?;
        for (index, block) in (0..).zip(runs.iter().flat_map(Run::blocks)) {
            if cx.stop_requested() {
                return Err(SessionError::Stopped);
            }
            let data = filled(image, block.span);
            rehearsal.run(OperationName::Write, self.of_chunk(index, block.span.start(), &data))?;
        }
        rehearsal.run(OperationName::End, self.of_whole())
    }

    fn begin(&mut self, image: &Image, runs: &[Run], cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.prepare(image, runs);
        let Some((_, whole)) = &self.whole else { return Ok(()) };
        let names = self.talk.dialect().given();
        let whole = Some((names.whole, Value::Bytes(whole.clone()))).filter(|_| self.talk.dialect().needs_whole);
        let header = image.facts().opaque.as_ref().map(|opaque| (names.header, Value::Bytes(opaque.bytes.clone())));
        let given: Vec<(vaka_dialect::Name, Value)> = whole.into_iter().chain(header).collect();
        if !given.is_empty() {
            self.talk.give(given);
        }
        self.talk.run(OperationName::Begin, self.of_whole(), cx).map(drop)
    }

    fn erase(&mut self, sector: Span, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.talk.run(OperationName::Erase, self.of_sector(sector), cx).map(drop)
    }

    fn write(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        let given = self.of_chunk(self.index, at, data);
        self.index += 1;
        self.talk.run(OperationName::Write, given, cx).map(drop)
    }

    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let dialect = self.talk.dialect().clone();
        let names = dialect.given();
        let given = vec![(names.address, Self::address(at)), (names.length, Self::number(u64::from(len)))];
        self.talk.memory_mut().set(names.data, None);
        self.talk.run(OperationName::Read, given, cx)?;
        let result = dialect.operation(OperationName::Read).and_then(|read| read.result.as_ref());
        let bytes = match result {
            Some(result) => self.talk.memory().bytes(result).map_err(|error| SessionError::dialect("read", error))?,
            None => match self.talk.memory().get(names.data) {
                Some(Value::Bytes(bytes)) => bytes.clone(),
                _ => return Err(SessionError::dialect("read", "it does not capture 'data'".to_owned())),
            },
        };
        if bytes.len() != len as usize {
            let found = text::count(bytes.len(), "byte");
            return Err(SessionError::ProtocolViolation(format!("it returned {found} of {len} at {at}")));
        }
        Ok(bytes.to_vec())
    }

    fn agrees(&mut self, at: Address, data: &[u8], cx: &mut Context<'_>) -> Result<bool, SessionError> {
        let dialect = self.talk.dialect().clone();
        let Some(checksum) = dialect.checksum() else {
            return Err(SessionError::ProtocolViolation("its dialect has no checksum".into()));
        };
        let names = dialect.given();
        let given = vec![
            (names.address, Self::address(at)),
            (names.length, Self::number(data.len() as u64)),
            (names.data, data.to_vec().into()),
        ];
        self.talk.run(OperationName::Checksum, given, cx)?;
        let value = |of| self.talk.memory().value(of).map_err(|error| SessionError::dialect("checksum", error));
        Ok(value(&checksum.unit)? == value(&checksum.image)?)
    }

    fn device(&self) -> Option<&DeviceInfo> {
        self.talk.device()
    }

    fn prepare_end(&mut self, image: &Image) {
        self.set_header(image);
        if self.whole.is_none() {
            self.chunks = image.span().len().div_ceil(u64::from(self.params.chunk.max(1)));
            self.whole = Some((image.start(), filled(image, image.span()).into()));
        }
    }

    fn finish(&mut self, cx: &mut Context<'_>) -> Result<FinishOutcome, SessionError> {
        self.talk.run(OperationName::End, self.of_whole(), cx)?;
        Ok(FinishOutcome::Responsive)
    }

    fn restart(&mut self, at: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let dialect = self.talk.dialect().clone();
        let Some(operation) = dialect.operation(OperationName::Restart) else {
            cx.warn(Warning::PowerCycleNeeded);
            return Ok(());
        };
        let given = vec![(dialect.given().address, Self::address(at.unwrap_or(self.params.start)))];
        match self.talk.run(OperationName::Restart, given, cx) {
            // Disconnecting before the reply is expected here.
            Ok(_) | Err(SessionError::Disconnected) => {}
            Err(SessionError::Transport(_) | SessionError::Timeout(_)) if self.talk.wait_for_disconnect(TIME_TO_GO) => {
            }
            Err(error) => return Err(error),
        }
        if operation.leaves {
            self.talk.wait_for_disconnect(TIME_TO_GO);
        }
        Ok(())
    }

    fn rest(&mut self, cx: &mut Context<'_>) {
        self.talk.rest(cx);
    }

    fn transfers(&self) -> u64 {
        self.talk.transfers()
    }
}
