//! Which image fits which unit, and why.
//!
//! [`judge`] takes a [`MatchInput`] (sheet, unit, image, and what a person read on
//! the hardware) and gives a [`Verdict`]. Each rule is a pure
//! function that says what it saw and what that means; one hard conflict
//! refuses, whatever else agrees. Only a final verdict that fits becomes an
//! [`Approval`], and only an approval lets a plan be carried out.

mod claim;
mod completeness_rules;
mod evidence;
mod fact_rules;
mod rules;
mod unit_rules;
mod verdict;

pub use claim::Claim;
pub use evidence::{Evidence, Source, Subject, Weight};
pub use verdict::{
    Approval, Choice, Consent, MatchInput, Outcome, Phase, Question, Verdict, all_self_identifying,
    filter_by_board_info, judge, labels, rank_variants,
};

pub use fact_rules::{downgrade, image_version, version_in_flash, version_place};
pub(crate) use rules::piece;
