//! What has been done to which sector.

use crate::address::Span;

/// How far one sector is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum SectorState {
    /// As it was found.
    Untouched,
    /// An erase was begun; what it holds is not known.
    Erasing,
    /// Erased.
    Erased,
    /// Some of its blocks are written.
    Writing,
    /// All of its blocks were taken by the unit.
    Written,
    /// Read back and equal.
    Verified,
}

/// The sectors of a plan, and how far each is. Sectors only move forward.
#[derive(Clone, Debug)]
pub struct Ledger {
    sectors: Vec<(Span, SectorState)>,
}

impl Ledger {
    /// A ledger in which nothing was done yet.
    pub fn new(sectors: &[Span]) -> Self {
        Self { sectors: sectors.iter().map(|sector| (*sector, SectorState::Untouched)).collect() }
    }

    /// Moves every sector that `span` touches forward to `state`.
    pub fn advance(&mut self, span: Span, state: SectorState) {
        for (sector, now) in &mut self.sectors {
            if sector.common(span).is_some() {
                *now = (*now).max(state);
            }
        }
    }

    /// How many sectors are at least that far.
    pub fn count(&self, state: SectorState) -> usize {
        self.sectors.iter().filter(|(_, now)| *now >= state).count()
    }

    /// The sectors that are not as they were found.
    pub fn touched(&self) -> impl Iterator<Item = Span> + '_ {
        self.sectors.iter().filter(|(_, now)| *now > SectorState::Untouched).map(|(sector, _)| *sector)
    }

    /// How many sectors there are.
    pub fn len(&self) -> usize {
        self.sectors.len()
    }

    /// Whether the plan touches no sector.
    pub fn is_empty(&self) -> bool {
        self.sectors.is_empty()
    }

    /// Whether no sector was touched.
    pub fn is_untouched(&self) -> bool {
        self.count(SectorState::Erasing) == 0
    }
}
