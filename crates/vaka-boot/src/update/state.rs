//! The state of the unit at the end of a run, and how it is told.

use vaka_base::size::Grouped;
use vaka_core::event::{Event, Failure, RestartState};
use vaka_core::unit::Mode;
use vaka_core::unit_state::UnitState;
use vaka_image::address::Span;

use super::run::UpdateRun;

impl UpdateRun<'_, '_> {
    /// The state of the unit, from everything that this run did to it and observed of it.
    pub(super) fn unit_state(&self) -> Option<UnitState> {
        self.report.unit.as_ref()?;
        let content = self.ledger.content(&self.image, self.in_update_mode);
        // What was seen running counts only where the content is not in doubt.
        let is_in_doubt = matches!(content, UnitState::PartlyErased | UnitState::PartlyWritten | UnitState::Unknown);
        Some(match self.report.after {
            _ if is_in_doubt => content,
            RestartState::Confirmed | RestartState::Seen => UnitState::Running,
            RestartState::Restarted if !self.in_update_mode => UnitState::Restarted,
            _ => content,
        })
    }

    /// The state in a sentence, with what is known in numbers.
    fn state_sentence(&self, state: UnitState) -> String {
        let total: u64 = self.image.iter().map(|span| Span::len(*span)).sum();
        let (present, checked) = (self.ledger.bytes_present(&self.image), self.ledger.bytes_checked(&self.image));
        let numbers = format!(
            "{} of {} bytes of the image were accepted or already there, and {} were compared",
            Grouped(present),
            Grouped(total),
            Grouped(checked)
        );
        let place = if self.in_update_mode { ", in update mode" } else { "" };
        // What a unit does that left update mode by itself is not known.
        let started = match self.report.after {
            RestartState::NotRestarted if self.in_update_mode => " The application was not started.",
            _ => "",
        };
        let untouched = match &self.untouched[..] {
            [] => String::new(),
            regions => format!(" Not touched: {}.", regions.join(" and ")),
        };
        match state {
            UnitState::Unchanged => "The unit is unchanged.".to_owned(),
            UnitState::UnchangedInUpdateMode => "The unit is in update mode, unchanged.".to_owned(),
            UnitState::PartlyErased | UnitState::PartlyWritten => {
                format!("The unit is {state}{place}: {numbers}.{started}{untouched}")
            }
            UnitState::WrittenNotChecked => format!("The image is {state}{place}: {numbers}.{started}"),
            UnitState::CheckedNotStarted if self.in_update_mode => format!("The image is {state}{place}: {numbers}."),
            UnitState::CheckedNotStarted => {
                format!("The image is written and checked: {numbers}. The application was not seen running.")
            }
            UnitState::Restarted => {
                "The unit left update mode; whether its application runs was not observed.".to_owned()
            }
            UnitState::Running => "The application was seen running after the update.".to_owned(),
            UnitState::Unknown => {
                format!(
                    "What the unit holds is unknown: it accepted {} of {} bytes of the image, and the effect of the last request was not observed.",
                    Grouped(present),
                    Grouped(total)
                )
            }
        }
    }

    /// Tells a failure, with the state of the unit. That state replaces whatever the failing
    /// step assumed: only the run as a whole knows what was done.
    pub(super) fn tell_failure(&mut self, mut failure: Failure) {
        // A unit that left the bus is in no mode that is known.
        self.in_update_mode &= !self.lost || self.link_lost;
        self.close();
        self.in_update_mode &= self.is_listed_in_update_mode();
        if let Some(state) = self.unit_state() {
            failure.state = Some(self.state_sentence(state));
            failure.unit_state = Some(state);
        }
        self.cx.tell(Event::Error(failure));
    }

    /// The session has ended: some units then leave update mode, and nobody sees it.
    fn close(&mut self) {
        self.in_update_mode &= !self.leaves_when_closed;
    }

    /// Whether the bus lists the unit in its update mode, or cannot be asked.
    fn is_listed_in_update_mode(&self) -> bool {
        let Some((place, devices)) = self.report.unit.as_ref().zip(self.bench.devices().ok()) else { return true };
        let unit = devices.iter().find(|device| self.bench.place(&device.location) == *place);
        unit.and_then(|unit| self.candidate(unit)).is_some_and(|unit| unit.mode == Mode::Update)
    }

    /// Fills in what the report derives from the whole run.
    pub(super) fn complete_report(&mut self) {
        self.close();
        let state = self.unit_state();
        let report = &mut self.report;
        report.bytes_written = self.ledger.bytes_written(&self.image);
        report.bytes_checked = self.ledger.bytes_checked(&self.image);
        report.bytes_skipped = self.ledger.bytes_skipped(&self.image);
        report.interrupted = self.resumed;
        report.boot_serial.clone_from(&self.boot_serial);
        report.owed = self.cx.owed();
        report.state = state;
    }
}
