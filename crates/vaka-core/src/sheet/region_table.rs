//! A table in a unit's flash that gives regions their places.

use thiserror::Error;

use crate::sheet::region::Region;
use vaka_base::text;
use vaka_image::address::{Address, Span};
use vaka_image::completeness::IntForm;

/// The description of a table of regions: entries of one size, one after the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RegionTable {
    /// The region that holds it.
    pub region: Region,
    /// Bytes before the first entry.
    pub header: usize,
    /// Bytes of an entry.
    pub entry: usize,
    /// First bytes of each entry: the first entry without them ends the table. If empty, the first
    /// entry without a name does.
    pub magic: Vec<u8>,
    /// Offset and length of the name, which ends at a zero or at the length.
    pub name: (usize, usize),
    /// Offset and form of the address.
    pub address: (usize, IntForm),
    /// Offset and form of the size.
    pub size: (usize, IntForm),
    /// Added to each address.
    pub base: u64,
    /// Bytes in one unit of address and size; at least 1.
    pub unit: u64,
}

/// An entry of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableEntry {
    /// Name of the region.
    pub name: String,
    /// Its place.
    pub span: Span,
}

/// Largest number of entries. Chosen by us: tables of regions have some tens.
const MOST_ENTRIES: usize = 256;

/// Why bytes are no table.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum TableError {
    /// It has no entry.
    #[error("it has no entry")]
    Empty,
    /// It has more entries than any flash has regions.
    #[error("it has more than {MOST_ENTRIES} entries")]
    TooMany,
    /// Two entries have one name.
    #[error("two entries have the name '{0}'")]
    Twice(String),
    /// An entry is empty or exceeds the 32-bit address space.
    #[error("entry '{0}' is empty, or exceeds the 32-bit address space")]
    Place(String),
    /// Two entries overlap.
    #[error("entries '{0}' and '{1}' overlap")]
    Overlap(String, String),
}

/// The content of a unit's table, as far as it could be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TableReport {
    /// Its entries.
    Entries(Vec<TableEntry>),
    /// It could not be read, for this reason.
    Unreadable(String),
    /// Its bytes are no table.
    Damaged(TableError),
}

impl RegionTable {
    /// The entries of a table in the bytes from the start of its region.
    ///
    /// # Errors
    /// [`TableError`].
    pub fn parse(&self, bytes: &[u8]) -> Result<Vec<TableEntry>, TableError> {
        let mut entries: Vec<TableEntry> = Vec::new();
        for entry in bytes.get(self.header..).unwrap_or_default().chunks_exact(self.entry) {
            let Some(name) = self.name_of(entry) else { break };
            if entries.len() == MOST_ENTRIES {
                return Err(TableError::TooMany);
            }
            if entries.iter().any(|other| other.name == name) {
                return Err(TableError::Twice(name));
            }
            let span = self.span_of(entry).ok_or_else(|| TableError::Place(name.clone()))?;
            if let Some(other) = entries.iter().find(|other| other.span.common(span).is_some()) {
                return Err(TableError::Overlap(other.name.clone(), name));
            }
            entries.push(TableEntry { name, span });
        }
        if entries.is_empty() { Err(TableError::Empty) } else { Ok(entries) }
    }

    /// The content of a unit's table in the bytes of its region.
    pub fn report(&self, bytes: &[u8]) -> TableReport {
        self.parse(bytes).map_or_else(TableReport::Damaged, TableReport::Entries)
    }

    /// The name of an entry; `None` at the end of the table.
    fn name_of(&self, entry: &[u8]) -> Option<String> {
        let field = entry.get(self.name.0..)?.get(..self.name.1)?;
        let end = field.iter().position(|byte| *byte == 0).unwrap_or(field.len());
        let is_blank = field[..end].iter().all(|byte| matches!(byte, 0xFF | b' '));
        let is_entry = if self.magic.is_empty() { !is_blank } else { entry.starts_with(&self.magic) };
        is_entry.then(|| text::sanitize(&String::from_utf8_lossy(&field[..end])))
    }

    fn span_of(&self, entry: &[u8]) -> Option<Span> {
        let number = |(at, form): (usize, IntForm)| {
            let width = usize::try_from(form.width()).ok()?;
            form.parse(entry.get(at..)?.get(..width)?).checked_mul(self.unit)
        };
        let start = number(self.address)?.checked_add(self.base)?;
        let span = Span::new(Address::new(start), number(self.size)?)?;
        Some(span).filter(|span| !span.is_empty() && span.end().get() <= 1 << 32)
    }
}
