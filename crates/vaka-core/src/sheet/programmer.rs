//! Boards that write a chip through its pins.

use std::sync::Arc;

use crate::sheet::entry_step::EntryStep;
use crate::sheet::ids::Ids;
use vaka_dialect::{Carrier, Dialect};

/// A board that is wired to the pins of a unit's chip, and programs it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Programmer {
    /// Short name, for `--unit programmer=NAME`.
    pub name: String,
    /// Full name.
    pub about: String,
    /// Its USB ids.
    pub id: Ids,
    /// The ids of the chips that are wired to it: `programmer:NAME`.
    pub target: Ids,
    /// The dialect in which it is spoken to.
    pub dialect: Arc<Dialect>,
    /// The manual steps that wire it to a unit; at least one.
    pub wiring: Vec<EntryStep>,
}

impl Programmer {
    /// Whether it is spoken to on a serial port.
    pub fn has_serial_port(&self) -> bool {
        matches!(self.dialect.carrier, Carrier::Serial(_))
    }
}
