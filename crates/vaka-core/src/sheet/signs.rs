//! The descriptors of a unit that a sheet requires.

use std::fmt;

use crate::unit::UnitFacts;
use vaka_base::version::ReleaseNumber;
use vaka_base::{pattern, text};

/// Required texts and numbers in a unit's descriptors. All that are given must match.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DescriptorPattern {
    /// iProduct.
    pub product: Option<String>,
    /// iManufacturer.
    pub maker: Option<String>,
    /// iSerialNumber.
    pub serial: Option<SerialPattern>,
    /// bcdDevice, from and to.
    pub release: Option<(ReleaseNumber, ReleaseNumber)>,
}

/// One required descriptor, with the expected and the actual value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DescriptorCheck {
    /// The descriptor.
    pub kind: SignKind,
    /// The expected value.
    pub wanted: String,
    /// The actual value; `None` if the unit does not report it.
    pub found: Option<String>,
    /// Whether they match; `None` if the unit does not report it.
    pub is_so: Option<bool>,
}

/// The kind of descriptor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignKind {
    /// iProduct.
    Product,
    /// iManufacturer.
    Maker,
    /// iSerialNumber.
    Serial,
    /// bcdDevice.
    Release,
}

impl DescriptorPattern {
    /// Whether nothing is required.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Merges two sets; entries in `more` win.
    #[must_use]
    pub fn with(&self, more: &Self) -> Self {
        Self {
            product: more.product.clone().or_else(|| self.product.clone()),
            maker: more.maker.clone().or_else(|| self.maker.clone()),
            serial: more.serial.clone().or_else(|| self.serial.clone()),
            release: more.release.or(self.release),
        }
    }

    /// Compares each required descriptor with a unit.
    pub fn of(&self, unit: &UnitFacts) -> Vec<DescriptorCheck> {
        let quoted = |text: &String| format!("\"{text}\"");
        let text = |kind, wanted: &Option<String>, found: &Option<String>| {
            let wanted = wanted.as_ref()?;
            let is_so = found.as_ref().map(|found| found == wanted);
            Some(DescriptorCheck { kind, wanted: quoted(wanted), found: found.as_ref().map(quoted), is_so })
        };
        let serial = self.serial.as_ref().map(|form| DescriptorCheck {
            kind: SignKind::Serial,
            wanted: form.to_string(),
            found: unit.serial.clone(),
            is_so: unit.serial.as_ref().map(|serial| form.is(serial)),
        });
        let release = self.release.map(|(from, to)| DescriptorCheck {
            kind: SignKind::Release,
            wanted: if from == to { from.to_string() } else { format!("{from} to {to}") },
            found: Some(unit.release.to_string()),
            is_so: Some((from..=to).contains(&unit.release)),
        });
        let texts =
            [text(SignKind::Product, &self.product, &unit.product), text(SignKind::Maker, &self.maker, &unit.maker)];
        texts.into_iter().chain([serial, release]).flatten().collect()
    }

    /// Whether no unit can match both.
    pub fn exclude(&self, other: &Self) -> bool {
        let differ = |a: &Option<String>, b: &Option<String>| matches!((a, b), (Some(a), Some(b)) if a != b);
        let apart = |a: (ReleaseNumber, ReleaseNumber), b: (ReleaseNumber, ReleaseNumber)| a.1 < b.0 || b.1 < a.0;
        differ(&self.product, &other.product)
            || differ(&self.maker, &other.maker)
            || self.release.zip(other.release).is_some_and(|(a, b)| apart(a, b))
            || self.serial.as_ref().zip(other.serial.as_ref()).is_some_and(|(a, b)| a.excludes(b))
    }
}

/// A pattern for serial numbers: `*` matches any text, `?` one character.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialPattern(String);

impl SerialPattern {
    /// A form; any text is one that is not empty.
    pub fn new(form: &str) -> Option<Self> {
        (!form.is_empty() && text::sanitize(form) == form).then(|| Self(form.to_owned()))
    }

    /// Whether a serial number matches.
    pub fn is(&self, serial: &str) -> bool {
        pattern::matches(&self.0, serial)
    }

    /// Whether two patterns start differently, so that no number matches both.
    fn excludes(&self, other: &Self) -> bool {
        let open = |c: char| c == '*' || c == '?';
        let pairs = self.0.chars().zip(other.0.chars());
        pairs.take_while(|(a, b)| *a != '*' && *b != '*').any(|(a, b)| !open(a) && !open(b) && a != b)
    }
}

impl fmt::Display for SerialPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_that_begin_differently_exclude_each_other() {
        let excludes = |a: &str, b: &str| SerialPattern::new(a).unwrap().excludes(&SerialPattern::new(b).unwrap());
        assert!(excludes("T1-*", "T2-*"));
        assert!(!excludes("T1-*", "T?-0*") && !excludes("*1", "*2"));
    }
}
