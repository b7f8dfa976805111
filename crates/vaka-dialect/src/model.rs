//! A checked dialect.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

use super::carrier::Carrier;
use super::expression::{Expression, Node};
use super::field::{Field, Meaning, Table, captured};
use super::framing::Framing;
use super::secret::Secret;
use super::settings::ChecksumScope;
use super::steps::{Step, Time};
use super::value::{Name, Names, Value};
use crate::carrier::Report;
use crate::error::DialectError;
use crate::settings::{EraseBy, Erases, Order};

/// A dialect that passed every check.
#[derive(Clone, Debug)]
pub struct Dialect {
    /// Short name, used in product sheets.
    pub name: String,
    /// Purpose of the dialect.
    pub about: Option<String>,
    /// The carrier of its frames.
    pub carrier: Carrier,
    /// Framing of a byte stream.
    pub framing: Framing,
    /// Maximum size of a frame in bytes, if the unit limits it.
    pub largest: Option<usize>,
    /// Number of garbage bytes to skip before a reply.
    pub junk: usize,
    /// Sizes and order.
    pub geometry: Geometry,
    /// Whether a write needs all bytes of the transfer, not only those of its chunk.
    pub needs_whole: bool,
    /// Possible problems.
    pub warnings: Vec<DialectError>,
    pub(super) exchanges: Vec<Exchange>,
    pub(super) steps: Vec<(String, Vec<Step>)>,
    pub(super) operations: BTreeMap<OperationName, Operation>,
    pub(super) envelope: Envelope,
    pub(super) names: Names,
    pub(super) tables: Vec<Table>,
    /// Initial values of the variables.
    pub(super) start: Vec<Option<Value>>,
    pub(super) constants: Vec<Name>,
    /// The constants that a product sheet may set.
    pub(super) parameters: Vec<Name>,
    /// Reports and times of a simulated unit.
    pub simulation: Simulation,
    /// The values that the user supplies.
    pub secrets: Vec<Secret>,
    /// The secrets, and every name that is computed from one.
    pub(super) tainted: BTreeSet<Name>,
    pub(super) given: BuiltinNames,
    pub(super) text: Arc<str>,
}

impl PartialEq for Dialect {
    /// Two dialects are one if their files and the values of their parameters are.
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text && self.parameters().eq(other.parameters()) && self.secrets == other.secrets
    }
}

impl Eq for Dialect {}

/// The envelope around every frame.
#[derive(Clone, Debug, Default)]
pub(super) struct Envelope {
    pub(super) send: Option<Vec<Field>>,
    pub(super) reply: Option<Vec<Field>>,
    /// Steps after each exchange.
    pub(super) then: Vec<Step>,
    pub(super) body: Option<Name>,
}

/// The recipient of a control transfer. Source: USB 2.0, table 9-2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the standard's names
pub enum Recipient {
    Device,
    Interface,
    Endpoint,
    Other,
}

/// A control transfer's setup packet.
#[derive(Clone, Debug)]
pub struct RequestForm {
    /// Bits 5 and 6 of bmRequestType: 0 standard, 1 class, 2 vendor. Source: USB 2.0, table 9-2.
    pub class: u8,
    /// The recipient.
    pub to: Recipient,
    /// bRequest.
    pub request: Expression,
    /// wValue; 0 without it.
    pub value: Option<Expression>,
    /// wIndex; by default the interface number for an interface, else 0.
    pub index: Option<Expression>,
    /// wLength of a device-to-host request, if the reply does not determine it.
    pub length: Option<Expression>,
}

/// Deviations in the transport of an exchange's frames.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameRoute {
    /// A kind of HID report, for this exchange.
    Report(Report),
    /// A DFU upload.
    Upload,
    /// The six bytes of a DFU status.
    Status,
    /// A control transfer, beside a carrier of another kind.
    Request,
    /// Another bulk or interrupt pipe than that of the carrier, by its bEndpointAddress.
    Pipe(u8),
}

impl FrameRoute {
    /// Whether the frame travels beside the carrier's own way. Such a frame is one transfer without
    /// framing and envelope.
    fn is_aside(self) -> bool {
        matches!(self, Self::Request | Self::Pipe(_))
    }
}

/// The way to retry when the unit is busy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RetryBy {
    /// Another reply is read.
    Read,
    /// The frame is sent again.
    Send,
}

/// The control transfers of an exchange.
#[derive(Clone, Debug, Default)]
pub struct RequestPair {
    /// The one to the unit.
    pub out: Option<RequestForm>,
    /// The one to the host.
    pub back: Option<RequestForm>,
}

/// The identifiers of the CAN frames of an exchange.
#[derive(Clone, Debug, Default)]
pub struct FrameIds {
    /// That of frames to the unit.
    pub send: Option<Expression>,
    /// That of replies.
    pub reply: Option<Expression>,
    /// The bits in which replies have that identifier; all without it.
    pub mask: Option<Expression>,
}

impl FrameIds {
    /// All parts.
    pub(super) fn parts(&self) -> impl Iterator<Item = &Expression> {
        [&self.send, &self.reply, &self.mask].into_iter().flatten()
    }
}

/// A frame to send, and the possible replies.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// Name; that of the operation for an operation's own exchange.
    pub name: String,
    /// The fields of its SCSI command block.
    pub(super) command: Option<Vec<Field>>,
    pub(super) send: Option<Vec<Field>>,
    pub(super) reply: Option<Vec<Field>>,
    pub(super) refused: Vec<Vec<Field>>,
    pub(super) busy: Vec<Vec<Field>>,
    pub(super) nak: Vec<Vec<Field>>,
    /// How often the frame is sent again because the unit did not receive it intact.
    pub naks: u32,
    /// Whether a stall means that the unit is busy.
    pub busy_on_stall: bool,
    /// The way to retry when the unit is busy.
    pub ask: RetryBy,
    /// Pause before the retry.
    pub pause: Option<Time>,
    /// Whether the unit echoes the frame first.
    pub echo: bool,
    /// Whether the reply is optional.
    pub optional: bool,
    /// Time limit for the reply, busy replies included.
    pub within: Option<Time>,
    /// Number of attempts; by default that of the operation.
    pub tries: Option<u32>,
    /// Steps after the exchange.
    pub then: Vec<Step>,
    /// The control transfers.
    pub control: RequestPair,
    /// Route of the frame, if not that of the carrier.
    pub via: Option<FrameRoute>,
    /// Route of the reply, if not that of the carrier.
    pub take: Option<FrameRoute>,
    /// Report id, if not that of the carrier.
    pub report: Option<u8>,
    /// The block number of its DFU requests.
    pub block: Option<Expression>,
    /// The identifiers of its CAN frames.
    pub ids: FrameIds,
    pub(super) bare: bool,
    /// Whether its bytes depend on a secret, so that traces and views do not show them.
    pub is_secret: bool,
    pub(super) at: usize,
}

impl Exchange {
    /// Whether it sends a frame; a request or a command without data counts as one.
    pub fn sends(&self) -> bool {
        self.send.is_some() || self.control.out.is_some() || self.command.is_some()
    }

    /// Whether a reply is expected.
    pub fn has_reply(&self) -> bool {
        self.reply.is_some()
    }

    /// Whether the frame is sent by a control request or another pipe than that of the carrier.
    pub fn sends_aside(&self) -> bool {
        self.via.is_some_and(FrameRoute::is_aside)
    }

    /// Whether the reply comes by a control request or another pipe than that of the carrier.
    pub fn receives_aside(&self) -> bool {
        self.take.is_some_and(FrameRoute::is_aside)
    }

    /// Whether the frame is sent without the envelope.
    pub(super) fn is_sent_bare(&self) -> bool {
        self.bare || self.sends_aside()
    }

    /// Whether the reply comes without the envelope.
    pub(super) fn is_received_bare(&self) -> bool {
        self.bare || self.receives_aside()
    }
}

/// The operations of a dialect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)] // specified in docs/formats/dialect.md
pub enum OperationName {
    Discover,
    Sync,
    Identify,
    Unlock,
    Helper,
    Begin,
    Erase,
    Write,
    End,
    Read,
    Checksum,
    Protection,
    Unprotect,
    Restart,
    Enter,
    Recover,
    Confirm,
}

impl OperationName {
    /// All operations in the order in which they run.
    pub const ALL: [Self; 17] = [
        Self::Discover,
        Self::Enter,
        Self::Recover,
        Self::Sync,
        Self::Identify,
        Self::Unlock,
        Self::Helper,
        Self::Protection,
        Self::Unprotect,
        Self::Erase,
        Self::Begin,
        Self::Write,
        Self::End,
        Self::Read,
        Self::Checksum,
        Self::Restart,
        Self::Confirm,
    ];

    /// The name in the file.
    pub fn word(self) -> &'static str {
        match self {
            Self::Discover => "discover",
            Self::Sync => "sync",
            Self::Identify => "identify",
            Self::Unlock => "unlock",
            Self::Helper => "helper",
            Self::Begin => "begin",
            Self::Erase => "erase",
            Self::Write => "write",
            Self::End => "end",
            Self::Read => "read",
            Self::Checksum => "checksum",
            Self::Protection => "protection",
            Self::Unprotect => "unprotect",
            Self::Restart => "restart",
            Self::Enter => "enter",
            Self::Recover => "recover",
            Self::Confirm => "confirm",
        }
    }

    /// The operation with this name.
    ///
    /// # Examples
    /// ```
    /// use vaka_dialect::OperationName;
    ///
    /// assert_eq!(OperationName::parse("erase"), Some(OperationName::Erase));
    /// assert_eq!(OperationName::Erase.word(), "erase");
    /// assert_eq!(OperationName::parse("explode"), None);
    /// ```
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|name| name.word() == word)
    }

    /// Whether the operation does not change the unit, so that it may be repeated.
    ///
    /// # Examples
    /// ```
    /// use vaka_dialect::OperationName;
    ///
    /// assert!(OperationName::Identify.is_read_only());
    /// assert!(!OperationName::Write.is_read_only());
    /// ```
    pub fn is_read_only(self) -> bool {
        matches!(
            self,
            Self::Discover
                | Self::Sync
                | Self::Identify
                | Self::Read
                | Self::Checksum
                | Self::Protection
                | Self::Confirm
        )
    }

    /// Whether the operation as a whole is repeated until the unit replies.
    pub fn is_repeated(self) -> bool {
        matches!(self, Self::Sync | Self::Confirm)
    }
}

/// The content of an operation.
#[derive(Clone, Debug)]
pub struct Operation {
    /// The steps.
    pub steps: Vec<Step>,
    /// Time limit of the operation.
    pub total: Option<Time>,
    /// Interval between attempts of a sync.
    pub every: Option<Time>,
    /// The properties of the unit that it reports.
    pub tells: Vec<ReportedField>,
    /// The program to load into the unit first.
    pub helper: Option<Helper>,
    /// The granularity of an erase.
    pub by: EraseBy,
    /// The range that the unit erases by itself in a begin or a write.
    pub erases: Option<Erases>,
    /// The result of a read.
    pub result: Option<Expression>,
    /// The scope of a checksum.
    pub checksum: Option<Checksum>,
    /// When the unit's memory is protected.
    pub protected: Option<Expression>,
    /// Whether the unit disconnects when it restarts.
    pub leaves: bool,
    /// Whether a restart requires `end`, so that `end` runs even if nothing was written.
    pub needs_end: bool,
    /// Whether a recovery also runs at the beginning of each session.
    pub at_start: bool,
    /// The collection of replies, in a discovery.
    pub collection: Option<Collection>,
}

/// Reports and times of a simulated unit, beyond the frames.
#[derive(Clone, Debug, Default)]
pub struct Simulation {
    /// Values that its replies report.
    pub values: Vec<(Name, Value)>,
    /// Time to erase a KiB.
    pub erase: Option<Duration>,
    /// Time to program a KiB.
    pub program: Option<Duration>,
}

/// How long a discovery collects replies, and the unique id in each.
#[derive(Clone, Debug)]
pub struct Collection {
    /// Time for the replies of all nodes.
    pub time: Time,
    /// The unique id of a node: bytes.
    pub node: Expression,
}

/// A property that a unit reports.
#[derive(Clone, Debug)]
pub struct ReportedField {
    /// Name in product sheets.
    pub name: String,
    /// Value.
    pub value: Expression,
}

/// A program for the unit's RAM, supplied with the dialect.
#[derive(Clone, Debug)]
pub struct Helper {
    /// The program's bytes.
    pub data: Arc<[u8]>,
    /// The target address.
    pub address: Option<Expression>,
}

/// The comparison with the unit's own checksum.
#[derive(Clone, Debug)]
pub struct Checksum {
    /// The scope of the checksum.
    pub over: ChecksumScope,
    /// The unit's.
    pub unit: Expression,
    /// The image's.
    pub image: Expression,
    /// Whether equality proves that nothing needs to be written.
    pub decides: bool,
}

/// Sizes and order.
#[derive(Clone, Debug, Default)]
pub struct Geometry {
    /// Bytes in one write.
    pub chunk: Option<Expression>,
    /// Maximum size of a read in bytes; by default the chunk size.
    pub read_chunk: Option<Expression>,
    /// Chunks begin at multiples of this from the start of the flash; of the chunk
    /// without it.
    pub align: Option<Expression>,
    /// Whether the last chunk is padded with 0xFF.
    pub pad: bool,
    /// The order of chunks.
    pub order: Order,
    /// Whether the unit appends each chunk to the previous one, so that gaps are filled.
    pub stream: bool,
    /// First writable address, if the dialect states it.
    pub start: Option<Expression>,
    /// Number of writable bytes from there on.
    pub size: Option<Expression>,
}

/// The built-in names that the tool binds for operations.
#[derive(Clone, Copy, Debug)]
#[allow(missing_docs)] // specified in docs/formats/dialect.md
pub struct BuiltinNames {
    pub address: Name,
    pub length: Name,
    pub data: Name,
    pub index: Name,
    pub chunks: Name,
    pub last: Name,
    pub origin: Name,
    pub region_start: Name,
    pub region_size: Name,
    pub piece: Name,
    pub place: Name,
    pub nth: Name,
    pub whole: Name,
    pub header: Name,
    pub node: Name,
    pub received_id: Name,
}

impl BuiltinNames {
    /// Whether `name` is a built-in name.
    pub(super) fn has(self, name: Name) -> bool {
        let Self {
            address, length, data, index, chunks, last, origin, region_start, region_size, whole, header, ..
        } = self;
        let of_operations =
            [address, length, data, index, chunks, last, origin, region_start, region_size, whole, header];
        let others = [self.node, self.received_id, self.piece, self.place, self.nth];
        of_operations.into_iter().chain(others).any(|given| given == name)
    }
}

impl Dialect {
    /// The pipes that single exchanges use beside those of the carrier, by bEndpointAddress.
    pub fn other_pipes(&self) -> Vec<u8> {
        let routes = self.exchanges.iter().flat_map(|exchange| [exchange.via, exchange.take]);
        let pipes = routes.flatten().filter_map(|route| match route {
            FrameRoute::Pipe(address) => Some(address),
            _ => None,
        });
        pipes.collect::<BTreeSet<u8>>().into_iter().collect()
    }

    /// The parameters that a product sheet may set, with their values.
    pub fn parameters(&self) -> impl Iterator<Item = (Name, &Value)> {
        let value = |name: &Name| Some((*name, self.start.get(usize::from(name.0))?.as_ref()?));
        self.parameters.iter().filter_map(value)
    }

    /// The interface that its requests to an interface go to.
    pub(crate) fn carrier_interface(&self) -> u8 {
        match &self.carrier {
            Carrier::Control(control) => control.interface.unwrap_or(0),
            Carrier::Hid(hid) => hid.interface.unwrap_or(0),
            Carrier::Pipes(pipes) => pipes.interface.unwrap_or(0),
            Carrier::Serial(_) | Carrier::Dfu(_) | Carrier::Can(_) | Carrier::Scsi(_) => 0,
        }
    }

    /// The names that a reply to an exchange may set.
    pub fn captured_by(&self, exchange: &Exchange) -> Vec<Name> {
        let patterns = exchange.refused.iter().chain(&exchange.busy).chain(&exchange.nak);
        let fields = exchange.reply.iter().chain(patterns).chain(&self.envelope.reply).flatten();
        fields.flat_map(captured).map(|(name, _)| name).collect()
    }

    /// Whether bytes that are computed so depend on a secret.
    pub fn is_secret(&self, of: &Expression) -> bool {
        of.mentions(&self.tainted)
    }

    /// An operation, if the dialect has it.
    ///
    /// # Examples
    /// ```
    /// use vaka_dialect::{Dialect, OperationName, no_files};
    ///
    /// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/src/templates/control.dialect.toml"));
    /// let dialect = Dialect::parse("my.dialect.toml", text, &no_files).unwrap();
    /// assert!(dialect.operation(OperationName::Write).is_some());
    /// assert!(dialect.operation(OperationName::Helper).is_none());
    /// ```
    pub fn operation(&self, name: OperationName) -> Option<&Operation> {
        self.operations.get(&name)
    }

    /// An exchange.
    pub fn exchange(&self, number: usize) -> &Exchange {
        &self.exchanges[number]
    }

    /// Named steps.
    pub fn named_steps(&self, number: usize) -> &[Step] {
        &self.steps[number].1
    }

    /// Steps after every exchange.
    pub fn after_each(&self) -> &[Step] {
        &self.envelope.then
    }

    /// The built-in names.
    pub fn given(&self) -> BuiltinNames {
        self.given
    }

    /// A name as the file writes it.
    pub fn name_text(&self, name: Name) -> &str {
        self.names.text(name)
    }

    /// Whether written content can be read back.
    pub fn can_read(&self) -> bool {
        self.operations.contains_key(&OperationName::Read)
    }

    /// The explanation of a bStatus value in the dialect's table `dfu_status`, if present.
    pub fn dfu_status(&self, code: u8) -> Option<String> {
        let table = self.tables.iter().find(|table| table.name == "dfu_status")?;
        table.codes.contains_key(&i128::from(code)).then(|| match table.meaning(i128::from(code)) {
            Meaning::Refused(words) => words,
            _ => "no error".to_owned(),
        })
    }

    /// The granularity of the erase operation; `None` if there is none.
    pub fn erases_by(&self) -> Option<EraseBy> {
        self.operation(OperationName::Erase).map(|erase| erase.by)
    }

    /// The range that the unit erases by itself when it is written; `None` if nothing.
    pub fn erases_itself(&self) -> Option<Erases> {
        let of = |name| self.operation(name).and_then(|operation| operation.erases);
        of(OperationName::Begin).or(of(OperationName::Write))
    }

    /// The unit's checksum operation, if there is one.
    pub fn checksum(&self) -> Option<&Checksum> {
        self.operation(OperationName::Checksum)?.checksum.as_ref()
    }

    /// The writable range, if the dialect states it as constants: start and size.
    pub fn window(&self) -> Option<(u64, u64)> {
        let constant = |of: &Expression| match &of.node {
            Node::Value(Value::Int(number)) => u64::try_from(*number).ok(),
            _ => None,
        };
        let start = self.geometry.start.as_ref().map_or(Some(0), constant)?;
        Some((start, constant(self.geometry.size.as_ref()?)?))
    }
}
