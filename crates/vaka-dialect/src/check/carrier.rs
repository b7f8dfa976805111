//! Checks of the carrier and the framing.

use toml::Spanned;
use vaka_base::document;

use super::Checker;
use crate::carrier::{Carrier, KINDS, PIPE_IN, PIPE_OUT, Report, kind_of};
use crate::expression::Node;
use crate::field::{Direction, Field};
use crate::framing::Framing;
use crate::model::{Envelope, FrameRoute, Recipient, RequestForm};
use crate::raw::{
    RawCarrier, RawDialect, RawExpression, RawFraming, RawFramingKind, RawOperation, RawRecipient, RawRequest,
    RawRequestType, RawVia,
};
use crate::value::Value;

impl Checker<'_> {
    pub(super) fn carrier(&mut self, raw: &Spanned<RawCarrier>) -> Option<Carrier> {
        let given = raw.get_ref();
        let Some(kind) = kind_of(given) else {
            let names: Vec<String> = KINDS.iter().map(|kind| format!("`{}`", kind.name)).collect();
            let unknown = given.kind.get_ref();
            let meant = document::closest(unknown, KINDS.iter().map(|kind| kind.name));
            let meant = meant.map(|name| format!("; did you mean `{name}`?")).unwrap_or_default();
            let message = format!("`kind` must be one of {}, found \"{unknown}\"{meant}", names.join(", "));
            self.wrong(&given.kind.span(), message);
            return None;
        };
        for (key, span, owner) in given.own_keys() {
            if let Some(span) = span.filter(|_| owner != kind.name) {
                self.wrong(&span, format!("`{key}` applies only to a carrier of kind \"{owner}\""));
            }
        }
        Carrier::check(raw, &mut self.problems)
    }

    pub(super) fn framing(&mut self, raw: &RawDialect, carrier: &Carrier) -> Framing {
        let carrier = carrier.kind();
        let Some(framing) = &raw.framing else { return carrier.framing.clone() };
        let RawFraming { kind, length, start, end, escape, escape_xor, leading_end } = framing.get_ref();
        if !carrier.is_stream {
            self.wrong(
                &framing.span(),
                format!("with {} each transfer is a frame; remove [framing]", carrier.description),
            );
            return Framing::Transfer;
        }
        let mut mark = |raw: &Option<Spanned<RawExpression>>, key: &str| -> Vec<u8> {
            let Some(raw) = raw else {
                self.wrong(&kind.span(), format!("`{key}` is required, such as {key} = \"x'0D 0A'\""));
                return vec![0];
            };
            let value = self.expression(raw).map(|expression| expression.node);
            match value {
                Some(Node::Value(Value::Bytes(bytes))) if !bytes.is_empty() && bytes.len() <= 16 => bytes.to_vec(),
                Some(_) => {
                    self.wrong(&raw.span(), "expected 1 to 16 constant bytes, such as \"x'0D 0A'\" or \"'>'\"");
                    vec![0]
                }
                None => vec![0],
            }
        };
        match kind.get_ref() {
            RawFramingKind::Transfer => Framing::Transfer,
            RawFramingKind::Fields => Framing::None,
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
                    self.wrong(&kind.span(), "`length` is required: bytes in a frame, 1 to 65536");
                    Framing::Fixed(1)
                }
            },
        }
    }

    pub(super) fn envelope(&mut self, raw: &RawDialect) -> Envelope {
        let Some(raw) = &raw.envelope else { return Envelope::default() };
        let given = raw.get_ref();
        let body = self.names.number("body");
        let send = given.send.as_ref().and_then(|text| self.fields(text, Direction::ToUnit));
        let reply = given.reply.as_ref().and_then(|text| self.fields(text, Direction::FromUnit));
        let holds = |fields: &Vec<Field>| fields.iter().any(|field| field.name == Some(body) || field.is_just(body));
        for (fields, text) in [(&send, &given.send), (&reply, &given.reply)] {
            if let (Some(fields), Some(text)) = (fields, text)
                && !holds(fields)
            {
                self.wrong(&text.span(), "an envelope requires the field `bytes body` for the frame inside it");
            }
        }
        let then = given.then.as_ref().and_then(|text| self.script(text)).unwrap_or_default();
        Envelope { send, reply, then, body: Some(body) }
    }

    /// The way of a frame, if it is not that of the carrier: at most one of the three keys.
    pub(super) fn route(
        &mut self,
        via: Option<&Spanned<RawVia>>,
        pipe: Option<&Spanned<u8>>,
        request: Option<&Spanned<RawRequest>>,
        carrier: &RawCarrier,
    ) -> Option<FrameRoute> {
        let is_control = kind_of(carrier).is_some_and(|kind| kind.has_requests);
        let request = request.filter(|_| !is_control);
        if let Some(pipe) = pipe.filter(|_| carrier.kind.get_ref() != "pipes") {
            self.wrong(&pipe.span(), "this applies only to a carrier of kind \"pipes\"");
        }
        if let (Some(request), true) = (request, via.is_some() || pipe.is_some()) {
            self.wrong(&request.span(), "a frame goes by a control request or by a pipe, not by both");
        }
        let aside = request.map(|_| FrameRoute::Request).or(pipe.map(|pipe| FrameRoute::Pipe(*pipe.get_ref())));
        aside.or_else(|| self.via(via, carrier))
    }

    /// Checks the directions of the pipes of an exchange.
    pub(super) fn directions(&mut self, raw: &RawOperation) {
        if let Some(pipe) = raw.pipe_out.as_ref().filter(|pipe| *pipe.get_ref() & 0x80 != 0) {
            self.wrong(&pipe.span(), PIPE_OUT);
        }
        if let Some(pipe) = raw.pipe_in.as_ref().filter(|pipe| *pipe.get_ref() & 0x80 == 0) {
            self.wrong(&pipe.span(), PIPE_IN);
        }
    }

    fn via(&mut self, raw: Option<&Spanned<RawVia>>, carrier: &RawCarrier) -> Option<FrameRoute> {
        let raw = raw?;
        let (via, kind) = match raw.get_ref() {
            RawVia::Output => (FrameRoute::Report(Report::Output), "hid"),
            RawVia::Input => (FrameRoute::Report(Report::Input), "hid"),
            RawVia::Feature => (FrameRoute::Report(Report::Feature), "hid"),
            RawVia::Upload => (FrameRoute::Upload, "dfu"),
            RawVia::Status => (FrameRoute::Status, "dfu"),
        };
        if carrier.kind.get_ref() != kind {
            self.wrong(&raw.span(), format!("this applies only to a carrier of kind \"{kind}\""));
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
