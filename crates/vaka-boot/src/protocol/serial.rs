//! A unit's serial port, by the CDC-ACM class, spoken to without the system's driver.

use std::time::Duration;

use vaka_base::text;
use vaka_dialect::LineSetting;
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::strings::{self, Patience};
use vaka_usb::{EndpointInfo, MAX_PIPE_TRANSFER, Setup, SystemClock, TransferError, UsbDevice};

use crate::context::Context;
use crate::protocol::session_error::SessionError;

/// Time for a control request. Chosen by us.
const REQUEST_TIMEOUT: Duration = Duration::from_secs(5);

/// CDC requests. Source: PSTN subclass of CDC 1.2, section 6.3.
const SET_LINE_CODING: u8 = 0x20;
const SET_CONTROL_LINE_STATE: u8 = 0x22;
const SEND_BREAK: u8 = 0x23;

/// Interface classes. Source: the list of class codes by usb.org.
const CLASS_COMMUNICATION: u8 = 0x02;
const CLASS_CDC_DATA: u8 = 0x0A;

/// Bytes that are read at once. Chosen by us: eight packets of a full-speed unit.
const MOST_READ: usize = 512;

/// Maximum length of a line; longer lines are split. Chosen by us.
const MOST_LINE: usize = 4096;

/// A serial port that was claimed.
pub(crate) struct SerialPort {
    pub(crate) device: CountingDevice,
    pub(crate) read_endpoint: EndpointInfo,
    pub(crate) write_endpoint: EndpointInfo,
    pub(crate) control: u8,
    dtr: bool,
    rts: bool,
}

impl SerialPort {
    /// Claims the port's interfaces: the data interface `number`, or the first one. `None` if the
    /// unit has no such port.
    ///
    /// # Errors
    /// Another program uses it, or the unit disconnected.
    pub(crate) fn open(
        mut device: CountingDevice,
        configuration: &Configuration,
        number: Option<u8>,
    ) -> Result<Option<Self>, SessionError> {
        let Some((data, write_endpoint, read_endpoint)) = data_of(configuration, number) else { return Ok(None) };
        let control = control_of(configuration, data.number);
        if let Some(control) = control {
            device.claim(control, 0)?;
        }
        device.claim(data.number, data.alternate)?;
        let control = control.unwrap_or(data.number);
        Ok(Some(Self { device, read_endpoint, write_endpoint, control, dtr: false, rts: false }))
    }

    /// Whether a unit describes such a port: the data interface `number`, or any.
    pub(crate) fn is_in(configuration: &Configuration, number: Option<u8>) -> bool {
        data_of(configuration, number).is_some()
    }

    /// Sets speed and format of the line. A unit without a physical line may reject it.
    pub(crate) fn set_line(&mut self, line: LineSetting) -> Result<(), SessionError> {
        let mut coding = line.baud.to_le_bytes().to_vec();
        coding.extend([line.stop, line.parity, line.data_bits]);
        tolerant(self.device.control_out(class_out(SET_LINE_CODING, 0, self.control), &coding, REQUEST_TIMEOUT))
    }

    /// Sets the control lines that are named.
    pub(crate) fn signal(&mut self, dtr: Option<bool>, rts: Option<bool>) -> Result<(), SessionError> {
        (self.dtr, self.rts) = (dtr.unwrap_or(self.dtr), rts.unwrap_or(self.rts));
        let value = u16::from(self.dtr) | u16::from(self.rts) << 1;
        tolerant(self.device.control_out(class_out(SET_CONTROL_LINE_STATE, value, self.control), &[], REQUEST_TIMEOUT))
    }

    /// Holds the line in its break state for a time: begins it, waits and ends it, because not every
    /// unit keeps the time itself. Source: PSTN subclass of CDC 1.2, section 6.3.13.
    pub(crate) fn send_break(&mut self, time: Duration, cx: &mut Context<'_>) -> Result<(), SessionError> {
        let mut request =
            |value| self.device.control_out(class_out(SEND_BREAK, value, self.control), &[], REQUEST_TIMEOUT);
        request(0xFFFF)?;
        cx.wait_until(cx.now() + time, "a break on the line");
        Ok(request(0)?)
    }

    /// Sends bytes.
    pub(crate) fn send(&mut self, bytes: &[u8], timeout: Duration) -> Result<(), SessionError> {
        for piece in bytes.chunks(MAX_PIPE_TRANSFER) {
            self.device.write_endpoint(self.write_endpoint, piece, timeout)?;
        }
        Ok(())
    }

    /// The available data: at least one byte, at most about `wanted`.
    pub(crate) fn receive(&mut self, wanted: usize, timeout: Duration) -> Result<Vec<u8>, SessionError> {
        Ok(self.device.read_endpoint(self.read_endpoint, round_up_to_packets(self.read_endpoint, wanted), timeout)?)
    }
}

/// The smallest multiple of the packet size for this many bytes: data before a time-out is lost.
pub(crate) fn round_up_to_packets(pipe: EndpointInfo, wanted: usize) -> usize {
    let packet = usize::from(pipe.packet);
    (wanted / packet).max(1).min(MAX_PIPE_TRANSFER / packet) * packet
}

/// The data interface `number`, or the first one, with its endpoints to and from the unit.
fn data_of(configuration: &Configuration, number: Option<u8>) -> Option<(&Interface, EndpointInfo, EndpointInfo)> {
    let is_data = |i: &&Interface| i.class == CLASS_CDC_DATA && number.is_none_or(|number| i.number == number);
    let with_pipes = |i| Some((i, Interface::bulk(i, false)?, Interface::bulk(i, true)?));
    configuration.interfaces.iter().filter(is_data).find_map(with_pipes)
}

/// The communication interface of a data interface: by the union descriptor, else the first one.
/// Source: CDC 1.2, table 16.
fn control_of(configuration: &Configuration, data: u8) -> Option<u8> {
    let controls = || configuration.interfaces.iter().filter(|i| i.class == CLASS_COMMUNICATION);
    let is_of = |i: &&Interface| {
        i.class_descriptors
            .iter()
            .any(|bytes| matches!(bytes[..], [_, 0x24, 0x06, _, ref below @ ..] if below.contains(&data)))
    };
    controls().find(is_of).or_else(|| controls().next()).map(|i| i.number)
}

pub(crate) fn class_out(request: u8, value: u16, interface: u8) -> Setup {
    Setup { kind: Setup::CLASS_INTERFACE_OUT, request, value, index: u16::from(interface) }
}

fn tolerant(done: Result<(), TransferError>) -> Result<(), SessionError> {
    match done {
        Err(TransferError::Stall) => Ok(()),
        done => Ok(done?),
    }
}

/// Reads lines that an application prints on its serial port.
pub struct LineReader {
    port: SerialPort,
    pending: Vec<u8>,
}

impl LineReader {
    /// Opens the port of a unit, as a terminal program does: 115 200 bits per second,
    /// eight bits, no parity, DTR set. `interface` is that of its data, otherwise the first one. `None`
    /// if it has no such port.
    ///
    /// # Errors
    /// Another program uses it, or the unit disconnected.
    pub fn open(mut device: Box<dyn UsbDevice>, interface: Option<u8>) -> Result<Option<Self>, SessionError> {
        let configuration = strings::configuration(&mut *device, &mut Patience::new(&SystemClock))?;
        let (device, _) = CountingDevice::new(device);
        let Some(mut port) = SerialPort::open(device, &configuration, interface)? else { return Ok(None) };
        port.set_line(LineSetting { baud: 115_200, data_bits: 8, parity: 0, stop: 0 })?;
        port.signal(Some(true), Some(true))?;
        Ok(Some(Self { port, pending: Vec::new() }))
    }

    /// Sends a line, ended as terminals end one.
    ///
    /// # Errors
    /// The unit disconnected, or does not accept data.
    pub fn send(&mut self, line: &str) -> Result<(), SessionError> {
        self.port.send(format!("{line}\r\n").as_bytes(), REQUEST_TIMEOUT)
    }

    /// The lines completed within a time; an incomplete line is kept for the next call. Control
    /// characters are escaped.
    ///
    /// # Errors
    /// The unit left.
    pub fn lines(&mut self, within: Duration) -> Result<Vec<String>, SessionError> {
        match self.port.receive(MOST_READ, within) {
            Ok(bytes) => self.pending.extend(bytes),
            // No data within the interval.
            Err(SessionError::Timeout(_)) => {}
            Err(error) => return Err(error),
        }
        let mut lines = Vec::new();
        while let Some(end) = self.pending.iter().position(|byte| *byte == b'\n' || *byte == b'\r') {
            let line: Vec<u8> = self.pending.drain(..=end).collect();
            lines.push(text::sanitize(&String::from_utf8_lossy(&line[..end])));
        }
        if self.pending.len() > MOST_LINE {
            lines.push(text::sanitize(&String::from_utf8_lossy(&std::mem::take(&mut self.pending))));
        }
        lines.retain(|line| !line.is_empty());
        Ok(lines)
    }

    /// Reads lines until one matches or the time is over.
    ///
    /// # Errors
    /// The unit left.
    pub fn until(
        &mut self,
        within: Duration,
        cx: &Context<'_>,
        is_it: impl Fn(&str) -> bool,
    ) -> Result<Vec<String>, SessionError> {
        let deadline = cx.now() + within;
        let mut all = Vec::new();
        while cx.now() < deadline && !cx.stop_requested() {
            let left = deadline.saturating_sub(cx.now());
            let new = self.lines(left.min(Duration::from_millis(100)))?;
            let found = new.iter().any(|line| is_it(line));
            all.extend(new);
            if found {
                break;
            }
        }
        Ok(all)
    }
}
