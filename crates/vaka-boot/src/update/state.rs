//! The state of the unit at the end of a run, and how it is told.

use vaka_core::address::Span;
use vaka_core::event::{After, Event, Failure};
use vaka_core::size::Grouped;
use vaka_core::unit_state::UnitState;

use super::Job;

impl Job<'_, '_> {
    /// The state of the unit, from everything that this run did to it and observed of it.
    pub(super) fn unit_state(&self) -> Option<UnitState> {
        self.report.unit.as_ref()?;
        let content = self.ledger.content(&self.image, self.in_update_mode);
        // What was seen running counts only where the content is not in doubt.
        let is_in_doubt = matches!(content, UnitState::PartlyErased | UnitState::PartlyWritten | UnitState::Unknown);
        Some(match self.report.after {
            _ if is_in_doubt => content,
            After::Confirmed | After::Seen => UnitState::Running,
            After::Restarted if !self.in_update_mode => UnitState::Restarted,
            _ => content,
        })
    }

    /// The state in a sentence, with what is known in numbers.
    fn state_sentence(&self, state: UnitState) -> String {
        let total: u64 = self.image.iter().map(|span| Span::len(*span)).sum();
        let (present, checked) = (self.ledger.bytes_present(&self.image), self.ledger.bytes_checked(&self.image));
        let numbers = format!(
            "{} of {} bytes of the image are in it, {} compared",
            Grouped(present),
            Grouped(total),
            Grouped(checked)
        );
        let place = if self.in_update_mode { ", in update mode" } else { "" };
        let started = match self.report.after {
            After::NotRestarted => " The application was not started.",
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
            UnitState::CheckedNotStarted => format!("The image is {state}{place}: {numbers}."),
            UnitState::Restarted => {
                "The unit left update mode; whether its application runs was not observed.".to_owned()
            }
            UnitState::Running => "The application was seen running after the update.".to_owned(),
            UnitState::Unknown => {
                "What the unit holds is unknown: the effect of the last request was not observed.".to_owned()
            }
        }
    }

    /// Tells a failure, with the state of the unit. That state replaces whatever the failing
    /// step assumed: only the run as a whole knows what was done.
    pub(super) fn tell_failure(&mut self, mut failure: Failure) {
        // A unit that left the bus is in no mode that is known.
        self.in_update_mode &= !self.lost || self.link_lost;
        if let Some(state) = self.unit_state() {
            failure.state = Some(self.state_sentence(state));
            failure.unit_state = Some(state);
        }
        self.pace.tell(Event::Error(failure));
    }

    /// Fills in what the report derives from the whole run.
    pub(super) fn complete_report(&mut self) {
        let state = self.unit_state();
        let report = &mut self.report;
        report.bytes_written = self.ledger.bytes_written(&self.image);
        report.bytes_checked = self.ledger.bytes_checked(&self.image);
        report.bytes_skipped = self.ledger.bytes_skipped(&self.image);
        report.interrupted = self.resumed;
        report.boot_serial.clone_from(&self.boot_serial);
        report.owed = self.pace.owed();
        report.state = state;
    }
}
