//! Ids of devices: USB ids with wildcards, kinds of nodes, and programmers.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use vaka_base::ParseError;

use crate::placeholder;
use crate::unit::{DeviceId, NodeKind, UsbId};

/// The ids of a device: one or more patterns such as `1209:0002` or `1209:00f?`, where `?`
/// matches any digit, a kind of nodes such as `can:turnstone`, or a programmer such as `programmer:linnet`.
#[derive(Clone, PartialEq, Eq, Hash)]
pub struct Ids(Vec<Pattern>);

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Pattern {
    Usb {
        value: u32,
        /// Bits of the digits that are not wildcards.
        mask: u32,
    },
    Node(NodeKind),
    Target(NodeKind),
}

/// Vendor and product id as one number.
fn number(id: UsbId) -> u32 {
    u32::from(id.vendor) << 16 | u32::from(id.product)
}

impl Pattern {
    fn is(self, id: DeviceId) -> bool {
        match (self, id) {
            (Self::Usb { value, mask }, DeviceId::Usb(id)) => number(id) & mask == value,
            (Self::Node(kind), DeviceId::Node(found)) | (Self::Target(kind), DeviceId::Target(found)) => kind == found,
            _ => false,
        }
    }

    /// Whether some id matches both.
    fn overlaps(self, other: Self) -> bool {
        match (self, other) {
            (Self::Usb { value, mask }, Self::Usb { value: theirs, mask: their_mask }) => {
                (value ^ theirs) & mask & their_mask == 0
            }
            (one, other) => one == other,
        }
    }

    /// The only USB id that matches, if it is one.
    fn usb(self) -> Option<UsbId> {
        let Self::Usb { value, mask: u32::MAX } = self else { return None };
        let half = |value: u32| u16::try_from(value & 0xFFFF).unwrap_or(0);
        Some(UsbId { vendor: half(value >> 16), product: half(value) })
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (value, mask) = match self {
            Self::Node(kind) => return DeviceId::Node(*kind).fmt(f),
            Self::Target(kind) => return DeviceId::Target(*kind).fmt(f),
            Self::Usb { value, mask } => (value, mask),
        };
        for place in (0..8).rev() {
            match mask >> (place * 4) & 0xF {
                0 => f.write_str("?")?,
                _ => write!(f, "{:x}", value >> (place * 4) & 0xF)?,
            }
            if place == 4 {
                f.write_str(":")?;
            }
        }
        Ok(())
    }
}

/// Reads one pattern.
///
/// # Examples
/// ```
/// use vaka_core::sheet::Ids;
/// use vaka_core::unit::UsbId;
///
/// let id = UsbId { vendor: 0x1209, product: 2 };
/// assert!("1209:0002".parse::<Ids>()?.is(id.into()));
/// assert!(!"1209:0003".parse::<Ids>()?.is(id.into()));
/// # Ok::<(), vaka_base::ParseError>(())
/// ```
impl FromStr for Ids {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        if text.starts_with(DeviceId::NODE) || text.starts_with(DeviceId::TARGET) {
            return Ok(text.parse::<DeviceId>()?.into());
        }
        let wrong =
            || ParseError::new(format!("'{text}' is not a USB id; write it like 1209:0002, with ? for any digit"));
        if let Some(why) = placeholder::of_id(text) {
            return Err(ParseError::new(why));
        }
        let (vendor, product) = text.split_once(':').ok_or_else(wrong)?;
        let half = |digits: &str| -> Option<(u32, u32)> {
            let digits = digits.as_bytes();
            let read = |(value, mask): (u32, u32), digit: &u8| match digit {
                b'?' => Some((value << 4, mask << 4)),
                _ => Some((value << 4 | char::from(*digit).to_digit(16)?, mask << 4 | 0xF)),
            };
            let padded = 0xFFFF_u32.checked_shl(u32::try_from(digits.len()).ok()? * 4)? & 0xFFFF;
            let found = digits.iter().try_fold((0, 0), read).filter(|_| (1..=4).contains(&digits.len()))?;
            Some((found.0, found.1 | padded))
        };
        let (vendor, product) = half(vendor).zip(half(product)).ok_or_else(wrong)?;
        if vendor.1 != 0xFFFF {
            let why = format!("'{text}' has a wildcard in the vendor id, which would match other vendors' devices");
            return Err(ParseError::new(why));
        }
        Ok(Self(vec![Pattern::Usb { value: vendor.0 << 16 | product.0, mask: vendor.1 << 16 | product.1 }]))
    }
}

impl Ids {
    /// Whether the id matches.
    pub fn is(&self, id: DeviceId) -> bool {
        self.0.iter().any(|pattern| pattern.is(id))
    }

    /// Whether some id matches both.
    pub fn overlap(&self, other: &Self) -> bool {
        self.0.iter().any(|a| other.0.iter().any(|b| a.overlaps(*b)))
    }

    /// Each USB id; `None` for a pattern with wildcards and for what has other ids.
    pub fn each(&self) -> impl Iterator<Item = Option<UsbId>> + '_ {
        self.0.iter().map(|pattern| pattern.usb())
    }

    /// A USB id that matches: the first one, with 0 in place of each wildcard.
    pub fn example(&self) -> Option<UsbId> {
        let value = |pattern: &Pattern| if let Pattern::Usb { value, .. } = pattern { Some(*value) } else { None };
        let of = |value: u32| Pattern::Usb { value, mask: u32::MAX }.usb();
        self.0.iter().find_map(value).and_then(of)
    }

    /// Whether all are USB ids.
    pub fn is_usb(&self) -> bool {
        self.0.iter().all(|pattern| matches!(pattern, Pattern::Usb { .. }))
    }
}

impl From<DeviceId> for Ids {
    fn from(id: DeviceId) -> Self {
        Self(vec![match id {
            DeviceId::Usb(id) => Pattern::Usb { value: number(id), mask: u32::MAX },
            DeviceId::Node(kind) => Pattern::Node(kind),
            DeviceId::Target(kind) => Pattern::Target(kind),
        }])
    }
}

impl fmt::Display for Ids {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, pattern) in self.0.iter().enumerate() {
            if index > 0 {
                f.write_str(" or ")?;
            }
            pattern.fmt(f)?;
        }
        Ok(())
    }
}

impl fmt::Debug for Ids {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for Ids {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Ids {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Texts;
        impl<'de> de::Visitor<'de> for Texts {
            type Value = Ids;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("USB ids like \"1209:0002\", or a list of them")
            }

            fn visit_str<E: de::Error>(self, text: &str) -> Result<Ids, E> {
                text.parse::<Ids>().map_err(E::custom)
            }

            fn visit_seq<A: de::SeqAccess<'de>>(self, mut list: A) -> Result<Ids, A::Error> {
                let mut all = Vec::new();
                while let Some(text) = list.next_element::<String>()? {
                    all.extend(text.parse::<Ids>().map_err(de::Error::custom)?.0);
                }
                if all.is_empty() { Err(de::Error::custom("at least one USB id is required")) } else { Ok(Ids(all)) }
            }
        }
        deserializer.deserialize_any(Texts)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn id(text: &str) -> DeviceId {
        text.parse::<DeviceId>().unwrap()
    }

    #[test]
    fn an_open_digit_is_any_digit_and_no_more() {
        let ids = "1209:00F?".parse::<Ids>().unwrap();
        assert_eq!(ids.to_string(), "1209:00f?");
        for (text, meant) in [("1209:00f0", true), ("1209:00ff", true), ("1209:01f0", false), ("1208:00f0", false)] {
            assert_eq!(ids.is(id(text)), meant, "{text}");
        }
        assert!("1209:2".parse::<Ids>().unwrap().is(id("1209:0002")));
        assert!(!"1209:2".parse::<Ids>().unwrap().is(id("1209:1002")));
        for bad in ["", "1209", "12?9:0001", "1209:00001", "1209:g", "1209:", "1234:5678", "ffff:ffff", "can:"] {
            assert!(bad.parse::<Ids>().is_err(), "{bad}");
        }
    }

    #[test]
    fn patterns_overlap_where_an_id_fits_both() {
        let ids = |text: &str| text.parse::<Ids>().unwrap();
        assert!(ids("1209:00?2").overlap(&ids("1209:001?")));
        assert!(!ids("1209:00?2").overlap(&ids("1209:0013")));
        assert!(!ids("1209:0002").overlap(&ids("1208:0002")));
        assert!(ids("can:knot").overlap(&ids("can:knot")) && !ids("can:knot").overlap(&ids("can:knots")));
        assert!(ids("can:knot").is(id("can:knot")) && !ids("can:knot").is(id("1209:0002")));
        assert!(!ids("can:knot").overlap(&ids("programmer:knot")) && ids("programmer:knot").is(id("programmer:knot")));
        for name in ["can:knot", "programmer:knot"] {
            assert_eq!((ids(name).to_string().as_str(), ids(name).is_usb()), (name, false));
        }
        assert!(ids("1209:00?2").is_usb());
    }
}
