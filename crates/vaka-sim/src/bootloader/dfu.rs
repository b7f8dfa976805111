//! The common part of both kinds of DFU on the device side: numbers, and deviations of units from
//! the standard.

use std::time::Duration;

use crate::usb::Answer;

/// States by their numbers in the standard (DFU 1.1, section 6.1.2).
pub mod state {
    #![allow(missing_docs)] // the standard's names
    pub const APP_IDLE: u8 = 0;
    pub const APP_DETACH: u8 = 1;
    pub const IDLE: u8 = 2;
    pub const DOWNLOAD_SYNC: u8 = 3;
    pub const BUSY: u8 = 4;
    pub const DOWNLOAD_IDLE: u8 = 5;
    pub const MANIFEST_SYNC: u8 = 6;
    pub const MANIFEST: u8 = 7;
    pub const WAIT_RESET: u8 = 8;
    pub const UPLOAD_IDLE: u8 = 9;
    pub const ERROR: u8 = 10;
}

/// Status codes by their numbers in the standard (as above).
pub mod status {
    #![allow(missing_docs)] // the standard's names
    pub const OK: u8 = 0x00;
    pub const FILE: u8 = 0x02;
    pub const ADDRESS: u8 = 0x08;
    pub const NOT_DONE: u8 = 0x09;
    pub const FIRMWARE: u8 = 0x0A;
    pub const VENDOR: u8 = 0x0B;
    pub const USB_RESET: u8 = 0x0C;
    pub const STALLED_PACKET: u8 = 0x0F;
}

/// Class, subclass and protocol of DFU mode.
pub const CLASS: [u8; 3] = [0xFE, 1, 2];
/// Class, subclass and protocol of the run-time interface.
pub const RUN_TIME_CLASS: [u8; 3] = [0xFE, 1, 1];

/// Between "I go" and being gone.
pub const LEAVE_TIME: Duration = Duration::from_millis(20);

/// The poll timeout that a unit states.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Poll {
    /// A tenth more than the actual time.
    #[default]
    Accurate,
    /// Zero although it is busy. Such a unit tolerates polling.
    Zero,
    /// Four and a half hours, always.
    Excessive,
}

/// When the download replaces the application.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Staging {
    /// With each block.
    #[default]
    None,
    /// During manifestation; until then the old application is intact.
    UntilManifest,
    /// At the bus reset after manifestation; an upload before that returns the old application.
    UntilReset,
}

/// Deviations of a unit from the standard. The default has none.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Quirks {
    /// The poll timeout that it states.
    pub poll: Poll,
    /// It has no functional descriptor.
    pub no_functional_descriptor: bool,
    /// The wTransferSize that it states, regardless of what it accepts.
    pub advertised_block_size: Option<u16>,
    /// The largest block that it accepts.
    pub max_block_size: Option<u16>,
    /// It disconnects before it has replied to the last request.
    pub drops_last_reply: bool,
    /// It states bitWillDetach, but does not detach.
    pub ignores_detach: bool,
    /// Where plain DFU stores blocks until they take effect.
    pub staging: Staging,
}

impl Quirks {
    /// The bwPollTimeout in milliseconds for work of that time.
    pub fn poll_ms(&self, time: Duration) -> u32 {
        let promised = time * 11 / 10;
        match self.poll {
            Poll::Zero => 0,
            Poll::Excessive if !time.is_zero() => 0x00FF_FFFF,
            _ => u32::try_from(promised.as_micros().div_ceil(1000)).unwrap_or(u32::MAX),
        }
    }

    /// The functional descriptor that it shows.
    pub fn functional_descriptor(&self, attributes: u8, size: u16, version: u16) -> Vec<u8> {
        if self.no_functional_descriptor {
            return Vec::new();
        }
        let [s0, s1] = self.advertised_block_size.unwrap_or(size).to_le_bytes();
        let [v0, v1] = version.to_le_bytes();
        vec![9, 0x21, attributes, 0xE8, 0x03, s0, s1, v0, v1]
    }
}

/// The six bytes of a DFU_GETSTATUS reply.
pub fn status_reply(status: u8, poll_ms: u32, state: u8) -> Answer {
    let [p0, p1, p2, _] = poll_ms.to_le_bytes();
    Answer::Data(vec![status, p0, p1, p2, state, 0])
}
