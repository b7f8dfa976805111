//! Bulk or interrupt pipes.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::RawCarrier;

/// The rule for the address of an endpoint to the unit. Source: USB 2.0, table 9-13.
pub(crate) const PIPE_OUT: &str = "an endpoint to the unit must have an address below 0x80";
/// The rule for the address of an endpoint to the host.
pub(crate) const PIPE_IN: &str = "an endpoint to the host must have an address of 0x80 or above";

/// A pair of bulk or interrupt pipes.
#[derive(Clone, Debug)]
pub struct Pipes {
    /// bInterfaceNumber; the first that has both pipes without it.
    pub interface: Option<u8>,
    /// bEndpointAddress of the pipe to the unit; the first without it.
    pub pipe_out: Option<u8>,
    /// bEndpointAddress of the pipe to the host; the first without it.
    pub pipe_in: Option<u8>,
    /// bAlternateSetting that is selected at the beginning; the first that fits without it.
    pub alternate: Option<u8>,
    /// Whether an empty packet follows a frame that is a multiple of the packet size.
    pub empty_packet: bool,
}

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "pipes",
    description: "bulk or interrupt pipes",
    template: include_str!("../templates/pipes.dialect.toml"),
    framing: Framing::Transfer,
    is_stream: true,
    has_line: false,
    has_requests: false,
    has_settings: true,
    pads_replies: false,
    explains_dfu_status: false,
    fetches_replies: |_| false,
};

impl Pipes {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        None
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, problems: &mut Vec<Problem>) -> Option<Pipes> {
    let given = raw.get_ref();
    let pipe = |pipe: &Option<Spanned<u8>>| pipe.as_ref().map(|pipe| *pipe.get_ref());
    if let Some(out) = given.pipe_out.as_ref().filter(|pipe| *pipe.get_ref() & 0x80 != 0) {
        problems.push(Problem::new(out.span().start, PIPE_OUT));
    }
    if let Some(back) = given.pipe_in.as_ref().filter(|pipe| *pipe.get_ref() & 0x80 == 0) {
        problems.push(Problem::new(back.span().start, PIPE_IN));
    }
    Some(Pipes {
        interface: given.interface,
        pipe_out: pipe(&given.pipe_out),
        pipe_in: pipe(&given.pipe_in),
        alternate: pipe(&given.alternate),
        empty_packet: given.empty_packet.as_ref().is_some_and(|on| *on.get_ref()),
    })
}
