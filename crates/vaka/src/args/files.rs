//! Commands that read and write files.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};
use vaka_image::ReadOptions;
use vaka_image::address::{Address, Span};
use vaka_image::facts::Suffix;

use super::values::{address, byte, fact, number, range, suffix};

#[derive(Debug, ClapArgs)]
pub struct Check {
    /// Firmware files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    #[command(flatten)]
    pub choose: ImageSelection,
    /// Also check whether the files can be joined: overlaps, equal content, a map of all
    #[arg(long)]
    pub join: bool,
}

/// Selection of an image in a file with several, and the address of a raw binary.
#[derive(Clone, Copy, Debug, Default, ClapArgs)]
pub struct ImageSelection {
    /// Start address of a raw binary
    #[arg(long, value_name = "ADDRESS", value_parser = address)]
    pub at: Option<Address>,
    /// UF2 family to read
    #[arg(long, value_name = "ID", value_parser = number)]
    pub from_family: Option<u32>,
    /// Target of a DFU file to read, by its alternate setting
    #[arg(long, value_name = "N")]
    pub from_target: Option<u8>,
}

impl ImageSelection {
    pub fn options(self) -> ReadOptions {
        ReadOptions { at: self.at, family: self.from_family, target: self.from_target }
    }
}

/// Options for writing an image.
#[derive(Debug, Default, ClapArgs)]
pub struct Output {
    /// Output format; default: by the extension of OUT
    #[arg(long, value_enum, value_name = "FORMAT")]
    pub to: Option<Writable>,
    /// Value that fills gaps, such as 0xFF
    #[arg(long, value_name = "BYTE", value_parser = byte)]
    pub fill: Option<u8>,
    /// UF2 family to write
    #[arg(long, value_name = "ID", value_parser = number)]
    pub family: Option<u32>,
    /// Ids of the DFU suffix: VID:PID or VID:PID:RELEASE, in hex
    #[arg(long, value_name = "IDS", value_parser = suffix)]
    pub dfu_ids: Option<Suffix>,
    /// Overwrite OUT if it exists
    #[arg(long)]
    pub replace: bool,
}

/// A format that can be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Writable {
    /// Raw binary (.bin)
    Bin,
    /// Intel HEX (.hex, .ihx, .ihex)
    Hex,
    /// S-record (.srec, .s19, .s28, .s37, .mot)
    Srec,
    /// UF2 (.uf2)
    Uf2,
    /// Raw binary with a DFU suffix (.dfu)
    Dfu,
    /// DFU file of the address extension
    DfuAddressed,
}

#[derive(Debug, ClapArgs)]
pub struct Convert {
    /// Input files; several are joined
    #[arg(required = true, value_name = "IN")]
    pub files: Vec<PathBuf>,
    /// Output file
    #[arg(required = true, value_name = "OUT")]
    pub out: PathBuf,
    #[command(flatten)]
    pub choose: ImageSelection,
    /// Only this address range, without its end address: 0x0A002400..0x0A003000
    #[arg(long, value_name = "A..B", value_parser = range)]
    pub range: Option<Span>,
    /// Move the image to this start address
    #[arg(long, value_name = "ADDRESS")]
    pub move_to: Option<Address>,
    #[command(flatten)]
    pub output: Output,
}

#[derive(Debug, ClapArgs)]
pub struct Stamp {
    /// Input file
    #[arg(value_name = "IN")]
    pub file: PathBuf,
    /// Output file
    #[arg(value_name = "OUT")]
    pub out: PathBuf,
    #[command(flatten)]
    pub choose: ImageSelection,
    /// Product id
    #[arg(long, value_name = "ID")]
    pub product: Option<String>,
    /// Part id
    #[arg(long, value_name = "ID")]
    pub part: Option<String>,
    /// Variant that the image is for; may be repeated
    #[arg(long = "for", value_name = "ID")]
    pub variants: Vec<String>,
    /// Version
    #[arg(long, value_name = "V")]
    pub version: Option<String>,
    /// Name of the build
    #[arg(long, value_name = "NAME")]
    pub build: Option<String>,
    /// Build time
    #[arg(long, value_name = "TIME")]
    pub built: Option<String>,
    /// Fact that must agree with the product sheet, such as crystal=8000000; may be repeated
    #[arg(long, value_name = "NAME=VALUE", value_parser = fact)]
    pub fact: Vec<(String, String)>,
    #[command(flatten)]
    pub output: Output,
}
