//! An update of one unit: attempts, until the application is confirmed or the run ends.

use std::any::Any;
use std::cell::OnceCell;

use vaka_core::event::{ExitCode, Report, RunOutcome, milliseconds};
use vaka_core::unit::Mode;
use vaka_usb::DeviceInfo;

use super::candidates::{candidate_sheets, misfit, preflight};
use super::located::Located;
use super::progress::Progress;
use super::request::Request;
use super::stop::{LostUnit, Stop};
use super::update_run::UpdateRun;
use crate::bench::buses::Bench;
use crate::bench::candidate::Candidate;
use crate::bench::discovery::{self, LazyCandidates, UnitQuery};
use crate::bench::returning;
use crate::bench::tracking::TrackedUnit;
use crate::context::Context;
use crate::event::Event;
use crate::failure::{Failure, FailureKind, UnitCondition};
use crate::operator::Operator;
use crate::protocol::session_error::Loss;
use crate::remedy::Remedy;
use crate::warning::Warning;

/// How often a run resumes after its unit was lost. Chosen by us: beyond this the cable is
/// faulty.
const MAX_RESUMES: u32 = 20;

/// Updates one unit. Everything that happens is emitted through `cx`; the last
/// event is always `result`, which is also returned.
pub fn run(bench: &Bench<'_>, request: &Request<'_>, operator: &mut dyn Operator, cx: &mut Context<'_>) -> Report {
    let placed_sheet = OnceCell::new();
    let mut run = UpdateRun { bench, request, operator, cx, progress: Progress::new(), placed_sheet: &placed_sheet };
    // Other processes stay away from the unit until the state of the unit is reported.
    let mut lock = None;
    let done = run.work(&mut lock);
    run.release_target();
    if let Err(failure) = done {
        run.progress.fail(failure.code);
        run.emit_failure(failure);
    }
    run.progress.complete_report(run.cx.pending_undo());
    let report = run.progress.report;
    cx.tell(Event::Result(Box::new(report.clone())));
    report
}

/// One attempt, stage by stage. Each stage consumes the one before, so the types determine the
/// order of the work.
fn attempt<'a>(run: &mut UpdateRun<'a, '_>, unit: Located<'a>) -> Result<(), Stop> {
    let generic_sheet = OnceCell::new();
    let booted = unit.identify(run)?.enter_update_mode(run)?;
    let drafted = booted.judge(run, &generic_sheet)?.draft(run)?;
    let surveyed = drafted.connect(run)?.survey(run)?;
    let executed = surveyed.plan(run)?.execute(run)?;
    executed.restart(run)?.confirm(run)
}

impl<'a> UpdateRun<'a, '_> {
    fn work(&mut self, lock: &mut Option<Box<dyn Any + Send>>) -> Result<(), Failure> {
        preflight(self.request, self.bench.sheets())?;
        let found = self.find()?;
        *lock = Some(self.bench.hold(found.location(), self.cx)?);
        let mut next = Some(Located::new(found));
        while let Some(unit) = next {
            next = match attempt(self, unit) {
                Ok(()) => None,
                Err(stop) => self.next_attempt(stop)?,
            };
        }
        Ok(())
    }

    fn find(&mut self) -> Result<Candidate<'a>, Failure> {
        let (request, sheets) = (self.request, self.bench.sheets());
        let candidate_sheets = LazyCandidates::of(|| candidate_sheets(request, sheets));
        let misfit = |candidate: &Candidate<'_>| misfit(request, candidate);
        let (selector, undescribed) = (request.unit.as_ref(), self.accepts_undescribed());
        let query = UnitQuery { selector, undescribed, candidate_sheets, misfit: &misfit };
        discovery::find(self.bench, &query, request.wait, self.operator, self.cx)
    }

    /// The unit for the next attempt, after an incomplete one; `None` if nothing is left to do.
    fn next_attempt(&mut self, stop: Stop) -> Result<Option<Located<'a>>, Failure> {
        let next = match stop {
            Stop::Planned => {
                (self.progress.report.outcome, self.progress.report.code) = (RunOutcome::Planned, ExitCode::Done);
                return Ok(None);
            }
            Stop::Failed(failure) => Err(*failure),
            Stop::Reset { unit, may_stay } => self.await_reset(&unit, may_stay),
            Stop::Lost(lost) => self.await_return(*lost),
        };
        next.map(Some).map_err(|failure| self.progress.merge_failures(failure))
    }

    /// Waits for a lost unit to return. The next attempt compares its content first, so it writes
    /// nothing twice.
    fn await_return(&mut self, lost: LostUnit) -> Result<Located<'a>, Failure> {
        let LostUnit { unit, loss, failure } = lost;
        let failure = self.progress.merge_failures(failure);
        self.progress.unit.in_update_mode &= loss == Loss::Connection;
        if self.progress.attempts.resumes >= MAX_RESUMES {
            return Err(failure);
        }
        self.progress.attempts.resumes += 1;
        self.progress.attempts.first_failure.get_or_insert_with(|| failure.clone());
        let place = self.bench.place(&unit.location);
        self.cx.tell(Event::Lost { unit: place.clone(), left_ms: milliseconds(self.request.wait) });
        self.cx.warn(Warning::WaitingForReturn { failure: failure.kind.clone(), place });
        match self.come_back(&unit, loss == Loss::Connection) {
            Ok(back) => self.candidate(&back).map(Located::new).ok_or(failure),
            Err(stopped) if stopped.code == ExitCode::Stopped => {
                Err(Failure { kind: stopped.kind, code: ExitCode::Stopped, ..failure })
            }
            Err(_) => Err(failure),
        }
    }

    /// Resets the unit and waits for its return, once in a run.
    fn await_reset(&mut self, unit: &DeviceInfo, may_stay: bool) -> Result<Located<'a>, Failure> {
        self.progress.attempts.reset = true;
        let back = self.come_back(unit, may_stay)?;
        self.candidate(&back)
            .map(Located::new)
            .ok_or_else(|| Failure::new(FailureKind::ReturnedUnknown).remedy(Remedy::LookWhatItIs))
    }

    fn come_back(&mut self, unit: &DeviceInfo, may_stay: bool) -> Result<DeviceInfo, Failure> {
        let serial = self.stable_serial(unit);
        let tracked = TrackedUnit { unit, serial: serial.as_deref() };
        returning::come_back(self.bench, tracked, may_stay, self.request.wait, self.cx)
    }

    /// The serial number of a unit in update mode, if its sheet declares it unique and stable:
    /// many bootloaders have one for all units.
    fn stable_serial(&self, unit: &DeviceInfo) -> Option<String> {
        let known = self.candidate(unit).filter(|found| !found.sheets.is_empty())?;
        let stays = known.sheets.iter().all(|sheet| sheet.product.stable_serial);
        self.progress.unit.bootloader_serial.clone().filter(|_| stays)
    }

    /// Emits a failure with the state of the unit. That state replaces the assumption of the
    /// failed step: only the run as a whole knows what was done.
    fn emit_failure(&mut self, mut failure: Failure) {
        self.progress.close();
        self.progress.unit.in_update_mode &= self.is_listed_in_update_mode();
        if let Some(state) = self.progress.unit_state() {
            failure.unit = Some(UnitCondition::AfterRun(self.progress.effect(state)));
        }
        self.cx.tell(Event::Error(failure));
    }

    /// Whether the bus lists the unit in update mode, or does not respond.
    fn is_listed_in_update_mode(&self) -> bool {
        let Ok(devices) = self.bench.devices() else { return true };
        let Some(place) = &self.progress.report.unit else { return true };
        let unit = devices.iter().find(|device| self.bench.place(&device.location) == *place);
        unit.and_then(|unit| self.candidate(unit)).is_some_and(|unit| unit.mode == Mode::Update)
    }
}
