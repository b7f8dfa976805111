//! Resolution of image, variant and route, until the verdict fits.

use vaka_base::version::Version;
use vaka_core::input::{InputError, joined};
use vaka_core::matching::{
    Claim, MatchInput, Outcome, Question, Verdict, all_self_identifying, filter_by_board_info, judge, named_part,
    names_part,
};
use vaka_core::sheet::{Sheet, Variant};
use vaka_core::unit::{Mode, UnitFacts};
use vaka_image::{Image, ReadError};

use super::candidates::{open_question, reported_version, variant_by_label};
use super::errors::{internal, refused, undecided};
use super::request::{ReleaseImage, Request};
use super::resolved::Resolved;
use super::update_run::UpdateRun;
use crate::bench::candidate::Candidate;
use crate::failure::{Failure, FailureKind};
use crate::operator::EarlierVariant;
use crate::remedy::Remedy;

/// An image, with the statements of its release if it has one.
struct SelectedImage<'a> {
    image: Image,
    claim: Option<&'a Claim>,
}

/// Why no image is available yet.
enum ImageUnavailable {
    /// The sheet places a raw binary once the variant is settled.
    Unplaced,
    Failed(Failure),
}

impl<'a> UpdateRun<'a, '_> {
    /// Judges the available image for a unit.
    pub(super) fn judged<'s>(
        &mut self,
        found: &Candidate<'_>,
        sheet: &'s Sheet,
        image: Image,
        unit: &UnitFacts,
    ) -> Result<Resolved<'s>, Failure> {
        let Request { erase_all, consents, keep, .. } = self.request;
        let (erase_all, unit) = (*erase_all, Some(unit));
        let case = MatchInput {
            sheet,
            unit,
            image: &image,
            label: None,
            running: None,
            erase_all,
            keep,
            consents,
            claim: None,
            table: None,
        };
        let verdict = judge(&case);
        self.emit_verdict(&verdict);
        match verdict.outcome {
            Outcome::Fits => settled(found, sheet, image, verdict),
            _ => Err(refused(&verdict, sheet)),
        }
    }

    /// Judges until the verdict fits, asking for the label once if need be.
    pub(super) fn settle(
        &mut self,
        found: &Candidate<'a>,
        unit: &UnitFacts,
        version: Option<&Version>,
    ) -> Result<Resolved<'a>, Failure> {
        self.note_label(found)?;
        loop {
            let label = self.progress.unit.label;
            let sheet = match label {
                Some((sheet, _)) => sheet,
                None => only_sheet(found)?,
            };
            let variant = label.map(|(_, variant)| variant);
            let SelectedImage { image, claim } = match self.image(found, sheet, unit, variant) {
                Ok(chosen) => chosen,
                Err(ImageUnavailable::Unplaced) => {
                    self.ask(found, &open_question(found, sheet))?;
                    continue;
                }
                Err(ImageUnavailable::Failed(failure)) => return Err(failure),
            };
            let told = reported_version(found, sheet, unit, variant);
            let case = MatchInput {
                sheet,
                unit: Some(unit),
                image: &image,
                label: variant,
                running: version.or(told.as_ref()),
                erase_all: self.request.erase_all,
                keep: &self.request.keep,
                consents: &self.request.consents,
                claim,
                table: self.progress.unit.table.as_ref(),
            };
            let verdict = judge(&case);
            self.emit_verdict(&verdict);
            match (verdict.outcome, &verdict.question) {
                (Outcome::Fits, _) => return settled(found, sheet, image, verdict),
                // Proceed: entering update mode is harmless and the verdict is repeated there.
                (Outcome::Undecided, _) if verdict.self_identifying && label.is_none() => {
                    let verdict = Verdict { variant: verdict.compatible.first().cloned(), ..verdict };
                    return settled(found, sheet, image, verdict);
                }
                (Outcome::Undecided, Some(question)) if label.is_none() => {
                    self.ask(found, question)?;
                }
                _ => return Err(refused(&verdict, sheet)),
            }
        }
    }

    /// Notes the variant of the label that the user gave.
    pub(super) fn note_label(&mut self, found: &Candidate<'a>) -> Result<(), Failure> {
        if let (None, Some(text)) = (self.progress.unit.label, &self.request.label) {
            self.progress.unit.label = Some(variant_by_label(found, text)?);
        }
        Ok(())
    }

    /// Asks for the label of the unit.
    fn ask(&mut self, found: &Candidate<'a>, question: &Question) -> Result<(), Failure> {
        self.recall(found, question);
        let answer = self.operator.read_label(question).ok_or_else(|| undecided(question))?;
        self.progress.unit.label = Some(variant_by_label(found, &answer)?);
        Ok(())
    }

    /// Tells the operator which variant the unit had before, unless something contradicts it.
    fn recall(&mut self, found: &Candidate<'a>, question: &Question) {
        let Some(history) = self.request.history else { return };
        let serials = self.progress.serials();
        let serials: Vec<&str> = serials.iter().map(String::as_str).collect();
        let earlier = found.sheets.iter().find_map(|sheet| history.last_variant(&sheet.product.name, &serials));
        let is_open = |earlier: &EarlierVariant| {
            let mut choices = question.choices.iter().filter(|choice| choice.against.is_none());
            choices.any(|choice| choice.variant.as_str() == earlier.variant)
        };
        if let Some(earlier) = earlier.filter(is_open) {
            self.operator.recall(&earlier);
        }
    }

    /// The image; a raw binary without an address uses that of the sheet, if the sheet gives one
    /// for the variant.
    fn image(
        &self,
        found: &Candidate<'a>,
        sheet: &'a Sheet,
        unit: &UnitFacts,
        label: Option<&'a Variant>,
    ) -> Result<SelectedImage<'a>, ImageUnavailable> {
        let open = label.map_or_else(|| filter_by_board_info(unit, found.variants_of(sheet)), |variant| vec![variant]);
        let families: Vec<u32> = open.iter().flat_map(|variant| variant.families()).collect();
        if !self.request.offered.is_empty() {
            return offered(self.request.offered, &open, found.mode, &families);
        }
        let read = match self.request.image(None, &families, &open) {
            Err(InputError::Read(ReadError::NoAddress)) => {
                let will_tell = found.mode != Mode::Update && all_self_identifying(&open);
                let only = open.first().copied().filter(|_| open.len() == 1 || will_tell);
                let only = only.or_else(|| self.by_part(sheet, &open, &families));
                let is_placed = |variant: &&Variant| variant.image.binary_at.is_some() || self.request.names_region();
                match only {
                    None if open.iter().all(is_placed) => return Err(ImageUnavailable::Unplaced),
                    Some(only) if is_placed(&only) => self.request.image(only.image.binary_at, &families, &[only]),
                    _ => return Err(ImageUnavailable::Failed(self.request.no_address(&[sheet]))),
                }
            }
            other => other,
        };
        let image = match read {
            Err(InputError::Read(ReadError::NoAddress)) => {
                return Err(ImageUnavailable::Failed(self.request.no_address(&[sheet])));
            }
            read => read.map_err(|error| ImageUnavailable::Failed(error.into()))?,
        };
        Ok(SelectedImage { image, claim: None })
    }
}

impl UpdateRun<'_, '_> {
    /// The only variant of the only part that a raw binary names.
    fn by_part<'v>(&self, sheet: &Sheet, open: &[&'v Variant], families: &[u32]) -> Option<&'v Variant> {
        let part = named_part(open, |variant| {
            let image = self.request.image(variant.image.binary_at, families, &[variant]);
            image.is_ok_and(|image| names_part(sheet, variant, &image))
        })?;
        let mut of_part = open.iter().filter(|variant| variant.part.as_deref() == Some(part));
        of_part.next().copied().filter(|_| of_part.next().is_none())
    }
}

/// The image of a release for the possible variants of a unit. If these need different images,
/// the variant must be named, unless the unit will identify it.
fn offered<'a>(
    all: &'a [ReleaseImage],
    open: &[&Variant],
    mode: Mode,
    families: &[u32],
) -> Result<SelectedImage<'a>, ImageUnavailable> {
    let of = |variant: &&Variant| all.iter().find(|offered| offered.variant == variant.id.as_str());
    let own: Vec<&ReleaseImage> = open.iter().filter_map(of).collect();
    let Some(first) = own.first() else {
        let variants = open.iter().map(|variant| variant.id.to_string()).collect();
        let there = all.iter().map(|offered| offered.variant.clone()).collect();
        let failure = Failure::new(FailureKind::NoImageFor { variants }).unchanged().remedy(Remedy::KnownImages(there));
        return Err(ImageUnavailable::Failed(failure));
    };
    let is_one = own.len() == open.len() && own.iter().all(|other| other.image.segments() == first.image.segments());
    let will_tell = mode != Mode::Update && all_self_identifying(open);
    match is_one || will_tell {
        true => {
            let image = match open.iter().find(|variant| variant.table.is_some()) {
                // The unit's table may have moved the regions of the files.
                Some(variant) => joined(&first.files, variant.image.binary_at, families, &[variant])
                    .map_err(|error| ImageUnavailable::Failed(error.into()))?,
                None => first.image.clone(),
            };
            Ok(SelectedImage { image, claim: Some(&first.claim) })
        }
        false => Err(ImageUnavailable::Unplaced),
    }
}

fn settled<'a>(
    found: &Candidate<'_>,
    sheet: &'a Sheet,
    image: Image,
    verdict: Verdict,
) -> Result<Resolved<'a>, Failure> {
    let variant = verdict.variant.as_ref().and_then(|id| sheet.variant(id.as_str()));
    let variant = variant.ok_or_else(|| internal("the verdict fits, but names no variant"))?;
    let route = match found.mode {
        Mode::Update => variant.route(found.id()),
        _ => variant.routes.first(),
    };
    let route = route.ok_or_else(|| internal("the verdict fits, but the variant has no route"))?;
    Ok(Resolved { sheet, variant, route, image, verdict })
}

fn only_sheet<'a>(found: &Candidate<'a>) -> Result<&'a Sheet, Failure> {
    match found.sheets[..] {
        [only] => Ok(only),
        _ => {
            let products = found.sheets.iter().map(|sheet| sheet.product.id.clone()).collect();
            let failure = Failure::new(FailureKind::SharedIds { products, id: found.id() });
            Err(failure.unchanged().remedy(Remedy::QualifyVariant))
        }
    }
}
