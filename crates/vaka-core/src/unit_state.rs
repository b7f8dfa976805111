//! The state of a unit at the end of a run.
//!
//! [`UnitState`] is derived from everything that a run did to the unit (see
//! [`Ledger::content`](crate::plan::Ledger::content)) and from the observations after the
//! restart, never from the last attempt alone.

use std::fmt;

use serde::{Deserialize, Serialize};

/// The known content and mode of a unit at the end of a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum UnitState {
    /// Nothing was erased or written; the unit is not in update mode.
    Unchanged,
    /// Nothing was erased or written; the unit is in update mode.
    UnchangedInUpdateMode,
    /// An erase was begun, and no byte of the image is in the erased sectors.
    PartlyErased,
    /// The unit has some bytes of the image; others are missing or differ.
    PartlyWritten,
    /// The unit accepted every byte of the image; not all of them were compared.
    WrittenNotChecked,
    /// Every byte of the image was compared and is equal; the application was not seen running.
    CheckedNotStarted,
    /// The unit left update mode after the update; whether its application runs was not observed.
    Restarted,
    /// The application was seen running.
    Running,
    /// The run sent a request whose effect was not observed.
    Unknown,
}

impl UnitState {
    /// The state as text for messages and reports.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Unchanged => "unchanged",
            Self::UnchangedInUpdateMode => "in update mode, unchanged",
            Self::PartlyErased => "partly erased",
            Self::PartlyWritten => "partly written",
            Self::WrittenNotChecked => "written, not checked",
            Self::CheckedNotStarted => "written and checked, not started",
            Self::Restarted => "restarted, not observed",
            Self::Running => "running",
            Self::Unknown => "unknown",
        }
    }

    /// Whether the run changed no byte of the unit.
    pub fn is_unchanged(self) -> bool {
        matches!(self, Self::Unchanged | Self::UnchangedInUpdateMode)
    }
}

impl fmt::Display for UnitState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_unit_that_nothing_was_done_to_is_unchanged() {
        use UnitState as S;
        for state in [
            S::PartlyErased,
            S::PartlyWritten,
            S::WrittenNotChecked,
            S::CheckedNotStarted,
            S::Restarted,
            S::Running,
            S::Unknown,
        ] {
            assert!(!state.is_unchanged(), "{state}");
        }
        assert!(S::Unchanged.is_unchanged() && S::UnchangedInUpdateMode.is_unchanged());
        assert_eq!(S::WrittenNotChecked.to_string(), "written, not checked");
    }
}
