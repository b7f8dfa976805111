//! The whole update in process, in virtual time: every fault at every
//! transfer, and every state in which an earlier program may have left a unit.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;
use vaka_boot::failure::FailureKind;

use support::{FAULT_KINDS, GANNET, Scene, TERN, TERN_BINARY as BINARY, TERN_HEX as HEX, failure};
use vaka_core::event::{Check, ExitCode, RestartState};
use vaka_image::address::Address;
use vaka_image::{Image, ReadOptions, hex};
use vaka_sim::bootloader::dfu::Quirks;
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::fault::Fault;
use vaka_sim::unit::UserAction;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;

/// Units whose updates are broken at every transfer: by address, plain DFU from
/// update mode, and plain DFU with all of its way from the application.
fn faulty(kind: usize, faults: Vec<Fault>) -> Scene {
    let manners = Quirks::default();
    let leaving = Traits { can_upload: true, tolerant: false, will_detach: true };
    match kind {
        0 => Scene::tern_r1(faults),
        1 => Scene::gannet(Gannet::new("G-00031").in_boot_mode(), faults, GANNET),
        _ => Scene::gannet(Gannet::with("G-00031", leaving, manners), faults, GANNET),
    }
}

#[test]
fn no_fault_at_any_transfer_makes_a_false_success_or_harms_the_unit() {
    for (unit, least, check) in [(0, 100, Check::ReadBack), (1, 40, Check::ReadBack), (2, 30, Check::ReadBack)] {
        let whole = faulty(unit, Vec::new());
        let (report, events) = whole.update();
        assert_eq!(
            (report.code, report.check, report.after),
            (ExitCode::Done, check, RestartState::Confirmed),
            "{:?}",
            failure(&events)
        );
        assert!(whole.holds_image());
        let count = whole.transfers();
        assert!(count > least, "{count}");
        let mut failed = 0;
        for at in 1..=count {
            for kind in &FAULT_KINDS {
                let what = format!("unit {unit}, {kind:?} at transfer {at} of {count}");
                failed += u64::from(faulty(unit, vec![Fault { at, kind: kind.clone() }]).is_survived(&what));
            }
        }
        // Most of them must have been felt, or the faults did not happen.
        assert!(failed > count * 2, "unit {unit}: {failed} of {count} x 5");
    }
}

/// A second segment far behind the first: its own sector, run and address
/// command, and what lies between them stays.
#[test]
fn an_image_with_a_gap_is_written_in_two_runs() {
    let image = vaka_image::read(HEX, ReadOptions::default()).unwrap();
    let extra: Vec<u8> = (0..=255).cycle().take(2000).collect();
    // 0x0A01_0801: a sector and two blocks behind 0x0A01_0000, and odd.
    let at = 0x0A01_0801;
    let options = ReadOptions { at: Some(Address::new(u64::from(at))), ..ReadOptions::default() };
    let both = Image::join(&[image, vaka_image::read(&extra, options).unwrap()]).unwrap().unwrap();
    let scene = Scene::tern_r1(Vec::new());
    let (report, events) = scene.update_with(&hex::write(&both), |_| {});
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!(scene.memory(at..at + 2000), extra);
    assert_eq!(scene.memory(0x0A00_7800..0x0A01_0000), vec![0xFF; 0x8800], "as it was found: erased");
    scene.assert_unharmed("two runs");
    // 21 blocks; and from 0x0A01_0800 on 2001 bytes in two blocks of 1 KiB.
    assert_eq!((report.transfers.blocks, report.transfers.runs), (23, 2));
    assert_eq!(report.transfers.write, 3 * (23 + 2));
}

/// The padding of the last block is written, so it is checked as well.
#[test]
fn a_bit_that_is_lost_in_the_padding_is_found() {
    let scene = Scene::tern_r1(Vec::new());
    let end = Tern::application_region(Revision::R1).start + u32::try_from(BINARY.len()).unwrap();
    lock(&scene.world).unit("1-1").unwrap().flash_mut().age(end + 100);
    let (report, events) = scene.update();
    assert_eq!((report.code, report.check), (ExitCode::Differs, Check::None), "{:?}", failure(&events));
    // The last block differs, so none of its bytes counts: 20 blocks of 1 KiB do.
    assert_eq!(report.bytes_checked, 20 * 1024);
    let FailureKind::Differs(found) = *failure(&events).unwrap().kind else { panic!("{:?}", failure(&events)) };
    assert_eq!((found.bytes, found.expected, found.found), (1, 0xFF, 0x7F));
}

#[test]
fn every_state_an_earlier_program_left_leads_to_a_good_update() {
    let set_address: &[u8] = &[0x21, 0x00, 0x24, 0x00, 0x0A];
    let erase_bootloader: &[u8] = &[0x41, 0x00, 0x00, 0x00, 0x0A];
    type Requests<'a> = &'a [(u8, u16, &'a [u8])];
    let cases: &[(u8, Requests<'_>)] = &[
        (2, &[]),
        // An erase of the bootloader that waits for its status: asking for
        // the status would start it.
        (3, &[(1, 0, erase_bootloader)]),
        (5, &[(1, 0, set_address), (3, 0, &[]), (3, 0, &[])]),
        (9, &[(2, 2, &[])]),
        (6, &[(1, 0, &[])]),
        // An unexpected request, an unknown command, an address outside.
        (10, &[(0, 0, &[])]),
        (10, &[(1, 0, &[0x77]), (3, 0, &[])]),
        (10, &[(1, 0, &[0x21, 0, 0, 0, 0]), (3, 0, &[])]),
    ];
    for (state, requests) in cases {
        let scene = Scene::tern_r1(Vec::new());
        assert_eq!(scene.leave_in(requests), *state, "{requests:02X?}");
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Done, "{requests:02X?}: {:?}", failure(&events));
        assert!(scene.holds_image());
        scene.assert_unharmed(&format!("{requests:02X?}"));
    }
}

#[test]
fn the_time_is_what_the_unit_asked_for_and_hardly_more() {
    let scene = Scene::tern_r1(Vec::new());
    let (report, _) = scene.update();
    let spent = |name: &str| {
        let found = report.durations_ms.iter().find(|(step, _)| step.as_str() == name);
        found.map(|(_, ms)| *ms).unwrap()
    };
    // By hand: 7 sectors of 3 KiB at 10 ms a KiB and a tenth more; 21 blocks of
    // 1 KiB at 8 ms and a tenth more, rounded up; 2 ms for each address
    // command, of which writing and reading take one.
    assert_eq!(spent("erase"), 7 * 33);
    assert_eq!(spent("write"), 21 * 9 + 2);
    assert_eq!(spent("read back"), 2);
}

/// A Tern in update mode under another sheet.
fn tern_with(sheet: &str) -> Scene {
    Scene::tern(Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new(), sheet)
}

#[test]
fn not_back_is_distinguished() {
    let pulled = Scene::tern_r1(Vec::new());
    // Erase, write, read back and the leave request take some 0.45 s; then the
    // unit is dark for a quarter of a second.
    lock(&pulled.world).act_later("1-1", Duration::from_millis(550), UserAction::Pull);
    let other_id = tern_with(&TERN.replace("id = \"1209:0001\"", "id = \"1209:0007\""));
    let other_name = tern_with(&TERN.replace("product = \"Tern tide gauge\"", "product = \"Tern\""));
    // The sheet looks for the version where the image has its length.
    let other_version = tern_with(&TERN.replace("offset = 0x4C", "offset = 0x44"));
    for (scene, words) in [
        (pulled, "no device appeared on its port within 10 s"),
        (other_id, "it returned as 1209:0001, which is not its application"),
        (other_name, "it returned at 1-1 as \"Tern tide gauge\", not as \"Tern\""),
        (other_version, "it returned at 1-1 with version 1.5.0; the image has"),
    ] {
        let (report, events) = scene.update();
        let said = failure(&events).unwrap();
        let FailureKind::NotBack { observed, .. } = &*said.kind else { panic!("{said:?}") };
        assert!(observed.contains(words), "{said:?}");
        assert_eq!(
            (report.code, report.after, report.check),
            (ExitCode::NotBack, RestartState::NotBack, Check::ReadBack)
        );
        assert!(scene.holds_image());
    }
}
