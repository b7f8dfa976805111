//! Claims of a run: one named test for each claim that was once untrue.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Mutex;
use std::time::Duration;

use support::{GANNET, GANNET_DFU, PORT, Scene, TERN, TERN_BINARY, TERN_HEX, failure, warnings};
use vaka_base::version::Version;
use vaka_boot::event::Event;
use vaka_boot::failure::{Activity, Failure, FailureKind, VersionOrigin};
use vaka_boot::protocol::session_error::SessionError;
use vaka_boot::remedy::Remedy;
use vaka_boot::update::{History, SaveFn};
use vaka_boot::warning::Warning;
use vaka_core::dfu::Status;
use vaka_core::event::{Check, ExitCode, FailureText, Report, RestartState, RunOutcome};
use vaka_core::unit_state::UnitState;
use vaka_image::address::{Address, Span};
use vaka_image::{Image, ReadOptions, hex};
use vaka_sim::bootloader::dfu::{Quirks, Staging};
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::petrel::{self, Board, Petrel};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_usb::Clock;

/// A sheet of the Gannet that does not say where a version is told.
fn without_version(sheet: &str) -> String {
    sheet.replace("version = \"release-number\"\n", "")
}

/// A Gannet in update mode that keeps its old application until the manifestation, cannot be
/// read, and answers nothing after it.
fn staged(will_detach: bool, faults: Vec<Fault>, sheet: &str) -> Scene {
    let traits = Traits { can_upload: false, tolerant: false, will_detach };
    let manner = Quirks { staging: Staging::UntilManifest, ..Quirks::default() };
    Scene::gannet(Gannet::with("G-00031", traits, manner).in_boot_mode(), faults, sheet)
}

/// The transfer that ends the image, counted from 1: the last download, of no bytes.
fn end_of_download(scene: &Scene) -> u64 {
    scene.update();
    let world = lock(&scene.world);
    let is_end =
        |entry: &vaka_sim::world::LogEntry| (entry.setup.kind, entry.setup.request, entry.data_len) == (0x21, 1, 0);
    let last = world.log(PORT).iter().rposition(is_end).unwrap();
    last as u64 + 1
}

/// A lost request at the end of a download, or a lost reply to it, does not prove acceptance: the old
/// application that comes back does not make the update a success.
#[test]
fn a_lost_end_of_a_download_is_not_taken_for_acceptance() {
    let kinds = [
        FaultKind::Timeout,
        FaultKind::LostReply,
        FaultKind::Pull(Some(Duration::from_millis(300))),
        FaultKind::PowerFail(Duration::from_millis(300)),
        FaultKind::Stall,
    ];
    let mut good = 0;
    for sheet in [GANNET.to_owned(), without_version(GANNET)] {
        for will_detach in [false, true] {
            let end = end_of_download(&staged(will_detach, Vec::new(), &sheet));
            // The end itself, and the DFU_GETSTATUS that starts the manifestation.
            for (at, kind) in (end..=end + 1).flat_map(|at| kinds.iter().map(move |kind| (at, kind.clone()))) {
                let what = format!("{kind:?} at {at}, will detach {will_detach}");
                let scene = staged(will_detach, vec![Fault { at, kind: kind.clone() }], &sheet);
                let (report, events) = scene.update();
                assert!(report.code != ExitCode::Done || scene.holds_image(), "{what}: a false success");
                assert!(report.code == ExitCode::Done || failure(&events).is_some(), "{what}");
                if kind == FaultKind::Timeout {
                    // The unit says that it has not taken it, so it is told again.
                    assert_eq!(report.code, ExitCode::Done, "{what}: {:?}", failure(&events));
                }
                good += u32::from(report.code == ExitCode::Done);
            }
        }
    }
    assert!(good >= 8, "{good}");
}

/// The same for a unit that never answers the request: nothing shows that it took it.
#[test]
fn a_unit_that_goes_silent_at_the_end_is_not_a_success() {
    let end = end_of_download(&staged(false, Vec::new(), &without_version(GANNET)));
    let silent = (end..end + 6).map(|at| Fault { at, kind: FaultKind::Timeout }).collect();
    let scene = staged(false, silent, &without_version(GANNET));
    let (report, events) = scene.update();
    assert!(report.code != ExitCode::Done || scene.holds_image());
    let first = format!("{:?}", warnings(&events));
    assert!(report.code == ExitCode::Done || failure(&events).is_some(), "{first}");
}

/// A unit whose image counts only after a reset gives the old one before: it is reset and
/// read again before it is judged.
#[test]
fn a_unit_that_is_effective_after_a_reset_is_read_again() {
    let manner = Quirks { staging: Staging::UntilReset, ..Quirks::default() };
    let scene = Scene::gannet(Gannet::with("G-00031", Gannet::TRAITS, manner), Vec::new(), GANNET);
    let (report, events) = scene.update();
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!((report.state, report.after), (Some(UnitState::Running), RestartState::Confirmed));
    assert!(warnings(&events).contains(&&Warning::DiffersBeforeReset));
}

/// A fault while a unit is read in a second visit says nothing of "unchanged".
#[test]
fn a_fault_in_a_second_visit_tells_what_the_first_one_did() {
    let leaving = || Traits { can_upload: true, tolerant: false, will_detach: true };
    let unit = || Gannet::with("G-00031", leaving(), Quirks::default());
    let whole = Scene::gannet(unit(), Vec::new(), GANNET);
    whole.update();
    let count = whole.transfers();
    let mut told = 0;
    for at in count - 6..count {
        let scene = Scene::gannet(unit(), vec![Fault { at, kind: FaultKind::Pull(None) }], GANNET);
        let (report, events) = scene.update();
        let Some(said) = failure(&events) else { continue };
        told += 1;
        assert!(!report.state.unwrap().is_unchanged(), "{at}: {said:?}");
        assert!(!said.unit_state().unwrap().is_unchanged(), "{at}: {said:?}");
    }
    assert!(told > 0);
}

/// After a resume the state follows from both attempts, and the first failure is told too.
#[test]
fn a_second_fault_after_a_resume_does_not_hide_the_first() {
    let pull = |at, back: Option<u64>| Fault { at, kind: FaultKind::Pull(back.map(Duration::from_millis)) };
    let scene = Scene::tern_r1(vec![pull(60, Some(700)), pull(70, None)]);
    scene.act_at(Duration::from_millis(600), "hold SET");
    let (report, events) = scene.update();
    let said = failure(&events).unwrap();
    assert_eq!((report.code, report.disconnects), (ExitCode::Transfer, 2), "{said:?}");
    let FailureKind::AfterReturn { first, .. } = &*said.kind else { panic!("{said:?}") };
    assert!(matches!(**first, FailureKind::Session { activity: Activity::Writing(_), .. }), "{said:?}");
    assert!(matches!(report.state, Some(UnitState::PartlyErased | UnitState::PartlyWritten)), "{said:?}");
}

/// A unit that comes back under its old number is back.
#[test]
fn a_unit_that_returns_under_its_old_number_is_back() {
    let scene = Scene::tern_r1(vec![Fault { at: 50, kind: FaultKind::PowerFail(Duration::from_millis(900)) }]);
    scene.act_at(Duration::from_millis(100), "hold SET");
    let (report, events) = scene.update();
    assert_eq!((report.code, report.disconnects), (ExitCode::Done, 1), "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// The bootloader's own status is asked for when a unit comes back in it.
#[test]
fn bad_firmware_after_the_restart_is_reported_with_what_helps() {
    let sheet: Vec<&str> =
        GANNET.lines().filter(|line| !line.starts_with("length = ") && !line.starts_with("checksum = ")).collect();
    let traits = Traits { can_upload: true, tolerant: false, will_detach: false };
    let scene = Scene::gannet(Gannet::with("G-00031", traits, Quirks::default()), Vec::new(), &sheet.join("\n"));
    let mut unsound = support::GANNET_BINARY.to_vec();
    *unsound.last_mut().unwrap() ^= 0x55;
    let at = ReadOptions { at: Some(Address::new(0x5000)), ..ReadOptions::default() };
    let (report, events) = scene.update_with(&unsound, |request| request.files[0].options = at);
    let said = failure(&events).unwrap();
    assert_ne!(report.code, ExitCode::Done, "{said:?}");
    let status = match &*said.kind {
        FailureKind::NotBack { status: Some(status), .. } => *status,
        FailureKind::Session { error: SessionError::DfuStatus { status, .. }, .. } => *status,
        _ => panic!("{said:?}"),
    };
    assert!(matches!(status, Status::File | Status::Firmware), "{said:?}");
    let resets = [Remedy::SetSwitchesBackAndLook, Remedy::ResetOrReplug];
    assert!(!said.remedies.iter().any(|remedy| resets.contains(remedy)), "{said:?}");
}

/// The file is refused because the unit holds this newer version.
#[track_caller]
fn assert_older(said: &Failure, version: &str, wanted: VersionOrigin) {
    let FailureKind::Older { against, origin } = &*said.kind else { panic!("{said:?}") };
    let sentence = against.sentence();
    assert!(*origin == wanted && sentence.contains(&format!("older than the unit's {version}")), "{sentence}");
}

/// A file that is older than what the flash of a unit in update mode holds asks for the
/// agreement, although the unit cannot report a version there.
#[test]
fn an_older_file_asks_for_its_agreement_in_update_mode_too() {
    let mut scene = Scene::tern_r1(Vec::new());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    scene.back_into_update_mode();
    scene.rewrite = false;
    let old = include_bytes!("../../../demo/firmware/out/tern-r1-1.4.0.hex");
    let before = scene.memory(0x0A00_0000..0x0A02_4000);
    let (report, events) = scene.update_with(old, |_| {});
    let said = failure(&events).unwrap();
    assert_eq!((report.code, report.outcome), (ExitCode::Refused, RunOutcome::Refused), "{said:?}");
    assert_older(said, "1.5.0", VersionOrigin::Flash);
    assert_eq!(report.version_before, Some(Version::parse("1.5.0")));
    assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), before);
    let (report, events) = scene.update_with(old, |request| request.consents = vec!["older-version".into()]);
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert_eq!(report.version_before, Some(Version::parse("1.5.0")));
}

#[derive(Debug)]
struct Remembered;

impl History for Remembered {
    fn newest_version(&self, product: &str, _: Option<&str>, serials: &[&str]) -> Option<Version> {
        let is_it = product == "Gannet hydrophone interface" && serials.contains(&"G-00031");
        is_it.then(|| Version::parse("9.0.0"))
    }
}

/// Where the unit cannot be read, the last confirmed version of its serial number counts.
#[test]
fn the_last_confirmed_version_counts_where_the_flash_cannot_be_read() {
    let scene = staged(false, Vec::new(), GANNET);
    let (report, events) = scene.update_with(GANNET_DFU, |request| request.history = Some(&Remembered));
    let said = failure(&events).unwrap();
    assert_eq!(report.code, ExitCode::Refused, "{said:?}");
    assert_older(said, "9.0.0", VersionOrigin::Journal);
    assert!(!scene.holds_image());
}

/// Without a sheet, what shares a sector with the image stays.
#[test]
fn without_a_sheet_the_rest_of_a_sector_is_preserved() {
    let beside: Vec<u8> = (1..=100).collect();
    // The last sector that the image touches has room behind it.
    let end = 0x0A00_2400 + u32::try_from(TERN_BINARY.len()).unwrap();
    let place = end + 64;
    let scene = Scene::tern(Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new(), "");
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(place, &beside);
    let (report, events) = scene.update_with(TERN_HEX, |request| request.consents = vec!["no-sheet".into()]);
    assert!(matches!(report.code, ExitCode::Done | ExitCode::NotBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!(scene.memory(place..place + 100), beside);
}

/// The content that a run saved before it wrote.
static SAVED: Mutex<Option<Image>> = Mutex::new(None);

fn save(image: &Image, _: &Report) -> Result<String, FailureText> {
    SAVED.lock().unwrap().replace(image.clone());
    Ok("saved.hex".to_owned())
}

/// A cable that drops while the content is saved ends nothing: the save is made once more.
#[test]
fn a_unit_that_is_lost_while_its_content_is_saved_is_waited_for() {
    let back = FaultKind::Pull(Some(Duration::from_millis(700)));
    let scene = Scene::tern(Tern::in_boot_mode(Revision::R1, "T1-00217"), vec![Fault { at: 60, kind: back }], TERN);
    // Without its first sector there is no application to start when the unit is plugged in.
    lock(&scene.world).unit(PORT).unwrap().flash_mut().erase(0x0A00_2400..0x0A00_3000);
    let before = scene.memory(0x0A00_3000..0x0A00_7000);
    let (report, events) = scene.update_with(TERN_HEX, |request| request.save = Some(SaveFn(&save)));
    assert_eq!((report.code, report.disconnects), (ExitCode::Done, 1), "{:?}", failure(&events));
    assert!(scene.holds_image());
    let saved = SAVED.lock().unwrap().take().unwrap();
    assert_eq!(saved.bytes(Span::new(Address::new(0x0A00_3000), 0x4000).unwrap()), Some(&before[..]));
}

/// A UF2 unit that holds the image and leaves update mode only after its last block gets its
/// blocks again, and the plan says so.
#[test]
fn a_unit_that_leaves_only_by_its_last_block_gets_its_blocks_again() {
    let ignores = vaka_sim::bootloader::uf2::Quirks { ignores_eject: true, ..Default::default() };
    let manner = petrel::Quirks { loader: ignores, ..Default::default() };
    let mut scene = Scene::petrel(Petrel::with(Board::Pb1, "P-00112", manner).in_boot_mode(), Vec::new());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    scene.rewrite = false;
    scene.back_into_update_mode();
    let (report, events) = scene.update();
    assert_eq!((report.code, report.after), (ExitCode::Done, RestartState::Confirmed), "{:?}", failure(&events));
    let last = events.iter().rev().find_map(|event| match event {
        Event::Plan { plan, .. } => Some(plan.steps.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")),
        _ => None,
    });
    assert!(last.unwrap().contains("send all blocks again"));
    assert!(scene.holds_image());
    assert_eq!(scene.condition(), Condition::Application);
}

/// A connection that fails in the middle of the last block does not make it arrive.
#[test]
fn a_lost_last_block_is_not_taken_for_acceptance() {
    let unit = || {
        let loader = vaka_sim::bootloader::uf2::Quirks { shows_nothing: true, ..Default::default() };
        let manner = petrel::Quirks { loader, ..Default::default() };
        Petrel::with(Board::Pb1, "P-00112", manner).in_boot_mode()
    };
    let whole = Scene::petrel(unit(), Vec::new());
    assert_eq!(whole.update().0.code, ExitCode::Done);
    let count = whole.transfers();
    let mut failed = 0;
    for at in count - 5..=count {
        for kind in [FaultKind::Pull(Some(Duration::from_millis(200))), FaultKind::Timeout, FaultKind::LostReply] {
            let scene = Scene::petrel(unit(), vec![Fault { at, kind: kind.clone() }]);
            let (report, events) = scene.update();
            assert!(report.code != ExitCode::Done || scene.holds_image(), "{kind:?} at {at} of {count}");
            let total = (support::PETREL_BINARY.len() as u64).next_multiple_of(256);
            let is_last_missing = !scene.holds_image() && report.bytes_written == total;
            assert!(!is_last_missing, "{kind:?} at {at}: {:?}", failure(&events));
            failed += u32::from(report.code != ExitCode::Done);
        }
    }
    assert!(failed > 0);
}

/// An image whose parts lie in two places, of which the second was cut off: refused, since the
/// sheet says how long it is.
#[test]
fn a_truncated_file_is_refused_before_anything_is_erased() {
    for len in (1..20).map(|part| TERN_BINARY.len() * part / 20) {
        let scene = Scene::tern_r1(Vec::new());
        let at = ReadOptions { at: Some(Address::new(0x0A00_2400)), ..ReadOptions::default() };
        let (report, events) = scene.update_with(&TERN_BINARY[..len], |request| request.files[0].options = at);
        assert!(matches!(report.code, ExitCode::Refused | ExitCode::File), "{len}: {:?}", failure(&events));
        assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before, "{len}");
    }
}

/// A file named .dfu without its suffix needs an agreement of its own.
#[test]
fn a_dfu_file_without_its_suffix_is_refused() {
    let payload = &GANNET_DFU[..GANNET_DFU.len() - 16];
    let update = |consents: &[&str]| {
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), GANNET);
        let consents: Vec<String> = consents.iter().map(|id| (*id).to_owned()).collect();
        let (report, events) = scene.update_with(payload, |request| {
            request.files[0].name = Some("gannet-1.3.0.dfu".into());
            request.consents = consents;
        });
        (report.code, failure(&events).cloned())
    };
    let (code, said) = update(&[]);
    let said = said.unwrap();
    assert!(code == ExitCode::Refused && said.remedies == [Remedy::Consent(vec!["no-suffix".into()])], "{said:?}");
    assert_eq!(update(&["no-suffix"]).0, ExitCode::Done);
}

/// An interrupted unit with an image in two parts: bytes checked never exceed the image.
#[test]
fn checked_bytes_never_exceed_the_image() {
    let at = |address: u64| ReadOptions { at: Some(Address::new(address)), ..ReadOptions::default() };
    let parts = [
        vaka_image::read(TERN_HEX, ReadOptions::default()),
        vaka_image::read(&(0..=255).cycle().take(900).collect::<Vec<u8>>(), at(0x0A01_0801)),
    ]
    .map(Result::unwrap);
    let both = Image::join(&parts).unwrap().unwrap();
    let total = both.len();
    for at in (30..140).step_by(11) {
        let fault = Fault { at, kind: FaultKind::Pull(Some(Duration::from_millis(500))) };
        let scene = Scene::tern_r1(vec![fault]);
        scene.act_at(Duration::from_millis(1), "hold SET");
        let (report, _) = scene.update_with(&hex::write(&both), |_| {});
        assert!(
            report.bytes_checked <= total && report.bytes_written + report.bytes_skipped <= total,
            "{at}: {report:?}"
        );
        scene.act("release SET".parse::<UserAction>().unwrap());
        scene.clock.sleep(Duration::from_secs(1));
    }
}
