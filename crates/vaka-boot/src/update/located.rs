//! From a unit on the bench to a unit in update mode with a verdict.

use std::cell::OnceCell;

use vaka_base::text;
use vaka_base::version::Version;
use vaka_core::event::{RestartState, StepName, milliseconds};
use vaka_core::matching::Phase;
use vaka_core::sheet::Sheet;
use vaka_core::unit::Mode;
use vaka_usb::{BusError, DeviceInfo};

use super::planning::{check_keep, content, of_sheet, plan};
use super::resolved::Resolved;
use super::stop::{StepError, Stop};
use super::update_run::UpdateRun;
use super::wiring::needs_no_programmer;
use crate::bench::candidate::Candidate;
use crate::bench::connection::Connection;
use crate::bench::open_error::{OpenError, open_failure};
use crate::bench::target::programmer_of;
use crate::bench::unit_event;
use crate::entry::{self, EntryProcedure};
use crate::event::Event;
use crate::failure::{Failure, FailureKind, UnitCondition};
use crate::protocol::identity::Identity;
use crate::protocol::session_error::{Loss, SessionError};
use crate::remedy::Remedy;
use crate::update::confirm::{self, ExpectedApplication};
use crate::warning::Warning;

/// A unit on the bench that is locked for this run.
pub(super) struct Located<'a> {
    found: Candidate<'a>,
}

/// An identified unit.
pub(super) enum Identified<'a> {
    /// Its application runs.
    Running { found: Candidate<'a>, identity: Box<Identity> },
    /// A unit without a sheet whose application runs: it is not opened without consent.
    Undescribed(Candidate<'a>),
    /// It is in update mode.
    Booted(Box<Booted<'a>>),
}

/// An identified unit in update mode.
pub(super) struct Booted<'a> {
    found: Candidate<'a>,
    connection: Connection,
    /// The decision before it entered update mode, if its application was running.
    provisional: Option<Provisional<'a>>,
}

/// The decision while the application was running.
struct Provisional<'a> {
    resolved: Resolved<'a>,
    /// The version that the application reported.
    running: Option<Version>,
}

/// A unit in update mode with a final verdict that fits.
pub(super) struct Judged<'s> {
    pub(super) unit: DeviceInfo,
    pub(super) connection: Connection,
    pub(super) resolved: Resolved<'s>,
}

impl<'a> Located<'a> {
    pub(super) fn new(found: Candidate<'a>) -> Self {
        Self { found }
    }

    /// Identifies the unit. Changes nothing.
    pub(super) fn identify(self, run: &mut UpdateRun<'a, '_>) -> Result<Identified<'a>, Stop> {
        let found = self.found;
        run.start_attempt(&found);
        match (found.mode, found.sheets.is_empty()) {
            (Mode::Update, _) => {
                run.await_wiring(&found)?;
                let connection = run.open(&found.device)?;
                Ok(Identified::Booted(Box::new(Booted { found, connection, provisional: None })))
            }
            (_, true) => Ok(Identified::Undescribed(found)),
            (_, false) => {
                let identity = Box::new(run.ask_application(&found)?);
                Ok(Identified::Running { found, identity })
            }
        }
    }
}

impl<'a> Identified<'a> {
    /// Brings the unit into update mode if its application runs and the provisional verdict
    /// allows that.
    pub(super) fn enter_update_mode(self, run: &mut UpdateRun<'a, '_>) -> Result<Booted<'a>, Stop> {
        let (found, identity) = match self {
            Self::Booted(booted) => return Ok(*booted),
            Self::Undescribed(found) => {
                let device = run.detach_undescribed(&found)?;
                return Booted::open(run, Candidate { device, mode: Mode::Update, ..found }, None, None);
            }
            Self::Running { found, identity } => (found, identity),
        };
        let facts = &identity.facts;
        let resolved = run.settle(&found, facts, None)?;
        needs_no_programmer(resolved.route)?;
        let running = resolved.sheet.version_of(resolved.variant, facts);
        let report = &mut run.progress.report;
        report.version_before = report.version_before.take().or_else(|| running.clone());
        let geometry = of_sheet(resolved.variant, resolved.route, run.request);
        check_keep(resolved.parts(), run.request)?;
        let draft = plan(resolved.parts(), geometry, true, run.request, content(run.request))?;
        run.emit_plan(Phase::Provisional, &draft);
        if run.request.plan_only {
            return Err(Stop::Planned);
        }
        let started = run.cx.now();
        let (sheet, route, timeout) = (resolved.sheet, resolved.route, run.request.wait);
        let procedure = EntryProcedure::of(sheet, route, &found.device, facts.serial.as_deref(), timeout);
        let procedure =
            EntryProcedure { identity: Some(&*identity).filter(|identity| identity.was_read()), ..procedure };
        let device = entry::enter(run.bench, procedure, run.operator, run.cx)?;
        let time = milliseconds(run.cx.now() - started);
        run.progress.report.durations_ms.push((StepName::Enter, time));
        let candidate = Candidate { device, mode: Mode::Update, sheets: vec![resolved.sheet] };
        let serial = procedure.serial.map(str::to_owned);
        Booted::open(run, candidate, serial.as_deref(), Some(Provisional { resolved, running }))
    }
}

impl<'a> Booted<'a> {
    /// Opens a unit that has just entered update mode. It must have the serial number that the
    /// application reported, if the sheet declares that stable.
    fn open(
        run: &mut UpdateRun<'a, '_>,
        found: Candidate<'a>,
        serial: Option<&str>,
        provisional: Option<Provisional<'a>>,
    ) -> Result<Self, Stop> {
        run.progress.unit.in_update_mode = true;
        let connection = run.open(&found.device)?;
        check_serial(serial, &connection.identity, &run.bench.place(found.location()))?;
        Ok(Self { found, connection, provisional })
    }

    /// The final verdict: which image fits this unit, and why. `generic` holds the synthesized
    /// sheet of a unit without one.
    pub(super) fn judge<'s>(self, run: &mut UpdateRun<'a, '_>, generic: &'s OnceCell<Sheet>) -> Result<Judged<'s>, Stop>
    where
        'a: 's,
    {
        let Self { found, connection, provisional } = self;
        if found.sheets.is_empty() {
            let resolved = run.judge_undescribed(&found, &connection.identity, generic)?;
            return Ok(Judged { unit: found.device, connection, resolved });
        }
        let (found, connection) = run.place_regions(found, connection)?;
        let running = provisional.as_ref().and_then(|before| before.running.as_ref());
        match (run.settle(&found, &connection.identity.facts, running), provisional) {
            (Ok(resolved), _) => Ok(Judged { unit: found.device, connection, resolved }),
            (Err(failure), None) => Err(failure.into()),
            (Err(failure), Some(before)) => {
                run.return_to_application(&found.device, connection, &before.resolved);
                Err(failure.into())
            }
        }
    }
}

impl<'a> UpdateRun<'a, '_> {
    fn start_attempt(&mut self, found: &Candidate<'a>) {
        let report = &mut self.progress.report;
        report.unit = Some(self.bench.place(found.location()));
        if let ([only], None) = (&found.sheets[..], &report.product) {
            report.product = Some(only.product.name.clone());
        }
        report.after = RestartState::NotRestarted;
        self.progress.unit.in_update_mode = found.mode == Mode::Update;
        self.cx.tell(Event::Attached(Box::new(unit_event::seen(self.bench, &found.device))));
    }

    /// Reads the reports of the running application.
    fn ask_application(&mut self, found: &Candidate<'a>) -> Result<Identity, Stop> {
        let identity = match self.bench.look(&found.device, self.cx) {
            Ok(connection) => connection.identity,
            // Another program uses it; entering update mode makes that program release it.
            Err(OpenError::Bus(BusError::Busy(_))) => Identity::listed(&found.device),
            Err(error) => return Err(self.not_identified(&error, &found.device)),
        };
        self.progress.report.serial.clone_from(&identity.facts.serial);
        self.progress.unit.was_running = true;
        Ok(identity)
    }

    /// Opens a unit in update mode. It must be the unit that this run has worked on before.
    pub(super) fn open(&mut self, device: &DeviceInfo) -> Result<Connection, Stop> {
        let place = self.bench.place(&device.location);
        let opened = self.bench.look(device, self.cx).map_err(|error| self.not_identified(&error, device))?;
        let programmer = programmer_of(self.bench, device);
        let unit = &mut self.progress.unit;
        let identity = &opened.identity;
        unit.leaves_when_closed = {
            let candidate = self.bench.recognise(device).or_else(|| self.bench.undescribed(device));
            programmer.is_none() && candidate.is_some_and(|found| !self.bench.can_probe(&found))
        };
        check_serial(unit.bootloader_serial.as_deref(), identity, &place)?;
        if identity.facts.serial.is_some() {
            unit.bootloader_serial.clone_from(&identity.facts.serial);
        }
        let report = &mut self.progress.report;
        report.through = identity.node.as_ref().map(|node| text::sanitize(&node.to_string_lossy()));
        report.programmer = programmer.map(|programmer| programmer.about.clone());
        if report.serial.is_none() {
            report.serial.clone_from(&identity.facts.serial);
        }
        for oddity in &identity.oddities {
            self.cx.warn(Warning::UnusualDescriptors { place: place.clone(), what: oddity.clone() });
        }
        Ok(opened)
    }

    /// The failure when a unit cannot be identified; a unit that disconnected may return.
    pub(super) fn not_identified(&self, error: &OpenError, unit: &DeviceInfo) -> Stop {
        let failure = open_failure(error, &self.bench.place(&unit.location));
        // A server that fails while it answers for a unit is not asked again.
        StepError { failure, loss: error.is_absence().then_some(Loss::Unit) }.of_unit(unit)
    }

    /// Handles a final verdict that refuses after the provisional one allowed: returns the unit
    /// to its application, and observes the result.
    fn return_to_application(&mut self, unit: &DeviceInfo, connection: Connection, before: &Resolved<'_>) {
        let route = before.route;
        let left = connection
            .by_route(route, None)
            .ok_or(SessionError::Disconnected)
            .and_then(|connection| connection.open(self.cx))
            .and_then(|mut session| session.restart(route.restart_at, self.cx));
        if left.is_ok() {
            self.observe_return(unit, before);
        }
    }

    /// Observes whether a unit that was sent back runs its application.
    pub(super) fn observe_return(&mut self, unit: &DeviceInfo, resolved: &Resolved<'_>) {
        let expected = ExpectedApplication::of(resolved.sheet, None, resolved.route);
        let seen = confirm::confirm(self.bench, &expected, unit, self.cx);
        self.progress.unit.in_update_mode = seen.after == RestartState::NotBack && seen.device.is_some();
        self.progress.unit.leaves_when_closed = false;
    }
}

/// A unit that reports another serial number than the tracked one is another unit, wherever it
/// is attached.
fn check_serial(serial: Option<&str>, found: &Identity, place: &str) -> Result<(), Failure> {
    match (serial, &found.facts.serial) {
        (Some(serial), Some(found)) if serial != found => {
            let (place, found, expected) = (place.to_owned(), found.clone(), serial.to_owned());
            let failure = Failure::new(FailureKind::OtherUnit { place, found, expected });
            Err(failure.unit(UnitCondition::OtherUnit).remedy(Remedy::PlugInSameUnit))
        }
        _ => Ok(()),
    }
}
