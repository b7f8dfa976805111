//! The whole job: find the unit, judge, (enter, judge again), plan, carry
//! out, restart, confirm. Straight-line on purpose: this is the order of the
//! work, and reads like it.

use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_core::event::{
    Check, Event, ExitCode, Failure, Report, RestartState, RunOutcome, StepName, StepState, Transfers, milliseconds,
};
use vaka_core::matching::{Approval, Phase, Verdict};
use vaka_core::plan::{ApprovedPlan, DialectCapabilities, Geometry, KnownContent, Ledger, Plan, Step, rest_of_sectors};
use vaka_core::sheet::{BOOTLOADER, RouteKind, Sheet, UndoPhase, Variant};
use vaka_core::unit::Mode;
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::bench::candidate::Candidate;
use crate::bench::connection::Connection;
use crate::bench::discovery::{self, LazyCandidates, UnitQuery};
use crate::bench::open_error::{OpenError, open_failure};
use crate::bench::tracking::TrackedUnit;
use crate::bench::unit_event;
use crate::context::Context;
use crate::entry::{self, Way};
use crate::operator::Operator;
use crate::protocol::identity::{self, Identity};
use crate::protocol::session::{Finished, Protection, Session, SessionError};
use crate::update::executor::{Executor, Statistics};

use super::candidates::{early_look, hopes, misfit};
use super::consents::{LOSE_REST, UNPROTECT};
use super::errors::{internal, not_opened};
use super::planning::{content, of_sheet, plan, plan_again, restart_by, undo_of};
use super::request::Request;
use super::resolved::Resolved;

/// Updates one unit. Everything that happens is told through `cx`; the last
/// event is always `result`, which is also returned.
pub fn run(bench: &Bench<'_>, request: &Request<'_>, operator: &mut dyn Operator, cx: &mut Context<'_>) -> Report {
    let mut job = UpdateRun {
        bench,
        request,
        operator,
        cx,
        report: empty_report(),
        began_again: false,
        label: None,
        lost: false,
        link_lost: false,
        last: None,
        resumed: 0,
        ledger: Ledger::default(),
        image: Vec::new(),
        untouched: Vec::new(),
        in_update_mode: false,
        leaves_when_closed: false,
        was_running: false,
        is_version_checked: false,
        first_failure: None,
        saved: None,
        kept: None,
        boot_serial: None,
        vanished: false,
        end_repeated: false,
        is_file_accepted: false,
        is_read_after_reset: false,
        guard: None,
    };
    if let Err(failure) = job.work() {
        job.report.code = failure.code;
        job.report.outcome = match failure.code {
            ExitCode::Stopped => RunOutcome::Stopped,
            // A run that has changed the unit did not refuse, whatever ended it.
            ExitCode::NotBack if job.report.after == RestartState::NotBack => job.report.outcome,
            _ if job.ledger.has_changed_unit() => RunOutcome::Failed,
            ExitCode::Refused | ExitCode::NoUnit | ExitCode::File | ExitCode::Access | ExitCode::Usage => {
                RunOutcome::Refused
            }
            _ => RunOutcome::Failed,
        };
        job.tell_failure(failure);
    }
    job.complete_report();
    let report = job.report;
    cx.tell(Event::Result(Box::new(report.clone())));
    report
}

/// A report of which nothing is known yet.
pub fn empty_report() -> Report {
    Report {
        unit: None,
        serial: None,
        boot_serial: None,
        state: None,
        outcome: RunOutcome::Failed,
        code: ExitCode::Internal,
        product: None,
        part: None,
        variant: None,
        version_before: None,
        check: Check::None,
        after: RestartState::NotRestarted,
        bytes_written: 0,
        bytes_checked: 0,
        bytes_skipped: 0,
        bytes_padded: 0,
        transfers: Transfers::default(),
        durations_ms: Vec::new(),
        undo: Vec::new(),
        undo_later: Vec::new(),
        owed: Vec::new(),
        record_failure: None,
        interrupted: 0,
        next: None,
    }
}

pub(super) struct UpdateRun<'a, 'b> {
    pub(super) bench: &'a Bench<'a>,
    pub(super) request: &'a Request<'a>,
    pub(super) operator: &'a mut dyn Operator,
    pub(super) cx: &'a mut Context<'b>,
    pub(super) report: Report,
    /// Whether the unit was made to come back once already, by a reset or by
    /// lifting its protection.
    pub(super) began_again: bool,
    /// What is printed on the unit, once a person said it.
    pub(super) label: Option<(&'a Sheet, &'a Variant)>,
    /// Whether the unit was lost in the last attempt.
    pub(super) lost: bool,
    /// Whether only the way to the unit failed in the last attempt: it may still be there.
    pub(super) link_lost: bool,
    /// The unit, as it was before it was lost.
    pub(super) last: Option<DeviceInfo>,
    /// How often the work went on after the unit was lost.
    pub(super) resumed: u32,
    /// Everything that this run did to the unit's memory, over all attempts.
    pub(super) ledger: Ledger,
    /// The addresses of the image that is written, once the verdict fits.
    pub(super) image: Vec<Span>,
    /// Regions that the plan does not touch.
    pub(super) untouched: Vec<String>,
    /// Whether the unit was in update mode when it was last observed.
    pub(super) in_update_mode: bool,
    /// Whether the unit was opened on a bus that resets what is closed, and leaves update mode
    /// by a reset.
    pub(super) leaves_when_closed: bool,
    /// Whether the unit's application ran when the run found it.
    pub(super) was_running: bool,
    /// Whether the version that the unit held before was looked for.
    pub(super) is_version_checked: bool,
    /// The failure that the first attempt ended with, if there was more than one.
    pub(super) first_failure: Option<Failure>,
    /// What the saved content is called; empty if there was none.
    pub(super) saved: Option<String>,
    /// What is kept, once it was read.
    pub(super) kept: Option<Image>,
    /// The serial number in update mode: another one than the application's on
    /// some units.
    pub(super) boot_serial: Option<String>,
    /// Whether the unit was lost while it was told that the image is complete.
    pub(super) vanished: bool,
    /// Whether the update was repeated because of that.
    pub(super) end_repeated: bool,
    /// Whether the unit's result file says that it took the file.
    pub(super) is_file_accepted: bool,
    /// Whether the unit was reset and read again after a difference.
    pub(super) is_read_after_reset: bool,
    /// Keeps other processes from the unit until the job ends.
    pub(super) guard: Option<Box<dyn std::any::Any + Send>>,
}

/// How often a run goes on after its unit was lost. Chosen by us: more is a
/// cable that must be changed.
const MOST_RESUMES: u32 = 20;

impl<'a, 'b> UpdateRun<'a, 'b> {
    pub(super) fn work(&mut self) -> Result<(), Failure> {
        early_look(self.request, self.bench.sheets())?;
        let Request { unit, wait, .. } = self.request;
        let (request, sheets) = (self.request, self.bench.sheets());
        let hopes = LazyCandidates::of(|| hopes(request, sheets));
        let misfit = |candidate: &Candidate<'_>| misfit(request, candidate);
        let hunt = UnitQuery { selector: unit.as_ref(), undescribed: self.takes_undescribed(), hopes, misfit: &misfit };
        let found = discovery::find(self.bench, &hunt, *wait, self.operator, self.cx)?;
        let mut done = self.begin(&found);
        while let Err(failure) = done {
            let unit = self.last.clone().filter(|_| self.lost && self.resumed < MOST_RESUMES);
            let Some(unit) = unit else { return Err(failure) };
            done = self.go_on(&unit, failure);
        }
        Ok(())
    }

    /// The unit was lost in the middle: waits until it is back on its port, and
    /// goes on. What it holds by then is compared first, so nothing that was
    /// written before is written again.
    pub(super) fn go_on(&mut self, unit: &DeviceInfo, failure: Failure) -> Result<(), Failure> {
        self.in_update_mode &= self.link_lost;
        (self.lost, self.last) = (false, None);
        self.resumed += 1;
        let place = self.bench.place(&unit.location);
        self.cx
            .warn(format!("{} Waiting for the unit to come back at {place}; the work then goes on.", failure.message));
        let first = self.first_failure.get_or_insert_with(|| failure.clone()).clone();
        let serial = self.own_serial(unit);
        let followed = TrackedUnit { unit, serial: serial.as_deref() };
        // Where only the way to it was lost, the unit never left.
        let back = match entry::come_back(self.bench, followed, self.link_lost, self.request.wait, self.cx) {
            Ok(back) => back,
            Err(stopped) if stopped.code == ExitCode::Stopped => {
                return Err(Failure { message: stopped.message, code: ExitCode::Stopped, ..failure });
            }
            Err(_) if first.message == failure.message => return Err(failure),
            Err(_) => return Err(self.in_view_of(&first, failure)),
        };
        let Some(found) = self.candidate(&back) else { return Err(failure) };
        self.begin(&found).map_err(|again| self.in_view_of(&first, again))
    }

    /// The serial number of a unit in update mode, where its sheet says that it is its own
    /// and stays: many a bootloader has one for all units.
    pub(super) fn own_serial(&self, unit: &DeviceInfo) -> Option<String> {
        let known = self.candidate(unit).filter(|found| !found.sheets.is_empty())?;
        let stays = known.sheets.iter().all(|sheet| sheet.product.serial_stays);
        self.boot_serial.clone().filter(|_| stays)
    }

    /// A failure of a later attempt names the first failure too, which is most often the
    /// cause. If the run has changed the unit, it is not a refusal.
    pub(super) fn in_view_of(&self, first: &Failure, again: Failure) -> Failure {
        if again.message.contains(&first.message) {
            return again;
        }
        let message = format!("{} After the unit was back: {}", first.message, again.message);
        let changed = self.ledger.has_changed_unit();
        let code = match again.code {
            ExitCode::Stopped | ExitCode::Transfer | ExitCode::Differs | ExitCode::NotBack => again.code,
            other if !changed => other,
            _ => ExitCode::Transfer,
        };
        Failure { message, code, cure: again.cure.clone().or_else(|| first.cure.clone()), ..again }
    }

    pub(super) fn candidate(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        self.bench.recognise(device).or_else(|| self.bench.undescribed(device))
    }

    pub(super) fn has_agreed(&self, id: &str) -> bool {
        self.request.agreed.iter().any(|agreed| agreed == id)
    }

    pub(super) fn begin(&mut self, found: &Candidate<'a>) -> Result<(), Failure> {
        if self.guard.is_none() {
            self.guard = Some(self.bench.hold(found.location())?);
        }
        self.report.unit = Some(self.bench.place(found.location()));
        if let ([only], None) = (&found.sheets[..], &self.report.product) {
            self.report.product = Some(only.product.name.clone());
        }
        self.in_update_mode = found.mode == Mode::Update;
        self.report.after = RestartState::NotRestarted;
        self.cx.tell(Event::Seen(Box::new(unit_event::seen(self.bench, &found.device))));
        if found.sheets.is_empty() {
            return self.undescribed(found);
        }
        if found.mode == Mode::Update {
            let opened = self.open(&found.device)?;
            let settled = self.settle(found, &opened.identity.facts, None)?;
            return self.update(&found.device, opened, &settled);
        }
        self.enter_and_update(found)
    }

    /// The unit left and comes back on its port, or it may have stayed through a
    /// reset: all begins anew, once.
    pub(super) fn begin_again(&mut self, unit: &DeviceInfo, may_stay: bool) -> Result<(), Failure> {
        self.began_again = true;
        let serial = self.own_serial(unit);
        let followed = TrackedUnit { unit, serial: serial.as_deref() };
        let back = entry::come_back(self.bench, followed, may_stay, self.request.wait, self.cx)?;
        let found = self.candidate(&back).ok_or_else(|| {
            Failure::new(ExitCode::NoUnit, "The unit came back as something that no sheet knows.")
                .cure("See with 'vaka survey' what it is now.")
        })?;
        self.begin(&found)
    }

    /// The unit runs its application: a provisional verdict, update mode, and
    /// the final one.
    pub(super) fn enter_and_update(&mut self, found: &Candidate<'a>) -> Result<(), Failure> {
        let facts = match self.bench.look(&found.device, self.cx) {
            Ok(opened) => opened.identity.facts,
            // Another program holds it; update mode makes it let go.
            Err(OpenError::Bus(vaka_usb::BusError::Busy(_))) => identity::from_list(&found.device),
            Err(error) => return Err(open_failure(&error, &self.bench.place(found.location()))),
        };
        self.report.serial.clone_from(&facts.serial);
        self.was_running = true;
        let before = self.settle(found, &facts, None)?;
        let running = before.sheet.version_of(before.variant, &facts);
        self.report.version_before = self.report.version_before.take().or_else(|| running.clone());
        let geometry = of_sheet(before.variant, before.route, self.request);
        let draft = plan(before.parts(), geometry, true, self.request, content(self.request))?;
        self.tell_plan(Phase::Provisional, &draft);
        if self.request.plan_only {
            return self.planned();
        }
        let started = self.cx.now();
        let way = Way::of(before.sheet, before.route, &found.device, facts.serial.as_deref());
        let booted = entry::enter(self.bench, way, &found.device, self.request.wait, self.operator, self.cx)?;
        self.in_update_mode = true;
        self.report.durations_ms.push((StepName::Enter, milliseconds(self.cx.now() - started)));
        let opened = self.open(&booted)?;
        must_be_the_same(way.serial, &opened.identity, &self.bench.place(&booted.location))?;
        let again = Candidate { device: booted.clone(), mode: Mode::Update, sheets: vec![before.sheet] };
        match self.settle(&again, &opened.identity.facts, running.as_ref()) {
            Ok(settled) => self.update(&booted, opened, &settled),
            Err(failure) => Err(self.go_back(&booted, opened, &before, failure)),
        }
    }

    pub(super) fn open(&mut self, found: &DeviceInfo) -> Result<Connection, Failure> {
        let place = self.bench.place(&found.location);
        let opened = self.bench.look(found, self.cx).map_err(|error| open_failure(&error, &place))?;
        self.leaves_when_closed = self.candidate(found).is_some_and(|found| !self.bench.may_look(&found));
        let identity = &opened.identity;
        must_be_the_same(self.boot_serial.as_deref(), identity, &place)?;
        if identity.facts.serial.is_some() {
            self.boot_serial.clone_from(&identity.facts.serial);
        }
        if self.report.serial.is_none() {
            self.report.serial.clone_from(&identity.facts.serial);
        }
        for oddity in &identity.oddities {
            self.cx.warn(format!("The unit at {place}: {oddity}."));
        }
        Ok(opened)
    }

    /// The verdict fits: plan, and unless only that was wanted, do it.
    pub(super) fn update(
        &mut self,
        unit: &DeviceInfo,
        opened: Connection,
        settled: &Resolved<'_>,
    ) -> Result<(), Failure> {
        self.report.product = Some(settled.sheet.product.name.clone());
        self.report.part.clone_from(&settled.variant.part);
        self.report.variant = Some(settled.variant.id.clone());
        let Some(opening) = opened.opening(settled.route, Some(settled.variant)) else {
            return Err(Failure::new(
                ExitCode::Transfer,
                "The unit has no interface that could be used for this route.",
            ));
        };
        let sectors = opening.sectors().cloned().unwrap_or_else(|| settled.variant.flash.clone());
        // What is kept is read whatever is checked.
        let wants_read = self.request.read_back || !self.request.keep.is_empty();
        let geometry = Geometry {
            sectors: &sectors,
            block_size: Some(opening.block_size()),
            can_read: opened.can_read(&opening) && wants_read,
            attributes: opening.attributes(),
            offer: opening
                .offer()
                .map(|offer| DialectCapabilities { check: offer.check.filter(|_| self.request.read_back), ..offer }),
        };
        let plan = plan(settled.parts(), geometry, false, self.request, content(self.request))?;
        if self.request.undo_later {
            self.report.undo_later = undo_of(settled.route);
        }
        self.note_image(settled, &plan);
        self.tell_plan(settled.verdict.phase, &plan);
        self.check_shared_sectors(settled, &plan, geometry.can_read)?;
        if self.request.plan_only {
            return self.planned();
        }
        let approval = settled.verdict.approval().ok_or_else(|| internal("no final verdict stands behind the plan"))?;
        let plan = plan.approve(&approval).map_err(|error| internal(&error.to_string()))?;
        let place = self.bench.place(&unit.location);
        self.last = Some(unit.clone());
        self.undo(plan.plan(), UndoPhase::Entered, None);
        let mut session = match opened.open(opening, self.cx) {
            Ok(session) => session,
            Err(SessionError::WaitsForReset) if !self.began_again => {
                self.cx.warn("The unit waited for a reset of the bus; it got one.");
                return self.begin_again(unit, true);
            }
            Err(error) => return Err(self.not_opened(&error, &place)),
        };
        // A disk has no lock to open: where nothing is to be read from it, it is not asked.
        let asks = wants_read || self.request.save.is_some() || settled.route.kind.volume().is_none();
        let protection = match asks {
            true => session.protection(settled.image.start(), self.cx),
            false => Ok(Protection::Unknown),
        };
        let plan = match protection.map_err(|error| self.not_opened(&error, &place))? {
            Protection::Open | Protection::Unknown => plan,
            Protection::Unreadable(reason) => {
                self.cx.warn(format!(
                    "The unit says that it can be read, and refuses: {reason}. What is written cannot be checked."
                ));
                let geometry = Geometry { can_read: false, ..geometry };
                plan_again(settled, geometry, &approval, self.request, KnownContent::Rewrite)?
            }
            Protection::Protected(reason) => {
                self.may_unprotect(settled, &reason)?;
                self.ledger.start_erase_everything();
                session.unprotect(self.cx).map_err(|error| self.not_opened(&error, &place))?;
                drop(session);
                return self.begin_again(unit, false);
            }
        };
        if let Err(failure) = self.check_downgrade(settled, &mut *session) {
            return Err(self.leave_unchanged(unit, settled, session, failure));
        }
        self.save(settled, &mut *session)?;
        let merged = self.keep(settled, &plan, &mut *session)?;
        let (settled, plan) = match &merged {
            None => (settled, plan),
            Some(merged) => (merged, plan_again(merged, geometry, &approval, self.request, content(self.request))?),
        };
        self.note_image(settled, plan.plan());
        let equal = self.already_there(&plan, settled, &mut *session)?;
        let plan = match equal[..] {
            [] => plan,
            _ => plan_again(settled, geometry, &approval, self.request, KnownContent::Equal(&equal))?,
        };
        let carried_out = self.carry_out(&plan, settled, &mut *session);
        // It may have left and come back on the way.
        let unit = session.device().cloned().unwrap_or_else(|| unit.clone());
        if let Err(failure) = carried_out {
            return self.read_after_reset(failure, &unit, settled, &plan, session);
        }
        self.is_in_again();
        self.undo(plan.plan(), UndoPhase::Written, None);
        let has_left = self.restart(restart_by(plan.plan()), &mut *session)?;
        let is_uf2 = settled.route.kind.family().is_some();
        let plan = match !has_left && is_uf2 && !self.ledger.has_changed_unit() {
            true => self.send_again(settled, geometry, &approval, &mut *session)?,
            false => plan,
        };
        drop(session);
        self.confirm(&unit, settled, &plan)
    }

    /// A UF2 unit that held all of the image, and did not leave update mode: its last block makes
    /// it leave, so all blocks are sent again. The plan says so before.
    pub(super) fn send_again(
        &mut self,
        settled: &Resolved<'_>,
        geometry: Geometry<'_>,
        approval: &Approval,
        session: &mut dyn Session,
    ) -> Result<ApprovedPlan, Failure> {
        let plan = plan(settled.parts(), geometry, false, self.request, KnownContent::Rewrite)?.sending_again();
        self.tell_plan(settled.verdict.phase, &plan);
        let plan = plan.approve(approval).map_err(|error| internal(&error.to_string()))?;
        session.reload();
        self.carry_out(&plan, settled, session)?;
        self.restart(restart_by(plan.plan()), session)?;
        Ok(plan)
    }

    /// Without a sheet, and where the unit cannot be read, what shares a sector with the image is
    /// lost: that is asked for by name.
    pub(super) fn check_shared_sectors(
        &self,
        settled: &Resolved<'_>,
        plan: &Plan,
        can_read: bool,
    ) -> Result<(), Failure> {
        let lost = rest_of_sectors(&settled.image, plan.sectors());
        let is_addressed = matches!(settled.route.kind, RouteKind::Dfu { .. });
        if !is_addressed
            || settled.sheet.is_described
            || can_read
            || lost.is_empty()
            || self.request.clear_all
            || self.has_agreed(LOSE_REST)
        {
            return Ok(());
        }
        let places: Vec<String> = lost.iter().map(ToString::to_string).collect();
        let bytes = Bytes(lost.iter().map(|span| Span::len(*span)).sum());
        let message = format!(
            "Refused: erasing the image's sectors would also erase {bytes} beside it ({}), and the unit cannot be read to preserve them.",
            places.join(", ")
        );
        Err(Failure::new(ExitCode::Refused, message)
            .cure(format!("If nothing of that is needed: --agree {LOSE_REST}.")))
    }

    /// Notes what is written, for the state of the unit and the numbers of the report.
    pub(super) fn note_image(&mut self, settled: &Resolved<'_>, plan: &Plan) {
        self.image = settled.image.segments().iter().map(|segment| segment.span()).collect();
        self.untouched.clone_from(&plan.untouched);
    }

    /// The unit cannot be worked with; one that left may come back.
    pub(super) fn not_opened(&mut self, error: &SessionError, place: &str) -> Failure {
        (self.lost, self.link_lost) = error.is_loss();
        not_opened(error, place)
    }

    /// Whether lifting the read protection leads anywhere, and is agreed to.
    pub(super) fn may_unprotect(&mut self, settled: &Resolved<'_>, reason: &str) -> Result<(), Failure> {
        let refused =
            Failure::new(ExitCode::Refused, format!("The unit's memory is read-protected; it says: {reason}."))
                .state("Nothing was changed in the unit.");
        if self.began_again {
            return Err(refused.cure("It still is after it was lifted; unplug the unit, plug it in and try once more."));
        }
        let bootloader = settled.variant.regions.iter().find(|region| region.name == BOOTLOADER);
        if let Some(region) = bootloader {
            return Err(refused.cure(format!(
                "Lifting it would erase the whole part, its bootloader at {} too, which this file does not put back: that needs the maker's own tools.",
                region.span.start()
            )));
        }
        if !self.has_agreed(UNPROTECT) {
            return Err(refused.cure(
                "Lifting it erases the whole part: all firmware, settings and anything else in it. If that is what you want: --agree unprotect.",
            ));
        }
        self.cx.warn("Lifting the read protection, as agreed: the unit erases its whole memory now.");
        Ok(())
    }

    /// The sectors that hold the image's bytes already.
    pub(super) fn already_there(
        &mut self,
        plan: &ApprovedPlan,
        settled: &Resolved<'_>,
        session: &mut dyn Session,
    ) -> Result<Vec<Span>, Failure> {
        let mut tally = Statistics::default();
        let found = self.execution(plan, settled, &mut tally, session).equal_sectors();
        (self.lost, self.link_lost) = (tally.lost, tally.link_lost);
        self.report.check = Check::None;
        self.report.transfers.compare += tally.transfers.compare;
        self.report.durations_ms.append(&mut tally.durations);
        let equal = found?;
        if plan.plan().steps.iter().any(|step| matches!(step, Step::Compare { .. })) {
            let of = text::count(plan.plan().sectors().len(), "sector");
            let words = format!("{} of {of} hold what the image has", equal.len());
            self.tell_step(StepName::Compare, StepState::Done, words);
        }
        Ok(equal)
    }

    pub(super) fn execution<'e>(
        &'e mut self,
        plan: &'e ApprovedPlan,
        settled: &'e Resolved<'_>,
        tally: &'e mut Statistics,
        session: &'e mut dyn Session,
    ) -> Executor<'e, 'b> {
        Executor {
            plan,
            image: &settled.image,
            unit: self.report.unit.as_deref().unwrap_or_default(),
            region: &settled.variant.image.region.name,
            gives_earlier_content: matches!(settled.route.kind, RouteKind::PlainDfu { .. }),
            ledger: &mut self.ledger,
            tally,
            session,
            cx: self.cx,
        }
    }

    pub(super) fn carry_out(
        &mut self,
        plan: &ApprovedPlan,
        settled: &Resolved<'_>,
        session: &mut dyn Session,
    ) -> Result<(), Failure> {
        let mut tally = Statistics::default();
        let done = self.execution(plan, settled, &mut tally, session).run();
        (self.lost, self.link_lost) = (tally.lost, tally.link_lost);
        self.vanished = tally.finished == Some(Finished::Vanished);
        self.report.bytes_padded += tally.padded;
        self.report.transfers.add(&tally.transfers);
        self.report.durations_ms.append(&mut tally.durations);
        done?;
        let by_unit = plan.plan().steps.iter().any(|step| matches!(step, Step::DeviceCheck { .. }));
        self.report.check = match self.ledger.bytes_checked(&self.image) == settled.image.len() {
            true if by_unit || !session.limits().can_read => Check::DeviceChecked,
            true => Check::ReadBack,
            false => Check::Accepted,
        };
        Ok(())
    }

    pub(super) fn planned(&mut self) -> Result<(), Failure> {
        self.report.outcome = RunOutcome::Planned;
        self.report.code = ExitCode::Done;
        Ok(())
    }

    pub(super) fn tell_verdict(&mut self, verdict: &Verdict) {
        let unit = self.report.unit.clone();
        for evidence in &verdict.evidence {
            self.cx.tell(Event::Evidence { unit: unit.clone(), evidence: evidence.clone() });
        }
        self.cx.tell(Event::Verdict { unit, verdict: verdict.clone() });
    }

    pub(super) fn tell_plan(&mut self, phase: Phase, plan: &Plan) {
        let unit = self.report.unit.clone().unwrap_or_default();
        self.cx.tell(Event::Plan { unit, phase, plan: plan.clone() });
    }

    pub(super) fn tell_step(&mut self, step: StepName, state: StepState, text: String) {
        let unit = self.report.unit.clone().unwrap_or_default();
        self.cx.tell(Event::Step { unit, step, state, text, bytes: None, transfers: None });
    }
}

/// A unit that shows another serial number than the one that is followed is another unit,
/// wherever it is plugged in.
fn must_be_the_same(serial: Option<&str>, found: &Identity, place: &str) -> Result<(), Failure> {
    match (serial, &found.facts.serial) {
        (Some(serial), Some(found)) if serial != found => Err(Failure::new(
            ExitCode::NoUnit,
            format!("Another unit came at {place}: its serial number is {found}, not {serial}."),
        )
        .state("It is left alone; nothing was changed in it.")
        .cure("Plug the unit in again that was begun with, and run the same command.")),
        _ => Ok(()),
    }
}
