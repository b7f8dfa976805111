//! Why an attempt ends before the application is confirmed.

use vaka_usb::DeviceInfo;

use crate::failure::Failure;
use crate::protocol::session_error::Loss;

/// Why an attempt ends before the application is confirmed.
#[derive(Debug)]
pub(super) enum Stop {
    /// Only the plan was requested, and it was shown.
    Planned,
    /// The run ends.
    Failed(Box<Failure>),
    /// The unit or the connection to it was lost; the next attempt can resume.
    Lost(Box<LostUnit>),
    /// The unit needs or got a reset; the next attempt starts once it is back.
    Reset {
        /// The unit, as listed before.
        unit: Box<DeviceInfo>,
        /// Whether the unit may stay on the bus through the reset.
        may_stay: bool,
    },
}

/// A unit that was lost in the middle of an attempt.
#[derive(Debug)]
pub(super) struct LostUnit {
    /// The unit, as last listed.
    pub(super) unit: DeviceInfo,
    /// The lost part.
    pub(super) loss: Loss,
    /// The resulting failure.
    pub(super) failure: Failure,
}

impl Stop {
    /// The unit was lost, and may return.
    pub(super) fn lost(unit: &DeviceInfo, loss: Loss, failure: Failure) -> Self {
        Self::Lost(Box::new(LostUnit { unit: unit.clone(), loss, failure }))
    }
}

impl From<Failure> for Stop {
    fn from(failure: Failure) -> Self {
        Self::Failed(Box::new(failure))
    }
}

/// A failed step of a session.
#[derive(Debug)]
pub(crate) struct StepError {
    /// The failure.
    pub(crate) failure: Failure,
    /// The lost part, if a loss was the cause.
    pub(crate) loss: Option<Loss>,
}

impl StepError {
    /// The end of an attempt that worked on this unit.
    pub(super) fn of_unit(self, unit: &DeviceInfo) -> Stop {
        match self.loss {
            Some(loss) => Stop::lost(unit, loss, self.failure),
            None => self.failure.into(),
        }
    }
}

impl From<Failure> for StepError {
    fn from(failure: Failure) -> Self {
        Self { failure, loss: None }
    }
}
