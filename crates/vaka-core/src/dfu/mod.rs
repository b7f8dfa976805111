//! The device firmware upgrade class as values: states, statuses, the functional descriptor,
//! requests, and the next step from each state.
//!
//! Source: USB Device Firmware Upgrade, revision 1.1 ("DFU 1.1"), and the
//! published address extension (bcdDFUVersion 0x011A). Nothing here transfers
//! anything; `vaka-boot` does, and asks here what its next step is.

mod descriptor;
mod request;
mod state;
mod status;

pub use descriptor::{Attributes, DESCRIPTOR_TYPE, FunctionalDescriptor, VERSION_ADDRESSED};
pub use request::{Command, FIRST_DATA_BLOCK, Request};
pub use state::{State, ToIdle, next_step_to_idle};
pub use status::{Status, StatusReply};

/// Interface class of DFU: application specific. Source: DFU 1.1, section 4.1.
pub const CLASS: u8 = 0xFE;
/// Interface subclass of DFU. Source: as above.
pub const SUBCLASS: u8 = 0x01;
/// Interface protocol in the application. Source: as above.
pub const PROTOCOL_RUN_TIME: u8 = 0x01;
/// Interface protocol in DFU mode. Source: DFU 1.1, section 4.2.3.
pub const PROTOCOL_DFU_MODE: u8 = 0x02;
