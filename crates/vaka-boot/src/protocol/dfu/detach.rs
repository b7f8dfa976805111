//! From the application into its DFU mode, by DFU_DETACH.
//!
//! Source: DFU 1.1, section 5.1. A unit with bitWillDetach leaves the bus by
//! itself; the others wait for a bus reset, for wDetachTimeOut at the most.

use std::time::Duration;

use vaka_core::dfu::Request;
use vaka_core::unit::DfuFacts;
use vaka_usb::{Setup, TransferError, UsbDevice};

use super::port::REQUEST_TIMEOUT;
use crate::protocol::session_error::SessionError;

/// How long a unit gets to leave by itself where its wDetachTimeOut is too
/// short to say anything. Chosen by us.
const GRACE: Duration = Duration::from_secs(1);

/// From here on wDetachTimeOut is long enough that a unit which promised to
/// leave and does not can still be reset within it. Chosen by us.
const LONG_TIMEOUT: Duration = Duration::from_millis(400);

/// Asks the application behind an open device to leave for its DFU mode. It
/// comes back on the same port; whoever called this looks for it there.
///
/// # Errors
/// The application refuses, or cannot be asked. It runs on.
pub fn detach(mut device: Box<dyn UsbDevice>, dfu: &DfuFacts) -> Result<(), SessionError> {
    let (time_ms, will_detach) = match dfu.functional {
        Some(found) => (found.detach_timeout_ms, found.attributes.will_detach()),
        None => (1000, false),
    };
    device.claim(dfu.interface, 0)?;
    let setup = Setup {
        kind: Setup::CLASS_INTERFACE_OUT,
        request: Request::Detach as u8,
        value: time_ms,
        index: u16::from(dfu.interface),
    };
    match device.control_out(setup, &[], REQUEST_TIMEOUT) {
        // It may leave before its answer is through.
        Ok(()) | Err(TransferError::Disconnected) => {}
        Err(TransferError::Failed(_)) if device.wait_for_disconnect(GRACE) => return Ok(()),
        Err(error) => return Err(error.into()),
    }
    let time = Duration::from_millis(u64::from(time_ms));
    let patience = if time >= LONG_TIMEOUT { time * 3 / 4 } else { time + GRACE };
    if will_detach && device.wait_for_disconnect(patience) {
        return Ok(());
    }
    // It waits for this, or it has not done what it promised: one reset, no
    // more, and while it still waits for one.
    match device.reset() {
        Ok(()) | Err(TransferError::Disconnected) => Ok(()),
        // It left while it was reset; what comes back shows whether that was right.
        Err(_) if device.wait_for_disconnect(GRACE) => Ok(()),
        Err(error) => Err(error.into()),
    }
}
