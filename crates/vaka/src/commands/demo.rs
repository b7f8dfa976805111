//! `vaka demo`: the real commands, on simulated units, with the demo world's files.

use std::ops::Range;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use anstyle::Style;
use vaka_core::event::ExitCode;
use vaka_sim::scene::Scene;
use vaka_sim::server::Server;
use vaka_sim::unit::Condition;
use vaka_sim::unit::gannet;
use vaka_sim::unit::heron;
use vaka_sim::unit::petrel;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::web::WebServer;
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::SystemClock;

use super::print_line;
use crate::args::Demo;
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use vaka_messages::CommandError;

const BOLD: Style = Style::new().bold();

/// Name and purpose of each example.
pub const SCENES: [(&str, &str); 12] = [
    ("tern", "a tide gauge with two board revisions and one boot id: the right image and the wrong one"),
    ("gannet", "a hydrophone interface that enters update mode on request, by plain DFU"),
    ("petrel", "a wave buoy logger with a UF2 disk that identifies its board"),
    ("heron", "a shore display with two parts: a disk that installs a HEX file and reports the result"),
    ("dunlin", "a salinity probe with a vendor bootloader that listens only briefly after power-on"),
    ("auk", "a harbour light with a vendor HID bootloader, described by a dialect"),
    ("fulmar", "a met mast that enters update mode by a serial command; and a file for a wrong address"),
    ("can", "two shore-power controllers on one CAN bus: one is updated by its unique id"),
    ("programmer", "a blank probe, brought to life by a programmer that is wired to its chip"),
    ("release", "a blank tide gauge and a signed release: bootloader first, then application"),
    ("catalogue", "three releases on a web server: one is withdrawn, and an old list is refused"),
    ("skua", "the recovery of a gateway whose damaged bridge chip is not on the bus"),
];

const TERN_SHEET: &str = include_str!("../../../../demo/sheets/tern.toml");
const R1_HEX: &str = include_str!("../../../../demo/firmware/out/tern-r1-1.5.0.hex");
const R2_HEX: &str = include_str!("../../../../demo/firmware/out/tern-r2-1.5.0.hex");
/// Made by `objcopy` from the same link as the HEX file.
const R1_BIN: &[u8] = include_bytes!("../../../../demo/firmware/out/tern-r1-1.5.0.bin");

const GANNET_SHEET: &str = include_str!("../../../../demo/sheets/gannet.toml");
const GANNET_DFU: &[u8] = include_bytes!("../../../../demo/firmware/out/gannet-1.3.0.dfu");
/// Made by `objcopy` from the same link as the DFU file.
const GANNET_BIN: &[u8] = include_bytes!("../../../../demo/firmware/out/gannet-1.3.0.bin");

const PETREL_SHEET: &str = include_str!("../../../../demo/sheets/petrel.toml");
const PETREL_UF2: &[u8] = include_bytes!("../../../../demo/firmware/out/petrel-pb1-2.4.0.uf2");
const PETREL_OTHER_UF2: &[u8] = include_bytes!("../../../../demo/firmware/out/petrel-pb2-2.4.0.uf2");
/// The linker's output before its conversion to blocks.
const PETREL_BIN: &[u8] = include_bytes!("../../../../demo/firmware/out/petrel-pb1-2.4.0.bin");

const HERON_SHEET: &str = include_str!("../../../../demo/sheets/heron.toml");
const DISPLAY_HEX: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-display-3.1.0.hex");
const INTERFACE_HEX: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-interface-2.2.0.hex");
/// Made by `objcopy` from the same link as the HEX file.
const DISPLAY_BIN: &[u8] = include_bytes!("../../../../demo/firmware/out/heron-display-3.1.0.bin");

pub fn run(args: &Demo) -> Outcome {
    if args.list {
        for (name, purpose) in SCENES {
            print_line(&format!("{name:<10} {purpose}"));
        }
        return Ok(ExitCode::Done);
    }
    match args.scene.as_str() {
        "tern" => tern(),
        "gannet" => gannet_scene(),
        "petrel" => petrel_scene(),
        "heron" => heron_scene(),
        "dunlin" => dunlin_scene(),
        "auk" => auk_scene(),
        "fulmar" => fulmar_scene(),
        "skua" => skua_scene(),
        "can" => can_scene(),
        "programmer" => programmer_scene(),
        "release" => release_scene(),
        "catalogue" => catalogue_scene(),
        other => Err(CommandError::NoExample { name: other.to_owned() }.into()),
    }
}

const TERN: &str = r#"
[[unit]]
product = "tern"
variant = "r1"
port = "1-1"
serial = "T1-00217"
mode = "update"
"#;

fn tern() -> Outcome {
    let regions = [Tern::bootloader_region(Revision::R1), Tern::settings_region(Revision::R1)];
    let show = DemoScene::new(TERN, Tern::application_region(Revision::R1).start, R1_BIN, regions)?;
    show.file("sheets/tern.toml", TERN_SHEET.as_bytes())?;
    show.file("tern-r1-1.5.0.hex", R1_HEX.as_bytes())?;
    show.file("tern-r2-1.5.0.hex", R2_HEX.as_bytes())?;

    print_line(
        "Skerrow Instruments ships the Tern, a tide gauge, as two boards that look alike: r1 and r2. One of them is simulated on a simulated bus, in update mode. Which one is it?",
    );
    show.run("survey", ExitCode::Done)?;

    print_line("Both boards have the same boot id. Vaka does not guess:");
    show.run("update tern-r1-1.5.0.hex --unattended", ExitCode::Refused)?;

    print_line("The label on the board reads SKI-TERN R1. That decides it:");
    show.run("update tern-r1-1.5.0.hex --variant r1", ExitCode::Done)?;
    show.truth("after the update", "the 1.5.0 that the linker made for r1")?;

    print_line("Now the most expensive mistake: the file for the other board.");
    show.run("update tern-r2-1.5.0.hex --variant r1", ExitCode::Refused)?;
    show.truth("after the refusal", "the 1.5.0 that the linker made for r1")?;

    print_line("Next: 'vaka simulate' serves such units for your own trials; see README.md.");
    Ok(ExitCode::Done)
}

const GANNET: &str = r#"
[[unit]]
product = "gannet"
port = "1-1"
serial = "G-00031"
"#;

fn gannet_scene() -> Outcome {
    let regions = [gannet::BOOTLOADER_REGION, gannet::APPLICATION_REGION.end..0x2_0000];
    let show = DemoScene::new(GANNET, gannet::APPLICATION_REGION.start, GANNET_BIN, regions)?;
    show.file("sheets/gannet.toml", GANNET_SHEET.as_bytes())?;
    show.file("gannet-1.3.0.dfu", GANNET_DFU)?;
    show.file("tern-r1-1.5.0.hex", R1_HEX.as_bytes())?;

    print_line("The Gannet, a hydrophone interface, runs its application, which accepts a detach request.");
    show.run("survey", ExitCode::Done)?;

    print_line("No button and no question. The file has a DFU suffix that names its unit:");
    show.run("update gannet-1.3.0.dfu --unattended", ExitCode::Done)?;
    show.truth("after the update", "the 1.3.0 that the linker made")?;

    print_line("The file of another product. The unit does not even get a detach request:");
    show.run("update tern-r1-1.5.0.hex --unattended", ExitCode::Refused)?;
    show.truth("after the refusal", "the 1.3.0 that the linker made")?;
    Ok(ExitCode::Done)
}

const PETREL: &str = r#"
[[unit]]
product = "petrel"
variant = "pb1"
port = "1-1"
serial = "P-00112"
mode = "update"

[[unit]]
product = "stick"
port = "1-2"
serial = "BZ88"
"#;

fn petrel_scene() -> Outcome {
    let regions = [petrel::BOOTLOADER_REGION, petrel::SETTINGS_REGION];
    let show = DemoScene::new(PETREL, petrel::APPLICATION_REGION.start, PETREL_BIN, regions)?;
    show.file("sheets/petrel.toml", PETREL_SHEET.as_bytes())?;
    show.file("petrel-pb1-2.4.0.uf2", PETREL_UF2)?;
    show.file("petrel-pb2-2.4.0.uf2", PETREL_OTHER_UF2)?;

    print_line(
        "The Petrel, a wave buoy logger, shows a small disk in its update mode. Two boards have the same chip, the same ids and the same UF2 family; an ordinary USB stick is plugged in too.",
    );
    show.run("survey", ExitCode::Done)?;

    print_line("The file for the other board. Copied to the disk, it would be programmed without a warning:");
    show.run("update petrel-pb2-2.4.0.uf2 --unattended", ExitCode::Refused)?;

    print_line(
        "The right file. The unit restarts after the last block, so that block is deferred until the others are read back:",
    );
    show.run("update petrel-pb1-2.4.0.uf2 --unattended", ExitCode::Done)?;
    show.truth("after the update", "the 2.4.0 that the linker made for PB1")?;
    Ok(ExitCode::Done)
}

const HERON: &str = r#"
[[unit]]
product = "heron"
port = "1-1"
serial = "S-00007"
"#;

fn heron_scene() -> Outcome {
    let regions = [heron::BOOTLOADER_REGION, heron::INTERFACE_REGION];
    let show = DemoScene::new(HERON, heron::DISPLAY_REGION.start, DISPLAY_BIN, regions)?;
    show.file("sheets/heron.toml", HERON_SHEET.as_bytes())?;
    show.file("heron-display-3.1.0.hex", DISPLAY_HEX)?;
    show.file("heron-interface-2.2.0.hex", INTERFACE_HEX)?;

    print_line("The Heron, a shore display, has two parts, each with its own firmware. Its disk is always visible:");
    show.run("survey", ExitCode::Done)?;

    print_line("The file of the interface chip does not belong on this disk:");
    show.run("update heron-interface-2.2.0.hex --unattended", ExitCode::Refused)?;

    print_line(
        "The file of the display does. The unit reports the result in a text file, and shows the installed file:",
    );
    show.run("update heron-display-3.1.0.hex --unattended", ExitCode::Done)?;
    show.truth("after the update", "the 3.1.0 that the linker made for the display")?;
    Ok(ExitCode::Done)
}

/// A demo file, unchanged.
macro_rules! demo_file {
    ($name:literal) => {
        include_bytes!(concat!("../../../../demo/", $name))
    };
}

const DUNLIN_BIN: &[u8] = demo_file!("firmware/out/dunlin-1.1.0.bin");
const AUK_BIN: &[u8] = demo_file!("firmware/out/auk-2.1.0.bin");
const TURNSTONE_BIN: &[u8] = demo_file!("firmware/out/turnstone-t1-1.1.0.bin");
const FULMAR_BIN: &[u8] = demo_file!("firmware/out/fulmar-4.2.0.bin");
const SKUA_BIN: &[u8] = demo_file!("firmware/out/skua-bridge-1.7.0.bin");

const DUNLIN: &str = r#"
[[unit]]
product = "dunlin"
port = "1-1"
serial = "N-00301"
mode = "unplugged"
actions = [{ after_ms = 2500, action = "plug" }]
"#;

/// The Dunlin's sheet, its dialect and that of its programmer.
fn dunlin_sheets(show: &DemoScene) -> Result<(), CliError> {
    show.file("sheets/dunlin.toml", demo_file!("sheets/dunlin.toml"))?;
    show.file("sheets/dunlin.dialect.toml", demo_file!("sheets/dunlin.dialect.toml"))?;
    show.file("sheets/linnet.dialect.toml", demo_file!("sheets/linnet.dialect.toml"))
}

fn dunlin_scene() -> Outcome {
    let show = DemoScene::new(DUNLIN, 0x1C00, DUNLIN_BIN, [0..0x1C00, 0x9C00..0xA000])?;
    dunlin_sheets(&show)?;
    show.file("dunlin-1.1.0.hex", demo_file!("firmware/out/dunlin-1.1.0.hex"))?;

    print_line("The Dunlin, a salinity probe, has a vendor bootloader with seven requests, described in a file.");
    show.run("dialect show sheets/dunlin.dialect.toml", ExitCode::Done)?;

    print_line(
        "It listens for 9 s after power-on, then starts the application: the tool must be waiting. It cannot be read; the unit computes a sum of its pages:",
    );
    show.run("update dunlin-1.1.0.hex --unattended", ExitCode::Done)?;
    show.truth("after the update", "the 1.1.0 that the linker made")?;
    Ok(ExitCode::Done)
}

const AUK: &str = r#"
[[unit]]
product = "auk"
port = "1-1"
serial = "A-00044"
"#;

fn auk_scene() -> Outcome {
    const BASE: u32 = 0x0D00_0000;
    let kept = [BASE..BASE + 0x2000, BASE + 0xD000..BASE + 0x1_0000];
    let show = DemoScene::new(AUK, BASE + 0x2000, AUK_BIN, kept)?;
    show.file("sheets/auk.toml", demo_file!("sheets/auk.toml"))?;
    show.file("sheets/auk.dialect.toml", demo_file!("sheets/auk.dialect.toml"))?;
    show.file("sheets/auk-call.dialect.toml", demo_file!("sheets/auk-call.dialect.toml"))?;
    show.file("auk-2.1.0.hex", demo_file!("firmware/out/auk-2.1.0.hex"))?;

    print_line(
        "The Auk, a harbour light, enters update mode by a feature report; its bootloader accepts HID reports with a tag and a check byte. Two dialects describe this, without any code.",
    );
    show.run("dialect check sheets/auk.dialect.toml sheets/auk-call.dialect.toml", ExitCode::Done)?;
    show.run("update auk-2.1.0.hex --unattended --trace run.trace", ExitCode::Done)?;
    show.truth("after the update", "the 2.1.0 that the linker made")?;

    print_line("The recorded run, frame by frame; then the dialect is replayed against it, without a unit:");
    show.run("dialect trace sheets/auk.dialect.toml run.trace --operation identify", ExitCode::Done)?;
    show.run("dialect replay sheets/auk.dialect.toml run.trace", ExitCode::Done)?;
    Ok(ExitCode::Done)
}

const FULMAR: &str = r#"
[[unit]]
product = "fulmar"
port = "1-1"
serial = "F-00019"
"#;

fn fulmar_scene() -> Outcome {
    const BASE: u32 = 0x0600_0000;
    let kept = [BASE..BASE + 0x3000, BASE + 0x1_7000..BASE + 0x1_8000];
    let show = DemoScene::new(FULMAR, BASE + 0x3000, FULMAR_BIN, kept)?;
    show.file("sheets/fulmar.toml", demo_file!("sheets/fulmar.toml"))?;
    show.file("sheets/fulmar.dialect.toml", demo_file!("sheets/fulmar.dialect.toml"))?;
    show.file("sheets/fulmar-call.dialect.toml", demo_file!("sheets/fulmar-call.dialect.toml"))?;
    show.file("fulmar-4.2.0.bin", FULMAR_BIN)?;
    show.file("fulmar-4.2.0-at-0.bin", demo_file!("firmware/out/fulmar-4.2.0-at-0.bin"))?;

    print_line(
        "The Fulmar, a met mast, has its application after a bootloader of 12 KiB. A build for the wrong address",
    );
    print_line("has the right name, board word and CRC, and would not start:");
    show.run("update fulmar-4.2.0-at-0.bin --unattended", ExitCode::Refused)?;

    print_line("The right file. A command on the serial port brings the application into update mode:");
    show.run("update fulmar-4.2.0.bin --unattended", ExitCode::Done)?;
    show.truth("after the update", "the 4.2.0 that the linker made")?;
    Ok(ExitCode::Done)
}

const SKUA: &str = r#"
[[unit]]
product = "skua"
port = "1-1"
serial = "K-00008"
mode = "damaged"
actions = [
    { after_ms = 7000, action = "pull" },
    { after_ms = 7000, action = "hold BRIDGE" },
    { after_ms = 7500, action = "plug" },
    { after_ms = 8500, action = "release BRIDGE" },
]
"#;

fn skua_scene() -> Outcome {
    const BASE: u32 = 0x0900_0000;
    let kept = [BASE..BASE + 0x1000, BASE + 0x7800..BASE + 0x8000];
    let show = DemoScene::new(SKUA, BASE + 0x1000, SKUA_BIN, kept)?;
    show.file("sheets/skua.toml", demo_file!("sheets/skua.toml"))?;
    show.file("sheets/skua.dialect.toml", demo_file!("sheets/skua.dialect.toml"))?;
    show.file("skua-bridge-1.7.0.hex", demo_file!("firmware/out/skua-bridge-1.7.0.hex"))?;

    print_line(
        "The Skua is a gateway with a USB bridge chip, whose firmware is damaged here: it has power, but is not on the bus.",
    );
    show.run("survey", ExitCode::Done)?;

    print_line("The tool waits and shows how to force the chip's boot mode. After some seconds the user does it:");
    show.run("update skua-bridge-1.7.0.hex --unattended", ExitCode::Done)?;
    show.truth("after the update", "the 1.7.0 that the linker made")?;
    Ok(ExitCode::Done)
}

const QUAY: &str = r#"
[[unit]]
product = "turnstone"
variant = "t1"
port = "1-1"
serial = "5a0017c2"
bus = "quay"
number = 4

[[unit]]
product = "can-adapter"
port = "1-2"
serial = "CA-0007"
bus = "quay"

[[unit]]
product = "turnstone"
variant = "t2"
port = "1-3"
serial = "5a002b90"
bus = "quay"
number = 9
"#;

fn can_scene() -> Outcome {
    const BASE: u32 = 0x0B00_0000;
    let kept = [BASE..BASE + 0x4000, BASE + 0x1_7800..BASE + 0x1_8000];
    let show = DemoScene::new(QUAY, BASE + 0x4000, TURNSTONE_BIN, kept)?;
    show.file("sheets/turnstone.toml", demo_file!("sheets/turnstone.toml"))?;
    show.file("sheets/turnstone.dialect.toml", demo_file!("sheets/turnstone.dialect.toml"))?;
    show.file("sheets/turnstone-app.dialect.toml", demo_file!("sheets/turnstone-app.dialect.toml"))?;
    show.file("turnstone-t1-1.1.0.bin", TURNSTONE_BIN)?;
    show.file("turnstone-t2-1.1.0.bin", demo_file!("firmware/out/turnstone-t2-1.1.0.bin"))?;

    print_line("Two Turnstones, shore-power controllers, are nodes of one CAN bus behind an adapter. They are told");
    print_line("apart by their unique ids:");
    show.run("survey", ExitCode::Done)?;

    print_line("They differ in their microcontroller. A file for the other one is refused, whatever the label was:");
    let other = "update turnstone-t2-1.1.0.bin --unit node=5a0017c2 --variant t2 --unattended";
    show.run(other, ExitCode::Refused)?;

    print_line("The right file, over ISO-TP; the other node is not spoken to:");
    let right = "update turnstone-t1-1.1.0.bin --unit node=5a0017c2 --variant t1 --unattended";
    show.run(right, ExitCode::Done)?;
    show.truth("after the update", "the 1.1.0 that the linker made")?;
    Ok(ExitCode::Done)
}

const PROGRAMMER: &str = r#"
[[unit]]
product = "dunlin"
port = "1-1"
serial = "N-00301"
mode = "blank"

[[unit]]
product = "linnet"
port = "1-2"
serial = "L-00004"
target = "1-1"
wiring = "off"
actions = [{ after_ms = 5000, action = "wire right" }]
"#;

fn programmer_scene() -> Outcome {
    let show = DemoScene::new(PROGRAMMER, 0x1C00, DUNLIN_BIN, [0x9C00..0xA000, 0x9C00..0xA000])?;
    dunlin_sheets(&show)?;
    show.file("releases/dunlin-1.1.0.toml", demo_file!("releases/dunlin-1.1.0.toml"))?;
    show.file("firmware/out/dunlin-1.1.0.hex", demo_file!("firmware/out/dunlin-1.1.0.hex"))?;
    show.file("firmware/out/dunlin-loader-1.0.0.hex", demo_file!("firmware/out/dunlin-loader-1.0.0.hex"))?;
    show.run("keys new skerrow", ExitCode::Done)?;
    show.run("pack releases/dunlin-1.1.0.toml --key skerrow --out dunlin.vaka", ExitCode::Done)?;

    print_line(
        "A Dunlin with an empty chip is plugged in and shows nothing. Beside it is a Linnet, a board that writes",
    );
    print_line("a chip through its pins:");
    show.run("survey", ExitCode::Done)?;

    print_line(
        "The Linnet is used only if it is named. It is not wired yet, so the steps are shown; the chip is found",
    );
    print_line(
        "by its signature. It gets its bootloader, shows up by itself, and takes its application over its own cable:",
    );
    let update = "update dunlin.vaka --unit programmer=linnet --variant n1 --unattended --wait 30s";
    show.run(update, ExitCode::Done)?;
    show.is_in(0, demo_file!("firmware/out/dunlin-loader-1.0.0.bin"), "the loader 1.0.0 that the linker made")?;
    show.is_in(0x1C00, DUNLIN_BIN, "the 1.1.0 that the linker made")?;
    Ok(ExitCode::Done)
}

const BLANK: &str = r#"
[[unit]]
product = "tern"
variant = "r1"
port = "1-1"
serial = "T1-00301"
mode = "blank"
actions = [{ after_ms = 100, action = "plug" }]
"#;

const LOADER_BIN: &[u8] = demo_file!("firmware/out/tern-r1-loader-1.1.0.bin");

fn release_scene() -> Outcome {
    let blank = [Tern::settings_region(Revision::R1), Tern::settings_region(Revision::R1)];
    let show = DemoScene::new(BLANK, Tern::application_region(Revision::R1).start, R1_BIN, blank)?;
    show.file("sheets/tern.toml", TERN_SHEET.as_bytes())?;
    show.file("releases/tern-loader-1.1.0.toml", demo_file!("releases/tern-loader-1.1.0.toml"))?;
    show.file("firmware/out/tern-r1-1.5.0.hex", R1_HEX.as_bytes())?;
    show.file("firmware/out/tern-r2-1.5.0.hex", R2_HEX.as_bytes())?;
    show.file("firmware/out/tern-r1-loader-1.1.0.hex", demo_file!("firmware/out/tern-r1-loader-1.1.0.hex"))?;
    show.file("firmware/out/tern-r2-loader-1.1.0.hex", demo_file!("firmware/out/tern-r2-loader-1.1.0.hex"))?;

    print_line("At the manufacturer: a key, and one signed file for both boards of the Tern, in two stages.");
    show.run("keys new skerrow", ExitCode::Done)?;
    show.run("pack releases/tern-loader-1.1.0.toml --key skerrow --out tern.vaka", ExitCode::Done)?;

    print_line("At the bench: a release that causes a loss announces it, and nothing is changed without consent.");
    show.run("update tern.vaka --variant r1 --unattended", ExitCode::Refused)?;

    print_line(
        "With consent: the board is blank, so the bootloader is first, then the application through that bootloader.",
    );
    show.run("update tern.vaka --variant r1 --unattended --allow lose-old-loader", ExitCode::Done)?;
    show.is_in(0x0A00_0000, LOADER_BIN, "the loader 1.1.0 that the linker made for r1")?;
    show.is_in(Tern::application_region(Revision::R1).start, R1_BIN, "the 1.5.0 that the linker made for r1")?;
    Ok(ExitCode::Done)
}

/// A world with a server, and a folder that goes when the demo ends.
fn catalogue_scene() -> Outcome {
    let regions = [gannet::BOOTLOADER_REGION, gannet::APPLICATION_REGION.end..0x2_0000];
    let show = DemoScene::new(GANNET, gannet::APPLICATION_REGION.start, GANNET_BIN, regions)?;
    show.file("maker/sheets/gannet.toml", GANNET_SHEET.as_bytes())?;
    show.file("maker/sheets/tern.toml", TERN_SHEET.as_bytes())?;
    show.file("maker/gannet-1.3.0.dfu", GANNET_DFU)?;
    show.file("maker/gannet-1.2.0.dfu", demo_file!("firmware/out/gannet-1.2.0.dfu"))?;
    show.file("maker/firmware/out/tern-r1-1.5.0.hex", R1_HEX.as_bytes())?;
    show.file("maker/firmware/out/tern-r2-1.5.0.hex", R2_HEX.as_bytes())?;
    show.file("maker/demo/tern-1.5.0.toml", demo_file!("releases/tern-1.5.0.toml"))?;
    show.file("maker/demo/tern-1.5.0.txt", demo_file!("releases/tern-1.5.0.txt"))?;
    for (version, date) in [("1.2.0", "2026-06-01"), ("1.3.0", "2026-11-02")] {
        show.file(&format!("maker/gannet-{version}.toml"), gannet_release(version, date).as_bytes())?;
    }
    show.file("maker/releases/readme.txt", b"Releases of Skerrow Instruments\n")?;
    show.file("user/sheets/gannet.toml", GANNET_SHEET.as_bytes())?;

    print_line("The manufacturer packs three releases and lists them in a signed catalogue.");
    show.run_at("maker", "keys new skerrow", ExitCode::Done)?;
    show.run_at("maker", "pack gannet-1.2.0.toml --key skerrow --out releases/gannet-1.2.0.vaka", ExitCode::Done)?;
    show.run_at("maker", "pack gannet-1.3.0.toml --key skerrow --out releases/gannet-1.3.0.vaka", ExitCode::Done)?;
    show.run_at("maker", "pack demo/tern-1.5.0.toml --key skerrow --out releases/tern-1.5.0.vaka", ExitCode::Done)?;
    show.run_at("maker", "catalogue make releases --key skerrow", ExitCode::Done)?;
    let web = WebServer::start(show.folder.path().join("maker/releases")).map_err(broken)?;
    let first = show.read("maker/releases/releases.catalogue")?;

    print_line(
        "A user on another computer, with a Gannet. The publisher's key came by another way; the list comes from a web server.",
    );
    show.file("user/skerrow.pub.pem", show.public_key("skerrow")?.as_bytes())?;
    show.run_at("user", "keys trust skerrow.pub.pem --for gannet", ExitCode::Done)?;
    show.run_at("user", &format!("releases --from {}", web.url()), ExitCode::Done)?;

    print_line("A fault is found in release 1.2.0, and the manufacturer withdraws it.");
    show.run_at(
        "maker",
        "catalogue withdraw releases 1.2.0 --key skerrow --why \"the log stops after a day\"",
        ExitCode::Done,
    )?;

    print_line("The user looks again: this unit runs what must not run any more.");
    show.run_at("user", &format!("releases --from {}", web.url()), ExitCode::Done)?;
    show.run_at("user", "survey", ExitCode::Done)?;

    print_line("The withdrawn release is refused, also as the version that the user asks for:");
    show.run_at("user", &format!("update --from {} --version 1.2.0 --unattended", web.url()), ExitCode::Refused)?;

    print_line("The newest one that is not withdrawn:");
    show.run_at("user", &format!("update --from {} --unattended", web.url()), ExitCode::Done)?;
    show.truth("after the update", "the 1.3.0 that the linker made")?;

    print_line("Now the server sends the first catalogue again, in which nothing is withdrawn:");
    show.file("maker/releases/releases.catalogue", &first)?;
    show.run_at("user", &format!("update --from {} --unattended", web.url()), ExitCode::Refused)?;
    show.truth("after the refusal", "the 1.3.0 that the linker made")?;
    Ok(ExitCode::Done)
}

/// The description of a release of the Gannet.
fn gannet_release(version: &str, date: &str) -> String {
    format!(
        "release = 1\nproduct = \"gannet\"\nversion = \"{version}\"\ndate = \"{date}\"\nchannel = \"stable\"\n\
         sheets = [\"sheets/gannet.toml\"]\n[[stage]]\nname = \"Application\"\n[[stage.image]]\n\
         file = \"gannet-{version}.dfu\"\nvariants = [\"g1\"]\n"
    )
}

struct DemoScene {
    world: SharedWorld,
    server: Server,
    folder: tempfile::TempDir,
    before: Vec<u8>,
    /// Start address and content of the expected image.
    start: u32,
    image: &'static [u8],
    /// Ranges that must not change.
    kept: [Range<u32>; 2],
}

/// The demo's own set-up failed.
fn broken(what: impl std::fmt::Display) -> CliError {
    CliError::internal(format!("The demo cannot be set up: {what}."))
}

impl DemoScene {
    fn new(scene: &str, start: u32, image: &'static [u8], kept: [Range<u32>; 2]) -> Result<Self, CliError> {
        let mut world = World::new(Arc::new(SystemClock));
        Scene::parse(scene).map_err(broken)?.build(&mut world);
        let before = world.unit("1-1").map(|unit| unit.flash().bytes().to_vec()).unwrap_or_default();
        let world = world.shared();
        let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).map_err(broken)?;
        let folder = tempfile::tempdir().map_err(broken)?;
        Ok(Self { world, server, folder, before, start, image, kept })
    }

    fn file(&self, name: &str, content: &[u8]) -> Result<(), CliError> {
        let path = self.folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).map_err(broken)?;
        std::fs::write(path, content).map_err(broken)
    }

    fn read(&self, name: &str) -> Result<Vec<u8>, CliError> {
        std::fs::read(self.folder.path().join(name)).map_err(broken)
    }

    /// The public half of a key of the manufacturer.
    fn public_key(&self, name: &str) -> Result<String, CliError> {
        let output = self.command("maker")?.args(["keys", "show", name]).output().map_err(broken)?;
        String::from_utf8(output.stdout).map_err(broken)
    }

    /// This program in a folder of the scene, with a home of its own there.
    fn command(&self, home: &str) -> Result<Command, CliError> {
        let home = self.folder.path().join(home);
        let mut command = Command::new(std::env::current_exe().map_err(broken)?);
        command.env("VAKA_BUS", self.server.bus()).env("VAKA_SHEETS", "sheets").current_dir(&home).stdin(Stdio::null());
        // Leave no journal and no locks behind.
        for variable in ["XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_RUNTIME_DIR"] {
            command.env(variable, &home);
        }
        // A server on loopback is not reached through a proxy.
        command.env("NO_PROXY", "127.0.0.1");
        Ok(command)
    }

    /// Runs a command of this program as a user would, and checks its exit status.
    fn run(&self, command: &str, wanted: ExitCode) -> Result<(), CliError> {
        print_line(&format!("\n{BOLD}$ vaka {command}{BOLD:#}"));
        self.execute("", command, wanted)
    }

    /// The same on the computer of one of several people.
    fn run_at(&self, who: &str, command: &str, wanted: ExitCode) -> Result<(), CliError> {
        print_line(&format!("\n{BOLD}{who}$ vaka {command}{BOLD:#}"));
        self.execute(who, command, wanted)
    }

    fn execute(&self, home: &str, command: &str, wanted: ExitCode) -> Result<(), CliError> {
        // Words in quotes are one argument.
        let parts = command.split('"').enumerate();
        let words = parts.flat_map(|(index, part)| match index % 2 {
            0 => part.split_whitespace().collect(),
            _ => vec![part],
        });
        let status = self.command(home)?.args(words).status().map_err(broken)?;
        let found = status.code();
        if found != Some(i32::from(u8::from(wanted))) {
            let wanted = u8::from(wanted);
            return Err(CliError::internal(format!(
                "The demo command ended with {status}; expected exit status {wanted}."
            )));
        }
        let meaning = if wanted == ExitCode::Refused { "refused" } else { "all went well" };
        print_line(&format!("(exit status {}: {meaning})\n", u8::from(wanted)));
        Ok(())
    }

    /// Checks that the simulated unit's true memory contains the bytes.
    fn is_in(&self, start: u32, image: &[u8], what: &str) -> Result<(), CliError> {
        let mut world = lock(&self.world);
        let unit = world.unit("1-1").ok_or_else(|| broken("no unit"))?;
        if unit.flash().read(start, image.len()) != Some(image) || unit.condition() != Condition::Application {
            return Err(CliError::internal("The simulated unit's true memory is not as the command reported."));
        }
        let start = vaka_image::address::Address::new(u64::from(start));
        print_line(&format!("True memory of the simulated unit: at {start} its flash has {what}, byte for byte."));
        Ok(())
    }

    /// Checks the simulated unit's true memory.
    fn truth(&self, when: &str, what: &str) -> Result<(), CliError> {
        let mut world = lock(&self.world);
        let unit = world.unit("1-1").ok_or_else(|| broken("no unit"))?;
        let condition = unit.condition();
        let flash = unit.flash();
        let application = flash.read(self.start, self.image.len()) == Some(self.image);
        let kept = self.kept.iter().all(|region| {
            let range = (region.start - flash.base()) as usize..(region.end - flash.base()) as usize;
            flash.bytes()[range.clone()] == self.before[range]
        });
        let runs = condition == Condition::Application;
        if !(application && kept && runs) {
            return Err(CliError::internal("The simulated unit's true memory is not as the command reported."));
        }
        print_line(&format!(
            "True memory of the simulated unit {when}: its flash has {what}, byte for byte; the bootloader and all preserved content are unchanged; the application is running.\n"
        ));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_example_has_a_valid_scene() {
        for scene in [TERN, GANNET, PETREL, HERON, DUNLIN, AUK, FULMAR, SKUA, QUAY, PROGRAMMER, BLANK] {
            assert!(Scene::parse(scene).is_ok(), "{scene}");
        }
    }
}
