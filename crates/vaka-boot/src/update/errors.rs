//! Why an update is refused, and the remedy.

use vaka_core::matching::{Evidence, Question, Source, Subject, Verdict, Weight};
use vaka_core::sheet::{Sheet, Variant, VariantId};
use vaka_image::ReadError;
use vaka_image::address::Address;

use crate::bench::open_error::held;
use crate::failure::{Failure, FailureKind, RefusalReason, UnitCondition};
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;

pub(super) fn refused(verdict: &Verdict, sheet: &Sheet) -> Failure {
    let evidence = || match verdict.conflicts().next() {
        Some(evidence) => RefusalReason::Evidence(Box::new(evidence.clone())),
        None => RefusalReason::Undecided,
    };
    let reason = label_alone(verdict).or_else(|| near_miss(verdict)).unwrap_or_else(evidence);
    Failure::new(FailureKind::Refused(reason)).remedy(remedy(verdict, sheet))
}

/// The remedy for the conflicting evidence.
fn remedy(verdict: &Verdict, sheet: &Sheet) -> Remedy {
    let chosen = verdict.variant.as_ref().and_then(|id| sheet.variant(id.as_str()));
    if let Some(instead) = chosen.and_then(|variant| variant.instead.as_ref()) {
        // The maintainer's words only.
        return Remedy::Instead(instead.clone());
    }
    if !verdict.missing_consents.is_empty() {
        return Remedy::Consent(verdict.missing_consents.iter().map(|consent| consent.id.clone()).collect());
    }
    let Some(variant) = chosen else {
        return match made_for(verdict) {
            Some(variant) => Remedy::TakeFileForUnit { not: variant.clone() },
            None => Remedy::NoVariantOf(sheet.product.name.clone()),
        };
    };
    if label_alone(verdict).is_some() {
        return Remedy::RereadLabelOnly;
    }
    if let Some(part) = other_part(verdict, sheet) {
        return Remedy::SelectPart(part.to_owned());
    }
    if is_not_whole(verdict) {
        return Remedy::FetchFile;
    }
    if let Some(start) = wrong_start(verdict, variant) {
        return start;
    }
    let is_self_identifying = identifies_itself(verdict, variant);
    let has_file_conflict = verdict.conflicts().any(|evidence| evidence.about == Subject::File);
    match (&verdict.compatible[..], has_file_conflict) {
        ([_, ..], _) => Remedy::TakeFileFor {
            made_for: verdict.compatible.clone(),
            wanted: variant.id.clone(),
            or_label: !is_self_identifying,
        },
        // The file matches the variant given by the user, but the device identifies as another.
        ([], false) if is_self_identifying => Remedy::CompareDescription(variant.id.clone()),
        ([], false) => Remedy::ReadLabelAndTakeFile(variant.id.clone()),
        ([], true) => Remedy::TakeFileBuiltFor { product: sheet.product.name.clone(), variant: variant.id.clone() },
    }
}

/// Only the label conflicts: it names another variant than unit and file, which agree.
fn label_alone(verdict: &Verdict) -> Option<RefusalReason> {
    let label = verdict.evidence.iter().find(|evidence| evidence.source == Source::Label)?;
    let by_ids = label.is_conflict();
    // The unit identifies as another variant, and the file is for that one.
    let other = verdict.identified.as_ref().filter(|other| verdict.variant.as_ref() != Some(*other))?;
    // A file without a conflict is for the variant of the label.
    let is_for_another = verdict.conflicts().any(|evidence| evidence.about == Subject::File);
    let fits_file = verdict.compatible.contains(other) || by_ids && is_for_another && verdict.compatible.is_empty();
    fits_file.then(|| RefusalReason::LabelAlone { variant: other.clone(), label: label.says.clone() })
}

/// Whether the unit identifies its variant itself, so that no label is needed.
fn identifies_itself(verdict: &Verdict, variant: &Variant) -> bool {
    let decides = |evidence: &&Evidence| {
        let is_its = evidence.variant.as_ref().is_none_or(|id| *id == variant.id);
        evidence.about == Subject::Unit && evidence.weight == Weight::Decisive && is_its
    };
    verdict.evidence.iter().any(|evidence| decides(&evidence))
}

/// Whether the file itself shows that it is damaged or truncated.
fn is_not_whole(verdict: &Verdict) -> bool {
    verdict.conflicts().any(|evidence| evidence.source == Source::Completeness)
}

/// A file that carries the variant's own marks and starts elsewhere was linked for another
/// address.
fn wrong_start(verdict: &Verdict, variant: &Variant) -> Option<Remedy> {
    let of_variant = |source: Source| {
        let same =
            move |evidence: &&Evidence| evidence.source == source && evidence.variant.as_ref() == Some(&variant.id);
        verdict.evidence.iter().filter(same)
    };
    // A further image has another start.
    let is_own = |start: &&Evidence| {
        let own = variant.image.region.span;
        variant.further.is_empty() || start.says.parse().is_ok_and(|at: Address| own.contains(at))
    };
    let start = of_variant(Source::StartAddress).find(|evidence| evidence.is_conflict()).filter(is_own)?;
    let (mut marks, mut stamps) = (of_variant(Source::Mark), of_variant(Source::Stamp));
    let is_ours = marks.clone().next().is_some() && marks.all(|mark| !mark.is_conflict());
    let is_stamped = stamps.next().is_some_and(|stamp| !stamp.is_conflict());
    (is_ours || is_stamped).then(|| Remedy::Relink {
        variant: variant.id.clone(),
        starts_at: start.says.clone(),
        wanted: variant.image.region.span.start(),
    })
}

/// The variant the file targets, if none was selected and the device contradicts it.
fn made_for(verdict: &Verdict) -> Option<&VariantId> {
    let of = |id: &VariantId, about| {
        let evidence = verdict.evidence.iter().filter(move |e| e.variant.as_ref() == Some(id) && e.about == about);
        evidence.filter(|evidence| evidence.is_conflict()).count()
    };
    let mut variants = verdict.evidence.iter().filter_map(|evidence| evidence.variant.as_ref());
    variants.find(|id| verdict.variant.is_none() && of(id, Subject::File) == 0 && of(id, Subject::Unit) > 0)
}

/// Why a file for another variant does not fit: its target, and the report of the unit that
/// contradicts it.
fn near_miss(verdict: &Verdict) -> Option<RefusalReason> {
    let variant = made_for(verdict)?;
    let against = |evidence: &&Evidence| {
        evidence.is_conflict() && evidence.about == Subject::Unit && evidence.variant.as_ref() == Some(variant)
    };
    let against = verdict.evidence.iter().find(against)?;
    Some(RefusalReason::MadeFor { variant: variant.clone(), against: Box::new(against.clone()) })
}

/// The part that the file is for, if it is not the part of the unit.
fn other_part<'a>(verdict: &Verdict, sheet: &'a Sheet) -> Option<&'a str> {
    let part = |id: &VariantId| sheet.variant(id.as_str())?.part.as_deref();
    let own = part(verdict.variant.as_ref()?);
    verdict.compatible.iter().filter_map(part).find(|other| Some(*other) != own)
}

pub(crate) fn undecided(question: &Question) -> Failure {
    let variants = question.choices.iter().map(|choice| choice.variant.clone()).collect();
    Failure::new(FailureKind::Undecided).unchanged().remedy(Remedy::ReadLabel { variants })
}

pub(super) fn unreadable(error: &ReadError) -> Failure {
    let remedy = if matches!(error, ReadError::Join(_)) { Remedy::CheckJoin } else { Remedy::FetchFile };
    Failure::new(FailureKind::File(error.clone())).unit(UnitCondition::NoUnit).remedy(remedy)
}

pub(super) fn not_opened(error: &SessionError, place: &str) -> Failure {
    if let SessionError::Busy(by) = error {
        return held(place, by);
    }
    let remedy = error.own_remedy().unwrap_or(Remedy::ReplugAndReenter);
    Failure::new(FailureKind::NotOpened(error.clone())).unchanged().remedy(remedy)
}

pub(super) fn internal(what: &str) -> Failure {
    Failure::new(FailureKind::Internal(what.to_owned())).unchanged().remedy(Remedy::ReportFault)
}
