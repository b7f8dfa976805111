//! Ready dialects for file transfers that are open standards.

/// A dialect that needs few changes for a unit.
#[derive(Debug)]
pub struct ReadyDialect {
    /// Name, as in the file.
    pub name: &'static str,
    /// The protocol and the check of its blocks.
    pub description: &'static str,
    /// The file.
    pub text: &'static str,
}

/// The ready dialects. Source: Chuck Forsberg, "XMODEM/YMODEM Protocol Reference", 1988.
pub static READY: &[ReadyDialect] = &[
    ReadyDialect {
        name: "xmodem",
        description: "XMODEM with a sum",
        text: include_str!("protocols/xmodem.dialect.toml"),
    },
    ReadyDialect {
        name: "xmodem-crc",
        description: "XMODEM with a CRC",
        text: include_str!("protocols/xmodem-crc.dialect.toml"),
    },
    ReadyDialect {
        name: "xmodem-1k",
        description: "XMODEM with a CRC and blocks of 1024 bytes",
        text: include_str!("protocols/xmodem-1k.dialect.toml"),
    },
    ReadyDialect { name: "ymodem", description: "YMODEM", text: include_str!("protocols/ymodem.dialect.toml") },
];
