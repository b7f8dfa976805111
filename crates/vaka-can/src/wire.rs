//! The protocol of adapters that the Linux kernel's driver `gs_usb` knows: requests and the frames in
//! transfers.
//!
//! Source: the constants and structures of Linux 6.1, `drivers/net/can/usb/gs_usb.c`, and
//! `include/uapi/linux/can.h` and `can/error.h`. All numbers are little-endian.

use crate::frame::{CanFrame, CanId, length_code, length_of_code};

/// Vendor requests to the interface; wValue is the channel, wIndex the interface.
pub mod request {
    /// The byte order of the host.
    pub const HOST_FORMAT: u8 = 0;
    /// The timing of bits.
    pub const BIT_TIMING: u8 = 1;
    /// Start or stop of a channel.
    pub const MODE: u8 = 2;
    /// Limits of the timing of bits, and features.
    pub const TIMING_LIMITS: u8 = 4;
    /// Number of channels, and versions.
    pub const DEVICE_CONFIG: u8 = 5;
    /// The timing of bits in the data of FD frames.
    pub const DATA_BIT_TIMING: u8 = 10;
    /// Limits of both timings.
    pub const LIMITS_EXTENDED: u8 = 11;
}

/// bmRequestType of a vendor request to an interface, from the host and to it.
pub const VENDOR_OUT: u8 = 0x41;
/// See above.
pub const VENDOR_IN: u8 = 0xC1;

/// The number that tells the byte order.
pub const BYTE_ORDER: u32 = 0x0000_BEEF;

/// Bits of the features of a channel.
pub mod feature {
    /// FD frames.
    pub const FD: u32 = 1 << 8;
    /// The limits of both timings can be read.
    pub const EXTENDED_LIMITS: u32 = 1 << 10;
}

/// Modes of a channel, and the flag for FD frames.
pub mod mode {
    /// Stopped.
    pub const STOP: u32 = 0;
    /// Started.
    pub const START: u32 = 1;
    /// Flag: with FD frames.
    pub const FD: u32 = 1 << 8;
}

/// Flags of a frame.
mod flag {
    pub(super) const OVERFLOW: u8 = 1;
    pub(super) const FD: u8 = 1 << 1;
    pub(super) const SWITCHED: u8 = 1 << 2;
}

/// Bits of an identifier. Source: `linux/can.h`.
mod id {
    pub(super) const EXTENDED: u32 = 1 << 31;
    pub(super) const REMOTE: u32 = 1 << 30;
    pub(super) const ERROR: u32 = 1 << 29;
}

/// The identifier of a frame that was received; others are those of frames that were sent.
const RECEIVED: u32 = u32::MAX;

/// Bytes before the data of a frame.
const HEAD: usize = 12;

/// Bytes of a transfer with a classic frame, and with an FD frame.
pub const CLASSIC_SIZE: usize = HEAD + 8;
/// See above.
pub const FD_SIZE: usize = HEAD + 64;

/// A cause of disturbed frames. Source: `linux/can/error.h`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct BusErrors {
    /// No acknowledge bit was received.
    pub not_acknowledged: bool,
    /// Bits, stuffing or the form of frames were wrong.
    pub is_disturbed: bool,
    /// A controller reached its limit of errors.
    pub is_passive: bool,
    /// The controller is off the bus.
    pub is_off: bool,
    /// Received frames were lost.
    pub is_overrun: bool,
}

/// The content of a transfer from the adapter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FromAdapter {
    /// A frame was received.
    Received(CanFrame),
    /// The frame that was sent with this number is on the bus, and was acknowledged.
    Sent(u32),
    /// An error of the bus.
    Errors(BusErrors),
    /// A frame without data that this program does not use: a remote frame.
    Other,
}

/// The transfer that sends a frame on a channel with a number; with data of full size, as some adapters
/// require.
pub fn sending(frame: &CanFrame, number: u32, channel: u8) -> Vec<u8> {
    let id = match frame.id {
        CanId::Standard(id) => u32::from(id),
        CanId::Extended(id) => id | id::EXTENDED,
    };
    let flags = if frame.is_fd { flag::FD | flag::SWITCHED } else { 0 };
    let mut bytes = [number.to_le_bytes(), id.to_le_bytes()].concat();
    bytes.extend([length_code(frame.data.len()), channel, flags, 0]);
    bytes.extend(&frame.data);
    bytes.resize(if frame.is_fd { FD_SIZE } else { CLASSIC_SIZE }, 0);
    bytes
}

/// The content of a transfer from the adapter on a channel, and whether it lost frames before; `None` if
/// it is too short.
pub fn receiving(bytes: &[u8]) -> Option<(FromAdapter, bool)> {
    let word = |at: usize| Some(u32::from_le_bytes(*bytes.get(at..at + 4)?.first_chunk()?));
    let (number, raw) = (word(0)?, word(4)?);
    let &[code, _, flags, _] = bytes.get(8..HEAD)? else { return None };
    let lost = flags & flag::OVERFLOW != 0;
    if number != RECEIVED {
        return Some((FromAdapter::Sent(number), lost));
    }
    let is_fd = flags & flag::FD != 0;
    if raw & id::REMOTE != 0 {
        return Some((FromAdapter::Other, lost));
    }
    let data = bytes.get(HEAD..HEAD + length_of_code(code, is_fd))?;
    if raw & id::ERROR != 0 {
        return Some((FromAdapter::Errors(errors(raw, data)), lost));
    }
    let id = CanId::new(raw & CanId::MOST_EXTENDED, raw & id::EXTENDED != 0)?;
    Some((FromAdapter::Received(CanFrame { id, data: data.to_vec(), is_fd }), lost))
}

/// The transfer that reports a received frame.
pub fn received(frame: &CanFrame) -> Vec<u8> {
    sending(frame, RECEIVED, 0)
}

/// The transfer that reports that a frame with this number was sent.
pub fn sent(frame: &CanFrame, number: u32) -> Vec<u8> {
    sending(frame, number, 0)
}

/// The transfer that reports an error, by the identifier and the data of the kernel's error frame.
pub fn failed(class: u32, data: [u8; 8]) -> Vec<u8> {
    let mut bytes = [RECEIVED.to_le_bytes(), (class | id::ERROR).to_le_bytes()].concat();
    bytes.extend([8, 0, 0, 0]);
    bytes.extend(data);
    bytes
}

/// The errors in an error frame: its classes are in the identifier, details in the data.
/// Source: `linux/can/error.h`.
fn errors(class: u32, data: &[u8]) -> BusErrors {
    const CONTROLLER: u32 = 1 << 2;
    const PROTOCOL: u32 = 1 << 3;
    const NO_ACKNOWLEDGE: u32 = 1 << 5;
    const OFF: u32 = 1 << 6;
    const RECEIVE_OVERFLOW: u8 = 1;
    const PASSIVE: u8 = 0x30;
    const AT_ACKNOWLEDGE: u8 = 0x19;
    let at = |index: usize| data.get(index).copied().unwrap_or(0);
    let is_at_acknowledge = class & PROTOCOL != 0 && at(3) == AT_ACKNOWLEDGE;
    BusErrors {
        not_acknowledged: class & NO_ACKNOWLEDGE != 0 || is_at_acknowledge,
        is_disturbed: class & PROTOCOL != 0 && !is_at_acknowledge,
        is_passive: class & CONTROLLER != 0 && at(1) & PASSIVE != 0,
        is_off: class & OFF != 0,
        is_overrun: class & CONTROLLER != 0 && at(1) & RECEIVE_OVERFLOW != 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Written by hand after the kernel's structure `gs_host_frame`.
    #[test]
    fn frames_are_laid_out_as_in_the_kernel() {
        let frame = CanFrame { id: CanId::Extended(0x18DA_F110), data: vec![1, 2, 3], is_fd: false };
        let bytes = sending(&frame, 5, 0);
        assert_eq!(bytes, [5, 0, 0, 0, 0x10, 0xF1, 0xDA, 0x98, 3, 0, 0, 0, 1, 2, 3, 0, 0, 0, 0, 0]);
        assert_eq!(receiving(&bytes).unwrap(), (FromAdapter::Sent(5), false));
        assert_eq!(receiving(&received(&frame)).unwrap(), (FromAdapter::Received(frame), false));
        let long = CanFrame { id: CanId::Standard(0x123), data: vec![7; 12], is_fd: true };
        assert_eq!((sending(&long, 0, 1).len(), &sending(&long, 0, 1)[8..11]), (76, &[9, 1, 6][..]));
        assert_eq!(receiving(&received(&long)).unwrap().0, FromAdapter::Received(long));
    }

    #[test]
    fn errors_and_short_transfers_are_told_apart() {
        let errors = |class, data| match receiving(&failed(class, data)).unwrap().0 {
            FromAdapter::Errors(errors) => errors,
            other => panic!("{other:?}"),
        };
        assert!(errors(0x20, [0; 8]).not_acknowledged);
        assert!(errors(0x08, [0, 0, 0, 0x19, 0, 0, 0, 0]).not_acknowledged);
        assert!(errors(0x88, [0, 0, 4, 0, 0, 0, 0, 0]).is_disturbed);
        assert!(errors(0x40, [0; 8]).is_off);
        assert!(errors(0x04, [0, 0x20, 0, 0, 0, 0, 0, 0]).is_passive);
        assert!(errors(0x04, [0, 1, 0, 0, 0, 0, 0, 0]).is_overrun);
        let frame = received(&CanFrame { id: CanId::Standard(1), data: vec![1, 2], is_fd: false });
        for len in 0..14 {
            assert_eq!(receiving(&frame[..len]), None, "{len}");
        }
        let mut lost = frame;
        lost[10] |= 1;
        assert!(receiving(&lost).unwrap().1);
    }
}
