//! The DFU engines.
//!
//! Source: DFU 1.1 and its published address extension. `DfuPort` speaks the
//! class requests and keeps to the unit's times; [`AddressedSession`] and
//! [`PlainSession`] say what is downloaded and uploaded; [`detach`] asks an
//! application to leave for its DFU mode. What the link takes care of and why:
//!
//! - After every download comes a DFU_GETSTATUS; many units begin their work
//!   only with it. While a unit is at work nothing is sent to it until the time
//!   that it asked for is over. A time in an idle state only delays the next
//!   DFU_GETSTATUS, so blocks follow each other at once.
//! - A stall says only "no"; the reason is asked for by DFU_GETSTATUS.
//! - Whatever state an earlier program left the unit in, there is a way back
//!   to dfuIDLE that starts nothing which that program left pending.

mod addressed;
pub mod detach;
mod plain;
mod port;

pub use addressed::AddressedSession;
pub use plain::PlainSession;
pub(crate) use port::{DfuOperation, DfuPort};
pub use port::{DfuParams, read_status};

use vaka_usb::UsbDevice;

use crate::context::Context;
use crate::protocol::session::Session;
use crate::protocol::session_error::SessionError;

/// Opens the session that fits the parameters.
///
/// # Errors
/// The unit cannot be brought to dfuIDLE; nothing was changed.
pub fn open(
    device: Box<dyn UsbDevice>,
    params: DfuParams,
    cx: &mut Context<'_>,
) -> Result<Box<dyn Session>, SessionError> {
    Ok(match params.addressed {
        true => Box::new(AddressedSession::open(device, params, cx)?),
        false => Box::new(PlainSession::open(device, params, cx)?),
    })
}
