//! Entry into DFU mode by DFU_DETACH.
//!
//! Source: DFU 1.1, section 5.1. A unit with bitWillDetach leaves the bus by
//! itself; the others wait for a bus reset, for wDetachTimeOut at the most.

use std::time::Duration;

use vaka_core::dfu::Request;
use vaka_core::unit::DfuFacts;
use vaka_usb::{Setup, TransferError, UsbDevice};

use super::port::REQUEST_TIMEOUT;
use crate::protocol::session_error::SessionError;

/// Time for a unit to detach by itself if its wDetachTimeOut is shorter. Chosen by us.
const GRACE: Duration = Duration::from_secs(1);

/// From this wDetachTimeOut on, a unit that promised to detach and did not can still be reset in
/// time. Chosen by us.
const LONG_TIMEOUT: Duration = Duration::from_millis(400);

/// Requests DFU mode from the application on an open device. The unit returns on the same port;
/// the caller waits for it.
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
        // The unit may disconnect before its reply is complete.
        Ok(()) | Err(TransferError::Disconnected) => {}
        Err(TransferError::Failed(_)) if device.wait_for_disconnect(GRACE) => return Ok(()),
        Err(error) => return Err(error.into()),
    }
    let time = Duration::from_millis(u64::from(time_ms));
    let patience = if time >= LONG_TIMEOUT { time * 3 / 4 } else { time + GRACE };
    if will_detach && device.wait_for_disconnect(patience) {
        return Ok(());
    }
    // The unit waits for a reset, or has not detached as promised: reset it once, while it still
    // waits.
    match device.reset() {
        Ok(()) | Err(TransferError::Disconnected) => Ok(()),
        // The unit disconnected during the reset; the device that returns shows the result.
        Err(_) if device.wait_for_disconnect(GRACE) => Ok(()),
        Err(error) => Err(error.into()),
    }
}
