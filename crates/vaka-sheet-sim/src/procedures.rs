//! The ways of the user into update mode: manual steps, by their names.

use std::collections::BTreeSet;

use vaka_core::sheet::{BusEvent, EntryStep, ManualStep, Route, UndoPhase};

/// A manual step with the name by which the user of a simulation carries it out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NamedStep {
    /// The id in the sheet, otherwise `step-1`, `step-2`, … in the order of the sheet.
    pub name: String,
    /// The step.
    pub step: ManualStep,
}

/// One step of a procedure.
#[derive(Clone, Debug)]
enum ProcedureStep {
    Manual(Box<NamedStep>),
    /// A signal of the host to the application.
    Signal,
}

impl ProcedureStep {
    fn manual(&self) -> Option<&NamedStep> {
        match self {
            Self::Manual(named) => Some(named),
            Self::Signal => None,
        }
    }

    /// Whether the procedure is complete without it.
    fn is_optional(&self) -> bool {
        self.manual().is_some_and(|named| named.step.advised || named.step.only_if.is_some())
    }
}

/// The steps that lead to the update mode of a route.
#[derive(Clone, Debug)]
struct Procedure {
    /// Index of the route.
    route: usize,
    steps: Vec<ProcedureStep>,
    /// The steps before this one are done.
    next: usize,
}

/// The effect of a step on the unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum StepEffect {
    /// Nothing that the bus shows.
    Nothing,
    /// The unit leaves the bus.
    Gone,
    /// The unit gets power again, and starts as usual.
    Starts,
    /// The unit enters the update mode of this route.
    Enters(usize),
}

/// All procedures of a unit, and how far the user is in each.
#[derive(Clone, Debug)]
pub(crate) struct Procedures {
    all: Vec<Procedure>,
    /// The names of the steps that are done, and not undone.
    done: BTreeSet<String>,
}

impl Procedures {
    /// The procedures of all routes.
    pub(crate) fn new<'r>(routes: impl Iterator<Item = &'r Route>) -> Self {
        let (mut all, mut unnamed) = (Vec::new(), Vec::new());
        for (route, of) in routes.enumerate() {
            let entry = of.entry.iter().map(|step| match step {
                EntryStep::Manual(step) => Some(&**step),
                EntryStep::Signal(_) => None,
            });
            let recovery = of.recovery.iter().map(Some);
            for steps in [entry.collect::<Vec<_>>(), recovery.collect()] {
                if !steps.is_empty() {
                    let steps = steps.into_iter().map(|step| named(step, &mut unnamed)).collect();
                    all.push(Procedure { route, steps, next: 0 });
                }
            }
        }
        Self { all, done: BTreeSet::new() }
    }

    /// All manual steps, each name once.
    pub(crate) fn steps(&self) -> Vec<&NamedStep> {
        let mut found: Vec<&NamedStep> = Vec::new();
        for named in self.all.iter().flat_map(|procedure| &procedure.steps).filter_map(ProcedureStep::manual) {
            if !found.iter().any(|known| known.name == named.name) {
                found.push(named);
            }
        }
        found
    }

    /// Whether a route has manual steps that need no running application.
    pub(crate) fn is_manual(&self, route: usize) -> bool {
        let begins = |procedure: &Procedure| matches!(procedure.steps.first(), Some(ProcedureStep::Manual(_)));
        self.all.iter().any(|procedure| procedure.route == route && begins(procedure))
    }

    /// The user carries out a step. A step in the wrong order starts its procedures again.
    pub(crate) fn take(&mut self, name: &str) -> StepEffect {
        let mut effect = StepEffect::Nothing;
        let mut is_in_order = false;
        for procedure in &mut self.all {
            let Some(at) = procedure.place(name) else { continue };
            is_in_order = true;
            procedure.next = at + 1;
            if let Some(found) = procedure.effect(at) {
                effect = found;
            }
        }
        if is_in_order {
            self.done.insert(name.to_owned());
        }
        match effect {
            StepEffect::Enters(_) => self.restart(),
            _ if !is_in_order => {
                let is_last = |procedure: &Procedure| {
                    let last = procedure.steps.last().and_then(ProcedureStep::manual);
                    last.is_some_and(|named| named.name == name)
                };
                let shows = self.event(name);
                let starts = self.all.iter().any(is_last) || shows == Some(BusEvent::Back);
                self.restart();
                return match shows {
                    Some(BusEvent::Gone) => StepEffect::Gone,
                    _ if starts => StepEffect::Starts,
                    _ => StepEffect::Nothing,
                };
            }
            _ => {}
        }
        effect
    }

    /// The host sends a signal to the application; the route that it enters, if one is due.
    pub(crate) fn signal(&mut self, route: usize) -> Option<usize> {
        let procedure = self.all.iter_mut().find(|procedure| procedure.route == route && procedure.is_due())?;
        procedure.next += 1;
        let is_complete = procedure.next == procedure.steps.len();
        if is_complete {
            self.restart();
        }
        is_complete.then_some(route)
    }

    /// The user undoes a step.
    pub(crate) fn undo(&mut self, name: &str) -> StepEffect {
        self.done.remove(name);
        let undo = self.steps().into_iter().find(|named| named.name == name).and_then(|named| named.step.undo.as_ref());
        match undo.and_then(|undo| undo.shows) {
            Some(BusEvent::Gone) => StepEffect::Gone,
            Some(BusEvent::Back) => StepEffect::Starts,
            None => StepEffect::Nothing,
        }
    }

    /// Whether every step that can be undone is.
    pub(crate) fn is_undone(&self) -> bool {
        !self.steps().iter().any(|named| named.step.undo.is_some() && self.done.contains(&named.name))
    }

    /// Forgets how far the user is. Steps that are done stay done.
    pub(crate) fn restart(&mut self) {
        self.all.iter_mut().for_each(|procedure| procedure.next = 0);
    }

    /// Whether a step that is still in effect keeps the unit in update mode.
    pub(crate) fn holds_update_mode(&self) -> bool {
        let holds = |named: &&NamedStep| {
            let is_undone_before = named.step.undo.as_ref().is_some_and(|undo| undo.when != UndoPhase::End);
            named.step.held && is_undone_before && self.done.contains(&named.name)
        };
        self.steps().iter().any(holds)
    }

    /// The event that a step causes on the bus.
    fn event(&self, name: &str) -> Option<BusEvent> {
        self.steps().into_iter().find(|named| named.name == name)?.step.shows
    }
}

impl Procedure {
    /// The place of a step, if it is next; optional steps before it may be left out.
    fn place(&self, name: &str) -> Option<usize> {
        let ahead = self.steps.iter().enumerate().skip(self.next);
        for (at, step) in ahead {
            if step.manual().is_some_and(|named| named.name == name) {
                return Some(at);
            }
            if !step.is_optional() {
                return None;
            }
        }
        None
    }

    /// Whether the next step is a signal.
    fn is_due(&self) -> bool {
        let ahead = self.steps.iter().skip(self.next);
        matches!(ahead.into_iter().find(|step| !step.is_optional()), Some(ProcedureStep::Signal))
    }

    fn effect(&self, at: usize) -> Option<StepEffect> {
        if at + 1 == self.steps.len() {
            return Some(StepEffect::Enters(self.route));
        }
        match self.steps[at].manual()?.step.shows? {
            BusEvent::Gone => Some(StepEffect::Gone),
            BusEvent::Back => Some(StepEffect::Starts),
        }
    }
}

/// A step with its name; equal instructions without an id have one name.
fn named(step: Option<&ManualStep>, unnamed: &mut Vec<String>) -> ProcedureStep {
    let Some(step) = step else { return ProcedureStep::Signal };
    let number = |unnamed: &mut Vec<String>| {
        let known = unnamed.iter().position(|action| *action == step.action);
        known.unwrap_or_else(|| {
            unnamed.push(step.action.clone());
            unnamed.len() - 1
        })
    };
    let name = step.id.clone().unwrap_or_else(|| format!("step-{}", number(unnamed) + 1));
    ProcedureStep::Manual(Box::new(NamedStep { name, step: step.clone() }))
}
