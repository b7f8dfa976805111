//! A serial port by the CDC-ACM class.

use std::time::Duration;

use vaka_dialect::LineSetting;
use vaka_dialect::carrier::Serial;
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::Configuration;
use vaka_usb::{EndpointInfo, UsbDevice};

use super::{Carrier, Transfer, missing};
use crate::context::Context;
use crate::protocol::serial::SerialPort;
use crate::protocol::session_error::SessionError;

pub(super) fn open(
    device: CountingDevice,
    configuration: &Configuration,
    settings: &Serial,
) -> Result<SerialPort, SessionError> {
    let port = SerialPort::open(device, configuration, settings.interface)?;
    let mut port = port.ok_or_else(|| missing("serial port (CDC-ACM)"))?;
    if let Some(line) = settings.line {
        port.set_line(line)?;
    }
    port.signal(Some(settings.dtr), Some(settings.rts))?;
    Ok(port)
}

impl Carrier for SerialPort {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.device
    }

    fn interface(&self) -> u8 {
        self.control
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        Self::send(self, frame, transfer.timeout)
    }

    fn receive(
        &mut self,
        transfer: &Transfer<'_>,
        wanted: usize,
        _: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        Self::receive(self, wanted, transfer.timeout)
    }

    fn send_raw(&mut self, bytes: &[u8], timeout: Duration) -> Result<(), SessionError> {
        Self::send(self, bytes, timeout)
    }

    fn send_break(&mut self, time: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        Self::send_break(self, time, cx)
    }

    fn unsolicited(&self) -> Option<EndpointInfo> {
        Some(self.read_endpoint)
    }

    fn pipes(&self) -> Vec<EndpointInfo> {
        vec![self.read_endpoint, self.write_endpoint]
    }

    fn set_line(&mut self, line: LineSetting) -> Result<(), SessionError> {
        Self::set_line(self, line)
    }

    fn signal(&mut self, dtr: Option<bool>, rts: Option<bool>) -> Result<(), SessionError> {
        Self::signal(self, dtr, rts)
    }
}
