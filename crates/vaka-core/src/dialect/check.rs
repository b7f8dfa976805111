//! From TOML to a checked [`Dialect`]: all that is wrong is found at once, each with
//! its line and column, before anything is sent.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;

use super::checksum::{CrcParameters, CrcSum};
use super::expression::{Expression, Kind, NTH, Names, Node, Reader, Value, is_reserved};
use super::field::{Field, Meaning, Table, Way, code};
use super::flow::{Known, Walk, Wants};
use super::framing::Framing;
use super::model::{
    Ask, Callee, Carrier, Checksum, Dialect, Envelope, Exchange, Geometry, Given, Helper, Operation, OperationName,
    Recipient, Report, RequestForm, Requester, Tell, Via,
};
use super::raw::{
    RawAsk, RawCarrier, RawCarrierKind, RawDialect, RawExpression, RawFraming, RawFramingKind, RawOperation,
    RawRecipient, RawReport, RawRequest, RawRequestType, RawVia,
};
use super::script::{LineSetting, PIECE, PLACE, STEP_WORDS, Step, Time};
use super::token::{Parsed, Problem, Source, Words, hex_bytes};
use super::{DialectError, DialectErrors, Files, MOST_BYTES};
use crate::text as tame_text;

/// The version of the format that this reads.
const FORMAT: u32 = 1;

/// Most bytes of a chunk or a report. Chosen by us.
const MOST_CHUNK: i128 = 1 << 20;

pub(super) fn dialect(file: &str, text: &str, files: Files<'_>) -> Result<Dialect, DialectErrors> {
    let place = |at: usize| position(text, at);
    let error = |problem: &Problem| {
        let (line, column) = place(problem.at);
        DialectError { file: file.to_owned(), line, column, message: problem.message.clone() }
    };
    if text.len() > MOST_BYTES {
        let problem = Problem::new(0, format!("a dialect has at most {MOST_BYTES} bytes; this has {}", text.len()));
        return Err(DialectErrors(vec![error(&problem)]));
    }
    let raw: RawDialect = toml::from_str(text).map_err(|fault| {
        let at = fault.span().map_or(0, |span| span.start);
        let message = tame_text::tame(&fault.message().replace('\n', "; "));
        DialectErrors(vec![error(&Problem::new(at, message))])
    })?;
    let mut checker =
        Checker { text, names: Names::default(), crcs: BTreeMap::new(), tables: Vec::new(), problems: Vec::new() };
    let made = checker.dialect(&raw, files);
    let problems = std::mem::take(&mut checker.problems);
    match made {
        Some((mut dialect, warnings)) if problems.is_empty() => {
            dialect.warnings = warnings.iter().map(error).collect();
            dialect.warnings.sort();
            Ok(dialect)
        }
        _ => {
            let mut errors: Vec<DialectError> = problems.iter().map(error).collect();
            errors.sort();
            errors.dedup();
            Err(DialectErrors(errors))
        }
    }
}

/// Line and column of a place, both from 1.
fn position(text: &str, at: usize) -> (usize, usize) {
    let mut at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    let before = &text[..at];
    let line_start = before.rfind('\n').map_or(0, |at| at + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

struct Checker<'a> {
    text: &'a str,
    names: Names,
    crcs: BTreeMap<String, Arc<CrcSum>>,
    tables: Vec<Table>,
    problems: Vec<Problem>,
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
        let words = match Words::new(&source) {
            Ok(words) => words,
            Err(problem) => {
                self.problems.push(problem);
                return None;
            }
        };
        Some(Reader { words, names: &mut self.names, crcs: &self.crcs, depth: 0 })
    }

    /// A short name that can stand in a sheet.
    fn name(&mut self, name: &Spanned<String>) -> String {
        let text = name.get_ref();
        let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        if text.is_empty() || text.len() > 64 || !text.chars().all(fits) {
            self.wrong(&name.span(), "a dialect's name has lower-case letters, digits and '-'");
        }
        text.clone()
    }

    fn word(&mut self, name: &Spanned<String>, what: &str) -> String {
        let text = name.get_ref();
        let begins = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_');
        let fits = begins && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if !fits {
            self.wrong(&name.span(), format!("{what} is called by letters, digits and '_'"));
        } else if is_reserved(text) {
            self.wrong(&name.span(), format!("'{text}' is a word of the language, not a name"));
        }
        text.clone()
    }

    /// What steps call; it may be called as a function is.
    fn callable(&mut self, name: &Spanned<String>, what: &str) -> String {
        let text = name.get_ref();
        let fits = text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if !fits {
            self.wrong(&name.span(), format!("{what} is called by letters, digits and '_'"));
        } else if STEP_WORDS.contains(&text.as_str()) || OperationName::parse(text).is_some() {
            self.wrong(&name.span(), format!("'{text}' is a word of the language, not a name"));
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
                        super::token::Token::End => Ok(expression),
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

    fn fields(&mut self, text: &Spanned<String>, way: Way) -> Option<Vec<Field>> {
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
                super::token::Token::End => Ok(time),
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
        let mut made = Made { exchanges, steps, operations: BTreeMap::new() };
        for (name, operation) in operations(raw) {
            if let Some(operation) = operation {
                self.operation(name, operation, raw, &mut made, files);
            }
        }
        if made.operations.is_empty() {
            self.wrong(&raw.name.span(), "a dialect has at least one operation, such as [write]");
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
            about: raw.about.as_ref().map(|about| tame_text::tame(about.get_ref())),
            carrier,
            framing,
            largest,
            junk,
            geometry,
            warnings: Vec::new(),
            exchanges: made.exchanges,
            steps: made.steps,
            operations: made.operations,
            envelope,
            names: self.names.clone(),
            tables: self.tables.clone(),
            start,
            constants,
            nth: given.nth,
            given,
            text: self.text.into(),
        };
        let warnings = self.follow(raw, &mut dialect);
        Some((dialect, warnings))
    }

    fn given(&mut self) -> Given {
        let mut name = |text| self.names.number(text);
        Given {
            address: name("address"),
            length: name("length"),
            data: name("data"),
            index: name("index"),
            chunks: name("chunks"),
            last: name("last"),
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
                None => self.wrong(&crc.span(), "a CRC has a width of 3 to 64 bits, and poly, init and xor_out fit it"),
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
                        format!("'{}' is no code; write it like 0x1F or 31", tame_text::tame(key.get_ref())),
                    );
                    continue;
                };
                let sentence = words.get_ref();
                if sentence.is_empty() || tame_text::tame(sentence) != *sentence {
                    self.wrong(&words.span(), "say what it means: \"ok\", \"busy\" or a sentence");
                }
                let meaning = match sentence.as_str() {
                    "ok" => Meaning::Ok,
                    "busy" => Meaning::Busy,
                    sentence => Meaning::Refused(sentence.to_owned()),
                };
                if found.insert(number, meaning).is_some() {
                    self.wrong(&key.span(), format!("code {number} is there twice"));
                }
            }
            self.tables.push(Table { name, codes: found });
        }
    }

    /// Names with constant values, and those that steps may change.
    fn values(&mut self, raw: &RawDialect) -> Vec<(super::Name, Value, bool)> {
        let mut values: Vec<(super::Name, Value, bool)> = Vec::new();
        let all = raw.names.iter().map(|one| (one, true)).chain(raw.start.iter().map(|one| (one, false)));
        // In the order of the file, so that one may use those above it.
        let mut all: Vec<_> = all.collect();
        all.sort_by_key(|((key, _), _)| key.span().start);
        for ((key, value), is_constant) in all {
            let text = self.word(key, "a value");
            if self.names.find(&text).is_some_and(|name| values.iter().any(|(known, ..)| *known == name)) {
                self.wrong(&key.span(), format!("'{text}' is there twice"));
                continue;
            }
            let Some(expression) = self.expression(value) else { continue };
            let name = self.names.number(&text);
            let mut known = vec![None; self.names.len()];
            for (name, value, _) in &values {
                known[usize::from(name.0)] = Some(value.clone());
            }
            let nth = self.names.number(NTH);
            let context = super::frame::Context { values: &known, names: &self.names, tables: &[], nth, body: None };
            match context.value(&expression) {
                Ok(Value::Truth(_)) => self.wrong(&value.span(), "a value is a number or bytes"),
                Ok(value) => values.push((name, value, is_constant)),
                Err(words) => {
                    let at = expression.at;
                    self.problems.push(Problem::new(at, format!("this has no constant value: {words}")));
                }
            }
        }
        values
    }

    fn carrier(&mut self, raw: &Spanned<RawCarrier>) -> Option<Carrier> {
        let given = raw.get_ref();
        let kind = *given.kind.get_ref();
        self.stray_carrier_keys(given, kind);
        let interface = given.interface;
        Some(match kind {
            RawCarrierKind::Control => Carrier::Control { interface },
            RawCarrierKind::Hid => self.hid(raw)?,
            RawCarrierKind::Pipes => {
                let pipe = |pipe: &Option<Spanned<u8>>| pipe.as_ref().map(|pipe| *pipe.get_ref());
                if let Some(out) = given.pipe_out.as_ref().filter(|pipe| *pipe.get_ref() & 0x80 != 0) {
                    self.wrong(&out.span(), "a pipe to the unit has an address below 0x80");
                }
                if let Some(back) = given.pipe_in.as_ref().filter(|pipe| *pipe.get_ref() & 0x80 == 0) {
                    self.wrong(&back.span(), "a pipe to the host has an address from 0x80 on");
                }
                let empty_packet = given.empty_packet.as_ref().is_some_and(|on| *on.get_ref());
                Carrier::Pipes {
                    interface,
                    pipe_out: pipe(&given.pipe_out),
                    pipe_in: pipe(&given.pipe_in),
                    empty_packet,
                }
            }
            RawCarrierKind::Serial => {
                let line = match (&given.baud, &given.form) {
                    (None, None) => None,
                    (None, Some(form)) => {
                        self.wrong(&form.span(), "say with `baud` how fast the line is");
                        None
                    }
                    (Some(baud), form) => {
                        let words = form.as_ref().map_or("8N1", |form| form.get_ref().as_str());
                        let line = LineSetting::parse(i128::from(*baud.get_ref()), words);
                        if line.is_none() {
                            let span = form.as_ref().map_or(baud.span(), Spanned::span);
                            self.wrong(&span, "a line has a speed above 0 and a form like \"8N1\" or \"7E2\"");
                        }
                        line
                    }
                };
                let on = |signal: &Option<Spanned<bool>>| signal.as_ref().is_none_or(|on| *on.get_ref());
                Carrier::Serial { interface, line, dtr: on(&given.dtr), rts: on(&given.rts) }
            }
            RawCarrierKind::Dfu => Carrier::Dfu { interface },
        })
    }

    fn hid(&mut self, raw: &Spanned<RawCarrier>) -> Option<Carrier> {
        let given = raw.get_ref();
        let report = |report: &Option<Spanned<RawReport>>, other: Report| {
            report.as_ref().map_or(other, |report| match report.get_ref() {
                RawReport::Output => Report::Output,
                RawReport::Input => Report::Input,
                RawReport::Feature => Report::Feature,
            })
        };
        let (send, reply) = (report(&given.send, Report::Output), report(&given.reply, Report::Input));
        if let Some(found) = given.send.as_ref().filter(|_| send == Report::Input) {
            self.wrong(&found.span(), "an input report comes from the unit; frames go as \"output\" or \"feature\"");
        }
        if let Some(found) = given.reply.as_ref().filter(|_| reply == Report::Output) {
            self.wrong(&found.span(), "an output report goes to the unit; replies come as \"input\" or \"feature\"");
        }
        let Some(length) = &given.length else {
            self.wrong(&given.kind.span(), "say with `length` how many bytes a report has, without its id");
            return None;
        };
        let reply_length = given.reply_length.as_ref().unwrap_or(length);
        for length in [length, reply_length] {
            if !(1..=4096).contains(length.get_ref()) {
                self.wrong(&length.span(), "a report has 1 to 4096 bytes");
            }
        }
        if let Some(report) = given.report.as_ref().filter(|report| *report.get_ref() == 0) {
            self.wrong(&report.span(), "report ids begin at 1; leave this out where reports have none");
        }
        Some(Carrier::Hid {
            interface: given.interface,
            send,
            reply,
            report: given.report.as_ref().map(|report| *report.get_ref()),
            length: *length.get_ref() as usize,
            reply_length: *reply_length.get_ref() as usize,
            fill: given.fill.as_ref().map_or(0, |fill| *fill.get_ref()),
        })
    }

    fn stray_carrier_keys(&mut self, given: &RawCarrier, kind: RawCarrierKind) {
        use RawCarrierKind as K;
        let keys = [
            ("type", given.request_type.as_ref().map(Spanned::span), "control"),
            ("to", given.to.as_ref().map(Spanned::span), "control"),
            ("out", given.request_out.as_ref().map(Spanned::span), "control"),
            ("in", given.request_in.as_ref().map(Spanned::span), "control"),
            ("send", given.send.as_ref().map(Spanned::span), "hid"),
            ("reply", given.reply.as_ref().map(Spanned::span), "hid"),
            ("report", given.report.as_ref().map(Spanned::span), "hid"),
            ("length", given.length.as_ref().map(Spanned::span), "hid"),
            ("reply_length", given.reply_length.as_ref().map(Spanned::span), "hid"),
            ("fill", given.fill.as_ref().map(Spanned::span), "hid"),
            ("pipe_out", given.pipe_out.as_ref().map(Spanned::span), "pipes"),
            ("pipe_in", given.pipe_in.as_ref().map(Spanned::span), "pipes"),
            ("empty_packet", given.empty_packet.as_ref().map(Spanned::span), "pipes"),
            ("baud", given.baud.as_ref().map(Spanned::span), "serial"),
            ("form", given.form.as_ref().map(Spanned::span), "serial"),
            ("dtr", given.dtr.as_ref().map(Spanned::span), "serial"),
            ("rts", given.rts.as_ref().map(Spanned::span), "serial"),
            ("block", given.block.as_ref().map(Spanned::span), "dfu"),
        ];
        let own = match kind {
            K::Control => "control",
            K::Hid => "hid",
            K::Pipes => "pipes",
            K::Serial => "serial",
            K::Dfu => "dfu",
        };
        for (key, span, owner) in keys {
            if let Some(span) = span.filter(|_| owner != own) {
                self.wrong(&span, format!("`{key}` is a key of a carrier of kind \"{owner}\""));
            }
        }
    }

    fn framing(&mut self, raw: &RawDialect, carrier: &Carrier) -> Framing {
        let streams = matches!(carrier, Carrier::Serial { .. } | Carrier::Pipes { .. });
        let Some(framing) = &raw.framing else {
            return if matches!(carrier, Carrier::Serial { .. }) { Framing::None } else { Framing::Transfer };
        };
        let RawFraming { kind, length, start, end, escape, escape_xor, leading_end } = framing.get_ref();
        if !streams {
            self.wrong(
                &framing.span(),
                format!("on {} each transfer is a frame; leave [framing] out", carrier.words()),
            );
            return Framing::Transfer;
        }
        let mut mark = |raw: &Option<Spanned<RawExpression>>, key: &str| -> Vec<u8> {
            let Some(raw) = raw else {
                self.wrong(&kind.span(), format!("say with `{key}` which bytes those are, as in {key} = \"x'0D 0A'\""));
                return vec![0];
            };
            let value = self.expression(raw).map(|expression| expression.node);
            match value {
                Some(Node::Value(Value::Bytes(bytes))) if !bytes.is_empty() && bytes.len() <= 16 => bytes.to_vec(),
                Some(_) => {
                    self.wrong(&raw.span(), "these are 1 to 16 constant bytes, as in \"x'0D 0A'\" or \"'>'\"");
                    vec![0]
                }
                None => vec![0],
            }
        };
        match kind.get_ref() {
            RawFramingKind::Transfer => Framing::Transfer,
            RawFramingKind::Cobs => Framing::Cobs,
            RawFramingKind::Slip => Framing::Slip { leading_end: leading_end.as_ref().is_none_or(|on| *on.get_ref()) },
            RawFramingKind::Delimiter => Framing::Delimited(mark(end, "end")),
            RawFramingKind::Markers => {
                let (start, end) = (mark(start, "start"), mark(end, "end"));
                let escape = escape
                    .as_ref()
                    .map(|escape| (*escape.get_ref(), escape_xor.as_ref().map_or(0x20, |xor| *xor.get_ref())));
                Framing::Marked { start, end, escape }
            }
            RawFramingKind::Fixed => match length {
                Some(length) if (1..=65_536).contains(length.get_ref()) => Framing::Fixed(*length.get_ref() as usize),
                _ => {
                    self.wrong(&kind.span(), "say with `length` how many bytes a frame has, 1 to 65536");
                    Framing::Fixed(1)
                }
            },
        }
    }

    fn envelope(&mut self, raw: &RawDialect) -> Envelope {
        let Some(raw) = &raw.envelope else { return Envelope::default() };
        let given = raw.get_ref();
        let body = self.names.number("body");
        let send = given.send.as_ref().and_then(|text| self.fields(text, Way::ToUnit));
        let reply = given.reply.as_ref().and_then(|text| self.fields(text, Way::FromUnit));
        let holds = |fields: &Vec<Field>| fields.iter().any(|field| field.name == Some(body) || field.is_just(body));
        for (fields, text) in [(&send, &given.send), (&reply, &given.reply)] {
            if let (Some(fields), Some(text)) = (fields, text)
                && !holds(fields)
            {
                self.wrong(&text.span(), "one field of an envelope is the frame inside it: bytes body");
            }
        }
        let then = given.then.as_ref().and_then(|text| self.script(text)).unwrap_or_default();
        Envelope { send, reply, then, body: Some(body) }
    }

    fn exchanges(&mut self, raw: &RawDialect) -> Vec<Exchange> {
        let mut exchanges = Vec::new();
        for (key, given) in &raw.exchange {
            let name = self.callable(key, "an exchange");
            self.only_wire_keys(given);
            if raw.steps.keys().any(|other| other.get_ref() == key.get_ref()) {
                self.wrong(&key.span(), format!("'{name}' is the name of steps too"));
            }
            if let Some(exchange) = self.exchange(&name, given, key.span().start, raw) {
                exchanges.push(exchange);
            } else {
                self.wrong(&key.span(), "an exchange sends something or expects a reply, or both");
            }
        }
        exchanges
    }

    fn only_wire_keys(&mut self, given: &Spanned<RawOperation>) {
        let RawOperation {
            steps,
            total,
            every,
            tells,
            file,
            data,
            address,
            by,
            erases,
            result,
            over,
            unit,
            image,
            decides,
            protected,
            leaves,
            ..
        } = given.get_ref();
        let keys = [
            ("do", steps.as_ref().map(Spanned::span)),
            ("total", total.as_ref().map(Spanned::span)),
            ("every", every.as_ref().map(Spanned::span)),
            ("tells", tells.as_ref().map(Spanned::span)),
            ("file", file.as_ref().map(Spanned::span)),
            ("data", data.as_ref().map(Spanned::span)),
            ("address", address.as_ref().map(Spanned::span)),
            ("by", by.as_ref().map(Spanned::span)),
            ("erases", erases.as_ref().map(Spanned::span)),
            ("result", result.as_ref().map(Spanned::span)),
            ("over", over.as_ref().map(Spanned::span)),
            ("unit", unit.as_ref().map(Spanned::span)),
            ("image", image.as_ref().map(Spanned::span)),
            ("decides", decides.as_ref().map(Spanned::span)),
            ("protected", protected.as_ref().map(Spanned::span)),
            ("leaves", leaves.as_ref().map(Spanned::span)),
        ];
        for (key, span) in keys {
            if let Some(span) = span {
                self.wrong(&span, format!("`{key}` is a key of an operation, not of an exchange"));
            }
        }
    }

    /// `None` if nothing of it goes over the wire.
    fn exchange(&mut self, name: &str, given: &Spanned<RawOperation>, at: usize, raw: &RawDialect) -> Option<Exchange> {
        let carrier = raw.carrier.get_ref();
        let RawOperation { send, reply, refused, busy, ask, pause, echo, optional, within, tries, then, .. } =
            given.get_ref();
        let RawOperation { request_out, request_in, via, take, report, block, bare, .. } = given.get_ref();
        if send.is_none() && reply.is_none() && request_out.is_none() && request_in.is_none() {
            return None;
        }
        let is_control = matches!(carrier.kind.get_ref(), RawCarrierKind::Control);
        for (key, form) in [("out", request_out), ("in", request_in)] {
            if let (Some(form), false) = (form, is_control) {
                self.wrong(&form.span(), format!("`{key}` is a key of control transfers"));
            }
        }
        let own_out = request_out.as_ref().map(|form| self.request(form, carrier));
        let own_back = request_in.as_ref().map(|form| self.request(form, carrier));
        let default_out = carrier.request_out.as_ref().filter(|_| is_control && send.is_some());
        let default_back = carrier.request_in.as_ref().filter(|_| is_control && reply.is_some());
        let out = own_out.or_else(|| default_out.map(|form| self.request(form, carrier))).flatten();
        let back = own_back.or_else(|| default_back.map(|form| self.request(form, carrier))).flatten();
        if let (true, Some(send), None) = (is_control, send, &out) {
            self.wrong(&send.span(), "say with `out` by which request this is sent");
        }
        if let (true, Some(reply), None) = (is_control, reply, &back) {
            self.wrong(&reply.span(), "say with `in` by which request this is asked for");
        }
        let send_fields = send.as_ref().and_then(|text| self.fields(text, Way::ToUnit));
        let reply_fields = reply.as_ref().and_then(|text| self.fields(text, Way::FromUnit));
        // A request to the host without a pattern takes what comes.
        let reply_fields =
            reply_fields.or_else(|| (request_in.is_some() && reply.is_none()).then(|| vec![Field::anything(at)]));
        if reply_fields.is_none() && reply.is_none() {
            let stray = |all: &&Spanned<super::raw::OneOrMore>| {
                let all = all.get_ref().all(all.span(), self.text);
                all.iter().any(|text| text.get_ref() != "stall")
            };
            if let Some(found) = refused.as_ref().into_iter().chain(busy).find(stray) {
                self.wrong(&found.span(), "this stands beside a `reply`");
            }
        }
        let file = self.text;
        let texts = |all: &Option<Spanned<super::raw::OneOrMore>>| {
            all.as_ref().map(|all| all.get_ref().all(all.span(), file)).unwrap_or_default()
        };
        let mut patterns = |all: &Option<Spanned<super::raw::OneOrMore>>| -> Vec<Vec<Field>> {
            texts(all)
                .iter()
                .filter(|text| text.get_ref() != "stall")
                .filter_map(|text| self.fields(text, Way::FromUnit))
                .collect()
        };
        let (refused_patterns, busy_patterns) = (patterns(refused), patterns(busy));
        let busy_on_stall = texts(busy).iter().any(|text| text.get_ref() == "stall");
        let asks_by_request = match carrier.kind.get_ref() {
            RawCarrierKind::Control | RawCarrierKind::Dfu => true,
            RawCarrierKind::Hid => carrier.reply.as_ref().is_some_and(|reply| *reply.get_ref() == RawReport::Feature),
            RawCarrierKind::Pipes | RawCarrierKind::Serial => false,
        };
        let ask =
            match ask.as_ref().map(Spanned::get_ref) {
                Some(RawAsk::Read) => Ask::Read,
                Some(RawAsk::Send) => Ask::Send,
                // A reply that was asked for by a request is asked for once more.
                None if asks_by_request || reply_fields.is_none() => {
                    if reply_fields.is_some() && send_fields.is_some() { Ask::Read } else { Ask::Send }
                }
                None => Ask::Read,
            };
        let tries = match tries.as_ref().or(carrier.tries.as_ref()) {
            Some(tries) if !(1..=100).contains(tries.get_ref()) => {
                self.wrong(&tries.span(), "something is tried 1 to 100 times");
                None
            }
            tries => tries.map(|tries| *tries.get_ref()),
        };
        let within = self.optional_time(within.as_ref().or(carrier.within.as_ref()));
        let flag = |flag: &Option<Spanned<bool>>| flag.as_ref().is_some_and(|flag| *flag.get_ref());
        let via = self.via(via.as_ref(), carrier);
        let take = self.via(take.as_ref(), carrier);
        if let (Some(report), false) = (report, matches!(carrier.kind.get_ref(), RawCarrierKind::Hid)) {
            self.wrong(&report.span(), "`report` is a key of HID reports");
        }
        Some(Exchange {
            name: name.to_owned(),
            send: send_fields,
            reply: reply_fields,
            refused: refused_patterns,
            busy: busy_patterns,
            busy_on_stall,
            ask,
            pause: self.optional_time(pause.as_ref()),
            echo: flag(echo),
            optional: flag(optional),
            within,
            tries,
            then: then.as_ref().and_then(|text| self.script(text)).unwrap_or_default(),
            control: Requester { out, back },
            via,
            take,
            report: report.as_ref().map(|report| *report.get_ref()),
            block: self.optional(block.as_ref().or(carrier.block.as_ref())),
            bare: flag(bare),
            at,
        })
    }

    fn via(&mut self, raw: Option<&Spanned<RawVia>>, carrier: &RawCarrier) -> Option<Via> {
        let raw = raw?;
        let (via, kind) = match raw.get_ref() {
            RawVia::Output => (Via::Report(Report::Output), "hid"),
            RawVia::Input => (Via::Report(Report::Input), "hid"),
            RawVia::Feature => (Via::Report(Report::Feature), "hid"),
            RawVia::Upload => (Via::Upload, "dfu"),
            RawVia::Status => (Via::Status, "dfu"),
        };
        let own = match carrier.kind.get_ref() {
            RawCarrierKind::Hid => "hid",
            RawCarrierKind::Dfu => "dfu",
            _ => "",
        };
        if own != kind {
            self.wrong(&raw.span(), format!("this is of a carrier of kind \"{kind}\""));
            return None;
        }
        Some(via)
    }

    fn request(&mut self, raw: &Spanned<RawRequest>, carrier: &RawCarrier) -> Option<RequestForm> {
        let given = raw.get_ref();
        let class = match given.request_type.or(carrier.request_type.as_ref().map(|class| *class.get_ref())) {
            Some(RawRequestType::Standard) => 0,
            Some(RawRequestType::Class) => 1,
            Some(RawRequestType::Vendor) | None => 2,
        };
        let to = match given.to.or(carrier.to.as_ref().map(|to| *to.get_ref())) {
            Some(RawRecipient::Interface) => Recipient::Interface,
            Some(RawRecipient::Endpoint) => Recipient::Endpoint,
            Some(RawRecipient::Other) => Recipient::Other,
            Some(RawRecipient::Device) | None => Recipient::Device,
        };
        Some(RequestForm {
            class,
            to,
            request: self.expression(&given.request)?,
            value: self.optional(given.value.as_ref()),
            index: self.optional(given.index.as_ref()),
            length: self.optional(given.length.as_ref()),
        })
    }

    fn operation(
        &mut self,
        name: OperationName,
        given: &Spanned<RawOperation>,
        all: &RawDialect,
        made: &mut Made,
        files: Files<'_>,
    ) {
        let raw = given.get_ref();
        let own = self.exchange(name.word(), given, given.span().start, all);
        self.only_own_keys(name, raw);
        let steps = match (&raw.steps, own) {
            (Some(steps), None) => self.script(steps).unwrap_or_default(),
            (None, Some(exchange)) => {
                made.exchanges.push(exchange);
                let callee = Some(Callee::Exchange(made.exchanges.len() - 1));
                let target = super::script::Target { name: name.word().to_owned(), at: given.span().start, callee };
                vec![Step::Call { target, given: Vec::new() }]
            }
            (Some(steps), Some(_)) => {
                self.wrong(&steps.span(), "an operation has either `do`, or an exchange of its own");
                Vec::new()
            }
            (None, None) => {
                self.wrong(
                    &given.span(),
                    "say with `do` which steps this is, or with `send` and `reply` what goes over the wire",
                );
                Vec::new()
            }
        };
        let tells = raw.tells.iter().flat_map(|tells| tells.get_ref()).collect::<Vec<_>>();
        let tells = tells
            .into_iter()
            .filter_map(|(key, value)| {
                Some(Tell { name: self.word(key, "what is told"), value: self.expression(value)? })
            })
            .collect();
        let helper = if name == OperationName::Helper { self.helper(given, files) } else { None };
        let result = self.optional(raw.result.as_ref());
        let checksum = if name == OperationName::Checksum { self.checksum(given) } else { None };
        if name == OperationName::Erase && raw.by.is_none() {
            self.wrong(&given.span(), "say with `by` what it erases at once: \"page\", \"range\" or \"all\"");
        }
        if name == OperationName::Protection && raw.protected.is_none() {
            self.wrong(
                &given.span(),
                "say with `protected` when the memory is protected, as in protected = \"level != 0\"",
            );
        }
        if name == OperationName::Identify && raw.tells.is_none() {
            self.wrong(
                &given.span(),
                "say with `tells` what a sheet can compare, as in tells = { chip = \"chip_id\" }",
            );
        }
        let operation = Operation {
            steps,
            total: self.optional_time(raw.total.as_ref()),
            every: self.optional_time(raw.every.as_ref()),
            tells,
            helper,
            by: raw.by.as_ref().map_or(super::EraseBy::Page, |by| *by.get_ref()),
            erases: raw.erases.as_ref().is_some_and(|erases| *erases.get_ref()),
            result,
            checksum,
            protected: self.optional(raw.protected.as_ref()),
            leaves: raw.leaves.as_ref().is_none_or(|leaves| *leaves.get_ref()),
        };
        made.operations.insert(name, operation);
    }

    fn only_own_keys(&mut self, name: OperationName, raw: &RawOperation) {
        use OperationName as N;
        let keys: [(&str, Option<Range<usize>>, N); 12] = [
            ("every", raw.every.as_ref().map(Spanned::span), N::Sync),
            ("tells", raw.tells.as_ref().map(Spanned::span), N::Identify),
            ("file", raw.file.as_ref().map(Spanned::span), N::Helper),
            ("data", raw.data.as_ref().map(Spanned::span), N::Helper),
            ("address", raw.address.as_ref().map(Spanned::span), N::Helper),
            ("by", raw.by.as_ref().map(Spanned::span), N::Erase),
            ("result", raw.result.as_ref().map(Spanned::span), N::Read),
            ("over", raw.over.as_ref().map(Spanned::span), N::Checksum),
            ("unit", raw.unit.as_ref().map(Spanned::span), N::Checksum),
            ("image", raw.image.as_ref().map(Spanned::span), N::Checksum),
            ("decides", raw.decides.as_ref().map(Spanned::span), N::Checksum),
            ("protected", raw.protected.as_ref().map(Spanned::span), N::Protection),
        ];
        for (key, span, owner) in keys {
            if let Some(span) = span.filter(|_| owner != name) {
                self.wrong(&span, format!("`{key}` is a key of [{}]", owner.word()));
            }
        }
        if let Some(erases) = raw.erases.as_ref().filter(|_| !matches!(name, N::Write | N::Begin)) {
            self.wrong(&erases.span(), "`erases` is a key of [write] and of [begin]");
        }
        if let Some(leaves) = raw.leaves.as_ref().filter(|_| name != N::Restart) {
            self.wrong(&leaves.span(), "`leaves` is a key of [restart]");
        }
    }

    fn helper(&mut self, given: &Spanned<RawOperation>, files: Files<'_>) -> Option<Helper> {
        let raw = given.get_ref();
        let address = self.optional(raw.address.as_ref());
        let data = match (&raw.data, &raw.file) {
            (Some(data), None) => match hex_bytes(data.get_ref().as_bytes()) {
                Some(bytes) if !bytes.is_empty() => bytes,
                _ => {
                    self.wrong(&data.span(), "the helper's bytes are pairs of hex digits");
                    return None;
                }
            },
            (None, Some(file)) => match files(file.get_ref()) {
                Ok(bytes) if !bytes.is_empty() => bytes,
                Ok(_) => {
                    self.wrong(&file.span(), "this file is empty");
                    return None;
                }
                Err(words) => {
                    self.wrong(&file.span(), words);
                    return None;
                }
            },
            _ => {
                self.wrong(&given.span(), "give the helper with `data` (hex digits) or `file`");
                return None;
            }
        };
        Some(Helper { data: data.into(), address })
    }

    fn checksum(&mut self, given: &Spanned<RawOperation>) -> Option<Checksum> {
        let raw = given.get_ref();
        let (Some(unit), Some(image)) = (&raw.unit, &raw.image) else {
            self.wrong(&given.span(), "say with `unit` what the unit computed and with `image` what it must be, as in image = \"sum(data) & 0xFFFF\"");
            return None;
        };
        Some(Checksum {
            over: raw.over.as_ref().map(|over| *over.get_ref()).unwrap_or_default(),
            unit: self.expression(unit)?,
            image: self.expression(image)?,
            decides: raw.decides.as_ref().is_some_and(|decides| *decides.get_ref()),
        })
    }

    fn geometry(&mut self, raw: &RawDialect) -> Geometry {
        let given = &raw.geometry;
        if let (None, Some(write)) = (&given.chunk, &raw.write) {
            self.wrong(&write.span(), "say in [geometry] with `chunk` how many bytes one write takes");
        }
        Geometry {
            chunk: self.optional(given.chunk.as_ref()),
            read_chunk: self.optional(given.read_chunk.as_ref()),
            align: self.optional(given.align.as_ref()),
            pad: given.pad.as_ref().is_none_or(|pad| *pad.get_ref()),
            order: given.order.as_ref().map(|order| *order.get_ref()).unwrap_or_default(),
            start: self.optional(given.start.as_ref()),
            size: self.optional(given.size.as_ref()),
        }
    }

    /// Finds what steps call.
    fn resolve(&mut self, made: &mut Made, envelope: &mut Envelope) {
        let exchanges: Vec<String> = made.exchanges.iter().map(|exchange| exchange.name.clone()).collect();
        let steps: Vec<String> = made.steps.iter().map(|(name, _)| name.clone()).collect();
        let known: Vec<&str> = exchanges
            .iter()
            .chain(&steps)
            .map(String::as_str)
            .filter(|name| OperationName::parse(name).is_none())
            .collect();
        let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
        let find = |target: &super::script::Target| {
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
            let message =
                format!("there is no exchange and there are no steps called '{}'; there are: {known}", target.name);
            self.problems.push(Problem::new(target.at, message));
        }
    }

    /// Follows every operation in the order in which they run; gives the warnings.
    fn follow(&mut self, raw: &RawDialect, dialect: &mut Dialect) -> Vec<Problem> {
        let walk = Walk {
            names: &dialect.names,
            nth: dialect.nth,
            piece: dialect.given.piece,
            place: dialect.given.place,
            exchanges: &dialect.exchanges,
            steps: &dialect.steps,
            envelope: &dialect.envelope,
            carrier: &dialect.carrier,
            largest: dialect.largest,
            problems: RefCell::default(),
            warnings: RefCell::default(),
            used_exchanges: RefCell::new(vec![false; dialect.exchanges.len()]),
            used_steps: RefCell::new(vec![false; dialect.steps.len()]),
            calls: RefCell::new(0),
        };
        let mut known = Known::new(dialect.names.len());
        for (index, value) in dialect.start.iter().enumerate() {
            let name = super::Name(u16::try_from(index).unwrap_or(u16::MAX));
            let is_constant = dialect.constants.contains(&name);
            match value {
                Some(Value::Int(number)) if is_constant => known.learn(name, Kind::Int(*number, *number)),
                Some(Value::Int(_)) => known.learn(name, super::expression::ANY_INT),
                Some(Value::Bytes(bytes)) => known.learn(name, Kind::Bytes(Some(bytes.len()).filter(|_| is_constant))),
                _ => {}
            }
        }
        operations_known(dialect, &walk, known);
        let used: Vec<bool> = walk.used_exchanges.into_inner();
        let used_steps: Vec<bool> = walk.used_steps.into_inner();
        self.problems.extend(walk.problems.into_inner());
        let mut warnings = walk.warnings.into_inner();
        let unused = dialect.exchanges.iter().zip(used).filter(|(_, used)| !used);
        warnings.extend(
            unused.map(|(exchange, _)| Problem::new(exchange.at, format!("nothing uses exchange '{}'", exchange.name))),
        );
        for ((name, _), _) in dialect.steps.iter().zip(used_steps).filter(|(_, used)| !used) {
            let at = raw.steps.keys().find(|key| key.get_ref() == name).map_or(0, |key| key.span().start);
            warnings.push(Problem::new(at, format!("nothing uses steps '{name}'")));
        }
        self.missing(raw, dialect, &mut warnings);
        warnings
    }

    /// What a dialect had better have.
    fn missing(&self, raw: &RawDialect, dialect: &Dialect, warnings: &mut Vec<Problem>) {
        let has = |name| dialect.operation(name).is_some();
        let Some(write) = dialect.operation(OperationName::Write) else { return };
        let at = raw.write.as_ref().map_or(0, |write| write.span().start);
        if !has(OperationName::Read) && !has(OperationName::Checksum) {
            warnings.push(Problem::new(
                at,
                "no way to verify: there is no [read] and no [checksum], so a result is never stronger than 'accepted'",
            ));
        }
        let begins = dialect.operation(OperationName::Begin).is_some_and(|begin| begin.erases);
        if !has(OperationName::Erase) && !write.erases && !begins {
            warnings.push(Problem::new(at, "erase missing: there is no [erase]; if the unit erases by itself, say so with `erases = true` in [write], or in [begin] if that erases everything"));
        }
        if !has(OperationName::Restart) {
            warnings.push(Problem::new(
                at,
                "restart missing: there is no [restart], so a person has to unplug the unit after each update",
            ));
        }
        let stream = dialect.framing.is_stream();
        if stream && !has(OperationName::Sync) {
            warnings.push(Problem::new(
                raw.carrier.span().start,
                "no [sync]: what an earlier program left on the line would be taken for the first reply",
            ));
        }
    }
}

/// What has been made so far.
struct Made {
    exchanges: Vec<Exchange>,
    steps: Vec<(String, Vec<Step>)>,
    operations: BTreeMap<OperationName, Operation>,
}

fn operations(raw: &RawDialect) -> [(OperationName, &Option<Spanned<RawOperation>>); 14] {
    use OperationName as N;
    [
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
    ]
}

/// Follows each operation with what is known when it runs.
fn operations_known(dialect: &Dialect, walk: &Walk<'_>, mut known: Known) {
    use OperationName as N;
    let given = dialect.given;
    // With the place in a chunk added it still has 32 bits.
    let address = Kind::Int(0, i128::from(u32::MAX) - MOST_CHUNK);
    let run = |name: N, known: &mut Known| {
        let Some(operation) = dialect.operation(name) else { return };
        walk.steps(&operation.steps, known, &[]);
        for time in operation.total.iter().chain(&operation.every) {
            walk.expression(&time.value, known, Wants::Int);
        }
        operation.tells.iter().for_each(|tell| walk.expression(&tell.value, known, Wants::Any));
        operation.protected.iter().for_each(|of| walk.expression(of, known, Wants::Truth));
        operation.result.iter().for_each(|of| walk.expression(of, known, Wants::Bytes));
        if let Some(checksum) = &operation.checksum {
            walk.expression(&checksum.unit, known, Wants::Any);
            walk.expression(&checksum.image, known, Wants::Any);
            walk.alike(&checksum.unit, &checksum.image, known);
        }
    };
    run(N::Enter, &mut known.clone());
    for name in [N::Sync, N::Identify, N::Unlock] {
        run(name, &mut known);
    }
    if let Some(operation) = dialect.operation(N::Helper) {
        let mut inner = known.clone();
        let len = operation.helper.as_ref().map(|helper| helper.data.len());
        inner.learn(given.data, Kind::Bytes(len));
        inner.learn(given.length, len.map_or(address, |len| Kind::Int(len as i128, len as i128)));
        if let Some(at) = operation.helper.as_ref().and_then(|helper| helper.address.as_ref()) {
            walk.expression(at, &known, Wants::Int);
            inner.learn(given.address, address);
        }
        run(N::Helper, &mut inner);
        for name in [given.data, given.length, given.address] {
            inner.forget(name);
        }
        known = inner;
    }
    for name in [given.origin, given.region_start, given.region_size] {
        known.learn(name, address);
    }
    let Geometry { chunk, read_chunk, align, start, size, .. } = &dialect.geometry;
    for part in [chunk, read_chunk, align, start, size].into_iter().flatten() {
        walk.expression(part, &known, Wants::Int);
    }
    if let Some(Expression { node: Node::Value(Value::Int(number)), at }) = chunk
        && !(1..=MOST_CHUNK).contains(number)
    {
        walk.problems.borrow_mut().push(Problem::new(*at, format!("a chunk has 1 to {MOST_CHUNK} bytes")));
    }
    let chunk_len = match chunk.as_ref().map(|chunk| &chunk.node) {
        Some(Node::Value(Value::Int(number))) if dialect.geometry.pad => usize::try_from(*number).ok(),
        Some(Node::Name(name)) if dialect.geometry.pad => match &dialect.start[usize::from(name.0)] {
            Some(Value::Int(number)) if dialect.constants.contains(name) => usize::try_from(*number).ok(),
            _ => None,
        },
        _ => None,
    };
    let with = |known: &Known, names: &[(super::Name, Kind)]| {
        let mut with = known.clone();
        names.iter().for_each(|(name, kind)| with.learn(*name, *kind));
        with
    };
    // How long a piece is, its author knows better than what could be told here.
    let length = Kind::Int(0, i128::from(u64::MAX));
    run(N::Protection, &mut known.clone());
    run(N::Unprotect, &mut known.clone());
    run(N::Read, &mut with(&known, &[(given.address, address), (given.length, length)]));
    run(N::Erase, &mut with(&known, &[(given.address, address), (given.length, length), (given.index, length)]));
    let whole =
        [(given.address, address), (given.length, length), (given.data, Kind::Bytes(None)), (given.chunks, length)];
    let mut begun = with(&known, &whole);
    run(N::Begin, &mut begun);
    for (name, _) in whole {
        begun.forget(name);
    }
    let one_length = chunk_len.map_or(length, |len| Kind::Int(len as i128, len as i128));
    let mut written = with(
        &begun,
        &[
            (given.address, address),
            (given.length, one_length),
            (given.data, Kind::Bytes(chunk_len)),
            (given.index, length),
            (given.chunks, length),
            (given.last, Kind::Int(0, 1)),
        ],
    );
    run(N::Write, &mut written);
    run(N::End, &mut with(&begun, &whole));
    run(N::Checksum, &mut with(&known, &whole[..3]));
    run(N::Restart, &mut with(&known, &[(given.address, address)]));
}
