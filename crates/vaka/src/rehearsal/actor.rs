//! The user at a simulated unit: does the manual steps that the tool shows, or slips.

use std::sync::Arc;
use std::time::Duration;

use vaka_boot::event::Event;
use vaka_core::sheet::ManualStep;
use vaka_sheet_sim::NamedStep;
use vaka_sim::SharedWorld;
use vaka_sim::unit::UserAction;
use vaka_sim::world::lock;
use vaka_usb::Clock;

/// Time for one step. Chosen by us: quicker than a hand, and longer than the bus needs to notice.
const STEP_TIME: Duration = Duration::from_millis(600);

/// How the user does the steps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Manner {
    /// All of them, in order.
    Right,
    /// Without this one.
    Skips(String),
    /// The last one first.
    LastFirst,
}

/// The user.
pub struct Actor {
    world: SharedWorld,
    clock: Arc<dyn Clock>,
    port: String,
    steps: Vec<NamedStep>,
    manner: Manner,
    /// When the hands are free again.
    free_at: Duration,
}

impl Actor {
    pub fn new(world: &SharedWorld, clock: Arc<dyn Clock>, port: &str, steps: Vec<NamedStep>, manner: Manner) -> Self {
        Self { world: world.clone(), clock, port: port.to_owned(), steps, manner, free_at: Duration::ZERO }
    }

    /// Does what the tool shows.
    pub fn hear(&mut self, event: &Event) {
        if let Event::ManualStep { step, number, of, .. } = event {
            self.take(step, *number == 1, number == of);
        }
    }

    fn take(&mut self, step: &ManualStep, is_first: bool, is_last: bool) {
        let does = |named: &&NamedStep| named.step.action == step.action;
        let undoes = |named: &&NamedStep| named.step.undo.as_ref().is_some_and(|undo| undo.action == step.action);
        if let Some(named) = self.steps.iter().find(does).cloned() {
            match &self.manner {
                Manner::Skips(name) if *name == named.name => {}
                // The last step is done at the start, and left out at its place.
                Manner::LastFirst if is_last => {}
                Manner::LastFirst if is_first => {
                    self.later(self.last_step().map(|last| UserAction::Do(last.name.clone())));
                    self.later(Some(UserAction::Do(named.name)));
                }
                _ => self.later(Some(UserAction::Do(named.name))),
            }
        } else if let Some(named) = self.steps.iter().find(undoes) {
            self.later(Some(UserAction::Undo(named.name.clone())));
        }
    }

    fn last_step(&self) -> Option<&NamedStep> {
        self.steps.last()
    }

    /// Does the steps without being told, as with a printed guide.
    pub fn do_all(&mut self, names: &[String]) {
        for name in names {
            self.later(Some(UserAction::Do(name.clone())));
        }
    }

    fn later(&mut self, action: Option<UserAction>) {
        let Some(action) = action else { return };
        let now = self.clock.now();
        self.free_at = self.free_at.max(now) + STEP_TIME;
        lock(&self.world).act_later(&self.port, self.free_at.saturating_sub(now), action);
    }
}
