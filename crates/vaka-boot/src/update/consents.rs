//! The consents that the update itself asks for.

/// Agreement ids that the job itself looks at.
pub(super) const NO_SHEET: &str = "no-sheet";
pub(super) const UNPROTECT: &str = "unprotect";
pub(super) const LOSE_REST: &str = "lose-rest-of-sectors";
