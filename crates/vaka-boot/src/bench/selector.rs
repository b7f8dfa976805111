//! Selectors with which the user names a unit.

use std::path::PathBuf;
use std::str::FromStr;

use vaka_base::ParseError;
use vaka_base::text;
use vaka_core::placeholder;
use vaka_core::unit::DeviceId;
use vaka_usb::Behind;

use crate::bench::candidate::Candidate;

/// The selected unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Selector {
    /// By USB ids or the kind of a node.
    Id(DeviceId),
    /// By serial number.
    Serial(String),
    /// By the unique id of a node.
    Node(String),
    /// By the programmer that a chip is wired to: its name, its port or its serial number.
    Programmer(String),
    /// By port, as `survey` prints it.
    Port(String),
    /// By the id or name of product or variant.
    Name(String),
    /// By the folder at which the system has mounted its disk.
    Folder(PathBuf),
    /// By any of these.
    Any(String),
}

impl std::fmt::Display for Selector {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Id(id) => write!(f, "id {id}"),
            Self::Serial(serial) => write!(f, "serial number {}", text::sanitize(serial)),
            Self::Node(id) => write!(f, "node {}", text::sanitize(id)),
            Self::Programmer(name) => write!(f, "programmer {}", text::sanitize(name)),
            Self::Port(port) => write!(f, "port {}", text::sanitize(port)),
            Self::Name(name) | Self::Any(name) => f.write_str(&text::sanitize(name)),
            Self::Folder(folder) => write!(f, "folder {}", text::sanitize(&folder.to_string_lossy())),
        }
    }
}

/// Reads `id=VID:PID`, `serial=…`, `node=…`, `programmer=…`, `port=…`, `name=…` or a bare value.
impl FromStr for Selector {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        let (key, value) = match text.split_once('=') {
            Some((key @ ("id" | "serial" | "node" | "programmer" | "port" | "name" | "folder"), value)) => (key, value),
            _ => ("", text),
        };
        if value.is_empty() {
            let forms = "name a unit: id=VID:PID, serial=…, node=…, programmer=…, port=…, name=…, folder=… or one of these values alone";
            return Err(ParseError::new(forms));
        }
        let example = if key == "id" { placeholder::of_id(value) } else { placeholder::of_text(value) };
        if let Some(why) = example.filter(|_| key != "folder") {
            return Err(ParseError::new(why));
        }
        let value = value.to_owned();
        Ok(match key {
            "id" => Self::Id(value.parse::<DeviceId>()?),
            "serial" => Self::Serial(value),
            "node" => Self::Node(value.to_ascii_lowercase()),
            "programmer" => Self::Programmer(value),
            "port" => Self::Port(value),
            "name" => Self::Name(value),
            "folder" => Self::Folder(value.into()),
            _ => Self::Any(value),
        })
    }
}

impl Selector {
    /// Whether a unit must be opened to match: only then is its serial number read.
    pub(super) fn wants_serial(&self) -> bool {
        matches!(self, Self::Serial(_) | Self::Any(_))
    }

    pub(super) fn fits(&self, candidate: &Candidate<'_>, serial: Option<&str>) -> bool {
        let port = |wanted: &str| candidate.location().port == wanted || candidate.location().to_string() == wanted;
        let name = |wanted: &str| {
            candidate.sheets.iter().any(|sheet| {
                let variants = candidate.variants_of(sheet);
                let product = [&sheet.product.id, &sheet.product.name].into_iter().chain(&sheet.product.also_sold_as);
                let mut names = product.chain(variants.iter().map(|variant| &variant.name));
                names.any(|name| name.eq_ignore_ascii_case(wanted))
            })
        };
        let behind = |of| candidate.device.node.as_ref().filter(|node| node.behind == of);
        match self {
            Self::Id(id) => candidate.id() == *id,
            Self::Serial(wanted) => serial == Some(wanted),
            Self::Node(wanted) => behind(Behind::Adapter).is_some_and(|node| node.id == *wanted),
            Self::Programmer(wanted) => behind(Behind::Programmer)
                .is_some_and(|node| node.kind == *wanted || node.id == *wanted || port(wanted)),
            Self::Port(wanted) => port(wanted),
            Self::Name(wanted) => name(wanted),
            // Resolved by the bus; see `shows`.
            Self::Folder(_) => false,
            Self::Any(wanted) => {
                wanted.parse::<DeviceId>().is_ok_and(|id| candidate.id() == id)
                    || serial == Some(wanted)
                    || port(wanted)
                    || name(wanted)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn selectors_are_read() {
        let id = "1209:0002".parse::<DeviceId>().unwrap();
        for (text, selector) in [
            ("id=1209:0002", Selector::Id(id)),
            ("serial=a=b", Selector::Serial("a=b".into())),
            ("port=1-1.4", Selector::Port("1-1.4".into())),
            ("node=5A0017C2", Selector::Node("5a0017c2".into())),
            ("programmer=linnet", Selector::Programmer("linnet".into())),
            ("name=Tern r1", Selector::Name("Tern r1".into())),
            ("1209:0002", Selector::Any("1209:0002".into())),
            ("colour=red", Selector::Any("colour=red".into())),
        ] {
            assert_eq!(text.parse::<Selector>(), Ok(selector));
        }
        for bad in ["", "id=", "id=12", "port="] {
            assert!(bad.parse::<Selector>().is_err(), "{bad}");
        }
    }
}
