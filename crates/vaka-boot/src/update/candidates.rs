//! Conclusions from file and label alone: sheets, variants, versions.

use vaka_base::version::Version;
use vaka_core::input::InputError;
use vaka_core::matching::{Choice, Question, filter_by_board_info, rank_variants};
use vaka_core::sheet::{Sheet, Variant, VersionSource};
use vaka_core::unit::{Mode, UnitFacts};
use vaka_image::{GroupId, Image, ReadError};

use super::errors::internal;
use super::request::Request;
use crate::bench::candidate::Candidate;
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;
use vaka_core::matching::consent::NO_SHEET;

/// The version reported by the device, if it can be attributed to one part.
pub fn reported_version<'a>(
    found: &Candidate<'a>,
    sheet: &'a Sheet,
    unit: &UnitFacts,
    label: Option<&'a Variant>,
) -> Option<Version> {
    let open = label.map_or_else(|| filter_by_board_info(unit, found.variants_of(sheet)), |variant| vec![variant]);
    let first = open.first().copied()?;
    let mut sources: Vec<&VersionSource> = open.into_iter().map(|variant| sheet.version_source(variant)).collect();
    sources.dedup();
    let [source] = sources[..] else { return None };
    match found.mode {
        Mode::Application => sheet.version_of(first, unit),
        _ => source.of_booted(unit),
    }
}

/// Checks the file before any unit is searched.
pub(super) fn preflight(request: &Request<'_>, sheets: &[Sheet]) -> Result<(), Failure> {
    if !request.offered.is_empty() {
        return Ok(());
    }
    let families: Vec<u32> = sheets.iter().flat_map(Sheet::families).collect();
    let variants: Vec<&Variant> = sheets.iter().flat_map(|sheet| &sheet.variants).collect();
    match request.image(None, &families, &variants) {
        // Several of the images belong to sheets: the unit will determine which.
        Err(InputError::Read(ReadError::Several(names))) if names.iter().any(|name| is_among(name, &families)) => {
            Ok(())
        }
        Ok(_) => Ok(()),
        Err(InputError::Read(ReadError::NoAddress)) => {
            let vouched = variants.iter().any(|variant| variant.image.binary_at.is_some());
            let undescribed = request.consents.iter().any(|id| id == NO_SHEET);
            if undescribed || vouched || request.names_region() {
                Ok(())
            } else {
                Err(request.no_address(&sheets.iter().collect::<Vec<_>>()))
            }
        }
        Err(error) => Err(error.into()),
    }
}

/// Why a unit cannot be the one that the file is for: each of its possible variants conflicts
/// with the file. A release has images for several variants, so the final verdict decides.
pub(super) fn misfit(request: &Request<'_>, candidate: &Candidate<'_>) -> Option<String> {
    // Consents may override the conflicts.
    if !request.offered.is_empty() || candidate.sheets.is_empty() || !request.consents.is_empty() {
        return None;
    }
    let mut first = None;
    for sheet in &candidate.sheets {
        let Some(image) = placed_image(request, sheet) else { continue };
        let open = candidate.variants_of(sheet);
        for choice in rank_variants(sheet, &image).into_iter().filter(|c| open.iter().any(|v| v.id == c.variant)) {
            match choice.against {
                None => return None,
                Some(against) => _ = first.get_or_insert_with(|| format!("{}, {against}", choice.variant)),
            }
        }
    }
    first
}

/// The image as a product would use it: a raw binary starts where one of its variants states.
fn placed_image(request: &Request<'_>, sheet: &Sheet) -> Option<Image> {
    let (families, variants) = (sheet.families(), sheet.variants.iter().collect::<Vec<_>>());
    let of_one = |variant: &&Variant| request.image(variant.image.binary_at, &families, &[variant]).ok();
    match request.image(None, &families, &variants) {
        // Of a unit with several parts, the one that takes the file counts.
        Err(InputError::Read(ReadError::NoAddress)) => {
            let fits = |variant: &&Variant| {
                let image = of_one(variant);
                let choice =
                    |image| rank_variants(sheet, &image).into_iter().find(|choice| choice.variant == variant.id);
                image.and_then(choice).is_some_and(|choice| choice.against.is_none())
            };
            variants.iter().find(|variant| fits(variant)).and_then(of_one).or_else(|| variants.iter().find_map(of_one))
        }
        other => other.ok(),
    }
}

/// The sheets whose units the file could be for, judged by the file alone; all sheets if it does
/// not restrict them.
pub fn candidate_sheets<'s>(request: &Request<'_>, sheets: &'s [Sheet]) -> Vec<&'s Sheet> {
    if !request.offered.is_empty() {
        return sheets.iter().collect();
    }
    let may_fit = |sheet: &&Sheet| {
        let Some(image) = placed_image(request, sheet) else { return false };
        rank_variants(sheet, &image).iter().any(|choice| choice.against.is_none())
    };
    let fitting: Vec<&Sheet> = sheets.iter().filter(may_fit).collect();
    if fitting.is_empty() { sheets.iter().collect() } else { fitting }
}

fn is_among(name: &GroupId, families: &[u32]) -> bool {
    matches!(name, GroupId::Family(Some(family)) if families.contains(family))
}

/// The variant prompt when there is no evidence yet.
pub(crate) fn open_question(found: &Candidate<'_>, sheet: &Sheet) -> Question {
    let choice = |variant: &Variant| Choice {
        variant: variant.id.clone(),
        name: variant.name.clone(),
        look_at: variant.look_at.clone(),
        against: None,
        completeness: None,
    };
    let meant =
        sheet.variants.iter().filter(|variant| found.mode != Mode::Update || variant.route(found.id()).is_some());
    Question { choices: meant.map(choice).collect() }
}

/// The variant that the user names: `ID`, `PRODUCT/ID`, or one or several label texts (`SKI-TERN
/// R1; OYS-144`), which must then agree.
///
/// # Errors
/// No candidate variant, or more than one, carries this label.
pub fn variant_by_label<'a>(found: &Candidate<'a>, text: &str) -> Result<(&'a Sheet, &'a Variant), Failure> {
    let one = by_one_label(found, text);
    let texts: Vec<&str> = text.split([';', '+']).map(str::trim).filter(|text| !text.is_empty()).collect();
    if one.is_ok() || texts.len() < 2 {
        return one;
    }
    let all = texts.iter().map(|text| by_one_label(found, text)).collect::<Result<Vec<_>, _>>()?;
    let (first, others) = all.split_first().ok_or_else(|| internal("no label"))?;
    match others.iter().zip(&texts[1..]).find(|((_, other), _)| other.id != first.1.id) {
        None => Ok(*first),
        Some(((_, other), text)) => {
            let first = (texts[0].to_owned(), first.1.name.clone());
            let second = ((*text).to_owned(), other.name.clone());
            let failure = Failure::new(FailureKind::LabelsDisagree { first, second });
            Err(failure.unchanged().remedy(Remedy::RereadLabels))
        }
    }
}

fn by_one_label<'a>(found: &Candidate<'a>, text: &str) -> Result<(&'a Sheet, &'a Variant), Failure> {
    if let Some(label) = found.sheets.iter().find_map(|sheet| sheet.ambiguous_labels(text)) {
        let (reads, place, why) = (label.reads.clone(), label.place.clone(), label.why.clone());
        let places = found.sheets.iter().flat_map(|sheet| &sheet.variants).flat_map(|variant| &variant.look_at);
        let mut places: Vec<String> = places.map(|look| look.place.clone()).collect();
        places.sort_unstable();
        places.dedup();
        let failure = Failure::new(FailureKind::AmbiguousLabel { reads, place, why });
        return Err(failure.unchanged().remedy(Remedy::LookAt(places)));
    }

    let named = |sheet: &'a Sheet| {
        let own = text.split_once('/').filter(|(product, _)| *product == sheet.product.id).map_or(text, |(_, id)| id);
        sheet.variant_by_label(own).map(|variant| (sheet, variant))
    };
    let mut matches = found.sheets.iter().filter_map(|sheet| named(sheet));
    match (matches.next(), matches.next()) {
        (Some(one), None) => Ok(one),
        (None, _) => {
            let variants = found.sheets.iter().flat_map(|sheet| &sheet.variants);
            let known = variants.map(|variant| variant.id.to_string()).collect();
            let failure = Failure::new(FailureKind::NoSuchLabel { text: text.to_owned() });
            Err(failure.unchanged().remedy(Remedy::KnownVariants(known)))
        }
        _ => {
            let failure = Failure::new(FailureKind::LabelInSeveralProducts { text: text.to_owned() });
            Err(failure.remedy(Remedy::QualifyVariant))
        }
    }
}
