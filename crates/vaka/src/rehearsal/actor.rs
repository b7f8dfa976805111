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

/// How often a user repeats wrong steps. Chosen by us.
const MOST_ROUNDS: u32 = 3;

/// How the user does the steps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UserManner {
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
    manner: UserManner,
    /// When the hands are free again.
    free_at: Duration,
    /// Whether a step was shown and is not acknowledged yet.
    is_asked: bool,
    /// How often the first step was shown.
    rounds: u32,
}

impl Actor {
    pub fn new(
        world: &SharedWorld,
        clock: Arc<dyn Clock>,
        port: &str,
        steps: Vec<NamedStep>,
        manner: UserManner,
    ) -> Self {
        Self {
            world: world.clone(),
            clock,
            port: port.to_owned(),
            steps,
            manner,
            free_at: Duration::ZERO,
            is_asked: false,
            rounds: 0,
        }
    }

    /// Does what the tool shows.
    pub fn hear(&mut self, event: &Event) {
        if let Event::ManualStep { step, number, of, .. } = event {
            self.rounds += u32::from(*number == 1);
            self.is_asked = self.manner == UserManner::Right || self.rounds <= MOST_ROUNDS;
            if self.is_asked {
                self.take(step, *number == 1, number == of);
            }
        }
    }

    fn take(&mut self, step: &ManualStep, is_first: bool, is_last: bool) {
        let does = |named: &&NamedStep| named.step.action == step.action;
        let undoes = |named: &&NamedStep| named.step.undo.as_ref().is_some_and(|undo| undo.action == step.action);
        if let Some(named) = self.steps.iter().find(does).cloned() {
            match &self.manner {
                // It is acknowledged all the same.
                UserManner::Skips(name) if *name == named.name => self.rest(),
                // The last step is done at the start, and left out at its place.
                UserManner::LastFirst if is_last => self.rest(),
                UserManner::LastFirst if is_first => {
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

    /// Does the steps without a request, as with a printed guide.
    pub fn do_all(&mut self, names: &[String]) {
        for name in names {
            self.later(Some(UserAction::Do(name.clone())));
        }
    }

    /// Whether the shown steps are done, as with Enter; once for each step.
    pub fn has_done(&mut self) -> bool {
        let is_done = self.is_asked && self.clock.now() >= self.free_at;
        if is_done {
            self.is_asked = false;
        }
        is_done
    }

    /// Time until the hands are free.
    pub fn time_left(&self) -> Duration {
        self.free_at.saturating_sub(self.clock.now())
    }

    /// Takes the time of a step without doing it.
    fn rest(&mut self) {
        self.free_at = self.free_at.max(self.clock.now()) + STEP_TIME;
    }

    fn later(&mut self, action: Option<UserAction>) {
        let Some(action) = action else { return };
        let now = self.clock.now();
        self.rest();
        lock(&self.world).act_later(&self.port, self.free_at.saturating_sub(now), action);
    }
}
