//! The whole job: find the unit, judge, (enter, judge again), plan, carry
//! out, restart, confirm. Straight-line on purpose: this is the order of the
//! work, and reads like it.

mod again;
mod hands;
mod plans;
mod preserve;
mod refusal;
mod request;
mod settle;
mod state;

use vaka_core::address::{Address, Span};
use vaka_core::dfu::Status;
use vaka_core::event::{
    After, Check, Code, Ending, Event, Failure, Report, StepName, StepState, Transfers, milliseconds,
};
use vaka_core::image::{self, Image, ReadError, ReadOptions};
use vaka_core::matching::{Approval, Phase, Verdict, downgrade, image_version, version_in_flash, version_place};
use vaka_core::plan::{ApprovedPlan, Content, Geometry, Ledger, Offer, Plan, RestartBy, Step, rest_of_sectors};
use vaka_core::sheet::{BOOTLOADER, EntryStep, Moment, Route, RouteKind, Sheet, Signal, Variant, VersionSource};
use vaka_core::size::Bytes;
use vaka_core::text;
use vaka_core::unit::Mode;
use vaka_core::version::Version;
use vaka_usb::DeviceInfo;

use crate::bench::{Bench, Candidate, OpenError, dfu_mode, open_failure};
use crate::confirm::{self, Expected, Seen};
use crate::dfu;
use crate::entry::{self, Wanted, Way};
use crate::executor::{Execution, Tally};
use crate::hunt::{self, Hopes, Hunt};
use crate::identify::{self, Identity};
use crate::opened::{Link, Opened, Opening};
use crate::pace::Pace;
use crate::person::Person;
use crate::same::Followed;
use crate::seen;
use crate::session::{Finished, Protection, Session, SessionError};

pub use plans::draft;
pub use request::{History, Offered, Request, Save, Shelf};
pub use settle::{by_label, hopes, told_version};

pub(crate) use plans::undo_of;
pub(crate) use refusal::undecided;
pub(crate) use settle::open_question;

use plans::{Parts, content, of_sheet, plan, plan_again, restart_by};
use refusal::{internal, no_address, not_opened, unreadable};
use settle::{Settled, early_look, misfit};

/// Updates one unit. Everything that happens is told through `pace`; the last
/// event is always `result`, which is also returned.
pub fn run(bench: &Bench<'_>, request: &Request<'_>, person: &mut dyn Person, pace: &mut Pace<'_>) -> Report {
    let mut job = Job {
        bench,
        request,
        person,
        pace,
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
            Code::Stopped => Ending::Stopped,
            // A run that has changed the unit did not refuse, whatever ended it.
            Code::NotBack if job.report.after == After::NotBack => job.report.outcome,
            _ if job.ledger.has_changed_unit() => Ending::Failed,
            Code::Refused | Code::NoUnit | Code::File | Code::Access | Code::Usage => Ending::Refused,
            _ => Ending::Failed,
        };
        job.tell_failure(failure);
    }
    job.complete_report();
    let report = job.report;
    pace.tell(Event::Result(Box::new(report.clone())));
    report
}

/// A report of which nothing is known yet.
pub fn empty_report() -> Report {
    Report {
        unit: None,
        serial: None,
        boot_serial: None,
        state: None,
        outcome: Ending::Failed,
        code: Code::Internal,
        product: None,
        part: None,
        variant: None,
        version_before: None,
        check: Check::None,
        after: After::NotRestarted,
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

struct Job<'a, 'b> {
    bench: &'a Bench<'a>,
    request: &'a Request<'a>,
    person: &'a mut dyn Person,
    pace: &'a mut Pace<'b>,
    report: Report,
    /// Whether the unit was made to come back once already, by a reset or by
    /// lifting its protection.
    began_again: bool,
    /// What is printed on the unit, once a person said it.
    label: Option<(&'a Sheet, &'a Variant)>,
    /// Whether the unit was lost in the last attempt.
    lost: bool,
    /// Whether only the way to the unit failed in the last attempt: it may still be there.
    link_lost: bool,
    /// The unit, as it was before it was lost.
    last: Option<DeviceInfo>,
    /// How often the work went on after the unit was lost.
    resumed: u32,
    /// Everything that this run did to the unit's memory, over all attempts.
    ledger: Ledger,
    /// The addresses of the image that is written, once the verdict fits.
    image: Vec<Span>,
    /// Regions that the plan does not touch.
    untouched: Vec<String>,
    /// Whether the unit was in update mode when it was last observed.
    in_update_mode: bool,
    /// Whether the unit's application ran when the run found it.
    was_running: bool,
    /// Whether the version that the unit held before was looked for.
    is_version_checked: bool,
    /// The failure that the first attempt ended with, if there was more than one.
    first_failure: Option<Failure>,
    /// What the saved content is called; empty if there was none.
    saved: Option<String>,
    /// What is kept, once it was read.
    kept: Option<Image>,
    /// The serial number in update mode: another one than the application's on
    /// some units.
    boot_serial: Option<String>,
    /// Whether the unit was lost while it was told that the image is complete.
    vanished: bool,
    /// Whether the update was repeated because of that.
    end_repeated: bool,
    /// Whether the unit's result file says that it took the file.
    is_file_accepted: bool,
    /// Whether the unit was reset and read again after a difference.
    is_read_after_reset: bool,
    /// Keeps other processes from the unit until the job ends.
    guard: Option<Box<dyn std::any::Any + Send>>,
}

/// How often a run goes on after its unit was lost. Chosen by us: more is a
/// cable that must be changed.
const MOST_RESUMES: u32 = 20;

/// Agreement ids that the job itself looks at.
const NO_SHEET: &str = "no-sheet";
const UNPROTECT: &str = "unprotect";
const LOSE_REST: &str = "lose-rest-of-sectors";

impl<'a, 'b> Job<'a, 'b> {
    fn work(&mut self) -> Result<(), Failure> {
        early_look(self.request, self.bench.sheets())?;
        let Request { unit, wait, .. } = self.request;
        let (request, sheets) = (self.request, self.bench.sheets());
        let hopes = Hopes::of(|| hopes(request, sheets));
        let misfit = |candidate: &Candidate<'_>| misfit(request, candidate);
        let hunt = Hunt { selector: unit.as_ref(), undescribed: self.takes_undescribed(), hopes, misfit: &misfit };
        let found = hunt::find(self.bench, &hunt, *wait, self.person, self.pace)?;
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
    fn go_on(&mut self, unit: &DeviceInfo, failure: Failure) -> Result<(), Failure> {
        self.in_update_mode &= self.link_lost;
        (self.lost, self.last) = (false, None);
        self.resumed += 1;
        let place = self.bench.place(&unit.location);
        self.pace
            .warn(format!("{} Waiting for the unit to come back at {place}; the work then goes on.", failure.message));
        let first = self.first_failure.get_or_insert_with(|| failure.clone()).clone();
        let serial = self.own_serial(unit);
        let followed = Followed { unit, serial: serial.as_deref() };
        // Where only the way to it was lost, the unit never left.
        let back = match entry::come_back(self.bench, followed, self.link_lost, self.request.wait, self.pace) {
            Ok(back) => back,
            Err(stopped) if stopped.code == Code::Stopped => {
                return Err(Failure { message: stopped.message, code: Code::Stopped, ..failure });
            }
            Err(_) if first.message == failure.message => return Err(failure),
            Err(_) => return Err(self.in_view_of(&first, failure)),
        };
        let Some(found) = self.candidate(&back) else { return Err(failure) };
        self.begin(&found).map_err(|again| self.in_view_of(&first, again))
    }

    /// The serial number of a unit in update mode, where its sheet says that it is its own
    /// and stays: many a bootloader has one for all units.
    fn own_serial(&self, unit: &DeviceInfo) -> Option<String> {
        let known = self.candidate(unit).filter(|found| !found.sheets.is_empty())?;
        let stays = known.sheets.iter().all(|sheet| sheet.product.serial_stays);
        self.boot_serial.clone().filter(|_| stays)
    }

    /// A failure of a later attempt names the first failure too, which is most often the
    /// cause. If the run has changed the unit, it is not a refusal.
    fn in_view_of(&self, first: &Failure, again: Failure) -> Failure {
        if again.message.contains(&first.message) {
            return again;
        }
        let message = format!("{} After the unit was back: {}", first.message, again.message);
        let changed = self.ledger.has_changed_unit();
        let code = match again.code {
            Code::Stopped | Code::Transfer | Code::Differs | Code::NotBack => again.code,
            other if !changed => other,
            _ => Code::Transfer,
        };
        Failure { message, code, cure: again.cure.clone().or_else(|| first.cure.clone()), ..again }
    }

    fn candidate(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        self.bench.recognise(device).or_else(|| self.bench.undescribed(device))
    }

    /// A unit that nobody described is taken only if nothing else can be
    /// meant: a stray device with a DFU interface is on many machines.
    fn takes_undescribed(&self) -> bool {
        self.bench.sheets().is_empty() || self.request.unit.is_some() || self.has_agreed(NO_SHEET)
    }

    fn has_agreed(&self, id: &str) -> bool {
        self.request.agreed.iter().any(|agreed| agreed == id)
    }

    fn begin(&mut self, found: &Candidate<'a>) -> Result<(), Failure> {
        if self.guard.is_none() {
            self.guard = Some(self.bench.hold(found.location())?);
        }
        self.report.unit = Some(self.bench.place(found.location()));
        if let ([only], None) = (&found.sheets[..], &self.report.product) {
            self.report.product = Some(only.product.name.clone());
        }
        self.in_update_mode = found.mode == Mode::Update;
        self.report.after = After::NotRestarted;
        self.pace.tell(Event::Seen(Box::new(seen::seen(self.bench, &found.device))));
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

    /// Nobody described the unit: what it says of itself takes the sheet's place.
    fn undescribed(&mut self, found: &Candidate<'a>) -> Result<(), Failure> {
        let booted = match found.mode {
            Mode::Update => found.device.clone(),
            _ => self.detach_undescribed(found)?,
        };
        let opened = self.open(&booted)?;
        let image = self.image_of_undescribed(&opened.identity)?;
        let facts = opened.identity.facts.clone();
        let sheet = Sheet::of_unit(&facts, &image, &self.request.memory).map_err(|error| {
            Failure::new(Code::Refused, format!("Nobody described this unit, and {error}."))
                .state("Nothing was changed in the unit.")
                .cure("Write a product sheet for it; 'vaka sheet new' makes a first one from what can be seen.")
        })?;
        let described = Candidate { device: booted.clone(), mode: Mode::Update, sheets: vec![&sheet] };
        let settled = self.judged(&described, &sheet, image, &facts)?;
        self.update(&booted, opened, &settled)
    }

    /// Brings the application of a unit that nobody described to leave for its
    /// DFU mode. That changes its mode, so it is agreed first.
    fn detach_undescribed(&mut self, found: &Candidate<'a>) -> Result<DeviceInfo, Failure> {
        if !self.has_agreed(NO_SHEET) {
            let name = found.id();
            return Err(Failure::new(Code::Refused, format!("No sheet knows {name}, whose application runs."))
                .state("Nothing was changed in the unit.")
                .cure("If it is to be put into DFU mode and updated on its own word alone: --agree no-sheet."));
        }
        if self.request.plan_only {
            return Err(Failure::new(Code::Refused, "What this unit can do shows only in its DFU mode.")
                .state("Nothing was changed in the unit.")
                .cure("Put it into DFU mode and run the same command, or leave out --plan."));
        }
        let signal = [EntryStep::Signal(Signal::DfuDetach)];
        let (wanted, application) = (Wanted::DfuMode, found.id());
        let way = Way { name: "the unit", entry: &signal, wanted, application, serial: None };
        entry::enter(self.bench, way, &found.device, self.request.wait, self.person, self.pace)
    }

    /// The image for a unit that nobody described. Plain DFU knows no
    /// addresses, so a file without any counts from 0 there.
    fn image_of_undescribed(&self, identity: &Identity) -> Result<Image, Failure> {
        let plain = identity.facts.memories(&self.request.memory).iter().all(|memory| !memory.is_addressed());
        match image::read(self.request.file, self.request.options) {
            Err(ReadError::NoAddress) if plain => {
                let options = ReadOptions { at: Some(Address::new(0)), ..self.request.options };
                image::read(self.request.file, options).map_err(|error| unreadable(&error))
            }
            Err(ReadError::NoAddress) => Err(no_address(&[])),
            other => other.map_err(|error| unreadable(&error)),
        }
    }

    /// The unit left and comes back on its port, or it may have stayed through a
    /// reset: all begins anew, once.
    fn begin_again(&mut self, unit: &DeviceInfo, may_stay: bool) -> Result<(), Failure> {
        self.began_again = true;
        let serial = self.own_serial(unit);
        let followed = Followed { unit, serial: serial.as_deref() };
        let back = entry::come_back(self.bench, followed, may_stay, self.request.wait, self.pace)?;
        let found = self.candidate(&back).ok_or_else(|| {
            Failure::new(Code::NoUnit, "The unit came back as something that no sheet knows.")
                .cure("See with 'vaka survey' what it is now.")
        })?;
        self.begin(&found)
    }

    /// The unit runs its application: a provisional verdict, update mode, and
    /// the final one.
    fn enter_and_update(&mut self, found: &Candidate<'a>) -> Result<(), Failure> {
        let facts = match self.bench.look(&found.device, self.pace) {
            Ok(opened) => opened.identity.facts,
            // Another program holds it; update mode makes it let go.
            Err(OpenError::Bus(vaka_usb::BusError::Busy(_))) => identify::from_list(&found.device),
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
        let started = self.pace.now();
        let way = Way::of(before.sheet, before.route, &found.device, facts.serial.as_deref());
        let booted = entry::enter(self.bench, way, &found.device, self.request.wait, self.person, self.pace)?;
        self.in_update_mode = true;
        self.report.durations_ms.push((StepName::Enter, milliseconds(self.pace.now() - started)));
        let opened = self.open(&booted)?;
        must_be_the_same(way.serial, &opened.identity, &self.bench.place(&booted.location))?;
        let again = Candidate { device: booted.clone(), mode: Mode::Update, sheets: vec![before.sheet] };
        match self.settle(&again, &opened.identity.facts, running.as_ref()) {
            Ok(settled) => self.update(&booted, opened, &settled),
            Err(failure) => Err(self.go_back(&booted, opened, &before, failure)),
        }
    }

    fn open(&mut self, found: &DeviceInfo) -> Result<Opened, Failure> {
        let place = self.bench.place(&found.location);
        let opened = self.bench.look(found, self.pace).map_err(|error| open_failure(&error, &place))?;
        let identity = &opened.identity;
        must_be_the_same(self.boot_serial.as_deref(), identity, &place)?;
        if identity.facts.serial.is_some() {
            self.boot_serial.clone_from(&identity.facts.serial);
        }
        if self.report.serial.is_none() {
            self.report.serial.clone_from(&identity.facts.serial);
        }
        for oddity in &identity.oddities {
            self.pace.warn(format!("The unit at {place}: {oddity}."));
        }
        Ok(opened)
    }

    /// The verdict fits: plan, and unless only that was wanted, do it.
    fn update(&mut self, unit: &DeviceInfo, opened: Opened, settled: &Settled<'_>) -> Result<(), Failure> {
        self.report.product = Some(settled.sheet.product.name.clone());
        self.report.part.clone_from(&settled.variant.part);
        self.report.variant = Some(settled.variant.id.clone());
        let Some(opening) = opened.opening(settled.route, Some(settled.variant)) else {
            return Err(Failure::new(Code::Transfer, "The unit has no interface that could be used for this route."));
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
                .map(|offer| Offer { check: offer.check.filter(|_| self.request.read_back), ..offer }),
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
        self.undo(plan.plan(), Moment::Entered, None);
        let mut session = match opened.open(opening, self.pace) {
            Ok(session) => session,
            Err(SessionError::WaitsForReset) if !self.began_again => {
                self.pace.warn("The unit waited for a reset of the bus; it got one.");
                return self.begin_again(unit, true);
            }
            Err(error) => return Err(self.not_opened(&error, &place)),
        };
        // A disk has no lock to open: where nothing is to be read from it, it is not asked.
        let asks = wants_read || self.request.save.is_some() || settled.route.kind.volume().is_none();
        let protection = match asks {
            true => session.protection(settled.image.start(), self.pace),
            false => Ok(Protection::Unknown),
        };
        let plan = match protection.map_err(|error| self.not_opened(&error, &place))? {
            Protection::Open | Protection::Unknown => plan,
            Protection::Unreadable(reason) => {
                self.pace.warn(format!(
                    "The unit says that it can be read, and refuses: {reason}. What is written cannot be checked."
                ));
                let geometry = Geometry { can_read: false, ..geometry };
                plan_again(settled, geometry, &approval, self.request, Content::Rewrite)?
            }
            Protection::Protected(reason) => {
                self.may_unprotect(settled, &reason)?;
                self.ledger.start_erase_everything();
                session.unprotect(self.pace).map_err(|error| self.not_opened(&error, &place))?;
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
            _ => plan_again(settled, geometry, &approval, self.request, Content::Equal(&equal))?,
        };
        let carried_out = self.carry_out(&plan, settled, &mut *session);
        // It may have left and come back on the way.
        let unit = session.device().cloned().unwrap_or_else(|| unit.clone());
        if let Err(failure) = carried_out {
            return self.read_after_reset(failure, &unit, settled, &plan, session);
        }
        self.is_in_again();
        self.undo(plan.plan(), Moment::Written, None);
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
    fn send_again(
        &mut self,
        settled: &Settled<'_>,
        geometry: Geometry<'_>,
        approval: &Approval,
        session: &mut dyn Session,
    ) -> Result<ApprovedPlan, Failure> {
        let plan = plan(settled.parts(), geometry, false, self.request, Content::Rewrite)?.sending_again();
        self.tell_plan(settled.verdict.phase, &plan);
        let plan = plan.approve(approval).map_err(|error| internal(&error.to_string()))?;
        session.reload();
        self.carry_out(&plan, settled, session)?;
        self.restart(restart_by(plan.plan()), session)?;
        Ok(plan)
    }

    /// Asks for the agreement `older-version` where the unit could not report its version before:
    /// its flash may hold it, or else an earlier update is on record.
    fn check_downgrade(&mut self, settled: &Settled<'_>, session: &mut dyn Session) -> Result<(), Failure> {
        let is_first = !std::mem::replace(&mut self.is_version_checked, true);
        if !is_first || self.report.version_before.is_some() || settled.sheet.comes_back.is_some() {
            return Ok(());
        }
        let found = self.version_in_flash(settled, session)?;
        let from = if found.is_some() { "in its flash" } else { "by the journal" };
        let found = found.or_else(|| {
            let serials: Vec<&str> =
                [&self.report.serial, &self.boot_serial].into_iter().flatten().map(String::as_str).collect();
            self.request.history.and_then(|history| {
                history.last_version(&settled.sheet.product.name, settled.variant.part.as_deref(), &serials)
            })
        });
        let Some(before) = found else { return Ok(()) };
        let against = downgrade(settled.variant, &settled.image, &before);
        self.report.version_before = Some(before);
        let Some(against) = against.filter(|_| !self.has_agreed("older-version")) else { return Ok(()) };
        let message = format!("Refused: {} ({from}).", against.sentence());
        self.pace.tell(Event::Evidence { unit: self.report.unit.clone(), evidence: against });
        Err(Failure::new(Code::Refused, message).cure("If that is what you want: --agree older-version."))
    }

    /// The version in the unit's flash, where the sheet says where it stands and the unit can be
    /// read there.
    fn version_in_flash(
        &mut self,
        settled: &Settled<'_>,
        session: &mut dyn Session,
    ) -> Result<Option<Version>, Failure> {
        let Some(place) = version_place(settled.variant).filter(|_| session.limits().can_read) else { return Ok(None) };
        if matches!(&settled.route.kind, RouteKind::PlainDfu { uploads_image: false, .. }) {
            return Ok(None);
        }
        let rules = &settled.variant.image;
        let start = rules.region.span.start();
        let marks = rules.marks.iter().filter_map(|mark| start.checked_add(mark.offset + mark.bytes.len() as u64));
        let end = marks.fold(place.end(), Address::max);
        let mut bytes = Vec::new();
        let mut at = start;
        while at < end {
            let left = end.offset_from(at).unwrap_or(0);
            let len = u32::try_from(left).unwrap_or(u32::MAX).min(session.limits().read_size);
            match session.read(at, len, self.pace) {
                Ok(read) => bytes.extend(read),
                Err(error) if error.is_loss().0 => {
                    let place = self.report.unit.clone().unwrap_or_default();
                    return Err(self.not_opened(&error, &place));
                }
                // It shows nothing there.
                Err(_) => {
                    session.rest(self.pace);
                    return Ok(None);
                }
            }
            at = at.checked_add(u64::from(len)).unwrap_or(end);
        }
        // A stream is read from its beginning on next time; other units need nothing.
        if matches!(&settled.route.kind, RouteKind::PlainDfu { .. }) {
            session.rest(self.pace);
        }
        let part = |offset: u64, len: u64| {
            let from = usize::try_from(offset).ok()?;
            bytes.get(from..from.checked_add(usize::try_from(len).ok()?)?)
        };
        // Without its marks it is no whole application, and its version says nothing.
        if !rules.marks.iter().all(|mark| part(mark.offset, mark.bytes.len() as u64) == Some(&mark.bytes[..])) {
            return Ok(None);
        }
        let offset = place.start().offset_from(start).unwrap_or(0);
        Ok(part(offset, place.len()).and_then(version_in_flash))
    }

    /// A refusal after the session was opened: sends the unit back to its application if that
    /// ran before.
    fn leave_unchanged(
        &mut self,
        unit: &DeviceInfo,
        settled: &Settled<'_>,
        mut session: Box<dyn Session>,
        failure: Failure,
    ) -> Failure {
        if !self.was_running || failure.code != Code::Refused {
            session.rest(self.pace);
            return failure;
        }
        let left = session.restart(settled.route.restart_at, self.pace);
        drop(session);
        self.observe_return(left.is_ok(), unit, settled);
        failure
    }

    /// Looks whether a unit that was sent back went to its application.
    fn observe_return(&mut self, was_told: bool, unit: &DeviceInfo, settled: &Settled<'_>) {
        if was_told {
            let expected = Expected::of(settled.sheet, None, settled.route);
            let seen = confirm::confirm(self.bench, &expected, unit, self.pace);
            self.in_update_mode = seen.after == After::NotBack && seen.device.is_some();
        }
    }

    /// Without a sheet, and where the unit cannot be read, what shares a sector with the image is
    /// lost: that is asked for by name.
    fn check_shared_sectors(&self, settled: &Settled<'_>, plan: &Plan, can_read: bool) -> Result<(), Failure> {
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
        Err(Failure::new(Code::Refused, message).cure(format!("If nothing of that is needed: --agree {LOSE_REST}.")))
    }

    /// Notes what is written, for the state of the unit and the numbers of the report.
    fn note_image(&mut self, settled: &Settled<'_>, plan: &Plan) {
        self.image = settled.image.segments().iter().map(|segment| segment.span()).collect();
        self.untouched.clone_from(&plan.untouched);
    }

    /// The unit cannot be worked with; one that left may come back.
    fn not_opened(&mut self, error: &SessionError, place: &str) -> Failure {
        (self.lost, self.link_lost) = error.is_loss();
        not_opened(error, place)
    }

    /// Whether lifting the read protection leads anywhere, and is agreed to.
    fn may_unprotect(&mut self, settled: &Settled<'_>, reason: &str) -> Result<(), Failure> {
        let refused = Failure::new(Code::Refused, format!("The unit's memory is read-protected; it says: {reason}."))
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
        self.pace.warn("Lifting the read protection, as agreed: the unit erases its whole memory now.");
        Ok(())
    }

    /// The sectors that hold the image's bytes already.
    fn already_there(
        &mut self,
        plan: &ApprovedPlan,
        settled: &Settled<'_>,
        session: &mut dyn Session,
    ) -> Result<Vec<Span>, Failure> {
        let mut tally = Tally::default();
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

    fn execution<'e>(
        &'e mut self,
        plan: &'e ApprovedPlan,
        settled: &'e Settled<'_>,
        tally: &'e mut Tally,
        session: &'e mut dyn Session,
    ) -> Execution<'e, 'b> {
        Execution {
            plan,
            image: &settled.image,
            unit: self.report.unit.as_deref().unwrap_or_default(),
            region: &settled.variant.image.region.name,
            ledger: &mut self.ledger,
            tally,
            session,
            pace: self.pace,
        }
    }

    fn carry_out(
        &mut self,
        plan: &ApprovedPlan,
        settled: &Settled<'_>,
        session: &mut dyn Session,
    ) -> Result<(), Failure> {
        let mut tally = Tally::default();
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

    /// Makes the unit leave update mode. Only a refusal by the unit is a failure here: whether
    /// it left shows on the bus afterwards. Returns whether the session saw nothing against it.
    fn restart(&mut self, by: RestartBy, session: &mut dyn Session) -> Result<bool, Failure> {
        let at = match by {
            RestartBy::Address(at) => Some(at),
            _ => None,
        };
        let started = self.pace.now();
        self.tell_step(StepName::Restart, StepState::Started, by.to_string());
        let has_left = match session.restart(at, self.pace) {
            Ok(()) => true,
            Err(error) if error.is_refusal() => {
                return Err(Failure::new(Code::NotBack, format!("The unit refused to leave update mode: {error}."))
                    .cure("Press reset on the unit, or unplug it and plug it in again."));
            }
            Err(error) => {
                self.pace.warn(format!("The request to leave update mode ended with: {error}."));
                false
            }
        };
        self.report.durations_ms.push((StepName::Restart, milliseconds(self.pace.now() - started)));
        Ok(has_left)
    }

    fn confirm(&mut self, unit: &DeviceInfo, settled: &Settled<'_>, approved: &ApprovedPlan) -> Result<(), Failure> {
        let plan = approved.plan();
        let tells = *settled.sheet.version_source(settled.variant) != VersionSource::Nowhere;
        let version = image_version(settled.variant, &settled.image).filter(|_| tells);
        let named = settled.image.facts().named_version.clone();
        let leaves = restart_by(plan) != RestartBy::Nothing;
        let started = self.pace.now();
        let ids = settled.sheet.application_ids(settled.variant);
        let wanted = match ids {
            Some(id) => format!("wait for {id} on the same port"),
            None => "wait for what comes on the same port".to_owned(),
        };
        self.tell_step(StepName::Confirm, StepState::Started, wanted);
        let expected = Expected::of(settled.sheet, Some(settled.variant), settled.route);
        let serial = self.report.serial.clone().filter(|_| settled.sheet.product.serial_stays);
        let expected = Expected { version, named, leaves, serial, ..expected };
        let mut seen = confirm::confirm(self.bench, &expected, unit, self.pace);
        self.report.durations_ms.push((StepName::Confirm, milliseconds(self.pace.now() - started)));
        self.note_seen(&mut seen, settled.route);
        self.report.outcome = if self.ledger.has_changed_unit() { Ending::Updated } else { Ending::Unchanged };
        self.look_again(settled, plan, &mut seen)?;
        self.ask_what_is_seen(&settled.sheet.after().see, &mut seen);
        if seen.after == After::NotBack {
            let failure = Failure::new(Code::NotBack, format!("The application did not come back: {}.", seen.words));
            let status = self.dfu_status_of(&seen, settled.route);
            let failure = match &status {
                Some((_, words)) => Failure { message: format!("{} {words}", failure.message), ..failure },
                None => failure,
            };
            let is_bad = status.is_some_and(|(status, _)| status == Status::Firmware);
            return Err(failure.cure(self.way_back(is_bad)));
        }
        self.must_have_ended(settled, plan, &expected, &seen)?;
        self.tell_step(StepName::Confirm, StepState::Done, seen.words);
        drop(seen.opened);
        if let Some(running) = seen.device {
            self.read_once_more(settled, approved, &expected, &running)?;
            self.note_nodes(&running);
            self.undo(plan, Moment::End, Some(&running));
        } else {
            self.undo(plan, Moment::End, None);
        }
        self.report.code = Code::Done;
        Ok(())
    }

    /// Notes what was observed after a restart.
    pub(super) fn note_seen(&mut self, seen: &mut Seen, route: &Route) {
        self.report.after = seen.after;
        self.report.next = seen.next.take();
        let is_booted = |device: &DeviceInfo| {
            let is_route = route.id.is(identify::from_list(device).id) && seen.after == After::NotBack;
            is_route || dfu_mode(device) == Some(Mode::Update)
        };
        self.in_update_mode = seen.device.as_ref().is_some_and(is_booted);
    }

    /// A unit that was lost while it was told that the image is complete may run its old
    /// firmware. That it came back proves nothing; that it reports the new version, after it
    /// reported another one before, does. So does its memory, if it is read once more.
    fn must_have_ended(
        &mut self,
        settled: &Settled<'_>,
        plan: &Plan,
        expected: &Expected<'_>,
        seen: &Seen,
    ) -> Result<(), Failure> {
        let reads_again = plan.steps.iter().any(|step| matches!(step, Step::ReadOnceMore { .. }));
        let is_proven = self.is_file_accepted || self.report.check == Check::ReadBack && plan.held_back().is_none();
        if !self.vanished || reads_again || is_proven {
            return Ok(());
        }
        let reported = self.report.next.as_ref().and_then(|next| next.version.as_ref());
        let is_new = expected.version.is_some()
            && reported == expected.version.as_ref()
            && self.report.version_before.as_ref().is_some_and(|before| Some(before) != reported);
        if is_new {
            self.ledger.regain_track();
            plan.held_back().into_iter().for_each(|last| self.ledger.finish_write(last));
            return Ok(());
        }
        // The host can bring it back by itself, so the update is repeated, once.
        self.lost = settled.route.enters_by_itself() && !std::mem::replace(&mut self.end_repeated, true);
        self.report.after = After::Restarted;
        Err(Failure::new(
            Code::Transfer,
            format!("The unit was lost before it confirmed that the image is complete. Then {}, and nothing shows which firmware that is.", seen.words),
        )
        .cure("Run the same command again."))
    }

    /// What the system made of the application: its serial port, for the next program.
    fn note_nodes(&mut self, running: &DeviceInfo) {
        let bus = self.bench.bus(&running.location);
        let nodes = bus.map(|bus| bus.nodes(&running.location.port)).unwrap_or_default();
        if let Some(next) = &mut self.report.next {
            next.nodes = nodes.iter().map(|node| text::tame(&node.to_string_lossy())).collect();
        }
    }

    /// What can be done about an application that did not come back. If the bootloader reports
    /// that its firmware is bad, no switch or reset helps.
    fn way_back(&self, firmware_is_bad: bool) -> String {
        let next = match firmware_is_bad {
            true => {
                "Run the same command again: it writes the image once more. If it repeats, this image does not run on this unit."
            }
            false => {
                "Set switches and buttons back and press reset, or unplug the unit and plug it in again; 'vaka survey' shows what it is then."
            }
        };
        match self.saved.as_deref().filter(|name| !name.is_empty()) {
            None => next.to_owned(),
            Some(name) => format!("{next} The old firmware goes back with: vaka update {name} --agree older-version"),
        }
    }

    /// What the bootloader of a unit that came back in DFU mode says about its firmware, if it
    /// reports an error. Source: DFU 1.1, section 6.1.2 (bStatus).
    fn dfu_status_of(&mut self, seen: &Seen, route: &Route) -> Option<(Status, String)> {
        let device = seen.device.as_ref().filter(|device| dfu_mode(device) == Some(Mode::Update))?;
        let opened = self.bench.look(device, self.pace).ok()?;
        let Some(Opening::Dfu(opening)) = opened.opening(route, None) else { return None };
        let Link::Device(device) = opened.link else { return None };
        let reply = dfu::read_status(device, &opening, self.pace).ok()?;
        // A reset or a loss of power is what just happened to it.
        let says_nothing = matches!(reply.status, Status::Ok | Status::UsbReset | Status::PowerOnReset);
        (!says_nothing).then(|| (reply.status, format!("Its bootloader reports {}.", reply.status)))
    }

    /// The final verdict refuses what the provisional one let through: sends the unit back to
    /// its application, and looks whether it went there.
    fn go_back(&mut self, unit: &DeviceInfo, opened: Opened, before: &Settled<'_>, failure: Failure) -> Failure {
        let route = before.route;
        let left = opened
            .opening(route, None)
            .ok_or(SessionError::Gone)
            .and_then(|opening| opened.open(opening, self.pace))
            .and_then(|mut session| session.restart(route.restart_at, self.pace));
        self.observe_return(left.is_ok(), unit, before);
        failure
    }

    fn planned(&mut self) -> Result<(), Failure> {
        self.report.outcome = Ending::Planned;
        self.report.code = Code::Done;
        Ok(())
    }

    fn tell_verdict(&mut self, verdict: &Verdict) {
        let unit = self.report.unit.clone();
        for evidence in &verdict.evidence {
            self.pace.tell(Event::Evidence { unit: unit.clone(), evidence: evidence.clone() });
        }
        self.pace.tell(Event::Verdict { unit, verdict: verdict.clone() });
    }

    fn tell_plan(&mut self, phase: Phase, plan: &Plan) {
        let unit = self.report.unit.clone().unwrap_or_default();
        self.pace.tell(Event::Plan { unit, phase, plan: plan.clone() });
    }

    fn tell_step(&mut self, step: StepName, state: StepState, text: String) {
        let unit = self.report.unit.clone().unwrap_or_default();
        self.pace.tell(Event::Step { unit, step, state, text, bytes: None, transfers: None });
    }
}

/// A unit that shows another serial number than the one that is followed is another unit,
/// wherever it is plugged in.
fn must_be_the_same(serial: Option<&str>, found: &Identity, place: &str) -> Result<(), Failure> {
    match (serial, &found.facts.serial) {
        (Some(serial), Some(found)) if serial != found => Err(Failure::new(
            Code::NoUnit,
            format!("Another unit came at {place}: its serial number is {found}, not {serial}."),
        )
        .state("It is left alone; nothing was changed in it.")
        .cure("Plug the unit in again that was begun with, and run the same command.")),
        _ => Ok(()),
    }
}
