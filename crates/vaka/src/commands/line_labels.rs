//! The labels of units on a line, from standard input: each line is the label of the unit that has waited longest.

use std::collections::VecDeque;
use std::sync::mpsc;

use vaka_boot::bench::candidate::Candidate;
use vaka_boot::update;
use vaka_core::matching::Question;
use vaka_usb::Location;

use crate::prompt::{self, Typed};
use crate::render::batch::Screen;

/// The line for a unit without a label.
const NONE: &str = "-";

/// A unit whose label is awaited.
pub struct Waiting<'b> {
    /// Its location for display.
    pub place: String,
    pub candidate: Candidate<'b>,
    /// The question of its worker, and where the answer goes; `None` if it is not begun.
    pub asked: Option<(Question, mpsc::Sender<Option<String>>)>,
}

/// The units whose labels are awaited, in order.
#[derive(Default)]
pub struct Labels<'b> {
    waiting: VecDeque<Waiting<'b>>,
    /// Whether the first one was shown.
    is_shown: bool,
}

impl<'b> Labels<'b> {
    pub fn is_empty(&self) -> bool {
        self.waiting.is_empty()
    }

    pub fn add(&mut self, waiting: Waiting<'b>) {
        self.waiting.push_back(waiting);
    }

    /// The unit of a port is gone: its label is not awaited any more.
    pub fn remove(&mut self, location: &Location) {
        let is_first = self.waiting.front().is_some_and(|first| first.candidate.location() == location);
        self.waiting.retain(|waiting| waiting.candidate.location() != location);
        self.is_shown &= !is_first;
    }

    /// The user stops the run: the workers end without a label.
    pub fn give_up(&mut self) {
        self.waiting.retain(|waiting| waiting.asked.is_none());
    }

    /// Gives lines to the units in their order; returns the next one that can begin. A line that is not a
    /// label of the unit is reported, and another one is awaited. With `-`, and after the end of the input, a unit
    /// has no label; the update is refused if it needs one.
    pub fn next(&mut self, screen: &Screen) -> Option<(Candidate<'b>, Option<String>)> {
        loop {
            let Some(first) = self.waiting.front() else {
                screen.draw_bars(true);
                return None;
            };
            if !std::mem::replace(&mut self.is_shown, true) {
                screen.awaits_label(&first.place, &first.candidate, first.asked.as_ref().map(|(question, _)| question));
            }
            let label = match prompt::poll() {
                Typed::Nothing => return None,
                Typed::End => None,
                Typed::Line(line) if line.trim().is_empty() => continue,
                Typed::Line(line) if line.trim() == NONE => None,
                Typed::Line(line) => Some(line.trim().to_owned()),
            };
            if let Some(label) = &label {
                match update::variant_by_label(&first.candidate, label) {
                    Ok((_, variant)) => screen.took_label(&first.place, label, &variant.name),
                    Err(failure) => {
                        screen.refused_label(&first.place, &vaka_messages::failure(&failure));
                        continue;
                    }
                }
            }
            self.is_shown = false;
            let Waiting { candidate, asked, .. } = self.waiting.pop_front()?;
            match asked {
                None => return Some((candidate, label)),
                // A worker that has ended needs no answer.
                Some((_, reply)) => drop(reply.send(label)),
            }
        }
    }
}
