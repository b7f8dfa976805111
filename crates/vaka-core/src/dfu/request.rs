//! Requests on the control endpoint, and the address extension's commands.

use vaka_image::address::Address;

/// A class request to the DFU interface. Source: DFU 1.1, table 3.2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Request {
    /// DFU_DETACH.
    Detach = 0,
    /// DFU_DNLOAD: a block to the unit.
    Download = 1,
    /// DFU_UPLOAD: a block from the unit.
    Upload = 2,
    /// DFU_GETSTATUS; starts the operation that the last download requested.
    GetStatus = 3,
    /// DFU_CLRSTATUS.
    ClearStatus = 4,
    /// DFU_GETSTATE; never changes the state.
    GetState = 5,
    /// DFU_ABORT.
    Abort = 6,
}

/// Block number of the first data block under the address extension; block 0
/// carries commands and block 1 is reserved.
pub const FIRST_DATA_BLOCK: u16 = 2;

/// A command of the address extension: the data of a download of block 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Command {
    /// Sets the address of data block 2.
    SetAddress(Address),
    /// Erases the sector that contains the address.
    Erase(Address),
    /// Erase all that the alternate setting maps.
    EraseAll,
    /// Lift the read protection, which erases the whole part.
    Unprotect,
}

impl Command {
    /// Encodes the command: a code, then the address in 4 bytes, little-endian, if the command
    /// has one. Returns `None` if the address exceeds 32 bits.
    pub fn emit(self) -> Option<Vec<u8>> {
        let (code, address) = match self {
            Self::SetAddress(address) => (0x21, Some(address)),
            Self::Erase(address) => (0x41, Some(address)),
            Self::EraseAll => (0x41, None),
            Self::Unprotect => (0x92, None),
        };
        let mut bytes = vec![code];
        if let Some(address) = address {
            bytes.extend(address.to_u32()?.to_le_bytes());
        }
        Some(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_carry_little_endian_addresses() {
        let at = Address::new(0x0A00_2400);
        assert_eq!(Command::SetAddress(at).emit(), Some(vec![0x21, 0x00, 0x24, 0x00, 0x0A]));
        assert_eq!(Command::Erase(at).emit(), Some(vec![0x41, 0x00, 0x24, 0x00, 0x0A]));
        assert_eq!(Command::Erase(Address::new(1 << 32)).emit(), None);
        assert_eq!(Command::EraseAll.emit(), Some(vec![0x41]));
        assert_eq!(Command::Unprotect.emit(), Some(vec![0x92]));
    }
}
