//! What the checker, the interpreter and the program know of a carrier.

use crate::framing::Framing;
use crate::raw::RawCarrier;

/// The properties that all dialects over one carrier share.
pub struct CarrierKind {
    /// Its name in `[carrier] kind`.
    pub name: &'static str,
    /// What it is, for lists and help.
    pub description: &'static str,
    /// A dialect to begin with, with comments.
    pub template: &'static str,
    /// How frames are told apart without `[framing]`.
    pub(crate) framing: Framing,
    /// Whether it carries a stream of bytes, so that `[framing]` applies.
    pub(crate) is_stream: bool,
    /// Whether it has a serial line that steps can set.
    pub(crate) has_line: bool,
    /// Whether an exchange names its requests with `out` and `in`.
    pub(crate) has_requests: bool,
    /// Whether replies are filled up, so that bytes behind one are padding.
    pub(crate) pads_replies: bool,
    /// Whether a refusal comes with a DFU status that the dialect may explain.
    pub explains_dfu_status: bool,
    /// Whether a reply is fetched by a request, so that it can be asked for once more.
    pub(crate) fetches_replies: fn(&RawCarrier) -> bool,
}
