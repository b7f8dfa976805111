//! CAN frames. Source: ISO 11898-1.

use std::fmt;

/// Largest number of data bytes in a classic frame.
pub const MOST_CLASSIC: usize = 8;

/// Largest number of data bytes in an FD frame.
pub const MOST_FD: usize = 64;

/// The lengths that an FD frame can have above eight bytes. Source: ISO 11898-1:2015, table 5.
const FD_LENGTHS: [usize; 7] = [12, 16, 20, 24, 32, 48, 64];

/// An identifier.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum CanId {
    /// 11 bits.
    Standard(u16),
    /// 29 bits.
    Extended(u32),
}

impl CanId {
    /// The largest identifier of 11 bits, and of 29 bits.
    pub const MOST_STANDARD: u32 = 0x7FF;
    /// See above.
    pub const MOST_EXTENDED: u32 = 0x1FFF_FFFF;

    /// An identifier; `None` if it is too large.
    pub fn new(id: u32, is_extended: bool) -> Option<Self> {
        match is_extended {
            true => (id <= Self::MOST_EXTENDED).then_some(Self::Extended(id)),
            false => u16::try_from(id).ok().filter(|_| id <= Self::MOST_STANDARD).map(Self::Standard),
        }
    }

    /// The number.
    pub fn number(self) -> u32 {
        match self {
            Self::Standard(id) => id.into(),
            Self::Extended(id) => id,
        }
    }
}

impl fmt::Display for CanId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Standard(id) => write!(f, "0x{id:03X}"),
            Self::Extended(id) => write!(f, "0x{id:08X}"),
        }
    }
}

/// A data frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CanFrame {
    /// Identifier.
    pub id: CanId,
    /// At most 8 bytes, or 64 in an FD frame.
    pub data: Vec<u8>,
    /// Whether it is an FD frame, whose data goes at the second bit rate.
    pub is_fd: bool,
}

/// The smallest length of an FD frame that holds this many bytes.
pub fn fd_length(len: usize) -> usize {
    if len <= MOST_CLASSIC { len } else { FD_LENGTHS.into_iter().find(|fits| *fits >= len).unwrap_or(MOST_FD) }
}

/// The data length code of a frame with this many bytes. Source: ISO 11898-1:2015, table 5.
pub fn length_code(len: usize) -> u8 {
    let above = FD_LENGTHS.iter().position(|fits| *fits >= len).unwrap_or(FD_LENGTHS.len() - 1);
    u8::try_from(if len <= MOST_CLASSIC { len } else { MOST_CLASSIC + 1 + above }).unwrap_or(15)
}

/// The number of data bytes for a data length code; a classic frame has at most eight.
pub fn length_of_code(code: u8, is_fd: bool) -> usize {
    let code = usize::from(code & 0xF);
    match code.checked_sub(MOST_CLASSIC + 1).filter(|_| is_fd) {
        Some(above) => FD_LENGTHS[above],
        None => code.min(MOST_CLASSIC),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Source: ISO 11898-1:2015, table 5.
    #[test]
    fn lengths_have_their_codes() {
        for (len, code) in [(0, 0), (8, 8), (12, 9), (16, 10), (20, 11), (24, 12), (32, 13), (48, 14), (64, 15)] {
            assert_eq!((length_code(len), length_of_code(code, true)), (code, len));
        }
        assert_eq!((fd_length(9), fd_length(33), length_code(33)), (12, 48, 14));
        assert_eq!(length_of_code(15, false), 8);
    }

    #[test]
    fn identifiers_have_11_or_29_bits() {
        assert_eq!(CanId::new(0x7FF, false).unwrap().to_string(), "0x7FF");
        assert_eq!(CanId::new(0x18DA_F110, true).unwrap().to_string(), "0x18DAF110");
        assert_eq!((CanId::new(0x800, false), CanId::new(0x2000_0000, true)), (None, None));
    }
}
