//! The dialect file, key by key, as serde reads it. Each value keeps its position.
//! [`check`](super::check) builds the model.

use std::collections::BTreeMap;
use std::ops::Range;

use serde::Deserialize;
use toml::Spanned;

use super::secret::SecretForm;
use super::settings::{ChecksumScope, EraseBy, Erases, Order};

type Map<T> = BTreeMap<Spanned<String>, T>;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawDialect {
    pub(super) dialect: Spanned<u32>,
    pub(super) name: Spanned<String>,
    pub(super) about: Option<Spanned<String>>,
    pub(super) carrier: Spanned<RawCarrier>,
    pub(super) framing: Option<Spanned<RawFraming>>,
    pub(super) envelope: Option<Spanned<RawEnvelope>>,
    #[serde(default)]
    pub(super) names: Map<Spanned<RawExpression>>,
    #[serde(default)]
    pub(super) parameters: Map<Spanned<RawExpression>>,
    #[serde(default)]
    pub(super) ask: Map<Spanned<RawQuestion>>,
    #[serde(default)]
    pub(super) start: Map<Spanned<RawExpression>>,
    #[serde(default)]
    pub(super) table: Map<Map<Spanned<String>>>,
    #[serde(default)]
    pub(super) crc: Map<Spanned<RawCrc>>,
    #[serde(default)]
    pub(super) simulate: RawSimulation,
    #[serde(default)]
    pub(super) geometry: RawGeometry,
    #[serde(default)]
    pub(super) exchange: Map<Spanned<RawOperation>>,
    #[serde(default)]
    pub(super) steps: Map<RawSteps>,
    pub(super) discover: Option<Spanned<RawOperation>>,
    pub(super) sync: Option<Spanned<RawOperation>>,
    pub(super) identify: Option<Spanned<RawOperation>>,
    pub(super) unlock: Option<Spanned<RawOperation>>,
    pub(super) helper: Option<Spanned<RawOperation>>,
    pub(super) begin: Option<Spanned<RawOperation>>,
    pub(super) erase: Option<Spanned<RawOperation>>,
    pub(super) write: Option<Spanned<RawOperation>>,
    pub(super) end: Option<Spanned<RawOperation>>,
    pub(super) read: Option<Spanned<RawOperation>>,
    pub(super) checksum: Option<Spanned<RawOperation>>,
    pub(super) protection: Option<Spanned<RawOperation>>,
    pub(super) unprotect: Option<Spanned<RawOperation>>,
    pub(super) restart: Option<Spanned<RawOperation>>,
    pub(super) enter: Option<Spanned<RawOperation>>,
    pub(super) recover: Option<Spanned<RawOperation>>,
    pub(super) confirm: Option<Spanned<RawOperation>>,
}

/// Reports and times of a simulated unit.
#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSimulation {
    #[serde(default)]
    pub(super) values: Map<Spanned<RawExpression>>,
    pub(super) erase: Option<Spanned<String>>,
    pub(super) program: Option<Spanned<String>>,
}

/// A question to the user: the words, or the words and the form of the answer.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum RawQuestion {
    Words(String),
    Formed(RawFormed),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawFormed {
    pub(super) question: String,
    #[serde(default)]
    pub(super) form: SecretForm,
    pub(super) size: Option<usize>,
}

/// A number, or an expression as a text.
#[derive(Clone, Debug, Deserialize)]
#[serde(untagged)]
pub(super) enum RawExpression {
    Int(i64),
    Text(String),
}

#[derive(Clone, Copy, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawReport {
    Output,
    Input,
    Feature,
}

/// How messages are transported.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawTransport {
    #[default]
    Frame,
    IsoTp,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawCarrier {
    /// A name of [`KINDS`](super::carrier::KINDS).
    pub(super) kind: Spanned<String>,
    pub(super) interface: Option<u8>,
    #[serde(rename = "type")]
    pub(super) request_type: Option<Spanned<RawRequestType>>,
    pub(super) to: Option<Spanned<RawRecipient>>,
    #[serde(rename = "out")]
    pub(super) request_out: Option<Spanned<RawRequest>>,
    #[serde(rename = "in")]
    pub(super) request_in: Option<Spanned<RawRequest>>,
    pub(super) send: Option<Spanned<RawReport>>,
    pub(super) reply: Option<Spanned<RawReport>>,
    pub(super) report: Option<Spanned<u8>>,
    pub(super) length: Option<Spanned<u32>>,
    pub(super) reply_length: Option<Spanned<u32>>,
    pub(super) fill: Option<Spanned<u8>>,
    pub(super) pipe_out: Option<Spanned<u8>>,
    pub(super) pipe_in: Option<Spanned<u8>>,
    pub(super) alternate: Option<Spanned<u8>>,
    pub(super) empty_packet: Option<Spanned<bool>>,
    pub(super) baud: Option<Spanned<u32>>,
    pub(super) form: Option<Spanned<String>>,
    pub(super) dtr: Option<Spanned<bool>>,
    pub(super) rts: Option<Spanned<bool>>,
    pub(super) block: Option<Spanned<RawExpression>>,
    pub(super) bit_rate: Option<Spanned<u32>>,
    pub(super) data_rate: Option<Spanned<u32>>,
    pub(super) extended: Option<Spanned<bool>>,
    pub(super) id: Option<Spanned<RawExpression>>,
    pub(super) reply_id: Option<Spanned<RawExpression>>,
    pub(super) transport: Option<Spanned<RawTransport>>,
    pub(super) padding: Option<Spanned<u8>>,
    pub(super) block_size: Option<Spanned<u8>>,
    pub(super) separation: Option<Spanned<String>>,
    pub(super) lun: Option<Spanned<u8>>,
    pub(super) largest: Option<Spanned<u32>>,
    pub(super) junk: Option<Spanned<u32>>,
    pub(super) within: Option<Spanned<String>>,
    pub(super) tries: Option<Spanned<u32>>,
}

impl RawCarrier {
    /// The keys that belong to single carriers: the key, its position if present, and the kind of
    /// carrier.
    pub(super) fn own_keys(&self) -> [(&'static str, Option<Range<usize>>, &'static str); 29] {
        fn span<T>(value: Option<&Spanned<T>>) -> Option<Range<usize>> {
            value.map(Spanned::span)
        }
        [
            ("type", span(self.request_type.as_ref()), "control"),
            ("to", span(self.to.as_ref()), "control"),
            ("out", span(self.request_out.as_ref()), "control"),
            ("in", span(self.request_in.as_ref()), "control"),
            ("send", span(self.send.as_ref()), "hid"),
            ("reply", span(self.reply.as_ref()), "hid"),
            ("report", span(self.report.as_ref()), "hid"),
            ("length", span(self.length.as_ref()), "hid"),
            ("reply_length", span(self.reply_length.as_ref()), "hid"),
            ("fill", span(self.fill.as_ref()), "hid"),
            ("pipe_out", span(self.pipe_out.as_ref()), "pipes"),
            ("pipe_in", span(self.pipe_in.as_ref()), "pipes"),
            ("alternate", span(self.alternate.as_ref()), "pipes"),
            ("empty_packet", span(self.empty_packet.as_ref()), "pipes"),
            ("baud", span(self.baud.as_ref()), "serial"),
            ("form", span(self.form.as_ref()), "serial"),
            ("dtr", span(self.dtr.as_ref()), "serial"),
            ("rts", span(self.rts.as_ref()), "serial"),
            ("block", span(self.block.as_ref()), "dfu"),
            ("bit_rate", span(self.bit_rate.as_ref()), "can"),
            ("data_rate", span(self.data_rate.as_ref()), "can"),
            ("extended", span(self.extended.as_ref()), "can"),
            ("id", span(self.id.as_ref()), "can"),
            ("reply_id", span(self.reply_id.as_ref()), "can"),
            ("transport", span(self.transport.as_ref()), "can"),
            ("padding", span(self.padding.as_ref()), "can"),
            ("block_size", span(self.block_size.as_ref()), "can"),
            ("separation", span(self.separation.as_ref()), "can"),
            ("lun", span(self.lun.as_ref()), "scsi"),
        ]
    }
}

#[derive(Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawRequestType {
    Standard,
    Class,
    Vendor,
}

#[derive(Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawRecipient {
    Device,
    Interface,
    Endpoint,
    Other,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawRequest {
    #[serde(rename = "type")]
    pub(super) request_type: Option<RawRequestType>,
    pub(super) to: Option<RawRecipient>,
    pub(super) request: Spanned<RawExpression>,
    pub(super) value: Option<Spanned<RawExpression>>,
    pub(super) index: Option<Spanned<RawExpression>>,
    pub(super) length: Option<Spanned<RawExpression>>,
}

#[derive(Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawFramingKind {
    Fields,
    Fixed,
    Delimiter,
    Markers,
    Slip,
    Cobs,
    Transfer,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawFraming {
    pub(super) kind: Spanned<RawFramingKind>,
    pub(super) length: Option<Spanned<u32>>,
    pub(super) start: Option<Spanned<RawExpression>>,
    pub(super) end: Option<Spanned<RawExpression>>,
    pub(super) escape: Option<Spanned<u8>>,
    pub(super) escape_xor: Option<Spanned<u8>>,
    pub(super) leading_end: Option<Spanned<bool>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawEnvelope {
    pub(super) send: Option<Spanned<String>>,
    pub(super) reply: Option<Spanned<String>>,
    pub(super) then: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawCrc {
    pub(super) width: u8,
    pub(super) poly: u64,
    #[serde(default)]
    pub(super) init: u64,
    #[serde(default)]
    pub(super) reflect: bool,
    pub(super) reflect_out: Option<bool>,
    #[serde(default)]
    pub(super) xor_out: u64,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawGeometry {
    pub(super) chunk: Option<Spanned<RawExpression>>,
    pub(super) read_chunk: Option<Spanned<RawExpression>>,
    pub(super) align: Option<Spanned<RawExpression>>,
    pub(super) pad: Option<Spanned<bool>>,
    pub(super) order: Option<Spanned<Order>>,
    pub(super) stream: Option<Spanned<bool>>,
    pub(super) start: Option<Spanned<RawExpression>>,
    pub(super) size: Option<Spanned<RawExpression>>,
}

/// The range that a unit erases by itself: a word, or `true` for the usual effect of the operation.
#[derive(Clone, Copy, Deserialize)]
#[serde(untagged)]
pub(super) enum RawErases {
    Usual(bool),
    Named(Erases),
}

/// One text or a list of texts.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum OneOrMore {
    One(String),
    More(Vec<String>),
}

/// A list on its own, to find the position of each text.
#[derive(Deserialize)]
struct List {
    list: Vec<Spanned<String>>,
}

impl OneOrMore {
    /// All texts with their positions; `span` is the position of the list in `file`.
    pub(super) fn all(&self, span: std::ops::Range<usize>, file: &str) -> Vec<Spanned<String>> {
        let more = match self {
            Self::One(one) => return vec![Spanned::new(span, one.clone())],
            Self::More(more) => more,
        };
        const BEFORE: &str = "list = ";
        let alone = format!("{BEFORE}{}", file.get(span.clone()).unwrap_or_default());
        let Ok(List { list }) = toml::from_str(&alone) else {
            return more.iter().map(|text| Spanned::new(span.clone(), text.clone())).collect();
        };
        let place = |at: usize| (at + span.start).saturating_sub(BEFORE.len());
        list.into_iter()
            .map(|text| Spanned::new(place(text.span().start)..place(text.span().end), text.into_inner()))
            .collect()
    }
}

#[derive(Clone, Copy, Deserialize, PartialEq, Eq, Debug)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawAsk {
    Read,
    Send,
}

#[derive(Clone, Copy, Deserialize, PartialEq, Eq, Debug)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawVia {
    Output,
    Input,
    Feature,
    Upload,
    Status,
}

/// An exchange, or an operation: one that is an exchange itself has the keys of
/// both.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawOperation {
    pub(super) command: Option<Spanned<String>>,
    pub(super) send: Option<Spanned<String>>,
    pub(super) reply: Option<Spanned<String>>,
    pub(super) refused: Option<Spanned<OneOrMore>>,
    pub(super) busy: Option<Spanned<OneOrMore>>,
    pub(super) nak: Option<Spanned<OneOrMore>>,
    pub(super) naks: Option<Spanned<u32>>,
    pub(super) ask: Option<Spanned<RawAsk>>,
    pub(super) pause: Option<Spanned<String>>,
    pub(super) echo: Option<Spanned<bool>>,
    pub(super) optional: Option<Spanned<bool>>,
    pub(super) within: Option<Spanned<String>>,
    pub(super) tries: Option<Spanned<u32>>,
    pub(super) then: Option<Spanned<String>>,
    #[serde(rename = "out")]
    pub(super) request_out: Option<Spanned<RawRequest>>,
    #[serde(rename = "in")]
    pub(super) request_in: Option<Spanned<RawRequest>>,
    pub(super) via: Option<Spanned<RawVia>>,
    pub(super) take: Option<Spanned<RawVia>>,
    pub(super) report: Option<Spanned<u8>>,
    pub(super) pipe_out: Option<Spanned<u8>>,
    pub(super) pipe_in: Option<Spanned<u8>>,
    pub(super) block: Option<Spanned<RawExpression>>,
    pub(super) id: Option<Spanned<RawExpression>>,
    pub(super) reply_id: Option<Spanned<RawExpression>>,
    pub(super) reply_mask: Option<Spanned<RawExpression>>,
    pub(super) bare: Option<Spanned<bool>>,
    // Used in operations only.
    #[serde(rename = "do")]
    pub(super) steps: Option<Spanned<String>>,
    pub(super) total: Option<Spanned<String>>,
    pub(super) every: Option<Spanned<String>>,
    pub(super) tells: Option<Spanned<Map<Spanned<RawExpression>>>>,
    pub(super) file: Option<Spanned<String>>,
    pub(super) data: Option<Spanned<String>>,
    pub(super) address: Option<Spanned<RawExpression>>,
    pub(super) by: Option<Spanned<EraseBy>>,
    pub(super) erases: Option<Spanned<RawErases>>,
    pub(super) result: Option<Spanned<RawExpression>>,
    pub(super) over: Option<Spanned<ChecksumScope>>,
    pub(super) unit: Option<Spanned<RawExpression>>,
    pub(super) image: Option<Spanned<RawExpression>>,
    pub(super) decides: Option<Spanned<bool>>,
    pub(super) protected: Option<Spanned<RawExpression>>,
    pub(super) leaves: Option<Spanned<bool>>,
    pub(super) needs_end: Option<Spanned<bool>>,
    pub(super) at_start: Option<Spanned<bool>>,
    #[serde(rename = "for")]
    pub(super) collect: Option<Spanned<String>>,
    pub(super) node: Option<Spanned<RawExpression>>,
}

/// Steps that have a name.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSteps {
    #[serde(rename = "do")]
    pub(super) steps: Spanned<String>,
}
