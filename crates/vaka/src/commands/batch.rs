//! `vaka line FILE`: the same update for every unit that is plugged in, several at once.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::{Duration, Instant};

use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::Candidate;
use vaka_boot::bench::open_error::bus_failure;
use vaka_boot::bench::selector::Selector;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::release_install::ReleaseInstall;
use vaka_boot::update::{self, Request};
use vaka_core::event::{Event, ExitCode, Report};
use vaka_core::sheet::Sheet;
use vaka_core::unit_state::UnitState;
use vaka_usb::{Bus, Location, SystemClock};

use crate::args::{Common, Line, VerifyLevel};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::journal::{self, Seen, StartRecord};
use crate::lock::Locks;
use crate::output_options::OutputOptions;
use crate::preserved_store::StateFolder;
use crate::recording::JournalEntry;
use crate::release_recorder::JournalHooks;
use crate::release_store::{self, Found};
use crate::render::batch::Counts;
use crate::render::batch::{Completion, Screen};
use crate::secrets;
use crate::signals;
use crate::update_files::{ReadFiles, UpdateFiles};
use vaka_messages::CommandError;

/// Interval for polling the buses.
const LOOK: Duration = Duration::from_millis(25);

/// After this time an empty port is expected to get another unit. Chosen by us: longer than any
/// restart of a finished unit.
const EMPTY: Duration = Duration::from_millis(1500);

/// The content for the units.
enum UpdateSource {
    Files { files: Box<UpdateFiles>, begun: Box<StartRecord> },
    Release { found: Box<Found>, build: String },
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
    buses: Vec<Arc<dyn Bus>>,
    sheets: Vec<Sheet>,
    source: UpdateSource,
    /// Where units were finished in this run, by product and serial number.
    finished: Mutex<BTreeMap<(String, String), Location>>,
}

/// A message of a worker.
enum WorkerMessage {
    Event(Box<Event>),
    /// The unit is finished; `None` if it had been finished before.
    Ended(Option<Box<Report>>),
}

/// The state of a port.
enum PortState {
    Working,
    /// Finished, and possibly detached since this time.
    Through(Option<Instant>),
}

pub fn run(args: &Line, common: &Common, setting: &OutputOptions) -> Outcome {
    // With many units the journal prevents that a unit is updated twice, so it is required.
    if !args.plan {
        journal::must_be_writable().map_err(|reason| CommandError::Journal { reason })?;
    }
    let job = UpdateJob::new(args, common, setting)?;
    let bench = environment::bench_on(job.buses.clone(), common, &job.sheets);
    let mut screen = Screen::new(*setting);
    screen.ready();
    let counts = std::thread::scope(|scope| {
        let (sender, news) = mpsc::channel::<(Location, WorkerMessage)>();
        let begin = |candidate: &Candidate<'_>, occupied: &BTreeSet<Location>| {
            let (location, sender, job) = (candidate.location().clone(), sender.clone(), &job);
            let occupied = occupied.clone();
            let place = bench.place(&location);
            scope.spawn(move || {
                let told = sender.clone();
                let tell = |event: Event| drop(told.send((location.clone(), WorkerMessage::Event(Box::new(event)))));
                let ended = guarded(&place, || job.work(&location, &occupied, &place, tell));
                let _ = sender.send((location, WorkerMessage::Ended(ended.map(Box::new))));
            });
        };
        watch(&job, &bench, &news, &begin, &mut screen)
    })?;
    screen.summary(&counts);
    Ok(counts.worst())
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

/// Starts a worker for each unit that is attached, up to the limit; then waits for the running
/// workers.
fn watch(
    job: &UpdateJob<'_>,
    bench: &Bench<'_>,
    news: &mpsc::Receiver<(Location, WorkerMessage)>,
    begin: &dyn Fn(&Candidate<'_>, &BTreeSet<Location>),
    screen: &mut Screen,
) -> Result<Counts, CliError> {
    let mut ports: BTreeMap<Location, PortState> = BTreeMap::new();
    let mut counts = Counts::default();
    let mut begun = 0;
    let deadline = job.args.during.map(|time| Instant::now() + time);
    loop {
        let wants_more = !signals::flag().load(Ordering::SeqCst)
            && deadline.is_none_or(|deadline| Instant::now() < deadline)
            && job.args.count.is_none_or(|count| begun < count);
        let working = ports.values().filter(|port| matches!(port, PortState::Working)).count();
        if !wants_more && working == 0 {
            return Ok(counts);
        }
        if wants_more {
            let (arrivals, occupied) = new_arrivals(job, bench, &mut ports, screen)?;
            for candidate in arrivals {
                if job.args.count.is_some_and(|count| begun >= count) {
                    break;
                }
                begun += 1;
                let place_name = bench.place_name(candidate.location());
                screen.begins(&bench.place(candidate.location()), place_name, &candidate);
                ports.insert(candidate.location().clone(), PortState::Working);
                begin(&candidate, &occupied);
            }
        }
        let until = Instant::now() + LOOK;
        while let Ok((location, news)) = news.recv_timeout(until.saturating_duration_since(Instant::now())) {
            let place = bench.place(&location);
            match news {
                WorkerMessage::Event(event) => screen.event(&place, *event),
                WorkerMessage::Ended(report) => {
                    ports.insert(location, PortState::Through(None));
                    match &report {
                        Some(report) => counts.note(report),
                        None => {
                            counts.again += 1;
                            begun -= 1;
                        }
                    }
                    screen.ended(&place, report.as_deref().map_or(Completion::Before, Completion::Now));
                    if report.is_some() {
                        screen.running(&counts);
                    }
                }
            }
        }
    }
}

/// Newly attached units, and all ports with a unit.
fn new_arrivals<'b>(
    job: &UpdateJob<'_>,
    bench: &Bench<'b>,
    ports: &mut BTreeMap<Location, PortState>,
    screen: &Screen,
) -> Result<(Vec<Candidate<'b>>, BTreeSet<Location>), CliError> {
    let found = bench.select(job.common.unit.as_ref(), false).map_err(|error| bus_failure(&error))?;
    ports.retain(|location, port| {
        let is_there = found.iter().any(|candidate| candidate.location() == location);
        match port {
            PortState::Working => true,
            PortState::Through(gone) if is_there => {
                *gone = None;
                true
            }
            PortState::Through(gone) => {
                let was_restarting = gone.get_or_insert_with(Instant::now).elapsed() < EMPTY;
                if !was_restarting {
                    screen.free(bench.place_name(location).unwrap_or(&bench.place(location)));
                }
                was_restarting
            }
        }
    });
    let working = ports.iter().filter(|(_, port)| matches!(port, PortState::Working)).map(|(location, _)| location);
    let occupied = working.chain(found.iter().map(Candidate::location)).cloned().collect();
    let is_new = |candidate: &Candidate<'_>| !ports.contains_key(candidate.location()) && !candidate.sheets.is_empty();
    Ok((found.into_iter().filter(is_new).collect(), occupied))
}

impl<'a> UpdateJob<'a> {
    fn new(args: &'a Line, common: &'a Common, setting: &OutputOptions) -> Result<Self, crate::cli_error::CliError> {
        let sheets = environment::sheets(common)?;
        let (source, sheets) = match release_store::named(&args.files, &args.release, common)? {
            Some(found) => {
                let signer = release_store::trusted(&found.release, common)?;
                let sheet = release_store::sheet(&found.release, &found.path, sheets)?;
                release_store::check_consistency(&found.release, &sheet, &found.path)?;
                let build = release_store::build(&found.release, &args.release.build)?.to_owned();
                Screen::new(*setting).release(release_store::seen(&found, &build, signer));
                (UpdateSource::Release { found: Box::new(found), build }, vec![sheet])
            }
            None => {
                let files = Box::new(ReadFiles::read(&args.files, args.choose.options())?.opened(&sheets, common)?);
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
        Ok(Self { args, common, buses, sheets, source, finished: Mutex::default() })
    }

    /// Updates one unit; `None` if it is finished already. `occupied`: the ports with a unit when
    /// this one arrived.
    fn work(
        &self,
        location: &Location,
        occupied: &BTreeSet<Location>,
        place: &str,
        mut tell: impl FnMut(Event),
    ) -> Option<Report> {
        let bench = Bench::new(self.buses.clone(), &self.sheets)
            .guarded(Arc::new(Locks))
            .with_secrets(secrets::from_files(self.common));
        // A unit that has left again is waited for by the update.
        let unit = bench.select(Some(&Selector::Port(place.to_owned())), false).unwrap_or_default().into_iter().next();
        if unit.is_some_and(|unit| self.is_finished(&bench, &unit, location, occupied)) {
            return None;
        }
        let request = Request {
            unit: Some(Selector::Port(place.to_owned())),
            label: self.common.variant.clone(),
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
                    false => JournalEntry::of(StartRecord { time: jiff::Timestamp::now(), ..(**begun).clone() }),
                };
                let mut look = |event| recording.pass(vaka_messages::event(event), &mut tell);
                let mut cx = Context::new(&SystemClock, &mut look, signals::flag());
                let request = files.requested(request);
                let report = update::run(&bench, &request, &mut Unattended, &mut cx);
                Report { code: recording.code(report.code), ..report }
            }
            UpdateSource::Release { found, build } => self.staged(found, build, &request, &mut tell),
        };
        self.note(&report, location);
        Some(report)
    }

    fn staged(&self, found: &Found, build: &str, request: &Request<'_>, tell: &mut dyn FnMut(Event)) -> Report {
        let Found { path, release, .. } = found;
        let guard: Option<Arc<dyn vaka_boot::bench::lock::UnitLock>> = Some(Arc::new(Locks));
        let secrets = Some(secrets::from_files(self.common));
        let staged = ReleaseInstall { buses: &self.buses, guard, secrets, sheet: &self.sheets[0], release, build };
        let state = std::cell::RefCell::new(JournalEntry::default());
        let export_dir = self.args.release.export_dir.as_deref();
        let mut around = JournalHooks {
            plan_only: self.args.plan,
            export_dir,
            common: self.common,
            path,
            release,
            build,
            state: &state,
        };
        let mut look = |event| state.borrow_mut().pass(vaka_messages::event(event), tell);
        let mut cx = Context::new(&SystemClock, &mut look, signals::flag());
        let report = staged.run(request, &mut Unattended, &mut cx, &mut around);
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
