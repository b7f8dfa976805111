//! One session with a host, seen from the unit.

use std::collections::BTreeSet;
use std::sync::Arc;

use super::call_sites::{self, CallSite};
use super::reply::{self, Status};
use super::request::{self, Input, RequestMatch};
use super::solve::Solver;
use crate::bindings::Bindings;
use crate::expression::{Expression, Node};
use crate::field::{Field, Form};
use crate::frame::EvaluationContext;
use crate::model::{Dialect, Exchange, OperationName, Recipient, RequestForm};
use crate::steps::Step;
use crate::value::{Name, Value};

/// A setup packet of a class or vendor request. Source: USB 2.0, section 9.3.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the standard's names
pub struct SetupPacket {
    pub request_type: u8,
    pub request: u8,
    pub value: u16,
    pub index: u16,
}

/// Bytes that arrived at the unit.
#[derive(Clone, Copy, Debug, Default)]
pub struct Arrival<'a> {
    /// The bytes of the frame, or the first bytes of a stream.
    pub bytes: &'a [u8],
    /// Whether they are exactly one frame.
    pub is_whole: bool,
    /// Whether padding may follow the frame.
    pub is_padded: bool,
    /// The setup packet, if they are the data of a control request.
    pub setup: Option<SetupPacket>,
    /// The command block, if they are the data of a SCSI command.
    pub command: Option<&'a [u8]>,
    /// The identifier, if they came in frames of a CAN bus.
    pub id: Option<u32>,
}

/// The meaning of an arrival.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Receipt {
    /// A request.
    Request(Request),
    /// At least this many bytes are missing.
    More(usize),
    /// No exchange sends it.
    Unknown,
}

/// A request of the host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// The number of its exchange.
    pub exchange: usize,
    /// The operations that send it at this point, in the order in which they run; not empty.
    pub operations: Vec<OperationName>,
    /// Number of bytes of the frame.
    pub used: usize,
    /// The names that got their value from it.
    pub captured: BTreeSet<Name>,
    /// Whether it sends pieces of the data, not all of it.
    pub is_piece: bool,
    /// Whether it is the last frame that its operation sends.
    pub is_last: bool,
}

impl Request {
    /// Whether only this operation sends it.
    pub fn is_only(&self, operation: OperationName) -> bool {
        self.operations == [operation]
    }

    /// Whether this operation may send it.
    pub fn may_be(&self, operation: OperationName) -> bool {
        self.operations.contains(&operation)
    }
}

/// The unit's side of a session.
#[derive(Clone, Debug)]
pub struct UnitSide {
    dialect: Arc<Dialect>,
    memory: Bindings,
    sites: Vec<CallSite>,
    /// Names with one value for the whole session.
    fixed: BTreeSet<Name>,
    /// Names that get their value from the unit.
    own: BTreeSet<Name>,
    /// The operation of the last request that only one sends.
    current: Option<OperationName>,
}

impl UnitSide {
    /// A session that has not begun, for these operations.
    ///
    /// # Examples
    /// ```
    /// use std::sync::Arc;
    /// use vaka_dialect::{Dialect, OperationName, no_files, Value};
    /// use vaka_dialect::unit_side::{Arrival, Receipt, Status, UnitSide};
    ///
    /// let text = "dialect = 1\nname = \"x\"\n[carrier]\nkind = \"pipes\"\n[geometry]\nchunk = 2\n\
    ///             [write]\nsend = \"0x23, u16be = address / 2, u8 = len(data), bytes data, u8 = sum(above) & 0xFF\"\n\
    ///             reply = \"0x23, u16be = address / 2\"\n";
    /// let dialect = Arc::new(Dialect::parse("x.dialect.toml", text, &no_files).unwrap());
    /// let mut unit = UnitSide::new(dialect.clone(), |_| true);
    /// let bytes = [0x23, 0x01, 0x00, 2, 0xAA, 0xBB, 0x8B];
    /// let Receipt::Request(request) = unit.receive(Arrival { bytes: &bytes, is_whole: true, ..Arrival::default() })
    /// else { panic!() };
    /// assert!(request.is_only(OperationName::Write));
    /// assert_eq!(unit.int(dialect.given().address), Some(0x200));
    /// assert_eq!(unit.bytes(dialect.given().data).unwrap(), [0xAA, 0xBB]);
    /// assert_eq!(unit.reply(request.exchange, Status::Done), Some(vec![0x23, 0x01, 0x00]));
    /// // With a wrong sum it is not a request.
    /// let bytes = [0x23, 0x01, 0x00, 2, 0xAA, 0xBB, 0x8C];
    /// assert_eq!(unit.receive(Arrival { bytes: &bytes, is_whole: true, ..Arrival::default() }), Receipt::Unknown);
    /// ```
    pub fn new(dialect: Arc<Dialect>, has: impl Fn(OperationName) -> bool) -> Self {
        let sites: Vec<CallSite> = call_sites::all(&dialect).into_iter().filter(|site| has(site.operation)).collect();
        let given = dialect.given();
        let mut fixed: BTreeSet<Name> = dialect.constants.iter().copied().collect();
        fixed.extend([given.origin, given.region_start, given.region_size]);
        let replies = dialect.exchanges.iter().flat_map(|exchange| reply::captured_names(&dialect, exchange));
        let mut own: BTreeSet<Name> = replies.map(|stored| stored.name).collect();
        let computed = sites.iter().flat_map(|site| site.equations.iter().map(|(name, _)| *name));
        let computed = computed.chain(lets(&dialect)).collect::<BTreeSet<Name>>();
        own.retain(|name| !given.has(*name) && !computed.contains(name));
        Self { memory: Bindings::new(dialect.clone()), dialect, sites, fixed, own, current: None }
    }

    /// The dialect.
    pub fn dialect(&self) -> &Arc<Dialect> {
        &self.dialect
    }

    /// The number that a name has, if it has one.
    pub fn int(&self, name: Name) -> Option<i128> {
        match self.memory.get(name)? {
            Value::Int(number) => Some(*number),
            _ => None,
        }
    }

    /// The bytes that a name has, if it has some.
    pub fn bytes(&self, name: Name) -> Option<Vec<u8>> {
        match self.memory.get(name)? {
            Value::Bytes(bytes) => Some(bytes.to_vec()),
            _ => None,
        }
    }

    /// Gives a name a value.
    pub fn set(&mut self, name: Name, value: Value) {
        self.memory.set(name, Some(value));
    }

    /// The value of an expression.
    pub fn value(&self, of: &Expression) -> Option<Value> {
        self.memory.value(of).ok()
    }

    /// Gives names such values that an expression has this one. False if the expression cannot be solved.
    pub fn make(&mut self, of: &Expression, value: &Value) -> bool {
        let values = vec![None; self.dialect.names.len()];
        let mut solver = Solver::new(self.constants(values), self.fixed.clone(), self.dialect.given().nth);
        if !solver.solve(of, value) || solver.found.is_empty() {
            return false;
        }
        self.keep(&solver);
        true
    }

    /// The names that get their value from the unit's replies alone, are used by the dialect and have no value yet.
    /// Numbers only: a unit may choose bytes as it likes.
    pub fn open_names(&self) -> Vec<Name> {
        let used = used_names(&self.dialect);
        let stored = self
            .sites
            .iter()
            .flat_map(|site| reply::captured_names(&self.dialect, &self.dialect.exchanges[site.exchange]));
        let is_number = |form: Option<&Form>| !matches!(form, Some(Form::Bytes(_) | Form::HexBytes { .. }));
        let open = stored.filter(|stored| !stored.is_status() && is_number(stored.form)).map(|stored| stored.name);
        let open: BTreeSet<Name> = open.filter(|name| self.own.contains(name) && used.contains(name)).collect();
        open.into_iter().filter(|name| self.memory.get(*name).is_none()).collect()
    }

    fn constants(&self, mut values: Vec<Option<Value>>) -> Vec<Option<Value>> {
        for name in self.fixed.iter().chain(&self.own) {
            values[usize::from(name.0)] = self.memory.get(*name).cloned();
        }
        values
    }

    fn keep(&mut self, solver: &Solver) {
        for name in &solver.found {
            if let Some(value) = solver.get(*name) {
                self.memory.set(*name, Some(value.clone()));
            }
        }
    }

    /// Finds the request that arrived, and stores the values in it.
    pub fn receive(&mut self, arrival: Arrival<'_>) -> Receipt {
        let mut more: Option<usize> = None;
        let mut matches: Vec<(usize, usize, Solver)> = Vec::new();
        let exchanges: BTreeSet<usize> = self.sites.iter().map(|site| site.exchange).collect();
        for exchange in exchanges {
            match self.parse(exchange, arrival) {
                (RequestMatch::Match(used), solver) => matches.push((exchange, used, solver)),
                (RequestMatch::More(missing), _) => more = Some(more.map_or(missing, |least| least.min(missing))),
                (RequestMatch::Differs, _) => {}
            }
        }
        let mut called: Vec<(usize, usize, Solver)> = Vec::new();
        for (at, site) in self.sites.iter().enumerate() {
            let Some((_, used, solver)) = matches.iter().find(|(exchange, ..)| *exchange == site.exchange) else {
                continue;
            };
            called.extend(self.at_site(site, solver).map(|solver| (at, *used, solver)));
        }
        let Some(request) = self.choose(&called) else { return more.map_or(Receipt::Unknown, Receipt::More) };
        Receipt::Request(request)
    }

    /// The request of the calls that fit; the call of the present operation counts first.
    fn choose(&mut self, called: &[(usize, usize, Solver)]) -> Option<Request> {
        let site = |at: usize| &self.sites[at];
        let is_current = |(at, ..): &&(usize, usize, Solver)| Some(site(*at).operation) == self.current;
        let (at, used, solver) = called.iter().find(is_current).or(called.first())?;
        let (exchange, operation) = (site(*at).exchange, site(*at).operation);
        let fitting = called.iter().filter(|(_, other, _)| other == used);
        let mut operations: Vec<OperationName> = fitting.map(|(at, ..)| site(*at).operation).collect();
        operations.dedup();
        let last = self.sites.iter().filter(|site| site.operation == operation).map(|site| site.place).max();
        let is_last = operations.len() == 1 && last == Some(site(*at).place);
        let piece = self.dialect.given().piece;
        let is_piece = site(*at).pieces_of.is_some() && solver.found.contains(&piece);
        let captured = solver.found.clone();
        if let [only] = operations[..] {
            self.current = Some(only);
        }
        let solver = solver.clone();
        self.keep(&solver);
        Some(Request { exchange, operations, used: *used, captured, is_piece, is_last })
    }

    /// Parses an arrival as the frame of an exchange.
    fn parse(&self, number: usize, arrival: Arrival<'_>) -> (RequestMatch, Solver) {
        let exchange = &self.dialect.exchanges[number];
        let values = self.constants(vec![None; self.dialect.names.len()]);
        let mut solver = Solver::new(values, self.fixed.clone(), self.dialect.given().nth);
        let is_aside = arrival.setup.is_some();
        if !is_addressed(exchange, &mut solver, arrival, self.dialect.carrier_interface()) {
            return (RequestMatch::Differs, solver);
        }
        let Some(fields) = exchange.send.as_ref() else {
            let is_request = exchange.sends() || is_aside;
            let fits = is_request && (arrival.bytes.is_empty() || arrival.is_padded);
            let is_sent = fits && self.is_sent_so(exchange, &solver, (&[], arrival.command));
            return (if is_sent { RequestMatch::Match(0) } else { RequestMatch::Differs }, solver);
        };
        let parsed = match (&self.dialect.envelope.send, self.dialect.envelope.body) {
            (Some(envelope), Some(body)) if !exchange.is_sent_bare() => {
                enveloped(&mut solver, (envelope, body), fields, arrival)
            }
            _ => {
                let input = Input { bytes: arrival.bytes, is_whole: arrival.is_whole, is_padded: arrival.is_padded };
                request::parse(&mut solver, fields, input)
            }
        };
        match parsed {
            RequestMatch::Match(used)
                if !self.is_sent_so(exchange, &solver, (&arrival.bytes[..used], arrival.command)) =>
            {
                (RequestMatch::Differs, solver)
            }
            parsed => (parsed, solver),
        }
    }

    /// Whether the host would send exactly these bytes with the values that were found. A frame that cannot
    /// be made from them alone counts as sent.
    fn is_sent_so(&self, exchange: &Exchange, solver: &Solver, (bytes, command): (&[u8], Option<&[u8]>)) -> bool {
        let mut host = Bindings::new(self.dialect.clone());
        for (index, value) in (0..).zip(solver.values()) {
            host.set(Name(index), value);
        }
        let is_command = |made: Option<Vec<u8>>| command.unwrap_or_default().starts_with(&made.unwrap_or_default());
        host.request(exchange).map_or(true, |made| made == bytes) && host.command(exchange).map_or(true, is_command)
    }

    /// The values at a call; `None` if it does not send that frame.
    fn at_site(&self, site: &CallSite, solver: &Solver) -> Option<Solver> {
        let mut solver = solver.clone();
        for (name, value) in &site.equations {
            // The value of an argument may have the name of a built-in value.
            if let Some(found) = solver.get(*name).cloned().filter(|_| solver.found.contains(name)) {
                if self.dialect.given().has(*name) {
                    solver.take(*name);
                }
                if !solver.solve(value, &found) {
                    return None;
                }
            }
        }
        Some(solver)
    }

    /// The reply to a request; `None` if the host expects none, or if it cannot be made.
    pub fn reply(&mut self, exchange: usize, status: Status) -> Option<Vec<u8>> {
        let dialect = self.dialect.clone();
        let exchange = &dialect.exchanges[exchange];
        let fields = exchange.reply.as_ref()?;
        for stored in reply::captured_names(&dialect, exchange) {
            let value = stored.code(status).or_else(|| match self.memory.get(stored.name) {
                Some(_) => None,
                None => Some(self.default(stored.form)),
            });
            if let Some(value) = value {
                self.memory.set(stored.name, Some(value));
            }
        }
        let made = match status {
            Status::Busy if !has_code(&dialect, exchange, status) => self.pattern(exchange.busy.first(), exchange),
            Status::Refused if !has_code(&dialect, exchange, status) => {
                self.pattern(exchange.refused.first(), exchange)
            }
            status => self.made(exchange, fields, status),
        };
        for steps in [&exchange.then, dialect.after_each()] {
            self.run_lets(steps);
        }
        made
    }

    /// Whether the reply of an exchange has a form for a unit that is busy.
    pub fn can_be_busy(&self, exchange: usize) -> bool {
        let exchange = &self.dialect.exchanges[exchange];
        !exchange.busy.is_empty() || has_code(&self.dialect, exchange, Status::Busy)
    }

    /// Gives a node its unique id and its number, as far as a discovery asks for them.
    pub fn set_node(&mut self, unique: u64, number: u8) {
        let dialect = self.dialect.clone();
        let Some(collection) = dialect.operation(OperationName::Discover).and_then(|found| found.collection.as_ref())
        else {
            return;
        };
        let exchanges = self.sites.iter().filter(|site| site.operation == OperationName::Discover);
        let exchanges: Vec<usize> = exchanges.map(|site| site.exchange).collect();
        for stored in exchanges.into_iter().flat_map(|at| reply::captured_names(&dialect, &dialect.exchanges[at])) {
            let is_free = self.memory.get(stored.name).is_none() && !stored.is_status();
            let value = match stored.form {
                Some(Form::Bytes(Some(size)) | Form::HexBytes { bytes: Some(size), .. }) => {
                    let is_id = collection.node.mentions(&BTreeSet::from([stored.name]));
                    let size = self.memory.size(size).ok().filter(|_| is_id);
                    size.map(|size| unique_bytes(unique, size).into())
                }
                Some(Form::Bytes(None) | Form::HexBytes { .. }) => None,
                _ => Some(Value::Int(number.into())),
            };
            if let Some(value) = value.filter(|_| is_free) {
                self.memory.set(stored.name, Some(value));
            }
        }
    }

    /// Whether frames with an identifier are for the unit.
    pub fn listens_to(&self, id: u32) -> bool {
        self.addressed(id).next().is_some()
    }

    /// The exchanges with frames of an identifier.
    fn addressed(&self, id: u32) -> impl Iterator<Item = usize> + '_ {
        let has = move |site: &&CallSite| {
            let of = self.dialect.exchanges[site.exchange].ids.send.as_ref();
            of.and_then(|of| self.memory.int(of).ok()) == Some(id.into())
        };
        self.sites.iter().filter(has).map(|site| site.exchange)
    }

    /// The identifier with which the unit replies to frames with an identifier.
    pub fn reply_id_for(&self, id: u32) -> Option<u32> {
        self.addressed(id).find_map(|exchange| self.reply_id(exchange))
    }

    /// The identifier of the reply to an exchange: if several nodes may reply, the one that is the unit's own.
    pub fn reply_id(&self, exchange: usize) -> Option<u32> {
        let ids = &self.dialect.exchanges[exchange].ids;
        let number = |of: &Expression| u32::try_from(self.memory.int(of).ok()?).ok();
        let id = number(ids.reply.as_ref()?)?;
        let Some(mask) = ids.mask.as_ref().and_then(number) else { return Some(id) };
        let others = self.sites.iter().map(|site| &self.dialect.exchanges[site.exchange].ids);
        let own = others.filter(|other| other.mask.is_none()).filter_map(|other| number(other.reply.as_ref()?));
        Some(own.into_iter().find(|own| own & mask == id & mask).unwrap_or(id))
    }

    /// Whether a SCSI command is followed by data to the unit.
    pub fn takes_data(&self, command: &[u8]) -> bool {
        let takes = |site: &CallSite| {
            let exchange = &self.dialect.exchanges[site.exchange];
            let values = self.constants(vec![None; self.dialect.names.len()]);
            let mut solver = Solver::new(values, self.fixed.clone(), self.dialect.given().nth);
            let arrival = Arrival { command: Some(command), ..Arrival::default() };
            exchange.send.is_some() && is_addressed(exchange, &mut solver, arrival, 0)
        };
        self.sites.iter().any(takes)
    }

    /// The three bytes of sense data with which a SCSI command fails, if the dialect describes some.
    pub fn sense(&self, exchange: usize, status: Status) -> Option<[u8; 3]> {
        let exchange = &self.dialect.exchanges[exchange];
        let fields = if status == Status::Busy { exchange.busy.first() } else { exchange.refused.first() };
        self.emit(&reply::fields(fields?, &self.dialect.tables, status), None)?.try_into().ok()
    }

    fn pattern(&self, fields: Option<&Vec<Field>>, exchange: &Exchange) -> Option<Vec<u8>> {
        self.made(exchange, fields?, Status::Refused)
    }

    fn made(&self, exchange: &Exchange, fields: &[Field], status: Status) -> Option<Vec<u8>> {
        let tables = &self.dialect.tables;
        let body = self.emit(&reply::fields(fields, tables, status), None)?;
        match (&self.dialect.envelope.reply, self.dialect.envelope.body) {
            (Some(envelope), Some(name)) if !exchange.is_received_bare() => {
                let mut fields = reply::fields(envelope, tables, status);
                let body = self.sized_body(&mut fields, name, body).into();
                self.emit(&fields, Some((name, &body)))
            }
            _ => Some(body),
        }
    }

    /// The body of an envelope in its place: padded to a size that is known, otherwise the field with
    /// its size gets the right value.
    fn sized_body(&self, fields: &mut [Field], name: Name, mut body: Vec<u8>) -> Vec<u8> {
        let Some(at) = fields.iter().position(|field| field.is_just(name)) else { return body };
        let Form::Bytes(Some(size)) = &fields[at].form else { return body };
        let told =
            fields.iter().position(|field| field.name.is_some_and(|name| size.mentions(&BTreeSet::from([name]))));
        match told {
            Some(told) => {
                let names = vec![None; self.dialect.names.len()];
                let mut solver = Solver::new(self.constants(names), self.fixed.clone(), self.dialect.given().nth);
                solver.solve(size, &Value::Int(body.len() as i128));
                let own = fields[told].name.and_then(|name| solver.get(name).cloned());
                fields[told].value = own.map(|value| Expression { node: Node::Value(value), at: 0 });
                fields[at].form = Form::Bytes(None);
            }
            None => {
                if let Ok(size) = self.memory.size(size) {
                    body.resize(size.max(body.len()), 0);
                }
            }
        }
        body
    }

    fn emit(&self, fields: &[Field], body: Option<(Name, &Value)>) -> Option<Vec<u8>> {
        let Dialect { names, tables, given, .. } = &*self.dialect;
        let values = self.memory.values();
        EvaluationContext { values, names, tables, nth: given.nth, body }.emit(fields).ok()
    }

    /// The value of a name of which nothing is known.
    fn default(&self, form: Option<&Form>) -> Value {
        match form {
            Some(form @ (Form::Bytes(_) | Form::HexBytes { .. })) => {
                let size = form.size().and_then(|size| self.memory.size(size).ok()).unwrap_or(0);
                vec![0; size].into()
            }
            _ => Value::Int(0),
        }
    }

    /// Follows the assignments that the host makes after an exchange.
    fn run_lets(&mut self, steps: &[Step]) {
        for step in steps {
            match step {
                Step::Let(name, value) => {
                    let value = self.memory.value(value).ok();
                    value.map(|value| self.memory.set(*name, Some(value)));
                }
                Step::If { condition, yes, no } => match self.memory.value(condition) {
                    Ok(Value::Truth(true)) => self.run_lets(yes),
                    Ok(Value::Truth(false)) => self.run_lets(no),
                    _ => {}
                },
                _ => {}
            }
        }
    }

    /// Whether a device-to-host request fetches the reply of an exchange.
    pub fn fetches(&self, exchange: usize, setup: SetupPacket) -> bool {
        let mut solver = Solver::new(self.memory.values().to_vec(), self.fixed.clone(), self.dialect.given().nth);
        let form = self.dialect.exchanges[exchange].control.back.as_ref();
        form.is_some_and(|form| is_request(form, &mut solver, setup, self.dialect.carrier_interface()))
    }
}

/// A unique id of this many bytes.
fn unique_bytes(unique: u64, size: usize) -> Vec<u8> {
    let bytes = unique.to_be_bytes();
    let zeros = vec![0; size.saturating_sub(bytes.len())];
    zeros.into_iter().chain(bytes[bytes.len().saturating_sub(size)..].iter().copied()).collect()
}

/// Whether the reply of an exchange has a code for this status.
fn has_code(dialect: &Dialect, exchange: &Exchange, status: Status) -> bool {
    let fields = exchange.reply.iter().flatten();
    let tables = fields.flat_map(|field| {
        let bits = if let Form::Bits(_, parts) = &field.form { &parts[..] } else { &[] };
        bits.iter().map(|part| part.table).chain([field.table])
    });
    tables.flatten().any(|table| reply::has_code(&dialect.tables[table], status))
}

/// Parses a frame in an envelope, and the frame inside it.
fn enveloped(
    solver: &mut Solver,
    (envelope, body): (&[Field], Name),
    fields: &[Field],
    arrival: Arrival<'_>,
) -> RequestMatch {
    let input = Input { bytes: arrival.bytes, is_whole: arrival.is_whole, is_padded: arrival.is_padded };
    let used = match request::parse(solver, envelope, input) {
        RequestMatch::Match(used) => used,
        other => return other,
    };
    let Some(Value::Bytes(inner)) = solver.get(body).cloned() else { return RequestMatch::Differs };
    let is_padded = envelope.iter().any(|field| matches!(field.form, Form::PadTo(_)));
    match request::parse(solver, fields, Input { bytes: &inner, is_whole: true, is_padded }) {
        RequestMatch::Match(len) => {
            solver.take(body);
            solver.bind(body, inner[..len].to_vec().into());
            RequestMatch::Match(used)
        }
        _ => RequestMatch::Differs,
    }
}

/// Whether the setup packet or the command block is that of an exchange.
fn is_addressed(exchange: &Exchange, solver: &mut Solver, arrival: Arrival<'_>, interface: u8) -> bool {
    let is_setup = match (arrival.setup, &exchange.control.out, &exchange.control.back) {
        (None, None, _) => true,
        (Some(setup), Some(out), _) => is_request(out, solver, setup, interface),
        // A request to the host alone is the whole exchange.
        (Some(setup), None, Some(back)) => !exchange.sends() && is_request(back, solver, setup, interface),
        _ => false,
    };
    let is_command = match (arrival.command, &exchange.command) {
        (None, None) => true,
        (Some(bytes), Some(fields)) => {
            // Source: USB Mass Storage Class, Bulk-Only Transport 1.0, section 5.1: the block has 16 bytes.
            let input = Input { bytes, is_whole: true, is_padded: true };
            matches!(request::parse(solver, fields, input), RequestMatch::Match(_))
        }
        _ => false,
    };
    let is_id = match (arrival.id, &exchange.ids.send) {
        (None, _) => true,
        (Some(id), Some(of)) => solver.solve(of, &Value::Int(id.into())),
        (Some(_), None) => false,
    };
    is_setup && is_command && is_id
}

/// Whether a setup packet is that of a request. Source: USB 2.0, table 9-2.
fn is_request(form: &RequestForm, solver: &mut Solver, setup: SetupPacket, interface: u8) -> bool {
    let recipient = match form.to {
        Recipient::Device => 0,
        Recipient::Interface => 1,
        Recipient::Endpoint => 2,
        Recipient::Other => 3,
    };
    let default_index = if form.to == Recipient::Interface { interface } else { 0 };
    let mut has = |of: Option<&Expression>, number: u16, default: u16| match of {
        Some(of) => solver.solve(of, &Value::Int(number.into())),
        None => number == default,
    };
    setup.request_type & 0x7F == form.class << 5 | recipient
        && has(Some(&form.request), setup.request.into(), 0)
        && has(form.value.as_ref(), setup.value, 0)
        && has(form.index.as_ref(), setup.index, default_index.into())
}

/// The names that steps assign.
fn lets(dialect: &Dialect) -> Vec<Name> {
    fn walk(steps: &[Step], found: &mut Vec<Name>) {
        for step in steps {
            match step {
                Step::Let(name, _) | Step::Random(name, _) => found.push(*name),
                Step::If { yes, no, .. } => [yes, no].into_iter().for_each(|steps| walk(steps, found)),
                Step::Each { body, .. } | Step::Repeat { body, .. } | Step::Until { body, .. } => walk(body, found),
                _ => {}
            }
        }
    }
    let mut found = Vec::new();
    all_steps(dialect).for_each(|steps| walk(steps, &mut found));
    found
}

fn all_steps(dialect: &Dialect) -> impl Iterator<Item = &Vec<Step>> {
    let of_operations = dialect.operations.values().map(|operation| &operation.steps);
    let of_steps = dialect.steps.iter().map(|(_, steps)| steps);
    let of_exchanges = dialect.exchanges.iter().map(|exchange| &exchange.then);
    of_operations.chain(of_steps).chain(of_exchanges).chain([&dialect.envelope.then])
}

/// The names that the host needs to make its frames and to plan.
fn used_names(dialect: &Dialect) -> BTreeSet<Name> {
    let all: BTreeSet<Name> = (0..dialect.names.len()).filter_map(|at| u16::try_from(at).ok()).map(Name).collect();
    let of_field = |field: &Field, name: Name| {
        let one = BTreeSet::from([name]);
        let is_in = |of: &Expression| of.mentions(&one);
        let bits = if let Form::Bits(_, parts) = &field.form { &parts[..] } else { &[] };
        field.value.as_ref().is_some_and(is_in)
            || field.form.size().is_some_and(is_in)
            || bits.iter().filter_map(|part| part.value.as_ref()).any(is_in)
    };
    let frames = |name: Name| {
        let sent =
            dialect.exchanges.iter().flat_map(|exchange| exchange.send.iter().chain(&exchange.command).flatten());
        sent.chain(dialect.envelope.send.iter().flatten()).any(|field| of_field(field, name))
    };
    let steps = |name: Name| {
        let one = BTreeSet::from([name]);
        all_steps(dialect).any(|steps| mentioned(steps, &one))
    };
    let geometry = |name: Name| {
        let one = BTreeSet::from([name]);
        let geometry = &dialect.geometry;
        let parts = [&geometry.chunk, &geometry.read_chunk, &geometry.align, &geometry.start, &geometry.size];
        parts.into_iter().flatten().any(|of| of.mentions(&one))
    };
    let ids = |name: Name| {
        let one = BTreeSet::from([name]);
        dialect.exchanges.iter().any(|exchange| exchange.ids.parts().any(|of| of.mentions(&one)))
    };
    all.into_iter().filter(|name| frames(*name) || steps(*name) || geometry(*name) || ids(*name)).collect()
}

fn mentioned(steps: &[Step], names: &BTreeSet<Name>) -> bool {
    steps.iter().any(|step| match step {
        Step::Let(_, of) | Step::Expect(of, _) | Step::Raw(of, _) => of.mentions(names),
        Step::Call { given, .. } => given.iter().any(|(_, of)| of.mentions(names)),
        Step::If { condition, yes, no } => condition.mentions(names) || mentioned(yes, names) || mentioned(no, names),
        Step::Each { size, of, body, .. } => size.mentions(names) || of.mentions(names) || mentioned(body, names),
        Step::Repeat { count, body } => count.mentions(names) || mentioned(body, names),
        Step::Until { done, body, .. } => done.mentions(names) || mentioned(body, names),
        _ => false,
    })
}
