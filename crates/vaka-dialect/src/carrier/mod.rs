//! The carriers that transport a dialect's frames: one module per carrier.
//!
//! A new carrier is a new file here with its settings and its [`CarrierKind`], its line in
//! `carriers!`, and its keys in `raw.rs`.

mod can;
mod control;
mod dfu;
mod hid;
mod kind;
mod pipes;
mod scsi;
mod serial;

pub use can::{Can, IsoTp};
pub use control::Control;
pub use dfu::Dfu;
pub use hid::{Hid, Report};
pub use kind::CarrierKind;
pub use pipes::Pipes;
pub(crate) use pipes::{PIPE_IN, PIPE_OUT};
pub use scsi::{MOST_COMMAND, Scsi};
pub use serial::{LineSetting, Serial};

use toml::Spanned;

use crate::lexer::Problem;
use crate::raw::RawCarrier;

/// Generates the enum of all carriers, their table and the dispatch to their modules.
macro_rules! carriers {
    ($($(#[$doc:meta])* $carrier:ident in $module:ident,)*) => {
        /// A carrier with its settings.
        #[derive(Clone, Debug)]
        pub enum Carrier {
            $($(#[$doc])* $carrier($carrier),)*
        }

        /// Every kind of carrier, in the order of the documentation.
        pub static KINDS: &[&CarrierKind] = &[$(&$module::KIND),*];

        impl Carrier {
            /// The kind of the carrier.
            pub fn kind(&self) -> &'static CarrierKind {
                match self {
                    $(Self::$carrier(_) => &$module::KIND,)*
                }
            }

            /// The maximum size of a frame, and the object that limits it.
            pub(crate) fn frame_limit(&self) -> Option<(usize, &'static str)> {
                match self {
                    $(Self::$carrier(settings) => settings.frame_limit(),)*
                }
            }

            /// Reads and checks the settings; problems are added to `problems`.
            pub(crate) fn check(raw: &Spanned<RawCarrier>, problems: &mut Vec<Problem>) -> Option<Self> {
                let kind = kind_of(raw.get_ref())?.name;
                $(if kind == $module::KIND.name {
                    return $module::check(raw, problems).map(Self::$carrier);
                })*
                None
            }
        }
    };
}

carriers! {
    /// Control transfers on endpoint 0.
    Control in control,
    /// HID reports.
    Hid in hid,
    /// Bulk or interrupt pipes.
    Pipes in pipes,
    /// A serial port by the CDC-ACM class.
    Serial in serial,
    /// DFU requests that carry frames.
    Dfu in dfu,
    /// Frames of a CAN bus.
    Can in can,
    /// SCSI commands of a mass-storage interface.
    Scsi in scsi,
}

impl Carrier {
    /// Whether replies are padded, so that extra bytes after a reply are ignored.
    pub(crate) fn pads_replies(&self) -> bool {
        let is_padded_frame = matches!(self, Self::Can(can) if can.iso_tp.is_none() && can.padding.is_some());
        is_padded_frame || self.kind().pads_replies
    }
}

/// The kind with the name that a dialect gives, if it exists.
pub(crate) fn kind_of(raw: &RawCarrier) -> Option<&'static CarrierKind> {
    KINDS.iter().copied().find(|kind| kind.name == raw.kind.get_ref())
}
