//! What is known of one unit: plain values that an engine observed.

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

use crate::memory::layout::Layout;

/// USB vendor and product id, shown as `1209:0002`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct UsbId {
    /// idVendor.
    pub vendor: u16,
    /// idProduct.
    pub product: u16,
}

impl UsbId {
    /// Reads `1209:0002`: two times one to four hex digits.
    ///
    /// # Errors
    /// A sentence with the text, when it is not that.
    pub fn parse(text: &str) -> Result<Self, String> {
        let half = |digits: &str| {
            let fits = (1..=4).contains(&digits.len()) && digits.bytes().all(|b| b.is_ascii_hexdigit());
            if fits { u16::from_str_radix(digits, 16).ok() } else { None }
        };
        text.split_once(':')
            .and_then(|(vendor, product)| Some(Self { vendor: half(vendor)?, product: half(product)? }))
            .ok_or_else(|| format!("'{text}' is no USB id; write it like 1209:0002"))
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
        Self::parse(&String::deserialize(deserializer)?).map_err(de::Error::custom)
    }
}

/// A release number in packed decimal, as USB's bcdDevice: 0x0150 is `1.5.0`.
///
/// Source: USB 2.0, section 9.6.1 (the form is bcdUSB's: JJ.M.N).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ReleaseNumber(pub u16);

impl fmt::Display for ReleaseNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:x}.{:x}.{:x}", self.0 >> 8, self.0 >> 4 & 0xF, self.0 & 0xF)
    }
}

impl Serialize for ReleaseNumber {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// What a unit is doing now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mode {
    /// Its application runs.
    Application,
    /// It waits for new firmware.
    Update,
    /// Nothing that is known tells.
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

/// What a unit says of itself on the bus. Texts are tamed and never empty.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnitFacts {
    /// Its ids.
    pub id: UsbId,
    /// bcdDevice.
    pub release: ReleaseNumber,
    /// iManufacturer.
    pub maker: Option<String>,
    /// iProduct.
    pub product: Option<String>,
    /// iSerialNumber.
    pub serial: Option<String>,
    /// Its DFU interface, where it has one and it could be read.
    pub dfu: Option<DfuFacts>,
}

/// What a DFU interface says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DfuFacts {
    /// Whether this is the DFU mode (protocol 2), not the run-time one (1).
    pub in_dfu_mode: bool,
    /// One entry for each alternate setting, in the order of their numbers.
    pub alternates: Vec<DfuAlternate>,
    /// wTransferSize.
    pub transfer_size: u16,
    /// bitCanUpload.
    pub can_upload: bool,
}

/// One alternate setting of a DFU interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DfuAlternate {
    /// bAlternateSetting.
    pub number: u8,
    /// The interface's text, tamed.
    pub name: Option<String>,
    /// The memory layout in that text, if it holds one.
    pub layout: Option<Layout>,
}

impl DfuFacts {
    /// The first memory layout, or the one of the memory with this name.
    pub fn memory(&self, name: Option<&str>) -> Option<&Layout> {
        self.alternate(name)?.layout.as_ref()
    }

    /// The first alternate setting that tells a memory layout, or the one of
    /// the memory with this name.
    pub fn alternate(&self, memory: Option<&str>) -> Option<&DfuAlternate> {
        let fits = |layout: &Layout| memory.is_none_or(|name| layout.name == name);
        self.alternates.iter().find(|alternate| alternate.layout.as_ref().is_some_and(fits))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_and_release_numbers_read_and_print() {
        assert_eq!(UsbId::parse("1209:2").unwrap().to_string(), "1209:0002");
        for bad in ["", "1209", "1209:", ":1", "1209:12345", "12 9:0001", "+209:0001", "1209:0001:2"] {
            assert!(UsbId::parse(bad).is_err(), "{bad}");
        }
        assert_eq!(ReleaseNumber(0x0150).to_string(), "1.5.0");
        assert_eq!(ReleaseNumber(0x1203).to_string(), "12.0.3");
    }
}
