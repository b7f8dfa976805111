//! An open unit and its carrier, as the interpreter uses them.

use std::time::Duration;

use vaka_base::text;
use vaka_dialect::{Bindings, Dialect, Exchange, FrameRoute, LineSetting, Name, Value};
use vaka_usb::counting::{CountingDevice, TransferCount};
use vaka_usb::strings::{self, Patience};
use vaka_usb::{Setup, UsbDevice};

use super::carrier::{self, Carrier, Transfer, control};
use crate::context::Context;
use crate::protocol::session_error::SessionError;

/// An open unit with the carrier of its frames.
pub(super) struct CarrierTransport {
    carrier: Box<dyn Carrier>,
    count: TransferCount,
}

impl CarrierTransport {
    /// Claims the interface that the carrier needs, and configures the line.
    pub(super) fn open(
        mut device: Box<dyn UsbDevice>,
        dialect: &Dialect,
        cx: &mut Context<'_>,
    ) -> Result<Self, SessionError> {
        let configuration = strings::configuration(&mut *device, &mut Patience::new(cx.clock()))?;
        let (device, count) = CountingDevice::new(device);
        let carrier = carrier::open(device, &configuration, dialect, cx)?;
        Ok(Self { carrier, count })
    }

    /// USB transfers so far.
    pub(super) fn transfers(&self) -> u64 {
        self.count.get()
    }

    /// Records in a trace what follows.
    pub(super) fn note(&mut self, dialect: &Dialect, operation: &str, given: &[(Name, Value)]) {
        let device = self.carrier.device();
        if device.takes_notes() {
            let told = |(name, value): &(Name, Value)| (dialect.name_text(*name).to_owned(), written(value));
            let told: Vec<(String, String)> = given.iter().map(told).collect();
            device.note(&dialect.name, operation, &told);
        }
    }

    /// From now on traces conceal what is transferred, or show it again.
    pub(super) fn conceal(&mut self, is_secret: bool) {
        self.carrier.device().conceal(is_secret);
    }

    /// Waits until the unit has left the bus; whether it has.
    pub(super) fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.carrier.device().wait_for_disconnect(within)
    }

    /// Waits until all frames that were sent are on the bus.
    pub(super) fn flush(&mut self, within: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.carrier.flush(within, cx)
    }

    /// The identifier of the last received CAN frame.
    pub(super) fn received_id(&self) -> Option<u32> {
        self.carrier.received_id()
    }

    /// Sets speed and form of a serial line.
    pub(super) fn set_line(&mut self, line: LineSetting) -> Result<(), SessionError> {
        self.carrier.set_line(line)
    }

    /// Sets the control lines that are named.
    pub(super) fn signal(&mut self, dtr: Option<bool>, rts: Option<bool>) -> Result<(), SessionError> {
        self.carrier.signal(dtr, rts)
    }

    /// Holds a serial line in its break state for a time.
    pub(super) fn send_break(&mut self, time: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.carrier.send_break(time, cx)
    }

    /// Sends bytes as they are.
    pub(super) fn send_raw(&mut self, bytes: &[u8], timeout: Duration) -> Result<(), SessionError> {
        self.carrier.send_raw(bytes, timeout)
    }

    /// Selects an alternate setting of the carrier's interface.
    pub(super) fn select(&mut self, alternate: u8) -> Result<(), SessionError> {
        self.carrier.select(alternate)
    }

    /// Resets the unit's port on the bus.
    pub(super) fn reset(&mut self) -> Result<(), SessionError> {
        Ok(self.carrier.device().reset()?)
    }

    /// Whether these bytes end a transfer for which `wanted` bytes were expected.
    pub(super) fn is_end(&self, exchange: &Exchange, wanted: usize, len: usize) -> bool {
        exchange.take == Some(FrameRoute::Request) || self.carrier.is_end(exchange, wanted, len)
    }

    /// The setup packet that carries the frame of an exchange, or its reply, if one does.
    pub(super) fn setup(&self, exchange: &Exchange, memory: &Bindings, is_in: bool) -> Option<Setup> {
        control::packet(exchange, memory, self.carrier.interface(), is_in)
    }

    /// Sends the frame of an exchange.
    pub(super) fn send(
        &mut self,
        transfer: &Transfer<'_>,
        frame: &[u8],
        cx: &mut Context<'_>,
    ) -> Result<(), SessionError> {
        if transfer.exchange.via == Some(FrameRoute::Request) {
            let interface = self.carrier.interface();
            return control::send(self.carrier.device(), interface, transfer, frame);
        }
        self.carrier.send(transfer, frame, cx)
    }

    /// Receives data for an exchange: a frame, or from a stream at least one byte.
    pub(super) fn receive(
        &mut self,
        transfer: &Transfer<'_>,
        wanted: usize,
        cx: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        if transfer.exchange.take == Some(FrameRoute::Request) {
            let interface = self.carrier.interface();
            return control::receive(self.carrier.device(), interface, transfer);
        }
        self.carrier.receive(transfer, wanted, cx)
    }

    /// Leaves the unit in a clean state for the next program.
    pub(super) fn rest(&mut self, cx: &mut Context<'_>) {
        self.carrier.quiesce(cx);
    }

    /// Discards unsolicited data for a time; returns whether there was any.
    pub(super) fn drain(&mut self, within: Duration) -> bool {
        let Some(pipe) = self.carrier.unsolicited() else { return false };
        let came = self.carrier.device().read_endpoint(pipe, usize::from(pipe.packet), within);
        came.is_ok_and(|bytes| !bytes.is_empty())
    }

    /// Clears the halt of the endpoints after a stall.
    pub(super) fn clear_halts(&mut self) {
        for pipe in self.carrier.pipes() {
            let _ = self.carrier.device().clear_halt(pipe);
        }
    }
}

/// A value in the form used in traces.
fn written(value: &Value) -> String {
    match value {
        Value::Int(number) => number.to_string(),
        Value::Bytes(bytes) => text::hex(bytes),
        Value::Truth(truth) => truth.to_string(),
    }
}
