//! Why an update is refused, in words with a cure.

use vaka_core::event::{Code, Failure};
use vaka_core::image::ReadError;
use vaka_core::matching::{Question, Verdict};
use vaka_core::sheet::{Sheet, Variant};

use crate::bench::held;
use crate::session::SessionError;

pub(super) fn refused(verdict: &Verdict, sheet: &Sheet) -> Failure {
    let conflict = verdict.conflicts().next();
    let reason = conflict.map_or("it cannot be decided".to_owned(), |evidence| evidence.sentence());
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
        (_, Some(variant)) => {
            failure.cure(format!("Take the file that was built for {} {variant}.", sheet.product.name))
        }
        (_, None) => failure.cure(format!("This is not a file for any variant of {}.", sheet.product.name)),
    }
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
