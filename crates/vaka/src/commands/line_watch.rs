//! The watch over a line: starts a worker for each unit that is attached, takes labels, and counts results.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::Ordering;
use std::sync::mpsc;
use std::time::{Duration, Instant};

use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::Candidate;
use vaka_boot::bench::open_error::bus_failure;
use vaka_core::event::{Event, Report};
use vaka_core::matching::Question;
use vaka_usb::Location;

use super::line_labels::{Labels, Waiting};
use crate::args::{Common, Line};
use crate::cli_error::CliError;
use crate::render::batch::{Completion, Counts, Screen};
use crate::signals;

/// Interval for polling the buses.
const LOOK: Duration = Duration::from_millis(25);

/// After this time an empty port is expected to get another unit. Chosen by us: longer than any
/// restart of a finished unit.
const EMPTY: Duration = Duration::from_millis(1500);

/// A unit on the way to its worker.
pub struct Start {
    pub location: Location,
    pub place: String,
    /// The ports with a unit when this one arrived.
    pub occupied: BTreeSet<Location>,
    /// The label of this unit, if it was read.
    pub label: Option<String>,
}

/// A message of a worker.
pub enum WorkerMessage {
    Event(Box<Event>),
    /// The label of the unit is needed.
    Asks {
        question: Box<Question>,
        reply: mpsc::Sender<Option<String>>,
    },
    /// The unit is finished; `None` if it had been finished before.
    Ended(Option<Box<Report>>),
}

/// The state of a port.
enum PortState {
    /// Its unit is not begun: its label is awaited.
    Unlabelled,
    Working,
    /// Finished, and possibly detached since this time.
    Through(Option<Instant>),
}

/// The units of a line.
pub struct LineWatch<'r, 'b> {
    args: &'r Line,
    common: &'r Common,
    bench: &'r Bench<'b>,
    begin: &'r dyn Fn(Start),
    screen: &'r mut Screen,
    ports: BTreeMap<Location, PortState>,
    /// The units that were begun. Some buses do not list a unit that is open.
    units: BTreeMap<Location, Candidate<'b>>,
    labels: Labels<'b>,
    counts: Counts,
    /// Units that were begun, or whose label is awaited.
    begun: usize,
    deadline: Option<Instant>,
}

impl<'r, 'b> LineWatch<'r, 'b> {
    pub fn new(
        args: &'r Line,
        common: &'r Common,
        bench: &'r Bench<'b>,
        begin: &'r dyn Fn(Start),
        screen: &'r mut Screen,
    ) -> Self {
        let deadline = args.during.map(|time| Instant::now() + time);
        let (labels, counts) = (Labels::default(), Counts::default());
        let (ports, units) = (BTreeMap::new(), BTreeMap::new());
        Self { args, common, bench, begin, screen, ports, units, labels, counts, begun: 0, deadline }
    }

    /// Starts workers up to the limits; then waits for those that run.
    pub fn run(mut self, news: &mpsc::Receiver<(Location, WorkerMessage)>) -> Result<Counts, CliError> {
        loop {
            let is_stopped = signals::flag().load(Ordering::SeqCst);
            let has_time = self.deadline.is_none_or(|deadline| Instant::now() < deadline);
            let wants_more = !is_stopped && has_time && self.args.count.is_none_or(|count| self.begun < count);
            if is_stopped || !has_time {
                self.drop_unlabelled();
            }
            if is_stopped {
                self.labels.give_up();
            }
            if !wants_more && self.ports.values().all(|port| matches!(port, PortState::Through(_))) {
                return Ok(self.counts);
            }
            if wants_more || !self.labels.is_empty() {
                self.look(wants_more)?;
            }
            let until = Instant::now() + LOOK;
            while let Ok((location, news)) = news.recv_timeout(until.saturating_duration_since(Instant::now())) {
                self.take(location, news);
            }
        }
    }

    /// Lists the units: begins those that are new, and takes labels.
    fn look(&mut self, wants_more: bool) -> Result<(), CliError> {
        let unit = self.common.unit.as_ref();
        let found = self.bench.select(unit, false).map_err(|error| bus_failure(&error))?;
        self.see_ports(&found);
        let working = self.ports.iter().filter(|(_, port)| matches!(port, PortState::Working));
        let working = working.map(|(location, _)| location);
        let occupied: BTreeSet<Location> = working.chain(found.iter().map(Candidate::location)).cloned().collect();
        let is_new =
            |candidate: &Candidate<'_>| !self.ports.contains_key(candidate.location()) && !candidate.sheets.is_empty();
        let arrivals: Vec<Candidate<'b>> = found.into_iter().filter(|_| wants_more).filter(is_new).collect();
        for candidate in arrivals {
            if self.args.count.is_some_and(|count| self.begun >= count) {
                break;
            }
            self.begun += 1;
            match self.args.scan {
                true => {
                    self.ports.insert(candidate.location().clone(), PortState::Unlabelled);
                    self.labels.add(Waiting { place: self.name_of(candidate.location()), candidate, asked: None });
                }
                false => self.start(candidate, &occupied, None),
            }
        }
        while let Some((candidate, label)) = self.labels.next(self.screen) {
            self.start(candidate, &occupied, label);
        }
        Ok(())
    }

    fn start(&mut self, candidate: Candidate<'b>, occupied: &BTreeSet<Location>, label: Option<String>) {
        let location = candidate.location().clone();
        let place = self.bench.place(&location);
        self.screen.begins(&place, self.bench.place_name(&location), &candidate);
        self.ports.insert(location.clone(), PortState::Working);
        self.units.insert(location.clone(), candidate);
        (self.begin)(Start { location, place, occupied: occupied.clone(), label });
    }

    /// Notes which ports are empty.
    fn see_ports(&mut self, found: &[Candidate<'_>]) {
        let (screen, bench, labels, begun) = (&*self.screen, self.bench, &mut self.labels, &mut self.begun);
        self.ports.retain(|location, port| {
            let is_there = found.iter().any(|candidate| candidate.location() == location);
            match port {
                PortState::Working => true,
                PortState::Unlabelled => {
                    if !is_there {
                        labels.remove(location);
                        *begun -= 1;
                    }
                    is_there
                }
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
    }

    fn take(&mut self, location: Location, news: WorkerMessage) {
        let place = self.bench.place(&location);
        match news {
            WorkerMessage::Event(event) => self.screen.event(&place, *event),
            WorkerMessage::Asks { question, reply } => {
                if let Some(candidate) = self.units.get(&location).cloned() {
                    let place = self.name_of(&location);
                    self.labels.add(Waiting { place, candidate, asked: Some((*question, reply)) });
                }
            }
            WorkerMessage::Ended(report) => {
                self.units.remove(&location);
                self.ports.insert(location, PortState::Through(None));
                match &report {
                    Some(report) => self.counts.note(report),
                    None => {
                        self.counts.again += 1;
                        self.begun -= 1;
                    }
                }
                self.screen.ended(&place, report.as_deref().map_or(Completion::Before, Completion::Now));
                if report.is_some() {
                    self.screen.running(&self.counts);
                }
            }
        }
    }

    /// Units without a label are not begun any more.
    fn drop_unlabelled(&mut self) {
        for (location, _) in self.ports.iter().filter(|(_, port)| matches!(port, PortState::Unlabelled)) {
            self.labels.remove(location);
        }
        self.ports.retain(|_, port| !matches!(port, PortState::Unlabelled));
    }

    fn name_of(&self, location: &Location) -> String {
        self.bench.place_name(location).map_or_else(|| self.bench.place(location), str::to_owned)
    }
}
