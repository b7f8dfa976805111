//! One open device, and its transfers.

use std::time::Duration;

use thiserror::Error;

/// The setup packet of a control transfer, without wLength: that is the
/// length of the data. Source: USB 2.0, section 9.3.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Setup {
    /// bmRequestType; bit 7 is the direction, 1 is IN.
    #[doc(alias = "bmRequestType")]
    pub kind: u8,
    /// bRequest.
    #[doc(alias = "bRequest")]
    pub request: u8,
    /// wValue.
    #[doc(alias = "wValue")]
    pub value: u16,
    /// wIndex.
    #[doc(alias = "wIndex")]
    pub index: u16,
}

impl Setup {
    /// bmRequestType of a class request to an interface, host to device.
    pub const CLASS_INTERFACE_OUT: u8 = 0x21;
    /// bmRequestType of a class request to an interface, device to host.
    pub const CLASS_INTERFACE_IN: u8 = 0xA1;

    /// GET_DESCRIPTOR from the device. Source: USB 2.0, section 9.4.3.
    pub const fn get_descriptor(kind: u8, index: u8, language: u16) -> Self {
        Self { kind: 0x80, request: 6, value: (kind as u16) << 8 | index as u16, index: language }
    }

    /// The eight bytes on the bus.
    pub fn bytes(self, length: u16) -> [u8; 8] {
        let [v0, v1] = self.value.to_le_bytes();
        let [i0, i1] = self.index.to_le_bytes();
        let [l0, l1] = length.to_le_bytes();
        [self.kind, self.request, v0, v1, i0, i1, l0, l1]
    }
}

/// Why a transfer did not end well.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum TransferError {
    /// The device refused it. On endpoint 0 that answers this request only; a
    /// bulk or interrupt endpoint is halted until cleared.
    #[error("the unit refused the request (stall)")]
    Stall,
    /// No end within the time limit. What the device did of it is not known.
    #[error("no answer within the time limit")]
    Timeout,
    /// The device is not on the bus any more.
    #[error("the unit left the bus")]
    Gone,
    /// The device sent more than was asked for.
    #[error("the unit sent more than was asked for")]
    TooMuch,
    /// The bus or the way to it failed; often the first sign of an unplug.
    #[error("the transfer failed: {0}")]
    Failed(String),
    /// This transfer cannot be expressed on this backend.
    #[error("the transfer cannot be made: {0}")]
    Impossible(&'static str),
}

/// An open device. Dropping it gives it back.
pub trait UsbDevice: Send {
    /// A control transfer to the host. Returns what the device sent: at most
    /// `length` bytes; fewer is no error.
    ///
    /// # Errors
    /// [`TransferError`]; after a time-out the device may still be at work.
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError>;

    /// A control transfer to the device. `data` is at most 65535 bytes.
    ///
    /// # Errors
    /// [`TransferError`]; how much of the data the device took is not known.
    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError>;

    /// Takes an interface for this program, with an alternate setting.
    ///
    /// # Errors
    /// The device is gone, or has no such setting.
    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError>;

    /// Resets the port that the device is plugged into. A device that comes
    /// back as something else is [`TransferError::Gone`] from then on.
    ///
    /// # Errors
    /// The port cannot be reset.
    fn reset(&mut self) -> Result<(), TransferError>;
}
