//! The request to leave update mode.

use vaka_image::address::Address;

use crate::context::Context;
use crate::failure::{Failure, FailureKind};
use crate::protocol::session::Session;
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;
use crate::warning::Warning;

/// Makes a unit leave update mode; returns whether the session reported no problem. The bus shows
/// afterwards whether the unit left. A unit whose manual steps are undone `may_be_gone`: its cable is out.
///
/// # Errors
/// The unit rejected it, and is still in update mode.
pub(crate) fn request_restart(
    session: &mut dyn Session,
    at: Option<Address>,
    may_be_gone: bool,
    cx: &mut Context<'_>,
) -> Result<bool, Failure> {
    match session.restart(at, cx) {
        Ok(()) => Ok(true),
        Err(SessionError::Disconnected) if may_be_gone => Ok(false),
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
