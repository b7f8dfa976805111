//! USB/IP 1.1.1 as bytes.
//!
//! Source: the Linux kernel, `Documentation/usb/usbip_protocol.rst`, and the
//! structures of its tools where that table is off by one. All integers are
//! big-endian; the setup packet travels as it does on the bus. A connection
//! starts with an operation (list or import); after a good import it carries
//! only 48-byte headers with their payload.

/// The TCP port of USB/IP. Source: the IANA registry.
pub const DEFAULT_PORT: u16 = 3240;

/// Protocol version 1.1.1.
pub const VERSION: u16 = 0x0111;
/// Request of the device list.
pub const OP_REQ_DEVLIST: u16 = 0x8005;
/// Reply with the device list.
pub const OP_REP_DEVLIST: u16 = 0x0005;
/// Request to import a device.
pub const OP_REQ_IMPORT: u16 = 0x8003;
/// Reply to an import.
pub const OP_REP_IMPORT: u16 = 0x0003;

/// Length of an operation's header.
pub const OP_HEADER_LEN: usize = 8;
/// Length of a bus id in a request.
pub const BUSID_LEN: usize = 32;
/// Length of a device record.
pub const DEVICE_LEN: usize = 312;
/// Length of an interface record.
pub const INTERFACE_LEN: usize = 4;
/// Length of a header in the transfer phase.
pub const HEADER_LEN: usize = 48;

/// The header of an operation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OpHeader {
    /// [`VERSION`].
    pub version: u16,
    /// One of the `OP_` codes.
    pub code: u16,
    /// 0 is good; 0 in requests.
    pub status: u32,
}

impl OpHeader {
    /// A header of our version.
    pub fn new(code: u16, status: u32) -> Self {
        Self { version: VERSION, code, status }
    }

    /// Parses it.
    pub fn parse(bytes: &[u8; OP_HEADER_LEN]) -> Self {
        Self {
            version: u16::from_be_bytes([bytes[0], bytes[1]]),
            code: u16::from_be_bytes([bytes[2], bytes[3]]),
            status: word(bytes, 4),
        }
    }

    /// Encodes the header.
    pub fn emit(self) -> [u8; OP_HEADER_LEN] {
        let mut bytes = [0; OP_HEADER_LEN];
        bytes[..2].copy_from_slice(&self.version.to_be_bytes());
        bytes[2..4].copy_from_slice(&self.code.to_be_bytes());
        bytes[4..].copy_from_slice(&self.status.to_be_bytes());
        bytes
    }
}

/// A device record, without its interfaces.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the protocol's names
pub struct DeviceRecord {
    /// Path on the server; only for show.
    pub path: String,
    /// Bus id: names the port.
    pub busid: String,
    pub busnum: u32,
    pub devnum: u32,
    /// 1 low, 2 full, 3 high, 5 super, 6 super-plus.
    pub speed: u32,
    pub vendor: u16,
    pub product: u16,
    pub release: u16,
    pub class: [u8; 3],
    pub configuration: u8,
    pub configurations: u8,
    pub interfaces: u8,
}

const BUSID_AT: usize = 256;
const NUMBERS_AT: usize = BUSID_AT + BUSID_LEN;

impl DeviceRecord {
    /// Parses it. Texts end at the first zero byte.
    pub fn parse(bytes: &[u8; DEVICE_LEN]) -> Self {
        let text = |from: usize, len: usize| {
            let field = &bytes[from..from + len];
            let end = field.iter().position(|byte| *byte == 0).unwrap_or(len);
            String::from_utf8_lossy(&field[..end]).into_owned()
        };
        let half = |at: usize| u16::from_be_bytes([bytes[at], bytes[at + 1]]);
        let at = NUMBERS_AT;
        Self {
            path: text(0, BUSID_AT),
            busid: text(BUSID_AT, BUSID_LEN),
            busnum: word(bytes, at),
            devnum: word(bytes, at + 4),
            speed: word(bytes, at + 8),
            vendor: half(at + 12),
            product: half(at + 14),
            release: half(at + 16),
            class: [bytes[at + 18], bytes[at + 19], bytes[at + 20]],
            configuration: bytes[at + 21],
            configurations: bytes[at + 22],
            interfaces: bytes[at + 23],
        }
    }

    /// Encodes the record. Texts that are too long are truncated; the last byte stays zero.
    pub fn emit(&self) -> [u8; DEVICE_LEN] {
        let mut bytes = [0; DEVICE_LEN];
        put_text(&mut bytes[..BUSID_AT], &self.path);
        put_text(&mut bytes[BUSID_AT..NUMBERS_AT], &self.busid);
        let at = NUMBERS_AT;
        bytes[at..at + 4].copy_from_slice(&self.busnum.to_be_bytes());
        bytes[at + 4..at + 8].copy_from_slice(&self.devnum.to_be_bytes());
        bytes[at + 8..at + 12].copy_from_slice(&self.speed.to_be_bytes());
        bytes[at + 12..at + 14].copy_from_slice(&self.vendor.to_be_bytes());
        bytes[at + 14..at + 16].copy_from_slice(&self.product.to_be_bytes());
        bytes[at + 16..at + 18].copy_from_slice(&self.release.to_be_bytes());
        bytes[at + 18..at + 21].copy_from_slice(&self.class);
        bytes[at + 21..].copy_from_slice(&[self.configuration, self.configurations, self.interfaces]);
        bytes
    }

    /// The number of this device in transfer headers.
    pub fn devid(&self) -> u32 {
        self.busnum << 16 | self.devnum & 0xFFFF
    }
}

/// A bus id as an import request carries it; `None` if it is too long.
pub fn emit_busid(busid: &str) -> Option<[u8; BUSID_LEN]> {
    let mut bytes = [0; BUSID_LEN];
    (busid.len() < BUSID_LEN && !busid.is_empty()).then(|| put_text(&mut bytes, busid))?;
    Some(bytes)
}

/// A bus id from an import request.
pub fn parse_busid(bytes: &[u8; BUSID_LEN]) -> String {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(BUSID_LEN);
    String::from_utf8_lossy(&bytes[..end]).into_owned()
}

fn put_text(field: &mut [u8], text: &str) {
    let len = text.len().min(field.len() - 1);
    field[..len].copy_from_slice(&text.as_bytes()[..len]);
}

/// transfer_flags: the transfer is IN. Source: `uapi/linux/usbip.h`.
pub const FLAG_DIR_IN: u32 = 0x200;

/// Maximum size of one transfer. Chosen by us: the kernel's server allocates the requested size,
/// and a device is unusable after an allocation failure.
pub const MAX_TRANSFER: u32 = 64 * 1024;

/// A message of the transfer phase.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Message {
    /// One transfer.
    Submit {
        /// Device number.
        devid: u32,
        /// Whether data flows to the client.
        is_in: bool,
        /// Endpoint number without the direction.
        endpoint: u32,
        /// FLAG_ bits.
        flags: u32,
        /// Number of bytes to send, or maximum size of the reply.
        length: u32,
        /// For interrupt transfers, at least 1: milliseconds, or microframes from high speed on.
        interval: u32,
        /// Setup packet of control transfers.
        setup: [u8; 8],
    },
    /// Cancels the transfer with that number.
    Unlink {
        /// Device number.
        devid: u32,
        /// Number of the transfer to cancel.
        target: u32,
    },
    /// Result of a transfer.
    Submitted {
        /// 0 or a negative errno.
        status: i32,
        /// Bytes moved.
        length: u32,
    },
    /// Result of a cancellation.
    Unlinked {
        /// -104 if it was cancelled, 0 if it had ended.
        status: i32,
    },
}

const CMD_SUBMIT: u32 = 1;
const CMD_UNLINK: u32 = 2;
const RET_SUBMIT: u32 = 3;
const RET_UNLINK: u32 = 4;

impl Message {
    /// The header with this message and number. Payload follows it.
    pub fn emit(self, seqnum: u32) -> [u8; HEADER_LEN] {
        let mut bytes = [0; HEADER_LEN];
        let mut put = |at: usize, value: u32| bytes[at..at + 4].copy_from_slice(&value.to_be_bytes());
        put(4, seqnum);
        match self {
            Self::Submit { devid, is_in, endpoint, flags, length, interval, setup } => {
                put(0, CMD_SUBMIT);
                put(8, devid);
                put(12, u32::from(is_in));
                put(16, endpoint);
                put(20, flags);
                put(24, length);
                put(36, interval);
                bytes[40..].copy_from_slice(&setup);
            }
            Self::Unlink { devid, target } => {
                put(0, CMD_UNLINK);
                put(8, devid);
                put(20, target);
            }
            Self::Submitted { status, length } => {
                put(0, RET_SUBMIT);
                put(20, status.cast_unsigned());
                put(24, length);
            }
            Self::Unlinked { status } => {
                put(0, RET_UNLINK);
                put(20, status.cast_unsigned());
            }
        }
        bytes
    }

    /// Parses a header: number and message; `None` for an unknown command. Unused fields are
    /// ignored.
    pub fn parse(bytes: &[u8; HEADER_LEN]) -> Option<(u32, Self)> {
        let at = |offset: usize| word(bytes, offset);
        let message = match at(0) {
            CMD_SUBMIT => {
                let mut setup = [0; 8];
                setup.copy_from_slice(&bytes[40..]);
                Self::Submit {
                    devid: at(8),
                    is_in: at(12) == 1,
                    endpoint: at(16),
                    flags: at(20),
                    length: at(24),
                    interval: at(36),
                    setup,
                }
            }
            CMD_UNLINK => Self::Unlink { devid: at(8), target: at(20) },
            RET_SUBMIT => Self::Submitted { status: at(20).cast_signed(), length: at(24) },
            RET_UNLINK => Self::Unlinked { status: at(20).cast_signed() },
            _ => return None,
        };
        Some((at(4), message))
    }
}

fn word(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

/// Negative errno values that travel as status. Source: Linux, generic table.
pub mod status {
    /// ENODEV: the device is gone.
    pub const GONE: i32 = -19;
    /// EPIPE: stall.
    pub const STALL: i32 = -32;
    /// EOVERFLOW: the device sent more than was asked for.
    pub const TOO_MUCH: i32 = -75;
    /// ECONNRESET: cancelled.
    pub const CANCELLED: i32 = -104;
    /// ESHUTDOWN: device or controller is off.
    pub const SHUT_DOWN: i32 = -108;
}

/// The setup packet by which a client asks the kernel's server for a reset of
/// the device's port: SET_FEATURE(PORT_RESET) to a hub's port. Source: Linux,
/// `drivers/usb/usbip/stub_rx.c`.
pub const PORT_RESET: [u8; 8] = [0x23, 0x03, 4, 0, 0, 0, 0, 0];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_device_descriptor_request_is_laid_out_as_in_the_kernels_example() {
        let submit = Message::Submit {
            devid: 0x0001_0002,
            is_in: true,
            endpoint: 0,
            flags: FLAG_DIR_IN,
            length: 18,
            interval: 0,
            setup: [0x80, 6, 0, 1, 0, 0, 18, 0],
        };
        // Words as in the kernel's documentation, followed by the setup packet.
        let words = "00000001 00000001 00010002 00000001 00000000 00000200 00000012 00000000 00000000 00000000 \
                     8006000100001200";
        let hex: String = submit.emit(1).iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(hex, words.replace(' ', ""));
        assert_eq!(Message::parse(&submit.emit(1)), Some((1, submit)));
    }

    #[test]
    fn every_message_reads_back_and_unknown_ones_do_not() {
        for message in [
            Message::Unlink { devid: 7, target: 9 },
            Message::Submitted { status: status::STALL, length: 3 },
            Message::Unlinked { status: status::CANCELLED },
        ] {
            assert_eq!(Message::parse(&message.emit(5)), Some((5, message)));
        }
        assert_eq!(Message::parse(&[0xA5; HEADER_LEN]), None);
    }

    #[test]
    fn device_fields_stand_where_the_kernels_tools_have_them() {
        let record = DeviceRecord {
            path: "/sys/x".into(),
            busid: "3-2".into(),
            busnum: 3,
            devnum: 2,
            speed: 2,
            vendor: 0x1209,
            product: 0x0002,
            release: 0x0150,
            class: [1, 2, 3],
            configuration: 1,
            configurations: 1,
            interfaces: 4,
        };
        let bytes = record.emit();
        // Offsets of an import reply, less its 8-byte header.
        assert_eq!(&bytes[0x108 - 8..0x10B - 8], b"3-2");
        assert_eq!(bytes[0x128 - 8..0x12C - 8], [0, 0, 0, 3]);
        assert_eq!(bytes[0x134 - 8..0x138 - 8], [0x12, 0x09, 0x00, 0x02]);
        assert_eq!(bytes[0x13F - 8], 4);
        assert_eq!(DeviceRecord::parse(&bytes), record);
        assert_eq!(record.devid(), 0x0003_0002);
        assert_eq!(emit_busid(&"x".repeat(32)), None);
        assert_eq!(parse_busid(&emit_busid("1-1.4").unwrap()), "1-1.4");
    }
}
