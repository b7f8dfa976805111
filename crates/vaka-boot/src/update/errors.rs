//! Why an update is refused, in words with a cure.

use vaka_core::event::{ExitCode, Failure};
use vaka_core::matching::{Evidence, Question, Source, Subject, Verdict, Weight};
use vaka_core::sheet::{Sheet, Variant, VariantId};
use vaka_image::ReadError;

use crate::bench::open_error::held;
use crate::protocol::session::SessionError;

pub(super) fn refused(verdict: &Verdict, sheet: &Sheet) -> Failure {
    let conflict = verdict.conflicts().next();
    let reason = conflict.map_or("it cannot be decided".to_owned(), |evidence| evidence.sentence());
    let reason = label_alone(verdict).or_else(|| near_miss(verdict)).unwrap_or(reason);
    let failure = Failure::new(ExitCode::Refused, format!("Refused: {reason}."));
    failure.cure(remedy(verdict, sheet))
}

/// What helps, from the evidence that conflicts.
fn remedy(verdict: &Verdict, sheet: &Sheet) -> String {
    let names = |ids: &[VariantId]| ids.iter().map(|id| id.as_str()).collect::<Vec<_>>().join(", ");
    let chosen = verdict.variant.as_ref().and_then(|id| sheet.variant(id.as_str()));
    if let Some(instead) = chosen.and_then(|variant| variant.instead.as_ref()) {
        // The maintainer's words, and nothing beside them.
        return format!("The sheet says what is done instead: {}.", instead.trim_end_matches('.'));
    }
    if !verdict.missing.is_empty() {
        let options: Vec<String> =
            verdict.missing.iter().map(|agreement| format!("--agree {}", agreement.id)).collect();
        return format!("If that is what you want: {}.", options.join(" "));
    }
    let Some(variant) = chosen else {
        return match made_for(verdict) {
            Some(variant) => format!("Take the file for the variant that this unit is; it is not {variant}."),
            None => format!("This is not a file for any variant of {}.", sheet.product.name),
        };
    };
    if label_alone(verdict).is_some() {
        return "Read the label again: the unit and the file agree with each other.".to_owned();
    }
    if let Some(part) = other_part(verdict, sheet) {
        return format!("The file is for another part of the product: --part {part}.");
    }
    if is_not_whole(verdict) {
        return "Fetch or build the file again; 'vaka check FILE' shows what it is.".to_owned();
    }
    if let Some(start) = wrong_start(verdict, variant) {
        return start;
    }
    let is_told = identifies_itself(verdict, variant);
    match (&verdict.would_fit[..], verdict.conflicts().any(|evidence| evidence.about == Subject::File)) {
        ([_, ..], _) if is_told => {
            format!("The file is for {}; take the file for {}.", names(&verdict.would_fit), variant.id)
        }
        ([_, ..], _) => format!(
            "The file is for {}. Take the file for {}, or read the label again.",
            names(&verdict.would_fit),
            variant.id
        ),
        // The file is right for what was said, and the unit says that it is not that.
        ([], false) if is_told => {
            format!(
                "This unit does not match the description of {} in the sheet; compare it with 'vaka survey'.",
                variant.id
            )
        }
        ([], false) => format!(
            "By its own report this unit is not {}. Read its label again, and take the file for what it says.",
            variant.id
        ),
        ([], true) => format!("Take the file that was built for {} {}.", sheet.product.name, variant.id),
    }
}

/// The label is the only thing that disagrees: it names another variant than the one that unit
/// and file agree on.
fn label_alone(verdict: &Verdict) -> Option<String> {
    let label = verdict.evidence.iter().find(|evidence| evidence.source == Source::Label)?;
    let by_ids = label.is_conflict();
    // The unit names another variant by itself, and the file is for that one.
    let other = verdict.identified.as_ref().filter(|other| verdict.variant.as_ref() != Some(*other))?;
    let fits_file = verdict.would_fit.contains(other) || by_ids && verdict.would_fit.is_empty();
    fits_file
        .then(|| format!("the unit and the file are both {other}, and the printed label was given as {}", label.says))
}

/// Whether the unit itself tells which variant it is, so that no label is needed.
fn identifies_itself(verdict: &Verdict, variant: &Variant) -> bool {
    let decides = |evidence: &&Evidence| {
        let is_its = evidence.variant.as_ref().is_none_or(|id| *id == variant.id);
        evidence.about == Subject::Unit && evidence.weight == Weight::Decisive && is_its
    };
    verdict.evidence.iter().any(|evidence| decides(&evidence))
}

/// Whether the file itself shows that it is damaged or cut short.
fn is_not_whole(verdict: &Verdict) -> bool {
    verdict.conflicts().any(|evidence| evidence.source == Source::Completeness)
}

/// A file that carries the variant's own marks and starts elsewhere was linked for another
/// address.
fn wrong_start(verdict: &Verdict, variant: &Variant) -> Option<String> {
    let of_variant = |source: Source| {
        let same =
            move |evidence: &&Evidence| evidence.source == source && evidence.variant.as_ref() == Some(&variant.id);
        verdict.evidence.iter().filter(same)
    };
    let start = of_variant(Source::StartAddress).find(|evidence| evidence.is_conflict())?;
    let (mut marks, mut stamps) = (of_variant(Source::Mark), of_variant(Source::Stamp));
    let is_ours = marks.clone().next().is_some() && marks.all(|mark| !mark.is_conflict());
    let is_stamped = stamps.next().is_some_and(|stamp| !stamp.is_conflict());
    (is_ours || is_stamped).then(|| {
        let wanted = variant.image.region.span.start();
        format!(
            "The file is built for {}, and starts at {}; {} starts applications at {wanted}. Relink it for {wanted}, or take the file that was linked for that.",
            variant.id, start.says, variant.id
        )
    })
}

/// The variant that a file is for by itself, where no variant is settled and the unit says
/// that it is not that one.
fn made_for(verdict: &Verdict) -> Option<&VariantId> {
    let of = |id: &VariantId, about| {
        let evidence = verdict.evidence.iter().filter(move |e| e.variant.as_ref() == Some(id) && e.about == about);
        evidence.filter(|evidence| evidence.is_conflict()).count()
    };
    let mut variants = verdict.evidence.iter().filter_map(|evidence| evidence.variant.as_ref());
    variants.find(|id| verdict.variant.is_none() && of(id, Subject::File) == 0 && of(id, Subject::Unit) > 0)
}

/// Why a file for another variant than the unit's does not fit: what it is for, and what
/// of the unit says that it is not that.
fn near_miss(verdict: &Verdict) -> Option<String> {
    let variant = made_for(verdict)?;
    let against = |evidence: &&Evidence| {
        evidence.is_conflict() && evidence.about == Subject::Unit && evidence.variant.as_ref() == Some(variant)
    };
    let against = verdict.evidence.iter().find(against)?;
    Some(format!("the file is made for {variant}; this unit's {}", against.sentence()))
}

/// The part that the file is for, where that is another one than the unit's.
fn other_part<'a>(verdict: &Verdict, sheet: &'a Sheet) -> Option<&'a str> {
    let part = |id: &VariantId| sheet.variant(id.as_str())?.part.as_deref();
    let own = part(verdict.variant.as_ref()?);
    verdict.would_fit.iter().filter_map(part).find(|other| Some(*other) != own)
}

pub(crate) fn undecided(question: &Question) -> Failure {
    let options: Vec<String> = question.choices.iter().map(|choice| format!("--variant {}", choice.variant)).collect();
    Failure::new(
        ExitCode::Refused,
        "The unit's ids do not tell which variant it is, and nobody said what is printed on it.",
    )
    .state("Nothing was changed in the unit.")
    .cure(format!("Read the label on the unit and say what it is: {}.", options.join(" or ")))
}

pub(super) fn no_address(sheets: &[&Sheet]) -> Failure {
    let start = |variant: &Variant| format!("{} starts at {}", variant.id, variant.image.region.span.start());
    let starts: Vec<String> = sheets.iter().flat_map(|sheet| &sheet.variants).map(start).collect();
    let known = if starts.is_empty() { String::new() } else { format!(" By the sheet, {}.", starts.join(", ")) };
    Failure::new(ExitCode::Refused, "The file is a raw binary, which carries no address, and none was given.")
        .state("Nothing was changed in any unit.")
        .cure(format!("Give --at with the address it was linked for, or use the HEX file of the same build.{known}"))
}

pub(super) fn unreadable(error: &ReadError) -> Failure {
    let code = match error {
        ReadError::AddressNotWanted(_) | ReadError::NotThere(_) => ExitCode::Usage,
        ReadError::Several(_) => ExitCode::Refused,
        _ => ExitCode::File,
    };
    Failure::new(code, format!("The file cannot be used: {error}."))
        .state("Nothing was changed in any unit.")
        .cure("Fetch or build the file again; 'vaka check FILE' shows what it is.")
}

pub(super) fn not_opened(error: &SessionError, place: &str) -> Failure {
    if let SessionError::Busy(by) = error {
        return held(place, by);
    }
    Failure::new(ExitCode::Transfer, format!("The unit's update mode cannot be used: {error}."))
        .state("Nothing was changed in the unit.")
        .cure(match error {
            SessionError::NeedsAction { cure, .. } => cure,
            _ => "Unplug the unit, put it into update mode again and run the same command.",
        })
}

pub(super) fn internal(what: &str) -> Failure {
    Failure::new(ExitCode::Internal, format!("A fault of this program: {what}."))
        .state("Nothing was changed in the unit.")
        .cure("Please report this with the command that you ran.")
}
