//! DFU requests that carry command blocks.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::RawCarrier;

/// DFU requests that carry frames.
#[derive(Clone, Debug)]
pub struct Dfu {
    /// bInterfaceNumber; the first DFU interface without it.
    pub interface: Option<u8>,
}

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "dfu",
    description: "DFU requests",
    template: include_str!("../templates/dfu.dialect.toml"),
    framing: Framing::Transfer,
    is_stream: false,
    has_line: false,
    has_requests: false,
    has_settings: false,
    pads_replies: false,
    explains_dfu_status: true,
    fetches_replies: |_| true,
};

impl Dfu {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        None
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, _: &mut Vec<Problem>) -> Option<Dfu> {
    Some(Dfu { interface: raw.get_ref().interface })
}
