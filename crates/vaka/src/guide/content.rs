//! The content of a guide, made from the sheet and the release.

use vaka_core::matching::image_version;
use vaka_core::release::manifest::{STANDARD, Stage};
use vaka_core::release::{Release, sheet_for};
use vaka_core::sheet::{Sheet, Variant, VersionSource};

use super::hands::{Hand, RouteHands};

/// The condition of steps that a unit does not need in every state.
const IF_ASKED: &str = "Only if the program asks for it";

/// The subject of a guide.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    pub sheet: &'a Sheet,
    /// File name of the sheet or of the release.
    pub file: &'a str,
    /// The release; a guide without one is for any firmware file.
    pub release: Option<&'a Release>,
    /// Build of the release.
    pub build: &'a str,
    /// The only variant to describe.
    pub variant: Option<&'a str>,
}

/// A whole guide.
#[derive(Clone, Debug)]
pub struct Content {
    pub title: String,
    /// Maker and date.
    pub subtitle: String,
    /// The tools and files that the reader needs.
    pub needs: Vec<String>,
    /// How to find out which board it is; empty with one variant.
    pub boards: Vec<Board>,
    /// Labels that do not distinguish the boards, and why.
    pub no_labels: Vec<String>,
    /// Everything that is lost.
    pub losses: Vec<String>,
    /// One part for each variant.
    pub parts: Vec<Part>,
    /// Possible failures, each with its remedy.
    pub trouble: Vec<(String, String)>,
}

/// One board.
#[derive(Clone, Debug)]
pub struct Board {
    pub name: String,
    /// Places and the texts there; all must match.
    pub labels: Vec<(String, String)>,
}

/// The work on one variant.
#[derive(Clone, Debug)]
pub struct Part {
    /// Its name; `None` if the product has only one.
    pub board: Option<String>,
    pub steps: Vec<Step>,
}

/// One step.
#[derive(Clone, Debug)]
pub enum Step {
    /// A heading between steps; it has no number.
    Heading(String),
    /// A command to type, and what happens.
    Command { text: String, then: String },
    /// A step by hand.
    Hand(Hand),
    /// Something to compare at the end.
    See(String),
}

impl Content {
    /// The guide of a product; with a release, of its installation.
    ///
    /// `None` if there is nothing for the variant.
    pub fn new(subject: &Subject<'_>) -> Option<Self> {
        let Subject { sheet, release, .. } = *subject;
        let is_wanted = |variant: &&Variant| {
            let named = |name| sheet.variant_by_label(name).is_some_and(|named| named.id == variant.id);
            subject.variant.is_none_or(named) && subject.is_for(variant)
        };
        let variants: Vec<&Variant> = sheet.variants.iter().filter(is_wanted).collect();
        if variants.is_empty() {
            return None;
        }
        let version = release.map(|release| format!(" to {}", release.manifest.version)).unwrap_or_default();
        let date = release.map(|release| format!(", {}", release.manifest.date)).unwrap_or_default();
        let labels = sheet.product.ambiguous_labels.iter();
        let has_labels = variants.len() > 1 && variants.iter().any(|variant| !variant.look_at.is_empty());
        Some(Self {
            title: format!("{}: update{version}", sheet.product.name),
            subtitle: format!("{}{date}", sheet.product.maker),
            needs: subject.needs(),
            boards: variants.iter().filter(|_| has_labels).map(|variant| Board::new(variant)).collect(),
            no_labels: labels
                .map(|label| format!("\"{}\" ({}) does not help: {}.", label.reads, label.place, label.why))
                .collect(),
            losses: release.map(losses).unwrap_or_default(),
            parts: variants.iter().map(|variant| subject.part(variant)).collect(),
            trouble: trouble(sheet, &variants),
        })
    }

    /// The file names of all pictures.
    pub fn pictures(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().flat_map(|part| &part.steps).filter_map(|step| match step {
            Step::Hand(hand) => hand.picture.as_deref(),
            Step::Heading(_) | Step::Command { .. } | Step::See(_) => None,
        })
    }
}

impl Board {
    fn new(variant: &Variant) -> Self {
        let labels = variant.look_at.iter().map(|look| (look.place.clone(), look.reads.clone())).collect();
        Self { name: variant.name.clone(), labels }
    }
}

fn losses(release: &Release) -> Vec<String> {
    release.manifest.loses.iter().map(|loss| sentence(&loss.what)).collect()
}

/// The text with a capital at the start and a full stop at the end.
fn sentence(text: &str) -> String {
    let mut letters = text.trim_end_matches('.').chars();
    let first = letters.next().into_iter().flat_map(char::to_uppercase);
    format!("{}.", first.chain(letters).collect::<String>())
}

impl Subject<'_> {
    /// Whether the release has something for the variant.
    fn is_for(&self, variant: &Variant) -> bool {
        self.release.is_none_or(|release| {
            let mut stages = release.manifest.stages.iter();
            stages.any(|stage| stage.image(variant.id.as_str(), self.build).is_some())
        })
    }

    fn needs(&self) -> Vec<String> {
        let mut needs = vec!["A computer with the program vaka.".to_owned()];
        match self.release {
            Some(_) => needs.push(format!("The release {}, in the folder where you type the commands.", self.file)),
            None => needs.push(format!(
                "The product sheet {} and the firmware file for your board, in the folder where you type the commands.",
                self.file
            )),
        }
        if let Some(signer) = self.release.and_then(|release| release.signer.as_ref()) {
            let id = signer.short();
            needs.push(format!(
                "The maker's key {id} in the list of 'vaka keys list'. If it is missing, ask {} for the key.",
                self.sheet.product.maker
            ));
        }
        if self.sheet.application.id.is_some() {
            needs.push("A USB cable that carries data.".to_owned());
        }
        if !self.sheet.product.adapters.is_empty() {
            needs.push("The CAN adapter for the bus of the unit.".to_owned());
        }
        needs.extend(self.sheet.programmers.iter().map(|programmer| format!("The board \"{}\".", programmer.about)));
        needs
    }

    fn part(&self, variant: &Variant) -> Part {
        let mut steps = Vec::new();
        if let Some(instead) = &variant.instead {
            steps.push(Step::Hand(Hand { action: instead.clone(), ..Hand::default() }));
        } else {
            steps.push(Step::Hand(Hand { action: self.connection().to_owned(), ..Hand::default() }));
            steps.push(Step::Command { text: self.command(variant), then: self.after_command() });
            self.by_hand(variant, &mut steps);
            self.comparison(variant, &mut steps);
        }
        Part { board: (self.sheet.variants.len() > 1).then(|| variant.name.clone()), steps }
    }

    fn connection(&self) -> &'static str {
        if self.sheet.product.adapters.is_empty() {
            "Connect the unit to the computer, and no other unit of its kind."
        } else {
            "Connect the CAN adapter to the computer and to the bus of the unit."
        }
    }

    /// The command for a variant. What the release loses is on this page, so the command accepts it.
    fn command(&self, variant: &Variant) -> String {
        let mut words = vec!["vaka update".to_owned()];
        match self.release {
            Some(_) => words.push(quoted(self.file)),
            None => words.push(format!("FIRMWARE --sheets {}", quoted(self.file))),
        }
        if self.sheet.variants.len() > 1 {
            words.push(format!("--variant {}", variant.id));
        }
        words.extend(variant.part.as_ref().map(|part| format!("--part {part}")));
        if let Some(release) = self.release {
            if self.build != STANDARD {
                words.push(format!("--build {}", quoted(self.build)));
            }
            words.extend(release.manifest.loses.iter().map(|loss| format!("--allow lose-{}", loss.id)));
            if release.signer.is_none() {
                words.push("--allow unsigned".to_owned());
            }
        }
        words.join(" ")
    }

    fn after_command(&self) -> String {
        let file =
            if self.release.is_some() { "" } else { "In place of FIRMWARE type the name of the firmware file. " };
        format!(
            "{file}The program checks that the firmware fits this unit, and shows each of the next steps when it is due."
        )
    }

    fn by_hand(&self, variant: &Variant, steps: &mut Vec<Step>) {
        let before = steps.len();
        let mut at_end = Vec::new();
        match self.release {
            Some(release) => at_end = self.stages(&release.manifest.stages, variant, steps),
            None => {
                if let Some(route) = variant.routes.first() {
                    let hands = RouteHands::new(route);
                    steps.extend(hands.steps.into_iter().map(Step::Hand));
                    at_end = hands.at_end;
                }
            }
        }
        steps.extend(at_end.into_iter().map(Step::Hand));
        if steps.len() == before {
            steps.push(Step::See(
                "There is nothing to do by hand. Leave the cable in until the program ends.".to_owned(),
            ));
        }
    }

    /// The steps of all stages; returns what is undone at the end, the last step first.
    fn stages(&self, stages: &[Stage], variant: &Variant, steps: &mut Vec<Step>) -> Vec<Hand> {
        let mut at_end = Vec::new();
        let mut shown = None;
        for (number, stage) in (1..).zip(stages) {
            if stages.len() > 1 {
                steps.push(Step::Heading(format!("Stage {number} of {}: {}", stages.len(), stage.name)));
            }
            if let Some(external) = &stage.external {
                steps.push(Step::Hand(Hand::external(external)));
                continue;
            }
            let own = sheet_for(self.sheet, stage);
            let routes = own.as_ref().and_then(|own| own.variant(variant.id.as_str())).map(|own| &own.routes[..]);
            let routes = routes.unwrap_or_default();
            // The stage before leaves a unit without an application in the update mode of this one.
            let may_be_there = shown.is_some_and(|id| routes.iter().any(|route| Some(&route.id) == id));
            let before = steps.len();
            if let Some(mut hands) = routes.first().map(RouteHands::new) {
                if may_be_there {
                    hands.steps.iter_mut().for_each(|hand| hand.when = Some(IF_ASKED.to_owned()));
                }
                steps.extend(hands.steps.into_iter().map(Step::Hand));
                at_end.splice(0..0, hands.at_end);
            }
            if steps.len() == before {
                steps.push(Step::See("The program goes on by itself.".to_owned()));
            }
            let described = stage.stage.as_deref().and_then(|id| self.sheet.stage(id));
            shown = described.map(|described| described.shows.id.as_ref());
        }
        at_end
    }

    /// Adds the signs at the end, of the program and of the unit.
    fn comparison(&self, variant: &Variant, steps: &mut Vec<Step>) {
        let told = *self.sheet.version_source(variant) != VersionSource::Nowhere;
        let version = self.version(variant).filter(|_| told);
        steps.push(Step::See(match version {
            Some(version) => format!("The program ends with \"Done.\", and says that the unit runs {version}."),
            None => "The program ends with \"Done.\".".to_owned(),
        }));
        steps.extend(self.sheet.application.see.iter().map(|sign| Step::See(sentence(sign))));
    }

    /// The version of the release's last image for the variant.
    fn version(&self, variant: &Variant) -> Option<String> {
        let release = self.release?;
        let mut images = release.manifest.stages.iter().rev().filter(|stage| stage.external.is_none());
        let (stage, entry) = images.find_map(|stage| Some((stage, stage.image(variant.id.as_str(), self.build)?)))?;
        let sheet = sheet_for(self.sheet, stage)?;
        let variant = sheet.variant(variant.id.as_str())?;
        let image = release.image(entry, &sheet, variant).ok()?;
        image_version(variant, &image).map(|version| version.to_string())
    }
}

/// A word for the shell of any system.
fn quoted(word: &str) -> String {
    let is_plain = word.chars().all(|c| c.is_ascii_alphanumeric() || "-_.+/".contains(c));
    if is_plain { word.to_owned() } else { format!("\"{word}\"") }
}

fn trouble(sheet: &Sheet, variants: &[&Variant]) -> Vec<(String, String)> {
    let mut all = vec![
        (
            "The program finds no unit.".to_owned(),
            "Type 'vaka diagnose' and follow its advice: most often it is the cable, or missing rights.".to_owned(),
        ),
        (
            "The program refuses.".to_owned(),
            "Its last lines give the reason, and say what was changed. Most often the unit is another board than you chose."
                .to_owned(),
        ),
        (
            "The program fails, or the cable came off.".to_owned(),
            "Type the same command again. It continues where it ended.".to_owned(),
        ),
    ];
    let recovery = variants.iter().flat_map(|variant| &variant.routes).find(|route| !route.recovery.is_empty());
    if let Some(route) = recovery {
        let steps: Vec<&str> = route.recovery.iter().map(|step| step.action.as_str()).collect();
        all.push((
            format!("The {} does not respond at all.", sheet.product.name),
            format!("{} Then type the same command again.", steps.join(" ")),
        ));
    }
    all
}
