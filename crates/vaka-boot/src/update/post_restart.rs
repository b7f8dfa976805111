//! A unit that took a file tells what became of it once it is back: in a text
//! file, and by showing what it has loaded.

use vaka_base::size::Grouped;
use vaka_base::text;
use vaka_core::event::{Check, ExitCode, Failure, RestartState, RunOutcome, StepName, StepState};
use vaka_core::plan::{ApprovedPlan, Plan, RestartMethod, Step};
use vaka_core::sheet::{FileTarget, ResultFile, RouteKind, UpdateMedium, VolumeRoute};
use vaka_image::address::Span;
use vaka_image::compare;
use vaka_usb::DeviceInfo;

use super::resolved::Resolved;
use super::run::UpdateRun;
use crate::bench::connection::{Connection, Link};
use crate::entry::{self, Way};
use crate::protocol::session::{Session, SessionError};
use crate::protocol::volume;
use crate::update::confirm::{self, ExpectedApplication, Seen};
use crate::update::executor::Statistics;

impl UpdateRun<'_, '_> {
    /// Looks at the disk of a unit that is back: the result that it tells, and the
    /// application that it shows.
    pub(super) fn look_again(&mut self, settled: &Resolved<'_>, plan: &Plan, seen: &mut Seen) -> Result<(), Failure> {
        let Some(route) = settled.route.kind.volume() else { return Ok(()) };
        let UpdateMedium::File(file) = &route.takes else { return Ok(()) };
        if plan.runs().is_empty() {
            return Ok(());
        }
        let back = match (seen.opened.take(), &seen.device) {
            (Some(opened), _) => Some(opened),
            // It came back, but not as it should: what it says counts all the more.
            (None, Some(device)) => self.bench.look(device, self.cx).ok(),
            (None, None) => None,
        };
        let looks = plan.steps.iter().any(|step| matches!(step, Step::LookAgain { .. }));
        let Some(opened) = back else {
            let was_there = looks && seen.after != RestartState::NotBack;
            return if was_there { Err(self.left_while_looked_at()) } else { Ok(()) };
        };
        self.must_not_be_refused(file, &opened)?;
        if looks { self.compare_again(settled, route, file, opened) } else { Ok(()) }
    }

    /// Brings a unit that left before it could be read into update mode once more,
    /// compares, and starts it again. If it cannot be brought there, what it holds
    /// stays as weakly checked as it was.
    pub(super) fn read_once_more(
        &mut self,
        settled: &Resolved<'_>,
        plan: &ApprovedPlan,
        expected: &ExpectedApplication<'_>,
        running: &DeviceInfo,
    ) -> Result<(), Failure> {
        if !plan.plan().steps.iter().any(|step| matches!(step, Step::ReadOnceMore { .. })) {
            return Ok(());
        }
        let serial = self.report.serial.clone();
        let way = Way::of(settled.sheet, settled.route, running, serial.as_deref());
        let booted = match entry::enter(self.bench, way, running, self.request.wait, self.operator, self.cx) {
            Ok(booted) => booted,
            Err(failure) if failure.code == ExitCode::Stopped => return Err(failure),
            Err(failure) => {
                self.cx.warn(format!("{} What it holds was not read.", failure.message));
                return self.must_run_again(expected, running);
            }
        };
        self.read_in_update_mode(&booted, settled, plan)?;
        self.must_run_again(expected, &booted)
    }

    /// Reads a unit that is in update mode again, compares, and restarts it.
    fn read_in_update_mode(
        &mut self,
        booted: &DeviceInfo,
        settled: &Resolved<'_>,
        plan: &ApprovedPlan,
    ) -> Result<(), Failure> {
        self.in_update_mode = true;
        self.report.after = RestartState::NotRestarted;
        self.last = Some(booted.clone());
        let opened = self.open(booted)?;
        let opening = opened.opening(settled.route, Some(settled.variant)).ok_or_else(|| {
            Failure::new(ExitCode::Transfer, "In update mode again, the unit lacks the interface that the route needs.")
        })?;
        let place = self.bench.place(&booted.location);
        let mut session = opened.open(opening, self.cx).map_err(|error| self.not_opened(&error, &place))?;
        let mut tally = Statistics::default();
        let read = self.execution(plan, settled, &mut tally, &mut *session).read_once_more(&[settled.image.span()]);
        self.report.durations_ms.append(&mut tally.durations);
        self.report.transfers.add(&tally.transfers);
        (self.lost, self.link_lost) = (tally.lost, tally.link_lost);
        read?;
        self.ledger.regain_track();
        if self.ledger.bytes_checked(&self.image) == settled.image.len() {
            self.report.check = Check::ReadBack;
        }
        // Nothing was written this time, so it does not leave by itself.
        self.restart(RestartMethod::BusReset, &mut *session).map(drop)
    }

    /// A plain DFU unit gave other bytes than it took. Some units make the image effective
    /// only with a reset: the unit is reset and read again before it is judged, where the
    /// host can bring it into update mode by itself. Any other failure stands.
    pub(super) fn read_after_reset(
        &mut self,
        failure: Failure,
        unit: &DeviceInfo,
        settled: &Resolved<'_>,
        plan: &ApprovedPlan,
        mut session: Box<dyn Session>,
    ) -> Result<(), Failure> {
        let is_plain = matches!(settled.route.kind, RouteKind::PlainDfu { .. });
        if failure.code != ExitCode::Differs || !is_plain || self.is_read_after_reset {
            return Err(failure);
        }
        self.is_read_after_reset = true;
        self.cx.warn("What the unit gives differs before a reset. It is reset and read again before it is judged.");
        self.restart(RestartMethod::BusReset, &mut *session)?;
        drop(session);
        let expected = ExpectedApplication::of(settled.sheet, Some(settled.variant), settled.route);
        let mut seen = confirm::confirm(self.bench, &expected, unit, self.cx);
        self.note_seen(&mut seen, settled.route);
        // Whichever image that is shows only once it is read.
        self.report.after = RestartState::Restarted;
        self.ledger.lose_track();
        drop(seen.opened);
        let booted = match seen.device {
            Some(device) if self.in_update_mode => device,
            Some(device) if settled.route.enters_by_itself() => {
                let serial = self.report.serial.clone();
                let way = Way::of(settled.sheet, settled.route, &device, serial.as_deref());
                entry::enter(self.bench, way, &device, self.request.wait, self.operator, self.cx)?
            }
            _ => return Err(failure),
        };
        self.read_in_update_mode(&booted, settled, plan)?;
        self.is_in_again();
        self.confirm(&booted, settled, plan)
    }

    /// Waits for the application after the unit was only read.
    fn must_run_again(&mut self, expected: &ExpectedApplication<'_>, unit: &DeviceInfo) -> Result<(), Failure> {
        let mut seen = confirm::confirm(self.bench, expected, unit, self.cx);
        self.note_seen(&mut seen, expected.route);
        if seen.after == RestartState::NotBack {
            return Err(Failure::new(
                ExitCode::NotBack,
                format!("The application did not come back once more: {}.", seen.words),
            )
            .cure("Press reset on the unit, or unplug it and plug it in again."));
        }
        self.tell_step(StepName::Confirm, StepState::Done, seen.words);
        Ok(())
    }

    /// It was back and is gone again: it may come once more.
    fn left_while_looked_at(&mut self) -> Failure {
        self.lost = true;
        Failure::new(ExitCode::Transfer, "The unit came back, and left the bus again while it was looked at.").cure(
            "Check cable and power, and run the same command again: it looks first, and writes only what differs.",
        )
    }

    /// What the unit's result file says of the file that it was given.
    fn must_not_be_refused(&mut self, file: &FileTarget, opened: &Connection) -> Result<(), Failure> {
        let Some(ResultFile { file: name, success, failure }) = &file.result else { return Ok(()) };
        let disk = opened.identity.facts.volume.as_ref();
        let Some(lines) = disk.and_then(|disk| disk.text(name)) else {
            self.cx.warn(format!("The unit left no {name} that would say whether it took the file."));
            return Ok(());
        };
        let found = |words: &str| lines.iter().find(|line| line.contains(words));
        if let Some(line) = found(failure) {
            self.ledger.lose_track();
            self.report.outcome = RunOutcome::Failed;
            return Err(Failure::new(
                ExitCode::Transfer,
                format!("The unit refused the file; its {name} says: {line}."),
            )
            .cure("Check that this file is for this very unit, and take one that was released for it."));
        }
        match found(success) {
            Some(line) => {
                self.is_file_accepted = true;
                self.tell_step(StepName::Finish, StepState::Done, format!("{name} says: {line}"));
            }
            None => {
                let line = lines.first().map_or("nothing", String::as_str);
                self.cx
                    .warn(format!("The unit's {name} says neither that it took the file nor that it refused: {line}."));
            }
        }
        Ok(())
    }

    /// Compares the application that the unit shows with the image.
    fn compare_again(
        &mut self,
        settled: &Resolved<'_>,
        route: &VolumeRoute,
        file: &FileTarget,
        opened: Connection,
    ) -> Result<(), Failure> {
        let name = route.present.as_deref().unwrap_or(&file.name);
        let Link::Disk(mut disk) = opened.link else { return Ok(()) };
        self.tell_step(StepName::ReadBack, StepState::Started, format!("read {name} and compare it with the image"));
        let shown = match disk.read_file(name, &volume::to_its_end, self.cx) {
            Ok(shown) => shown.unwrap_or_default(),
            Err(SessionError::Gone | SessionError::Link(_)) => return Err(self.left_while_looked_at()),
            Err(error) => {
                self.cx.warn(format!("{name} could not be read: {error}. What the unit holds is not checked."));
                return Ok(());
            }
        };
        let image = &settled.image;
        let Some(found) = volume::decode(route, image.start(), &shown) else {
            self.cx.warn(format!("The unit shows no application in {name}. What it holds is not checked."));
            return Ok(());
        };
        let length: u64 = image.segments().iter().map(|segment| segment.span()).map(Span::len).sum();
        let result = compare::compare(image, &found, &[]);
        if result.first_difference.is_none() && result.unread == 0 {
            self.ledger.regain_track();
            self.image.iter().for_each(|span| self.ledger.record_equal(*span));
            self.report.check = Check::ReadBack;
            let words = format!("{} bytes are equal", Grouped(length));
            self.tell_step(StepName::ReadBack, StepState::Done, words);
            return Ok(());
        }
        if self.vanished {
            // It is there again, so the work can go on.
            self.lost = true;
            return Err(Failure::new(ExitCode::Transfer, "The unit left the bus before it had taken the file.")
                .cure("Check cable and power, and run the same command again."));
        }
        self.report.outcome = RunOutcome::Failed;
        self.image.iter().for_each(|span| self.ledger.record_difference(*span));
        let count = text::count(usize::try_from(result.different + result.unread).unwrap_or(usize::MAX), "byte");
        let from = result.first_difference.map_or("where it ends".to_owned(), |first| format!("from {} on", first.at));
        Err(Failure::new(
            ExitCode::Differs,
            format!("The unit took the file, and what it shows in {name} differs in {count}, {from}."),
        )
        .cure("Run the same command again; if it repeats, the unit's flash is worn out or damaged."))
    }
}
