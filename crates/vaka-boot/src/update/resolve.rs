//! Which image, which variant, which route: judging until the verdict fits.

use vaka_base::text;
use vaka_base::version::Version;
use vaka_core::event::{ExitCode, Failure};
use vaka_core::matching::{
    Case, Choice, Claim, Outcome, Question, Verdict, judge, of_board, tell_themselves, variants_for,
};
use vaka_core::sheet::{Route, Sheet, Variant, VersionSource};
use vaka_core::unit::{Mode, UnitFacts};
use vaka_image::{GroupId, Image, ReadError, ReadOptions};

use super::errors::{internal, no_address, refused, undecided, unreadable};
use super::request::{ReleaseImage, Request};
use super::{Job, NO_SHEET};
use crate::bench::candidate::Candidate;
use crate::update::planning::Parts;

/// A verdict that fits, and what it was made of.
pub(super) struct Resolved<'a> {
    pub(super) sheet: &'a Sheet,
    pub(super) variant: &'a Variant,
    pub(super) route: &'a Route,
    pub(super) image: Image,
    pub(super) verdict: Verdict,
}

impl Resolved<'_> {
    /// What a plan is made of.
    pub(super) fn parts(&self) -> Parts<'_> {
        let Self { sheet, variant, route, image, .. } = self;
        Parts { sheet, variant, route, image }
    }
}

/// An image, and what the release says of it if it comes from one.
struct SelectedImage<'a> {
    image: Image,
    claim: Option<&'a Claim>,
}

/// Why there is no image yet.
enum ImageUnavailable {
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
    ) -> Result<Resolved<'s>, Failure> {
        let Request { clear_all, agreed, keep, .. } = self.request;
        let (clear_all, unit) = (*clear_all, Some(unit));
        let case =
            Case { sheet, unit, image: &image, label: None, running: None, clear_all, keep, agreed, claim: None };
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
        version: Option<&Version>,
    ) -> Result<Resolved<'a>, Failure> {
        if let (None, Some(text)) = (self.label, &self.request.label) {
            self.label = Some(by_label(found, text)?);
        }
        loop {
            let label = self.label;
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
            let told = told_version(found, sheet, unit, variant);
            let case = Case {
                sheet,
                unit: Some(unit),
                image: &image,
                label: variant,
                running: version.or(told.as_ref()),
                clear_all: self.request.clear_all,
                keep: &self.request.keep,
                agreed: &self.request.agreed,
                claim,
            };
            let verdict = judge(&case);
            self.tell_verdict(&verdict);
            match (verdict.outcome, &verdict.question) {
                (Outcome::Fits, _) => return settled(found, sheet, image, verdict),
                // It changes its mode and nothing else, and is judged again then.
                (Outcome::Undecided, _) if verdict.tells_itself && label.is_none() => {
                    let verdict = Verdict { variant: verdict.would_fit.first().cloned(), ..verdict };
                    return settled(found, sheet, image, verdict);
                }
                (Outcome::Undecided, Some(question)) if label.is_none() => {
                    self.ask(found, question)?;
                }
                _ => return Err(refused(&verdict, sheet)),
            }
        }
    }

    /// Asks what is printed on the unit.
    fn ask(&mut self, found: &Candidate<'a>, question: &Question) -> Result<(), Failure> {
        let answer = self.operator.read_label(question).ok_or_else(|| undecided(question))?;
        self.label = Some(by_label(found, &answer)?);
        Ok(())
    }

    /// The image; a raw binary without an address takes the sheet's, if the
    /// sheet gives one for the variant that is settled.
    fn image(
        &self,
        found: &Candidate<'a>,
        sheet: &'a Sheet,
        unit: &UnitFacts,
        label: Option<&'a Variant>,
    ) -> Result<SelectedImage<'a>, ImageUnavailable> {
        let open = label.map_or_else(|| of_board(unit, found.variants_of(sheet)), |variant| vec![variant]);
        if !self.request.offered.is_empty() {
            return offered(self.request.offered, &open, found.mode);
        }
        let families: Vec<u32> = open.iter().flat_map(|variant| variant.families()).collect();
        let read = |options| vaka_image::read_for(self.request.file, options, &families);
        let read = match read(self.request.options) {
            Err(ReadError::NoAddress) => {
                let will_tell = found.mode != Mode::Update && tell_themselves(&open);
                let only = open.first().copied().filter(|_| open.len() == 1 || will_tell);
                if only.is_none() && open.iter().all(|variant| variant.image.binary_at.is_some()) {
                    return Err(ImageUnavailable::Unplaced);
                }
                let at = only.and_then(|variant| variant.image.binary_at);
                let at = at.ok_or_else(|| ImageUnavailable::Failed(no_address(&[sheet])))?;
                read(ReadOptions { at: Some(at), ..self.request.options })
            }
            other => other,
        };
        let image = read.map_err(|error| ImageUnavailable::Failed(unreadable(&error)))?;
        let image = match &self.request.file_name {
            Some(name) => image.named(name),
            None => image,
        };
        Ok(SelectedImage { image, claim: None })
    }
}

/// The image of a release for the variants that a unit can be. Where these want
/// different ones, somebody has to say which variant it is, unless the unit will.
fn offered<'a>(all: &'a [ReleaseImage], open: &[&Variant], mode: Mode) -> Result<SelectedImage<'a>, ImageUnavailable> {
    let of = |variant: &&Variant| all.iter().find(|offered| offered.variant == variant.id.as_str());
    let own: Vec<&ReleaseImage> = open.iter().filter_map(of).collect();
    let Some(first) = own.first() else {
        let names = |ids: &[&str]| ids.join(", ");
        let wanted: Vec<&str> = open.iter().map(|variant| variant.id.as_str()).collect();
        let there: Vec<&str> = all.iter().map(|offered| offered.variant.as_str()).collect();
        let message = format!("The release has no image for {}.", names(&wanted));
        let failure = Failure::new(ExitCode::Refused, message)
            .state("Nothing was changed in the unit.")
            .cure(format!("It has images for: {}.", names(&there)));
        return Err(ImageUnavailable::Failed(failure));
    };
    let is_one = own.len() == open.len() && own.iter().all(|other| other.image.segments() == first.image.segments());
    let will_tell = mode != Mode::Update && tell_themselves(open);
    match is_one || will_tell {
        true => Ok(SelectedImage { image: first.image.clone(), claim: Some(&first.claim) }),
        false => Err(ImageUnavailable::Unplaced),
    }
}

/// The version that the unit tells now, as far as it is clear whose that is.
pub fn told_version<'a>(
    found: &Candidate<'a>,
    sheet: &'a Sheet,
    unit: &UnitFacts,
    label: Option<&'a Variant>,
) -> Option<Version> {
    let open = label.map_or_else(|| of_board(unit, found.variants_of(sheet)), |variant| vec![variant]);
    let first = open.first().copied()?;
    let mut sources: Vec<&VersionSource> = open.into_iter().map(|variant| sheet.version_source(variant)).collect();
    sources.dedup();
    let [source] = sources[..] else { return None };
    match found.mode {
        Mode::Application => sheet.version_of(first, unit),
        _ => source.of_booted(unit),
    }
}

/// What can be said of the file before any unit is looked for.
pub(super) fn early_look(request: &Request<'_>, sheets: &[Sheet]) -> Result<(), Failure> {
    if !request.offered.is_empty() {
        return Ok(());
    }
    let families: Vec<u32> = sheets.iter().flat_map(Sheet::families).collect();
    match vaka_image::read_for(request.file, request.options, &families) {
        // Several of them are sheets': the unit will tell which is meant.
        Err(ReadError::Several(names)) if names.iter().any(|name| is_among(name, &families)) => Ok(()),
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

/// Why a unit cannot be the one that the file is for: each variant that it can be has something
/// in the file against it. A release brings images for several; the final verdict tells then.
pub(super) fn misfit(request: &Request<'_>, candidate: &Candidate<'_>) -> Option<String> {
    // What was agreed to may override what speaks against it.
    if !request.offered.is_empty() || candidate.sheets.is_empty() || !request.agreed.is_empty() {
        return None;
    }
    let mut first = None;
    for sheet in &candidate.sheets {
        let Some(image) = placed_image(request, sheet) else { continue };
        let open = candidate.variants_of(sheet);
        for choice in variants_for(sheet, &image).into_iter().filter(|c| open.iter().any(|v| v.id == c.variant)) {
            match choice.against {
                None => return None,
                Some(against) => _ = first.get_or_insert_with(|| format!("{}, {against}", choice.variant)),
            }
        }
    }
    first
}

/// The image as a product would take it: a raw binary starts where one of its variants says.
fn placed_image(request: &Request<'_>, sheet: &Sheet) -> Option<Image> {
    let read = |options| vaka_image::read_for(request.file, options, &sheet.families());
    match read(request.options) {
        Err(ReadError::NoAddress) => {
            let at = sheet.variants.iter().find_map(|variant| variant.image.binary_at);
            read(ReadOptions { at, ..request.options }).ok()
        }
        other => other.ok(),
    }
}

/// The sheets whose units the file could be for, as far as the file alone tells;
/// all of them if it tells nothing.
pub fn hopes<'s>(request: &Request<'_>, sheets: &'s [Sheet]) -> Vec<&'s Sheet> {
    if !request.offered.is_empty() {
        return sheets.iter().collect();
    }
    let may_fit = |sheet: &&Sheet| {
        let Some(image) = placed_image(request, sheet) else { return false };
        variants_for(sheet, &image).iter().any(|choice| choice.against.is_none())
    };
    let fitting: Vec<&Sheet> = sheets.iter().filter(may_fit).collect();
    if fitting.is_empty() { sheets.iter().collect() } else { fitting }
}

fn is_among(name: &GroupId, families: &[u32]) -> bool {
    matches!(name, GroupId::Family(Some(family)) if families.contains(family))
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

/// The question which of all variants it is, before anything speaks for one.
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

/// The variant that a person names: `ID`, `PRODUCT/ID`, or what is printed, in one place or
/// in several (`SKI-TERN R1; OYS-144`), which must then agree.
///
/// # Errors
/// No variant, or several, of the products that the unit can be have it.
pub fn by_label<'a>(found: &Candidate<'a>, text: &str) -> Result<(&'a Sheet, &'a Variant), Failure> {
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
            let (one, other) = (format!("'{}' is {}", text::tame(texts[0]), first.1.name), other.name.clone());
            let message = format!("What is printed does not agree: {one}, '{}' is {other}.", text::tame(text));
            Err(Failure::new(ExitCode::Refused, message)
                .state("Nothing was changed in the unit.")
                .cure("Read both places again. If they really differ, this is no unit that the sheet describes."))
        }
    }
}

fn by_one_label<'a>(found: &Candidate<'a>, text: &str) -> Result<(&'a Sheet, &'a Variant), Failure> {
    if let Some(label) = found.sheets.iter().find_map(|sheet| sheet.undeciding(text)) {
        let message = format!("'{}' on the {} decides nothing: {}.", label.reads, label.place, label.why);
        let places = found.sheets.iter().flat_map(|sheet| &sheet.variants).flat_map(|variant| &variant.look_at);
        let mut places: Vec<&str> = places.map(|look| look.place.as_str()).collect();
        places.sort_unstable();
        places.dedup();
        return Err(Failure::new(ExitCode::Refused, message)
            .state("Nothing was changed in the unit.")
            .cure(format!("Look at: {}.", places.join("; "))));
    }

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
            Err(Failure::new(
                ExitCode::Refused,
                format!("No variant is called '{text}', and none has that printed on it."),
            )
            .state("Nothing was changed in the unit.")
            .cure(format!("The variants are: {}.", known.join(", "))))
        }
        _ => Err(Failure::new(ExitCode::Refused, format!("Several products have a variant '{text}'."))
            .cure("Name it with its product: --variant PRODUCT/VARIANT.")),
    }
}

fn only_sheet<'a>(found: &Candidate<'a>) -> Result<&'a Sheet, Failure> {
    match found.sheets[..] {
        [only] => Ok(only),
        _ => {
            let names: Vec<&str> = found.sheets.iter().map(|sheet| sheet.product.id.as_str()).collect();
            Err(Failure::new(ExitCode::Refused, format!("{} share the ids {}.", names.join(" and "), found.id()))
                .state("Nothing was changed in the unit.")
                .cure("Say which it is: --variant PRODUCT/VARIANT."))
        }
    }
}
