//! Formats of firmware files, and the facts that a file states about its image.

use std::sync::Arc;

use std::fmt;

use object::elf;
use serde::Serialize;
use vaka_base::version::Version;

use crate::address::Span;

/// A kind of firmware file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// Bytes without addresses.
    Binary,
    /// Intel HEX.
    IntelHex,
    /// Motorola S-record.
    SRecord,
    /// ELF.
    Elf,
    /// UF2.
    Uf2,
    /// A file with a DFU suffix or the address extension's prefix.
    Dfu,
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Binary => "a raw binary",
            Self::IntelHex => "Intel HEX",
            Self::SRecord => "S-record",
            Self::Elf => "ELF",
            Self::Uf2 => "UF2",
            Self::Dfu => "a DFU file",
        })
    }
}

/// Facts that a file states in addition to its bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct FileFacts {
    /// The header of an S-record file, tamed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<String>,
    /// The UF2 family.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub family: Option<u32>,
    /// UF2 extension tags.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tags: Option<Tags>,
    /// Regions whose MD5 is stored in the UF2 blocks.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub md5_regions: Vec<Md5Region>,
    /// The DFU suffix.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dfu: Option<Suffix>,
    /// The ELF header.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub elf: Option<ElfFacts>,
    /// The version in the file's name: weak, because files are easily renamed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub named_version: Option<Version>,
    /// The header of an opaque payload.
    #[serde(skip)]
    pub opaque: Option<OpaqueHeader>,
    /// The file as a whole, if it may be used whatever its content is.
    #[serde(skip)]
    pub any_file: Option<AnyFile>,
    /// The spans of the files that were joined; empty for a single file.
    #[serde(skip)]
    pub joined: Vec<Span>,
    /// Whether the file name ends in `.dfu` but the file has no valid DFU suffix.
    pub lacks_suffix: bool,
}

impl FileFacts {
    /// The target that two files name differently, if they do.
    pub(crate) fn difference(&self, other: &Self) -> Option<&'static str> {
        let differs = |a: Option<u64>, b: Option<u64>| a.zip(b).is_some_and(|(a, b)| a != b);
        let machine = |facts: &Self| facts.elf.map(|elf| u64::from(elf.machine));
        let unit = |facts: &Self| facts.dfu.map(|dfu| u64::from(dfu.vendor) << 16 | u64::from(dfu.product));
        match () {
            () if differs(self.family.map(u64::from), other.family.map(u64::from)) => Some("names another UF2 family"),
            () if differs(machine(self), machine(other)) => Some("has another ELF machine"),
            () if differs(unit(self), unit(other)) => Some("has other ids in its DFU suffix"),
            () => None,
        }
    }

    /// The facts of two files that are joined: of each kind the first; a suffix only if both have one.
    pub(crate) fn or(self, next: &Self) -> Self {
        Self {
            header: self.header.or_else(|| next.header.clone()),
            family: self.family.or(next.family),
            tags: self.tags.or_else(|| next.tags.clone()),
            md5_regions: [self.md5_regions, next.md5_regions.clone()].concat(),
            dfu: self.dfu.filter(|_| next.dfu.is_some()),
            elf: self.elf.or(next.elf),
            named_version: self.named_version.or_else(|| next.named_version.clone()),
            opaque: None,
            any_file: None,
            joined: self.joined,
            lacks_suffix: self.lacks_suffix || next.lacks_suffix,
        }
    }
}

/// A file that may be used whatever its content is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnyFile {
    /// The name of the file.
    pub name: String,
    /// Whether the content can be a raw binary of firmware too.
    pub is_binary: bool,
}

/// The header of a payload that only the bootloader understands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpaqueHeader {
    /// The header.
    pub bytes: Arc<[u8]>,
    /// The version in it.
    pub version: Option<Version>,
    /// Whether it has the length or a checksum of the payload, which were checked.
    pub proves_whole: bool,
}

/// The content of the extension tags of a UF2 file.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Tags {
    /// Version of the firmware (type 0x9FC7BC).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Name of the device that it is for (type 0x650D9D).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Page size of the target in bytes (type 0x0BE9F7).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page_size: Option<u32>,
    /// Device type, 32 or 64 bits (type 0xC8A729).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device_type: Option<u64>,
    /// SHA-2 checksum of the firmware, in hex (type 0xB46DB0). Not verified: the format does not
    /// define the covered bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha2: Option<String>,
}

/// A region and its MD5, with which a unit can detect content that is already present. Not
/// verified here.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Md5Region {
    /// The region.
    pub span: Span,
    /// The sum, in hex.
    pub md5: String,
}

/// The content of a DFU suffix. 0xFFFF means any value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Suffix {
    /// bcdDevice.
    pub release: u16,
    /// idProduct.
    pub product: u16,
    /// idVendor.
    pub vendor: u16,
    /// bcdDFU.
    pub version: u16,
}

/// Facts that an ELF file states.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct ElfFacts {
    /// 32 or 64.
    pub bits: u8,
    /// Whether integers are little-endian.
    pub little_endian: bool,
    /// e_machine.
    pub machine: u16,
}

impl ElfFacts {
    /// The machine's usual name. Source: the ABI's registry of e_machine.
    pub fn machine_name(self) -> &'static str {
        match elf::Machine(self.machine) {
            elf::EM_ARM => "Arm",
            elf::EM_AARCH64 => "AArch64",
            elf::EM_RISCV => "RISC-V",
            elf::EM_AVR => "AVR",
            elf::EM_MSP430 => "MSP430",
            elf::EM_XTENSA => "Xtensa",
            elf::EM_MIPS => "MIPS",
            elf::EM_386 => "x86",
            elf::EM_X86_64 => "x86-64",
            _ => "another machine",
        }
    }
}
