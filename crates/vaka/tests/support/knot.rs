//! A product whose bootloader a test supplies: 64 KiB of flash, 4 KiB of them bootloader.

use vaka_sim::unit::vendor_unit::{Factories, Loader, Plain, UnitSpec, VendorUnit};
use vaka_testkit::files;

use super::Bench;

pub const BASE: u32 = 0x0B00_0000;
pub const START: u32 = BASE + 0x1000;
pub const END: u32 = BASE + 0x1_0000;

/// Its sheet; `NAME` is the dialect.
pub const SHEET: &str = r#"
sheet = 1
[product]
id = "knot"
name = "Knot tide board"
maker = "Skerrow Instruments"
[application]
id = "1209:0009"
version = "release-number"
[[variant]]
id = "k1"
name = "Knot"
look_at = [{ place = "lid", reads = "KNOT" }]
flash = [{ start = 0x0B00_0000, sectors = 256, size = 256 }]
ram = { start = 0x2000_0000, size = "4 KiB" }
[variant.image]
region = "application"
binary_at = 0x0B00_1000
vectors = "cortex-m"
version = { offset = 0x4C }
[[variant.region]]
name = "bootloader"
start = 0x0B00_0000
size = "4 KiB"
[[variant.region]]
name = "application"
start = 0x0B00_1000
size = "60 KiB"
[[route]]
kind = "dialect"
id = "1209:000a"
writes = ["application"]
dialect = "NAME"
"#;

/// An application that the unit starts.
pub fn application(len: usize, version: u16) -> Vec<u8> {
    files::application(len, START, *b"KNT1", version, 11)
}

/// A unit in update mode with this bootloader.
pub fn unit(loader: Box<dyn Fn() -> Box<dyn Loader> + Send>) -> VendorUnit {
    let make = UnitSpec {
        names: ["Knot", "Knot loader"],
        ids: [(0x1209, 0x0009), (0x1209, 0x000A)],
        flash: (BASE, 256, 256),
        bootloader: BASE..START,
        application: START..END,
        settings: END..END,
        board_word: b"KNT1",
        factory: Box::leak(application(3000, 0x0100).into_boxed_slice()),
        button: "BOOT",
        window: None,
        silent: false,
    };
    VendorUnit::new(make, Factories { loader, runner: Box::new(|_| Box::new(Plain)) }, "K-1").in_boot_mode()
}

/// Whether the unit at port 1-1 holds an image at the start of its application.
pub fn holds(bench: &Bench, image: &[u8]) -> bool {
    let start = (START - BASE) as usize;
    bench.memory("1-1")[start..start + image.len()] == *image
}
