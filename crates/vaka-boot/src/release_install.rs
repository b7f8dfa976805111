//! Installation of a release, stage by stage: each stage is an update by its own route or an
//! external step. Completed stages are recognized, so an interrupted run resumes with the next
//! one.

use std::sync::Arc;

use vaka_core::event::{Check, ExitCode, FailureText, Report, RestartState, RunOutcome, StageState, UndoRecord};
use vaka_core::matching::{Phase, image_version};
use vaka_core::plan::Plan;
use vaka_core::release::manifest::{Entry, ExternalStep, Stage};
use vaka_core::release::{ImageError, Release, sheet_for};
use vaka_core::sheet::{Ids, ManualStep, Sheet, Undo, Variant};
use vaka_usb::{Bus, DeviceInfo};

use crate::bench::buses::Bench;
use crate::bench::candidate::id_of;
use crate::bench::lock::UnitLock;
use crate::bench::open_error::bus_failure;
use crate::bench::selector::Selector;
use crate::bench::waiting::Wait;
use crate::context::Context;
use crate::event::Event;
use crate::failure::{ExternalStepError, Failure, FailureKind, UnitCondition};
use crate::operator::Operator;
use crate::protocol::identity;
use crate::remedy::Remedy;
use crate::secrets::SecretSource;
use crate::update::{self, ReleaseImage, Request};
use crate::warning::Warning;

/// A release on its way into a unit.
pub struct ReleaseInstall<'a> {
    /// The buses.
    pub buses: &'a [Arc<dyn Bus>],
    /// The locks against other processes.
    pub guard: Option<Arc<dyn UnitLock>>,
    /// The source of values that dialects ask the user for.
    pub secrets: Option<Arc<dyn SecretSource>>,
    /// The product's sheet.
    pub sheet: &'a Sheet,
    /// The release.
    pub release: &'a Release,
    /// The build.
    pub build: &'a str,
}

/// Callbacks of the caller around the stages.
pub trait StageHooks {
    /// A stage begins.
    fn begins(&mut self, number: usize);

    /// Exports a verified file for an external tool; returns its path.
    ///
    /// # Errors
    /// The file cannot be written.
    fn export_file(&mut self, name: &str, bytes: &[u8]) -> Result<String, FailureText>;
}

/// The unit's known state so far.
struct InstallState {
    unit: Option<Selector>,
    /// Its last location.
    place: Option<String>,
    label: Option<String>,
    variant: Option<String>,
    /// Undo actions of earlier stages for the end, the last first.
    undo: Vec<Undo>,
}

/// One run.
struct Installer<'r, 'p> {
    staged: &'r ReleaseInstall<'r>,
    request: &'r Request<'r>,
    operator: &'r mut dyn Operator,
    cx: &'r mut Context<'p>,
    around: &'r mut dyn StageHooks,
    state: InstallState,
}

impl ReleaseInstall<'_> {
    /// Runs all stages, or only shows their plans. The last event is a `result`, which is also
    /// returned: that of the stage that ended the run.
    pub fn run(
        &self,
        request: &Request<'_>,
        operator: &mut dyn Operator,
        cx: &mut Context<'_>,
        around: &mut dyn StageHooks,
    ) -> Report {
        let state = InstallState {
            unit: request.unit.clone(),
            place: None,
            label: request.label.clone(),
            variant: None,
            undo: Vec::new(),
        };
        Installer { staged: self, request, operator, cx, around, state }.all()
    }

    /// An external step whose end the bus does not show requires an operator.
    fn require_operator(&self, operator: &dyn Operator) -> Result<(), Failure> {
        let mut stages = self.release.manifest.stages.iter();
        let needs = |stage: &&Stage| stage.external.as_ref().is_some_and(|external| external.shows.is_none());
        match stages.find(needs) {
            Some(stage) if !operator.is_there() => {
                let failure = Failure::new(FailureKind::NeedsUser { stage: stage.name.clone() });
                Err(failure.unchanged().remedy(Remedy::RunAtTerminal))
            }
            _ => Ok(()),
        }
    }

    fn bench<'s>(&self, sheets: &'s [Sheet]) -> Bench<'s> {
        let bench = Bench::new(self.buses.to_vec(), sheets);
        let bench = match &self.guard {
            Some(guard) => bench.guarded(guard.clone()),
            None => bench,
        };
        match &self.secrets {
            Some(secrets) => bench.with_secrets(secrets.clone()),
            None => bench,
        }
    }

    fn no_stage(&self, stage: &Stage) -> Failure {
        let (stage, product) = (stage.stage.clone().unwrap_or_default(), self.sheet.product.name.clone());
        Failure::new(FailureKind::NoSuchStage { stage, product })
            .unit(UnitCondition::NoUnit)
            .remedy(Remedy::UseSheetOfRelease)
    }

    /// The images of a stage in the selected build, one for each variant.
    ///
    /// # Errors
    /// An image cannot be read.
    pub fn offered(&self, stage: &Stage, sheet: &Sheet) -> Result<Vec<ReleaseImage>, Failure> {
        let of = |variant: &Variant| {
            let entry = stage.image(variant.id.as_str(), self.build)?;
            let image = || {
                Ok(ReleaseImage {
                    variant: variant.id.to_string(),
                    image: self.release.image(entry, sheet, variant)?,
                    files: self.release.files(entry, sheet)?,
                    claim: self.release.claim(entry),
                })
            };
            Some(image())
        };
        sheet.variants.iter().filter_map(of).collect::<Result<Vec<_>, ImageError>>().map_err(|error| {
            let failure = Failure::new(FailureKind::ReleaseImage(error));
            failure.unit(UnitCondition::NoUnit).remedy(Remedy::PackAgain)
        })
    }

    /// Whether an attached unit has already completed a stage.
    fn is_past(&self, stage: &Stage, known: &InstallState, offered: &[ReleaseImage]) -> Result<bool, Failure> {
        let Some(device) = self.the_unit(known)? else { return Ok(false) };
        let facts = identity::from_list(&device);
        // A label that is not a variant's id leaves all variants open: the newest counts.
        let is_labelled = |offered: &&ReleaseImage| known.label.as_ref() == Some(&offered.variant);
        let has_label = offered.iter().any(|offered| is_labelled(&offered));
        let writes = |sheet: &Sheet| {
            let of = |offered: &ReleaseImage| image_version(sheet.variant(&offered.variant)?, &offered.image);
            offered.iter().filter(|offered| !has_label || is_labelled(offered)).filter_map(of).max()
        };
        let described = stage.stage.as_deref().and_then(|id| self.sheet.stage(id));
        if let Some(described) = described {
            let writes = writes(&self.sheet.for_stage(described));
            return Ok(described.is_past(&facts, writes.as_ref(), &self.sheet.application));
        }
        let shows = stage.external.as_ref().and_then(|external| external.shows.as_ref()?.parse::<Ids>().ok());
        let told = self.sheet.application.version.of(&facts).filter(|_| self.sheet.application.is(facts.id));
        Ok(shows.is_some_and(|shows| shows.is(facts.id)) && told.is_some() && told >= writes(self.sheet))
    }

    /// The unit, if exactly one is attached.
    fn the_unit(&self, known: &InstallState) -> Result<Option<DeviceInfo>, Failure> {
        let mut sheets = vec![self.sheet.clone()];
        sheets.extend(self.sheet.stages.iter().map(|stage| self.sheet.for_stage(stage)));
        let bench = self.bench(&sheets);
        let mut found = bench.select(known.unit.as_ref(), false).map_err(|error| bus_failure(&error))?;
        found.dedup_by(|a, b| a.device.location == b.device.location);
        Ok(if found.len() == 1 { found.pop().map(|found| found.device) } else { None })
    }

    /// A summary of a stage in one line.
    fn words(&self, stage: &Stage) -> String {
        let files = |entry: &Entry| {
            let names: Vec<&str> =
                entry.files.iter().map(|file| file.file.rsplit('/').next().unwrap_or_default()).collect();
            format!("{} for {}", names.join(" and "), entry.variants.join(", "))
        };
        let own = |entry: &&Entry| entry.build == self.build || !stage.images.iter().any(|e| e.build == self.build);
        let images: Vec<String> = stage.images.iter().filter(own).map(files).collect();
        match &stage.external {
            Some(external) => format!("{}, with external tool {}", images.join("; "), external.tool),
            None => images.join("; "),
        }
    }
}

impl Installer<'_, '_> {
    fn all(&mut self) -> Report {
        let stages = &self.staged.release.manifest.stages;
        if self.has_many() || stages[0].external.is_some() {
            for (index, stage) in stages.iter().enumerate() {
                self.tell(index, stage, StageState::Planned);
            }
        }
        if let Err(failure) = self.staged.require_operator(self.operator) {
            return ended(failure, self.cx);
        }
        let mut last = None;
        for (index, stage) in stages.iter().enumerate() {
            match self.one(index, stage) {
                Ok(None) => {}
                Ok(Some(report)) if report.code == ExitCode::Done && index + 1 < stages.len() => {
                    if self.request.plan_only {
                        self.plan_rest(&stages[index + 1..]);
                        return report;
                    }
                    last = Some(report);
                }
                Ok(Some(report)) => return report,
                Err(failure) => return ended(failure, self.cx),
            }
        }
        last.unwrap_or_else(|| unchanged(self.state.variant.as_deref(), self.staged.sheet, self.cx))
    }

    fn has_many(&self) -> bool {
        self.staged.release.manifest.stages.len() > 1
    }

    /// Runs one stage; `None` if the unit has completed it before.
    fn one(&mut self, index: usize, stage: &Stage) -> Result<Option<Report>, Failure> {
        let sheet = sheet_for(self.staged.sheet, stage).ok_or_else(|| self.staged.no_stage(stage))?;
        let offered = match &stage.external {
            None => self.staged.offered(stage, &sheet)?,
            // Files for external tools need not be in a format that we can parse.
            Some(_) => self.staged.offered(stage, &sheet).unwrap_or_default(),
        };
        if self.staged.is_past(stage, &self.state, &offered)? {
            self.tell(index, stage, StageState::Past);
            self.undo_of_past(stage);
            return Ok(None);
        }
        if self.has_many() {
            self.tell(index, stage, StageState::Started);
        }
        self.around.begins(index);
        let report = match &stage.external {
            Some(external) => self.external_step(stage, external)?,
            None => {
                let sheets = [sheet];
                let bench = self.staged.bench(&sheets);
                let (unit, label) = (self.state.unit.clone(), self.state.label.clone());
                let undo_later = index + 1 < self.staged.release.manifest.stages.len();
                let append_undo = &self.state.undo[..];
                let request =
                    Request { offered: &offered, unit, label, undo_later, append_undo, ..self.request.clone() };
                update::run(&bench, &request, self.operator, self.cx)
            }
        };
        self.learn(&report);
        if report.code == ExitCode::Done && self.has_many() && !self.request.plan_only {
            self.tell(index, stage, StageState::Done);
        }
        Ok(Some(report))
    }

    /// A device between two stages still has the first stage's manual steps to undo.
    fn undo_of_past(&mut self, stage: &Stage) {
        let Some(described) = stage.stage.as_deref().and_then(|id| self.staged.sheet.stage(id)) else { return };
        let unit = self.staged.the_unit(&self.state).ok().flatten();
        let is_between = unit.is_some_and(|unit| described.shows.is(id_of(&unit)));
        let mut routes = described.routes.iter();
        let of_variant = routes.find(|(id, _)| self.state.label.as_deref().is_none_or(|label| label == id.as_str()));
        if let Some(route) = of_variant.and_then(|(_, routes)| routes.first()).filter(|_| is_between) {
            self.undo_before(update::undo_of(route));
        }
    }

    /// The last step done is undone first.
    fn undo_before(&mut self, mut steps: Vec<Undo>) {
        steps.append(&mut self.state.undo);
        self.state.undo = steps;
    }

    /// The next stage is for the same unit, on the same port, of the same variant.
    fn learn(&mut self, report: &Report) {
        if let Some(place) = report.application.as_ref().map(|application| &application.port).or(report.unit.as_ref()) {
            self.state.unit = Some(Selector::Port(place.clone()));
            self.state.place = Some(place.clone());
        }
        self.undo_before(report.undo_later.clone());
        if let Some(variant) = &report.variant {
            self.state.variant = Some(variant.to_string());
            self.state.label = Some(variant.to_string());
        }
    }

    fn tell(&mut self, index: usize, stage: &Stage, state: StageState) {
        let (number, of) = (index + 1, self.staged.release.manifest.stages.len());
        let text = self.staged.words(stage);
        self.cx.tell(Event::Stage { number, of, name: stage.name.clone(), text, state });
    }

    /// Shows the plans of the stages after the first incomplete one.
    fn plan_rest(&mut self, stages: &[Stage]) {
        for stage in stages.iter().filter(|stage| stage.external.is_none()) {
            match self.plan_of(stage) {
                Some(plan) => {
                    let unit = self.state.place.clone().unwrap_or_default();
                    self.cx.tell(Event::Plan { unit, phase: Phase::Provisional, plan });
                }
                None => self.cx.warn(Warning::StageNotPlanned { stage: stage.name.clone() }),
            }
        }
    }

    fn plan_of(&self, stage: &Stage) -> Option<Plan> {
        let sheet = sheet_for(self.staged.sheet, stage)?;
        let variant = sheet.variant(self.state.variant.as_deref()?)?;
        let entry = stage.image(variant.id.as_str(), self.staged.build)?;
        let image = self.staged.release.image(entry, &sheet, variant).ok()?;
        update::draft(&sheet, variant, &image, self.request).ok()
    }

    /// A step that another tool does: the checked file is handed out, the step is
    /// shown, and its sign awaited or its result asked.
    fn external_step(&mut self, stage: &Stage, external: &ExternalStep) -> Result<Report, Failure> {
        let variant = self.variant_for(stage)?;
        let entry = stage.image(&variant, self.staged.build).ok_or_else(|| {
            Failure::new(FailureKind::NoStageImage { stage: stage.name.clone(), variant: variant.clone() })
        })?;
        let mut report = Report::empty();
        report.product = Some(self.staged.sheet.product.name.clone());
        report.variant = self.staged.sheet.variant(&variant).map(|variant| variant.id.clone());
        report.unit.clone_from(&self.state.place);
        if self.request.plan_only {
            (report.outcome, report.code) = (RunOutcome::Planned, ExitCode::Done);
        } else {
            let before = self.staged.the_unit(&self.state)?;
            self.export_file(entry, external)?;
            let done = match external.shows.as_ref().map(|shows| shows.parse::<Ids>()) {
                Some(Ok(shows)) => self.await_sign(&shows, before.as_ref())?,
                _ => self.operator.confirm_success(&external.action).unwrap_or(false),
            };
            self.record_external(stage, external, done, &mut report);
            let is_last = self.staged.release.manifest.stages.last() == Some(stage);
            if done && is_last {
                self.tell_undo(&mut report);
            }
        }
        self.cx.tell(Event::Result(Box::new(report.clone())));
        Ok(report)
    }

    /// The variant whose file is exported.
    fn variant_for(&self, stage: &Stage) -> Result<String, Failure> {
        let mut all = stage.images.iter().flat_map(|entry| &entry.variants);
        let only = all.next().filter(|first| all.all(|other| other == *first));
        let known = self.state.variant.as_ref().or(self.state.label.as_ref());
        known
            .or(only)
            .cloned()
            .ok_or_else(|| Failure::new(FailureKind::VariantUnknown).unchanged().remedy(Remedy::ReadAnyLabel))
    }

    fn export_file(&mut self, entry: &Entry, external: &ExternalStep) -> Result<(), Failure> {
        for file in &entry.files {
            let name = file.file.rsplit('/').next().unwrap_or_default();
            let bytes = self.staged.release.member(&file.file).map_err(ImageError::Release);
            let bytes = bytes.map_err(|error| Failure::new(FailureKind::ReleaseImage(error)).unchanged())?;
            let place = self.around.export_file(name, &bytes)?;
            let sha256 = self.staged.release.manifest.members.get(&file.file).map(|member| member.sha256.clone());
            let sha256 = sha256.unwrap_or_default();
            self.cx.tell(Event::Exported { file: place, sha256, tool: external.tool.clone() });
        }
        let step = ManualStep {
            action: external.action.clone(),
            why: external.why.clone(),
            see: external.see.clone(),
            ..ManualStep::default()
        };
        let unit = self.state.place.clone().unwrap_or_default();
        self.cx.tell(Event::ManualStep { unit, number: 1, of: 1, step });
        Ok(())
    }

    /// Shows the undo actions after an external last stage.
    fn tell_undo(&mut self, report: &mut Report) {
        let of = self.state.undo.len();
        for (number, undo) in (1..).zip(&self.state.undo) {
            let step = ManualStep { action: undo.action.clone(), ..ManualStep::default() };
            let unit = self.state.place.clone().unwrap_or_default();
            self.cx.tell(Event::ManualStep { unit, number, of, step });
            report.undo.push(UndoRecord { action: undo.action.clone(), done: false });
        }
    }

    fn record_external(&mut self, stage: &Stage, external: &ExternalStep, done: bool, report: &mut Report) {
        (report.outcome, report.code) =
            if done { (RunOutcome::Updated, ExitCode::Done) } else { (RunOutcome::Failed, ExitCode::Transfer) };
        report.check = Check::None;
        report.after = match (done, &external.shows) {
            (true, Some(_)) => RestartState::Confirmed,
            (true, None) => RestartState::Seen,
            _ => RestartState::NotBack,
        };
        if done {
            return;
        }
        let error = match &external.shows {
            Some(ids) => ExternalStepError::NotSeen { ids: ids.clone(), waited: self.request.wait },
            None => ExternalStepError::NotConfirmed,
        };
        let (stage, tool) = (stage.name.clone(), external.tool.clone());
        let failure = Failure::new(FailureKind::ExternalStep { stage, tool, error });
        self.cx.tell(Event::Error(failure.unit(UnitCondition::ExternalTool).remedy(Remedy::LookAndRunAgain)));
    }

    /// Waits for the bus event after an external step: on the unit's port if that is known.
    fn await_sign(&mut self, shows: &Ids, before: Option<&DeviceInfo>) -> Result<bool, Failure> {
        let sheets = [self.staged.sheet.clone()];
        let bench = self.staged.bench(&sheets);
        let place = self.state.place.as_ref();
        let is_here = |device: &DeviceInfo| place.is_none_or(|place| bench.place(&device.location) == *place);
        let is_new = |device: &DeviceInfo| {
            before.is_none_or(|before| before.address != device.address || before.location != device.location)
        };
        let is_it = |device: &DeviceInfo| is_here(device) && is_new(device) && shows.is(id_of(device));
        let mut wait = Wait::new(self.request.wait, self.cx.clock()).announced();
        loop {
            if bench.devices().map_err(|error| bus_failure(&error))?.iter().any(is_it) {
                return Ok(true);
            }
            if wait.check(|| format!("{shows} to appear"), self.cx).is_some() {
                return Ok(false);
            }
            wait.pause(&bench, self.cx);
        }
    }
}

/// The result if nothing was left to do.
fn unchanged(variant: Option<&str>, sheet: &Sheet, cx: &mut Context<'_>) -> Report {
    let mut report = Report::empty();
    (report.outcome, report.code, report.after) = (RunOutcome::Unchanged, ExitCode::Done, RestartState::Restarted);
    report.product = Some(sheet.product.name.clone());
    report.variant = variant.and_then(|id| sheet.variant(id)).map(|variant| variant.id.clone());
    cx.tell(Event::Result(Box::new(report.clone())));
    report
}

/// A run that was stopped outside of any stage.
fn ended(failure: Failure, cx: &mut Context<'_>) -> Report {
    let mut report = Report::empty();
    report.code = failure.code;
    report.outcome = failure.code.outcome_unchanged();
    cx.tell(Event::Error(failure));
    cx.tell(Event::Result(Box::new(report.clone())));
    report
}
