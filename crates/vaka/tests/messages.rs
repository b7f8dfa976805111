//! Messages of failed runs: each with the state of the unit and what
//! helps, in `messages.txt`, which reads as a document. `VAKA_WRITE_TABLES=1` rewrites it.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

#[path = "../../vaka-boot/tests/support/mod.rs"]
mod support;

use std::fmt::Write;
use std::time::Duration;

use support::{GANNET, PORT, Scene, TERN, TERN_BINARY, TERN_HEX, failure, warnings};
use vaka_boot::event::Event;
use vaka_boot::update::Request;
use vaka_core::event::Report;
use vaka_image::ReadOptions;
use vaka_image::address::Address;
use vaka_sim::bootloader::dfu::{Quirks, Staging};
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::flash::StuckBit;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::heron::{self, Heron};
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;

/// The ended run and its outcome.
type ReportedProperty = (Report, Vec<Event>);

fn fault(at: u64, kind: FaultKind) -> Vec<Fault> {
    vec![Fault { at, kind }]
}

fn pull(at: u64, back_ms: Option<u64>) -> Fault {
    Fault { at, kind: FaultKind::Pull(back_ms.map(Duration::from_millis)) }
}

fn binary_at(at: u64) -> ReadOptions {
    ReadOptions { at: Some(Address::new(at)), ..ReadOptions::default() }
}

fn without_proofs(sheet: &str) -> String {
    let proves = |line: &&str| !line.starts_with("length = ") && !line.starts_with("checksum = ");
    sheet.lines().filter(proves).collect::<Vec<_>>().join("\n")
}

fn tern_r1(faults: Vec<Fault>) -> ReportedProperty {
    Scene::tern_r1(faults).update()
}

fn tern_with(file: &[u8], change: impl FnOnce(&mut Request<'_>)) -> ReportedProperty {
    Scene::tern_r1(Vec::new()).update_with(file, change)
}

/// The transfer of the last download of no bytes.
fn end_of(scene: &Scene) -> u64 {
    scene.update();
    let world = lock(&scene.world);
    let is_end =
        |entry: &vaka_sim::world::LogEntry| (entry.setup.kind, entry.setup.request, entry.data_len) == (0x21, 1, 0);
    world.log(PORT).iter().rposition(is_end).unwrap() as u64 + 1
}

fn staged(faults: Vec<Fault>) -> Scene {
    let traits = Traits { can_upload: false, tolerant: false, will_detach: false };
    let manner = Quirks { staging: Staging::UntilManifest, ..Quirks::default() };
    let sheet = GANNET.replace("version = \"release-number\"\n", "");
    Scene::gannet(Gannet::with("G-00031", traits, manner).in_boot_mode(), faults, &sheet)
}

/// Every case: its title, and how it ends.
#[allow(clippy::too_many_lines)] // a table
fn cases() -> Vec<(&'static str, ReportedProperty)> {
    let r2_hex: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r2-1.5.0.hex");
    let old_hex: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.4.0.hex");
    let label = |label: &str| Some(label.to_owned());
    let worn = || {
        let mut unit = Tern::in_boot_mode(Revision::R1, "T1-00217");
        let offset = (0x1000..).find(|at| TERN_BINARY[*at] & 1 == 0).unwrap();
        vaka_sim::unit::Unit::flash_mut(&mut unit)
            .add_stuck_bit(StuckBit { address: 0x0A00_2400 + u32::try_from(offset).unwrap(), bit: 0 });
        Scene::tern(unit, Vec::new(), TERN).update()
    };
    let unsound = || {
        let mut bytes = TERN_BINARY.to_vec();
        *bytes.last_mut().unwrap() ^= 0x55;
        let scene = Scene::tern(Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new(), &without_proofs(TERN));
        scene.update_with(&bytes, |request| request.files[0].options = binary_at(0x0A00_2400))
    };
    let older = || {
        let mut scene = Scene::tern_r1(Vec::new());
        scene.update();
        scene.back_into_update_mode();
        scene.rewrite = false;
        scene.update_with(old_hex, |_| {})
    };
    let running = |sheet: &str| {
        let scene = Scene::tern(Tern::new(Revision::R1, "T1-00217"), Vec::new(), sheet);
        scene.update()
    };
    let held = TERN.replacen(
        "do = \"Hold SET, tap RESET, then let go of SET.\"",
        "do = \"Set jumper J3, hold SET, tap RESET.\"\nheld = true\nundo = { do = \"Set jumper J3 back.\" }",
        1,
    );
    let end = end_of(&staged(Vec::new()));
    let silent_end = (end..end + 6).map(|at| Fault { at, kind: FaultKind::Timeout }).collect();
    let refuses = || {
        let manner = heron::Quirks { refuses: true, ..Default::default() };
        Scene::heron(Heron::with("S-00008", manner), Vec::new(), "display").update()
    };
    let two = || {
        let mut scene = Scene::tern_r1(Vec::new());
        lock(&scene.world).plug("1-3", Box::new(Petrel::new(Board::Pb1, "P-00112")), Vec::new());
        lock(&scene.world).plug("1-4", Box::new(Petrel::new(Board::Pb2, "P-00113")), Vec::new());
        lock(&scene.world).act(PORT, &vaka_sim::unit::UserAction::Pull);
        scene.sheets = vec![vaka_core::sheet::Sheet::parse("petrel.toml", support::PETREL).unwrap()];
        scene.label = None;
        scene.update_with(TERN_HEX, |_| {})
    };
    let manner = Quirks { no_functional_descriptor: true, ..Quirks::default() };
    let unreadable = Tern::in_boot_mode(Revision::R1, "T1-00217").with_manner(manner, false);
    let gannet = |traits: Traits, manner: Quirks, faults: Vec<Fault>, sheet: &str| {
        Scene::gannet(Gannet::with("G-00031", traits, manner), faults, sheet)
    };
    let leaving = Traits { can_upload: true, tolerant: false, will_detach: true };
    let bad_firmware = || {
        let traits = Traits { can_upload: true, tolerant: false, will_detach: false };
        let mut unsound = support::GANNET_BINARY.to_vec();
        *unsound.last_mut().unwrap() ^= 0x55;
        gannet(traits, Quirks::default(), Vec::new(), &without_proofs(GANNET))
            .update_with(&unsound, |request| request.files[0].options = binary_at(0x5000))
    };
    let second_visit = || {
        let whole = gannet(leaving, Quirks::default(), Vec::new(), GANNET);
        whole.update();
        let faults = vec![pull(whole.transfers() - 3, None)];
        gannet(leaving, Quirks::default(), faults, GANNET).update()
    };
    let second_fault = || {
        let scene = Scene::tern_r1(vec![pull(60, Some(700)), pull(70, None)]);
        scene.act_at(Duration::from_millis(600), "hold SET");
        scene.update()
    };
    let after_reset = || {
        let manner = Quirks { staging: Staging::UntilReset, ..Quirks::default() };
        gannet(Gannet::TRAITS, manner, Vec::new(), GANNET).update()
    };
    let no_suffix = || {
        let payload = &support::GANNET_DFU[..support::GANNET_DFU.len() - 16];
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), GANNET);
        scene.update_with(payload, |request| request.files[0].name = Some("gannet-1.3.0.dfu".into()))
    };
    let other_board = || {
        let file = include_bytes!("../../../demo/firmware/out/petrel-pb2-2.4.0.uf2");
        let unit = Petrel::new(Board::Pb1, "P-00112").in_boot_mode();
        Scene::petrel(unit, Vec::new()).update_with(file, |request| request.label = None)
    };
    let sealed = || {
        let sheet = TERN
            .replacen("variants = [\"r1\", \"r2\"]", "variants = [\"r1\"]", 1)
            .replacen(
                "[[route]]\nkind = \"plain-dfu\"\nid = \"1209:0011\"\nvariants = [\"r2\"]",
                "[[route]]\nkind = \"plain-dfu\"\nid = \"1209:0019\"\nvariants = [\"r1\"]",
                1,
            )
            .replacen("name = \"Tern r2\"\n", "name = \"Tern r2\"\ninstead = \"its port is sealed: send it in\"\n", 1);
        let scene = Scene::tern(Tern::in_boot_mode(Revision::R2, "T2-00031"), Vec::new(), &sheet);
        scene.update_with(r2_hex, |request| request.label = label("r2"))
    };
    let nothing_there = || {
        let scene = Scene::tern_r1(Vec::new());
        lock(&scene.world).act(PORT, &vaka_sim::unit::UserAction::Pull);
        scene.update()
    };
    vec![
        ("The file is a picture", tern_with(b"\x89PNG\r\n\x1A\n\0\0\0\rIHDR", |_| {})),
        ("The file is text in UTF-16", tern_with(b"\xFF\xFE:\x000\x001\x00", |_| {})),
        ("The DFU file has no suffix", no_suffix()),
        (
            "The file is cut short",
            tern_with(&TERN_BINARY[..9000], |request| request.files[0].options = binary_at(0x0A00_2400)),
        ),
        ("One byte of the file is changed", {
            let mut bytes = TERN_BINARY.to_vec();
            bytes[5000] ^= 1;
            tern_with(&bytes, |request| request.files[0].options = binary_at(0x0A00_2400))
        }),
        ("The file is for the other revision", tern_with(r2_hex, |_| {})),
        ("Unit and file agree, the label was misread", tern_with(TERN_HEX, |request| request.label = label("r2"))),
        ("Label and file agree, the unit is another one", tern_with(r2_hex, |request| request.label = label("r2"))),
        ("The maker updates this variant in another way", sealed()),
        ("The board identifies itself, and the file is for another one", other_board()),
        (
            "The file was linked for another start address",
            tern_with(TERN_BINARY, |request| request.files[0].options = binary_at(0x0A00_3000)),
        ),
        ("The file is older than what the flash holds", older()),
        ("Several units, and the file is for none of them", two()),
        ("No unit is plugged in", nothing_there()),
        ("The unit does not come into update mode", running(TERN)),
        ("The same, with a step that is held", running(&held)),
        ("The cable falls out while a sector is erased, and stays out", tern_r1(vec![pull(16, None)])),
        ("The cable falls out while blocks are written, and stays out", tern_r1(vec![pull(60, None)])),
        ("The cable falls out, and is plugged in again", tern_r1(vec![pull(60, Some(700))])),
        ("The cable falls out twice, and stays out", second_fault()),
        ("The cable falls out while the unit is read in a second visit", second_visit()),
        ("The unit refuses a block", tern_r1(fault(50, FaultKind::Stall))),
        ("The unit stops answering", tern_r1(fault(43, FaultKind::Timeout))),
        ("The unit refuses to leave update mode", tern_r1(fault(131, FaultKind::Stall))),
        ("A bit of the flash is worn out", worn()),
        ("The image does not start", unsound()),
        ("The unit's own check of the image fails", bad_firmware()),
        ("The unit makes the image effective only with a reset", after_reset()),
        ("The end of the download is lost, and the unit stays silent", staged(silent_end).update()),
        ("The unit refuses the file that it was given", refuses()),
        (
            "No sheet, and the unit cannot be read",
            Scene::tern(unreadable, Vec::new(), "")
                .update_with(TERN_HEX, |request| request.consents = vec!["no-sheet".into()]),
        ),
    ]
}

/// One case as it is read.
fn entry(title: &str, (report, events): &ReportedProperty) -> String {
    let mut text = format!("{title}\n");
    for warning in warnings(events) {
        writeln!(text, "  told    {}", vaka_messages::warning(warning)).unwrap();
    }
    match failure(events).map(vaka_messages::failure) {
        None => writeln!(text, "  ends    well").unwrap(),
        Some(said) => {
            writeln!(text, "  ends    with exit status {}: {}", said.code as u8, said.message).unwrap();
            writeln!(text, "  state   {}", said.state.as_deref().unwrap_or("-")).unwrap();
            writeln!(text, "  remedy  {}", said.remedy.as_deref().unwrap_or("-")).unwrap();
        }
    }
    for pending_undo in &report.pending_undo {
        writeln!(text, "  owed    {pending_undo}").unwrap();
    }
    text
}

#[test]
fn every_message_is_in_the_table() {
    let entries: Vec<String> = cases().iter().map(|(title, told)| entry(title, told)).collect();
    let text = entries.join("\n");
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/messages.txt");
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let known = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(text == known, "tests/messages.txt is another table now; rewrite it and read what changed:\n{text}");
    for (title, (report, events)) in cases() {
        let Some(said) = failure(&events).map(vaka_messages::failure) else { continue };
        let changed = report.state.is_some_and(|state| !state.is_unchanged());
        assert!(!changed || !said.state.as_ref().unwrap().contains("unchanged"), "{title}");
        assert!(said.message.ends_with('.') && said.remedy.as_ref().unwrap().ends_with('.'), "{title}: {said:?}");
        assert!(!said.message.contains("refused: OK") && !said.message.contains("..\n"), "{title}");
    }
}
