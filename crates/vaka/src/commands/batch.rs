//! `vaka line FILE`: the same update for every unit that is plugged in, several at once.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::{Duration, Instant};

use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::Candidate;
use vaka_boot::bench::selector::Selector;
use vaka_boot::context::Context;
use vaka_boot::operator::Operator;
use vaka_boot::release_install::ReleaseInstall;
use vaka_boot::update::{self, Request, SaveFn};
use vaka_core::event::{Event, ExitCode, Report};
use vaka_core::matching::Question;
use vaka_core::sheet::Sheet;
use vaka_core::unit_state::UnitState;
use vaka_image::Image;
use vaka_usb::{Bus, Location, SystemClock};

use super::line_watch::{LineWatch, Start, WorkerMessage};
use crate::args::{Common, Line, OutputFormat, VerifyLevel};
use crate::backup::{Backup, stored};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::files;
use crate::journal::{self, Seen, StartRecord};
use crate::lock::Locks;
use crate::output_options::OutputOptions;
use crate::preserved_store::StateFolder;
use crate::recording::JournalEntry;
use crate::release_recorder::JournalHooks;
use crate::release_store::{self, Found};
use crate::release_trust;
use crate::render::batch::Screen;
use crate::update_files::{ReadFiles, UpdateFiles};
use crate::{image_folder, prompt, report, secrets, signals};
use vaka_messages::CommandError;

/// The content for the units.
enum UpdateSource {
    Files {
        files: Box<UpdateFiles>,
        begun: Box<StartRecord>,
    },
    /// A release; its digest is recorded in the journal, unless only a plan is wanted.
    Release {
        found: Box<Found>,
        build: String,
        sha256: Option<String>,
    },
}

impl UpdateSource {
    /// The sheets whose units a file could be for. Other units on the bench are left alone.
    fn candidate_sheets(&self, sheets: &[Sheet]) -> Vec<Sheet> {
        let Self::Files { files, .. } = self else { return sheets.to_vec() };
        update::candidate_sheets(&files.requested(Request::new(&[])), sheets).into_iter().cloned().collect()
    }
}

/// The data shared by all workers.
struct UpdateJob<'a> {
    args: &'a Line,
    common: &'a Common,
    /// Whether a user at the terminal answers questions.
    has_operator: bool,
    buses: Vec<Arc<dyn Bus>>,
    sheets: Vec<Sheet>,
    source: UpdateSource,
    /// Where units were finished in this run, by product and serial number.
    finished: Mutex<BTreeMap<(String, String), Location>>,
}

pub fn run(args: &Line, common: &Common, setting: &OutputOptions) -> Outcome {
    // With many units the journal prevents that a unit is updated twice, so it is required.
    if !args.plan {
        journal::must_be_writable().map_err(|reason| CommandError::Journal { reason })?;
    }
    if let Some(path) = &args.report {
        files::may_store(path, args.replace)?;
    }
    let began = jiff::Timestamp::now();
    let job = UpdateJob::new(args, common, setting)?;
    let bench = environment::bench_on(job.buses.clone(), common, &job.sheets);
    let mut screen = Screen::new(*setting);
    screen.ready();
    let counts = std::thread::scope(|scope| {
        let (sender, news) = mpsc::channel::<(Location, WorkerMessage)>();
        let begin = |unit: Start| {
            let (sender, job) = (sender.clone(), &job);
            scope.spawn(move || {
                let (told, location) = (sender.clone(), unit.location.clone());
                let mut shown = Shown::new(setting.format);
                let send = |event| drop(told.send((location.clone(), WorkerMessage::Event(Box::new(event)))));
                let tell = |event| shown.needed(event).map_or((), send);
                let mut operator = Asking { location: &location, to: job.has_operator.then_some(&sender) };
                let ended = guarded(&unit.place, || job.work(&unit, &mut operator, tell));
                let _ = sender.send((location, WorkerMessage::Ended(ended.map(Box::new))));
            });
        };
        LineWatch::new(args, common, &bench, &begin, &mut screen).run(&news)
    })?;
    screen.summary(&counts);
    if let Some(path) = &args.report {
        write_report(path, began, args.replace)?;
        screen.note(&format!("{}: report of this run.", path.display()));
    }
    Ok(counts.worst())
}

/// Interval between two reports of the progress of a unit.
const PROGRESS: Duration = Duration::from_millis(100);

/// The progress that is shown. Each event wakes the thread that watches the line, so with many units the events of
/// all blocks take more time than the transfers.
struct Shown {
    is_all: bool,
    last: Option<Instant>,
}

impl Shown {
    fn new(format: OutputFormat) -> Self {
        Self { is_all: format == OutputFormat::Json, last: None }
    }

    /// The event, unless it is progress soon after other progress.
    fn needed(&mut self, event: Event) -> Option<Event> {
        if self.is_all || !matches!(event, Event::Progress { .. }) {
            return Some(event);
        }
        let is_due = self.last.is_none_or(|last| last.elapsed() >= PROGRESS);
        is_due.then(|| {
            self.last = Some(Instant::now());
            event
        })
    }
}

/// Writes the attempts of this run as a page.
fn write_report(path: &Path, began: jiff::Timestamp, replace: bool) -> Result<(), CliError> {
    let records = journal::of_this_process(began).map_err(|reason| CommandError::Journal { reason })?;
    let page = report::page(&records.iter().collect::<Vec<_>>());
    let page = page.map_err(|error| CliError::internal(format!("the report: {error}")))?;
    files::store(path, replace, &[page.as_bytes()])
}

/// The operator of all units: questions go to the thread that watches the line, one after the other.
struct Asking<'a> {
    location: &'a Location,
    /// `None`: no question is asked.
    to: Option<&'a mpsc::Sender<(Location, WorkerMessage)>>,
}

impl Operator for Asking<'_> {
    fn read_label(&mut self, question: &Question) -> Option<String> {
        let (reply, answer) = mpsc::channel();
        let message = WorkerMessage::Asks { question: Box::new(question.clone()), reply };
        self.to?.send((self.location.clone(), message)).ok()?;
        answer.recv().ok().flatten()
    }
}

/// Runs the work for one unit. A panic fails that unit only.
fn guarded(place: &str, work: impl FnOnce() -> Option<Report>) -> Option<Report> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|_| Some(panicked(place)))
}

/// The report of a unit whose worker panicked.
fn panicked(place: &str) -> Report {
    Report {
        unit: Some(place.to_owned()),
        code: ExitCode::Internal,
        state: Some(UnitState::Unknown),
        ..Report::empty()
    }
}

impl<'a> UpdateJob<'a> {
    fn new(args: &'a Line, common: &'a Common, setting: &OutputOptions) -> Result<Self, crate::cli_error::CliError> {
        let sheets = environment::sheets(common)?;
        let paths = image_folder::selected(&args.files, args.release.before, common)?;
        let (source, sheets) = match release_store::selected(&paths, &args.release, common)? {
            Some(found) => {
                let signer = release_trust::trusted(&found.release, &found.path, common)?;
                let sheet = release_store::sheet(&found.release, &found.path, sheets)?;
                release_store::check_consistency(&found.release, &sheet, &found.path)?;
                let build = release_store::build(&found.release, &args.release.build)?.to_owned();
                Screen::new(*setting).release(release_store::seen(&found, &build, signer));
                let sha256 = found.recorded_digest(args.plan)?.map(str::to_owned);
                (UpdateSource::Release { found: Box::new(found), build, sha256 }, vec![sheet])
            }
            None => {
                let files = Box::new(ReadFiles::read(&paths, args.choose.options())?.opened(&sheets, common)?);
                let begun = Box::new(files.begun(common));
                let source = UpdateSource::Files { files, begun };
                let hoped = source.candidate_sheets(&sheets);
                (source, hoped)
            }
        };
        if sheets.is_empty() {
            return Err(environment::no_sheets());
        }
        let buses = environment::all_buses(common, &sheets)?;
        let has_operator = !args.scan && prompt::is_answered(common);
        Ok(Self { args, common, has_operator, buses, sheets, source, finished: Mutex::default() })
    }

    /// Updates one unit; `None` if it is finished already.
    fn work(&self, start: &Start, operator: &mut dyn Operator, mut tell: impl FnMut(Event)) -> Option<Report> {
        let Start { location, place, occupied, label } = start;
        let bench = Bench::new(self.buses.clone(), &self.sheets)
            .guarded(Arc::new(Locks))
            .with_secrets(secrets::from_files(self.common));
        // A unit that has left again is waited for by the update.
        let unit = bench.select(Some(&Selector::Port(place.clone())), false).unwrap_or_default().into_iter().next();
        if unit.is_some_and(|unit| self.is_finished(&bench, &unit, location, occupied)) {
            return None;
        }
        let backup = self.args.save.as_deref().map(Backup::into_folder);
        let save = |image: &Image, report: &Report| stored(backup.as_ref(), image, report);
        let request = Request {
            unit: Some(Selector::Port(place.clone())),
            label: label.clone().or_else(|| self.common.variant.clone()),
            erase_all: self.args.erase_all,
            keep: self.args.keep.clone(),
            save: backup.as_ref().map(|_| SaveFn(&save)),
            rewrite: self.args.rewrite,
            wait: self.common.wait,
            consents: self.common.allow.clone(),
            plan_only: self.args.plan,
            read_back: self.args.check == VerifyLevel::Strongest,
            shelf: Some(&StateFolder),
            history: Some(&Seen),
            ..Request::new(&[])
        };
        let report = match &self.source {
            UpdateSource::Files { files, begun } => {
                let mut recording = match self.args.plan {
                    true => JournalEntry::default(),
                    false => {
                        let label = request.label.clone();
                        JournalEntry::of(StartRecord { time: jiff::Timestamp::now(), label, ..(**begun).clone() })
                    }
                };
                let mut look = |event| recording.pass(vaka_messages::event(event), &mut tell);
                let mut cx = Context::new(&SystemClock, &mut look, signals::flag());
                let request = files.requested(request);
                let report = update::run(&bench, &request, operator, &mut cx);
                Report { code: recording.code(report.code), ..report }
            }
            UpdateSource::Release { found, build, sha256 } => {
                self.staged((found, build, sha256.as_deref()), &request, operator, &mut tell)
            }
        };
        self.note(&report, location);
        Some(report)
    }

    fn staged(
        &self,
        (found, build, sha256): (&Found, &str, Option<&str>),
        request: &Request<'_>,
        operator: &mut dyn Operator,
        tell: &mut dyn FnMut(Event),
    ) -> Report {
        let Found { path, release, .. } = found;
        let guard: Option<Arc<dyn vaka_boot::bench::lock::UnitLock>> = Some(Arc::new(Locks));
        let secrets = Some(secrets::from_files(self.common));
        let staged = ReleaseInstall { buses: &self.buses, guard, secrets, sheet: &self.sheets[0], release, build };
        let state = std::cell::RefCell::new(JournalEntry::default());
        let export_dir = self.args.release.export_dir.as_deref();
        let mut around = JournalHooks {
            sha256,
            export_dir,
            label: request.label.as_deref(),
            common: self.common,
            path,
            release,
            build,
            state: &state,
        };
        let mut look = |event| state.borrow_mut().pass(vaka_messages::event(event), tell);
        let mut cx = Context::new(&SystemClock, &mut look, signals::flag());
        let report = staged.run(request, operator, &mut cx, &mut around);
        let code = state.borrow().code(report.code);
        Report { code, ..report }
    }

    /// Whether a unit was finished in this run, by its serial number. Two units can have the same
    /// one: if the finished unit was still attached when this one arrived, this is another.
    fn is_finished(
        &self,
        bench: &Bench<'_>,
        unit: &Candidate<'_>,
        location: &Location,
        occupied: &BTreeSet<Location>,
    ) -> bool {
        let mut finished = self.finished.lock().unwrap_or_else(PoisonError::into_inner).clone();
        finished.retain(|_, at| at == location || !occupied.contains(at));
        if finished.is_empty() || !bench.can_probe(unit) {
            return false;
        }
        let serial = bench.identity(location).ok().and_then(|identity| identity.facts.serial);
        let mut products = unit.sheets.iter().map(|sheet| &sheet.product.name);
        serial.is_some_and(|serial| products.any(|product| finished.contains_key(&(product.clone(), serial.clone()))))
    }

    /// Records a unit by the serial numbers of both its modes.
    fn note(&self, report: &Report, location: &Location) {
        let (Some(product), ExitCode::Done) = (&report.product, report.code) else { return };
        let serials = [report.serial.clone(), report.application.as_ref().and_then(|next| next.serial.clone())];
        let mut finished = self.finished.lock().unwrap_or_else(PoisonError::into_inner);
        finished.extend(serials.into_iter().flatten().map(|serial| ((product.clone(), serial), location.clone())));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::render::batch::Counts;

    /// A worker that panics is a failed unit, whose state is unknown.
    #[test]
    fn a_worker_that_panics_is_a_failed_unit() {
        let report = guarded("1-1", || panic!("a fault on purpose")).unwrap();
        assert_eq!((report.code, report.state), (ExitCode::Internal, Some(UnitState::Unknown)));
        let mut counts = Counts::default();
        counts.note(&report);
        assert_eq!((counts.failed, counts.worst()), (1, ExitCode::Transfer));
        assert!(guarded("1-1", || None).is_none());
    }
}
