//! An open device and its transfers.

use std::path::Path;
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

/// Why a transfer failed.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum TransferError {
    /// The device refused it. On endpoint 0 that answers this request only; a
    /// bulk or interrupt endpoint is halted until cleared.
    #[error("the unit rejected the request (stall)")]
    Stall,
    /// No reply within the time limit. The effect on the device is not known.
    #[error("no reply within the time limit")]
    Timeout,
    /// The device is not on the bus any more.
    #[error("the unit disconnected")]
    Disconnected,
    /// The device sent more than was asked for.
    #[error("the unit sent more data than requested")]
    Overflow,
    /// The bus or the way to it failed; often the first sign of an unplug.
    #[error("the transfer failed: {0}")]
    Failed(String),
    /// Another program or a system driver uses the interface.
    #[error("another program uses the interface{0}")]
    Busy(String),
    /// This transfer cannot be expressed on this backend.
    #[error("the transfer is not possible: {0}")]
    Unsupported(&'static str),
}

/// The transfer type of an endpoint. Source: USB 2.0, table 9-13.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the standard's names
pub enum PipeKind {
    Bulk,
    Interrupt,
}

/// A bulk or interrupt endpoint of a claimed interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EndpointInfo {
    /// bEndpointAddress; bit 7 is the direction, 1 is IN.
    pub address: u8,
    /// Bulk or interrupt.
    pub kind: PipeKind,
    /// bInterval; of interrupt endpoints only.
    pub interval: u8,
    /// wMaxPacketSize, without the bits above it; at least 1.
    pub packet: u16,
}

impl EndpointInfo {
    /// Whether data flows to the host.
    pub fn is_in(self) -> bool {
        self.address & 0x80 != 0
    }
}

/// Maximum size of one endpoint transfer. Chosen by us: every backend supports it in one piece.
pub const MAX_PIPE_TRANSFER: usize = 64 * 1024;

/// Default error for devices without bulk or interrupt endpoints.
const NO_PIPES: &str = "the device has no such endpoint";

/// An open device. Dropping it closes the device and restores the system's drivers.
pub trait UsbDevice: Send {
    /// A control transfer to the host. Returns the data sent by the device: at most `length`
    /// bytes; fewer is not an error.
    ///
    /// # Errors
    /// [`TransferError`]; after a time-out the device may still be busy.
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError>;

    /// A control transfer to the device. `data` is at most 65535 bytes.
    ///
    /// # Errors
    /// [`TransferError`]; how much data the device accepted is not known.
    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError>;

    /// Claims an interface for this program and selects an alternate setting.
    ///
    /// # Errors
    /// The device is detached, has no such setting, or is in use.
    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError>;

    /// Reads from a bulk or interrupt endpoint of a claimed interface until `length` bytes or a
    /// short packet have arrived. `length` is a multiple of the packet size and at most
    /// [`MAX_PIPE_TRANSFER`].
    ///
    /// # Errors
    /// [`TransferError`]; data before a time-out is lost, so the device's protocol must
    /// resynchronize. After a stall the endpoint is halted.
    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        let _ = (pipe, length, timeout);
        Err(TransferError::Unsupported(NO_PIPES))
    }

    /// Writes to a bulk or interrupt endpoint of a claimed interface; at most
    /// [`MAX_PIPE_TRANSFER`] bytes. Adds no zero-length packet.
    ///
    /// # Errors
    /// As for [`read_endpoint`](Self::read_endpoint); how much was accepted is not known.
    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let _ = (pipe, data, timeout);
        Err(TransferError::Unsupported(NO_PIPES))
    }

    /// Ends the halt of an endpoint, and sets both sides' data toggle back.
    ///
    /// # Errors
    /// The device is gone, or refuses.
    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        let _ = pipe;
        Err(TransferError::Unsupported(NO_PIPES))
    }

    /// Whether transfers are recorded with their purpose.
    fn takes_notes(&self) -> bool {
        false
    }

    /// Records the purpose of the next transfers: an operation of a dialect, and its arguments.
    fn note(&mut self, dialect: &str, operation: &str, given: &[(String, String)]) {
        let _ = (dialect, operation, given);
    }

    /// From now on a record of the traffic has only the sizes of what is transferred, or again its
    /// content.
    fn conceal(&mut self, is_secret: bool) {
        let _ = is_secret;
    }

    /// The serial port of the system through which the device is reached, if it is.
    fn node(&self) -> Option<&Path> {
        None
    }

    /// Waits for the device to leave the bus, at most `within`; returns whether it did.
    fn wait_for_disconnect(&mut self, within: Duration) -> bool;

    /// Resets the port of the device. If the device returns with other descriptors, all later
    /// transfers fail with [`TransferError::Disconnected`].
    ///
    /// # Errors
    /// The port cannot be reset.
    fn reset(&mut self) -> Result<(), TransferError>;
}
