//! Follows the operations of a dialect in the order in which they run, and finds names that have
//! no value yet, names that are never used, and missing operations.

use std::cell::{Cell, RefCell};

use super::{Checker, MOST_CHUNK};
use crate::Order;
use crate::carrier::Carrier;
use crate::expression::{Expression, Node};
use crate::flow::{Environment, ExpectedType, FlowChecker};
use crate::model::{Dialect, Geometry, Operation, OperationName};
use crate::types::{ANY_INT, Type};

use crate::lexer::Problem;
use crate::raw::RawDialect;
use crate::value::{Name, Value};

impl Checker<'_> {
    /// Follows every operation in order; returns the warnings.
    pub(super) fn follow(&mut self, raw: &RawDialect, dialect: &mut Dialect) -> Vec<Problem> {
        let walk = FlowChecker {
            names: &dialect.names,
            given: dialect.given,
            reads: Cell::new(false),
            exchanges: &dialect.exchanges,
            steps: &dialect.steps,
            envelope: &dialect.envelope,
            carrier: &dialect.carrier,
            framing: &dialect.framing,
            largest: dialect.largest,
            problems: RefCell::default(),
            warnings: RefCell::default(),
            used_exchanges: RefCell::new(vec![false; dialect.exchanges.len()]),
            used_steps: RefCell::new(vec![false; dialect.steps.len()]),
            used_names: RefCell::new(vec![false; dialect.names.len()]),
            calls: RefCell::new(0),
        };
        let mut known = Environment::new(dialect.names.len());
        starts(dialect).for_each(|(name, kind)| known.learn(name, kind));
        let write = operations_known(dialect, &walk, known);
        let used: Vec<bool> = walk.used_exchanges.into_inner();
        let used_steps: Vec<bool> = walk.used_steps.into_inner();
        self.problems.extend(walk.problems.into_inner());
        let mut warnings = walk.warnings.into_inner();
        let unused = dialect.exchanges.iter().zip(used).filter(|(_, used)| !used);
        warnings.extend(
            unused.map(|(exchange, _)| Problem::new(exchange.at, format!("exchange '{}' is not used", exchange.name))),
        );
        for ((name, _), _) in dialect.steps.iter().zip(used_steps).filter(|(_, used)| !used) {
            let at = raw.steps.keys().find(|key| key.get_ref() == name).map_or(0, |key| key.span().start);
            warnings.push(Problem::new(at, format!("steps '{name}' are not used")));
        }
        self.missing(raw, dialect, &mut warnings);
        self.stream(raw, dialect, write.address);
        dialect.needs_whole = write.whole;
        warnings
    }

    /// A unit that receives no address with each chunk appends the chunk to the previous one. The
    /// gaps of an image must then be filled, so the dialect has to declare a stream.
    fn stream(&mut self, raw: &RawDialect, dialect: &Dialect, sends_address: bool) {
        let Some(write) = &raw.write else { return };
        let order = raw.geometry.order.as_ref().filter(|_| dialect.geometry.order != Order::Ascending);
        match (dialect.geometry.stream, sends_address) {
            (false, false) => self.wrong(
                &write.span(),
                "[write] does not use `address`, so the unit appends each chunk to the previous one; declare that with `stream = true` in [geometry], and gaps in an image are filled with 0xFF",
            ),
            (true, _) => {
                if let Some(order) = order {
                    self.wrong(&order.span(), "a stream is always in ascending order; remove `order`");
                }
            }
            (false, true) => {}
        }
    }

    /// Warns about operations that a dialect should have.
    fn missing(&self, raw: &RawDialect, dialect: &Dialect, warnings: &mut Vec<Problem>) {
        let has = |name| dialect.operation(name).is_some();
        if !has(OperationName::Write) {
            return;
        }
        let at = raw.write.as_ref().map_or(0, |write| write.span().start);
        if !has(OperationName::Read) && !has(OperationName::Checksum) {
            warnings.push(Problem::new(
                at,
                "no verification: without [read] and [checksum] a result is never stronger than 'accepted'",
            ));
        }
        if !has(OperationName::Erase) && dialect.erases_itself().is_none() {
            warnings.push(Problem::new(at, "[erase] is missing; if the unit erases by itself, declare it in [begin] or [write]: `erases = \"covered\"` (the sectors of the image) or `erases = \"everything\"` (all that the route writes)"));
        }
        if !has(OperationName::Restart) {
            warnings
                .push(Problem::new(at, "[restart] is missing, so the user has to unplug the unit after each update"));
        }
        let stream = dialect.framing.is_stream();
        if stream && !has(OperationName::Sync) {
            warnings.push(Problem::new(
                raw.carrier.span().start,
                "no [sync]: the remains of an earlier program would be taken for the first reply",
            ));
        }
    }
}

/// The names that have a value from the start, with their types.
fn starts(dialect: &Dialect) -> impl Iterator<Item = (Name, Type)> {
    dialect.start.iter().enumerate().filter_map(|(index, value)| {
        let name = Name(u16::try_from(index).unwrap_or(u16::MAX));
        let is_constant = dialect.constants.contains(&name);
        match value.as_ref()? {
            Value::Int(number) if is_constant => Some((name, Type::Int(*number, *number))),
            Value::Int(_) => Some((name, ANY_INT)),
            Value::Bytes(bytes) => Some((name, Type::Bytes(Some(bytes.len()).filter(|_| is_constant)))),
            Value::Truth(_) => None,
        }
    })
}

/// The environment without a unit: constants and built-in names.
fn without_unit(dialect: &Dialect, builtin: impl Iterator<Item = (Name, Type)>) -> Environment {
    let mut bare = Environment::new(dialect.names.len());
    constants(dialect).chain(builtin).for_each(|(name, kind)| bare.learn(name, kind));
    bare
}

/// The names that the user supplies, with their types.
fn supplied(dialect: &Dialect) -> Vec<(Name, Type)> {
    dialect.secrets.iter().map(|secret| (secret.name, Type::Bytes(secret.size))).collect()
}

fn constants(dialect: &Dialect) -> impl Iterator<Item = (Name, Type)> {
    starts(dialect).filter(|(name, _)| dialect.constants.contains(name))
}

fn check_chunk(chunk: Option<&Expression>, walk: &FlowChecker<'_>) {
    if let Some(Expression { node: Node::Value(Value::Int(number)), at }) = chunk
        && !(1..=MOST_CHUNK).contains(number)
    {
        walk.problems.borrow_mut().push(Problem::new(*at, format!("a chunk must have 1 to {MOST_CHUNK} bytes")));
    }
}

/// Checks the results of an operation. `bare` is the environment without a unit.
fn results_known(operation: &Operation, walk: &FlowChecker<'_>, known: &Environment, bare: &Environment) {
    operation.tells.iter().for_each(|tell| walk.expression(&tell.value, known, ExpectedType::Any));
    if let Some(collection) = &operation.collection {
        walk.expression(&collection.time.value, known, ExpectedType::Int);
        walk.expression(&collection.node, known, ExpectedType::Bytes);
    }
    operation.protected.iter().for_each(|of| walk.expression(of, known, ExpectedType::Truth));
    operation.result.iter().for_each(|of| walk.expression(of, known, ExpectedType::Bytes));
    if let Some(checksum) = &operation.checksum {
        walk.expression(&checksum.unit, known, ExpectedType::Any);
        walk.expression(&checksum.image, known, ExpectedType::Any);
        walk.alike(&checksum.unit, &checksum.image, known);
        walk.depends(&checksum.unit, bare);
    }
}

/// The constant chunk size, if the dialect has one.
fn constant_chunk(dialect: &Dialect) -> Option<usize> {
    constant_of(dialect, dialect.geometry.chunk.as_ref().filter(|_| dialect.geometry.pad))
}

/// The value of a size, if it is constant.
fn constant_of(dialect: &Dialect, size: Option<&Expression>) -> Option<usize> {
    match size.map(|size| &size.node)? {
        Node::Value(Value::Int(number)) => usize::try_from(*number).ok(),
        Node::Name(name) => match &dialect.start[usize::from(name.0)] {
            Some(Value::Int(number)) if dialect.constants.contains(name) => usize::try_from(*number).ok(),
            _ => None,
        },
        _ => None,
    }
}

/// The built-in names that the write operation uses.
struct WriteUse {
    address: bool,
    whole: bool,
}

/// An environment that also knows these names.
fn with(known: &Environment, names: &[(Name, Type)]) -> Environment {
    let mut with = known.clone();
    names.iter().for_each(|(name, kind)| with.learn(*name, *kind));
    with
}

/// Follows single operations.
struct OperationWalk<'w> {
    dialect: &'w Dialect,
    walk: &'w FlowChecker<'w>,
    /// The environment without a unit.
    bare: Environment,
}

impl OperationWalk<'_> {
    fn run(&self, name: OperationName, known: &mut Environment) {
        let Some(operation) = self.dialect.operation(name) else { return };
        let walk = self.walk;
        walk.reads.set(name == OperationName::Read);
        walk.steps(&operation.steps, known, &[]);
        for time in operation.total.iter().chain(&operation.every) {
            walk.expression(&time.value, known, ExpectedType::Int);
        }
        results_known(operation, walk, known, &self.bare);
    }

    /// Follows the helper, whose data and address are its own.
    fn helper(&self, known: &mut Environment, anywhere: Type) {
        let Some(operation) = self.dialect.operation(OperationName::Helper) else { return };
        let given = self.dialect.given;
        let mut inner = known.clone();
        let len = operation.helper.as_ref().map(|helper| helper.data.len());
        inner.learn(given.data, Type::Bytes(len));
        inner.learn(given.length, len.map_or(anywhere, |len| Type::Int(len as i128, len as i128)));
        if let Some(at) = operation.helper.as_ref().and_then(|helper| helper.address.as_ref()) {
            self.walk.expression(at, known, ExpectedType::Int);
            inner.learn(given.address, anywhere);
        }
        self.run(OperationName::Helper, &mut inner);
        for name in [given.data, given.length, given.address] {
            inner.forget(name);
        }
        *known = inner;
    }
}

/// Follows the discovery of nodes: all later operations know what the node answered, and its unique id.
fn discovered(operations: &OperationWalk<'_>, known: &mut Environment) {
    let given = operations.dialect.given;
    if !matches!(operations.dialect.carrier, Carrier::Can(_)) {
        return;
    }
    known.learn(given.received_id, Type::Int(0, i128::from(MOST_ID)));
    operations.run(OperationName::Discover, known);
    known.forget(given.received_id);
    known.learn(given.node, Type::Bytes(None));
}

/// Largest identifier of a CAN frame. Source: ISO 11898-1.
const MOST_ID: u32 = 0x1FFF_FFFF;

/// Follows each operation with the environment in which it runs.
fn operations_known(dialect: &Dialect, walk: &FlowChecker<'_>, mut known: Environment) -> WriteUse {
    use OperationName as N;
    let given = dialect.given;
    // The sum of the address and an offset in a chunk still fits into 32 bits.
    let anywhere = Type::Int(0, i128::from(u32::MAX) - MOST_CHUNK);
    let address = dialect.window().map_or(anywhere, |(start, size)| {
        Type::Int(i128::from(start), i128::from(start.saturating_add(size).saturating_sub(1).max(start)))
    });
    // The length of a piece depends on the dialect, so only its type is known.
    let length = Type::Int(0, i128::from(u64::MAX));
    let whole =
        [(given.address, address), (given.length, length), (given.data, Type::Bytes(None)), (given.chunks, length)];
    let of_region = [given.origin, given.region_start, given.region_size].map(|name| (name, address));
    let bare = without_unit(dialect, whole.into_iter().chain(of_region));
    let operations = OperationWalk { dialect, walk, bare };
    let run = |name: N, known: &mut Environment| operations.run(name, known);
    let secrets = supplied(dialect);
    discovered(&operations, &mut known);
    for name in [N::Recover, N::Confirm] {
        run(name, &mut known.clone());
    }
    run(N::Enter, &mut with(&known, &secrets));
    for name in [N::Sync, N::Identify] {
        run(name, &mut known);
    }
    // The questions come after the unit is identified.
    let mut known = with(&known, &secrets);
    run(N::Unlock, &mut known);
    operations.helper(&mut known, anywhere);
    of_region.into_iter().for_each(|(name, kind)| known.learn(name, kind));
    let Geometry { chunk, read_chunk, align, start, size, .. } = &dialect.geometry;
    for part in [chunk, read_chunk, align, start, size].into_iter().flatten() {
        walk.expression(part, &known, ExpectedType::Int);
    }
    check_chunk(chunk.as_ref(), walk);
    let chunk_len = constant_chunk(dialect);
    for name in [N::Protection, N::Unprotect] {
        run(name, &mut known.clone());
    }
    let of_read = constant_of(dialect, read_chunk.as_ref().or(chunk.as_ref()));
    let read_length = of_read.map_or(length, |len| Type::Int(1, (len as i128).max(1)));
    run(N::Read, &mut with(&known, &[(given.address, address), (given.length, read_length)]));
    run(N::Erase, &mut with(&known, &[(given.address, address), (given.length, length), (given.index, length)]));
    known.learn(given.header, Type::Bytes(None));
    let mut begun = with(&known, &whole);
    run(N::Begin, &mut begun);
    for (name, _) in whole {
        begun.forget(name);
    }
    let one_length = chunk_len.map_or(length, |len| Type::Int(len as i128, len as i128));
    let mut written = with(
        &begun,
        &[
            (given.address, address),
            (given.length, one_length),
            (given.data, Type::Bytes(chunk_len)),
            (given.index, length),
            (given.chunks, length),
            (given.last, Type::Int(0, 1)),
            (given.whole, Type::Bytes(None)),
        ],
    );
    walk.used_names.borrow_mut().fill(false);
    run(N::Write, &mut written);
    let is_used = |name: Name| walk.used_names.borrow()[usize::from(name.0)];
    let write = WriteUse { address: is_used(given.address), whole: is_used(given.whole) };
    run(N::End, &mut with(&begun, &whole));
    run(N::Checksum, &mut with(&known, &whole[..3]));
    run(N::Restart, &mut with(&known, &[(given.address, anywhere)]));
    write
}
