//! Manual steps, and their undo.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A manual step.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ManualStep {
    /// A short name, by which other steps speak of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// The instruction.
    #[serde(rename = "do")]
    pub action: String,
    /// The reason.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// The visible result.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub see: Option<String>,
    /// Under which condition; always without one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub only_if: Option<String>,
    /// Whether it is only a recommendation.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub advised: bool,
    /// File name of a picture of it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub picture: Option<String>,
    /// Held until undone, as opposed to momentary.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub held: bool,
    /// Reference to its documentation.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub documented: Option<String>,
    /// The bus event that shows that it is done, if that is not update mode itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shows: Option<BusEvent>,
    /// The probable mistakes if the bus shows something else.
    #[serde(skip_serializing_if = "MistakeHints::is_empty")]
    pub mistakes: MistakeHints,
    /// How and when it is undone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub undo: Option<Undo>,
}

/// The probable mistakes, by what the bus shows instead of the expected event; written by the
/// maintainer.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct MistakeHints {
    /// The application started again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application: Option<String>,
    /// No device appears.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub nothing: Option<String>,
    /// Another device appears on the unit's port.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other: Option<String>,
}

impl MistakeHints {
    fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// How and when a manual step is undone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Undo {
    /// The instruction.
    #[serde(rename = "do")]
    pub action: String,
    /// When.
    pub when: UndoPhase,
    /// Names of steps that are undone before.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<String>,
    /// The bus event that shows it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub shows: Option<BusEvent>,
}

/// When a manual step is undone.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum UndoPhase {
    /// As soon as update mode is reached, before any change.
    Entered,
    /// Once all is written, before the restart.
    Written,
    /// At the end.
    #[default]
    End,
}

/// The bus event that a manual step causes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum BusEvent {
    /// The unit left the bus.
    Gone,
    /// The unit was attached again.
    Back,
}

impl fmt::Display for UndoPhase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Entered => "entered",
            Self::Written => "written",
            Self::End => "end",
        })
    }
}

/// Why an undo order is not possible.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UndoOrderError {
    /// A step waits for the undo of a step that does not exist or has no undo action.
    NotUndone(String),
    /// A step waits for one that is undone at a later moment.
    Later(String),
    /// Steps wait for each other.
    Circle(Vec<String>),
}

impl fmt::Display for UndoOrderError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotUndone(id) => write!(f, "no step '{id}' has an undo to wait for"),
            Self::Later(id) => write!(f, "'{id}' is undone in a later phase, so this step cannot wait for it"),
            Self::Circle(ids) => write!(f, "these wait for each other: {}", ids.join(", ")),
        }
    }
}

/// The steps to undo in a phase, in order: the last step done comes first, unless it waits for
/// another.
///
/// # Errors
/// [`UndoOrderError`]; [`Sheet::parse`](super::Sheet::parse) has found that before.
pub fn undone<'a>(steps: &[&'a ManualStep], at: UndoPhase) -> Result<Vec<(&'a ManualStep, &'a Undo)>, UndoOrderError> {
    let with_undo = || steps.iter().filter_map(|step| Some((*step, step.undo.as_ref()?)));
    let mut open: Vec<(&ManualStep, &Undo)> = with_undo().filter(|(_, undo)| undo.when == at).collect();
    open.reverse();
    let mut order: Vec<(&ManualStep, &Undo)> = Vec::new();
    let named = |id: &str| with_undo().find(|(step, _)| step.id.as_deref() == Some(id));
    for (_, undo) in &open {
        for id in &undo.after {
            match named(id) {
                None => return Err(UndoOrderError::NotUndone(id.clone())),
                Some((_, other)) if other.when > at => return Err(UndoOrderError::Later(id.clone())),
                Some(_) => {}
            }
        }
    }
    while !open.is_empty() {
        let waits = |undo: &Undo| undo.after.iter().any(|id| open.iter().any(|(step, _)| step.id.as_ref() == Some(id)));
        let Some(next) = open.iter().position(|(_, undo)| !waits(undo)) else {
            let names = open.iter().map(|(step, _)| step.id.clone().unwrap_or_else(|| step.action.clone()));
            return Err(UndoOrderError::Circle(names.collect()));
        };
        order.push(open.remove(next));
    }
    Ok(order)
}

/// The order in which to undo steps that were shown, regardless of their phases.
///
/// Unlike [`undone`] this cannot fail: a dependency on a step that is not in the list
/// counts as met, since that step was undone already or was never shown.
pub fn undo_order<'a>(steps: &[&'a ManualStep]) -> Vec<&'a Undo> {
    let mut open: Vec<(&ManualStep, &Undo)> =
        steps.iter().filter_map(|step| Some((*step, step.undo.as_ref()?))).collect();
    open.reverse();
    open.sort_by_key(|(_, undo)| undo.when);
    let mut order = Vec::new();
    while !open.is_empty() {
        let waits = |undo: &Undo| undo.after.iter().any(|id| open.iter().any(|(step, _)| step.id.as_ref() == Some(id)));
        let next = open.iter().position(|(_, undo)| !waits(undo)).unwrap_or(0);
        order.push(open.remove(next).1);
    }
    order
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(id: &str, when: UndoPhase, after: &[&str]) -> ManualStep {
        let after = after.iter().map(|id| (*id).to_owned()).collect();
        let undo = Some(Undo { action: format!("undo {id}"), when, after, shows: None });
        ManualStep { id: Some(id.to_owned()), action: id.to_owned(), undo, ..ManualStep::default() }
    }

    #[test]
    fn what_was_done_last_is_undone_first_unless_it_waits() {
        let order = |steps: &[ManualStep], at| {
            let steps: Vec<&ManualStep> = steps.iter().collect();
            undone(&steps, at).map(|steps| steps.iter().map(|(step, _)| step.action.clone()).collect::<Vec<_>>())
        };
        let steps = [
            step("battery", UndoPhase::End, &["cable", "jumper"]),
            step("jumper", UndoPhase::End, &["cable"]),
            step("cable", UndoPhase::End, &[]),
            step("wire", UndoPhase::Entered, &[]),
        ];
        assert_eq!(order(&steps, UndoPhase::End).unwrap(), ["cable", "jumper", "battery"]);
        assert_eq!(order(&steps, UndoPhase::Entered).unwrap(), ["wire"]);
        let steps = [step("a", UndoPhase::End, &[]), step("b", UndoPhase::End, &[]), step("c", UndoPhase::End, &["a"])];
        assert_eq!(order(&steps, UndoPhase::End).unwrap(), ["b", "a", "c"]);
        // The last that was done would be first, but it waits.
        let steps = [step("cable", UndoPhase::End, &[]), step("jumper", UndoPhase::End, &["cable"])];
        assert_eq!(order(&steps, UndoPhase::End).unwrap(), ["cable", "jumper"]);
        let circle = [step("a", UndoPhase::End, &["b"]), step("b", UndoPhase::End, &["a"])];
        assert!(matches!(order(&circle, UndoPhase::End), Err(UndoOrderError::Circle(_))));
        let later = [step("a", UndoPhase::Entered, &["b"]), step("b", UndoPhase::End, &[])];
        assert_eq!(order(&later, UndoPhase::Entered), Err(UndoOrderError::Later("b".into())));
        let unknown = [step("a", UndoPhase::End, &["z"])];
        assert_eq!(order(&unknown, UndoPhase::End), Err(UndoOrderError::NotUndone("z".into())));
    }

    /// Steps with an earlier phase come first, then the last one done; a step waits for the steps
    /// that it names, as long as these are pending.
    #[test]
    fn steps_that_were_shown_have_an_order_even_where_some_are_undone_already() {
        let steps = [
            step("mains", UndoPhase::End, &["cable", "jumper"]),
            step("jumper", UndoPhase::End, &["cable"]),
            step("cable", UndoPhase::End, &[]),
            step("wire", UndoPhase::Entered, &[]),
        ];
        let order =
            |steps: &[&ManualStep]| undo_order(steps).iter().map(|undo| undo.action.clone()).collect::<Vec<_>>();
        let all: Vec<&ManualStep> = steps.iter().collect();
        assert_eq!(order(&all), ["undo wire", "undo cable", "undo jumper", "undo mains"]);
        assert_eq!(order(&[&steps[0], &steps[1]]), ["undo jumper", "undo mains"], "the cable was never connected");
        let circle = [step("a", UndoPhase::End, &["b"]), step("b", UndoPhase::End, &["a"])];
        assert_eq!(order(&circle.iter().collect::<Vec<_>>()).len(), 2);
    }
}
