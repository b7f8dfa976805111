//! A pair of bulk or interrupt pipes.

use std::collections::BTreeSet;
use std::time::Duration;

use vaka_dialect::carrier::Pipes;
use vaka_dialect::{Exchange, FrameRoute};
use vaka_usb::counting::CountingDevice;
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::{EndpointInfo, UsbDevice};

use super::{Carrier, Transfer, find_interface, missing};
use crate::context::Context;
use crate::protocol::serial::round_up_to_packets;
use crate::protocol::session_error::SessionError;

pub(super) struct PipesCarrier {
    device: CountingDevice,
    configuration: Configuration,
    settings: Pipes,
    /// The interface of the pipe to the unit.
    interface: u8,
    read_endpoint: EndpointInfo,
    write_endpoint: EndpointInfo,
    /// Further pipes that single exchanges use.
    others: Vec<EndpointInfo>,
    /// Whether an empty packet ends a frame that is a multiple of the packet size.
    empty_packet: bool,
}

pub(super) fn open(
    mut device: CountingDevice,
    configuration: &Configuration,
    settings: &Pipes,
    others: &[u8],
) -> Result<PipesCarrier, SessionError> {
    let fits = |i: &Interface| settings.alternate.is_none_or(|alternate| i.alternate == alternate);
    let (out, back) =
        find_pipes(configuration, settings, &fits).ok_or_else(|| missing("matching pair of endpoints"))?;
    let mut claimed = BTreeSet::new();
    let mut claim = |i: &Interface| match claimed.insert(i.number) {
        true => device.claim(i.number, i.alternate),
        false => Ok(()),
    };
    claim(out.0)?;
    claim(back.0)?;
    let mut found = Vec::new();
    for address in others {
        let of = |i: &Interface| i.pipes.iter().find(|pipe| pipe.address == *address).copied();
        let beside = configuration.interfaces.iter().filter(|i| fits(i)).find_map(|i| Some((i, of(i)?)));
        let (interface, pipe) = beside.ok_or_else(|| missing(&format!("endpoint 0x{address:02X}")))?;
        claim(interface)?;
        found.push(pipe);
    }
    Ok(PipesCarrier {
        configuration: configuration.clone(),
        settings: settings.clone(),
        interface: out.0.number,
        read_endpoint: back.1,
        write_endpoint: out.1,
        others: found,
        empty_packet: settings.empty_packet,
        device,
    })
}

type Endpoint<'a> = (&'a Interface, EndpointInfo);

/// The endpoints in both directions with their interfaces. Explicitly named endpoints may belong
/// to two interfaces.
fn find_pipes<'a>(
    configuration: &'a Configuration,
    settings: &Pipes,
    fits: &dyn Fn(&Interface) -> bool,
) -> Option<(Endpoint<'a>, Endpoint<'a>)> {
    let pipe_of = |i: &Interface, wanted: Option<u8>, is_in: bool| {
        i.pipes.iter().copied().find(|pipe| match wanted {
            Some(address) => pipe.address == address,
            None => pipe.is_in() == is_in,
        })
    };
    let both = |i: &Interface| pipe_of(i, settings.pipe_out, false).zip(pipe_of(i, settings.pipe_in, true));
    if let Some(one) = find_interface(configuration, settings.interface, |i| fits(i) && both(i).is_some()) {
        let (out, back) = both(one)?;
        return Some(((one, out), (one, back)));
    }
    let of = |wanted: Option<u8>, is_in| {
        let found = |i: &'a Interface| Some((i, pipe_of(i, wanted, is_in)?));
        wanted.and_then(|_| configuration.interfaces.iter().filter(|i| fits(i)).find_map(found))
    };
    let apart = of(settings.pipe_out, false).zip(of(settings.pipe_in, true));
    apart.filter(|_| settings.interface.is_none())
}

impl Carrier for PipesCarrier {
    fn device(&mut self) -> &mut dyn UsbDevice {
        &mut self.device
    }

    fn interface(&self) -> u8 {
        self.interface
    }

    fn send(&mut self, transfer: &Transfer<'_>, frame: &[u8], _: &mut Context<'_>) -> Result<(), SessionError> {
        let pipe = self.pipe(transfer.exchange.via, self.write_endpoint);
        match self.empty_packet {
            true => pipe_out_ended(&mut self.device, pipe, frame, transfer.timeout),
            false => pipe_out_all(&mut self.device, pipe, frame, transfer.timeout),
        }
    }

    fn receive(
        &mut self,
        transfer: &Transfer<'_>,
        wanted: usize,
        _: &mut Context<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        let pipe = self.pipe(transfer.exchange.take, self.read_endpoint);
        Ok(self.device.read_endpoint(pipe, round_up_to_packets(pipe, wanted), transfer.timeout)?)
    }

    /// A transfer ends with a packet that is not full.
    fn is_end(&self, exchange: &Exchange, wanted: usize, len: usize) -> bool {
        len < round_up_to_packets(self.pipe(exchange.take, self.read_endpoint), wanted)
    }

    fn send_raw(&mut self, bytes: &[u8], timeout: Duration) -> Result<(), SessionError> {
        pipe_out_all(&mut self.device, self.write_endpoint, bytes, timeout)
    }

    fn select(&mut self, alternate: u8) -> Result<(), SessionError> {
        let own = Pipes { interface: Some(self.interface), ..self.settings.clone() };
        let fits = |i: &Interface| i.alternate == alternate;
        let (out, back) = find_pipes(&self.configuration, &own, &fits)
            .ok_or_else(|| missing(&format!("alternate setting {alternate} with both pipes")))?;
        self.device.claim(out.0.number, alternate)?;
        (self.write_endpoint, self.read_endpoint) = (out.1, back.1);
        Ok(())
    }

    fn unsolicited(&self) -> Option<EndpointInfo> {
        Some(self.read_endpoint)
    }

    fn pipes(&self) -> Vec<EndpointInfo> {
        [&[self.read_endpoint, self.write_endpoint][..], &self.others].concat()
    }
}

impl PipesCarrier {
    /// The pipe of a frame: another one if its exchange names one.
    fn pipe(&self, route: Option<FrameRoute>, usual: EndpointInfo) -> EndpointInfo {
        let Some(FrameRoute::Pipe(address)) = route else { return usual };
        self.others.iter().find(|pipe| pipe.address == address).copied().unwrap_or(usual)
    }
}

fn pipe_out_all(
    device: &mut CountingDevice,
    pipe: EndpointInfo,
    frame: &[u8],
    timeout: Duration,
) -> Result<(), SessionError> {
    if frame.is_empty() {
        // A frame without bytes is an empty packet.
        return Ok(device.write_endpoint(pipe, &[], timeout)?);
    }
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
