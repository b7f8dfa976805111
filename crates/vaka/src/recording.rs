//! Keeps the journal while a command works: an attempt is on record from its first step on,
//! and its end is written before the result is shown, so that the result can say if that failed.

use vaka_core::event::{Event, ExitCode, Report};

use crate::attempt::RunSummary;
use crate::journal::{Attempt, StartRecord};
use crate::trace;

/// Makes the beginning of an attempt; called before its first step.
type OpenRecord<'scope> = Box<dyn FnOnce() -> Result<StartRecord, String> + Send + 'scope>;

/// What is under way, for the journal.
#[derive(Default)]
pub struct JournalEntry<'scope> {
    make: Option<OpenRecord<'scope>>,
    attempt: Option<Attempt>,
    watched: RunSummary,
    /// Whether the attempt could not be recorded from its beginning; that was told then.
    is_unrecorded: bool,
    /// What could not be written to its end.
    failure: Option<String>,
}

impl<'scope> JournalEntry<'scope> {
    /// An attempt whose beginning is known.
    pub fn of(begun: StartRecord) -> Self {
        Self::making(move || Ok(begun))
    }

    /// An attempt whose beginning is made when it is needed.
    pub fn making(make: impl FnOnce() -> Result<StartRecord, String> + Send + 'scope) -> Self {
        Self { make: Some(Box::new(make)), ..Self::default() }
    }

    /// Notes an event and passes it on: a result with what could not be recorded.
    pub fn pass(&mut self, event: Event, tell: &mut dyn FnMut(Event)) {
        if matches!(event, Event::Step { .. } | Event::Exported { .. }) {
            self.begin(tell);
        }
        self.watched.look(&event);
        match event {
            Event::PendingUndo { unit, steps } => {
                if let Some(attempt) = &self.attempt {
                    self.failure = attempt.note_owed(&steps).err().or(self.failure.take());
                }
                tell(Event::PendingUndo { unit, steps });
            }
            Event::Result(report) => {
                let report = self.end(*report, tell);
                tell(Event::Result(Box::new(report)));
            }
            event => tell(event),
        }
    }

    /// Puts the attempt on record, before anything is done. If that fails, it is told now.
    fn begin(&mut self, tell: &mut dyn FnMut(Event)) {
        let Some(make) = self.make.take() else { return };
        match make().and_then(Attempt::begin) {
            Ok(attempt) => self.attempt = Some(attempt),
            Err(why) => {
                self.is_unrecorded = true;
                tell(Event::Warning { text: vaka_messages::journal_unwritable(&why) });
            }
        }
    }

    /// Puts the end of the attempt on record, and into the report what failed of that.
    fn end(&mut self, mut report: Report, tell: &mut dyn FnMut(Event)) -> Report {
        self.begin(tell);
        if let Some(attempt) = self.attempt.take() {
            let ended = attempt.end(std::mem::take(&mut self.watched).ended(&report));
            self.failure = ended.err().map(|why| format!("the journal: {why}")).or(self.failure.take());
        }
        self.failure = self.failure.take().or_else(trace::failure);
        if let Some(why) = &self.failure {
            tell(Event::Warning { text: vaka_messages::not_recorded(why) });
            report.record_failure = Some(why.clone());
        } else if self.is_unrecorded {
            report.record_failure = Some("the journal could not be opened".to_owned());
        }
        report.code = self.code(report.code);
        report
    }

    /// The exit status: a run that ended well, but could not be recorded to its end, has one of
    /// its own.
    pub fn code(&self, code: ExitCode) -> ExitCode {
        if code == ExitCode::Done && self.failure.is_some() { ExitCode::Record } else { code }
    }
}
