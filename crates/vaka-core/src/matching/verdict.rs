//! The verdict: the conclusion from all evidence.

use serde::Serialize;

use super::claim::Claim;
use super::evidence::{Evidence, Source, Subject, Weight};
use super::{completeness_rules, fact_rules, rules, table_rules, unit_rules};
use crate::sheet::{LabelLocation, Route, Sheet, TableReport, Variant, VariantId};
use crate::unit::{DeviceId, Mode, UnitFacts};
use vaka_base::version::Version;
use vaka_image::Image;

/// The input of a verdict.
#[derive(Clone, Copy, Debug)]
pub struct MatchInput<'a> {
    /// The product.
    pub sheet: &'a Sheet,
    /// The unit; without one only the file is judged.
    pub unit: Option<&'a UnitFacts>,
    /// The image.
    pub image: &'a Image,
    /// The label that the user read on the hardware.
    pub label: Option<&'a Variant>,
    /// The version that the application reported when it last ran.
    pub running: Option<&'a Version>,
    /// Whether everything erasable is erased first.
    pub erase_all: bool,
    /// Names of regions to preserve.
    pub keep: &'a [String],
    /// Ids of the consents given.
    pub consents: &'a [String],
    /// The statements of the release that contains the image.
    pub claim: Option<&'a Claim>,
    /// The table of regions in the unit. The sheet's regions are where it places them.
    pub table: Option<&'a TableReport>,
}

impl<'a> MatchInput<'a> {
    /// An image for a product, with no unit, no label and no consents.
    pub fn new(sheet: &'a Sheet, image: &'a Image) -> Self {
        Self {
            sheet,
            unit: None,
            image,
            label: None,
            running: None,
            erase_all: false,
            keep: &[],
            consents: &[],
            claim: None,
            table: None,
        }
    }
}

/// Whether the verdict is provisional or final.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Phase {
    /// The unit is not in update mode: much cannot be seen yet.
    Provisional,
    /// The unit is in update mode and was asked.
    Final,
}

/// The conclusion.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Image and unit fit.
    Fits,
    /// They do not.
    Conflicts,
    /// The evidence does not decide it.
    Undecided,
}

/// A question that must be answered before a decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Question {
    /// The variants to choose from.
    pub choices: Vec<Choice>,
}

/// One possible answer to the question about the label.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Choice {
    /// The variant.
    pub variant: VariantId,
    /// Name of the variant.
    pub name: String,
    /// Label texts and their locations.
    pub look_at: Vec<LabelLocation>,
    /// The first conflict with this variant, if any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub against: Option<String>,
    /// The proof that the file is complete, or its absence, as text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub completeness: Option<String>,
}

impl Choice {
    /// The label texts with their locations: `"SKI-TERN R1" (board, beside the USB connector) and
    /// …`
    pub fn labels(&self) -> String {
        labels(&self.look_at)
    }
}

/// Everything that is printed on a variant, in one line.
pub fn labels(look_at: &[LabelLocation]) -> String {
    let labels: Vec<String> = look_at.iter().map(|look| format!("\"{}\" ({})", look.reads, look.place)).collect();
    labels.join(" and ")
}

/// A consent that is missing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Consent {
    /// The value for `--allow`.
    pub id: String,
    /// The risk.
    pub to: String,
}

/// A verdict, with all that led to it.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Verdict {
    /// Whether the verdict is provisional or final.
    pub phase: Phase,
    /// The conclusion.
    pub outcome: Outcome,
    /// The variant that was decided on.
    pub variant: Option<VariantId>,
    /// The variant that the unit itself reports, regardless of the label given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identified: Option<VariantId>,
    /// All evidence.
    pub evidence: Vec<Evidence>,
    /// The question to ask, if undecided.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub question: Option<Question>,
    /// Whether the unit identifies its variant by itself in update mode, so that no label is
    /// needed before.
    pub self_identifying: bool,
    /// Agreements that would turn `conflicts` into `fits`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub missing_consents: Vec<Consent>,
    /// Consents that were given and required.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub consents: Vec<Consent>,
    /// Other variants that the image would fit.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub compatible: Vec<VariantId>,
    /// The share of its region that the image occupies, if it fits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub occupancy: Option<String>,
}

/// Proof of a final verdict `fits`. Only such a verdict creates it.
#[derive(Clone, Debug)]
pub struct Approval {
    variant: VariantId,
}

impl Approval {
    /// The variant that was decided on.
    pub fn variant(&self) -> &VariantId {
        &self.variant
    }
}

impl Verdict {
    /// The approval, if this verdict is final and fits.
    pub fn approval(&self) -> Option<Approval> {
        let fits = self.phase == Phase::Final && self.outcome == Outcome::Fits;
        self.variant.clone().filter(|_| fits).map(|variant| Approval { variant })
    }

    /// The evidence that speaks against it.
    pub fn conflicts(&self) -> impl Iterator<Item = &Evidence> {
        self.evidence.iter().filter(|evidence| evidence.is_conflict())
    }
}

/// Judges a case. See the module's head for how.
///
/// # Examples
/// ```
/// use vaka_core::matching::{MatchInput, Outcome, judge};
/// use vaka_core::sheet::Sheet;
/// use vaka_image::Image;
/// use vaka_image::address::Address;
///
/// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/sheets/gannet.toml"));
/// let sheet = Sheet::parse("gannet.toml", text).unwrap();
/// // Sixteen bytes are no application of this product.
/// let image = Image::from_memory(&[(Address::new(0x5000), vec![0x12; 16])]).unwrap();
/// let verdict = judge(&MatchInput { label: sheet.variant("g1"), ..MatchInput::new(&sheet, &image) });
/// assert_ne!(verdict.outcome, Outcome::Fits);
/// assert!(verdict.conflicts().next().is_some());
/// assert!(verdict.approval().is_none());
/// ```
pub fn judge(case: &MatchInput<'_>) -> Verdict {
    let mut evidence = Vec::new();
    let standing = ModeState::of(case, &mut evidence);
    let chosen = decide(case, &standing, &mut evidence);
    match chosen {
        Some(variant) => decided(case, &standing, variant, evidence),
        None => open(case, &standing, evidence),
    }
}

/// The unit's mode, and its possible variants.
struct ModeState<'a> {
    mode: Mode,
    /// The variants with the unit's ids.
    by_ids: Vec<&'a Variant>,
    /// Those of them that agree with what the unit reports.
    by_board: Vec<&'a Variant>,
    /// Those of them in the part of the product that the file names.
    candidates: Vec<&'a Variant>,
}

impl<'a> ModeState<'a> {
    fn of(case: &MatchInput<'a>, evidence: &mut Vec<Evidence>) -> Self {
        let Some(unit) = case.unit else {
            let all: Vec<&Variant> = case.sheet.variants.iter().collect();
            return Self { mode: Mode::Unknown, by_ids: all.clone(), by_board: all.clone(), candidates: all };
        };
        let booted: Vec<&Variant> = case.sheet.variants_with_route(unit.id).collect();
        let (mode, source, by_ids) = match booted.is_empty() {
            false if matches!(unit.id, DeviceId::Target(_)) => (Mode::Update, Source::Programmer, booted),
            false => (Mode::Update, Source::BootId, booted),
            true if case.sheet.runs(unit.id) => {
                (Mode::Application, Source::ApplicationId, running_as(case.sheet, unit))
            }
            true => (Mode::Unknown, Source::BootId, Vec::new()),
        };
        evidence.push(id_evidence(unit, source, &by_ids));
        let by_board = filter_by_board_info(unit, by_ids.clone());
        let candidates = filter_by_part(case.sheet, case.image, by_board.clone());
        if mode == Mode::Application {
            let signs = &case.sheet.application.signs;
            let own = case.sheet.application.is(unit.id);
            evidence.extend(own.then(|| unit_rules::signs(None, signs, unit, Weight::Neutral)).into_iter().flatten());
        }
        Self { mode, by_ids, by_board, candidates }
    }

    /// Why a variant is not among the candidates.
    fn exclusion(&self, variant: &Variant) -> String {
        let has = |variants: &[&Variant]| variants.iter().any(|other| other.id == variant.id);
        if !has(&self.by_ids) {
            return "no unit of this variant has those ids".to_owned();
        }
        if has(&self.by_board) {
            return "the file names another part of this unit".to_owned();
        }
        let reported: Vec<&str> = self.by_board.iter().map(|other| other.id.as_str()).collect();
        format!("the unit reports what {} reports", reported.join(" or "))
    }

    fn phase(&self) -> Phase {
        if self.mode == Mode::Update { Phase::Final } else { Phase::Provisional }
    }
}

/// The variants whose application has these ids and descriptors.
fn running_as<'a>(sheet: &'a Sheet, unit: &UnitFacts) -> Vec<&'a Variant> {
    let own = |variant: &&Variant| match &variant.shows.id {
        Some(ids) => ids.is(unit.id),
        None => sheet.application.is(unit.id) || sheet.after().is(unit.id),
    };
    let shown: Vec<&Variant> = sheet.variants.iter().filter(own).collect();
    let says = |variant: &&&Variant| {
        let signs = variant.shows.signs.of(unit);
        !signs.is_empty() && signs.iter().all(|sign| sign.is_so == Some(true))
    };
    let told: Vec<&Variant> = shown.iter().filter(says).copied().collect();
    if told.is_empty() { shown } else { told }
}

/// The candidates that match the unit's board information; all of them if it matches none.
pub fn filter_by_board_info<'a>(unit: &UnitFacts, candidates: Vec<&'a Variant>) -> Vec<&'a Variant> {
    let is_it =
        |variant: &&&Variant| variant.route(unit.id).is_some_and(|route| route.matches_reported(unit) == Some(true));
    let named: Vec<&Variant> = candidates.iter().filter(is_it).copied().collect();
    if named.is_empty() { candidates } else { named }
}

/// The candidates of the only part of the product that the file names; all of them otherwise. A unit has
/// each of its parts, so the file may name one; it never names a variant.
fn filter_by_part<'a>(sheet: &Sheet, image: &Image, candidates: Vec<&'a Variant>) -> Vec<&'a Variant> {
    match named_part(&candidates, |variant| names_part(sheet, variant, image)) {
        Some(part) => candidates.into_iter().filter(|variant| variant.part.as_deref() == Some(part)).collect(),
        None => candidates,
    }
}

/// Whether a file fits a variant, and something in it names the variant or its part: a mark, a stamp, or
/// the name of a file for a disk. An address alone names nothing.
pub fn names_part(sheet: &Sheet, variant: &Variant, image: &Image) -> bool {
    let evidence = file_observation(sheet, variant, image);
    let names = |evidence: &Evidence| {
        let source = matches!(evidence.source, Source::Mark | Source::Stamp | Source::FileName);
        source && evidence.weight == Weight::Agrees
    };
    evidence.iter().all(|evidence| !evidence.is_conflict()) && evidence.iter().any(names)
        || takes_its_name(variant, image)
}

/// Whether the name of a file for a disk ends as the variant's does.
fn takes_its_name(variant: &Variant, image: &Image) -> bool {
    image.facts().any_file.as_ref().is_some_and(|file| !file.is_binary && variant.takes_name(&file.name))
}

/// The only part that is `named` by one of its variants, if the variants are of several parts.
pub fn named_part<'v>(variants: &[&'v Variant], named: impl Fn(&Variant) -> bool) -> Option<&'v str> {
    let mut parts: Vec<&str> = variants.iter().filter_map(|variant| variant.part.as_deref()).collect();
    parts.sort_unstable();
    parts.dedup();
    if parts.len() < 2 {
        return None;
    }
    let is_named =
        |part: &&str| variants.iter().any(|variant| variant.part.as_deref() == Some(*part) && named(variant));
    let mut found = parts.into_iter().filter(is_named);
    found.next().filter(|_| found.next().is_none())
}

/// The evidence of the ids. Shared ids decide nothing.
fn id_evidence(unit: &UnitFacts, source: Source, candidates: &[&Variant]) -> Evidence {
    let names: Vec<&str> = candidates.iter().map(|variant| variant.id.as_str()).collect();
    let (weight, means) = match candidates {
        [_, ..] if source == Source::Programmer => {
            (Weight::Neutral, "any board may be wired to it: does not decide".to_owned())
        }
        [] => (Weight::Conflicts, "not an id of this product".to_owned()),
        [only] => (Weight::Decisive, format!("only {} shows it", only.id)),
        _ => (Weight::Neutral, format!("shared by {}: does not decide", names.join(" and "))),
    };
    let variant = None;
    Evidence { about: Subject::Unit, source, says: unit.id.to_string(), means, weight, variant }
}

/// The variant, if the label or the ids settle it.
fn decide<'a>(case: &MatchInput<'a>, standing: &ModeState<'a>, evidence: &mut Vec<Evidence>) -> Option<&'a Variant> {
    let Some(label) = case.label else {
        // A file alone decides nothing, even if the product has a single variant; nor does a chip that is
        // wired to a programmer, which other boards have too.
        return match standing.candidates[..] {
            [only] if case.unit.is_some_and(|unit| !matches!(unit.id, DeviceId::Target(_))) => Some(only),
            _ => None,
        };
    };
    let fits = standing.candidates.iter().any(|variant| variant.id == label.id);
    let (weight, means) = match fits {
        true => (Weight::Decisive, format!("this is {}", label.name)),
        false => (Weight::Conflicts, standing.exclusion(label)),
    };
    let says = label.id.to_string();
    evidence.push(Evidence { about: Subject::Label, source: Source::Label, says, means, weight, variant: None });
    Some(label)
}

/// Everything that speaks for or against one variant.
fn against(case: &MatchInput<'_>, standing: &ModeState<'_>, variant: &Variant) -> Vec<Evidence> {
    let route = route_of(case, standing, variant);
    let mut evidence = match (case.unit, route) {
        (Some(unit), Some(route)) if standing.mode == Mode::Update => {
            unit_rules::of_booted_unit(variant, route, unit, tells_apart(case.sheet, variant, route, unit))
        }
        (Some(unit), _) if standing.mode == Mode::Application => {
            unit_rules::signs(Some(variant), &variant.shows.signs, unit, Weight::Neutral)
        }
        _ => Vec::new(),
    };
    evidence.extend(fact_rules::no_route(variant));
    evidence.extend(case.claim.map(|claim| fact_rules::claim(case.sheet, variant, claim)));
    evidence.extend(rules::of_image(case.sheet, variant, route, case.image));
    evidence.extend(fact_rules::facts(variant, case.image, case.claim));
    evidence.extend(rules::suffix(case.sheet, variant, route, case.unit, case.image));
    evidence.push(completeness_rules::completeness(variant, case.image, case.claim));
    evidence.extend(table_rules::in_file(variant, case.image));
    if case.unit.is_some() {
        evidence.extend(table_rules::in_unit(variant, case.image, case.table, standing.phase() == Phase::Final));
    }
    evidence
}

/// Whether the unit's descriptors distinguish a variant from the others with its id.
fn tells_apart(sheet: &Sheet, variant: &Variant, route: &Route, unit: &UnitFacts) -> bool {
    let others = || sheet.variants_with_route(unit.id).filter(|other| other.id != variant.id);
    let differs = |other: &Variant| other.route(unit.id).is_some_and(|theirs| route.differs_in_report(theirs));
    others().next().is_some() && others().all(differs)
}

/// The route of the unit's current mode, or else the variant's first route.
fn route_of<'a>(case: &MatchInput<'_>, standing: &ModeState<'_>, variant: &'a Variant) -> Option<&'a Route> {
    let under_id = case.unit.filter(|_| standing.mode == Mode::Update).and_then(|unit| variant.route(unit.id));
    under_id.or(variant.routes.first())
}

fn decided(case: &MatchInput<'_>, standing: &ModeState<'_>, variant: &Variant, mut evidence: Vec<Evidence>) -> Verdict {
    evidence.extend(against(case, standing, variant));
    evidence.extend(fact_rules::version(variant, case.image, case.running));
    evidence.extend(case.claim.and_then(|claim| fact_rules::skipped(variant, claim, case.running)));
    evidence.extend(fact_rules::undescribed(case.sheet, variant));
    evidence.extend(case.claim.map(fact_rules::told_losses).into_iter().flatten());
    if case.erase_all {
        evidence.extend(fact_rules::losses(case.sheet, variant, case.image, case.keep));
    }
    let (consents, missing_consents) = split_consents(&evidence, case.consents);
    let hard = evidence.iter().any(|evidence| evidence.weight == Weight::Conflicts);
    let outcome = if hard || !missing_consents.is_empty() { Outcome::Conflicts } else { Outcome::Fits };
    let fits_other = |other: &&Variant| {
        other.id != variant.id && file_observation(case.sheet, other, case.image).iter().all(|e| !e.is_conflict())
    };
    let file_is_wrong = evidence.iter().any(|evidence| evidence.about == Subject::File && evidence.is_conflict());
    let compatible = match file_is_wrong {
        true => case.sheet.variants.iter().filter(fits_other).map(|other| other.id.clone()).collect(),
        false => Vec::new(),
    };
    Verdict {
        phase: standing.phase(),
        outcome,
        identified: identified(case, standing),
        variant: Some(variant.id.clone()),
        occupancy: (outcome == Outcome::Fits).then(|| rules::fill(variant, case.image)),
        evidence,
        question: None,
        self_identifying: false,
        missing_consents: if hard { Vec::new() } else { missing_consents },
        consents,
        compatible,
    }
}

/// The only variant without a conflict in the unit's own reports.
fn identified(case: &MatchInput<'_>, standing: &ModeState<'_>) -> Option<VariantId> {
    let unit = case.unit?;
    let compatible = |variant: &&&Variant| match variant.route(unit.id) {
        Some(route) if standing.mode == Mode::Update => {
            unit_rules::of_booted_unit(variant, route, unit, false).iter().all(|evidence| !evidence.is_conflict())
        }
        _ => standing.mode == Mode::Application,
    };
    let mut compatible = standing.candidates.iter().filter(compatible);
    let only = compatible.next()?;
    compatible.next().is_none().then(|| only.id.clone())
}

/// Splits the conflicts that need consent into those with and those without it.
fn split_consents(evidence: &[Evidence], given: &[String]) -> (Vec<Consent>, Vec<Consent>) {
    let needed = evidence.iter().filter_map(|evidence| {
        let id = evidence.weight.consent()?.to_owned();
        Some(Consent { id, to: evidence.sentence() })
    });
    needed.partition(|agreement| given.contains(&agreement.id))
}

/// All evidence of the file alone about a variant.
fn file_observation(sheet: &Sheet, variant: &Variant, image: &Image) -> Vec<Evidence> {
    let mut evidence = quick_file_observation(sheet, variant, image);
    evidence.extend(Some(completeness_rules::completeness(variant, image, None)).filter(Evidence::is_conflict));
    evidence
}

/// The same without completeness, whose proof reads the whole image.
fn quick_file_observation(sheet: &Sheet, variant: &Variant, image: &Image) -> Vec<Evidence> {
    let route = variant.routes.first();
    let mut evidence = rules::of_image(sheet, variant, route, image);
    evidence.extend(rules::suffix(sheet, variant, route, None, image));
    evidence.extend(fact_rules::facts(variant, image, None));
    evidence.extend(fact_rules::version(variant, image, None).filter(Evidence::is_conflict));
    evidence
}

/// The variants of a product, each with the first conflict, if any, or else its completeness. Judges the file alone.
///
/// # Examples
/// ```
/// use vaka_core::matching::rank_variants;
/// use vaka_core::sheet::Sheet;
/// use vaka_image::Image;
/// use vaka_image::address::Address;
///
/// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/sheets/gannet.toml"));
/// let sheet = Sheet::parse("gannet.toml", text).unwrap();
/// let image = Image::from_memory(&[(Address::new(0x5000), vec![0x12; 16])]).unwrap();
/// let choice = &rank_variants(&sheet, &image)[0];
/// assert_eq!(choice.variant.as_str(), "g1");
/// // Why the image cannot be for it.
/// assert!(choice.against.is_some());
/// ```
pub fn rank_variants(sheet: &Sheet, image: &Image) -> Vec<Choice> {
    let fit = |variant: &Variant| {
        let mut evidence = quick_file_observation(sheet, variant, image);
        if evidence.iter().any(Evidence::is_conflict) {
            return choice(variant, &evidence);
        }
        let completeness = completeness_rules::completeness(variant, image, None);
        evidence.push(completeness.clone());
        Choice { completeness: Some(completeness.means), ..choice(variant, &evidence) }
    };
    sheet.variants.iter().map(fit).collect()
}

fn choice(variant: &Variant, evidence: &[Evidence]) -> Choice {
    let conflict = evidence.iter().find(|evidence| evidence.is_conflict());
    Choice {
        variant: variant.id.clone(),
        name: variant.name.clone(),
        look_at: variant.look_at.clone(),
        against: conflict.map(Evidence::sentence),
        completeness: None,
    }
}

/// Whether these variants share one entry and identify themselves in update mode.
pub fn all_self_identifying(variants: &[&Variant]) -> bool {
    let routes: Vec<&Route> = variants.iter().filter_map(|variant| variant.routes.first()).collect();
    let apart = |index: usize, a: &Route| {
        let mut others = routes[index + 1..].iter();
        others.all(|b| a.id == b.id && a.entry == b.entry && a.differs_in_report(b))
    };
    let told = routes.len() == variants.len() && routes.iter().all(|route| route.is_self_identifying());
    told && !routes.is_empty() && routes.iter().enumerate().all(|(index, route)| apart(index, route))
}

/// No variant is determined: refuse if the image fits none, else ask.
fn open(case: &MatchInput<'_>, standing: &ModeState<'_>, mut evidence: Vec<Evidence>) -> Verdict {
    let mut choices = Vec::new();
    let mut compatible = Vec::new();
    for variant in &standing.candidates {
        let found = against(case, standing, variant);
        let choice = choice(variant, &found);
        if choice.against.is_none() {
            compatible.push(variant.id.clone());
        }
        choices.push(choice);
        evidence.extend(found);
    }
    let unknown_unit = standing.candidates.is_empty();
    let outcome = if compatible.is_empty() || unknown_unit { Outcome::Conflicts } else { Outcome::Undecided };
    Verdict {
        phase: standing.phase(),
        outcome,
        identified: identified(case, standing),
        variant: None,
        evidence,
        question: (outcome == Outcome::Undecided).then_some(Question { choices }),
        self_identifying: standing.phase() == Phase::Provisional && all_self_identifying(&standing.candidates),
        missing_consents: Vec::new(),
        consents: Vec::new(),
        compatible,
        occupancy: None,
    }
}
