//! The whole job on units of every kind that DFU allows, on units that do not
//! keep to it, and on units without a product sheet.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;
use vaka_boot::failure::{FailureKind, RefusalReason};
use vaka_boot::remedy::Remedy;
use vaka_boot::warning::Warning;
use vaka_core::plan::{ErasesOption, PlanError};
use vaka_core::sheet::SynthesisError;

use support::{GANNET, PORT, Scene, TERN, TERN_BINARY, TERN_HEX, failure, warnings};
use vaka_core::event::{Check, ExitCode, RestartState};
use vaka_core::unit::MemoryChoice;
use vaka_core::unit_state::UnitState;
use vaka_image::address::Address;
use vaka_image::dfu_file::append_suffix;
use vaka_image::facts::Suffix;
use vaka_image::{ReadOptions, hex};
use vaka_sim::bootloader::dfu::{Poll, Quirks};
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::unit::gannet::{self, Gannet};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_usb::{Clock, Setup};

fn gannet(traits: Traits, manner: Quirks) -> Scene {
    Scene::gannet(Gannet::with("G-00031", traits, manner), Vec::new(), GANNET)
}

fn tern(manner: Quirks, is_protected: bool) -> Scene {
    let unit = Tern::in_boot_mode(Revision::R1, "T1-00217").with_manner(manner, is_protected);
    Scene::tern(unit, Vec::new(), TERN)
}

/// Every kind of manifestation and detach, from the application and from
/// update mode. What can be read back is, if need be by bringing the unit back into
/// update mode once more; nothing else is called so.
#[test]
fn every_kind_of_plain_dfu_unit_is_updated() {
    for bits in 0..16 {
        let bit = |at: u32| bits >> at & 1 == 1;
        let traits = Traits { can_upload: bit(0), tolerant: bit(1), will_detach: bit(2) };
        let unit = Gannet::with("G-00031", traits, Quirks::default());
        let unit = if bit(3) { unit.in_boot_mode() } else { unit };
        let scene = Scene::gannet(unit, Vec::new(), GANNET);
        let (report, events) = scene.update();
        let what = format!("{traits:?}, booted {}: {:?}", bit(3), failure(&events));
        let check = if traits.can_upload { Check::ReadBack } else { Check::Accepted };
        assert_eq!(
            (report.code, report.check, report.after),
            (ExitCode::Done, check, RestartState::Confirmed),
            "{what}"
        );
        assert_eq!(report.bytes_checked, if check == Check::ReadBack { report.bytes_written } else { 0 }, "{what}");
        assert!(scene.holds_image(), "{what}");
        scene.assert_unharmed(&what);
        // By hand: 10 640 bytes are 10 blocks of 1024 and one of 400, 3 requests
        // each; numbers from 0 up, and the end under the next one.
        assert_eq!(report.transfers.write, 33, "{what}");
        let world = lock(&scene.world);
        let blocks = world.log(PORT).iter().filter(|entry| (entry.setup.kind, entry.setup.request) == (0x21, 1));
        let blocks: Vec<(u16, usize)> = blocks.map(|entry| (entry.setup.value, entry.data_len)).collect();
        let mut wanted: Vec<(u16, usize)> = (0..10).map(|number| (number, 1024)).collect();
        wanted.extend([(10, 400), (11, 0)]);
        assert_eq!(blocks, wanted, "{what}");
    }
}

/// The detach names wDetachTimeOut, goes to the right interface, and the bus is
/// reset only for a unit that waits for it.
#[test]
fn a_detach_is_what_the_functional_descriptor_asks_for() {
    let leaves = Traits { will_detach: true, ..Gannet::TRAITS };
    let ignores_detach = Quirks { ignores_detach: true, ..Quirks::default() };
    let cases = [(Gannet::TRAITS, Quirks::default()), (leaves, Quirks::default()), (leaves, ignores_detach)];
    for (index, (traits, manner)) in cases.into_iter().enumerate() {
        let scene = gannet(traits, manner);
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Done, "case {index}: {:?}", failure(&events));
        let world = lock(&scene.world);
        let first = &world.log(PORT)[0].setup;
        // Source: DFU 1.1, section 5.1; interface 1 and 1000 ms are the Gannet's.
        assert_eq!((first.kind, first.request, first.value, first.index), (0x21, 0, 1000, 1), "case {index}");
        let detaches = world.log(PORT).iter().filter(|entry| (entry.setup.kind, entry.setup.request) == (0x21, 0));
        assert_eq!(detaches.count(), 1, "case {index}: not repeated blindly");
    }
}

/// Units that lie, and what comes of it: the warning, and how strong the check is.
#[test]
fn units_that_lie_are_updated_all_the_same_or_refused_with_the_reason() {
    let honest = Quirks::default();
    let zero = Quirks { poll: Poll::Zero, ..honest.clone() };
    let absurd = Quirks { poll: Poll::Excessive, ..honest.clone() };
    let large = Quirks { advertised_block_size: Some(4096), ..honest.clone() };
    let tiny = Quirks { advertised_block_size: Some(1024), max_block_size: Some(64), ..honest.clone() };
    let none = Quirks { advertised_block_size: Some(0), ..honest.clone() };
    let silent = Quirks { no_functional_descriptor: true, ..honest.clone() };
    let drops_last_reply = Quirks { drops_last_reply: true, ..honest.clone() };
    let leaving = Traits { can_upload: true, tolerant: false, will_detach: true };
    use Check::{Accepted, ReadBack};
    let cases: Vec<(&str, Scene, Result<Check, ExitCode>, &str)> = vec![
        ("no time", tern(zero.clone(), false), Ok(ReadBack), ""),
        ("absurd time", tern(absurd.clone(), false), Ok(ReadBack), "LongPollTimeout { asked: 16777.215s"),
        ("block too large", tern(large.clone(), false), Ok(ReadBack), "BlockRefused"),
        ("block far too large", tern(tiny.clone(), false), Ok(ReadBack), "BlockRefused"),
        ("block of 0", tern(none.clone(), false), Ok(ReadBack), "its transfer size is 0"),
        ("no functional descriptor", tern(silent.clone(), false), Ok(Accepted), "has no DFU functional descriptor"),
        ("drops_last_reply", tern(drops_last_reply.clone(), false), Ok(ReadBack), ""),
        ("plain, no time", gannet(Gannet::TRAITS, zero), Ok(ReadBack), ""),
        ("plain, absurd time", gannet(Gannet::TRAITS, absurd), Ok(ReadBack), "LongPollTimeout { asked: 16777.215s"),
        ("plain, block too large", gannet(Gannet::TRAITS, large), Err(ExitCode::Transfer), ""),
        ("plain, block of 0", gannet(Gannet::TRAITS, none), Err(ExitCode::Transfer), "its transfer size is 0"),
        ("plain, drops_last_reply", gannet(leaving, drops_last_reply), Ok(ReadBack), ""),
    ];
    for (what, scene, wanted, warning) in cases {
        let (report, events) = scene.update();
        let said = failure(&events);
        match wanted {
            Ok(check) => {
                assert_eq!((report.code, report.check), (ExitCode::Done, check), "{what}: {said:?}");
                assert!(scene.holds_image(), "{what}");
            }
            Err(code) => assert_eq!(report.code, code, "{what}: {said:?}"),
        }
        let warned = warnings(&events);
        let fits = if warning.is_empty() {
            warned.is_empty()
        } else {
            warned.iter().any(|warned| format!("{warned:?}").contains(warning))
        };
        assert!(fits, "{what}: {warned:#?}");
        assert!(warned.len() <= 2, "{what}: not the same again and again: {warned:#?}");
        scene.assert_unharmed(what);
    }
}

/// Four hours and a half are not waited for: at the most 5 s for a block or a
/// command, 30 s for a sector or a manifestation.
#[test]
fn an_absurd_time_is_cut_to_what_such_work_can_take() {
    let scene = tern(Quirks { poll: Poll::Excessive, ..Quirks::default() }, false);
    let (report, _) = scene.update();
    assert_eq!(report.code, ExitCode::Done);
    let spent = |name: &str| report.durations_ms.iter().find(|(step, _)| step.as_str() == name).unwrap().1 / 1000;
    assert!((7 * 30..7 * 30 + 5).contains(&spent("erase")), "{}", spent("erase"));
    assert!((21 * 5..22 * 5 + 5).contains(&spent("write")), "{}", spent("write"));
}

/// DFU states as an earlier program may have left them, each by raw requests.
/// The unit is a Gannet in its bootloader, whose application is sound.
#[test]
fn every_state_of_plain_dfu_leads_to_a_good_update() {
    let block: &[u8] = &[0x5A; 1024];
    let short: &[u8] = &[0x5A; 100];
    // Three status requests let a block be programmed; the waits are the clock's.
    type Requests<'a> = Vec<(u8, u16, &'a [u8])>;
    let cases: Vec<(u8, Traits, Requests<'_>)> = vec![
        (2, Gannet::TRAITS, vec![]),
        (3, Gannet::TRAITS, vec![(1, 0, block)]),
        (4, Gannet::TRAITS, vec![(1, 0, block), (3, 0, &[])]),
        (9, Gannet::TRAITS, vec![(2, 0, &[])]),
        // A second block before the first was asked for, and a detach in DFU mode.
        (10, Gannet::TRAITS, vec![(1, 0, block), (1, 1, block)]),
        (10, Gannet::TRAITS, vec![(0, 0, &[])]),
        (10, Gannet::TRAITS, vec![(1, 5, short)]),
    ];
    for (state, traits, requests) in cases {
        let unit = Gannet::with("G-00031", traits, Quirks::default()).in_boot_mode();
        let scene = Scene::gannet(unit, Vec::new(), GANNET);
        assert_eq!(scene.leave_in(&requests), state, "{requests:02X?}");
        let (report, events) = scene.update();
        assert_eq!(
            (report.code, report.check),
            (ExitCode::Done, Check::ReadBack),
            "state {state}: {:?}",
            failure(&events)
        );
        assert!(scene.holds_image());
        scene.assert_unharmed(&format!("state {state}"));
    }
}

/// A whole download by an earlier program that ended before the manifestation,
/// in it, and after it: states 5, 6, 7 and 8.
#[test]
fn a_download_that_an_earlier_program_left_open_is_taken_over() {
    let waits = Traits { can_upload: true, tolerant: false, will_detach: false };
    for (state, traits, statuses) in [(5, waits, 0), (6, waits, 0), (7, waits, 1), (8, waits, 2)] {
        let scene =
            Scene::gannet(Gannet::with("G-00031", traits, Quirks::default()).in_boot_mode(), Vec::new(), GANNET);
        let mut device = scene.earlier_program();
        let second = Duration::from_secs(1);
        let ask = |kind, request, value| Setup { kind, request, value, index: 0 };
        for (number, block) in (0..).zip(support::GANNET_BINARY.chunks(1024)) {
            device.control_out(ask(0x21, 1, number), block, second).unwrap();
            device.control_in(ask(0xA1, 3, 0), 6, second).unwrap();
            scene.clock.sleep(Duration::from_millis(100));
            assert_eq!(device.control_in(ask(0xA1, 3, 0), 6, second).unwrap()[4], 5);
        }
        if state > 5 {
            device.control_out(ask(0x21, 1, 11), &[], second).unwrap();
        }
        for _ in 0..statuses.min(1) {
            device.control_in(ask(0xA1, 3, 0), 6, second).unwrap();
        }
        if statuses > 1 {
            scene.clock.sleep(Duration::from_millis(200));
        }
        std::mem::forget(device);
        lock(&scene.world).release(PORT);
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Done, "state {state}: {:?}", failure(&events));
        assert!(scene.holds_image());
        scene.assert_unharmed(&format!("state {state}"));
    }
}

#[test]
fn a_unit_without_firmware_takes_it() {
    let scene = gannet(Gannet::TRAITS, Quirks::default());
    {
        let mut world = lock(&scene.world);
        let flash = world.unit(PORT).unwrap().flash_mut();
        flash.erase(gannet::APPLICATION_REGION);
    }
    scene.act(UserAction::Pull);
    scene.act(UserAction::Plug);
    scene.clock.sleep(Duration::from_secs(1));
    assert_eq!(scene.condition(), Condition::Boot);
    let (report, events) = scene.update();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// The sheet does not vouch for the upload: equality still proves something, a difference is
/// reported and is not a failure.
#[test]
fn without_the_sheets_word_only_equality_counts() {
    let unvouched = GANNET.replace("upload = \"image\"\n", "");
    let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), &unvouched);
    let (report, _) = scene.update();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack));
    for (sheet, code, check) in
        [(&unvouched[..], ExitCode::Done, Check::Accepted), (GANNET, ExitCode::Differs, Check::None)]
    {
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), sheet);
        // A byte behind the CRC'd image's last sector begin: the unit itself does not look there.
        let end = gannet::APPLICATION_REGION.start + u32::try_from(support::GANNET_BINARY.len()).unwrap();
        let mut longer = support::GANNET_BINARY.to_vec();
        longer.extend([0x12; 64]);
        lock(&scene.world)
            .unit(PORT)
            .unwrap()
            .flash_mut()
            .add_stuck_bit(vaka_sim::flash::StuckBit { address: end + 9, bit: 7 });
        let at = ReadOptions { at: Some(Address::new(0x5000)), ..ReadOptions::default() };
        let (report, events) = scene.update_with(&longer, |request| request.files[0].options = at);
        assert_eq!((report.code, report.check), (code, check), "{:?}", failure(&events));
        if code == ExitCode::Done {
            assert!(
                warnings(&events).iter().any(|warning| matches!(warning, Warning::ReadBackProvesNothing(_))),
                "{:#?}",
                warnings(&events)
            );
        }
    }
}

/// The memory of a Tern r1 with the demo's 1.5.0 in it, as one HEX file.
fn whole_memory() -> Vec<u8> {
    let scene = tern(Quirks::default(), false);
    let mut bytes = scene.before.clone();
    bytes[0x2400..0x2400 + TERN_BINARY.len()].copy_from_slice(TERN_BINARY);
    let at = ReadOptions { at: Some(Address::new(0x0A00_0000)), ..ReadOptions::default() };
    hex::write(&vaka_image::read(&bytes, at).unwrap())
}

#[test]
fn read_protection_is_seen_before_anything_is_lost() {
    let protected = tern(Quirks::default(), true);
    let (report, events) = protected.update_with(TERN_HEX, |request| request.consents = vec!["unprotect".into()]);
    let said = failure(&events).unwrap();
    assert_eq!(report.code, ExitCode::Refused, "{said:?}");
    assert!(matches!(&*said.kind, FailureKind::ReadProtected { .. }), "{said:?}");
    assert_eq!(said.remedies, [Remedy::BootloaderWouldBeLost(Address::new(0x0A00_0000))]);
    assert_eq!(protected.memory(0x0A00_0000..0x0A02_4000), protected.before);
    // A unit whose image holds all that the lifting takes.
    let whole = whole_memory();
    for (consents, code) in [(vec!["no-sheet"], ExitCode::Refused), (vec!["no-sheet", "unprotect"], ExitCode::Done)] {
        let mut scene = tern(Quirks::default(), true);
        scene.sheets.clear();
        let consents: Vec<String> = consents.into_iter().map(String::from).collect();
        let (report, events) = scene.update_with(&whole, |request| request.consents = consents);
        assert_eq!(report.code, code, "{:?}", failure(&events));
        if code == ExitCode::Refused {
            let said = failure(&events).unwrap();
            assert_eq!(said.remedies, [Remedy::ConsentToErase("unprotect")]);
            assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before);
            continue;
        }
        assert_eq!((report.check, report.after), (Check::ReadBack, RestartState::Restarted));
        assert!(scene.holds_image());
        scene.assert_unharmed("lifted, and rewritten");
    }
}

#[test]
fn everything_is_erased_only_with_the_consent_to_each_loss() {
    let scene = tern(Quirks::default(), false);
    let (report, events) = scene.update_with(TERN_HEX, |request| request.erase_all = true);
    let said = failure(&events).unwrap();
    assert_eq!(report.code, ExitCode::Refused);
    let FailureKind::Refused(RefusalReason::Evidence(against)) = &*said.kind else { panic!("{said:?}") };
    assert!(against.sentence().contains("settings, 3 KiB"), "{against:?}");
    assert_eq!(said.remedies, [Remedy::Consent(vec!["lose-settings".into()])]);
    assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before);
    // Something of an older firmware, far behind the new one.
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(0x0A01_0000, b"old");
    let (report, events) = scene.update_with(TERN_HEX, |request| {
        request.erase_all = true;
        request.consents = vec!["lose-settings".into()];
    });
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!(scene.memory(0x0A00_0000..0x0A00_2400), scene.before[..0x2400], "the bootloader stays");
    assert!(scene.memory(0x0A00_7800..0x0A02_4000).iter().all(|byte| *byte == 0xFF), "all else is erased");
    // By hand: 48 sectors without the bootloader's 3.
    assert_eq!(report.transfers.erase, 45 * 3);
    // Plain DFU has no such request.
    let plain = gannet(Gannet::TRAITS, Quirks::default());
    let agree = vec!["lose-settings".into()];
    let (report, events) =
        plain.update_with(plain.file, |request| (request.erase_all, request.consents) = (true, agree));
    assert_eq!(report.code, ExitCode::Refused);
    let FailureKind::NoPlan(error) = &*failure(&events).unwrap().kind else { panic!("{:?}", failure(&events)) };
    assert!(matches!(error, PlanError::UnitDecides { option: ErasesOption::EraseAll, .. }), "{error:?}");
}

#[test]
fn without_a_bootloader_everything_is_erased_at_once() {
    let mut scene = tern(Quirks::default(), false);
    scene.sheets.clear();
    let consents = |ids: &[&str]| ids.iter().map(|id| (*id).to_owned()).collect::<Vec<_>>();
    let whole = whole_memory();
    let both = consents(&["no-sheet", "lose-everything"]);
    let (report, events) = scene.update_with(&whole, |request| (request.erase_all, request.consents) = (true, both));
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!(report.transfers.erase, 3, "one command, and its status before and after");
    let (report, events) =
        scene.update_with(&whole, |request| (request.erase_all, request.consents) = (true, consents(&["no-sheet"])));
    assert_eq!(
        report.code,
        ExitCode::NoUnit,
        "the application runs, which has no DFU interface: {:?}",
        failure(&events)
    );
}

/// Rule: without a sheet only what the unit reports as writable is written, the
/// image has addresses, and the consent is needed.
#[test]
fn a_unit_without_a_sheet_is_updated_by_its_own_report_and_with_consent() {
    let no_sheet = || vec!["no-sheet".to_owned()];
    let undescribed = || {
        let mut scene = tern(Quirks::default(), false);
        scene.sheets.clear();
        scene
    };
    let scene = undescribed();
    let (report, events) = scene.update();
    let said = failure(&events).unwrap();
    assert_eq!(report.code, ExitCode::Refused);
    assert_eq!(said.remedies, [Remedy::Consent(vec!["no-sheet".into()])]);
    assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before);

    let (report, events) = scene.update_with(TERN_HEX, |request| request.consents = no_sheet());
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert_eq!(report.after, RestartState::Restarted, "without a sheet the application cannot be confirmed");
    assert!(scene.holds_image());
    scene.assert_unharmed("only what the image touches");

    let elsewhere =
        vaka_image::read(TERN_HEX, ReadOptions::default()).unwrap().moved(Address::new(0x0A02_3F00)).unwrap();
    for (file, is_raw) in [(hex::write(&elsewhere), false), (TERN_BINARY.to_vec(), true)] {
        let scene = undescribed();
        let (report, events) = scene.update_with(&file, |request| request.consents = no_sheet());
        let said = failure(&events).unwrap();
        let is_told = match &*said.kind {
            FailureKind::NoAddress => is_raw,
            FailureKind::Refused(RefusalReason::Evidence(against)) => against.sentence().contains("0x0A02_4000"),
            _ => false,
        };
        assert!(report.code == ExitCode::Refused && is_told, "{said:?}");
        assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before);
    }
}

/// Plain DFU tells no memory: only a suffix that names the unit speaks for a file.
#[test]
fn an_undescribed_plain_unit_takes_only_a_file_that_names_it() {
    let with_suffix = |vendor, product| {
        let mut bytes = support::GANNET_BINARY.to_vec();
        append_suffix(&mut bytes, Suffix { release: 0xFFFF, product, vendor, version: 0x0100 });
        bytes
    };
    let named = with_suffix(0x1209, 0x0004);
    for (file, code) in [
        (named.clone(), ExitCode::Done),
        (with_suffix(0xFFFF, 0xFFFF), ExitCode::Refused),
        (with_suffix(0x1209, 0x0003), ExitCode::Refused),
        (support::GANNET_BINARY.to_vec(), ExitCode::Refused),
    ] {
        for booted in [true, false] {
            let unit = Gannet::new("G-00031");
            let unit = if booted { unit.in_boot_mode() } else { unit };
            let scene = Scene::gannet(unit, Vec::new(), "");
            let (report, events) = scene.update_with(&file, |request| {
                request.consents = vec!["no-sheet".into()];
                request.memory = MemoryChoice::parse("Gannet firmware");
            });
            assert_eq!(report.code, code, "booted {booted}: {:?}", failure(&events));
            assert_eq!(scene.holds_image(), code == ExitCode::Done);
            // A refusal may follow the detach: the state says in which mode that left the unit.
            if code == ExitCode::Refused {
                let is_booted = scene.condition() == Condition::Boot;
                let state = if is_booted { UnitState::UnchangedInUpdateMode } else { UnitState::Unchanged };
                assert_eq!(report.state, Some(state), "booted {booted}");
            }
            scene.assert_unharmed("undescribed");
        }
    }
    // Of two memories none is taken without a choice.
    let scene = Scene::gannet(Gannet::new("G-00031").in_boot_mode(), Vec::new(), "");
    let (report, events) = scene.update_with(&named, |request| request.consents = vec!["no-sheet".into()]);
    let FailureKind::Undescribed(SynthesisError::SeveralMemories(names)) = &*failure(&events).unwrap().kind else {
        panic!("{:?}", failure(&events))
    };
    assert_eq!((report.code, &names[..]), (ExitCode::Refused, "0.0 \"Gannet firmware\", 0.1 \"Gannet settings\""));
    // Without the consent its application is not even asked to leave.
    let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), "");
    let (report, _) = scene.update_with(&named, |request| {
        request.unit = Some(vaka_boot::bench::selector::Selector::Port(PORT.into()));
    });
    assert_eq!((report.code, scene.transfers()), (ExitCode::Refused, 0));
}

/// The sheet's memory, by name and by numbers; one that is not there refuses.
#[test]
fn the_sheet_says_which_memory_is_used() {
    for (line, code) in [
        ("memory = \"Gannet firmware\"", ExitCode::Done),
        ("interface = 0\nalternate = 0", ExitCode::Done),
        // The settings are a memory too, but the image does not go into them.
        ("alternate = 1", ExitCode::Transfer),
        ("alternate = 2", ExitCode::Refused),
        ("", ExitCode::Refused),
        ("memory = \"Options\"", ExitCode::Refused),
    ] {
        let sheet = GANNET.replace("memory = \"Gannet firmware\"", line);
        let scene = Scene::gannet(Gannet::new("G-00031").in_boot_mode(), Vec::new(), &sheet);
        let (report, events) = scene.update();
        assert_eq!(report.code, code, "{line}: {:?}", failure(&events));
        assert_eq!(scene.holds_image(), code == ExitCode::Done);
    }
}

/// A sheet for parts with more and with less flash: what the unit reports counts, down to the least size.
#[test]
fn a_flash_of_the_size_that_the_unit_reports() {
    let flash = "flash = [{ start = 0x0A00_0000, sectors = 48, size = \"3 KiB\" }]";
    let bootloader = "[[variant.region]]\nname = \"bootloader\"";
    let beyond = "[[variant.region]]\nname = \"log\"\nstart = 0x0A02_4000\nsize = \"12 KiB\"";
    let with = |least: &str| {
        assert!(TERN.contains(flash) && TERN.contains(bootloader));
        let larger = format!("{}\nreported_flash = {{ least = {least} }}", flash.replace("48", "96"));
        TERN.replacen(flash, &larger, 1).replacen(bootloader, &format!("{beyond}\n{bootloader}"), 1)
    };
    let unit = || Tern::in_boot_mode(Revision::R1, "T1-00217");
    let scene = Scene::tern(unit(), Vec::new(), &with("\"100 KiB\""));
    let (report, events) = scene.update();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    // 48 sectors of 3 KiB are 144 KiB.
    let scene = Scene::tern(unit(), Vec::new(), &with("\"150 KiB\""));
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Refused);
    assert!(support::told(failure(&events).unwrap()).contains("or at least 150 KiB"), "{:?}", failure(&events));
    // Without the key the sheet's size counts alone.
    let scene = Scene::tern(unit(), Vec::new(), &TERN.replacen(flash, &flash.replace("48", "96"), 1));
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Refused, "{:?}", failure(&events));
}
