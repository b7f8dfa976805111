//! The lines of a trace file.
//!
//! The format is specified in `docs/formats/trace.md`.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use vaka_base::text;

use crate::bus::DeviceInfo;
use crate::device::TransferError;
use crate::trace::{Content, Record};

/// The version of the format.
pub const FORMAT: u32 = 1;

/// Bytes that are written as lower-case hex digits.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HexBytes(pub Vec<u8>);

impl Serialize for HexBytes {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&text::hex(&self.0))
    }
}

impl<'de> Deserialize<'de> for HexBytes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let digits = String::deserialize(deserializer)?;
        text::parse_hex(&digits).map(Self).ok_or_else(|| de::Error::custom("expected pairs of hex digits"))
    }
}

/// One line of a trace. The keys present determine its kind.
#[derive(Clone, Debug, Default, Serialize, Deserialize, PartialEq)]
#[serde(default)]
pub struct TraceLine {
    /// On the first line: the version of the format.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trace: Option<u32>,
    /// On the first line: the version of the program.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vaka: Option<String>,
    /// On the first line: the operating system.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub system: Option<String>,
    /// On the first line: when the trace began, in RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time: Option<String>,
    /// On the first line: the command line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
    /// Milliseconds since the first line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub t: Option<f64>,
    /// The devices on a bus, after a change.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub list: Option<Vec<ListedDevice>>,
    /// The bus of a list.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bus: Option<String>,
    /// A device was opened: its number from now on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub open: Option<u32>,
    /// The port of a device that was opened.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<String>,
    /// The serial port of the system through which a device that was opened is reached.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// The number of the device that the line is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<u32>,
    /// The eight bytes of a setup packet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub setup: Option<HexBytes>,
    /// bEndpointAddress of a pipe: one byte.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pipe: Option<HexBytes>,
    /// The bytes from the device.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reply: Option<HexBytes>,
    /// The bytes to the device.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub data: Option<HexBytes>,
    /// Number of bytes that a transfer had, if the trace does not show them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub concealed: Option<u64>,
    /// The dialect of the transfers that follow.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dialect: Option<String>,
    /// The operation of the transfers that follow.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub operation: Option<String>,
    /// The arguments of the operation.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub given: BTreeMap<String, String>,
    /// Another action on a device, such as `claim 0.1`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub act: Option<String>,
    /// The error of a transfer or an action.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// Milliseconds that a transfer took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub took: Option<f64>,
}

/// A device as a bus lists it.
#[derive(Clone, Debug, Serialize, Deserialize, PartialEq, Eq)]
pub struct ListedDevice {
    /// Port.
    pub port: String,
    /// Address on the bus.
    pub address: u32,
    /// Speed in lower case.
    #[serde(default)]
    pub speed: String,
    /// Vendor and product id: `1209:0002`.
    pub id: String,
    /// bcdDevice, as four hex digits.
    pub release: String,
    /// Class, subclass and protocol of each interface.
    pub interfaces: Vec<HexBytes>,
}

impl From<&DeviceInfo> for ListedDevice {
    fn from(info: &DeviceInfo) -> Self {
        Self {
            port: info.location.port.clone(),
            address: info.address,
            speed: format!("{:?}", info.speed).to_lowercase(),
            id: format!("{:04x}:{:04x}", info.vendor, info.product),
            release: format!("{:04x}", info.release),
            interfaces: info.interfaces.iter().map(|i| HexBytes(vec![i.class, i.subclass, i.protocol])).collect(),
        }
    }
}

impl TraceLine {
    /// The line for a record made `t` after the first line.
    pub fn of(record: &Record<'_>, t: Duration) -> Self {
        let line = Self { t: Some(milliseconds(t)), ..Self::default() };
        let hex = |bytes: &[u8]| Some(HexBytes(bytes.to_vec()));
        match *record {
            Record::List { bus, devices } => {
                let list = Some(devices.iter().map(ListedDevice::from).collect());
                Self { list, bus: Some(bus.to_owned()), ..line }
            }
            Record::Open { device, port, node, error } => {
                let error = error.map(|error| text::sanitize(&error.to_string()));
                let through = node.map(|node| node.display().to_string());
                Self { open: Some(device), port: Some(port.to_owned()), through, error, ..line }
            }
            Record::ControlIn { device, setup, reply: came, took } => {
                Self { device: Some(device), setup: hex(&setup), ..line }.received(came).ended(came.err(), took)
            }
            Record::ControlOut { device, setup, data, done, took } => {
                let line = Self { device: Some(device), setup: hex(&setup), ..line };
                line.sent(data).ended(done.as_ref().err(), took)
            }
            Record::PipeIn { device, endpoint, reply: came, took } => {
                Self { device: Some(device), pipe: hex(&[endpoint]), ..line }.received(came).ended(came.err(), took)
            }
            Record::PipeOut { device, endpoint, data, done, took } => {
                let line = Self { device: Some(device), pipe: hex(&[endpoint]), ..line };
                line.sent(data).ended(done.as_ref().err(), took)
            }
            Record::Act { device, what, done } => {
                let error = done.as_ref().err().map(error_word);
                Self { device: Some(device), act: Some(what.to_owned()), error, ..line }
            }
            Record::Operation { device, dialect, name, given } => Self {
                device: Some(device),
                dialect: Some(dialect.to_owned()),
                operation: Some(name.to_owned()),
                given: given.iter().cloned().collect(),
                ..line
            },
            Record::Close { device } => Self { device: Some(device), act: Some("close".to_owned()), ..line },
        }
    }

    fn sent(self, data: Content<'_>) -> Self {
        match data {
            Content::Bytes(bytes) => Self { data: Some(HexBytes(bytes.to_vec())), ..self },
            Content::Concealed(len) => Self { concealed: Some(len as u64), ..self },
        }
    }

    fn received(self, came: Result<Content<'_>, &TransferError>) -> Self {
        match came.unwrap_or(Content::Bytes(&[])) {
            Content::Bytes(bytes) => Self { reply: Some(HexBytes(bytes.to_vec())), ..self },
            Content::Concealed(len) => Self { concealed: Some(len as u64), ..self },
        }
    }

    fn ended(mut self, error: Option<&TransferError>, took: Duration) -> Self {
        self.error = error.map(error_word);
        self.took = Some(milliseconds(took));
        self
    }

    /// The result of the transfer of this line: the data or the error.
    ///
    /// # Errors
    /// The recorded one.
    pub fn outcome(&self) -> Result<Vec<u8>, TransferError> {
        match self.error.as_deref() {
            None => Ok(self.reply.clone().unwrap_or_default().0),
            Some("stall") => Err(TransferError::Stall),
            Some("timeout") => Err(TransferError::Timeout),
            Some("gone") => Err(TransferError::Disconnected),
            Some("too-much") => Err(TransferError::Overflow),
            Some(other) => Err(TransferError::Failed(text::sanitize(other))),
        }
    }
}

/// Milliseconds with three places.
fn milliseconds(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round() / 1e3
}

/// The error names that [`TraceLine::outcome`] parses; other errors are sentences.
fn error_word(error: &TransferError) -> String {
    match error {
        TransferError::Stall => "stall".to_owned(),
        TransferError::Timeout => "timeout".to_owned(),
        TransferError::Disconnected => "gone".to_owned(),
        TransferError::Overflow => "too-much".to_owned(),
        other => text::sanitize(&other.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The keys are those of the table in `docs/formats/trace.md`.
    #[test]
    fn lines_are_written_and_read_alike() {
        let failed = Err(TransferError::Stall);
        let record = Record::ControlOut {
            device: 3,
            setup: [0x21, 1, 2, 0, 0, 0, 2, 0],
            data: Content::Bytes(&[0xA5, 0]),
            done: &failed,
            took: Duration::from_micros(1234),
        };
        let line = TraceLine::of(&record, Duration::from_millis(5));
        let text = serde_json::to_string(&line).unwrap();
        assert_eq!(
            text,
            r#"{"t":5.0,"device":3,"setup":"2101020000000200","data":"a500","error":"stall","took":1.234}"#
        );
        assert_eq!(serde_json::from_str::<TraceLine>(&text).unwrap(), line);
        assert_eq!(line.outcome(), Err(TransferError::Stall));
        assert!(serde_json::from_str::<TraceLine>(r#"{"device":3,"reply":"0g"}"#).is_err());
    }
}
