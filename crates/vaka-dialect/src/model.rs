//! A checked dialect.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::carrier::Carrier;
use super::expression::{Expression, Node};
use super::field::{Field, Meaning, Table};
use super::framing::Framing;
use super::settings::ChecksumScope;
use super::steps::{Step, Time};
use super::value::{Name, Names, Value};
use crate::carrier::Report;
use crate::error::DialectError;
use crate::settings::{EraseBy, Erases, Order};

/// A dialect that passed every check.
#[derive(Clone, Debug)]
pub struct Dialect {
    /// Its short name, for sheets.
    pub name: String,
    /// What it is for.
    pub about: Option<String>,
    /// What moves its frames.
    pub carrier: Carrier,
    /// How frames are cut out of a stream.
    pub framing: Framing,
    /// Most bytes in one frame, if the unit has such a limit.
    pub largest: Option<usize>,
    /// Bytes that may come before a reply and are skipped.
    pub junk: usize,
    /// Sizes and order.
    pub geometry: Geometry,
    /// What may be wrong with it.
    pub warnings: Vec<DialectError>,
    pub(super) exchanges: Vec<Exchange>,
    pub(super) steps: Vec<(String, Vec<Step>)>,
    pub(super) operations: BTreeMap<OperationName, Operation>,
    pub(super) envelope: Envelope,
    pub(super) names: Names,
    pub(super) tables: Vec<Table>,
    /// What names have before anything ran.
    pub(super) start: Vec<Option<Value>>,
    pub(super) constants: Vec<Name>,
    pub(super) given: BuiltinNames,
    pub(super) text: Arc<str>,
}

impl PartialEq for Dialect {
    /// Two dialects are one if their files are.
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Dialect {}

/// What is around every frame.
#[derive(Clone, Debug, Default)]
pub(super) struct Envelope {
    pub(super) send: Option<Vec<Field>>,
    pub(super) reply: Option<Vec<Field>>,
    /// What is done after each exchange.
    pub(super) then: Vec<Step>,
    pub(super) body: Option<Name>,
}

/// Who answers a control transfer. Source: USB 2.0, table 9-2.
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
    /// Who answers it.
    pub to: Recipient,
    /// bRequest.
    pub request: Expression,
    /// wValue; 0 without it.
    pub value: Option<Expression>,
    /// wIndex; the interface's number for an interface, else 0 without it.
    pub index: Option<Expression>,
    /// wLength of one to the host, where the reply does not say.
    pub length: Option<Expression>,
}

/// What is special about how an exchange's frames go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameRoute {
    /// A kind of HID report, for this exchange.
    Report(Report),
    /// A DFU upload.
    Upload,
    /// The six bytes of a DFU status.
    Status,
}

/// Who asks again when the unit is busy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RetryBy {
    /// Another reply is read.
    Read,
    /// The frame is sent again.
    Send,
}

/// How an exchange's control transfers look.
#[derive(Clone, Debug, Default)]
pub struct RequestPair {
    /// The one to the unit.
    pub out: Option<RequestForm>,
    /// The one to the host.
    pub back: Option<RequestForm>,
}

/// A frame that is sent, and what may come back.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// Its name; an operation's own has the operation's.
    pub name: String,
    pub(super) send: Option<Vec<Field>>,
    pub(super) reply: Option<Vec<Field>>,
    pub(super) refused: Vec<Vec<Field>>,
    pub(super) busy: Vec<Vec<Field>>,
    /// Whether a stall means that the unit is busy.
    pub busy_on_stall: bool,
    /// Who asks again then.
    pub ask: RetryBy,
    /// How long is waited before.
    pub pause: Option<Time>,
    /// Whether the unit sends back first what it got.
    pub echo: bool,
    /// Whether there may be no reply.
    pub optional: bool,
    /// How long a reply may take, busy answers included.
    pub within: Option<Time>,
    /// How often it is tried; by the operation without it.
    pub tries: Option<u32>,
    /// What is done after it.
    pub then: Vec<Step>,
    /// Its control transfers.
    pub control: RequestPair,
    /// How its frame goes, if not as the carrier's.
    pub via: Option<FrameRoute>,
    /// How its reply comes, if not as the carrier's.
    pub take: Option<FrameRoute>,
    /// Its report id, if not the carrier's.
    pub report: Option<u8>,
    /// The block number of its DFU requests.
    pub block: Option<Expression>,
    pub(super) bare: bool,
    pub(super) at: usize,
}

impl Exchange {
    /// Whether a frame is sent; on endpoint 0 a request without data is one too.
    pub fn sends(&self) -> bool {
        self.send.is_some() || self.control.out.is_some()
    }

    /// Whether a reply is expected.
    pub fn has_reply(&self) -> bool {
        self.reply.is_some()
    }
}

/// The operations that there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[allow(missing_docs)] // specified in docs/formats/dialect.md
pub enum OperationName {
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
}

impl OperationName {
    /// All, in the order in which they run.
    pub const ALL: [Self; 14] = [
        Self::Enter,
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
    ];

    /// As in the file.
    pub fn word(self) -> &'static str {
        match self {
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
        }
    }

    /// The operation with that word.
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

    /// Whether it changes nothing in the unit, so that it may be tried again.
    ///
    /// # Examples
    /// ```
    /// use vaka_dialect::OperationName;
    ///
    /// assert!(OperationName::Identify.is_read_only());
    /// assert!(!OperationName::Write.is_read_only());
    /// ```
    pub fn is_read_only(self) -> bool {
        matches!(self, Self::Sync | Self::Identify | Self::Read | Self::Checksum | Self::Protection)
    }
}

/// What an operation does.
#[derive(Clone, Debug)]
pub struct Operation {
    /// Its steps.
    pub steps: Vec<Step>,
    /// How long all of it may take.
    pub total: Option<Time>,
    /// How long is waited between tries of a sync.
    pub every: Option<Time>,
    /// What it tells of the unit.
    pub tells: Vec<ReportedField>,
    /// What is loaded into the unit first.
    pub helper: Option<Helper>,
    /// What an erase takes at once.
    pub by: EraseBy,
    /// What the unit erases by itself in a begin or a write.
    pub erases: Option<Erases>,
    /// What a read gives.
    pub result: Option<Expression>,
    /// What a checksum compares.
    pub checksum: Option<Checksum>,
    /// When the unit's memory is protected.
    pub protected: Option<Expression>,
    /// Whether the unit leaves the bus when it restarts.
    pub leaves: bool,
    /// Whether a restart works only after `end`, so that `end` runs even if nothing was written.
    pub needs_end: bool,
}

/// One thing that a unit tells of itself.
#[derive(Clone, Debug)]
pub struct ReportedField {
    /// What it is called in sheets.
    pub name: String,
    /// What it is.
    pub value: Expression,
}

/// A program for the unit's RAM, given with the dialect.
#[derive(Clone, Debug)]
pub struct Helper {
    /// Its bytes.
    pub data: Arc<[u8]>,
    /// Where it goes.
    pub address: Option<Expression>,
}

/// How a unit's own checksum is compared.
#[derive(Clone, Debug)]
pub struct Checksum {
    /// Of what it is.
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
    /// Most bytes in one read; the chunk without it.
    pub read_chunk: Option<Expression>,
    /// Chunks begin at multiples of this from the start of the flash; of the chunk
    /// without it.
    pub align: Option<Expression>,
    /// Whether the last chunk is filled up with 0xFF.
    pub pad: bool,
    /// In which order chunks go.
    pub order: Order,
    /// Whether the unit puts each chunk behind the one before, so that gaps are filled.
    pub stream: bool,
    /// The first address that it can write, where it says so.
    pub start: Option<Expression>,
    /// From there on so many bytes.
    pub size: Option<Expression>,
}

/// The names that the tool gives to operations.
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
}

impl BuiltinNames {
    /// Whether the tool gives a name its values.
    pub(super) fn has(self, name: Name) -> bool {
        let Self { address, length, data, index, chunks, last, origin, region_start, region_size, .. } = self;
        let of_operations = [address, length, data, index, chunks, last, origin, region_start, region_size];
        of_operations.into_iter().chain([self.piece, self.place, self.nth]).any(|given| given == name)
    }
}

impl Dialect {
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

    /// What is done after every exchange.
    pub fn after_each(&self) -> &[Step] {
        &self.envelope.then
    }

    /// The names that the tool gives values to.
    pub fn given(&self) -> BuiltinNames {
        self.given
    }

    /// A name as the file writes it.
    pub fn name_text(&self, name: Name) -> &str {
        self.names.text(name)
    }

    /// Whether what was written can be read.
    pub fn can_read(&self) -> bool {
        self.operations.contains_key(&OperationName::Read)
    }

    /// What the dialect's table `dfu_status` says of a bStatus value, if it has that.
    pub fn dfu_status(&self, code: u8) -> Option<String> {
        let table = self.tables.iter().find(|table| table.name == "dfu_status")?;
        table.codes.contains_key(&i128::from(code)).then(|| match table.meaning(i128::from(code)) {
            Meaning::Refused(words) => words,
            _ => "no error".to_owned(),
        })
    }

    /// What its erase operation takes at once; `None` if it has none.
    pub fn erases_by(&self) -> Option<EraseBy> {
        self.operation(OperationName::Erase).map(|erase| erase.by)
    }

    /// What the unit erases by itself when it is written; `None` if nothing.
    pub fn erases_itself(&self) -> Option<Erases> {
        let of = |name| self.operation(name).and_then(|operation| operation.erases);
        of(OperationName::Begin).or(of(OperationName::Write))
    }

    /// How the unit computes a checksum, if it does.
    pub fn checksum(&self) -> Option<&Checksum> {
        self.operation(OperationName::Checksum)?.checksum.as_ref()
    }

    /// What it can write, where it says so with constants: start and size.
    pub fn window(&self) -> Option<(u64, u64)> {
        let constant = |of: &Expression| match &of.node {
            Node::Value(Value::Int(number)) => u64::try_from(*number).ok(),
            _ => None,
        };
        let start = self.geometry.start.as_ref().map_or(Some(0), constant)?;
        Some((start, constant(self.geometry.size.as_ref()?)?))
    }
}
