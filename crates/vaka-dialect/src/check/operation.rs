//! Checks of operations and their exchanges.

use std::ops::Range;

use toml::Spanned;

use super::{Checker, Compiled, OperationSource};
use crate::carrier::kind_of;
use crate::field::{Direction, Field};
use crate::model::{
    Checksum, Collection, Exchange, FrameIds, Helper, Operation, OperationName, ReportedField, RequestPair, RetryBy,
};
use crate::raw::{OneOrMore, RawAsk, RawCarrier, RawDialect, RawErases, RawOperation};
use crate::steps::Callee;
use crate::steps::{Step, Target};
use crate::{EraseBy, Erases, Files};

/// Largest length of the name of a kind of nodes. Chosen by us.
const MOST_KIND: usize = 31;

/// How often a frame is sent again after a `nak`. Chosen by us, as most receivers give up then.
const NAKS: u32 = 10;

impl Checker<'_> {
    pub(super) fn exchanges(&mut self, raw: &RawDialect) -> Vec<Exchange> {
        let mut exchanges = Vec::new();
        for (key, given) in &raw.exchange {
            let name = self.callable(key, "an exchange");
            self.only_wire_keys(given);
            if raw.steps.keys().any(|other| other.get_ref() == key.get_ref()) {
                self.wrong(&key.span(), format!("'{name}' is also the name of steps"));
            }
            if let Some(exchange) = self.exchange(&name, given, key.span().start, raw) {
                exchanges.push(exchange);
            } else {
                self.wrong(&key.span(), "an exchange requires `send` or `reply`, or both");
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
            needs_end,
            at_start,
            collect,
            node,
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
            ("needs_end", needs_end.as_ref().map(Spanned::span)),
            ("at_start", at_start.as_ref().map(Spanned::span)),
            ("for", collect.as_ref().map(Spanned::span)),
            ("node", node.as_ref().map(Spanned::span)),
        ];
        for (key, span) in keys {
            if let Some(span) = span {
                self.wrong(&span, format!("`{key}` applies to an operation, not to an exchange"));
            }
        }
    }

    /// Compiles an exchange; `None` if it transfers nothing.
    fn exchange(&mut self, name: &str, given: &Spanned<RawOperation>, at: usize, all: &RawDialect) -> Option<Exchange> {
        let carrier = all.carrier.get_ref();
        let raw = given.get_ref();
        let requests = raw.request_out.is_some() || raw.request_in.is_some();
        if raw.send.is_none() && raw.reply.is_none() && raw.command.is_none() && !requests {
            return None;
        }
        let control = self.requester(raw, carrier);
        let send = raw.send.as_ref().and_then(|text| self.fields(text, Direction::ToUnit));
        let reply = raw.reply.as_ref().and_then(|text| self.fields(text, Direction::FromUnit));
        // A device-to-host request without a pattern accepts any reply.
        let takes_all = raw.request_in.is_some() && raw.reply.is_none();
        let reply = reply.or_else(|| takes_all.then(|| vec![Field::anything(at)]));
        let command = self.command(raw, reply.as_deref(), carrier);
        if reply.is_none() && raw.reply.is_none() && command.is_none() {
            self.stray_answers(raw);
        }
        let refused = self.patterns(raw.refused.as_ref());
        let busy = self.patterns(raw.busy.as_ref());
        let nak = self.patterns(raw.nak.as_ref());
        if let (Some(nak), true) = (&raw.nak, raw.send.is_none() && raw.request_out.is_none()) {
            self.wrong(&nak.span(), "`nak` requires `send`: the frame that is sent again");
        }
        let busy_texts = raw.busy.as_ref().map(|all| all.get_ref().all(all.span(), self.text)).unwrap_or_default();
        let ask = how_to_ask(raw, carrier, send.is_some(), reply.is_some());
        let tries = self.tries(raw.tries.as_ref().or(carrier.tries.as_ref()));
        let within = self.optional_time(raw.within.as_ref().or(carrier.within.as_ref()));
        let via = self.route(raw.via.as_ref(), raw.pipe_out.as_ref(), raw.request_out.as_ref(), carrier);
        let take = self.route(raw.take.as_ref(), raw.pipe_in.as_ref(), raw.request_in.as_ref(), carrier);
        self.directions(raw);
        if let (Some(report), false) = (&raw.report, carrier.kind.get_ref() == "hid") {
            self.wrong(&report.span(), "`report` applies only to HID reports");
        }
        let flag = |flag: &Option<Spanned<bool>>| flag.as_ref().is_some_and(|flag| *flag.get_ref());
        Some(Exchange {
            name: name.to_owned(),
            command,
            send,
            reply,
            refused,
            busy,
            nak,
            naks: self.tries(raw.naks.as_ref()).unwrap_or(NAKS),
            busy_on_stall: busy_texts.iter().any(is_stall),
            ask,
            pause: self.optional_time(raw.pause.as_ref()),
            echo: flag(&raw.echo),
            optional: flag(&raw.optional),
            within,
            tries,
            then: raw.then.as_ref().and_then(|text| self.script(text)).unwrap_or_default(),
            control,
            via,
            take,
            report: raw.report.as_ref().map(|report| *report.get_ref()),
            block: self.optional(raw.block.as_ref().or(carrier.block.as_ref())),
            ids: self.ids(raw, carrier),
            bare: flag(&raw.bare),
            is_secret: false,
            at,
        })
    }

    /// The command block of an exchange. Its data has one direction and a length that is known before.
    fn command(&mut self, raw: &RawOperation, reply: Option<&[Field]>, carrier: &RawCarrier) -> Option<Vec<Field>> {
        let is_scsi = carrier.kind.get_ref() == "scsi";
        let (sent, came) = (
            raw.send.as_ref().filter(|_| raw.request_out.is_none()),
            raw.reply.as_ref().filter(|_| raw.request_in.is_none()),
        );
        let Some(command) = &raw.command else {
            if let Some(data) = sent.or(came).filter(|_| is_scsi) {
                self.wrong(&data.span(), "`command` is required: the command block that transfers this");
            }
            return None;
        };
        if !is_scsi {
            self.wrong(&command.span(), "`command` applies only to a carrier of kind \"scsi\"");
        }
        if let (Some(_), Some(came)) = (sent, came) {
            self.wrong(&came.span(), "the data of a command has one direction: `send` or `reply`");
        }
        if let Some(came) = came.filter(|_| reply.is_some_and(|fields| fields.last().is_some_and(Field::is_open))) {
            self.wrong(
                &came.span(),
                "a command states the length of its data: give the last field a size, such as bytes(length) data",
            );
        }
        let own = [("echo", raw.echo.as_ref().map(Spanned::span)), ("nak", raw.nak.as_ref().map(Spanned::span))];
        for (key, span) in own {
            if let Some(span) = span {
                self.wrong(&span, format!("`{key}` does not apply to SCSI commands"));
            }
        }
        self.fields(command, Direction::ToUnit)
    }

    /// The identifiers of the CAN frames of an exchange: its own, or else those of the carrier.
    fn ids(&mut self, raw: &RawOperation, carrier: &RawCarrier) -> FrameIds {
        let own = [("id", &raw.id), ("reply_id", &raw.reply_id), ("reply_mask", &raw.reply_mask)];
        if carrier.kind.get_ref() != "can" {
            for (key, given) in own {
                if let Some(given) = given {
                    self.wrong(&given.span(), format!("`{key}` applies only to a carrier of kind \"can\""));
                }
            }
            return FrameIds::default();
        }
        let (send, reply) =
            (raw.id.as_ref().or(carrier.id.as_ref()), raw.reply_id.as_ref().or(carrier.reply_id.as_ref()));
        let needed = [("id", &raw.send, send), ("reply_id", &raw.reply, reply)];
        for (key, frame, id) in needed {
            if let (Some(frame), None) = (frame, id) {
                self.wrong(
                    &frame.span(),
                    format!("`{key}` is required, here or in [carrier]: the identifier of this frame"),
                );
            }
        }
        FrameIds {
            send: self.optional(send),
            reply: self.optional(reply),
            mask: self.optional(raw.reply_mask.as_ref()),
        }
    }

    /// How a discovery collects replies.
    fn collection(&mut self, given: &Spanned<RawOperation>, all: &RawDialect) -> Option<Collection> {
        let raw = given.get_ref();
        if all.carrier.get_ref().kind.get_ref() != "can" {
            self.wrong(&given.span(), "[discover] applies only to a carrier of kind \"can\"");
        }
        if all.name.get_ref().len() > MOST_KIND {
            self.wrong(
                &all.name.span(),
                format!("a dialect with [discover] has a name of at most {MOST_KIND} characters"),
            );
        }
        if raw.reply.is_none() {
            self.wrong(&given.span(), "`reply` is required: the answer of each node");
        }
        let (Some(time), Some(node)) = (&raw.collect, &raw.node) else {
            self.wrong(
                &given.span(),
                "`for` (the time for replies, such as \"100 ms\") and `node` (the unique id of a node) are required",
            );
            return None;
        };
        Some(Collection { time: self.time(time)?, node: self.expression(node)? })
    }

    /// The control requests of an exchange: its own, or else those of the carrier.
    fn requester(&mut self, raw: &RawOperation, carrier: &RawCarrier) -> RequestPair {
        let is_control = kind_of(carrier).is_some_and(|kind| kind.has_requests);
        let of_all_out = carrier.request_out.as_ref().filter(|_| is_control && raw.send.is_some());
        let of_all_back = carrier.request_in.as_ref().filter(|_| is_control && raw.reply.is_some());
        let out = raw.request_out.as_ref().or(of_all_out).and_then(|form| self.request(form, carrier));
        let back = raw.request_in.as_ref().or(of_all_back).and_then(|form| self.request(form, carrier));
        if let (true, Some(send), None) = (is_control, &raw.send, &out) {
            self.wrong(&send.span(), "`out` is required: the request that sends this");
        }
        if let (true, Some(reply), None) = (is_control, &raw.reply, &back) {
            self.wrong(&reply.span(), "`in` is required: the request that fetches this");
        }
        RequestPair { out, back }
    }

    /// Rejects reply patterns other than a stall where no reply is expected.
    fn stray_answers(&mut self, raw: &RawOperation) {
        let file = self.text;
        let stray = |all: &&Spanned<OneOrMore>| !all.get_ref().all(all.span(), file).iter().all(is_stall);
        if let Some(found) = raw.refused.iter().chain(&raw.busy).chain(&raw.nak).find(stray) {
            self.wrong(&found.span(), "this requires a `reply`");
        }
    }

    fn patterns(&mut self, raw: Option<&Spanned<OneOrMore>>) -> Vec<Vec<Field>> {
        let texts = raw.map(|all| all.get_ref().all(all.span(), self.text)).unwrap_or_default();
        let patterns = texts.iter().filter(|text| !is_stall(text));
        patterns.filter_map(|text| self.fields(text, Direction::FromUnit)).collect()
    }

    fn tries(&mut self, raw: Option<&Spanned<u32>>) -> Option<u32> {
        let tries = raw?;
        if !(1..=100).contains(tries.get_ref()) {
            self.wrong(&tries.span(), "the number of attempts must be 1 to 100");
            return None;
        }
        Some(*tries.get_ref())
    }

    pub(super) fn operation(&mut self, source: OperationSource<'_>, made: &mut Compiled) {
        let OperationSource { name, raw: given, dialect: all, files } = source;
        let raw = given.get_ref();
        let own = self.exchange(name.word(), given, given.span().start, all);
        self.only_own_keys(name, raw);
        let steps = match (&raw.steps, own) {
            (Some(steps), None) => self.script(steps).unwrap_or_default(),
            (None, Some(exchange)) => {
                made.exchanges.push(exchange);
                let callee = Some(Callee::Exchange(made.exchanges.len() - 1));
                let target = Target { name: name.word().to_owned(), at: given.span().start, callee };
                vec![Step::Call { target, given: Vec::new() }]
            }
            (Some(steps), Some(_)) => {
                self.wrong(&steps.span(), "an operation requires either `do` or an exchange of its own");
                Vec::new()
            }
            (None, None) => {
                self.wrong(&given.span(), "`do` (steps) or `send` and `reply` (frames) are required");
                Vec::new()
            }
        };
        let tells = raw.tells.iter().flat_map(|tells| tells.get_ref()).collect::<Vec<_>>();
        let tells = tells
            .into_iter()
            .filter_map(|(key, value)| {
                Some(ReportedField { name: self.word(key, "a reported property"), value: self.expression(value)? })
            })
            .collect();
        let helper = if name == OperationName::Helper { self.helper(given, files) } else { None };
        let result = self.optional(raw.result.as_ref());
        let checksum = if name == OperationName::Checksum { self.checksum(given) } else { None };
        let collection = if name == OperationName::Discover { self.collection(given, all) } else { None };
        if name == OperationName::Erase && raw.by.is_none() {
            self.wrong(&given.span(), "`by` is required: \"page\", \"range\" or \"all\"");
        }
        if name == OperationName::Protection && raw.protected.is_none() {
            self.wrong(&given.span(), "`protected` is required, such as protected = \"level != 0\"");
        }
        if name == OperationName::Identify && raw.tells.is_none() {
            self.wrong(
                &given.span(),
                "`tells` is required: the reported properties, such as tells = { chip = \"chip_id\" }",
            );
        }
        let operation = Operation {
            steps,
            total: self.optional_time(raw.total.as_ref()),
            every: self.optional_time(raw.every.as_ref()),
            tells,
            helper,
            by: raw.by.as_ref().map_or(EraseBy::Page, |by| *by.get_ref()),
            erases: raw.erases.as_ref().and_then(|erases| erases_of(name, *erases.get_ref())),
            result,
            checksum,
            protected: self.optional(raw.protected.as_ref()),
            leaves: raw.leaves.as_ref().is_none_or(|leaves| *leaves.get_ref()),
            needs_end: raw.needs_end.as_ref().is_some_and(|needs| *needs.get_ref()),
            at_start: raw.at_start.as_ref().is_some_and(|first| *first.get_ref()),
            collection,
        };
        made.operations.insert(name, operation);
    }

    fn only_own_keys(&mut self, name: OperationName, raw: &RawOperation) {
        use OperationName as N;
        let keys: [(&str, Option<Range<usize>>, N); 15] = [
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
            ("leaves", raw.leaves.as_ref().map(Spanned::span), N::Restart),
            ("needs_end", raw.needs_end.as_ref().map(Spanned::span), N::Restart),
            ("at_start", raw.at_start.as_ref().map(Spanned::span), N::Recover),
            ("for", raw.collect.as_ref().map(Spanned::span), N::Discover),
            ("node", raw.node.as_ref().map(Spanned::span), N::Discover),
        ];
        for (key, span, owner) in keys {
            if let Some(span) = span.filter(|_| owner != name) {
                self.wrong(&span, format!("`{key}` applies only to [{}]", owner.word()));
            }
        }
        let every = ("every", raw.every.as_ref().map(Spanned::span), &[N::Sync, N::Confirm][..]);
        let tells = ("tells", raw.tells.as_ref().map(Spanned::span), &[N::Identify, N::Confirm, N::Discover][..]);
        for (key, span, owners) in [every, tells] {
            if let Some(span) = span.filter(|_| !owners.contains(&name)) {
                let words: Vec<String> = owners.iter().map(|owner| format!("[{}]", owner.word())).collect();
                self.wrong(&span, format!("`{key}` applies only to {}", words.join(" and ")));
            }
        }
        if let Some(erases) = raw.erases.as_ref().filter(|_| !matches!(name, N::Write | N::Begin)) {
            self.wrong(&erases.span(), "`erases` applies only to [write] and [begin]");
        }
        if let (Some(erases), N::Begin) = (&raw.erases, name)
            && matches!(erases.get_ref(), RawErases::Named(Erases::FirstWrite))
        {
            self.wrong(&erases.span(), "\"first-write\" applies only to [write]");
        }
    }

    fn helper(&mut self, given: &Spanned<RawOperation>, files: Files<'_>) -> Option<Helper> {
        let raw = given.get_ref();
        let address = self.optional(raw.address.as_ref());
        let data = match (&raw.data, &raw.file) {
            (Some(data), None) => match vaka_base::text::parse_hex(data.get_ref().as_bytes()) {
                Some(bytes) if !bytes.is_empty() => bytes,
                _ => {
                    self.wrong(&data.span(), "the helper's bytes must be pairs of hex digits");
                    return None;
                }
            },
            (None, Some(file)) => match files(file.get_ref()) {
                Ok(bytes) if !bytes.is_empty() => bytes,
                Ok(_) => {
                    self.wrong(&file.span(), "this file is empty");
                    return None;
                }
                Err(error) => {
                    self.wrong(&file.span(), error.to_string());
                    return None;
                }
            },
            _ => {
                self.wrong(&given.span(), "the helper requires `data` (hex digits) or `file`");
                return None;
            }
        };
        Some(Helper { data: data.into(), address })
    }

    fn checksum(&mut self, given: &Spanned<RawOperation>) -> Option<Checksum> {
        let raw = given.get_ref();
        let (Some(unit), Some(image)) = (&raw.unit, &raw.image) else {
            self.wrong(&given.span(), "`unit` (the unit's checksum) and `image` (the expected one) are required, such as image = \"sum(data) & 0xFFFF\"");
            return None;
        };
        Some(Checksum {
            over: raw.over.as_ref().map(|over| *over.get_ref()).unwrap_or_default(),
            unit: self.expression(unit)?,
            image: self.expression(image)?,
            decides: raw.decides.as_ref().is_some_and(|decides| *decides.get_ref()),
        })
    }
}

/// Whether the pattern is the word for a stalled control request.
fn is_stall(text: &Spanned<String>) -> bool {
    text.get_ref() == "stall"
}

/// How to retry a busy unit. If a request fetches the reply, the reply is fetched again.
fn how_to_ask(raw: &RawOperation, carrier: &RawCarrier, sends: bool, replies: bool) -> RetryBy {
    let fetches = kind_of(carrier).is_some_and(|kind| (kind.fetches_replies)(carrier));
    let asks_by_request = fetches || raw.request_in.is_some();
    match raw.ask.as_ref().map(Spanned::get_ref) {
        Some(RawAsk::Read) => RetryBy::Read,
        Some(RawAsk::Send) => RetryBy::Send,
        None if replies && (sends || !asks_by_request) => RetryBy::Read,
        None => RetryBy::Send,
    }
}

/// The effect of an operation on flash. By default a begin erases everything, a write its sector.
fn erases_of(name: OperationName, raw: RawErases) -> Option<Erases> {
    match (raw, name) {
        (RawErases::Named(erases), _) => Some(erases),
        (RawErases::Usual(false), _) => None,
        (RawErases::Usual(true), OperationName::Begin) => Some(Erases::Everything),
        (RawErases::Usual(true), _) => Some(Erases::FirstWrite),
    }
}
