//! HID reports, over interrupt endpoints if the interface has them, else by class requests.

use vaka_dialect::carrier::Hid;
use vaka_dialect::{Exchange, FieldView, FrameMismatch, FrameRoute, Report};
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::Configuration;
use vaka_usb::{EndpointInfo, Setup, UsbDevice};

use super::{Carrier, Transfer, find_interface, missing};
use crate::context::Context;
use crate::protocol::serial::class_out;
use crate::protocol::session_error::SessionError;

/// HID class requests. Source: HID 1.11, section 7.2.
const GET_REPORT: u8 = 0x01;
const SET_REPORT: u8 = 0x09;

/// Interface class. Source: the list of class codes by usb.org.
const CLASS_HID: u8 = 0x03;

pub(super) struct HidCarrier {
    device: CountingDevice,
    settings: Hid,
    interface: u8,
    read_endpoint: Option<EndpointInfo>,
    write_endpoint: Option<EndpointInfo>,
}

pub(super) fn open(
    mut device: CountingDevice,
    configuration: &Configuration,
    settings: &Hid,
) -> Result<HidCarrier, SessionError> {
    let found = find_interface(configuration, settings.interface, |i| i.class == CLASS_HID)
        .ok_or_else(|| missing("HID interface"))?;
    device.claim(found.number, 0)?;
    let pipe = |is_in| found.pipes.iter().find(|pipe| pipe.is_in() == is_in).copied();
    let (read_endpoint, write_endpoint) = (pipe(true), pipe(false));
    Ok(HidCarrier { device, settings: settings.clone(), interface: found.number, read_endpoint, write_endpoint })
}

impl Carrier for HidCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.device
    }

    fn interface(&self) -> u8 {
        self.interface
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        let Transfer { exchange, timeout, .. } = *transfer;
        let Hid { send, report, length, fill, .. } = self.settings;
        if frame.len() > length {
            let words = format!("the frame has {} bytes; a report has {length}", frame.len());
            return Err(SessionError::Dialect { exchange: exchange.name.clone(), words });
        }
        let id = exchange.report.or(report);
        let mut bytes = Vec::with_capacity(length + 1);
        bytes.extend(id);
        bytes.extend_from_slice(frame);
        bytes.resize(length + usize::from(id.is_some()), fill);
        let kind = match exchange.via {
            Some(FrameRoute::Report(kind)) => kind,
            _ => send,
        };
        match self.write_endpoint {
            Some(pipe) if kind == Report::Output => Ok(self.device.write_endpoint(pipe, &bytes, timeout)?),
            _ => {
                let value = report_type(kind) << 8 | u16::from(id.unwrap_or(0));
                Ok(self.device.control_out(class_out(SET_REPORT, value, self.interface), &bytes, timeout)?)
            }
        }
    }

    fn receive(&mut self, transfer: &Transfer<'_>, _: usize, _: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let Transfer { exchange, timeout, .. } = *transfer;
        let Hid { reply, report, reply_length, .. } = self.settings;
        let id = exchange.report.or(report);
        let length = reply_length + usize::from(id.is_some());
        let kind = match exchange.take {
            Some(FrameRoute::Report(kind)) => kind,
            _ => reply,
        };
        let mut bytes = match self.read_endpoint {
            Some(pipe) if kind == Report::Input => {
                self.device.read_endpoint(pipe, length.next_multiple_of(usize::from(pipe.packet)), timeout)?
            }
            _ => {
                let value = report_type(kind) << 8 | u16::from(id.unwrap_or(0));
                let index = u16::from(self.interface);
                let setup = Setup { kind: Setup::CLASS_INTERFACE_IN, request: GET_REPORT, value, index };
                self.device.control_in(setup, u16::try_from(length).unwrap_or(u16::MAX), timeout)?
            }
        };
        if let Some(id) = id {
            if bytes.first() != Some(&id) {
                return Err(other_report(exchange, id, bytes));
            }
            bytes.remove(0);
        }
        Ok(bytes)
    }

    fn unsolicited(&self) -> Option<EndpointInfo> {
        self.read_endpoint
    }

    fn pipes(&self) -> Vec<EndpointInfo> {
        [self.read_endpoint, self.write_endpoint].into_iter().flatten().collect()
    }
}

/// Report type in wValue. Source: HID 1.11, section 7.2.1.
fn report_type(report: Report) -> u16 {
    match report {
        Report::Input => 1,
        Report::Output => 2,
        Report::Feature => 3,
    }
}

/// A report of another id than the one that was expected.
fn other_report(exchange: &Exchange, id: u8, bytes: Vec<u8>) -> SessionError {
    let found = bytes.first().map_or("nothing".to_owned(), |found| format!("report {found}"));
    let words = format!("at byte 0, the report's id: expected {id}; received {found}");
    let says = format!("expected report {id}; received {found}");
    let fields = vec![FieldView { field: "(report id)".into(), bytes, says, is_wrong: true }];
    SessionError::Frame(Box::new(FrameMismatch { exchange: exchange.name.clone(), words, fields }))
}
