//! The work by hand on one route, in its order.

use vaka_core::release::manifest::ExternalStep;
use vaka_core::sheet::{EntryStep, ManualStep, Route, UndoPhase, undone};

/// A step by hand.
#[derive(Clone, Debug, Default)]
pub struct Hand {
    /// The instruction.
    pub action: String,
    /// Under which condition or when.
    pub when: Option<String>,
    /// The reason.
    pub why: Option<String>,
    /// The visible result.
    pub see: Option<String>,
    /// Results of mistakes, each with the probable mistake.
    pub mistakes: Vec<(&'static str, String)>,
    /// File name of a picture.
    pub picture: Option<String>,
}

/// The steps of a route, and those that are undone when everything is installed.
pub struct RouteHands {
    /// Preparation, entry, and what is undone before the restart.
    pub steps: Vec<Hand>,
    /// Undone at the end.
    pub at_end: Vec<Hand>,
}

impl RouteHands {
    /// The steps by hand of a route.
    pub fn new(route: &Route) -> Self {
        let wiring = route.kind.programmer().map(|programmer| &programmer.wiring[..]).unwrap_or_default();
        let manual: Vec<&ManualStep> = wiring.iter().chain(&route.entry).filter_map(manual).collect();
        let mut steps: Vec<Hand> = manual.iter().map(|step| Hand::new(step)).collect();
        steps.extend(undo(&manual, UndoPhase::Entered, "As soon as the unit is in update mode"));
        steps.extend(undo(&manual, UndoPhase::Written, "When everything is written"));
        Self { steps, at_end: undo(&manual, UndoPhase::End, "At the end") }
    }
}

fn manual(step: &EntryStep) -> Option<&ManualStep> {
    match step {
        EntryStep::Manual(step) => Some(step),
        EntryStep::Signal(_) => None,
    }
}

/// The steps that are undone in a phase. The sheet was parsed, so there is an order.
fn undo(steps: &[&ManualStep], phase: UndoPhase, when: &str) -> Vec<Hand> {
    let undone = undone(steps, phase).unwrap_or_default();
    let hand = |action: &str| Hand { action: action.to_owned(), when: Some(when.to_owned()), ..Hand::default() };
    undone.into_iter().map(|(_, undo)| hand(&undo.action)).collect()
}

impl Hand {
    /// A manual step of a product sheet.
    pub fn new(step: &ManualStep) -> Self {
        let hints = &step.mistakes;
        let mistakes = [
            ("If the unit starts as usual", &hints.application),
            ("If no device appears", &hints.nothing),
            ("If another device appears", &hints.other),
        ];
        let condition = step.only_if.as_ref().map(|condition| format!("Only if {condition}"));
        Self {
            action: step.action.clone(),
            when: condition.or_else(|| step.advised.then(|| "Recommended".to_owned())),
            why: step.why.clone(),
            see: step.see.clone(),
            mistakes: mistakes.into_iter().filter_map(|(seen, hint)| Some((seen, hint.clone()?))).collect(),
            picture: step.picture.clone(),
        }
    }

    /// A step that another tool does.
    pub fn external(step: &ExternalStep) -> Self {
        Self {
            action: step.action.clone(),
            when: Some(format!("With {}", step.tool)),
            why: step.why.clone(),
            see: step.see.clone(),
            ..Self::default()
        }
    }
}
