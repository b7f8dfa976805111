//! What carries frames, and what makes frames of a stream.

use toml::Spanned;

use super::Checker;
use crate::expression::Node;
use crate::field::{Field, Way};
use crate::framing::Framing;
use crate::model::{Carrier, Envelope, Recipient, Report, RequestForm, Via};
use crate::raw::{
    RawCarrier, RawCarrierKind, RawDialect, RawExpression, RawFraming, RawFramingKind, RawRecipient, RawReport,
    RawRequest, RawRequestType, RawVia,
};
use crate::steps::LineSetting;
use crate::value::Value;

impl Checker<'_> {
    pub(super) fn carrier(&mut self, raw: &Spanned<RawCarrier>) -> Option<Carrier> {
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

    pub(super) fn framing(&mut self, raw: &RawDialect, carrier: &Carrier) -> Framing {
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

    pub(super) fn envelope(&mut self, raw: &RawDialect) -> Envelope {
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

    pub(super) fn via(&mut self, raw: Option<&Spanned<RawVia>>, carrier: &RawCarrier) -> Option<Via> {
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

    pub(super) fn request(&mut self, raw: &Spanned<RawRequest>, carrier: &RawCarrier) -> Option<RequestForm> {
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
}
