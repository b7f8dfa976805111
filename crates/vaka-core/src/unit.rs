//! Facts about one unit: plain values that an engine observed.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use vaka_base::ParseError;

use vaka_base::version::ReleaseNumber;

use crate::dfu::{FunctionalDescriptor, VERSION_ADDRESSED};
use crate::memory::layout::Layout;
use crate::volume::VolumeFacts;
use vaka_base::text;

/// USB vendor and product id, shown as `1209:0002`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UsbId {
    /// idVendor.
    pub vendor: u16,
    /// idProduct.
    pub product: u16,
}

/// Reads `1209:0002`: two times one to four hex digits.
///
/// # Examples
/// ```
/// use vaka_core::unit::UsbId;
///
/// assert_eq!("1209:0002".parse::<UsbId>(), Ok(UsbId { vendor: 0x1209, product: 2 }));
/// assert!("1209".parse::<UsbId>().is_err());
/// ```
impl FromStr for UsbId {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        let half = |digits: &str| {
            let fits = (1..=4).contains(&digits.len()) && digits.bytes().all(|b| b.is_ascii_hexdigit());
            if fits { u16::from_str_radix(digits, 16).ok() } else { None }
        };
        text.split_once(':')
            .and_then(|(vendor, product)| Some(Self { vendor: half(vendor)?, product: half(product)? }))
            .ok_or_else(|| ParseError::new(format!("'{text}' is not a USB id; write it like 1209:0002")))
    }
}

impl fmt::Display for UsbId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04x}:{:04x}", self.vendor, self.product)
    }
}

impl fmt::Debug for UsbId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for UsbId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for UsbId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

/// A name in place of USB ids: that of the dialect in which nodes of a CAN bus answer, or that of a
/// programmer. At most [`NodeKind::MOST`] bytes.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct NodeKind {
    len: u8,
    text: [u8; Self::MOST],
}

impl NodeKind {
    /// Largest number of bytes. Chosen by us, so that an id is a small value.
    pub const MOST: usize = 31;

    /// The kind with this name; `None` if it is empty or too long.
    pub fn new(name: &str) -> Option<Self> {
        let mut text = [0; Self::MOST];
        text.get_mut(..name.len())?.copy_from_slice(name.as_bytes());
        u8::try_from(name.len()).ok().filter(|len| *len > 0).map(|len| Self { len, text })
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        std::str::from_utf8(&self.text[..self.len.into()]).unwrap_or_default()
    }
}

/// The kind of a device on its bus.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum DeviceId {
    /// A USB device, shown as `1209:0002`.
    Usb(UsbId),
    /// A node of a CAN bus, shown as `can:turnstone`.
    Node(NodeKind),
    /// The chip that is wired to a programmer, shown as `programmer:linnet`.
    Target(NodeKind),
}

impl DeviceId {
    /// The text before the name of a kind of nodes.
    pub const NODE: &str = "can:";

    /// The text before the name of a programmer.
    pub const TARGET: &str = "programmer:";

    /// The USB ids of a USB device.
    pub fn usb(self) -> Option<UsbId> {
        match self {
            Self::Usb(id) => Some(id),
            Self::Node(_) | Self::Target(_) => None,
        }
    }
}

impl From<UsbId> for DeviceId {
    fn from(id: UsbId) -> Self {
        Self::Usb(id)
    }
}

/// Reads `1209:0002`, `can:turnstone` or `programmer:linnet`.
impl FromStr for DeviceId {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        let named = |name, prefix| {
            let wrong = || format!("a name of 1 to {} characters is required after '{prefix}'", NodeKind::MOST);
            NodeKind::new(name).ok_or_else(|| ParseError::new(wrong()))
        };
        match (text.strip_prefix(Self::NODE), text.strip_prefix(Self::TARGET)) {
            (Some(name), _) => named(name, Self::NODE).map(Self::Node),
            (_, Some(name)) => named(name, Self::TARGET).map(Self::Target),
            (None, None) => text.parse().map(Self::Usb),
        }
    }
}

impl fmt::Display for DeviceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Usb(id) => id.fmt(f),
            Self::Node(kind) => write!(f, "{}{}", Self::NODE, kind.as_str()),
            Self::Target(kind) => write!(f, "{}{}", Self::TARGET, kind.as_str()),
        }
    }
}

impl fmt::Debug for DeviceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for DeviceId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for DeviceId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

/// The current mode of a unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Mode {
    /// The application runs.
    Application,
    /// It waits for firmware.
    Update,
    /// The mode is not known.
    Unknown,
}

impl fmt::Display for Mode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Application => "application",
            Self::Update => "update",
            Self::Unknown => "unknown",
        })
    }
}

/// The description that a unit gives on the bus. Texts are sanitized and never empty.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnitFacts {
    /// USB ids, or the kind of a node.
    pub id: DeviceId,
    /// bcdDevice.
    pub release: ReleaseNumber,
    /// iManufacturer.
    pub maker: Option<String>,
    /// iProduct.
    pub product: Option<String>,
    /// iSerialNumber.
    pub serial: Option<String>,
    /// DFU interfaces that could be read.
    pub dfu: Vec<DfuFacts>,
    /// The disk, if it was read.
    pub volume: Option<VolumeFacts>,
    /// The properties reported in its dialect, if it was queried.
    pub told: Vec<ReportedProperty>,
    /// The lines that its application printed on the serial port, if it was read.
    pub lines: Vec<String>,
}

/// A property that a unit reports in a dialect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReportedProperty {
    /// Name.
    pub name: String,
    /// Value.
    pub value: PropertyValue,
}

/// A number or a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PropertyValue {
    /// A number.
    Number(i128),
    /// A text; bytes that are none, as hex pairs.
    Text(String),
}

impl fmt::Display for PropertyValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number @ 0..10) => write!(f, "{number}"),
            Self::Number(number) if *number > 0 => write!(f, "{number} (0x{number:X})"),
            Self::Number(number) => write!(f, "{number}"),
            Self::Text(text) => write!(f, "\"{text}\""),
        }
    }
}

impl From<&vaka_dialect::Value> for PropertyValue {
    fn from(value: &vaka_dialect::Value) -> Self {
        match value {
            vaka_dialect::Value::Int(number) => Self::Number(*number),
            vaka_dialect::Value::Truth(truth) => Self::Number(i128::from(*truth)),
            vaka_dialect::Value::Bytes(bytes) => {
                let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |at| at + 1);
                let plain = |byte: &u8| (0x20..0x7F).contains(byte);
                Self::Text(match std::str::from_utf8(&bytes[..end]) {
                    Ok(words) if bytes[..end].iter().all(plain) => text::sanitize(words),
                    _ => text::hex_pairs(&bytes[..bytes.len().min(64)]),
                })
            }
        }
    }
}

/// The description of a DFU interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DfuFacts {
    /// bInterfaceNumber.
    pub interface: u8,
    /// Whether this is DFU mode (protocol 2), not the run-time interface (1).
    pub in_dfu_mode: bool,
    /// The alternate settings in the order of their numbers.
    pub alternates: Vec<DfuAlternate>,
    /// The functional descriptor, if it has one.
    pub functional: Option<FunctionalDescriptor>,
}

/// One alternate setting of a DFU interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DfuAlternate {
    /// bAlternateSetting.
    pub number: u8,
    /// The interface's text, tamed.
    pub name: Option<String>,
    /// The memory layout in the text, if it has one.
    pub layout: Option<Layout>,
}

impl DfuAlternate {
    /// The name for display: the layout's name, else the text.
    pub fn label(&self) -> Option<&str> {
        self.layout.as_ref().map(|layout| layout.name.as_str()).or(self.name.as_deref())
    }
}

/// One memory of a unit in DFU mode: an alternate setting.
#[derive(Clone, Copy, Debug)]
pub struct DfuMemory<'a> {
    /// The interface.
    pub interface: &'a DfuFacts,
    /// The alternate setting.
    pub alternate: &'a DfuAlternate,
}

impl DfuMemory<'_> {
    /// Whether it is written by memory addresses. Its version or its text shows it; one of them
    /// may be missing.
    pub fn is_addressed(&self) -> bool {
        let by_version = self.interface.functional.is_some_and(|found| found.version == VERSION_ADDRESSED);
        by_version || self.alternate.layout.is_some()
    }
}

impl fmt::Display for DfuMemory<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.interface.interface, self.alternate.number)?;
        self.alternate.label().map_or(Ok(()), |label| write!(f, " \"{label}\""))
    }
}

/// The selection of a memory of a unit in DFU mode; all given values must match.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MemoryChoice {
    /// Name, as the unit reports it.
    pub name: Option<String>,
    /// bInterfaceNumber.
    pub interface: Option<u8>,
    /// bAlternateSetting.
    pub alternate: Option<u8>,
}

impl MemoryChoice {
    /// Parses the value of an option: `ALTERNATE`, `INTERFACE.ALTERNATE` or a name.
    pub fn parse(text: &str) -> Self {
        let number = |text: &str| text.parse::<u8>().ok();
        match (number(text), text.split_once('.')) {
            (Some(alternate), _) => Self { alternate: Some(alternate), ..Self::default() },
            (None, Some((interface, alternate))) if number(interface).is_some() && number(alternate).is_some() => {
                Self { name: None, interface: number(interface), alternate: number(alternate) }
            }
            _ => Self { name: Some(text.to_owned()), ..Self::default() },
        }
    }

    fn fits(&self, memory: &DfuMemory<'_>) -> bool {
        self.name.as_deref().is_none_or(|name| memory.alternate.label() == Some(name))
            && self.interface.is_none_or(|number| memory.interface.interface == number)
            && self.alternate.is_none_or(|number| memory.alternate.number == number)
    }

    /// Whether nothing is selected.
    pub fn is_any(&self) -> bool {
        *self == Self::default()
    }
}

impl fmt::Display for MemoryChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut parts = Vec::new();
        parts.extend(self.name.as_ref().map(|name| format!("named \"{name}\"")));
        parts.extend(self.interface.map(|number| format!("on interface {number}")));
        parts.extend(self.alternate.map(|number| format!("with alternate setting {number}")));
        f.write_str(&parts.join(" "))
    }
}

impl UnitFacts {
    /// A unit of which only the ids from the bus enumeration are known.
    pub fn listed(id: DeviceId, release: ReleaseNumber) -> Self {
        Self {
            id,
            release,
            maker: None,
            product: None,
            serial: None,
            dfu: Vec::new(),
            volume: None,
            told: Vec::new(),
            lines: Vec::new(),
        }
    }

    /// The memories that the unit offers in DFU mode and that a choice allows.
    pub fn memories(&self, choice: &MemoryChoice) -> Vec<DfuMemory<'_>> {
        let booted = self.dfu.iter().filter(|dfu| dfu.in_dfu_mode);
        let all = booted
            .flat_map(|interface| interface.alternates.iter().map(move |alternate| DfuMemory { interface, alternate }));
        all.filter(|memory| choice.fits(memory)).collect()
    }

    /// The run-time DFU interface of an application.
    pub fn run_time_dfu(&self) -> Option<&DfuFacts> {
        self.dfu.iter().find(|dfu| !dfu.in_dfu_mode)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_and_release_numbers_read_and_print() {
        assert_eq!("1209:2".parse::<UsbId>().unwrap().to_string(), "1209:0002");
        for bad in ["", "1209", "1209:", ":1", "1209:12345", "12 9:0001", "+209:0001", "1209:0001:2"] {
            assert!(bad.parse::<UsbId>().is_err(), "{bad}");
        }
        assert_eq!(ReleaseNumber(0x0150).to_string(), "1.5.0");
        assert_eq!(ReleaseNumber(0x1203).to_string(), "12.0.3");
        for (text, number) in [("1.5.0", 0x0150), ("1.50", 0x0150), ("12.0.3", 0x1203), ("2.0", 0x0200)] {
            assert_eq!(text.parse::<ReleaseNumber>(), Ok(ReleaseNumber(number)), "{text}");
        }
        for bad in ["", "1", "1.", "123.0.0", "1.2.3.4", "1.x"] {
            assert!(bad.parse::<ReleaseNumber>().is_err(), "{bad}");
        }
    }

    #[test]
    fn memories_are_chosen_by_number_and_by_name() {
        let alternate =
            |number, name: &str| DfuAlternate { number, name: Some(name.to_owned()), layout: Layout::parse(name) };
        let interface = |interface, names: [&str; 2]| DfuFacts {
            interface,
            in_dfu_mode: true,
            alternates: vec![alternate(0, names[0]), alternate(1, names[1])],
            functional: None,
        };
        let unit = UnitFacts {
            id: UsbId { vendor: 1, product: 2 }.into(),
            release: ReleaseNumber(0),
            maker: None,
            product: None,
            serial: None,
            volume: None,
            told: Vec::new(),
            lines: Vec::new(),
            dfu: vec![interface(0, ["Hull", "Mast"]), interface(2, ["@Keel/0x0A000000/4*1Kg", "Mast"])],
        };
        let found = |choice: &str| {
            let found = unit.memories(&MemoryChoice::parse(choice));
            found.iter().map(|memory| memory.to_string()).collect::<Vec<_>>()
        };
        assert_eq!(found("Keel"), ["2.0 \"Keel\""]);
        assert_eq!(found("Mast"), ["0.1 \"Mast\"", "2.1 \"Mast\""]);
        assert_eq!(found("0"), ["0.0 \"Hull\"", "2.0 \"Keel\""]);
        assert_eq!(found("2.1"), ["2.1 \"Mast\""]);
        assert_eq!(found("3.1"), [""; 0]);
        assert_eq!(unit.memories(&MemoryChoice::default()).len(), 4);
        let addressed = |choice: &str| unit.memories(&MemoryChoice::parse(choice))[0].is_addressed();
        assert!(addressed("Keel") && !addressed("Hull"));
    }
}
