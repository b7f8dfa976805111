//! The request to leave update mode.

use vaka_core::event::{ExitCode, Failure};
use vaka_image::address::Address;

use crate::context::Context;
use crate::protocol::session::{Session, SessionError};

/// Makes a unit leave update mode; returns whether the session saw nothing against it. Whether
/// the unit left shows on the bus afterwards.
///
/// # Errors
/// The unit refused, and is still in update mode.
pub(crate) fn request_restart(
    session: &mut dyn Session,
    at: Option<Address>,
    cx: &mut Context<'_>,
) -> Result<bool, Failure> {
    match session.restart(at, cx) {
        Ok(()) => Ok(true),
        Err(error) if error.is_refusal() => {
            let cure = match &error {
                SessionError::NeedsAction { cure, .. } => cure,
                _ => "Press reset on the unit, or unplug it and plug it in again.",
            };
            let message = format!("The unit refused to leave update mode: {error}.");
            Err(Failure::new(ExitCode::NotBack, message).cure(cure))
        }
        Err(error) => {
            cx.warn(format!("The request to leave update mode ended with: {error}."));
            Ok(false)
        }
    }
}
