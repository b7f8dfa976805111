//! The carriers that transport a dialect's frames: one module per carrier.
//!
//! A new carrier is a new file here, its `mod` line and its line in [`open`].

mod can;
pub(super) mod control;
mod dfu;
mod hid;
mod pipes;
mod scsi;
mod serial;

use std::time::Duration;

use vaka_dialect::{self as dialect, Bindings, Dialect, Exchange, LineSetting};
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::{EndpointInfo, UsbDevice};

use crate::context::Context;
use crate::protocol::session_error::SessionError;

/// The transfer of an exchange's frame, and its limits.
pub(super) struct Transfer<'a> {
    pub(super) exchange: &'a Exchange,
    pub(super) memory: &'a Bindings,
    /// The time for one transfer.
    pub(super) timeout: Duration,
}

/// An open unit, and the transfers that carry frames to and from it.
pub(super) trait Carrier {
    /// The device.
    fn device(&mut self) -> &mut dyn UsbDevice;

    /// Sends the frame of an exchange.
    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError>;

    /// Receives a frame; from a stream at least one byte and about `wanted` bytes.
    fn receive(
        &mut self,
        transfer: &Transfer<'_>,
        wanted: usize,
        cx: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError>;

    /// bInterfaceNumber for requests to an interface.
    fn interface(&self) -> u8;

    /// Whether `len` received bytes end a transfer for which `wanted` bytes were expected.
    fn is_end(&self, exchange: &Exchange, wanted: usize, len: usize) -> bool {
        let _ = (exchange, wanted, len);
        true
    }

    /// Sends bytes as they are; only the carriers of a stream can.
    fn send_raw(&mut self, bytes: &[u8], timeout: Duration) -> Result<(), SessionError> {
        let _ = (bytes, timeout);
        Err(missing("stream"))
    }

    /// Selects an alternate setting of the interface; only pipes can.
    fn select(&mut self, alternate: u8) -> Result<(), SessionError> {
        let _ = alternate;
        Err(missing("selectable interface"))
    }

    /// Holds a serial line in its break state for a time; other carriers have none.
    fn send_break(&mut self, time: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = (time, cx);
        Ok(())
    }

    /// The endpoint that may deliver unsolicited bytes.
    fn unsolicited(&self) -> Option<EndpointInfo> {
        None
    }

    /// The endpoints whose halt is cleared after a stall.
    fn pipes(&self) -> Vec<EndpointInfo> {
        Vec::new()
    }

    /// Sets the speed and the form of a serial line; other carriers have none.
    fn set_line(&mut self, line: LineSetting) -> Result<(), SessionError> {
        let _ = line;
        Ok(())
    }

    /// Sets the named control lines of a serial line; other carriers have none.
    fn signal(&mut self, dtr: Option<bool>, rts: Option<bool>) -> Result<(), SessionError> {
        let _ = (dtr, rts);
        Ok(())
    }

    /// Waits until all frames that were sent are on the bus; other carriers send at once.
    fn flush(&mut self, within: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let _ = (within, cx);
        Ok(())
    }

    /// The identifier of the last received CAN frame.
    fn received_id(&self) -> Option<u32> {
        None
    }

    /// Leaves the unit ready for another program.
    fn quiesce(&mut self, cx: &mut Context<'_>) {
        let _ = cx;
    }
}

/// Claims the interface that the carrier needs, and configures the line.
///
/// # Errors
/// The unit lacks the interface, or another program uses it.
pub(super) fn open(
    device: CountingDevice,
    configuration: &Configuration,
    dialect: &Dialect,
    cx: &mut Context<'_>,
) -> Result<Box<dyn Carrier>, SessionError> {
    Ok(match &dialect.carrier {
        dialect::Carrier::Control(settings) => Box::new(control::open(device, settings)?),
        dialect::Carrier::Hid(settings) => Box::new(hid::open(device, configuration, settings)?),
        dialect::Carrier::Pipes(settings) => {
            Box::new(pipes::open(device, configuration, settings, &dialect.other_pipes())?)
        }
        dialect::Carrier::Serial(settings) => Box::new(serial::open(device, configuration, settings)?),
        dialect::Carrier::Dfu(settings) => Box::new(dfu::open(device, settings, cx)?),
        dialect::Carrier::Can(settings) => Box::new(can::open(device, configuration, settings)?),
        dialect::Carrier::Scsi(settings) => Box::new(scsi::open(device, configuration, settings)?),
    })
}

fn missing(what: &str) -> SessionError {
    SessionError::ProtocolViolation(format!("it has no {what}, which its dialect requires"))
}

fn find_interface(
    configuration: &Configuration,
    number: Option<u8>,
    fits: impl Fn(&Interface) -> bool,
) -> Option<&Interface> {
    configuration.interfaces.iter().find(|i| number.is_none_or(|number| i.number == number) && fits(i))
}
