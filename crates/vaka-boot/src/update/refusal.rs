//! Why an update is refused, in words with a cure.

use vaka_core::event::{Code, Failure};
use vaka_core::image::ReadError;
use vaka_core::matching::{About, Evidence, Question, Verdict};
use vaka_core::sheet::{Sheet, Variant, VariantId};

use crate::bench::held;
use crate::session::SessionError;

pub(super) fn refused(verdict: &Verdict, sheet: &Sheet) -> Failure {
    let conflict = verdict.conflicts().next();
    let reason = conflict.map_or("it cannot be decided".to_owned(), |evidence| evidence.sentence());
    let reason = near_miss(verdict).unwrap_or(reason);
    let failure = Failure::new(Code::Refused, format!("Refused: {reason}.")).state("Nothing was changed in the unit.");
    let names = |ids: &[vaka_core::sheet::VariantId]| ids.iter().map(|id| id.as_str()).collect::<Vec<_>>().join(", ");
    match (&verdict.missing[..], &verdict.variant) {
        ([_, ..], _) => {
            let options: Vec<String> =
                verdict.missing.iter().map(|agreement| format!("--agree {}", agreement.id)).collect();
            failure.cure(format!("If that is what you want: {}.", options.join(" ")))
        }
        (_, Some(_)) if other_part(verdict, sheet).is_some() => {
            let part = other_part(verdict, sheet).unwrap_or_default();
            failure.cure(format!("The file is for another part of the product: --part {part}."))
        }
        (_, Some(variant)) if !verdict.would_fit.is_empty() => failure.cure(format!(
            "The file is for {}. Take the file for {variant}, or read the label again.",
            names(&verdict.would_fit)
        )),
        // The file is right for what was said, and the unit says that it is not that.
        (_, Some(variant)) if !verdict.conflicts().any(|evidence| evidence.about == About::File) => failure.cure(format!(
            "By what it says this unit is no {variant}. Read again what is printed on it, and take the file for that."
        )),
        (_, Some(variant)) => {
            failure.cure(format!("Take the file that was built for {} {variant}.", sheet.product.name))
        }
        (_, None) => match made_for(verdict) {
            Some(variant) => failure.cure(format!("Take the file for the variant that this unit is; it is not {variant}.")),
            None => failure.cure(format!("This is not a file for any variant of {}.", sheet.product.name)),
        },
    }
}

/// The variant that a file is for by itself, where no variant is settled and the unit says
/// that it is not that one.
fn made_for(verdict: &Verdict) -> Option<&VariantId> {
    let of = |id: &VariantId, about| {
        let evidence = verdict.evidence.iter().filter(move |e| e.variant.as_ref() == Some(id) && e.about == about);
        evidence.filter(|evidence| evidence.is_conflict()).count()
    };
    let mut variants = verdict.evidence.iter().filter_map(|evidence| evidence.variant.as_ref());
    variants.find(|id| verdict.variant.is_none() && of(id, About::File) == 0 && of(id, About::Unit) > 0)
}

/// Why a file for another variant than the unit's does not fit: what it is for, and what
/// of the unit says that it is not that.
fn near_miss(verdict: &Verdict) -> Option<String> {
    let variant = made_for(verdict)?;
    let against = |evidence: &&Evidence| {
        evidence.is_conflict() && evidence.about == About::Unit && evidence.variant.as_ref() == Some(variant)
    };
    let against = verdict.evidence.iter().find(against)?;
    Some(format!("the file is made for {variant}; this unit's {}", against.sentence()))
}

/// The part that the file is for, where that is another one than the unit's.
fn other_part<'a>(verdict: &Verdict, sheet: &'a Sheet) -> Option<&'a str> {
    let part = |id: &vaka_core::sheet::VariantId| sheet.variant(id.as_str())?.part.as_deref();
    let own = part(verdict.variant.as_ref()?);
    verdict.would_fit.iter().filter_map(part).find(|other| Some(*other) != own)
}

pub(crate) fn undecided(question: &Question) -> Failure {
    let options: Vec<String> = question.choices.iter().map(|choice| format!("--variant {}", choice.variant)).collect();
    Failure::new(
        Code::Refused,
        "The unit's ids do not tell which variant it is, and nobody said what is printed on it.",
    )
    .state("Nothing was changed in the unit.")
    .cure(format!("Read the label on the unit and say what it is: {}.", options.join(" or ")))
}

pub(super) fn no_address(sheets: &[&Sheet]) -> Failure {
    let start = |variant: &Variant| format!("{} starts at {}", variant.id, variant.image.region.span.start());
    let starts: Vec<String> = sheets.iter().flat_map(|sheet| &sheet.variants).map(start).collect();
    let known = if starts.is_empty() { String::new() } else { format!(" By the sheet, {}.", starts.join(", ")) };
    Failure::new(Code::Refused, "The file is a raw binary, which carries no address, and none was given.")
        .state("Nothing was changed in any unit.")
        .cure(format!("Give --at with the address it was linked for, or use the HEX file of the same build.{known}"))
}

pub(super) fn unreadable(error: &ReadError) -> Failure {
    let code = match error {
        ReadError::AddressNotWanted(_) | ReadError::NotThere(_) => Code::Usage,
        ReadError::Several(_) => Code::Refused,
        _ => Code::File,
    };
    Failure::new(code, format!("The file cannot be used: {error}."))
        .state("Nothing was changed in any unit.")
        .cure("Fetch or build the file again; 'vaka check FILE' shows what it is.")
}

pub(super) fn not_opened(error: &SessionError, place: &str) -> Failure {
    if let SessionError::Held(by) = error {
        return held(place, by);
    }
    Failure::new(Code::Transfer, format!("The unit's update mode cannot be used: {error}."))
        .state("Nothing was changed in the unit.")
        .cure(match error {
            SessionError::Rejected { cure, .. } => cure,
            _ => "Unplug the unit, put it into update mode again and run the same command.",
        })
}

pub(super) fn internal(what: &str) -> Failure {
    Failure::new(Code::Internal, format!("A fault of this program: {what}."))
        .state("Nothing was changed in the unit.")
        .cure("Please report this with the command that you ran.")
}
