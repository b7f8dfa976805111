//! Parses TOML into a checked [`Dialect`]: reports all errors at once, each with line and column,
//! before anything is sent.

mod carrier;
mod flow_check;
mod operation;
mod simulation;

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;

use super::expression::{Expression, NTH, Reader, is_reserved};
use super::field::{Direction, Field, Meaning, Table, code};
use super::lexer::{Parsed, Problem, Source, Token, TokenStream};
use super::model::{BuiltinNames, Dialect, Envelope, Exchange, Geometry, Operation, OperationName, Simulation};
use super::raw::{RawDialect, RawExpression, RawFormed, RawOperation, RawQuestion};
use super::secret::{Secret, SecretForm};
use super::steps::{PIECE, PLACE, STEP_WORDS, Step, Time};
use super::taint;
use super::value::{Name, Names, Value};
use crate::error::{DialectError, DialectErrors, Files, no_files};
use crate::steps::Callee;
use vaka_base::checksum::{CrcParameters, CrcSum};
use vaka_base::document::{self, DocumentError, LineIndex, MOST_FINDINGS};
use vaka_base::text as tame_text;

impl Dialect {
    /// Parses and checks a dialect. `file` is its name for errors; `files` reads the files that
    /// it refers to.
    ///
    /// # Errors
    /// All errors with line and column.
    ///
    /// # Examples
    /// ```
    /// use vaka_dialect::{Dialect, no_files};
    ///
    /// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/src/templates/control.dialect.toml"));
    /// let dialect = Dialect::parse("my.dialect.toml", text, &no_files).unwrap();
    /// assert_eq!(dialect.name, "my-control");
    ///
    /// let errors = Dialect::parse("bad.toml", "dialect = 1\nname = \"x\"\n", &no_files).unwrap_err();
    /// assert!(errors.to_string().contains("bad.toml"));
    /// ```
    pub fn parse(file: &str, text: &str, files: Files<'_>) -> Result<Self, DialectErrors> {
        dialect(file, text, files, &BTreeMap::new())
    }

    /// The dialect with these values of its parameters, checked again with them.
    ///
    /// # Errors
    /// A name is not one of `[parameters]`, a value has another type than its default, or the
    /// dialect is not sound with the values.
    ///
    /// # Examples
    /// ```
    /// use vaka_dialect::{Dialect, Value, no_files};
    ///
    /// let text = "dialect = 1\nname = \"x\"\n[carrier]\nkind = \"pipes\"\n[parameters]\nnode = 1\n\
    ///             [restart]\nsend = \"u8 = node\"\n";
    /// let dialect = Dialect::parse("x.dialect.toml", text, &no_files).unwrap();
    /// assert!(dialect.with(&[("node".to_owned(), Value::Int(3))].into()).is_ok());
    /// let error = dialect.with(&[("node".to_owned(), Value::Int(300))].into()).unwrap_err();
    /// assert!(error.to_string().contains("300"));
    /// ```
    pub fn with(&self, values: &BTreeMap<String, Value>) -> Result<Self, DialectErrors> {
        let helper = self.operation(OperationName::Helper).and_then(|helper| helper.helper.as_ref());
        let files = |name: &str| match helper {
            Some(helper) => Ok(helper.data.to_vec()),
            None => no_files(name),
        };
        dialect(&self.name, &self.text, &files, values)
    }
}

/// The version of the format that this reads.
const FORMAT: u32 = 1;

/// Maximum size of a chunk or a report in bytes. Chosen by us.
const MOST_CHUNK: i128 = 1 << 20;

fn dialect(
    file: &str,
    text: &str,
    files: Files<'_>,
    parameters: &BTreeMap<String, Value>,
) -> Result<Dialect, DialectErrors> {
    let lines = LineIndex::new(text);
    let error = |problem: &Problem| {
        let (line, column) = lines.position(problem.at);
        DialectError { file: file.to_owned(), line, column, message: problem.message.clone() }
    };
    let raw: RawDialect = document::read(text).map_err(|findings| {
        let problem = |found: DocumentError| Problem::new(found.at, format!("`{}` {}", found.key, found.message));
        DialectErrors(findings.into_iter().map(|found| error(&problem(found))).collect())
    })?;
    let mut checker = Checker {
        text,
        parameters,
        names: Names::default(),
        crcs: BTreeMap::new(),
        tables: Vec::new(),
        problems: Vec::new(),
    };
    let made = checker.dialect(&raw, files);
    let problems = std::mem::take(&mut checker.problems);
    match made {
        Some((mut dialect, warnings)) if problems.is_empty() => {
            dialect.warnings = first_ones(warnings).iter().map(error).collect();
            Ok(dialect)
        }
        _ => Err(DialectErrors(first_ones(problems).iter().map(error).collect())),
    }
}

/// The problems in the order of the text, as many as help, and the number of the others.
fn first_ones(mut problems: Vec<Problem>) -> Vec<Problem> {
    problems.sort();
    problems.dedup();
    let left = problems.len().saturating_sub(MOST_FINDINGS);
    if left > 0 {
        problems.truncate(MOST_FINDINGS);
        let at = problems.last().map_or(0, |problem| problem.at);
        problems.push(Problem::new(at, format!("{left} more findings after this one")));
    }
    problems
}

struct Checker<'a> {
    text: &'a str,
    /// Values from a product sheet, which replace defaults.
    parameters: &'a BTreeMap<String, Value>,
    names: Names,
    crcs: BTreeMap<String, Arc<CrcSum>>,
    tables: Vec<Table>,
    problems: Vec<Problem>,
}

/// An operation as written in the file, and the context for parsing it.
pub(super) struct OperationSource<'r> {
    pub(super) name: OperationName,
    pub(super) raw: &'r Spanned<RawOperation>,
    pub(super) dialect: &'r RawDialect,
    /// Reads the files that the dialect refers to.
    pub(super) files: Files<'r>,
}

impl Checker<'_> {
    fn note<T>(&mut self, result: Parsed<T>) -> Option<T> {
        match result {
            Ok(value) => Some(value),
            Err(problem) => {
                self.problems.push(problem);
                None
            }
        }
    }

    fn wrong(&mut self, span: &Range<usize>, message: impl Into<String>) {
        self.problems.push(Problem::new(span.start, message));
    }

    fn reader(&mut self, text: &Spanned<String>) -> Option<Reader<'_>> {
        let source = Source::new(self.text, &text.span(), text.get_ref());
        let words = match TokenStream::new(&source) {
            Ok(words) => words,
            Err(problem) => {
                self.problems.push(problem);
                return None;
            }
        };
        Some(Reader { words, names: &mut self.names, crcs: &self.crcs, depth: 0, operators: 0 })
    }

    /// Checks a short name for use in a product sheet.
    fn name(&mut self, name: &Spanned<String>) -> String {
        let text = name.get_ref();
        let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        if text.is_empty() || text.len() > 64 || !text.chars().all(fits) {
            self.wrong(&name.span(), "a dialect name may contain only lowercase letters, digits and '-'");
        }
        text.clone()
    }

    fn word(&mut self, name: &Spanned<String>, what: &str) -> String {
        let text = name.get_ref();
        let begins = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_');
        let fits = begins && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if !fits {
            self.wrong(&name.span(), format!("the name of {what} may contain only letters, digits and '_'"));
        } else if is_reserved(text) {
            self.wrong(&name.span(), format!("'{text}' is a reserved word"));
        }
        text.clone()
    }

    /// Declares a name that steps can call.
    fn callable(&mut self, name: &Spanned<String>, what: &str) -> String {
        let text = name.get_ref();
        let fits = text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if !fits {
            self.wrong(&name.span(), format!("the name of {what} may contain only letters, digits and '_'"));
        } else if STEP_WORDS.contains(&text.as_str()) || OperationName::parse(text).is_some() {
            self.wrong(&name.span(), format!("'{text}' is a reserved word"));
        }
        text.clone()
    }

    fn expression(&mut self, raw: &Spanned<RawExpression>) -> Option<Expression> {
        match raw.get_ref() {
            RawExpression::Int(number) => Some(Expression::int(i128::from(*number), raw.span().start)),
            RawExpression::Text(text) => {
                let text = Spanned::new(raw.span(), text.clone());
                let read = |reader: &mut Reader<'_>| {
                    let expression = reader.expression()?;
                    match reader.words.peek() {
                        Token::End => Ok(expression),
                        _ => Err(reader.words.unexpected("an operator or the end")),
                    }
                };
                let read = self.reader(&text).map(|mut reader| read(&mut reader))?;
                self.note(read)
            }
        }
    }

    fn optional(&mut self, raw: Option<&Spanned<RawExpression>>) -> Option<Expression> {
        raw.and_then(|raw| self.expression(raw))
    }

    fn fields(&mut self, text: &Spanned<String>, way: Direction) -> Option<Vec<Field>> {
        let file = self.text;
        let tables = std::mem::take(&mut self.tables);
        let fields = self.reader(text).map(|mut reader| reader.fields(way, &tables, file));
        self.tables = tables;
        fields.and_then(|fields| self.note(fields))
    }

    fn script(&mut self, text: &Spanned<String>) -> Option<Vec<Step>> {
        let steps = self.reader(text).map(|mut reader| reader.script())?;
        self.note(steps)
    }

    fn time(&mut self, text: &Spanned<String>) -> Option<Time> {
        let read = |reader: &mut Reader<'_>| {
            let time = reader.time()?;
            match reader.words.peek() {
                Token::End => Ok(time),
                _ => Err(reader.words.unexpected("the end")),
            }
        };
        let time = self.reader(text).map(|mut reader| read(&mut reader))?;
        self.note(time)
    }

    fn optional_time(&mut self, text: Option<&Spanned<String>>) -> Option<Time> {
        text.and_then(|text| self.time(text))
    }

    fn dialect(&mut self, raw: &RawDialect, files: Files<'_>) -> Option<(Dialect, Vec<Problem>)> {
        if *raw.dialect.get_ref() != FORMAT {
            self.wrong(&raw.dialect.span(), format!("this Vaka reads dialects of format {FORMAT}"));
            return None;
        }
        let name = self.name(&raw.name);
        let given = self.given();
        self.crcs(raw);
        self.tables(raw);
        let values = self.values(raw);
        let parameters = self.parameters(raw);
        let secrets = self.secrets(raw);
        let carrier = self.carrier(&raw.carrier)?;
        let framing = self.framing(raw, &carrier);
        let envelope = self.envelope(raw);
        let exchanges = self.exchanges(raw);
        let mut steps: Vec<(String, Vec<Step>)> = Vec::new();
        for (key, raw) in &raw.steps {
            let name = self.callable(key, "named steps");
            let made = self.script(&raw.steps).unwrap_or_default();
            steps.push((name, made));
        }
        let mut made = Compiled { exchanges, steps, operations: BTreeMap::new() };
        for (name, operation) in operations(raw) {
            if let Some(operation) = operation {
                let source = OperationSource { name, raw: operation, dialect: raw, files };
                self.operation(source, &mut made);
            }
        }
        if made.operations.is_empty() {
            self.wrong(&raw.name.span(), "at least one operation is required, such as [write]");
        }
        let geometry = self.geometry(raw);
        let mut envelope = envelope;
        self.resolve(&mut made, &mut envelope);
        let largest = raw.carrier.get_ref().largest.as_ref().map(|largest| *largest.get_ref() as usize);
        let junk = raw.carrier.get_ref().junk.as_ref().map_or(0, |junk| *junk.get_ref() as usize);
        let mut start: Vec<Option<Value>> = vec![None; self.names.len()];
        let mut constants = Vec::new();
        for (name, value, is_constant) in &values {
            start[usize::from(name.0)] = Some(value.clone());
            constants.extend(is_constant.then_some(*name));
        }
        let mut dialect = Dialect {
            name,
            about: raw.about.as_ref().map(|about| tame_text::sanitize(about.get_ref())),
            carrier,
            framing,
            largest,
            junk,
            geometry,
            needs_whole: false,
            warnings: Vec::new(),
            exchanges: made.exchanges,
            steps: made.steps,
            operations: made.operations,
            envelope,
            names: self.names.clone(),
            tables: self.tables.clone(),
            start,
            constants,
            parameters,
            simulation: Simulation::default(),
            secrets,
            tainted: BTreeSet::new(),
            given,
            text: self.text.into(),
        };
        dialect.simulation = simulation::check(self, &raw.simulate, &dialect);
        let warnings = self.follow(raw, &mut dialect);
        taint::mark(&mut dialect);
        self.secret_requests(&dialect);
        Some((dialect, warnings))
    }

    fn given(&mut self) -> BuiltinNames {
        let mut name = |text| self.names.number(text);
        BuiltinNames {
            address: name("address"),
            length: name("length"),
            data: name("data"),
            index: name("index"),
            chunks: name("chunks"),
            last: name("last"),
            whole: name("whole"),
            header: name("header"),
            node: name("node"),
            received_id: name("received_id"),
            origin: name("origin"),
            region_start: name("region_start"),
            region_size: name("region_size"),
            piece: name(PIECE),
            place: name(PLACE),
            nth: name(NTH),
        }
    }

    fn crcs(&mut self, raw: &RawDialect) {
        for (key, crc) in &raw.crc {
            let name = self.word(key, "a checksum");
            let given = crc.get_ref();
            let parameters = CrcParameters {
                width: given.width,
                polynomial: given.poly,
                start: given.init,
                reflect_in: given.reflect,
                reflect_out: given.reflect_out.unwrap_or(given.reflect),
                xor_out: given.xor_out,
            };
            match CrcSum::new(parameters) {
                Some(crc) => {
                    self.crcs.insert(name, Arc::new(crc));
                }
                None => self.wrong(
                    &crc.span(),
                    "a CRC must have a width of 3 to 64 bits, and poly, init and xor_out must fit into it",
                ),
            }
        }
    }

    fn tables(&mut self, raw: &RawDialect) {
        for (key, codes) in &raw.table {
            let name = self.word(key, "a table");
            let mut found = BTreeMap::new();
            for (key, words) in codes {
                let Some(number) = code(key.get_ref()) else {
                    self.wrong(
                        &key.span(),
                        format!("'{}' is not a code; write it like 0x1F or 31", tame_text::sanitize(key.get_ref())),
                    );
                    continue;
                };
                let sentence = words.get_ref();
                if sentence.is_empty() || tame_text::sanitize(sentence) != *sentence {
                    self.wrong(&words.span(), "expected its meaning: \"ok\", \"busy\", \"nak\" or a sentence");
                }
                let meaning = match sentence.as_str() {
                    "ok" => Meaning::Ok,
                    "busy" => Meaning::Busy,
                    "nak" => Meaning::Nak,
                    sentence => Meaning::Refused(sentence.to_owned()),
                };
                if found.insert(number, meaning).is_some() {
                    self.wrong(&key.span(), format!("code {number} occurs twice"));
                }
            }
            self.tables.push(Table { name, codes: found });
        }
    }

    /// Declares names with constant values, and variables that steps may change.
    fn values(&mut self, raw: &RawDialect) -> Vec<(crate::value::Name, Value, bool)> {
        let mut values: Vec<(crate::value::Name, Value, bool)> = Vec::new();
        let constants = raw.names.iter().chain(&raw.parameters);
        let all = constants.map(|one| (one, true)).chain(raw.start.iter().map(|one| (one, false)));
        // In the order of the file, so that a value can refer to those above it.
        let mut all: Vec<_> = all.collect();
        all.sort_by_key(|((key, _), _)| key.span().start);
        for ((key, value), is_constant) in all {
            let text = self.word(key, "a value");
            if self.names.find(&text).is_some_and(|name| values.iter().any(|(known, ..)| *known == name)) {
                self.wrong(&key.span(), format!("'{text}' occurs twice"));
                continue;
            }
            let Some(expression) = self.expression(value) else { continue };
            let name = self.names.number(&text);
            let mut known = vec![None; self.names.len()];
            for (name, value, _) in &values {
                known[usize::from(name.0)] = Some(value.clone());
            }
            let nth = self.names.number(NTH);
            let context =
                super::frame::EvaluationContext { values: &known, names: &self.names, tables: &[], nth, body: None };
            match context.value(&expression) {
                Ok(Value::Truth(_)) => self.wrong(&value.span(), "expected a number or bytes"),
                Ok(default) => {
                    let given = self.parameters.get(&text).filter(|_| raw.parameters.contains_key(key));
                    let value = self.replaced(default, given, &value.span());
                    values.push((name, value, is_constant));
                }
                Err(words) => {
                    let at = expression.at;
                    self.problems.push(Problem::new(at, format!("expected a constant value: {words}")));
                }
            }
        }
        values
    }

    /// The value of a parameter: the given one, or else its default.
    fn replaced(&mut self, default: Value, given: Option<&Value>, span: &Range<usize>) -> Value {
        match (&default, given) {
            (_, None) => default,
            (Value::Int(_), Some(given @ Value::Int(_))) | (Value::Bytes(_), Some(given @ Value::Bytes(_))) => {
                given.clone()
            }
            (_, Some(given)) => {
                self.wrong(span, format!("the given value, {given}, has another type than this default"));
                default
            }
        }
    }

    /// The values that the user supplies.
    fn secrets(&mut self, raw: &RawDialect) -> Vec<Secret> {
        let mut secrets = Vec::new();
        for (key, asked) in &raw.ask {
            let text = self.word(key, "a value");
            let declared = raw.names.keys().chain(raw.parameters.keys()).chain(raw.start.keys());
            if declared.into_iter().any(|other| *other.get_ref() == text) {
                self.wrong(&key.span(), format!("'{text}' occurs twice"));
            }
            let (question, form, size) = match asked.get_ref() {
                RawQuestion::Words(words) => (words, SecretForm::Text, None),
                RawQuestion::Formed(RawFormed { question, form, size }) => (question, *form, *size),
            };
            if question.trim().is_empty() || tame_text::sanitize(question) != *question {
                self.wrong(&asked.span(), "the question must not be empty or have control characters");
            }
            let (name, question) = (self.names.number(&text), question.trim().to_owned());
            secrets.push(Secret { name, key: text, question, form, size, file: None });
        }
        secrets
    }

    /// Setup packets and command blocks are in every trace, so they must not depend on a secret.
    fn secret_requests(&mut self, dialect: &Dialect) {
        for exchange in &dialect.exchanges {
            let forms = [&exchange.control.out, &exchange.control.back].into_iter().flatten();
            let parts = forms.flat_map(|form| [Some(&form.request), form.value.as_ref(), form.index.as_ref()]);
            let parts = parts.flatten().chain(exchange.ids.parts());
            let parts = parts.filter(|part| dialect.is_secret(part)).map(|part| part.at);
            for at in parts.chain(taint::secret_in_command(exchange, &dialect.tainted)) {
                let message = "a value that the user supplies cannot be part of a setup packet, an identifier or a command block, which traces show";
                self.problems.push(Problem::new(at, message));
            }
        }
    }

    /// The names of the parameters; each given value must have one.
    fn parameters(&mut self, raw: &RawDialect) -> Vec<Name> {
        let known: Vec<&str> = raw.parameters.keys().map(|key| key.get_ref().as_str()).collect();
        for name in self.parameters.keys().filter(|name| !known.contains(&name.as_str())) {
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            let message = format!("unknown parameter '{}'; existing: {known}", tame_text::sanitize(name));
            self.wrong(&raw.name.span(), message);
        }
        known.into_iter().map(|name| self.names.number(name)).collect()
    }

    fn geometry(&mut self, raw: &RawDialect) -> Geometry {
        let given = &raw.geometry;
        if let (None, Some(write)) = (&given.chunk, &raw.write) {
            self.wrong(&write.span(), "`chunk` in [geometry] is required: bytes in one write");
        }
        Geometry {
            chunk: self.optional(given.chunk.as_ref()),
            read_chunk: self.optional(given.read_chunk.as_ref()),
            align: self.optional(given.align.as_ref()),
            pad: given.pad.as_ref().is_none_or(|pad| *pad.get_ref()),
            stream: given.stream.as_ref().is_some_and(|stream| *stream.get_ref()),
            order: given.order.as_ref().map(|order| *order.get_ref()).unwrap_or_default(),
            start: self.optional(given.start.as_ref()),
            size: self.optional(given.size.as_ref()),
        }
    }

    /// Resolves the calls in all steps.
    fn resolve(&mut self, made: &mut Compiled, envelope: &mut Envelope) {
        let exchanges: Vec<String> = made.exchanges.iter().map(|exchange| exchange.name.clone()).collect();
        let steps: Vec<String> = made.steps.iter().map(|(name, _)| name.clone()).collect();
        let known: Vec<&str> = exchanges
            .iter()
            .chain(&steps)
            .map(String::as_str)
            .filter(|name| OperationName::parse(name).is_none())
            .collect();
        let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
        let find = |target: &super::steps::Target| {
            target.callee.or_else(|| {
                let exchange = exchanges.iter().position(|name| *name == target.name).map(Callee::Exchange);
                exchange.or_else(|| steps.iter().position(|name| *name == target.name).map(Callee::Steps))
            })
        };
        let mut lost = Vec::new();
        let of_operations = made.operations.values_mut().flat_map(|operation| &mut operation.steps);
        let of_steps = made.steps.iter_mut().flat_map(|(_, steps)| steps);
        let of_exchanges = made.exchanges.iter_mut().flat_map(|exchange| &mut exchange.then);
        for step in of_operations.chain(of_steps).chain(of_exchanges).chain(&mut envelope.then) {
            step.resolve(&find, &mut lost);
        }
        for target in lost {
            let message = format!("unknown exchange or group of steps '{}'; existing: {known}", target.name);
            self.problems.push(Problem::new(target.at, message));
        }
    }
}

/// The parts of the dialect that are already compiled.
struct Compiled {
    exchanges: Vec<Exchange>,
    steps: Vec<(String, Vec<Step>)>,
    operations: BTreeMap<OperationName, Operation>,
}

fn operations(raw: &RawDialect) -> [(OperationName, &Option<Spanned<RawOperation>>); 17] {
    use OperationName as N;
    [
        (N::Discover, &raw.discover),
        (N::Sync, &raw.sync),
        (N::Identify, &raw.identify),
        (N::Unlock, &raw.unlock),
        (N::Helper, &raw.helper),
        (N::Begin, &raw.begin),
        (N::Erase, &raw.erase),
        (N::Write, &raw.write),
        (N::End, &raw.end),
        (N::Read, &raw.read),
        (N::Checksum, &raw.checksum),
        (N::Protection, &raw.protection),
        (N::Unprotect, &raw.unprotect),
        (N::Restart, &raw.restart),
        (N::Enter, &raw.enter),
        (N::Recover, &raw.recover),
        (N::Confirm, &raw.confirm),
    ]
}
