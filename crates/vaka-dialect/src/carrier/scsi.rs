//! Vendor commands of a mass-storage interface.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::RawCarrier;

/// SCSI commands over the bulk-only transport.
#[derive(Clone, Debug)]
pub struct Scsi {
    /// bInterfaceNumber; the first mass-storage interface without it.
    pub interface: Option<u8>,
    /// The logical unit.
    pub lun: u8,
}

/// Largest length of a command block. Source: Bulk-Only Transport 1.0, section 5.1.
pub const MOST_COMMAND: usize = 16;

/// Largest number of a logical unit. Source: Bulk-Only Transport 1.0, section 5.1.
const MOST_LUN: u8 = 15;

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "scsi",
    description: "SCSI commands",
    template: include_str!("../templates/scsi.dialect.toml"),
    framing: Framing::Transfer,
    is_stream: false,
    has_line: false,
    has_requests: false,
    has_settings: false,
    pads_replies: false,
    explains_dfu_status: false,
    fetches_replies: |_| true,
};

impl Scsi {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        None
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, problems: &mut Vec<Problem>) -> Option<Scsi> {
    let given = raw.get_ref();
    if let Some(lun) = given.lun.as_ref().filter(|lun| *lun.get_ref() > MOST_LUN) {
        problems.push(Problem::new(lun.span().start, format!("a logical unit is 0 to {MOST_LUN}")));
    }
    Some(Scsi { interface: given.interface, lun: given.lun.as_ref().map_or(0, |lun| *lun.get_ref()) })
}
