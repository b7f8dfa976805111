//! Data flow: follows the operations in the order in which they run, and finds names without a
//! value, values that do not fit, and recursive steps. It sends nothing.

use std::cell::{Cell, RefCell};

use super::carrier::{Carrier, MOST_COMMAND};
use super::expression::{Expression, Part};
use super::field::{Field, Form, UNKNOWN, captured};
use super::frame::EvaluationContext;
use super::framing::Framing;
use super::lexer::{Parsed, Problem};
use super::model::{BuiltinNames, Exchange};
use super::steps::{MOST_RANDOM, Step, Target, Time};
use super::types::{ANY_INT, Knowledge, MOST_ROUNDS, Type};
use super::value::{Name, Names, Value};
use crate::steps::Callee;

/// The known type of each name at one point.
#[derive(Clone, Debug)]
pub(super) struct Environment {
    kinds: Vec<Option<Type>>,
    /// Names that have a value on some ways only.
    maybe: Vec<bool>,
}

impl Environment {
    pub(super) fn new(names: usize) -> Self {
        Self { kinds: vec![None; names], maybe: vec![false; names] }
    }

    pub(super) fn learn(&mut self, name: Name, kind: Type) {
        if let Some(slot) = self.kinds.get_mut(usize::from(name.0)) {
            *slot = Some(kind);
        }
    }

    pub(super) fn forget(&mut self, name: Name) {
        if let Some(slot) = self.kinds.get_mut(usize::from(name.0)) {
            *slot = None;
        }
    }

    fn may_learn(&mut self, name: Name) {
        if let Some(slot) = self.maybe.get_mut(usize::from(name.0)) {
            *slot = true;
        }
    }

    /// Keeps the names that are bound after both branches.
    fn meet(&mut self, other: &Self) {
        for (index, kind) in self.kinds.iter_mut().enumerate() {
            let there = other.kinds[index];
            self.maybe[index] |= other.maybe[index] || kind.is_some() != there.is_some();
            *kind = match (*kind, there) {
                (Some(a), Some(b)) => Some(a.joined(b)),
                _ => None,
            };
        }
    }

    /// After code that may not have run, keeps only what was known before it.
    fn weaken_to(&mut self, before: &Self) {
        let after = std::mem::replace(self, before.clone());
        self.meet(&after);
        for (index, kind) in self.kinds.iter_mut().enumerate() {
            if kind.is_none() && before.kinds[index].is_some() {
                *kind = before.kinds[index].map(|kind| after.kinds[index].map_or(kind, |other| kind.joined(other)));
            }
        }
    }

    pub(super) fn has(&self, name: Name) -> bool {
        self.kinds.get(usize::from(name.0)).is_some_and(Option::is_some)
    }
}

/// Knowledge at one place, with the frame around it.
struct Scope<'a> {
    known: &'a Environment,
    names: &'a Names,
    nth: Name,
    /// Names that were read, by index.
    used_names: &'a RefCell<Vec<bool>>,
    /// The fields of the frame, if any, and how many of them are parsed.
    frame: Option<&'a [Field]>,
}

impl Knowledge for Scope<'_> {
    fn kind(&self, name: Name, at: usize) -> Parsed<Type> {
        if let Some(used) = self.used_names.borrow_mut().get_mut(usize::from(name.0)) {
            *used = true;
        }
        let own = self.frame.and_then(|fields| {
            // A field that only sends a variable binds nothing.
            let own = fields.iter().filter(|field| !field.is_just(name));
            own.flat_map(captured).find(|(known, _)| *known == name).map(|(_, kind)| kind)
        });
        let known = self.known.kinds.get(usize::from(name.0)).copied().flatten();
        if let Some(kind) = own.or(known) {
            return Ok(kind);
        }
        let text = self.names.text(name);
        if self.known.maybe.get(usize::from(name.0)) == Some(&true) {
            let message = format!(
                "'{text}' may have no value here, because not every path sets it; give it an initial value in [start]"
            );
            return Err(Problem::new(at, message));
        }
        let known: Vec<&str> = (0..self.known.kinds.len())
            .filter(|index| self.known.kinds[*index].is_some())
            .filter_map(|index| u16::try_from(index).ok())
            .map(|index| self.names.text(Name(index)))
            .collect();
        let known = if known.is_empty() { "nothing".to_owned() } else { known.join(", ") };
        Err(Problem::new(at, format!("'{text}' is not known here; known names: {known}")))
    }

    fn nth(&self) -> Name {
        self.nth
    }

    fn part(&self, part: Part, at: usize) -> Parsed<()> {
        let Some(fields) = self.frame else {
            return Err(Problem::new(at, "parts of a frame can be used only inside a frame"));
        };
        let Part::Fields(from, to) = part else { return Ok(()) };
        let place = |name: Name| {
            let found = fields.iter().position(|field| field.name == Some(name));
            found.ok_or_else(|| Problem::new(at, format!("this frame has no field '{}'", self.names.text(name))))
        };
        match place(from)? <= place(to)? {
            true => Ok(()),
            false => Err(Problem::new(at, "this range is empty: its end is before its start")),
        }
    }
}

/// Maximum offset in a chunk.
const MOST_PLACE: i128 = 1 << 20;

/// Most bytes of a made-up value.
const MOST_SAMPLE: usize = 64 * 1024;

/// Maximum number of calls to follow, because steps may call each other.
const MOST_CALLS: usize = 20_000;

/// Maximum number of named steps that are under way at once. Chosen by us: each one is a recursion.
const MOST_CALL_DEPTH: usize = 32;

/// Follows operations.
pub(super) struct FlowChecker<'a> {
    pub(super) names: &'a Names,
    pub(super) given: BuiltinNames,
    /// Whether the operation is `read`, which binds `data` itself.
    pub(super) reads: Cell<bool>,
    pub(super) exchanges: &'a [Exchange],
    pub(super) steps: &'a [(String, Vec<Step>)],
    pub(super) envelope: &'a super::model::Envelope,
    pub(super) carrier: &'a Carrier,
    pub(super) framing: &'a Framing,
    pub(super) largest: Option<usize>,
    pub(super) problems: RefCell<Vec<Problem>>,
    pub(super) warnings: RefCell<Vec<Problem>>,
    pub(super) used_exchanges: RefCell<Vec<bool>>,
    pub(super) used_steps: RefCell<Vec<bool>>,
    /// Names that were read since the last reset, by index.
    pub(super) used_names: RefCell<Vec<bool>>,
    pub(super) calls: RefCell<usize>,
}

impl FlowChecker<'_> {
    fn here<'s>(&'s self, known: &'s Environment, frame: Option<&'s [Field]>) -> Scope<'s> {
        Scope { known, names: self.names, nth: self.given.nth, used_names: &self.used_names, frame }
    }

    fn note(&self, result: Parsed<()>) {
        if let Err(problem) = result {
            let mut problems = self.problems.borrow_mut();
            if !problems.contains(&problem) {
                problems.push(problem);
            }
        }
    }

    fn warn(&self, at: usize, message: String) {
        let mut warnings = self.warnings.borrow_mut();
        let warning = Problem::new(at, message);
        if !warnings.contains(&warning) {
            warnings.push(warning);
        }
    }

    /// Checks an expression outside of a frame.
    pub(super) fn expression(&self, of: &Expression, known: &Environment, wants: ExpectedType) {
        let here = self.here(known, None);
        self.note(match wants {
            ExpectedType::Int => of.int_kind(&here).map(drop),
            ExpectedType::Bytes => of.bytes_kind(&here).map(drop),
            ExpectedType::Truth => of.truth(&here),
            ExpectedType::Any => of.kind(&here).map(drop),
        });
    }

    /// Whether a value depends on the unit; `bare` is the environment without a unit.
    pub(super) fn depends(&self, of: &Expression, bare: &Environment) {
        if of.kind(&self.here(bare, None)).is_ok() {
            let message = "no part of this comes from the unit, so checking it would prove nothing";
            self.note(Err(Problem::new(of.at, message)));
        }
    }

    /// Two values that are compared are of one kind.
    pub(super) fn alike(&self, a: &Expression, b: &Expression, known: &Environment) {
        let here = self.here(known, None);
        if let (Ok(a_kind), Ok(b_kind)) = (a.kind(&here), b.kind(&here))
            && !a_kind.is_like(b_kind)
        {
            self.note(Err(Problem::new(b.at, format!("{} is compared with {}", a_kind.words(), b_kind.words()))));
        }
    }

    fn time(&self, time: &Time, known: &Environment) {
        self.expression(&time.value, known, ExpectedType::Int);
    }

    /// Follows steps; `calling` are the named steps that are under way.
    pub(super) fn steps(&self, steps: &[Step], known: &mut Environment, calling: &[usize]) {
        for step in steps {
            self.step(step, known, calling);
        }
    }

    /// Built-in names are read-only: a reply that changed an address would lead out of the plan,
    /// and changed data would be verified against itself.
    fn stays(&self, name: Name, at: usize) {
        let is_read = self.reads.get() && name == self.given.data;
        if self.given.has(name) && !is_read {
            let text = self.names.text(name);
            self.note(Err(Problem::new(at, format!("'{text}' is a built-in name; choose another name"))));
        }
    }

    fn step(&self, step: &Step, known: &mut Environment, calling: &[usize]) {
        match step {
            Step::Call { target, given } => self.call(target, given, known, calling),
            Step::Let(name, value) => {
                self.stays(*name, value.at);
                match value.kind(&self.here(known, None)) {
                    Ok(Type::Int(..)) => known.learn(*name, ANY_INT),
                    Ok(Type::Bytes(_)) => known.learn(*name, Type::Bytes(None)),
                    Ok(kind) => known.learn(*name, kind),
                    Err(problem) => self.note(Err(problem)),
                }
            }
            Step::Random(name, size) => {
                self.stays(*name, size.at);
                match size.int_kind(&self.here(known, None)) {
                    Ok((low, high)) if high < 1 || low > MOST_RANDOM as i128 => {
                        self.note(Err(Problem::new(size.at, format!("random(n) gives 1 to {MOST_RANDOM} bytes"))));
                    }
                    Ok((low, high)) => {
                        let len = usize::try_from(low).ok().filter(|_| low == high);
                        known.learn(*name, Type::Bytes(len));
                    }
                    Err(problem) => self.note(Err(problem)),
                }
            }
            Step::Wait(time) | Step::Leaves(time) | Step::ComesBack(time) => self.time(time, known),
            Step::If { condition, yes, no } => {
                self.expression(condition, known, ExpectedType::Truth);
                let mut other = known.clone();
                self.steps(yes, known, calling);
                self.steps(no, &mut other, calling);
                known.meet(&other);
            }
            Step::Each { size, of, body, at } => {
                self.expression(size, known, ExpectedType::Int);
                if size.int_kind(&self.here(known, None)).is_ok_and(|(_, high)| high < 1) {
                    self.note(Err(Problem::new(*at, "a piece must have at least one byte")));
                }
                self.expression(of, known, ExpectedType::Bytes);
                let locals = self.pieces(size, of, known);
                self.looped(body, known, calling, &locals);
            }
            Step::Repeat { count, body } => {
                self.expression(count, known, ExpectedType::Int);
                if let Ok((_, high)) = count.int_kind(&self.here(known, None))
                    && high > MOST_ROUNDS
                {
                    let message = format!(
                        "this may be {high} iterations, but at most {MOST_ROUNDS} are allowed; limit it with min(…, {MOST_ROUNDS})"
                    );
                    self.note(Err(Problem::new(count.at, message)));
                }
                self.looped(body, known, calling, &[(self.given.nth, Type::Int(0, MOST_ROUNDS))]);
            }
            Step::Until { done, every, within, body, at } => {
                every.iter().for_each(|time| self.time(time, known));
                self.time(within, known);
                if body.is_empty() {
                    self.note(Err(Problem::new(*at, "the loop has no steps, so its condition never changes")));
                }
                self.steps(body, known, calling);
                self.expression(done, known, ExpectedType::Truth);
            }
            Step::Expect(condition, _) => self.expression(condition, known, ExpectedType::Truth),
            Step::Line(_, at) | Step::Signals { at, .. } | Step::Break(_, at) if !self.carrier.kind().has_line => {
                self.note(Err(Problem::new(*at, "this applies only to a serial carrier")));
            }
            Step::Raw(_, at) if !self.carrier.kind().is_stream => {
                self.note(Err(Problem::new(*at, "this applies only to a serial carrier and to pipes")));
            }
            Step::Alternate(_, at) if !self.carrier.kind().has_settings => {
                self.note(Err(Problem::new(*at, "this applies only to pipes")));
            }
            Step::Break(time, _) => self.time(time, known),
            Step::Raw(bytes, _) => self.expression(bytes, known, ExpectedType::Bytes),
            Step::Line(..) | Step::Signals { .. } | Step::Alternate(..) => {}
            Step::BusReset | Step::Drain | Step::Fail(_) => {}
        }
    }

    /// The names of a loop over pieces of bytes, with the most that is known about them.
    fn pieces(&self, size: &Expression, of: &Expression, known: &Environment) -> [(Name, Type); 3] {
        let here = self.here(known, None);
        let len = of.bytes_kind(&here).ok().flatten().map(|len| len as i128);
        let size = size.int_kind(&here).ok().filter(|(low, high)| low == high && *low > 0).map(|(size, _)| size);
        let (place, nth, piece) = match len.zip(size) {
            Some((len, size)) => {
                let whole = usize::try_from(size).ok().filter(|_| len % size == 0);
                ((len - 1).max(0), ((len - 1) / size).max(0), whole)
            }
            None => (MOST_PLACE, MOST_PLACE, None),
        };
        [
            (self.given.piece, Type::Bytes(piece)),
            (self.given.place, Type::Int(0, place)),
            (self.given.nth, Type::Int(0, nth)),
        ]
    }

    fn looped(&self, body: &[Step], known: &mut Environment, calling: &[usize], locals: &[(Name, Type)]) {
        let before = known.clone();
        let outer: Vec<(Name, Option<Type>)> =
            locals.iter().map(|(name, _)| (*name, known.kinds[usize::from(name.0)])).collect();
        for (name, kind) in locals {
            known.learn(*name, *kind);
        }
        self.steps(body, known, calling);
        known.weaken_to(&before);
        for (name, kind) in outer {
            known.kinds[usize::from(name.0)] = kind;
        }
    }

    fn call(&self, target: &Target, given: &[(Name, Expression)], known: &mut Environment, calling: &[usize]) {
        *self.calls.borrow_mut() += 1;
        if *self.calls.borrow() > MOST_CALLS {
            return self.note(Err(Problem::new(target.at, "these steps call each other too often")));
        }
        let before = known.clone();
        for (name, value) in given {
            match value.kind(&self.here(&before, None)) {
                Ok(kind) => known.learn(*name, kind),
                Err(problem) => self.note(Err(problem)),
            }
        }
        match target.callee {
            Some(Callee::Exchange(number)) => {
                self.used_exchanges.borrow_mut()[number] = true;
                self.exchange(&self.exchanges[number], known, calling);
            }
            Some(Callee::Steps(number)) => {
                self.used_steps.borrow_mut()[number] = true;
                if let Some(from) = calling.iter().position(|other| *other == number) {
                    let way: Vec<&str> =
                        calling[from..].iter().chain([&number]).map(|index| self.steps[*index].0.as_str()).collect();
                    let message = format!("infinite recursion: {} calls itself", way.join(" → "));
                    return self.note(Err(Problem::new(target.at, message)));
                }
                if calling.len() == MOST_CALL_DEPTH {
                    let message = format!("more than {MOST_CALL_DEPTH} named steps call each other in a row");
                    return self.note(Err(Problem::new(target.at, message)));
                }
                let calling: Vec<usize> = calling.iter().copied().chain([number]).collect();
                self.steps(&self.steps[number].1, known, &calling);
            }
            None => {}
        }
        for (name, _) in given {
            known.kinds[usize::from(name.0)] = before.kinds[usize::from(name.0)];
        }
    }

    /// Follows one exchange.
    pub(super) fn exchange(&self, exchange: &Exchange, known: &mut Environment, calling: &[usize]) {
        for form in [&exchange.control.out, &exchange.control.back].into_iter().flatten() {
            let parts = [Some(&form.request), form.value.as_ref(), form.index.as_ref(), form.length.as_ref()];
            for (index, part) in parts.into_iter().enumerate() {
                let Some(part) = part else { continue };
                let most = if index == 0 { 0xFF } else { 0xFFFF };
                match part.int_kind(&self.here(known, None)) {
                    Ok((low, high)) if high < 0 || low > most => {
                        self.note(Err(Problem::new(
                            part.at,
                            format!("this can represent 0 to {most}; {low} does not fit"),
                        )));
                    }
                    Ok((_, high)) if high > most && high < UNKNOWN => {
                        self.warn(
                            part.at,
                            format!(
                                "this can represent 0 to {most}, but the value may be {high}; limit it, such as x & 0x{most:X}"
                            ),
                        );
                    }
                    other => self.note(other.map(drop)),
                }
            }
        }
        exchange.block.iter().for_each(|block| self.expression(block, known, ExpectedType::Int));
        exchange.ids.parts().for_each(|id| self.expression(id, known, ExpectedType::Int));
        exchange.within.iter().chain(&exchange.pause).for_each(|time| self.time(time, known));
        if let Some(fields) = &exchange.command {
            self.sent(fields, known, Some((MOST_COMMAND, "a command block")));
        }
        if let Some(fields) = &exchange.send {
            self.sent(fields, known, self.frame_limit());
            if let Some(envelope) = self.envelope.send.as_ref().filter(|_| !exchange.is_sent_bare()) {
                self.fields(envelope, &self.with_body(known), true);
            }
        }
        if *self.framing == Framing::None && self.carrier.kind().is_stream && !exchange.receives_aside() {
            let envelope = self.envelope.reply.iter().filter(|_| exchange.has_reply() && !exchange.is_received_bare());
            let inner = exchange.reply.iter().chain(&exchange.refused).chain(&exchange.busy).chain(&exchange.nak);
            match envelope.clone().next() {
                Some(envelope) => self.ends(envelope),
                None => inner.for_each(|fields| self.ends(fields)),
            }
        }
        let before = known.clone();
        if let Some(envelope) =
            self.envelope.reply.as_ref().filter(|_| exchange.has_reply() && !exchange.is_received_bare())
        {
            self.fields(envelope, known, false);
            self.capture(envelope, known);
        }
        for fields in exchange.busy.iter().chain(&exchange.nak).chain(&exchange.refused) {
            self.fields(fields, known, false);
        }
        if let Some(fields) = &exchange.reply {
            self.fields(fields, known, false);
            self.capture(fields, known);
        }
        if exchange.optional {
            known.weaken_to(&before);
        }
        if !calling.contains(&usize::MAX) {
            // The steps after an exchange may call exchanges, but not recursively.
            let calling: Vec<usize> = calling.iter().copied().chain([usize::MAX]).collect();
            self.steps(&exchange.then, known, &calling);
            self.steps(&self.envelope.then, known, &calling);
        } else if !exchange.then.is_empty() {
            self.note(Err(Problem::new(
                exchange.at,
                "infinite recursion: the steps after an exchange call an exchange with steps after it",
            )));
        }
    }

    fn with_body(&self, known: &Environment) -> Environment {
        let mut with = known.clone();
        if let Some(body) = self.envelope.body {
            with.learn(body, Type::Bytes(None));
        }
        with
    }

    fn capture(&self, fields: &[Field], known: &mut Environment) {
        for field in fields {
            for (name, kind) in captured(field) {
                if !field.is_just(name) {
                    self.stays(name, field.at);
                }
                match &field.only_if {
                    Some(_) if !known.has(name) => known.may_learn(name),
                    _ => known.learn(name, kind),
                }
            }
        }
    }

    /// The maximum size of a frame, and the object that limits it.
    fn frame_limit(&self) -> Option<(usize, &'static str)> {
        let own = self.largest.map(|largest| (largest, "a frame for this unit"));
        own.into_iter().chain(self.carrier.frame_limit()).min()
    }

    /// Checks a frame to send: its fields, and whether it can be built at all.
    fn sent(&self, fields: &[Field], known: &Environment, limit: Option<(usize, &'static str)>) {
        self.fields(fields, known, true);
        let here = self.here(known, Some(fields));
        for field in fields {
            if let Some((at, high, form)) = field.may_not_fit(&here) {
                let most = form.range().1;
                self.warn(at, format!("this may be {high} (0x{high:X}), but {form} can represent {most}, so the update would stop there; limit it, such as x & 0x{most:X}"));
            }
        }
        self.can_be_built(fields, known);
        let most = |field: &Field| {
            field.fixed_len().or_else(|| match field.value.as_ref()?.kind(&here) {
                Ok(Type::Bytes(len)) => len,
                _ => None,
            })
        };
        let mut len = 0;
        for field in fields {
            len += most(field).unwrap_or(0);
            if let Some((limit, what)) = limit.filter(|(limit, _)| len > *limit) {
                let message = format!("with this field the frame has {len} bytes, but {what} can have {limit}");
                return self.note(Err(Problem::new(field.at, message)));
            }
        }
    }

    /// Builds the frame with any values of the right types: a field that waits for itself is an error.
    fn can_be_built(&self, fields: &[Field], known: &Environment) {
        let sample = |kind: &Option<Type>| match (*kind)? {
            Type::Int(low, high) => Some(Value::Int(1.max(low).min(high))),
            Type::Bytes(len) => Some(Value::from(vec![0; len.unwrap_or(4).min(MOST_SAMPLE)])),
            Type::Truth => Some(Value::Truth(false)),
        };
        let values: Vec<Option<Value>> = known.kinds.iter().map(sample).collect();
        let context =
            EvaluationContext { values: &values, names: self.names, tables: &[], nth: self.given.nth, body: None };
        if let Some(field) = context.circular(fields) {
            let message = "this frame can never be built: the field depends on itself through the others, such as two pad_to, or checksums of each other";
            self.note(Err(Problem::new(field.at, message)));
        }
    }

    /// In a stream without framing, the fields of a reply must say where it ends.
    fn ends(&self, fields: &[Field]) {
        for (index, field) in fields.iter().enumerate() {
            let is_open =
                matches!(field.form, Form::Bytes(None) | Form::HexBytes { bytes: None, .. }) && field.value.is_none();
            let is_ended = fields.get(index + 1).is_some_and(|next| next.constant.is_some());
            if is_open && !is_ended {
                let message = "this field has no end: a stream without [framing] needs a length, such as bytes(n), or a constant field behind it";
                return self.note(Err(Problem::new(field.at, message)));
            }
        }
    }

    fn fields(&self, fields: &[Field], known: &Environment, sent: bool) {
        if sent {
            // A field may use all names of its frame, in any order.
            let here = self.here(known, Some(fields));
            for field in fields {
                self.note(field.check(&here));
            }
            return;
        }
        for (index, field) in fields.iter().enumerate() {
            // A length must be known when the field is read; a value can be checked later.
            if let Some(size) = field.form.size() {
                let read = &fields[..index];
                self.note(size.int_kind(&self.here(known, Some(read))).map(drop));
            }
            self.note(field.check(&self.here(known, Some(fields))));
        }
    }
}

/// The type that an expression must have.
#[derive(Clone, Copy, Debug)]
pub(super) enum ExpectedType {
    Int,
    Bytes,
    Truth,
    Any,
}
