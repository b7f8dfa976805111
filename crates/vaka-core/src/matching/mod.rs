//! Matching: which image fits which unit, and why.
//!
//! [`judge`] evaluates a [`MatchInput`] (sheet, unit, image, and the label that the user read) to
//! a [`Verdict`]. Each rule is a pure function that returns its observation and interpretation; a
//! single hard conflict refuses. Only a final verdict that fits yields an [`Approval`], and only
//! an approval permits a plan to be executed.

mod claim;
mod completeness_rules;
pub mod consent;
mod evidence;
mod fact_rules;
mod rules;
mod table_rules;
mod unit_rules;
mod verdict;

pub use claim::Claim;
pub use evidence::{Evidence, Source, Subject, Weight};
pub use verdict::{
    Approval, Choice, Consent, MatchInput, Outcome, Phase, Question, Verdict, all_self_identifying,
    filter_by_board_info, judge, labels, named_part, names_part, rank_variants,
};

pub use fact_rules::{image_version, replaced_version, version_in_flash, version_place};
pub(crate) use rules::pieces;
