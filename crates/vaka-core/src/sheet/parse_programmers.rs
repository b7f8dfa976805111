//! Boards that program the chips of a product.

use std::sync::Arc;

use super::parse::{Checked, Checker};
use super::parse_routes::DialectSettings;
use super::raw_route::{RawProgrammer, RawRoute};
use super::raw_value::Spanned;
use super::{EntryStep, Programmer};
use crate::unit::{DeviceId, NodeKind};
use vaka_base::text;
use vaka_dialect::{Carrier, OperationName};

/// The rule for keys that only a device of its own has.
const NO_DEVICE: &str = "does not apply to a route through a programmer, which has an id and wiring of its own";

impl Checker<'_> {
    pub(super) fn programmers(&self, raw: &[RawProgrammer]) -> Checked<Vec<Arc<Programmer>>> {
        let mut programmers: Vec<Arc<Programmer>> = Vec::new();
        for given in raw {
            let programmer = self.programmer(given)?;
            if programmers.iter().any(|other| other.name == programmer.name) {
                let message = format!("another [[programmer]] has the name '{}'", programmer.name);
                return Err(self.error(&given.name.span(), "name", message));
            }
            programmers.push(Arc::new(programmer));
        }
        Ok(programmers)
    }

    fn programmer(&self, raw: &RawProgrammer) -> Checked<Programmer> {
        let settings = DialectSettings { with: raw.with.as_ref(), secrets: raw.secrets.as_ref() };
        let dialect = self.dialect_with(&raw.dialect, settings)?;
        if matches!(dialect.carrier, Carrier::Can(_)) || dialect.operation(OperationName::Identify).is_none() {
            let message = format!("dialect '{}' must have [identify], over another carrier than CAN", dialect.name);
            return Err(self.error(&raw.dialect.span(), "dialect", message));
        }
        if !raw.id.get_ref().is_usb() {
            return Err(self.error(&raw.id.span(), "id", "a programmer has USB ids".into()));
        }
        let name = self.id("name", &raw.name)?;
        let Some(kind) = NodeKind::new(&name) else {
            let message = format!("a name of at most {} characters is required", NodeKind::MOST);
            return Err(self.error(&raw.name.span(), "name", message));
        };
        let wiring = raw.wiring.iter().map(|step| self.wiring_step(step)).collect::<Checked<Vec<_>>>()?;
        if wiring.is_empty() {
            let message = "[[programmer.wiring]] is required: the manual steps that connect it to a unit".into();
            return Err(self.error(&raw.name.span(), "wiring", message));
        }
        self.undo_is_possible(&raw.wiring, &wiring)?;
        Ok(Programmer {
            name,
            about: self.words("about", &raw.about)?,
            id: raw.id.get_ref().clone(),
            target: DeviceId::Target(kind).into(),
            dialect,
            wiring,
        })
    }

    fn wiring_step(&self, raw: &Spanned<super::raw_route::RawEntryStep>) -> Checked<EntryStep> {
        match self.entry_step(raw)? {
            step @ EntryStep::Manual(_) => Ok(step),
            EntryStep::Signal(_) => {
                Err(self.error(&raw.span(), "wiring", "a wiring step requires `do`: the user does it".into()))
            }
        }
    }

    /// The programmer of a route with `kind = "programmer"`.
    pub(super) fn programmer_of(&self, raw: &RawRoute, known: &[Arc<Programmer>]) -> Checked<Arc<Programmer>> {
        let Some(name) = &raw.programmer else {
            return Err(self.error(&raw.kind.span(), "kind", "`programmer` is required".into()));
        };
        self.stray("id", raw.id.as_ref(), NO_DEVICE)?;
        let texts =
            [("product", &raw.product), ("maker", &raw.maker), ("serial", &raw.serial), ("release", &raw.release)];
        for (key, text) in texts {
            self.stray(key, text.as_ref(), NO_DEVICE)?;
        }
        self.stray("entry", raw.entry.first(), NO_DEVICE)?;
        self.stray("listens", raw.listens.as_ref(), NO_DEVICE)?;
        if raw.tells.is_none() {
            let message = "`tells` is required: what the programmer reads from the chip, such as its signature".into();
            return Err(self.error(&raw.kind.span(), "tells", message));
        }
        known.iter().find(|programmer| programmer.name == *name.get_ref()).cloned().ok_or_else(|| {
            let names: Vec<&str> = known.iter().map(|programmer| programmer.name.as_str()).collect();
            let names = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
            let message =
                format!("no [[programmer]] has the name '{}'; existing: {names}", text::sanitize(name.get_ref()));
            self.error(&name.span(), "programmer", message)
        })
    }
}
