//! The reply to DFU_GETSTATUS, and the meaning of its status codes.

use std::fmt;
use std::time::Duration;

use super::state::State;

/// bStatus. Source: DFU 1.1, section 6.1.2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // named as in the standard; Display says what each means
pub enum Status {
    Ok,
    Target,
    File,
    Write,
    Erase,
    CheckErased,
    Program,
    Verify,
    Address,
    NotDone,
    Firmware,
    Vendor,
    UsbReset,
    PowerOnReset,
    UnknownError,
    StalledPacket,
    Unknown(u8),
}

impl Status {
    /// The number on the wire, bStatus.
    pub fn number(self) -> u8 {
        match self {
            Self::Ok => 0x00,
            Self::Target => 0x01,
            Self::File => 0x02,
            Self::Write => 0x03,
            Self::Erase => 0x04,
            Self::CheckErased => 0x05,
            Self::Program => 0x06,
            Self::Verify => 0x07,
            Self::Address => 0x08,
            Self::NotDone => 0x09,
            Self::Firmware => 0x0A,
            Self::Vendor => 0x0B,
            Self::UsbReset => 0x0C,
            Self::PowerOnReset => 0x0D,
            Self::UnknownError => 0x0E,
            Self::StalledPacket => 0x0F,
            Self::Unknown(value) => value,
        }
    }

    /// Decodes the status byte.
    pub fn from_wire(value: u8) -> Self {
        match value {
            0x00 => Self::Ok,
            0x01 => Self::Target,
            0x02 => Self::File,
            0x03 => Self::Write,
            0x04 => Self::Erase,
            0x05 => Self::CheckErased,
            0x06 => Self::Program,
            0x07 => Self::Verify,
            0x08 => Self::Address,
            0x09 => Self::NotDone,
            0x0A => Self::Firmware,
            0x0B => Self::Vendor,
            0x0C => Self::UsbReset,
            0x0D => Self::PowerOnReset,
            0x0E => Self::UnknownError,
            0x0F => Self::StalledPacket,
            other => Self::Unknown(other),
        }
    }
}

impl fmt::Display for Status {
    /// The name in the standard and its meaning.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Ok => "OK",
            Self::Target => "errTARGET: the file is not for this unit",
            Self::File => "errFILE: the unit's own check of the image failed",
            Self::Write => "errWRITE: the memory cannot be written; is it write-protected?",
            Self::Erase => "errERASE: the erase failed",
            Self::CheckErased => "errCHECK_ERASED: the memory is not blank after the erase",
            Self::Program => "errPROG: programming failed",
            Self::Verify => "errVERIFY: the written content differs; the flash may be faulty",
            Self::Address => "errADDRESS: the address lies outside the unit's memory",
            Self::NotDone => "errNOTDONE: the download ended too early",
            Self::Firmware => "errFIRMWARE: the unit has no application that can run",
            Self::Vendor => "errVENDOR: a vendor-specific error; often read protection",
            Self::UsbReset => "errUSBR: the bus was reset in the middle of an operation",
            Self::PowerOnReset => "errPOR: the power failed in the middle of an operation",
            Self::UnknownError => "errUNKNOWN: an unknown error",
            Self::StalledPacket => "errSTALLEDPKT: the unit did not expect the request",
            Self::Unknown(value) => return write!(f, "unknown status 0x{value:02X}"),
        })
    }
}

/// The reply to DFU_GETSTATUS. Source: DFU 1.1, section 6.1.2.
///
/// ```text
/// bStatus 1 | bwPollTimeout 3, little-endian, ms | bState 1 | iString 1
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StatusReply {
    /// Result of the last request.
    pub status: Status,
    /// Least time before the next DFU_GETSTATUS.
    pub poll: Duration,
    /// The state that the unit is in from now on.
    pub state: State,
    /// Index of a string with the manufacturer's description of the status; 0 for none.
    pub string: u8,
}

impl StatusReply {
    /// Parses the six bytes; `None` for any other length.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let &[status, p0, p1, p2, state, string] = bytes else { return None };
        Some(Self {
            status: Status::from_wire(status),
            poll: Duration::from_millis(u64::from(u32::from_le_bytes([p0, p1, p2, 0]))),
            state: State::from_wire(state),
            string,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_reply_has_six_bytes() {
        let bytes = [0x08, 0x01, 0x02, 0x03, 10, 4];
        let reply = StatusReply::parse(&bytes).unwrap();
        assert_eq!(reply.status, Status::Address);
        assert_eq!(reply.poll, Duration::from_millis(0x03_0201));
        assert_eq!((reply.state, reply.string), (State::Error, 4));
        for len in 0..6 {
            assert_eq!(StatusReply::parse(&bytes[..len]), None);
        }
        assert_eq!(StatusReply::parse(&[0; 7]), None);
    }

    #[test]
    fn unknown_numbers_stay_visible() {
        let reply = StatusReply::parse(&[0x77, 0, 0, 0, 0x55, 0]).unwrap();
        assert_eq!(reply.status.to_string(), "unknown status 0x77");
        assert_eq!(reply.state.to_string(), "unknown state 85");
    }
}
