//! The properties of a kind of carrier.

use crate::framing::Framing;
use crate::raw::RawCarrier;

/// The properties that all dialects over one carrier share.
pub struct CarrierKind {
    /// Name in `[carrier] kind`.
    pub name: &'static str,
    /// Description for lists and help.
    pub description: &'static str,
    /// A dialect to begin with, with comments.
    pub template: &'static str,
    /// Framing without `[framing]`.
    pub(crate) framing: Framing,
    /// Whether it carries a byte stream, so that `[framing]` applies.
    pub(crate) is_stream: bool,
    /// Whether it has a serial line that steps can configure.
    pub(crate) has_line: bool,
    /// Whether exchanges name their control requests with `out` and `in`.
    pub(crate) has_requests: bool,
    /// Whether a dialect may select an alternate setting of the interface.
    pub(crate) has_settings: bool,
    /// Whether replies are padded, so that extra bytes after a reply are ignored.
    pub(crate) pads_replies: bool,
    /// Whether a rejection includes a DFU status that the dialect can explain.
    pub explains_dfu_status: bool,
    /// Whether a request fetches the reply, so that the reply can be fetched again.
    pub(crate) fetches_replies: fn(&RawCarrier) -> bool,
}
