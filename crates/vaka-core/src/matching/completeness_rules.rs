//! Whether a file is complete, and the proof.

use super::claim::Claim;
use super::evidence::{Evidence, Source, Weight};
use super::rules::{file_observation, pieces};
use crate::sheet::{ImageRules, Variant};
use vaka_image::Format;
use vaka_image::Image;
use vaka_image::completeness::Proof;
use vaka_image::stamp::{self, SealState, StampSearch};

/// One row of evidence about completeness: it agrees if any proof holds and conflicts if any
/// proof fails. A file without a proof is not refused; the row states that.
pub(super) fn completeness(variant: &Variant, image: &Image, claim: Option<&Claim>) -> Evidence {
    let (mut proofs, mut failures) = (Vec::from_iter(of_format(image)), Vec::new());
    if image.facts().opaque.as_ref().is_some_and(|opaque| opaque.proves_whole) {
        proofs.push("its header");
    }
    if claim.is_some() {
        proofs.push("the release's digest");
    }
    let proves_all = !proofs.is_empty();
    let mut unproven = Vec::new();
    for (rules, piece) in pieces(variant, image) {
        let before = proofs.len();
        of_rules(rules, &piece, &mut proofs, &mut failures);
        if let StampSearch::One(stamp) = stamp::find(&piece, rules.stamp_offset)
            && stamp.seal == SealState::Good
        {
            proofs.push("the stamp's digest");
        }
        if !proves_all && proofs.len() == before {
            unproven.push(rules.region.name.as_str());
        }
    }
    proofs.dedup();
    match (&failures[..], &proofs[..]) {
        ([first, ..], _) => file_observation(variant, Source::Completeness, "not whole").conflicts(first.clone()),
        ([], []) => file_observation(variant, Source::Completeness, "not proven")
            .weighs(Weight::Neutral, "the file has no proof that it is complete"),
        ([], _) if !unproven.is_empty() => file_observation(variant, Source::Completeness, "not proven").weighs(
            Weight::Neutral,
            format!("the data for region '{}' has no proof that it is complete", unproven.join("', '")),
        ),
        ([], proofs) => {
            file_observation(variant, Source::Completeness, "whole").agrees(format!("proven by {}", proofs.join(", ")))
        }
    }
}

/// The proof that the file format provides. A reader refuses a file whose proof fails.
fn of_format(image: &Image) -> Option<&'static str> {
    match image.format() {
        Format::IntelHex | Format::SRecord => Some("its end record"),
        Format::Uf2 => Some("its block numbers"),
        Format::Elf => Some("its program headers"),
        Format::Dfu if image.facts().dfu.is_some() => Some("its suffix CRC"),
        Format::Dfu | Format::Binary => None,
    }
}

fn of_rules(rules: &ImageRules, image: &Image, proofs: &mut Vec<&'static str>, failures: &mut Vec<String>) {
    let mut note = |name: &'static str, proof: Proof| match proof {
        Proof::Holds => proofs.push(name),
        Proof::Fails(words) => failures.push(format!("by its {name}, {words}")),
    };
    if let Some(length) = &rules.length {
        note("length", length.check(image));
    }
    if let Some(checksum) = &rules.checksum {
        note("checksum", checksum.check(image, rules.length.as_ref()));
    }
}
