//! A Tern from a blank board, in two stages: its own bootloader over the chip's boot
//! mode, then its application over that bootloader. In virtual time, and judged by the
//! simulated unit's own memory.

#![allow(clippy::unwrap_used)]

mod support;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use support::{PORT, Scene, TERN, release_entry as entry};
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::{Operator, Unattended};
use vaka_boot::release_install::{ReleaseInstall, StageHooks};
use vaka_boot::update::Request;
use vaka_core::event::FailureText;
use vaka_core::event::{ExitCode, Report, RestartState, RunOutcome, StageState};
use vaka_core::matching::Question;
use vaka_core::release::Release;
use vaka_core::release::manifest::{ExternalStep, Loss, STANDARD, Stage};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_usb::{Bus, Clock};

const LOADER_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-loader-1.1.0.hex");
/// By `objcopy`, from the same links as the HEX files.
const LOADER: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-loader-1.1.0.bin");
const OTHER_LOADER_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r2-loader-1.1.0.hex");
const OTHER_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r2-1.5.0.hex");

/// The two stages; `external` makes the second another tool's.
fn release(external: Option<ExternalStep>) -> Release {
    let stage = |name: &str, stage: Option<&str>, external, images| Stage {
        name: name.into(),
        stage: stage.map(Into::into),
        external,
        images,
    };
    let loaders = vec![
        entry("loader-r1.hex", "r1", &[("hand-over", "0x0A002400"), ("crystal", "8 MHz")]),
        entry("loader-r2.hex", "r2", &[("hand-over", "0x0A003000"), ("crystal", "12 MHz")]),
    ];
    let applications = vec![entry("app-r1.hex", "r1", &[]), entry("app-r2.hex", "r2", &[])];
    let stages =
        vec![stage("Bootloader", Some("loader"), None, loaders), stage("Application", None, external, applications)];
    let loses = vec![Loss { id: "old-loader".into(), what: "the bootloader that is in it".into() }];
    let members = [
        ("loader-r1.hex", LOADER_HEX),
        ("loader-r2.hex", OTHER_LOADER_HEX),
        ("app-r1.hex", support::TERN_HEX),
        ("app-r2.hex", OTHER_HEX),
    ];
    let members = members.iter().map(|(name, data)| ((*name).to_owned(), data.to_vec())).collect();
    support::release(stages, loses, members)
}

/// An operator who reads the label and answers every question with yes.
struct Helpful(bool);

impl Operator for Helpful {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        Some("SKI-TERN R1; OYS-144".into())
    }

    fn is_there(&self) -> bool {
        true
    }

    fn confirm_success(&mut self, _: &str) -> Option<bool> {
        Some(self.0)
    }

    fn await_done(&mut self, _: &str) -> bool {
        true
    }
}

/// The handling of a file for another tool.
struct Hands<'a>(&'a Scene, bool);

impl StageHooks for Hands<'_> {
    fn begins(&mut self, _: usize) {}

    /// The other tool: writes into the flash itself, and starts the unit.
    fn export_file(&mut self, name: &str, bytes: &[u8]) -> Result<String, FailureText> {
        assert_eq!((name, bytes), ("app-r1.hex", support::TERN_HEX));
        if self.1 {
            let mut world = lock(&self.0.world);
            let start = Tern::application_region(Revision::R1).start;
            world.unit(PORT).unwrap().flash_mut().put(start, support::TERN_BINARY);
            world.act_later(PORT, Duration::from_secs(2), UserAction::Tap("RESET".into()));
        }
        Ok(name.to_owned())
    }
}

fn blank(faults: Vec<Fault>) -> Scene {
    let mut scene = Scene::tern(Tern::blank(Revision::R1, "T1-00300").unplugged(), faults, TERN);
    scene.kept.clear();
    scene
}

fn run(scene: &Scene, release: &Release, operator: &mut dyn Operator, works: bool) -> (Report, Vec<Event>) {
    run_with(scene, release, operator, works, |_| {})
}

fn run_with(
    scene: &Scene,
    release: &Release,
    operator: &mut dyn Operator,
    works: bool,
    change: impl FnOnce(&mut Request<'_>),
) -> (Report, Vec<Event>) {
    let buses: Vec<Arc<dyn Bus>> = vec![Arc::new(scene.bus())];
    let staged =
        ReleaseInstall { buses: &buses, guard: None, secrets: None, sheet: &scene.sheets[0], release, build: STANDARD };
    let mut request = Request {
        wait: Duration::from_secs(6),
        consents: vec!["lose-old-loader".into()],
        label: Some("r1".into()),
        ..Request::new(&[])
    };
    change(&mut request);
    let stop = AtomicBool::new(false);
    let mut events = Vec::new();
    let mut tell = |event| events.push(event);
    let mut cx = Context::new(&*scene.clock, &mut tell, &stop);
    let report = staged.run(&request, operator, &mut cx, &mut Hands(scene, works));
    (report, events)
}

/// The required content of the flash at the end: the loader, the application, and nothing else.
#[track_caller]
fn assert_done(scene: &Scene, what: &str) {
    let (boot, app) = (Tern::bootloader_region(Revision::R1), Tern::application_region(Revision::R1));
    let whole = |image: &[u8], len: usize| {
        let mut bytes = image.to_vec();
        bytes.resize(len, 0xFF);
        bytes
    };
    assert!(scene.memory(boot.clone()) == whole(LOADER, boot.len()), "{what}: the bootloader");
    assert!(scene.memory(app.clone()) == whole(support::TERN_BINARY, app.len()), "{what}: the application");
    assert_eq!(scene.condition(), Condition::Application, "{what}");
}

fn states(events: &[Event]) -> Vec<(usize, StageState)> {
    let state = |event: &Event| match event {
        Event::Stage { number, state, .. } => Some((*number, *state)),
        _ => None,
    };
    events.iter().filter_map(state).collect()
}

fn hands(events: &[Event]) -> Vec<String> {
    let action = |event: &Event| match event {
        Event::ManualStep { step, .. } => Some(step.action.clone()),
        _ => None,
    };
    events.iter().filter_map(action).collect()
}

const BOTH: [(usize, StageState); 6] = [
    (1, StageState::Planned),
    (2, StageState::Planned),
    (1, StageState::Started),
    (1, StageState::Done),
    (2, StageState::Started),
    (2, StageState::Done),
];

#[test]
fn a_blank_board_becomes_a_unit_in_two_stages() {
    let scene = blank(Vec::new());
    lock(&scene.world).act_later(PORT, Duration::from_secs(2), UserAction::Plug);
    let (report, events) = run(&scene, &release(None), &mut Helpful(true), false);
    assert_eq!((report.code, report.after), (ExitCode::Done, RestartState::Confirmed), "{events:#?}");
    assert_eq!(states(&events), BOTH);
    assert_done(&scene, "at once");
    // Manual steps are undone in the right order, and only at the end.
    let undone: Vec<&str> = report.undo.iter().map(|undone| undone.action.as_str()).collect();
    assert_eq!(undone, ["Pull the cable.", "Set jumper J3 back to BAT.", "Put the battery back."]);
    assert_eq!(hands(&events)[hands(&events).len() - 3..], undone);
    // The cable was not pulled, and the bus shows that.
    assert!(report.undo.iter().all(|undone| !undone.done));
}

/// That the cable is pulled at the end is seen on the bus; a jumper cannot be seen.
#[test]
fn what_is_undone_is_seen_where_it_can_be() {
    let scene = blank(Vec::new());
    lock(&scene.world).act_later(PORT, Duration::from_secs(1), UserAction::Plug);
    lock(&scene.world).act_later(PORT, Duration::from_secs(7), UserAction::Pull);
    let (report, events) = run(&scene, &release(None), &mut Helpful(true), false);
    assert_eq!(report.code, ExitCode::Done, "{events:#?}");
    let seen: Vec<bool> = report.undo.iter().map(|undone| undone.done).collect();
    assert_eq!(seen, [true, false, false], "{events:#?}");
}

/// Losses require consent before the first change; a plan changes nothing.
#[test]
fn nothing_is_changed_before_the_loss_is_agreed_to() {
    for (consents, plan_only, code) in [(false, false, ExitCode::Refused), (true, true, ExitCode::Done)] {
        let scene = Scene::tern_r1(Vec::new());
        let (report, events) = run_with(&scene, &release(None), &mut Helpful(true), false, |request| {
            request.plan_only = plan_only;
            if !consents {
                request.consents.clear();
            }
        });
        assert_eq!(report.code, code, "{events:#?}");
        assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before);
        let plans = events.iter().filter(|event| matches!(event, Event::Plan { .. })).count();
        assert_eq!(plans, if plan_only { 2 } else { 0 }, "{events:#?}");
        let words = format!("{events:?}");
        assert!(consents || words.contains("lose-old-loader"), "{words}");
    }
}

/// The cable is pulled at each transfer of both stages. The user's next action is what
/// the sheet says; the next run goes on where the unit stands.
#[test]
fn every_point_of_interruption_is_gone_on_from() {
    let scene = blank(Vec::new());
    lock(&scene.world).act_later(PORT, Duration::from_secs(1), UserAction::Plug);
    run(&scene, &release(None), &mut Helpful(true), false);
    let all = scene.transfers();
    assert!(all > 80, "{all} transfers");
    let release = release(None);
    let (mut in_first, mut past) = (0, 0);
    for at in 1..=all {
        let scene = blank(vec![Fault { at, kind: FaultKind::Pull(None) }]);
        lock(&scene.world).act_later(PORT, Duration::from_secs(1), UserAction::Plug);
        let (first, _) = run(&scene, &release, &mut Helpful(true), false);
        assert!(first.code != ExitCode::Done || at == all, "transfer {at}: a success without a cable");
        scene.act(UserAction::Plug);
        scene.clock.sleep(Duration::from_secs(1));
        assert_ne!(scene.condition(), Condition::Bricked, "transfer {at}");
        if scene.condition() == Condition::Silent {
            scene.back_into_update_mode();
        }
        if scene.condition() == Condition::Application {
            assert_done(&scene, &format!("transfer {at}, whose unit runs"));
            continue;
        }
        let (report, events) = run(&scene, &release, &mut Helpful(true), false);
        assert_eq!(report.code, ExitCode::Done, "transfer {at}: {events:#?}");
        assert_done(&scene, &format!("transfer {at}"));
        // The user is told to remove a jumper that an earlier run had set.
        assert_eq!(report.undo.len(), 3, "transfer {at}: {:?}", report.undo);
        match states(&events).contains(&(1, StageState::Past)) {
            true => past += 1,
            false => in_first += 1,
        }
    }
    assert!(in_first > 5 && past > 50, "{in_first} in the first stage, {past} behind it");
}

/// The label text selects the variant as well as its id, also for a unit that is
/// past the first stage.
#[test]
fn the_printed_label_does_for_all_stages() {
    let scene = blank(vec![Fault { at: 60, kind: FaultKind::Pull(None) }]);
    lock(&scene.world).act_later(PORT, Duration::from_secs(1), UserAction::Plug);
    let printed = |request: &mut Request<'_>| request.label = Some("SKI-TERN R1; OYS-144".into());
    let (first, _) = run_with(&scene, &release(None), &mut Helpful(true), false, printed);
    assert_ne!(first.code, ExitCode::Done);
    scene.act(UserAction::Plug);
    scene.clock.sleep(Duration::from_secs(1));
    let (report, events) = run_with(&scene, &release(None), &mut Helpful(true), false, printed);
    assert_eq!(report.code, ExitCode::Done, "{events:#?}");
    assert!(states(&events).contains(&(1, StageState::Past)), "{:?}", states(&events));
    assert_done(&scene, "by its label");
}

/// A cable that is loose and finds its way back is gone on with in the same run.
#[test]
fn a_loose_cable_does_not_end_the_run() {
    let release = release(None);
    for at in (1..90).step_by(7) {
        let scene = blank(vec![Fault { at, kind: FaultKind::Pull(Some(Duration::from_millis(300))) }]);
        lock(&scene.world).act_later(PORT, Duration::from_secs(1), UserAction::Plug);
        let (report, _) = run(&scene, &release, &mut Helpful(true), false);
        assert_ne!(scene.condition(), Condition::Bricked, "transfer {at}");
        if report.code == ExitCode::Done {
            assert_done(&scene, &format!("transfer {at}"));
        }
    }
}

fn by_probe(shows: Option<&str>) -> ExternalStep {
    ExternalStep {
        tool: "the probe on the debug pins".into(),
        action: "Write the file with the probe, then tap RESET.".into(),
        why: None,
        see: Some("The level is shown.".into()),
        shows: shows.map(Into::into),
    }
}

#[test]
fn the_second_stage_may_be_another_tools() {
    // (what the bus shows then, the operator's answer, whether the tool works, the operator)
    let cases = [
        (Some("1209:0001"), true, true, true, ExitCode::Done),
        (Some("1209:0001"), true, true, false, ExitCode::Done),
        (Some("1209:0001"), true, false, true, ExitCode::Transfer),
        (None, true, true, true, ExitCode::Done),
        (None, false, false, true, ExitCode::Transfer),
        (None, true, true, false, ExitCode::Refused),
    ];
    for (shows, says, works, is_there, code) in cases {
        let scene = blank(Vec::new());
        lock(&scene.world).act_later(PORT, Duration::from_secs(1), UserAction::Plug);
        let operator: &mut dyn Operator = if is_there { &mut Helpful(says) } else { &mut Unattended };
        let (report, events) = run(&scene, &release(Some(by_probe(shows))), operator, works);
        let what = format!("{shows:?} {says} {works} {is_there}");
        assert_eq!(report.code, code, "{what}: {events:#?}");
        if code == ExitCode::Refused {
            // No operator for the second stage: the first is not started.
            assert_eq!((report.outcome, scene.transfers()), (RunOutcome::Refused, 0), "{what}");
            continue;
        }
        let handed = events.iter().find_map(|event| match event {
            Event::Exported { file, sha256, .. } => Some((file.clone(), sha256.clone())),
            _ => None,
        });
        // By sha256sum, of the demo's file.
        let digest = sha256(support::TERN_HEX);
        assert_eq!(handed, Some(("app-r1.hex".into(), digest)), "{what}");
        if works {
            scene.clock.sleep(Duration::from_secs(3));
            assert_done(&scene, &what);
        }
    }
}

fn sha256(bytes: &[u8]) -> String {
    use sha2::{Digest, Sha256};
    vaka_base::text::hex(&Sha256::digest(bytes))
}

/// A loader for the other board never gets into a unit: its layout says so.
#[test]
fn the_other_boards_loader_is_refused() {
    let scene = Scene::tern_r1(Vec::new());
    let (report, events) = run_with(&scene, &release(None), &mut Helpful(true), false, |request| {
        request.label = Some("r2".into());
    });
    assert_eq!(report.code, ExitCode::Refused, "{events:#?}");
    assert_eq!(scene.memory(0x0A00_0000..0x0A02_4000), scene.before);
}
