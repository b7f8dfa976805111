//! A pair of bulk or interrupt pipes.

use std::time::Duration;

use vaka_dialect::carrier::Pipes;
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::{EndpointInfo, UsbDevice};

use super::{Carrier, Transfer, find_interface, missing};
use crate::context::Context;
use crate::protocol::serial::round_up_to_packets;
use crate::protocol::session_error::SessionError;

pub(super) struct PipesCarrier {
    device: CountingDevice,
    read_endpoint: EndpointInfo,
    write_endpoint: EndpointInfo,
    /// Whether an empty packet ends a frame that is a multiple of the packet size.
    empty_packet: bool,
}

pub(super) fn open(
    mut device: CountingDevice,
    configuration: &Configuration,
    settings: &Pipes,
) -> Result<PipesCarrier, SessionError> {
    let (out, back) = find_pipes(configuration, settings).ok_or_else(|| missing("matching pair of endpoints"))?;
    device.claim(out.0.number, out.0.alternate)?;
    if out.0.number != back.0.number {
        device.claim(back.0.number, back.0.alternate)?;
    }
    Ok(PipesCarrier { device, read_endpoint: back.1, write_endpoint: out.1, empty_packet: settings.empty_packet })
}

type Endpoint<'a> = (&'a Interface, EndpointInfo);

/// The endpoints in both directions with their interfaces. Explicitly named endpoints may belong
/// to two interfaces.
fn find_pipes<'a>(configuration: &'a Configuration, settings: &Pipes) -> Option<(Endpoint<'a>, Endpoint<'a>)> {
    let pipe_of = |i: &Interface, wanted: Option<u8>, is_in: bool| {
        i.pipes.iter().copied().find(|pipe| match wanted {
            Some(address) => pipe.address == address,
            None => pipe.is_in() == is_in,
        })
    };
    let both = |i: &Interface| pipe_of(i, settings.pipe_out, false).zip(pipe_of(i, settings.pipe_in, true));
    if let Some(one) = find_interface(configuration, settings.interface, |i| both(i).is_some()) {
        let (out, back) = both(one)?;
        return Some(((one, out), (one, back)));
    }
    let of = |wanted: Option<u8>, is_in| {
        let found = |i: &'a Interface| Some((i, pipe_of(i, wanted, is_in)?));
        wanted.and_then(|_| configuration.interfaces.iter().find_map(found))
    };
    let apart = of(settings.pipe_out, false).zip(of(settings.pipe_in, true));
    apart.filter(|_| settings.interface.is_none())
}

impl Carrier for PipesCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.device
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        match self.empty_packet {
            true => pipe_out_ended(&mut self.device, self.write_endpoint, frame, transfer.timeout),
            false => pipe_out_all(&mut self.device, self.write_endpoint, frame, transfer.timeout),
        }
    }

    fn receive(
        &mut self,
        transfer: &Transfer<'_>,
        wanted: usize,
        _: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        let pipe = self.read_endpoint;
        let is_stream = transfer.memory.dialect().framing.is_stream();
        let whole = if is_stream { wanted } else { usize::from(pipe.packet) };
        Ok(self.device.read_endpoint(pipe, round_up_to_packets(pipe, whole), transfer.timeout)?)
    }

    fn unsolicited(&self) -> Option<EndpointInfo> {
        Some(self.read_endpoint)
    }

    fn pipes(&self) -> Vec<EndpointInfo> {
        vec![self.read_endpoint, self.write_endpoint]
    }
}

fn pipe_out_all(
    device: &mut CountingDevice,
    pipe: EndpointInfo,
    frame: &[u8],
    timeout: Duration,
) -> Result<(), SessionError> {
    for piece in frame.chunks(vaka_usb::MAX_PIPE_TRANSFER) {
        device.write_endpoint(pipe, piece, timeout)?;
    }
    Ok(())
}

/// A frame of whole packets, for a unit that waits for its end. Source: USB 2.0,
/// section 5.8.3.
fn pipe_out_ended(
    device: &mut CountingDevice,
    pipe: EndpointInfo,
    frame: &[u8],
    timeout: Duration,
) -> Result<(), SessionError> {
    pipe_out_all(device, pipe, frame, timeout)?;
    if !frame.is_empty() && frame.len().is_multiple_of(usize::from(pipe.packet)) {
        device.write_endpoint(pipe, &[], timeout)?;
    }
    Ok(())
}
