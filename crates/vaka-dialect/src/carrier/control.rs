//! Control transfers on endpoint 0.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::RawCarrier;

/// Control transfers on endpoint 0.
#[derive(Clone, Debug)]
pub struct Control {
    /// The interface to claim; none is claimed without it.
    pub interface: Option<u8>,
}

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "control",
    description: "control transfers",
    template: include_str!("../templates/control.dialect.toml"),
    framing: Framing::Transfer,
    is_stream: false,
    has_line: false,
    has_requests: true,
    has_settings: false,
    pads_replies: false,
    explains_dfu_status: false,
    fetches_replies: |_| true,
};

impl Control {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        Some((65_535, "a control transfer"))
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, _: &mut Vec<Problem>) -> Option<Control> {
    Some(Control { interface: raw.get_ref().interface })
}
