//! The entry into update mode: manual steps and host signals, and their undo.

use super::manual_step::{self, ManualStep, Undo, UndoOrderError, UndoPhase};
use super::parse::{Checked, Checker};
use super::parse_routes::DialectSettings;
use super::raw_route::{RawEntryStep, RawMistakes, RawSignal, RawUndo};
use super::raw_value::Spanned;
use super::{EntryStep, MistakeHints, Signal};
use vaka_dialect::OperationName;

impl Checker<'_> {
    /// Parses the entry: each step on its own, then all steps together.
    pub(super) fn entry(&self, raw: &[Spanned<RawEntryStep>]) -> Checked<Vec<EntryStep>> {
        let steps = raw.iter().map(|step| self.entry_step(step)).collect::<Checked<Vec<_>>>()?;
        let manual_steps: Vec<&ManualStep> = steps.iter().filter_map(manual).collect();
        let shows_nothing = !manual_steps.is_empty() && manual_steps.iter().all(|step| step.see.is_none());
        if let (true, Some(first)) = (shows_nothing, raw.first()) {
            let message = "one of these steps requires `see`: the visible sign of update mode, or that there is none";
            return Err(self.error(&first.span(), "entry", message.into()));
        }
        self.undo_is_possible(raw, &steps)?;
        Ok(steps)
    }

    /// The ids of the steps are unique, and each undo can follow those that it names.
    pub(super) fn undo_is_possible(&self, raw: &[Spanned<RawEntryStep>], steps: &[EntryStep]) -> Checked<()> {
        let manual_steps: Vec<&ManualStep> = steps.iter().filter_map(manual).collect();
        for (index, step) in manual_steps.iter().enumerate() {
            let Some(id) = &step.id else { continue };
            if manual_steps[..index].iter().any(|other| other.id.as_ref() == Some(id)) {
                return Err(self.of_step(raw, id, "id", format!("another step has the id '{id}'")));
            }
        }
        for moment in [UndoPhase::Entered, UndoPhase::Written, UndoPhase::End] {
            if let Err(why) = manual_step::undone(&manual_steps, moment) {
                return Err(self.impossible(raw, moment, &why));
            }
        }
        Ok(())
    }

    /// Parses the manual steps for a unit that does not respond.
    pub(super) fn recovery(&self, raw: &[Spanned<RawEntryStep>]) -> Checked<Vec<ManualStep>> {
        let steps = raw.iter().map(|step| match self.entry_step(step)? {
            EntryStep::Manual(step) => Ok(*step),
            EntryStep::Signal(_) => {
                let message = "a recovery step requires `do`, because a unit that does not respond cannot get a signal";
                Err(self.error(&step.span(), "recovery", message.into()))
            }
        });
        steps.collect()
    }

    /// Reports an impossible undo order at the line that requests it.
    fn impossible(&self, raw: &[Spanned<RawEntryStep>], moment: UndoPhase, why: &UndoOrderError) -> super::SheetError {
        let named = match why {
            UndoOrderError::NotUndone(id) | UndoOrderError::Later(id) => Some(id),
            UndoOrderError::Circle(_) => None,
        };
        let undos = raw.iter().filter_map(|step| step.get_ref().undo.as_ref());
        let of_moment = undos.filter(|undo| undo.get_ref().when == moment);
        let mut waits = of_moment.flat_map(|undo| &undo.get_ref().after);
        let place = waits.find(|id| named.is_none_or(|named| id.get_ref() == named)).map_or(0..0, Spanned::span);
        self.error(&place, "after", format!("this undo order is not possible: {why}"))
    }

    fn of_step(&self, raw: &[Spanned<RawEntryStep>], id: &str, key: &str, message: String) -> super::SheetError {
        let mut ids = raw.iter().filter_map(|step| step.get_ref().id.as_ref());
        let place = ids.rfind(|found| found.get_ref() == id).map_or(0..0, Spanned::span);
        self.error(&place, key, message)
    }

    pub(super) fn entry_step(&self, raw: &Spanned<RawEntryStep>) -> Checked<EntryStep> {
        let step = raw.get_ref();
        match (&step.signal, &step.action) {
            (Some(RawSignal::DfuDetach), None) => Ok(EntryStep::Signal(Signal::DfuDetach)),
            (Some(RawSignal::Eject), None) => Ok(EntryStep::Signal(Signal::Eject)),
            (Some(RawSignal::Dialect), None) => self.dialect_signal(raw),
            (None, Some(action)) => self.manual_step(step, action).map(Box::new).map(EntryStep::Manual),
            _ => {
                let message = "a step requires either `do` (manual step) or `signal` (host)".into();
                Err(self.error(&raw.span(), "entry", message))
            }
        }
    }

    fn dialect_signal(&self, raw: &Spanned<RawEntryStep>) -> Checked<EntryStep> {
        let Some(name) = &raw.get_ref().dialect else {
            return Err(self.error(&raw.span(), "signal", "`dialect` is required".into()));
        };
        let step = raw.get_ref();
        let settings = DialectSettings { with: step.with.as_ref(), secrets: step.secrets.as_ref() };
        let dialect = self.dialect_with(name, settings)?;
        if dialect.operation(OperationName::Enter).is_none() {
            let message = format!("dialect '{}' has no [enter], which the signal requires", dialect.name);
            return Err(self.error(&name.span(), "dialect", message));
        }
        Ok(EntryStep::Signal(Signal::Dialect { dialect }))
    }

    fn manual_step(&self, raw: &RawEntryStep, action: &Spanned<String>) -> Checked<ManualStep> {
        let held = raw.held.as_ref().is_some_and(|held| *held.get_ref());
        if let (true, None, Some(place)) = (held, &raw.undo, &raw.held) {
            let message = "a held step requires `undo`".into();
            return Err(self.error(&place.span(), "held", message));
        }
        Ok(ManualStep {
            id: raw.id.as_ref().map(|id| self.id("id", id)).transpose()?,
            action: self.words("do", action)?,
            why: self.optional_words("why", raw.why.as_ref())?,
            see: self.optional_words("see", raw.see.as_ref())?,
            only_if: self.optional_words("only_if", raw.only_if.as_ref())?,
            advised: raw.advised.unwrap_or(false),
            picture: raw.picture.as_ref().map(|name| self.picture(name)).transpose()?,
            held,
            documented: self.optional_words("documented", raw.documented.as_ref())?,
            shows: raw.shows,
            mistakes: raw.mistakes.as_ref().map_or(Ok(MistakeHints::default()), |mistakes| self.mistakes(mistakes))?,
            undo: raw.undo.as_ref().map(|undo| self.undo(undo.get_ref())).transpose()?,
        })
    }

    /// A picture is beside the sheet, or in a folder that the user names.
    fn picture(&self, name: &Spanned<String>) -> Checked<String> {
        let file = self.words("picture", name)?;
        if file.contains(['/', '\\', ':']) {
            return Err(self.error(&name.span(), "picture", "the name of a file is required, without a folder".into()));
        }
        Ok(file)
    }

    fn mistakes(&self, raw: &RawMistakes) -> Checked<MistakeHints> {
        Ok(MistakeHints {
            application: self.optional_words("application", raw.application.as_ref())?,
            nothing: self.optional_words("nothing", raw.nothing.as_ref())?,
            other: self.optional_words("other", raw.other.as_ref())?,
        })
    }

    fn undo(&self, raw: &RawUndo) -> Checked<Undo> {
        Ok(Undo {
            action: self.words("do", &raw.action)?,
            when: raw.when,
            after: raw.after.iter().map(|id| self.id("after", id)).collect::<Checked<_>>()?,
            shows: raw.shows,
        })
    }
}

fn manual(step: &EntryStep) -> Option<&ManualStep> {
    match step {
        EntryStep::Manual(step) => Some(step),
        EntryStep::Signal(_) => None,
    }
}
