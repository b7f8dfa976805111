//! The cases for each variant, stage and route.

use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;
use vaka_boot::bench::selector::Selector;
use vaka_boot::release_install::ReleaseInstall;
use vaka_boot::update::{ReleaseImage, Request};
use vaka_core::event::ExitCode;
use vaka_core::input::InputFile;
use vaka_core::matching::consent;
use vaka_core::release::manifest::{STANDARD, Stage};
use vaka_core::release::{Release, sheet_for};
use vaka_core::sheet::{EntryStep, Route, Sheet, Variant};
use vaka_image::{FirmwareFile, Image, hex};
use vaka_sheet_sim::{Design, NamedStep};
use vaka_sim::scene::StartMode;

use super::actor::UserManner;
use super::bed::{Bed, Start, UpdateEnd};
use crate::cli_error::CliError;

/// How long the tool waits for the unit and its steps, in virtual time.
const WAIT: Duration = Duration::from_secs(20);

/// The number of transfers at which the cable is pulled, for each route. Chosen by us.
const CUTS: u64 = 6;

/// One case.
#[derive(Clone, Debug, Serialize)]
#[serde(tag = "event", rename = "rehearsed")]
pub struct Row {
    pub variant: String,
    /// Name of the stage.
    pub stage: String,
    pub route: String,
    /// The action.
    pub case: String,
    /// The expected result.
    pub expected: &'static str,
    /// The actual result.
    pub found: String,
    pub as_expected: bool,
}

/// A release to rehearse, and the one before it.
pub struct Rehearsal<'r> {
    pub sheet: &'r Sheet,
    pub release: &'r Release,
    pub previous: Option<&'r Release>,
}

/// One variant in one stage over one route.
struct Place<'r> {
    design: Arc<Design>,
    /// The sheet with this route only.
    sheet: Sheet,
    variant: &'r Variant,
    route: &'r Route,
    mode: StartMode,
    images: &'r [ReleaseImage],
    consents: Vec<String>,
    names: [String; 3],
}

impl Rehearsal<'_> {
    /// Runs all cases; each row is passed on as soon as it is known.
    ///
    /// # Errors
    /// An image of the release cannot be read.
    pub fn run(&self, row: &mut dyn FnMut(Row)) -> Result<(), CliError> {
        let sheet = Arc::new(self.sheet.clone());
        for (number, stage) in self.release.manifest.stages.iter().enumerate() {
            let Some(of_stage) = sheet_for(self.sheet, stage).filter(|_| stage.external.is_none()) else {
                row(skipped(stage, "-", "-", "another tool does this stage"));
                continue;
            };
            let offered = self.offered(self.release, stage, &of_stage)?;
            let before = self.previous.and_then(|previous| Some((previous, previous.manifest.stages.get(number)?)));
            let before = before.map(|(previous, stage)| self.offered(previous, stage, &of_stage)).transpose()?;
            for variant in &of_stage.variants {
                self.variant((&sheet, &of_stage), stage, (variant, &offered, before.as_deref()), row);
            }
        }
        Ok(())
    }

    fn offered(&self, release: &Release, stage: &Stage, sheet: &Sheet) -> Result<Vec<ReleaseImage>, CliError> {
        let install =
            ReleaseInstall { buses: &[], guard: None, secrets: None, sheet: self.sheet, release, build: STANDARD };
        Ok(install.offered(stage, sheet)?)
    }

    fn variant(
        &self,
        (whole, of_stage): (&Arc<Sheet>, &Sheet),
        stage: &Stage,
        (variant, images, before): (&Variant, &[ReleaseImage], Option<&[ReleaseImage]>),
        row: &mut dyn FnMut(Row),
    ) {
        let id = variant.id.as_str();
        let design = match Design::new(whole.clone(), id) {
            Ok(design) => Arc::new(design),
            Err(error) => return row(skipped(stage, id, "-", &crate::simulated::reason(&error))),
        };
        if !images.iter().any(|image| image.variant == id) {
            return row(skipped(stage, id, "-", "the release has no image for it"));
        }
        let is_first =
            stage.stage.as_ref().and_then(|id| self.sheet.stage(id)).is_some_and(|own| own.replaces_bootloader);
        for (index, route) in variant.routes.iter().enumerate() {
            let mut sheet = of_stage.clone();
            for other in sheet.variants.iter_mut().filter(|other| other.id == variant.id) {
                other.routes = variant.routes.get(index).cloned().into_iter().collect();
            }
            let losses = self.release.manifest.loses.iter().map(|loss| format!("lose-{}", loss.id));
            let place = Place {
                design: design.clone(),
                sheet,
                variant,
                route,
                mode: if is_first { StartMode::Blank } else { StartMode::Application },
                images,
                consents: losses.collect(),
                names: [id.to_owned(), stage.name.clone(), route.kind.to_string()],
            };
            place.rehearse(before, row);
        }
    }
}

impl Place<'_> {
    fn rehearse(&self, before: Option<&[ReleaseImage]>, row: &mut dyn FnMut(Row)) {
        let Some(own) = self.images.iter().find(|image| self.is_for(image)) else { return };
        let transfers = self.ordinary(own, row);
        self.others(own, row);
        if let Some(transfers) = transfers {
            self.cuts(own, transfers, row);
        }
        self.slips(own, row);
        self.older(own, before, row);
    }

    fn is_for(&self, image: &ReleaseImage) -> bool {
        image.variant == self.variant.id.as_str()
    }

    fn request<'a>(&self, images: &'a [ReleaseImage]) -> Request<'a> {
        let (label, consents) = (Some(self.variant.id.to_string()), self.consents.clone());
        Request { unit: self.unit(), offered: images, label, consents, wait: WAIT, ..Request::new(&[]) }
    }

    /// A request to install files, whatever they are for.
    fn request_of(&self, files: &[InputFile]) -> Request<'static> {
        let (label, consents) = (Some(self.variant.id.to_string()), self.consents.clone());
        let files = files.to_vec();
        Request { unit: self.unit(), files, label, consents, wait: WAIT, ..Request::new(&[]) }
    }

    /// The selector of a unit that is written through a programmer.
    fn unit(&self) -> Option<Selector> {
        self.route.kind.programmer().map(|programmer| Selector::Programmer(programmer.name.clone()))
    }

    fn bed(&self, firmware: Option<&Image>, pulled_at: Option<u64>) -> Bed {
        let start = Start { mode: self.mode, through_programmer: self.route.kind.programmer().is_some() };
        Bed::new(&self.design, start, firmware, pulled_at)
    }

    /// The manual steps of the route by their names, those of its recovery if it has some.
    fn step_names(&self, is_recovery: bool) -> Vec<String> {
        let entry = self.route.manual_steps();
        let recovery: Vec<_> = self.route.recovery.iter().collect();
        let wanted = if is_recovery && !recovery.is_empty() { recovery } else { entry };
        let known = self.design.steps();
        let name =
            |action: &str| known.iter().find(|named| named.step.action == action).map(|named| named.name.clone());
        wanted.into_iter().filter_map(|step| name(&step.action)).collect()
    }

    /// The steps of a unit that no running application asks for.
    fn unasked(&self) -> Vec<String> {
        if self.mode == StartMode::Blank { self.step_names(false) } else { Vec::new() }
    }

    fn add_row(
        &self,
        row: &mut dyn FnMut(Row),
        case: &str,
        (expected, found, as_expected): (&'static str, String, bool),
    ) {
        let [variant, stage, route] = self.names.clone();
        row(Row { variant, stage, route, case: case.to_owned(), expected, found, as_expected });
    }

    /// Whether an update is complete, and the memory of the unit proves it.
    fn is_done(&self, ended: &UpdateEnd, bed: &Bed, image: &Image) -> bool {
        ended.report.code == ExitCode::Done && (self.variant.image.any_file.is_some() || bed.holds(image))
    }

    /// The right image; returns the number of transfers.
    fn ordinary(&self, own: &ReleaseImage, row: &mut dyn FnMut(Row)) -> Option<u64> {
        let bed = self.bed(None, None);
        let ended = bed.update(&self.sheet, &self.request(self.images), UserManner::Right, &self.unasked());
        let is_done = self.is_done(&ended, &bed, &own.image);
        self.add_row(
            row,
            "the image for this variant",
            ("installed and confirmed", describe_end(&ended, &bed), is_done),
        );
        is_done.then(|| bed.transfers())
    }

    /// The images for other variants.
    fn others(&self, own: &ReleaseImage, row: &mut dyn FnMut(Row)) {
        for other in self.images.iter().filter(|other| !self.is_for(other) && other.image != own.image) {
            let bed = self.bed(None, None);
            let before = bed.memory();
            let request = self.request_of(&other.files);
            let ended = bed.update(&self.sheet, &request, UserManner::Right, &self.unasked());
            let is_refused = ended.report.code == ExitCode::Refused && bed.memory() == before;
            let case = format!("the image for {}", other.variant);
            self.add_row(row, &case, ("refused, nothing changed", describe_end(&ended, &bed), is_refused));
        }
    }

    /// The cable is pulled at a sample of transfers, and the update run again.
    fn cuts(&self, own: &ReleaseImage, transfers: u64, row: &mut dyn FnMut(Row)) {
        let (mut wrong, mut resumed) = (None, 0);
        for index in 1..=CUTS.min(transfers) {
            let at = 1 + index * transfers / (CUTS + 1);
            let bed = self.bed(None, Some(at));
            let first = bed.update(&self.sheet, &self.request(self.images), UserManner::Right, &self.unasked());
            if first.report.code == ExitCode::Done {
                resumed += 1;
                if !self.is_done(&first, &bed, &own.image) {
                    wrong = Some(format!("transfer {at}: a false success"));
                }
                continue;
            }
            bed.clear_faults();
            let steps = if bed.runs() { Vec::new() } else { self.step_names(true) };
            let second = bed.update(&self.sheet, &self.request(self.images), UserManner::Right, &steps);
            if !self.is_done(&second, &bed, &own.image) {
                wrong = Some(format!("transfer {at}: the second run: {}", describe_end(&second, &bed)));
            }
        }
        let cuts = CUTS.min(transfers);
        let is_right = wrong.is_none();
        let found = wrong.unwrap_or_else(|| format!("complete; {resumed} of {cuts} in the first run"));
        let case = format!("the cable pulled at {cuts} of {transfers} transfers");
        self.add_row(row, &case, ("complete in the next run", found, is_right));
    }

    /// Manual steps are left out, or done in another order.
    fn slips(&self, own: &ReleaseImage, row: &mut dyn FnMut(Row)) {
        let required = |step: &&EntryStep| match step {
            EntryStep::Manual(step) => !step.advised && step.only_if.is_none(),
            EntryStep::Signal(_) => false,
        };
        let steps: Vec<&EntryStep> = self.route.entry.iter().filter(required).collect();
        // A unit without an application is not asked to do steps, and a simulated programmer is always wired.
        if steps.is_empty() || self.mode == StartMode::Blank || self.unit().is_some() {
            return;
        }
        let known: Vec<NamedStep> = self.design.steps();
        let mut manners: Vec<(String, UserManner)> = Vec::new();
        for step in &steps {
            let EntryStep::Manual(step) = step else { continue };
            let Some(named) = known.iter().find(|named| named.step.action == step.action) else { continue };
            manners.push((format!("without the step '{}'", named.name), UserManner::Skips(named.name.clone())));
        }
        if steps.len() > 1 {
            manners.push(("the last step first".to_owned(), UserManner::LastFirst));
        }
        for (case, manner) in manners {
            let bed = self.bed(None, None);
            let before = bed.memory();
            let ended = bed.update(&self.sheet, &self.request(self.images), manner.clone(), &[]);
            let is_unchanged = bed.memory() == before && ended.report.code == ExitCode::NoUnit;
            let is_done = self.is_done(&ended, &bed, &own.image);
            let (expected, as_expected) = match manner {
                // Steps in another order may be right at the second try: a jumper stays set.
                UserManner::LastFirst => ("nothing changed, or installed at another try", is_unchanged || is_done),
                _ => ("not in update mode, nothing changed", is_unchanged),
            };
            self.add_row(row, &case, (expected, describe_end(&ended, &bed), as_expected));
        }
    }

    /// From the version before, and back to an older one.
    fn older(&self, own: &ReleaseImage, before: Option<&[ReleaseImage]>, row: &mut dyn FnMut(Row)) {
        if self.mode == StartMode::Blank {
            return;
        }
        let previous = before.and_then(|images| images.iter().find(|image| self.is_for(image)));
        if let Some(previous) = previous {
            let bed = self.bed(Some(&previous.image), None);
            let ended = bed.update(&self.sheet, &self.request(self.images), UserManner::Right, &[]);
            let is_done = self.is_done(&ended, &bed, &own.image);
            self.add_row(
                row,
                "from the release before",
                ("installed and confirmed", describe_end(&ended, &bed), is_done),
            );
        }
        // Without a version in the image the tool cannot know which one is older.
        if self.variant.image.version.is_none() {
            return;
        }
        let older = match previous {
            Some(previous) => Some(previous.image.clone()),
            None => Design::factory_image(self.variant),
        };
        let Some(older) = older else { return };
        let file = [InputFile::of(FirmwareFile::parse(&hex::write(&older)))];
        let bed = self.bed(Some(&own.image), None);
        let memory = bed.memory();
        let ended = bed.update(&self.sheet, &self.request_of(&file), UserManner::Right, &[]);
        let is_refused = ended.report.code == ExitCode::Refused && bed.memory() == memory;
        self.add_row(row, "an older version", ("refused without consent", describe_end(&ended, &bed), is_refused));
        let floor = self.variant.image.minimum_version.as_ref().map(|(floor, _)| floor);
        let version = self.variant.image.version.as_ref().and_then(|field| field.read(&older));
        if floor.is_some_and(|floor| version.is_none_or(|version| version < *floor)) {
            return;
        }
        let mut request = self.request_of(&file);
        request.consents.push(consent::OLDER_VERSION.to_owned());
        let ended = bed.update(&self.sheet, &request, UserManner::Right, &[]);
        let is_done = self.is_done(&ended, &bed, &older);
        self.add_row(
            row,
            "an older version, with consent",
            ("installed and confirmed", describe_end(&ended, &bed), is_done),
        );
    }
}

/// A case that is not rehearsed; it counts as expected.
fn skipped(stage: &Stage, variant: &str, route: &str, why: &str) -> Row {
    Row {
        variant: variant.to_owned(),
        stage: stage.name.clone(),
        route: route.to_owned(),
        case: "not rehearsed".to_owned(),
        expected: "-",
        found: why.to_owned(),
        as_expected: true,
    }
}

/// The end of an update in a few words.
fn describe_end(ended: &UpdateEnd, bed: &Bed) -> String {
    let words = match (ended.report.code, &ended.failure) {
        (ExitCode::Done, _) => "installed and confirmed".to_owned(),
        (_, Some(failure)) => failure.clone(),
        (code, None) => format!("exit status {}", code as u8),
    };
    if bed.is_bricked() { format!("{words} The unit is bricked.") } else { words }
}
