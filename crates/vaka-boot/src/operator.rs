//! The operator: the user at a terminal, or an unattended run.

use vaka_core::matching::Question;

/// The variant as which a unit was updated before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EarlierVariant {
    /// Its id.
    pub variant: String,
    /// The day, such as `28 November 2026`.
    pub day: String,
}

/// The operator, who answers prompts.
pub trait Operator {
    /// Tells the operator, before the question about the label, which variant the unit had before. That is no
    /// answer: the operator decides.
    fn recall(&mut self, earlier: &EarlierVariant) {
        let _ = earlier;
    }

    /// Asks for the text printed on the hardware. `None` if unattended or not answered.
    fn read_label(&mut self, question: &Question) -> Option<String>;

    /// Whether prompts can be answered.
    fn is_there(&self) -> bool {
        false
    }

    /// Asks which of several units to use; each is described in one line. `None` if not answered.
    fn choose(&mut self, units: &[String]) -> Option<usize> {
        let _ = units;
        None
    }

    /// Asks whether the unit shows all of these signs. `None` if not answered.
    fn sees(&mut self, what: &[String]) -> Option<bool> {
        let _ = what;
        None
    }

    /// Asks whether an external step succeeded. `None` if not answered.
    fn confirm_success(&mut self, what: &str) -> Option<bool> {
        let _ = what;
        None
    }

    /// Waits until the operator confirms an action; false if there is none.
    fn await_done(&mut self, action: &str) -> bool {
        let _ = action;
        false
    }

    /// Whether the operator has confirmed the current step since the last call. Does not wait.
    fn take_ack(&mut self) -> bool {
        false
    }
}

/// An unattended run: no prompt is answered.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unattended;

impl Operator for Unattended {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        None
    }
}
