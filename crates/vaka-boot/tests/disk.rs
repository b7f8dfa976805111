//! The whole job on units that show up as a disk, in virtual time: what comes of
//! every fault, every departure from the transport, and every bad input.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;

use support::{
    DISPLAY_HEX, FAULT_KINDS, INTERFACE_BINARY, PETREL_BINARY, PETREL_UF2, PORT, Scene, failure, told, warnings,
};
use vaka_boot::event::Event;
use vaka_boot::failure::FailureKind;
use vaka_boot::warning::Warning;
use vaka_core::event::{Check, ExitCode, RestartState, RunOutcome};
use vaka_core::sheet::Sheet;
use vaka_image::address::{Address, Span};
use vaka_image::{Image, ReadOptions, hex, uf2};
use vaka_sim::World;
use vaka_sim::bootloader::disk::{self, Deviation};
use vaka_sim::bootloader::fat;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::heron::{self, Heron};
use vaka_sim::unit::petrel::{Board, Petrel, Quirks};
use vaka_sim::unit::stick::Stick;
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::Random;
use vaka_usb::Clock;

/// The family of the Petrel's chip.
const FAMILY: u32 = 0x5EAB_D123;

fn petrel(manner: Quirks) -> Scene {
    Scene::petrel(Petrel::with(Board::Pb1, "P-00112", manner).in_boot_mode(), Vec::new())
}

fn display(manner: heron::Quirks) -> Scene {
    Scene::heron(Heron::with("S-00007", manner), Vec::new(), "display")
}

fn service(manner: heron::Quirks) -> Scene {
    Scene::heron(Heron::with("S-00007", manner).in_service_mode(), Vec::new(), "interface")
}

fn of(odd: Option<(u64, Deviation)>) -> disk::Quirks {
    disk::Quirks { odd, ..disk::Quirks::default() }
}

/// By hand: 8872 bytes are 35 blocks of 256, of which the last is held back and
/// cannot be read: 34 x 256 bytes are checked.
#[test]
fn every_kind_of_disk_takes_its_file_and_the_result_says_what_was_checked() {
    let (full, none) = (PETREL_BINARY.len() as u64, 0);
    let cases = [
        ("petrel", petrel(Quirks::default()), Check::Accepted, 34 * 256),
        ("display", display(heron::Quirks::default()), Check::ReadBack, support::DISPLAY_BINARY.len() as u64),
        ("interface", service(heron::Quirks::default()), Check::Accepted, none),
    ];
    for (what, scene, check, checked) in cases {
        let (report, events) = scene.update();
        assert_eq!(
            (report.code, report.check, report.after),
            (ExitCode::Done, check, RestartState::Confirmed),
            "{what}: {:?}",
            failure(&events)
        );
        assert_eq!(report.bytes_checked, checked, "{what}");
        assert_eq!(report.transfers.read_back > 0, checked > 0, "{what}");
        assert!(warnings(&events).is_empty(), "{what}: {:?}", warnings(&events));
        assert!(scene.holds_image(), "{what}");
        assert_eq!(scene.condition(), Condition::Application, "{what}");
        scene.assert_unharmed(what);
    }
    assert_eq!(full.div_ceil(256), 35);
}

/// The image's version is confirmed by what the unit tells: its release number, or
/// the line for its part in a text file.
#[test]
fn the_version_comes_from_the_source_of_the_part() {
    for (scene, before, after) in [
        (display(heron::Quirks::default()), "3.0.0", "3.1.0"),
        (Scene::petrel(Petrel::new(Board::Pb1, "P-00112"), Vec::new()), "2.3.0", "2.4.0"),
    ] {
        lock(&scene.world).act_later(PORT, Duration::from_millis(100), UserAction::Pull);
        lock(&scene.world).act_later(PORT, Duration::from_millis(200), UserAction::Hold(scene.button.into()));
        lock(&scene.world).act_later(PORT, Duration::from_millis(300), UserAction::Plug);
        lock(&scene.world).act_later(PORT, Duration::from_millis(600), UserAction::Release(scene.button.into()));
        if scene.button == "NONE" {
            scene.clock.sleep(Duration::from_secs(2));
        }
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
        let told = events.iter().find_map(|event| match event {
            Event::Evidence { evidence, .. } if evidence.means.contains("newer than") => Some(evidence.means.clone()),
            _ => None,
        });
        assert_eq!(told.unwrap(), format!("newer than the unit's {before}"));
        assert_eq!(report.application.unwrap().version.unwrap().as_str(), after);
    }
}

#[test]
fn no_fault_at_any_transfer_makes_a_false_success_or_harms_the_unit() {
    type UnitSpec = fn(Vec<Fault>) -> Scene;
    let units: [(&str, UnitSpec); 3] = [
        ("petrel", |faults| Scene::petrel(Petrel::new(Board::Pb1, "P-00112").in_boot_mode(), faults)),
        ("display", |faults| Scene::heron(Heron::new("S-00007"), faults, "display")),
        ("interface", |faults| Scene::heron(Heron::new("S-00007").in_service_mode(), faults, "interface")),
    ];
    for (unit, make) in units {
        let whole = make(Vec::new());
        assert_eq!(whole.update().0.code, ExitCode::Done);
        let count = whole.transfers();
        assert!(count > 40, "{unit}: {count}");
        let (mut failed, mut pulled) = (0, 0);
        for at in 1..=count {
            for kind in &FAULT_KINDS {
                let what = format!("{unit}, {kind:?} at transfer {at} of {count}");
                let survived = make(vec![Fault { at, kind: kind.clone() }]).is_survived(&what);
                failed += u64::from(survived);
                pulled += u64::from(survived && *kind == FaultKind::Pull(None));
            }
        }
        // A pulled cable is felt nearly everywhere; the rest is mostly got over.
        assert!(pulled > count / 2 && failed < count * 4, "{unit}: {failed}, {pulled} of {count}");
    }
}

/// Deviations that the transport allows, and violations of it, at each command of an
/// update: it is got over, or told.
#[test]
fn departures_from_the_transport_are_got_over() {
    use Deviation::{BogusResidue, Changed, EmptyFirst, NoData, NoReason, OldTag, OwnSignature, Phase, StallFirst};
    let commands = {
        let scene = petrel(Quirks::default());
        scene.update();
        let world = lock(&scene.world);
        world.bulk_log(PORT).iter().filter(|(_, head)| head.starts_with(b"USBC")).count() as u64
    };
    assert!(commands > 20, "{commands}");
    for oddity in [OldTag, Phase, EmptyFirst, NoData, BogusResidue, StallFirst, OwnSignature, NoReason, Changed] {
        let mut good = 0;
        for at in 1..=commands {
            let scene = petrel(Quirks { disk: of(Some((at, oddity))), ..Quirks::default() });
            let (report, events) = scene.update();
            let what = format!("{oddity:?} at command {at}: {:?}", failure(&events));
            scene.assert_unharmed(&what);
            if report.code == ExitCode::Done {
                assert!(scene.holds_image(), "{what}");
                // A status that is another command's proves nothing: it is sent again.
                let sent =
                    lock(&scene.world).bulk_log(PORT).iter().filter(|(_, head)| head.starts_with(b"USBC")).count();
                assert!(
                    oddity != OldTag || at <= 3 || at + 1 >= commands || sent as u64 > commands,
                    "{what}: {sent} of {commands}"
                );
                good += 1;
            } else {
                assert!(oddity == NoReason || at + 2 >= commands, "{what}");
            }
        }
        assert!(oddity == NoReason || good + 3 >= commands, "{oddity:?}: {good} of {commands}");
    }
}

#[test]
fn a_unit_that_fails_long_writes_gets_short_ones() {
    let scene =
        petrel(Quirks { disk: disk::Quirks { most_sectors: 16, ..disk::Quirks::default() }, ..Quirks::default() });
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
}

#[test]
fn units_that_lack_the_class_requests_are_updated_all_the_same() {
    let manner =
        disk::Quirks { no_max_lun: true, no_reset: true, odd: Some((5, Deviation::Phase)), ..disk::Quirks::default() };
    let scene = petrel(Quirks { disk: manner, ..Quirks::default() });
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
}

fn image_of(bytes: &[u8], start: u32) -> Image {
    let at = Some(Address::new(u64::from(start)));
    vaka_image::read(bytes, ReadOptions { at, ..ReadOptions::default() }).unwrap()
}

/// Each is refused or ended with its own words, and the memory shows the truth.
#[test]
fn bad_input_is_refused_with_its_own_words() {
    let start = 0x0C10_4000;
    let other_family = uf2::write(&image_of(PETREL_BINARY, start), Some(0x1234_5678)).unwrap();
    let no_family = uf2::write(&image_of(PETREL_BINARY, start), None).unwrap();
    let other_board = include_bytes!("../../../demo/firmware/out/petrel-pb2-2.4.0.uf2");
    let outside = uf2::write(&image_of(PETREL_BINARY, 0x0C10_2000), Some(FAMILY)).unwrap();
    let as_hex = hex::write(&image_of(PETREL_BINARY, start));
    let missing = [&PETREL_UF2[..512], &PETREL_UF2[1024..]].concat();
    let mut numbered = PETREL_UF2.to_vec();
    numbered[20] = 99;
    let good = PETREL_UF2;
    let d = disk::Quirks::default;
    let plain = Quirks::default;
    let cases: Vec<(&str, Scene, &[u8], ExitCode, &str)> = vec![
        ("another family", petrel(plain()), &other_family, ExitCode::Refused, "pb1 accepts 0x5EABD123"),
        (
            "no family",
            petrel(plain()),
            &no_family,
            ExitCode::Refused,
            "they are made from this file, which does not name the",
        ),
        ("another board", petrel(plain()), other_board, ExitCode::Refused, "board word \"PBA2\""),
        ("outside", petrel(plain()), &outside, ExitCode::Refused, "starts at 0x0C10_4000"),
        (
            "a HEX file",
            petrel(plain()),
            &as_hex,
            ExitCode::Refused,
            "they are made from this file, which does not name the",
        ),
        ("a missing block", petrel(plain()), &missing, ExitCode::File, "number 1 is missing"),
        ("wrong numbers", petrel(plain()), &numbered, ExitCode::File, "its number is 99, but there are 35 blocks"),
        (
            "write-protected",
            petrel(Quirks { disk: disk::Quirks { protected: true, ..d() }, ..plain() }),
            good,
            ExitCode::Refused,
            "write-protected",
        ),
        (
            "refuses to be written",
            petrel(Quirks { disk: disk::Quirks { refuses: true, ..d() }, ..plain() }),
            good,
            ExitCode::Transfer,
            "write-protected (sense 7/27/00)",
        ),
        ("a broken FAT", petrel(Quirks { broken_fat: true, ..plain() }), good, ExitCode::Refused, "damaged or unknown"),
        (
            "a full disk",
            display(heron::Quirks { full: true, ..heron::Quirks::default() }),
            DISPLAY_HEX,
            ExitCode::Transfer,
            "its disk has not enough space",
        ),
        (
            "the other part",
            display(heron::Quirks::default()),
            INTERFACE_BINARY,
            ExitCode::Refused,
            "outside d1's region",
        ),
    ];
    for (what, scene, file, code, words) in cases {
        let before = { lock(&scene.world).unit(PORT).unwrap().flash().bytes().to_vec() };
        let (report, events) = scene.update_with(file, |_| {});
        let said = failure(&events).unwrap();
        assert_eq!(report.code, code, "{what}: {said:?}");
        let all = told(said);
        assert!(all.contains(words), "{what}: {all}");
        assert_eq!(lock(&scene.world).unit(PORT).unwrap().flash().bytes(), before, "{what}");
        scene.assert_unharmed(what);
    }
}

/// The unit's own verdict about the file: its result file is read and reported.
#[test]
fn a_unit_that_refuses_the_file_is_believed() {
    for scene in [
        display(heron::Quirks { refuses: true, ..heron::Quirks::default() }),
        service(heron::Quirks { refuses: true, ..heron::Quirks::default() }),
    ] {
        let (report, events) = scene.update();
        let said = failure(&events).unwrap();
        assert_eq!((report.code, report.outcome), (ExitCode::Transfer, RunOutcome::Failed), "{said:?}");
        let FailureKind::FileRefused { file, line } = &*said.kind else { panic!("{said:?}") };
        assert_eq!((&file[..], line.starts_with("Result: refused")), ("RESULT.TXT", true), "{said:?}");
        assert!(!scene.holds_image());
        scene.assert_unharmed("refused by the unit");
    }
    let silent = display(heron::Quirks { tells_nothing: true, ..heron::Quirks::default() });
    let (report, events) = silent.update();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(matches!(warnings(&events)[0], Warning::NoResultFile { file } if file == "RESULT.TXT"));
}

#[test]
fn a_unit_that_does_not_count_or_vanishes_is_distinguished() {
    let drops_last_reply = petrel(Quirks {
        loader: vaka_sim::bootloader::uf2::Quirks { drops_last_reply: true, ..Default::default() },
        ..Quirks::default()
    });
    let (report, events) = drops_last_reply.update();
    assert_eq!((report.code, report.after), (ExitCode::Done, RestartState::Confirmed), "{:?}", failure(&events));
    // It never counts; its disk is ejected, and it starts what it has.
    let counts = petrel(Quirks {
        loader: vaka_sim::bootloader::uf2::Quirks { never_complete: true, ..Default::default() },
        ..Quirks::default()
    });
    let (report, events) = counts.update();
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert_eq!(warnings(&events)[0], &Warning::EjectingAfterBlocks);
    assert!(counts.holds_image());
}

/// Only sectors that differ are sent, and all of each; by hand: byte 0x900 lies in
/// the second sector of 2 KiB, which is 8 blocks.
#[test]
fn only_what_changed_is_sent() {
    let scene = petrel(Quirks::default());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    scene.back_into_update_mode();
    let (report, events) = scene.update_with(PETREL_UF2, |request| request.rewrite = false);
    assert_eq!((report.code, report.outcome), (ExitCode::Done, RunOutcome::Unchanged), "{:?}", failure(&events));
    assert_eq!((report.transfers.write, report.bytes_checked), (0, PETREL_BINARY.len() as u64 + 88));
    assert_eq!(scene.condition(), Condition::Application, "ejected");

    for (erases_all, code) in [(false, ExitCode::Done), (true, ExitCode::Differs)] {
        let loader = vaka_sim::bootloader::uf2::Quirks { erases_all, ..Default::default() };
        let scene = petrel(Quirks { loader, ..Quirks::default() });
        assert_eq!(scene.update().0.code, ExitCode::Done);
        lock(&scene.world).unit(PORT).unwrap().flash_mut().put(0x0C10_4900, &[0; 4]);
        scene.back_into_update_mode();
        let before = lock(&scene.world).bulk_log(PORT).len();
        let (report, events) = scene.update_with(PETREL_UF2, |request| request.rewrite = false);
        assert_eq!(report.code, code, "{:?}", failure(&events));
        if erases_all {
            assert!(!failure(&events).unwrap().remedies.is_empty());
            continue;
        }
        assert!(scene.holds_image());
        assert_eq!(report.bytes_written, 2048);
        // UF2 blocks begin with the magic; the first 32 bytes say number and count.
        let world = lock(&scene.world);
        let sent: Vec<&Vec<u8>> = world.bulk_log(PORT)[before..]
            .iter()
            .map(|(_, head)| head)
            .filter(|head| head.starts_with(b"UF2\n"))
            .collect();
        assert_eq!(sent.len(), 2, "seven blocks at once, and the last one");
        assert_eq!((sent[0][20], sent[0][24], sent[1][20], sent[1][24]), (0, 8, 7, 8));
    }
}

/// By hand: a table of 16384 entries is 64 sectors, so data begins at 1 + 2 x 64 + 4;
/// the texts take a sector each, the region's 558 KiB as blocks 2232.
#[test]
fn blocks_go_where_no_file_is() {
    let scene = petrel(Quirks::default());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    let world = lock(&scene.world);
    let written = world.bulk_log(PORT).iter().filter(|(_, head)| head.starts_with(b"USBC") && head[15] == 0x2A);
    let first: Vec<u32> = written.map(|(_, head)| u32::from_be_bytes(head[17..21].try_into().unwrap())).collect();
    assert!(first.len() > 1 && first.iter().all(|sector| (133 + 2234..16384).contains(sector)), "{first:?}");
}

/// One file for two chips: the blocks of this unit's family are sent, with new numbers.
#[test]
fn of_several_families_the_units_own_is_sent() {
    let other = uf2::write(&image_of(PETREL_BINARY, 0x0800_0000), Some(0xAAAA_0001)).unwrap();
    let both = [&other[..], PETREL_UF2].concat();
    let scene = petrel(Quirks::default());
    let (report, events) = scene.update_with(&both, |_| {});
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
    let strange = [&other[..], &uf2::write(&image_of(PETREL_BINARY, 0x0C10_4000), Some(2)).unwrap()].concat();
    let scene = petrel(Quirks::default());
    let (report, events) = scene.update_with(&strange, |_| {});
    assert_eq!(report.code, ExitCode::Refused, "{:?}", failure(&events));
}

/// A file without a family is sent only when that is consents to.
#[test]
fn a_file_that_names_no_chip_needs_an_agreement() {
    let scene = petrel(Quirks::default());
    let as_hex = hex::write(&image_of(PETREL_BINARY, 0x0C10_4000));
    let (report, events) = scene.update_with(&as_hex, |request| request.consents = vec!["no-family".into()]);
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// A unit without a present-application file: nothing is read, and nothing is
/// called checked.
#[test]
fn what_cannot_be_read_is_called_accepted() {
    let loader = vaka_sim::bootloader::uf2::Quirks { shows_nothing: true, ..Default::default() };
    let scene = petrel(Quirks { loader, ..Quirks::default() });
    let (report, events) = scene.update();
    assert_eq!(
        (report.code, report.check, report.bytes_checked),
        (ExitCode::Done, Check::Accepted, 0),
        "{:?}",
        failure(&events)
    );
    let region = Span::new(Address::new(0x0C10_4000), PETREL_BINARY.len() as u64).unwrap();
    assert_eq!(scene.memory(0x0C10_4000..u32::try_from(region.end().get()).unwrap()), PETREL_BINARY);
}

/// If the read-back is off, the tool does not query the disk and does not warn that it is unreadable.
#[test]
fn only_who_wants_it_read_hears_that_it_cannot_be() {
    for (read_back, warned) in [(true, true), (false, false)] {
        let loader = vaka_sim::bootloader::uf2::Quirks { shows_nothing: true, ..Default::default() };
        let scene = petrel(Quirks { loader, ..Quirks::default() });
        let (report, events) = scene.update_with(PETREL_UF2, |request| request.read_back = read_back);
        assert_eq!((report.code, report.check), (ExitCode::Done, Check::Accepted), "{:?}", failure(&events));
        let told = warnings(&events).iter().any(|warning| matches!(warning, Warning::NoReadBackFile { .. }));
        assert_eq!(told, warned, "{read_back}: {:?}", warnings(&events));
        assert!(scene.holds_image());
    }
}

/// A display with nothing in it has another label and shows no file.
#[test]
fn an_empty_display_is_filled() {
    let scene = Scene::heron(Heron::new("S-00007").without_display(), Vec::new(), "display");
    let (report, events) = scene.update_with(DISPLAY_HEX, |request| request.rewrite = false);
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// Good files for each unit, and files made of them that should not pass.
fn files() -> Vec<Vec<u8>> {
    let other_board: &[u8] = include_bytes!("../../../demo/firmware/out/petrel-pb2-2.4.0.uf2");
    let other_hex: &[u8] = include_bytes!("../../../demo/firmware/out/petrel-pb2-2.3.0.hex");
    let interface: &[u8] = include_bytes!("../../../demo/firmware/out/heron-interface-2.2.0.hex");
    let old_display: &[u8] = include_bytes!("../../../demo/firmware/out/heron-display-3.0.0.srec");
    let mut files: Vec<Vec<u8>> =
        [PETREL_UF2, other_board, other_hex, DISPLAY_HEX, old_display, interface].map(<[u8]>::to_vec).to_vec();
    let pb2 = vaka_image::read(other_hex, ReadOptions::default()).unwrap();
    // The other board's image with a board word that lies, at other addresses, for other chips.
    files.push(uf2::write(&pb2.patched(Address::new(0x0C10_4040), b"PBA1"), Some(7)).unwrap());
    for start in [0x0C10_0000, 0x0C18_F700, 0x0040_0000, 0x0042_2000] {
        files.push(uf2::write(&pb2.moved(Address::new(start)).unwrap(), Some(FAMILY)).unwrap());
        files.push(hex::write(&pb2.moved(Address::new(start)).unwrap()));
    }
    files.push([other_board, PETREL_UF2].concat());
    files
}

/// Disks whose tables lead anywhere: nothing is endless, and nothing falls over.
#[test]
fn whatever_is_on_a_disk_is_survived() {
    const CASES: u32 = 400;
    let files = [
        fat::File::text("VERSION.TXT", "Display: 3.0.0\r\n"),
        fat::File::text("RESULT.TXT", "Result: loaded\r\n"),
        fat::File { name: "DISPLAY.HEX".into(), content: DISPLAY_HEX.to_vec() },
    ];
    let sound = fat::Volume::new(4400, "HERON").bytes(&files);
    // Places where a wrong write does harm: boot sector, tables, root folder.
    let places = 0..38 * 512;
    let sheet = support::HERON.replace("1209:0007", "1209:0000");
    let mut random = Random(0xD15C_0BAD);
    let mut ends = std::collections::BTreeMap::new();
    for number in 0..CASES {
        let mut disk = sound.clone();
        for _ in 0..1 + random.below(8) {
            // Half of them in the boot sector's fields or the first entries.
            let place = match random.below(4) {
                0 => random.below(64),
                1 => 512 + random.below(64),
                2 => 36 * 512 + random.below(160),
                _ => random.below(places.end),
            };
            disk[place] = random.pick(&[0, 1, 2, 0x7F, 0x80, 0xFE, 0xFF, u8::try_from(number & 0xFF).unwrap()]);
        }
        let mut scene = Scene::heron(Heron::new("S"), Vec::new(), "display");
        let world = World::new(scene.clock.clone());
        scene.world = world.shared();
        lock(&scene.world).plug(PORT, Box::new(Stick::holding("S", disk)), Vec::new());
        scene.sheets = vec![Sheet::parse("sheet.toml", &sheet).unwrap().only_part("display").unwrap()];
        let began = scene.clock.now();
        let (report, events) = scene.update();
        assert_eq!(report.code == ExitCode::Done, failure(&events).is_none(), "case {number}");
        assert!(scene.clock.now() - began < Duration::from_secs(300), "case {number}: no end");
        *ends.entry(u8::from(report.code)).or_insert(0) += 1;
    }
    assert!([3, 5, 7].iter().filter(|code| ends.contains_key(*code)).count() > 1, "{ends:?}");
}

#[test]
fn any_combination_of_faults_no_unit_with_a_disk_is_harmed() {
    const CASES: u32 = 500;
    let files = files();
    let mut random = Random(0x5EA5_71CC);
    let mut ends = std::collections::BTreeMap::new();
    for number in 0..CASES {
        let kinds =
            [FaultKind::Stall, FaultKind::Timeout, FaultKind::Short, FaultKind::Pull(Some(Duration::from_secs(1)))];
        let faults: Vec<Fault> = (0..random.below(3))
            .map(|_| Fault { at: 1 + random.below(120) as u64, kind: random.pick(&kinds) })
            .collect();
        let kind = random.below(6);
        let words = format!("case {number}: unit {kind}, {faults:?}");
        let mut scene = match kind {
            0 => Scene::petrel(Petrel::new(Board::Pb1, "P").in_boot_mode(), faults),
            1 => Scene::petrel(Petrel::new(Board::Pb2, "P").in_boot_mode(), faults),
            2 => Scene::petrel(Petrel::new(Board::Pb1, "P"), faults),
            3 => Scene::petrel(Petrel::new(Board::Pb2, "P"), faults),
            4 => Scene::heron(Heron::new("S"), faults, "display"),
            _ => Scene::heron(Heron::new("S").in_service_mode(), faults, "interface"),
        };
        let sheets = [support::PETREL, support::HERON];
        scene.sheets = sheets.iter().map(|text| Sheet::parse("sheet.toml", text).unwrap()).collect();
        if kind > 3 {
            scene.kept = vec![heron::BOOTLOADER_REGION];
        }
        for (after, hand) in [(300, "pull"), (500, "hold MARK"), (700, "plug"), (900, "release MARK")] {
            if random.below(4) > 0 {
                let hand = hand.parse::<UserAction>().unwrap();
                lock(&scene.world).act_later(PORT, Duration::from_millis(after + random.below(200) as u64), hand);
            }
        }
        let mut file = random.pick(&files);
        if random.below(5) == 0 {
            let place = random.below(file.len());
            file[place] ^= 1 << random.below(8);
        }
        let label = random.pick(&[None, None, None, Some("pb1"), Some("pb2"), Some("d1"), Some("i1")]);
        let consents = ["no-family", "older-version"].map(String::from)[..random.below(3)].to_vec();
        let (rewrite, read_back) = (random.below(2) == 0, random.below(4) > 0);
        let (report, _) = scene.update_with(&file, |request| {
            request.label = label.map(String::from);
            (request.consents, request.rewrite, request.read_back) = (consents.clone(), rewrite, read_back);
            request.plan_only = number % 16 == 0;
        });
        scene.clock.sleep(Duration::from_secs(5));
        let words = format!("{words}, label {label:?}, agreed {consents:?}: {report:?}");
        scene.assert_unharmed(&words);
        let memory = || lock(&scene.world).unit(PORT).unwrap().flash().bytes().to_vec();
        match report.outcome {
            RunOutcome::Refused | RunOutcome::Planned => assert!(memory() == scene.before, "{words}: changed"),
            RunOutcome::Updated if report.code == ExitCode::Done => {
                let families = [FAMILY];
                let image = vaka_image::FirmwareFile::parse(&file).image(ReadOptions::default(), &families).unwrap();
                for segment in image.segments() {
                    let start = segment.start().to_u32().unwrap();
                    let held = scene.memory(start..start + u32::try_from(segment.data().len()).unwrap());
                    assert!(held == segment.data(), "{words}: a false success");
                }
            }
            _ => {}
        }
        *ends.entry(u8::from(report.code)).or_insert(0) += 1;
    }
    // All kinds of ends must have been met, or the cases are too tame.
    for code in [0, 3, 7, 8] {
        assert!(ends.get(&code).is_some_and(|count| *count > 2), "{ends:?}");
    }
}
