//! The request to leave update mode.

use vaka_image::address::Address;

use crate::context::Context;
use crate::failure::{Failure, FailureKind};
use crate::protocol::session::Session;
use crate::remedy::Remedy;
use crate::warning::Warning;

/// Makes a unit leave update mode; returns whether the session reported no problem. The bus shows
/// afterwards whether the unit left.
///
/// # Errors
/// The unit rejected it, and is still in update mode.
pub(crate) fn request_restart(
    session: &mut dyn Session,
    at: Option<Address>,
    cx: &mut Context<'_>,
) -> Result<bool, Failure> {
    match session.restart(at, cx) {
        Ok(()) => Ok(true),
        Err(error) if error.is_refusal() => {
            let remedy = error.own_remedy().unwrap_or(Remedy::ResetOrReplug);
            Err(Failure::new(FailureKind::NotLeft(error)).remedy(remedy))
        }
        Err(error) => {
            cx.warn(Warning::LeaveFailed(error));
            Ok(false)
        }
    }
}
