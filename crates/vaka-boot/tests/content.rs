//! Content that the unit already has is left there, and an update of a lost unit resumes
//! when it is back.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;
use vaka_boot::failure::FailureKind;
use vaka_boot::protocol::session_error::SessionError;
use vaka_boot::warning::Warning;

use support::{GANNET, PORT, Scene, TERN, TERN_BINARY, failure, warnings};
use vaka_core::event::{Check, ExitCode, RunOutcome};
use vaka_image::ReadOptions;
use vaka_image::address::Address;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit};
use vaka_sim::world::lock;

fn tern(faults: Vec<Fault>) -> Scene {
    let mut scene = Scene::tern(Tern::in_boot_mode(Revision::R1, "T1-00217"), faults, TERN);
    scene.rewrite = false;
    scene
}

/// The same with the demo's new image in it already.
fn up_to_date() -> Scene {
    let scene = tern(Vec::new());
    let mut world = lock(&scene.world);
    let flash = world.unit(PORT).unwrap().flash_mut();
    flash.erase(0x0A00_2400..0x0A00_7800);
    flash.put(0x0A00_2400, TERN_BINARY);
    drop(world);
    scene
}

/// Erase commands and data blocks that the unit got, by the raw log.
fn erases_and_blocks(scene: &Scene) -> (usize, usize) {
    let world = lock(&scene.world);
    let downloads = || world.log(PORT).iter().filter(|entry| (entry.setup.kind, entry.setup.request) == (0x21, 1));
    // Of a command only the length is logged: 5 bytes are a command with an
    // address; every erase and set-address is one. Data blocks have numbers from 2.
    let blocks = downloads().filter(|entry| entry.setup.value >= 2 && entry.data_len > 0).count();
    let commands = downloads().filter(|entry| entry.setup.value == 0 && entry.data_len == 5).count();
    (commands, blocks)
}

#[test]
fn what_is_already_there_is_neither_erased_nor_written() {
    let scene = up_to_date();
    let before = scene.memory(0x0A00_0000..0x0A02_4000);
    let (report, events) = scene.update();
    assert_eq!(
        (report.code, report.outcome, report.check),
        (ExitCode::Done, RunOutcome::Unchanged, Check::ReadBack),
        "{:?}",
        failure(&events)
    );
    assert_eq!((report.bytes_written, report.bytes_skipped), (0, TERN_BINARY.len() as u64));
    assert_eq!((report.transfers.erase, report.transfers.write, report.transfers.blocks), (0, 0, 0));
    // Set-address for the protection, the version, the comparison, and to leave; no erase.
    let (commands, blocks) = erases_and_blocks(&scene);
    assert!(commands <= 5 && blocks == 0, "{commands} commands, {blocks} blocks");
    assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), before);
    assert_eq!(scene.condition(), Condition::Application, "it was restarted all the same");
}

#[test]
fn only_the_sectors_that_differ_are_written() {
    let scene = up_to_date();
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(0x0A00_3010, &[0]);
    // After the image, in its last sector: not covered by the image.
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(0x0A00_7700, b"kept");
    let (report, events) = scene.update();
    assert_eq!(
        (report.code, report.outcome, report.check),
        (ExitCode::Done, RunOutcome::Updated, Check::ReadBack),
        "{:?}",
        failure(&events)
    );
    assert!(scene.holds_image());
    assert_eq!(scene.memory(0x0A00_7700..0x0A00_7704), b"kept");
    // By hand: the second sector of 3 KiB is 3 blocks; one erase, one address command.
    assert_eq!((report.transfers.erase, report.transfers.blocks, report.transfers.write), (3, 3, 12));
    assert_eq!((report.bytes_written, report.bytes_checked), (3072, TERN_BINARY.len() as u64));
    scene.assert_unharmed("flash must have 1 to 1 048 576 sectors of at least one");
}

#[test]
fn rewrite_writes_all_of_it() {
    let scene = up_to_date();
    let (report, _) = scene.update_with(scene.file, |request| request.rewrite = true);
    assert_eq!((report.code, report.outcome), (ExitCode::Done, RunOutcome::Updated));
    assert_eq!((report.transfers.erase, report.transfers.blocks, report.bytes_skipped), (21, 21, 0));
}

/// Same version text, other bytes: not the same.
#[test]
fn the_version_decides_nothing() {
    let scene = up_to_date();
    let mut changed = TERN_BINARY.to_vec();
    let last = changed.len() - 4;
    changed[0x1000] ^= 0x5A;
    let crc = crc32(&changed[..last]);
    changed[last..].copy_from_slice(&crc.to_le_bytes());
    let at = ReadOptions { at: Some(Address::new(0x0A00_2400)), ..ReadOptions::default() };
    let (report, events) = scene.update_with(&changed, |request| request.files[0].options = at);
    assert_eq!((report.code, report.outcome), (ExitCode::Done, RunOutcome::Updated), "{:?}", failure(&events));
    assert_eq!(scene.memory(0x0A00_2400..0x0A00_2400 + u32::try_from(changed.len()).unwrap()), changed);
    assert_eq!(report.application.unwrap().version.unwrap().to_string(), "1.5.0");
}

/// The zip CRC, bit by bit. Source: ISO 3309.
fn crc32(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xEDB8_8320 } else { crc >> 1 })
    })
}

/// A unit that takes one stream: all of it or nothing.
#[test]
fn a_plain_dfu_unit_is_left_alone_if_it_holds_the_image() {
    let scene = || {
        let mut scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), GANNET);
        scene.rewrite = false;
        scene
    };
    let first = scene();
    let (report, _) = first.update();
    assert_eq!((report.outcome, report.transfers.blocks), (RunOutcome::Updated, 11));
    let (again, events) = first.update();
    assert_eq!(
        (again.code, again.outcome, again.check),
        (ExitCode::Done, RunOutcome::Unchanged, Check::ReadBack),
        "{:?}",
        failure(&events)
    );
    assert_eq!((again.transfers.write, again.transfers.blocks), (0, 0));
    assert_eq!(first.condition(), Condition::Application);
    // Without the sheet's word an upload proves too little to leave it.
    let unvouched = GANNET.replace("upload = \"image\"\n", "");
    let mut unsure = Scene::gannet(Gannet::new("G-00031"), Vec::new(), &unvouched);
    unsure.rewrite = false;
    unsure.update();
    assert_eq!(unsure.update().0.outcome, RunOutcome::Updated);
}

/// The cable is pulled at every tenth transfer and put back: the same run ends
/// well, with the same bytes, and writes no sector twice that was whole.
#[test]
fn a_pulled_cable_that_is_put_back_is_gone_on_with_in_the_same_run() {
    let whole = tern(Vec::new());
    whole.update_with(whole.file, |request| request.rewrite = true);
    let count = whole.transfers();
    let after = whole.memory(0x0A00_0000..0x0A02_4000);
    let mut resumed = 0;
    // Behind the last block the unit holds a whole application, and starts it.
    for at in (1..count).step_by(10) {
        let back = FaultKind::Pull(Some(Duration::from_millis(700)));
        let scene = tern(vec![Fault { at, kind: back }]);
        // A unit whose application is gone stays in update mode when it is plugged in.
        let mut world = lock(&scene.world);
        world.unit(PORT).unwrap().flash_mut().erase(0x0A00_2400..0x0A00_7800);
        drop(world);
        let (report, events) = scene.update();
        let what = format!("pulled at {at} of {count}: {:?}", failure(&events));
        // At the very end the unit already leaves; then it is simply back.
        assert_eq!(report.code, ExitCode::Done, "{what}");
        assert!(scene.holds_image(), "{what}");
        assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), after, "{what}");
        assert_eq!(report.bytes_written, TERN_BINARY.len() as u64, "{what}: none of it was there before");
        resumed +=
            usize::from(warnings(&events).iter().any(|warning| matches!(warning, Warning::WaitingForReturn { .. })));
    }
    assert!(resumed > 8, "{resumed}");
}

/// The cable drops again and again.
#[test]
fn several_breaks_in_one_run_are_borne() {
    let pull = |at| Fault { at, kind: FaultKind::Pull(Some(Duration::from_millis(300))) };
    let scene = tern([20, 60, 100, 130, 170].map(pull).to_vec());
    lock(&scene.world).unit(PORT).unwrap().flash_mut().erase(0x0A00_2400..0x0A00_7800);
    let (report, events) = scene.update();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// Another unit of the same kind is plugged in at the wrong moment, at another
/// port: it is left alone, and the first failure stands.
#[test]
fn an_equal_unit_at_another_port_is_not_taken_for_the_lost_one() {
    let scene = tern(vec![Fault { at: 60, kind: FaultKind::Pull(None) }]);
    let other = Tern::in_boot_mode(Revision::R1, "T1-00999");
    let before = other.flash().bytes().to_vec();
    let port = "1-2";
    lock(&scene.world).plug(port, Box::new(other), Vec::new());
    let chosen = vaka_boot::bench::selector::Selector::Port(PORT.into());
    let (report, events) = scene.update_with(scene.file, |request| request.unit = Some(chosen));
    assert_eq!(report.code, ExitCode::Transfer, "{:?}", failure(&events));
    let said = failure(&events).unwrap();
    assert!(matches!(&*said.kind, FailureKind::Session { error: SessionError::Disconnected, .. }), "{said:?}");
    let mut world = lock(&scene.world);
    assert_eq!(world.unit(port).unwrap().flash().bytes(), before);
    assert_eq!(world.log(port).len(), 0);
}

/// Content that an interrupted run has written is not written again by the next one.
#[test]
fn the_next_run_goes_on_where_the_last_one_ended() {
    let scene = tern(vec![Fault { at: 90, kind: FaultKind::Pull(None) }]);
    lock(&scene.world).unit(PORT).unwrap().flash_mut().erase(0x0A00_2400..0x0A00_7800);
    let (first, _) = scene.update();
    assert_eq!(first.code, ExitCode::Transfer);
    scene.back_into_update_mode();
    let (second, events) = scene.update();
    assert_eq!((second.code, second.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(second.bytes_skipped >= 3072, "{} were there", second.bytes_skipped);
    assert!(scene.holds_image());
    assert!(vaka_image::read(scene.file, ReadOptions::default()).is_ok());
}
