//! Records attempts in the journal: an attempt is on record from its first step on, and its end
//! is written before the result is shown, so that the result can report a failure to write it.

use vaka_core::event::{Event, ExitCode, Report};

use crate::attempt::RunSummary;
use crate::journal::{Attempt, StartRecord};
use crate::trace;

/// Creates the start record of an attempt; called before its first step.
type OpenRecord<'scope> = Box<dyn FnOnce() -> Result<StartRecord, String> + Send + 'scope>;

/// The attempt in progress.
#[derive(Default)]
pub struct JournalEntry<'scope> {
    make: Option<OpenRecord<'scope>>,
    attempt: Option<Attempt>,
    watched: RunSummary,
    /// Whether the start of the attempt could not be recorded; that was reported then.
    is_unrecorded: bool,
    /// The part that could not be written.
    failure: Option<String>,
}

impl<'scope> JournalEntry<'scope> {
    /// An attempt whose start record is known.
    pub fn of(begun: StartRecord) -> Self {
        Self::making(move || Ok(begun))
    }

    /// An attempt whose start record is created when needed.
    pub fn making(make: impl FnOnce() -> Result<StartRecord, String> + Send + 'scope) -> Self {
        Self { make: Some(Box::new(make)), ..Self::default() }
    }

    /// Records an event and passes it on; adds recording failures to a result.
    pub fn pass(&mut self, event: Event, tell: &mut dyn FnMut(Event)) {
        if matches!(event, Event::ManualStep { .. } | Event::Step { .. } | Event::Exported { .. }) {
            self.begin(tell);
        }
        self.watched.look(&event);
        match event {
            Event::PendingUndo { unit, steps } => {
                if let Some(attempt) = &self.attempt {
                    self.failure = attempt.record_pending_undo(&steps).err().or(self.failure.take());
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

    /// Records the attempt before its first step. Reports a failure at once.
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

    /// Records the end of the attempt, and adds a failure to the report.
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

    /// The exit status: a successful run with an incomplete record has its own status.
    pub fn code(&self, code: ExitCode) -> ExitCode {
        if code == ExitCode::Done && self.failure.is_some() { ExitCode::Record } else { code }
    }
}
