//! Control transfers on endpoint 0.

use vaka_dialect::carrier::Control;
use vaka_dialect::{Bindings, Exchange, Expression, Recipient, RequestForm};
use vaka_usb::counting::CountingDevice;
use vaka_usb::{Setup, UsbDevice};

use super::{Carrier, Transfer};
use crate::context::Context;
use crate::protocol::session_error::SessionError;

/// wLength of a device-to-host request whose reply has no known length. Chosen by us: longer than
/// any reply in the field; a unit may send less.
const LONG_REPLY: u16 = 1024;

pub(super) struct ControlCarrier {
    device: CountingDevice,
    interface: u8,
}

pub(super) fn open(mut device: CountingDevice, settings: &Control) -> Result<ControlCarrier, SessionError> {
    if let Some(interface) = settings.interface {
        device.claim(interface, 0)?;
    }
    Ok(ControlCarrier { device, interface: settings.interface.unwrap_or(0) })
}

impl Carrier for ControlCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.device
    }

    fn interface(&self) -> u8 {
        self.interface
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        send(&mut self.device, self.interface, transfer, frame)
    }

    fn receive(&mut self, transfer: &Transfer<'_>, _: usize, _: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        receive(&mut self.device, self.interface, transfer)
    }
}

/// Sends a frame as the data of a request; nothing without a request.
pub(crate) fn send(
    device: &mut dyn UsbDevice,
    interface: u8,
    transfer: &Transfer<'_>,
    frame: &[u8],
) -> Result<(), SessionError> {
    let Some(form) = &transfer.exchange.control.out else { return Ok(()) };
    let (setup, _) = setup_packet(form, transfer.memory, interface, false)?;
    Ok(device.control_out(setup, frame, transfer.timeout)?)
}

/// Fetches a frame by a request; nothing without a request.
pub(crate) fn receive(
    device: &mut dyn UsbDevice,
    interface: u8,
    transfer: &Transfer<'_>,
) -> Result<Vec<u8>, SessionError> {
    let Some(form) = &transfer.exchange.control.back else { return Ok(Vec::new()) };
    let (setup, length) = setup_packet(form, transfer.memory, interface, true)?;
    let known = transfer.memory.reply_length(transfer.exchange).filter(|len| *len > 0);
    let known = known.map(|len| u16::try_from(len).unwrap_or(u16::MAX));
    Ok(device.control_in(setup, length.or(known).unwrap_or(LONG_REPLY), transfer.timeout)?)
}

/// The setup packet that carries the frame of an exchange, or its reply; `None` if no request does.
pub(crate) fn packet(exchange: &Exchange, memory: &Bindings, interface: u8, is_in: bool) -> Option<Setup> {
    let form = if is_in { exchange.control.back.as_ref() } else { exchange.control.out.as_ref() }?;
    setup_packet(form, memory, interface, is_in).ok().map(|(setup, _)| setup)
}

/// The setup packet of a request, and its length if the dialect gives one.
fn setup_packet(
    form: &RequestForm,
    memory: &Bindings,
    interface: u8,
    is_in: bool,
) -> Result<(Setup, Option<u16>), SessionError> {
    let number = |of: &Expression, most: i128| {
        let number = memory.int(of).map_err(|error| SessionError::ProtocolViolation(error.to_string()))?;
        match number {
            number if (0..=most).contains(&number) => Ok(u16::try_from(number).unwrap_or(0)),
            number => {
                Err(SessionError::ProtocolViolation(format!("{number} exceeds the request field's maximum of {most}")))
            }
        }
    };
    let word = |of: &Option<Expression>| of.as_ref().map(|of| number(of, 0xFFFF)).transpose();
    let recipient = match form.to {
        Recipient::Device => 0,
        Recipient::Interface => 1,
        Recipient::Endpoint => 2,
        Recipient::Other => 3,
    };
    let own = if form.to == Recipient::Interface { u16::from(interface) } else { 0 };
    let setup = Setup {
        kind: u8::from(is_in) << 7 | form.class << 5 | recipient,
        request: u8::try_from(number(&form.request, 0xFF)?).unwrap_or(0),
        value: word(&form.value)?.unwrap_or(0),
        index: word(&form.index)?.unwrap_or(own),
    };
    Ok((setup, word(&form.length)?))
}
