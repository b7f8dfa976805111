//! Which image, which variant, which route: judging until the verdict fits.

use vaka_core::event::{Code, Failure};
use vaka_core::image::{self, Image, ReadError, ReadOptions};
use vaka_core::matching::{Case, Choice, Outcome, Question, Verdict, judge};
use vaka_core::sheet::{Route, Sheet, Variant};
use vaka_core::text;
use vaka_core::unit::{Mode, ReleaseNumber, UnitFacts};

use super::refusal::{internal, no_address, refused, undecided, unreadable};
use super::request::Request;
use super::{Job, NO_SHEET};
use crate::bench::Candidate;

/// A verdict that fits, and what it was made of.
pub(super) struct Settled<'a> {
    pub(super) sheet: &'a Sheet,
    pub(super) variant: &'a Variant,
    pub(super) route: &'a Route,
    pub(super) image: Image,
    pub(super) verdict: Verdict,
}

/// Why there is no image yet.
enum NoImage {
    /// The sheet places a raw binary once the variant is settled.
    Unplaced,
    Failed(Failure),
}

impl<'a> Job<'a, '_> {
    /// Judges an image that is at hand for a unit whose variant is settled.
    pub(super) fn judged<'s>(
        &mut self,
        found: &Candidate<'_>,
        sheet: &'s Sheet,
        image: Image,
        unit: &UnitFacts,
    ) -> Result<Settled<'s>, Failure> {
        let Request { clear_all, agreed, keep, .. } = self.request;
        let (clear_all, unit) = (*clear_all, Some(unit));
        let case = Case { sheet, unit, image: &image, label: None, running: None, clear_all, keep, agreed };
        let verdict = judge(&case);
        self.tell_verdict(&verdict);
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
        version: Option<ReleaseNumber>,
    ) -> Result<Settled<'a>, Failure> {
        if let (None, Some(text)) = (self.label, &self.request.label) {
            self.label = Some(by_label(found, text)?);
        }
        let tells = |sheet: &Sheet| {
            (found.mode == Mode::Application && sheet.application.tells_version).then_some(unit.release)
        };
        loop {
            let label = self.label;
            let sheet = match label {
                Some((sheet, _)) => sheet,
                None => only_sheet(found)?,
            };
            let image = match self.image(found, sheet, label.map(|(_, variant)| variant)) {
                Ok(image) => image,
                Err(NoImage::Unplaced) => {
                    self.ask(found, &open_question(found, sheet))?;
                    continue;
                }
                Err(NoImage::Failed(failure)) => return Err(failure),
            };
            let case = Case {
                sheet,
                unit: Some(unit),
                image: &image,
                label: label.map(|(_, variant)| variant),
                running: version.or_else(|| tells(sheet)),
                clear_all: self.request.clear_all,
                keep: &self.request.keep,
                agreed: &self.request.agreed,
            };
            let verdict = judge(&case);
            self.tell_verdict(&verdict);
            match (verdict.outcome, &verdict.question) {
                (Outcome::Fits, _) => return settled(found, sheet, image, verdict),
                (Outcome::Undecided, Some(question)) if label.is_none() => {
                    self.ask(found, question)?;
                }
                _ => return Err(refused(&verdict, sheet)),
            }
        }
    }

    /// Asks what is printed on the unit.
    fn ask(&mut self, found: &Candidate<'a>, question: &Question) -> Result<(), Failure> {
        let answer = self.person.read_label(question).ok_or_else(|| undecided(question))?;
        self.label = Some(by_label(found, &answer)?);
        Ok(())
    }

    /// The image; a raw binary without an address takes the sheet's, if the
    /// sheet gives one for the variant that is settled.
    fn image(&self, found: &Candidate<'a>, sheet: &'a Sheet, label: Option<&'a Variant>) -> Result<Image, NoImage> {
        match image::read(self.request.file, self.request.options) {
            Ok(image) => Ok(image),
            Err(ReadError::NoAddress) => {
                let open = found.variants_of(sheet);
                let variant = label.or(if open.len() == 1 { open.first().copied() } else { None });
                if variant.is_none() && open.iter().all(|variant| variant.image.binary_at.is_some()) {
                    return Err(NoImage::Unplaced);
                }
                let at = variant.and_then(|variant| variant.image.binary_at);
                let at = at.ok_or_else(|| NoImage::Failed(no_address(&[sheet])))?;
                let options = ReadOptions { at: Some(at), ..self.request.options };
                image::read(self.request.file, options).map_err(|error| NoImage::Failed(unreadable(&error)))
            }
            Err(error) => Err(NoImage::Failed(unreadable(&error))),
        }
    }
}

/// What can be said of the file before any unit is looked for.
pub(super) fn early_look(request: &Request<'_>, sheets: &[Sheet]) -> Result<(), Failure> {
    match image::read(request.file, request.options) {
        Ok(_) => Ok(()),
        Err(ReadError::NoAddress) => {
            let vouched = |sheet: &Sheet| sheet.variants.iter().any(|variant| variant.image.binary_at.is_some());
            let undescribed = request.agreed.iter().any(|id| id == NO_SHEET);
            if undescribed || sheets.iter().any(vouched) {
                Ok(())
            } else {
                Err(no_address(&sheets.iter().collect::<Vec<_>>()))
            }
        }
        Err(error) => Err(unreadable(&error)),
    }
}

fn settled<'a>(
    found: &Candidate<'_>,
    sheet: &'a Sheet,
    image: Image,
    verdict: Verdict,
) -> Result<Settled<'a>, Failure> {
    let variant = verdict.variant.as_ref().and_then(|id| sheet.variant(id.as_str()));
    let variant = variant.ok_or_else(|| internal("the verdict fits, but names no variant"))?;
    let route = match found.mode {
        Mode::Update => variant.route(found.id()),
        _ => variant.routes.first(),
    };
    let route = route.ok_or_else(|| internal("the verdict fits, but the variant has no route"))?;
    Ok(Settled { sheet, variant, route, image, verdict })
}

/// The question which of all variants it is, before anything speaks for one.
pub(crate) fn open_question(found: &Candidate<'_>, sheet: &Sheet) -> Question {
    let choice = |variant: &Variant| Choice {
        variant: variant.id.clone(),
        name: variant.name.clone(),
        look_at: variant.look_at.clone(),
        against: None,
    };
    let meant =
        sheet.variants.iter().filter(|variant| found.mode != Mode::Update || variant.route(found.id()).is_some());
    Question { choices: meant.map(choice).collect() }
}

/// The variant that a person names: `ID`, `PRODUCT/ID` or what is printed.
///
/// # Errors
/// No variant, or several, of the products that the unit can be have it.
pub fn by_label<'a>(found: &Candidate<'a>, text: &str) -> Result<(&'a Sheet, &'a Variant), Failure> {
    let named = |sheet: &'a Sheet| {
        let own = text.split_once('/').filter(|(product, _)| *product == sheet.product.id).map_or(text, |(_, id)| id);
        sheet.variant_by_label(own).map(|variant| (sheet, variant))
    };
    let mut matches = found.sheets.iter().filter_map(|sheet| named(sheet));
    match (matches.next(), matches.next()) {
        (Some(one), None) => Ok(one),
        (None, _) => {
            let known: Vec<&str> = found.sheets.iter().flat_map(|s| &s.variants).map(|v| v.id.as_str()).collect();
            let text = text::tame(text);
            Err(Failure::new(Code::Refused, format!("No variant is called '{text}', and none has that printed on it."))
                .state("Nothing was changed in the unit.")
                .cure(format!("The variants are: {}.", known.join(", "))))
        }
        _ => Err(Failure::new(Code::Refused, format!("Several products have a variant '{text}'."))
            .cure("Name it with its product: --variant PRODUCT/VARIANT.")),
    }
}

fn only_sheet<'a>(found: &Candidate<'a>) -> Result<&'a Sheet, Failure> {
    match found.sheets[..] {
        [only] => Ok(only),
        _ => {
            let names: Vec<&str> = found.sheets.iter().map(|sheet| sheet.product.id.as_str()).collect();
            Err(Failure::new(Code::Refused, format!("{} share the ids {}.", names.join(" and "), found.id()))
                .state("Nothing was changed in the unit.")
                .cure("Say which it is: --variant PRODUCT/VARIANT."))
        }
    }
}
