//! The state of a run that survives the loss of the unit.

use crate::failure::{Failure, FailureKind, RunEffect};
use vaka_core::event::{ExitCode, Report, RestartState, RunOutcome};
use vaka_core::plan::{Ledger, Plan};
use vaka_core::sheet::{Sheet, TableReport, Variant};
use vaka_core::unit_state::UnitState;
use vaka_image::Image;
use vaka_image::address::Span;

/// The work and observations of a run over all its attempts.
pub(super) struct Progress<'a> {
    /// The result so far.
    pub(super) report: Report,
    /// Every erase, write and comparison of the run.
    pub(super) ledger: Ledger,
    /// The image and its target.
    pub(super) written: WrittenImage,
    /// The observations of the unit.
    pub(super) unit: ObservedUnit<'a>,
    /// Content that was read before anything was erased.
    pub(super) content: ReadContent,
    /// Counters of actions that are limited in number.
    pub(super) attempts: Attempts,
}

/// The image and its target, once the verdict fits.
#[derive(Debug, Default)]
pub(super) struct WrittenImage {
    /// The addresses of the image.
    pub(super) spans: Vec<Span>,
    /// Names of regions that the plan does not touch.
    pub(super) untouched: Vec<String>,
}

/// The observations of the unit.
#[derive(Default)]
pub(super) struct ObservedUnit<'a> {
    /// The variant that the user read on the unit.
    pub(super) label: Option<(&'a Sheet, &'a Variant)>,
    /// The serial number in update mode; on some units another one than the application's.
    pub(super) bootloader_serial: Option<String>,
    /// Whether the unit was in update mode when last observed.
    pub(super) in_update_mode: bool,
    /// Whether the unit leaves update mode when it is closed, because its bus then resets it.
    pub(super) leaves_when_closed: bool,
    /// Whether the application was running when the run found the unit.
    pub(super) was_running: bool,
    /// The table of regions, once the run has tried to read it.
    pub(super) table: Option<TableReport>,
}

/// Content that was read before anything was erased.
#[derive(Debug, Default)]
pub(super) struct ReadContent {
    /// Name of the backup; `None` if there was nothing to save.
    pub(super) backup_name: Option<String>,
    /// The content of the preserved regions, until it is in the unit again.
    pub(super) preserved: Option<Image>,
}

/// Counters of actions that are limited in number.
#[derive(Debug, Default)]
pub(super) struct Attempts {
    /// The failure of the first attempt, if there was a second one.
    pub(super) first_failure: Option<Failure>,
    /// How often the run resumed after the unit was lost.
    pub(super) resumes: u32,
    /// Whether the unit was reset once, by a reset or by lifting its protection.
    pub(super) reset: bool,
    /// Whether the update was repeated because the unit was lost while it finished.
    pub(super) end_repeated: bool,
    /// Whether the unit was reset and read again after a difference.
    pub(super) reread_after_reset: bool,
    /// Whether the version before the update was already determined.
    pub(super) version_checked: bool,
}

impl Progress<'_> {
    /// The state before any work.
    pub(super) fn new() -> Self {
        Self {
            report: Report::empty(),
            ledger: Ledger::default(),
            written: WrittenImage::default(),
            unit: ObservedUnit::default(),
            content: ReadContent::default(),
            attempts: Attempts::default(),
        }
    }

    /// Records the image and plan, for the state of the unit and the numbers of the report.
    pub(super) fn set_image(&mut self, image: &Image, plan: &Plan) {
        self.written.spans = image.segments().iter().map(|segment| segment.span()).collect();
        self.written.untouched.clone_from(&plan.untouched);
    }

    /// Records the serial number that a unit shows elsewhere than where it was written.
    pub(super) fn note_own_serial(&mut self) {
        let own = self.report.application.as_ref().and_then(|application| application.serial.clone());
        self.report.serial = own.or(self.report.serial.take());
    }

    /// The place of the unit; empty before it is found.
    pub(super) fn place(&self) -> &str {
        self.report.unit.as_deref().unwrap_or_default()
    }

    /// The serial numbers that the unit reported.
    pub(super) fn serials(&self) -> Vec<String> {
        [&self.report.serial, &self.unit.bootloader_serial].into_iter().flatten().cloned().collect()
    }

    /// The unit's serial number in update mode, or else its location.
    pub(super) fn unit_name(&self) -> String {
        self.unit.bootloader_serial.clone().unwrap_or_else(|| self.place().to_owned())
    }

    /// Merges the failure of a later attempt with the first one, which is usually the cause. Once
    /// a sector has been touched, an early exit is a failure, not a refusal.
    pub(super) fn merge_failures(&self, again: Failure) -> Failure {
        let Some(first) = &self.attempts.first_failure else { return again };
        if again.kind.includes(&first.kind) {
            return again;
        }
        let code = match again.code {
            ExitCode::Stopped | ExitCode::Transfer | ExitCode::Differs | ExitCode::NotBack => again.code,
            other if !self.ledger.has_changed_unit() => other,
            _ => ExitCode::Transfer,
        };
        let remedies = if again.remedies.is_empty() { first.remedies.clone() } else { again.remedies };
        let kind = Box::new(FailureKind::AfterReturn { first: first.kind.clone(), then: again.kind });
        Failure { kind, code, remedies, ..again }
    }

    /// The outcome of a run that ended with a failure.
    pub(super) fn fail(&mut self, code: ExitCode) {
        self.report.code = code;
        self.report.outcome = match code {
            ExitCode::Stopped => RunOutcome::Stopped,
            // Once a sector has been touched, an early exit is a failure, not a refusal.
            ExitCode::NotBack if self.report.after == RestartState::NotBack => self.report.outcome,
            _ if self.ledger.has_changed_unit() => RunOutcome::Failed,
            code => code.outcome_unchanged(),
        };
    }

    /// The session has ended: some units then leave update mode, unobserved.
    pub(super) fn close(&mut self) {
        self.unit.in_update_mode &= !self.unit.leaves_when_closed;
    }

    /// The state of the unit, from everything that this run did to it and observed of it.
    pub(super) fn unit_state(&self) -> Option<UnitState> {
        self.report.unit.as_ref()?;
        let content = self.ledger.content(&self.written.spans, self.unit.in_update_mode);
        // A running application counts only if the content is not in doubt.
        let is_in_doubt = matches!(content, UnitState::PartlyErased | UnitState::PartlyWritten | UnitState::Unknown);
        Some(match self.report.after {
            _ if is_in_doubt => content,
            RestartState::Confirmed | RestartState::Seen => UnitState::Running,
            RestartState::Restarted if !self.unit.in_update_mode => UnitState::Restarted,
            _ => content,
        })
    }

    /// The state of the unit, with the known numbers.
    pub(super) fn effect(&self, state: UnitState) -> RunEffect {
        let image = &self.written.spans;
        RunEffect {
            state,
            in_update_mode: self.unit.in_update_mode,
            not_restarted: self.report.after == RestartState::NotRestarted,
            image_bytes: image.iter().map(|span| Span::len(*span)).sum(),
            present_bytes: self.ledger.bytes_present(image),
            compared_bytes: self.ledger.bytes_checked(image),
            untouched: self.written.untouched.clone(),
        }
    }

    /// Completes the report with the values that follow from the whole run.
    pub(super) fn complete_report(&mut self, pending_undo: Vec<String>) {
        self.close();
        let (state, image) = (self.unit_state(), &self.written.spans);
        let report = &mut self.report;
        report.bytes_written = self.ledger.bytes_written(image);
        report.bytes_checked = self.ledger.bytes_checked(image);
        report.bytes_skipped = self.ledger.bytes_skipped(image);
        report.disconnects = self.attempts.resumes;
        report.bootloader_serial.clone_from(&self.unit.bootloader_serial);
        report.pending_undo = pending_undo;
        report.state = state;
    }
}
