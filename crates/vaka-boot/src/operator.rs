//! Somebody who can be asked, or nobody.

use vaka_core::matching::Question;

/// Somebody who can be asked.
pub trait Operator {
    /// What is printed on the hardware? `None` if nobody is there or they
    /// do not want to say.
    fn read_label(&mut self, question: &Question) -> Option<String>;

    /// Whether anybody is there at all.
    fn is_there(&self) -> bool {
        false
    }

    /// Which of several units is meant? Each is described in a line. `None` if nobody
    /// says.
    fn choose(&mut self, units: &[String]) -> Option<usize> {
        let _ = units;
        None
    }

    /// Does the unit show all of this? `None` if nobody says.
    fn sees(&mut self, what: &[String]) -> Option<bool> {
        let _ = what;
        None
    }

    /// Did it end well? `None` if nobody says.
    fn confirm_success(&mut self, what: &str) -> Option<bool> {
        let _ = what;
        None
    }

    /// Waits until a person says that they did something; false if nobody does.
    fn await_done(&mut self, action: &str) -> bool {
        let _ = action;
        false
    }

    /// Whether a person has said, since this was asked last, that they did what they
    /// were shown. Does not wait.
    fn take_ack(&mut self) -> bool {
        false
    }
}

/// Nobody is there.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unattended;

impl Operator for Unattended {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        None
    }
}
