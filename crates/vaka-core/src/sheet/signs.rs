//! What a unit says of itself besides its ids, and what of it must be so.

use std::fmt;

use crate::unit::UnitFacts;
use vaka_base::version::ReleaseNumber;
use vaka_base::{pattern, text};

/// Texts and numbers in a unit's descriptors that a sheet counts on. All that is given
/// must be so.
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

/// One sign, as it should be and as it was seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DescriptorCheck {
    /// What it is.
    pub kind: SignKind,
    /// What the sheet says.
    pub wanted: String,
    /// What the unit says; nothing if it does not tell.
    pub found: Option<String>,
    /// Whether it is so; not known where the unit does not tell.
    pub is_so: Option<bool>,
}

/// What a sign is.
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
    /// Whether nothing is counted on.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What these signs are without those that `more` gives, and with those.
    #[must_use]
    pub fn with(&self, more: &Self) -> Self {
        Self {
            product: more.product.clone().or_else(|| self.product.clone()),
            maker: more.maker.clone().or_else(|| self.maker.clone()),
            serial: more.serial.clone().or_else(|| self.serial.clone()),
            release: more.release.or(self.release),
        }
    }

    /// Each sign beside what a unit says.
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

    /// Whether no unit can show both.
    pub fn exclude(&self, other: &Self) -> bool {
        let differ = |a: &Option<String>, b: &Option<String>| matches!((a, b), (Some(a), Some(b)) if a != b);
        let apart = |a: (ReleaseNumber, ReleaseNumber), b: (ReleaseNumber, ReleaseNumber)| a.1 < b.0 || b.1 < a.0;
        differ(&self.product, &other.product)
            || differ(&self.maker, &other.maker)
            || self.release.zip(other.release).is_some_and(|(a, b)| apart(a, b))
            || self.serial.as_ref().zip(other.serial.as_ref()).is_some_and(|(a, b)| a.excludes(b))
    }
}

/// The form of a serial number: `*` stands for anything, `?` for one character.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SerialPattern(String);

impl SerialPattern {
    /// A form; any text is one that is not empty.
    pub fn new(form: &str) -> Option<Self> {
        (!form.is_empty() && text::sanitize(form) == form).then(|| Self(form.to_owned()))
    }

    /// Whether a serial number has it.
    pub fn is(&self, serial: &str) -> bool {
        pattern::matches(&self.0, serial)
    }

    /// Whether two forms begin differently, so that no number has both.
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
