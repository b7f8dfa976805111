//! Seeded runs over all routes with one to three faults each. After every run its claims are
//! compared with the unit's true memory, buttons and history.
//!
//! `VAKA_CAMPAIGN` sets the number of runs; `VAKA_CAMPAIGN_SEED` repeats one of them.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use support::products::PRODUCTS;
use support::{GANNET, Scene, TERN, failure};
use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::failure::UnitCondition;
use vaka_boot::operator::Operator;
use vaka_boot::update::{self, Request};
use vaka_core::event::{ExitCode, Report, RestartState};
use vaka_core::matching::Question;
use vaka_core::unit_state::UnitState;
use vaka_sim::SharedWorld;
use vaka_sim::bootloader::dfu::{Quirks, Staging};
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::flash::StuckBit;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::unit::heron::Heron;
use vaka_sim::unit::petrel::{Board, Petrel};
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::Random;
use vaka_usb::Clock;

/// Runs without `VAKA_CAMPAIGN`: enough to notice what a change broke.
const RUNS: u64 = 1200;

/// Workers; a test machine has two processors.
const WORKERS: u64 = 2;

/// Kinds of units, by name.
const KINDS: [&str; 15] = [
    "tern, in update mode",
    "tern, by hand",
    "gannet, tolerant",
    "gannet, leaves by itself",
    "gannet, not tolerant, unreadable, staged",
    "gannet, leaves, unreadable, staged",
    "gannet, tolerant, effective after a reset",
    "petrel",
    "petrel, unreadable",
    "heron display",
    "heron interface",
    "dunlin",
    "auk",
    "fulmar",
    "skua",
];

/// The demo's sheet of the Tern with an entry whose step is held until it is undone.
fn tern_by_hand() -> String {
    let step = "do = \"Hold SET, tap RESET, then let go of SET.\"";
    let held = "do = \"Switch the mains off.\"\nheld = true\nundo = { do = \"Switch the mains on.\" }\n\n[[route.entry]]\ndo = \"Set switch SET, tap RESET.\"\nheld = true\nundo = { do = \"Set switch SET back.\", when = \"written\" }";
    TERN.replacen(step, held, 1)
}

fn gannet(traits: Traits, staging: Staging, faults: Vec<Fault>) -> Scene {
    let manner = Quirks { staging, ..Quirks::default() };
    Scene::gannet(Gannet::with("G-00031", traits, manner), faults, GANNET)
}

/// A scene of one kind.
fn scene(kind: usize, faults: Vec<Fault>) -> Scene {
    let traits = |can_upload, tolerant, will_detach| Traits { can_upload, tolerant, will_detach };
    match kind {
        0 => Scene::tern_r1(faults),
        1 => Scene::tern(Tern::new(Revision::R1, "T1-00217"), faults, &tern_by_hand()),
        2 => gannet(Gannet::TRAITS, Staging::None, faults),
        3 => gannet(traits(true, false, true), Staging::None, faults),
        4 => gannet(traits(false, false, false), Staging::UntilManifest, faults),
        5 => gannet(traits(false, false, true), Staging::UntilManifest, faults),
        6 => gannet(Gannet::TRAITS, Staging::UntilReset, faults),
        7 => Scene::petrel(Petrel::new(Board::Pb1, "P-00112").in_boot_mode(), faults),
        8 => {
            let loader = vaka_sim::bootloader::uf2::Quirks { shows_nothing: true, ..Default::default() };
            let manner = vaka_sim::unit::petrel::Quirks { loader, ..Default::default() };
            Scene::petrel(Petrel::with(Board::Pb1, "P-00112", manner).in_boot_mode(), faults)
        }
        9 => Scene::heron(Heron::new("S-00008"), faults, "display"),
        10 => {
            let scene = Scene::heron(Heron::new("S-00008"), faults, "interface");
            scene.back_into_update_mode();
            scene
        }
        kind => PRODUCTS[kind - 11].booted(faults),
    }
}

/// A user at the bench who follows the instructions and sometimes forgets one.
struct OperatorHands {
    world: SharedWorld,
    forgets: bool,
    /// Preparations that are in force: what undoes each.
    in_force: BTreeSet<String>,
    label: &'static str,
}

impl OperatorHands {
    fn hands(&mut self, words: &[&str]) {
        for words in words {
            lock(&self.world).act(support::PORT, &words.parse::<UserAction>().unwrap());
        }
    }

    /// Does a manual step that was shown.
    fn shown(&mut self, action: &str) {
        match action {
            "Switch the mains off." => drop(self.in_force.insert("Switch the mains on.".to_owned())),
            "Set switch SET, tap RESET." => {
                self.in_force.insert("Set switch SET back.".to_owned());
                self.hands(&["hold SET", "tap RESET"]);
            }
            _ => {}
        }
    }
}

impl Operator for OperatorHands {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        Some(self.label.to_owned())
    }

    fn is_there(&self) -> bool {
        true
    }

    fn await_done(&mut self, action: &str) -> bool {
        if self.forgets {
            return false;
        }
        self.in_force.remove(action);
        if action == "Set switch SET back." {
            self.hands(&["release SET"]);
        }
        true
    }

    fn take_ack(&mut self) -> bool {
        true
    }
}

/// One case of the campaign.
struct Case {
    kind: usize,
    scene: Scene,
    /// Whether a bit of the flash is stuck.
    is_worn: bool,
    /// Whether a reply was altered: what was read then is not what the unit holds.
    is_garbled: bool,
    words: String,
}

fn case(seed: u64, lengths: &BTreeMap<usize, u64>) -> Case {
    let mut random = Random(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1);
    (0..4).for_each(|_| _ = random.below(2));
    let kind = random.below(KINDS.len());
    let count = 1 + random.below(3);
    let ms = |random: &mut Random, most: usize| Duration::from_millis(1 + random.below(most) as u64);
    let faults: Vec<Fault> = (0..count)
        .map(|_| {
            // The end of a run is where most is claimed.
            let length = lengths[&kind];
            let at = match random.below(3) {
                0 => 1 + length.saturating_sub(random.below(12) as u64),
                _ => 1 + random.below(usize::try_from(length).unwrap()) as u64,
            };
            let fault = match random.below(8) {
                0 => FaultKind::Stall,
                1 => FaultKind::Timeout,
                2 => FaultKind::Short,
                3 => FaultKind::Pull(None),
                4 => FaultKind::Pull(Some(ms(&mut random, 1500))),
                5 => FaultKind::LostReply,
                6 => FaultKind::Garbled,
                _ => FaultKind::PowerFail(ms(&mut random, 1500)),
            };
            Fault { at, kind: fault }
        })
        .collect();
    let words = format!("seed {seed}: {}, {faults:?}", KINDS[kind]);
    let is_garbled = faults.iter().any(|fault| fault.kind == FaultKind::Garbled);
    let mut scene = scene(kind, faults);
    scene.rewrite = random.once_in(2);
    let is_worn = random.once_in(12);
    if is_worn {
        let address = scene.start + u32::try_from(random.below(scene.binary.len())).unwrap();
        let bit = u8::try_from(random.below(8)).unwrap();
        lock(&scene.world).unit(support::PORT).unwrap().flash_mut().add_stuck_bit(StuckBit { address, bit });
    }
    let before = lock(&scene.world).unit(support::PORT).unwrap().flash().bytes().to_vec();
    scene.before = before;
    Case { kind, scene, is_worn, is_garbled, words }
}

/// The claims of a run, and the real actions of the operator.
struct Claims {
    report: Report,
    events: Vec<Event>,
    in_force: BTreeSet<String>,
}

fn run(case: &Case, seed: u64) -> Claims {
    let mut random = Random(seed | 1 << 40);
    let (forgets, stops) = (random.once_in(3), random.once_in(15).then(|| random.below(60)));
    let scene = &case.scene;
    let bench = Bench::new(vec![std::sync::Arc::new(scene.bus())], &scene.sheets);
    let label = scene.label.map(str::to_owned);
    let request = Request {
        label: label.clone(),
        rewrite: scene.rewrite,
        wait: Duration::from_secs(5),
        ..Request::new(scene.file)
    };
    let world = scene.world.clone();
    let operator =
        Mutex::new(OperatorHands { world, forgets, in_force: BTreeSet::new(), label: scene.label.unwrap_or("none") });
    let stop = AtomicBool::new(false);
    let mut events = Vec::new();
    let mut tell = |event: Event| {
        if let Event::ManualStep { step, .. } = &event {
            operator.lock().unwrap().shown(&step.action);
        }
        events.push(event);
        stop.fetch_or(stops.is_some_and(|stops| events.len() > stops), Ordering::SeqCst);
    };
    let mut cx = Context::new(&*scene.clock, &mut tell, &stop);
    let report = update::run(&bench, &request, &mut Shared(&operator), &mut cx);
    let in_force = operator.lock().unwrap().in_force.clone();
    Claims { report, events, in_force }
}

/// The operator, who is also told of events.
struct Shared<'a>(&'a Mutex<OperatorHands>);

impl Operator for Shared<'_> {
    fn read_label(&mut self, question: &Question) -> Option<String> {
        self.0.lock().unwrap().read_label(question)
    }

    fn is_there(&self) -> bool {
        true
    }

    fn await_done(&mut self, action: &str) -> bool {
        self.0.lock().unwrap().await_done(action)
    }

    fn take_ack(&mut self) -> bool {
        true
    }
}

/// Compares every claim of a run with the truth; what is untrue, in words.
fn untruths(case: &Case, claims: &Claims) -> Vec<String> {
    let Claims { report, events, in_force } = claims;
    let scene = &case.scene;
    let mut untrue = Vec::new();
    let mut must = |holds: bool, words: String| {
        if !holds {
            untrue.push(words);
        }
    };
    let now = lock(&scene.world).unit(support::PORT).unwrap().flash().bytes().to_vec();
    let base = lock(&scene.world).unit(support::PORT).unwrap().flash().base();
    let at = (scene.start - base) as usize;
    let (held, before) = (&now[at..at + scene.binary.len()], &scene.before[at..at + scene.binary.len()]);
    let is_whole = held == scene.binary;
    let equal = held.iter().zip(scene.binary).filter(|(a, b)| a == b).count() as u64;
    // UF2 blocks fill up the last 256 bytes.
    let total = (scene.binary.len() as u64).next_multiple_of(if matches!(case.kind, 7 | 8) { 256 } else { 1 });
    let filled = total - scene.binary.len() as u64;
    let said = failure(events);
    scene.clock.sleep(Duration::from_secs(2));
    let condition = scene.condition();

    must(report.code != ExitCode::Done || is_whole, "exit status 0, and the content is wrong".into());
    must(
        report.code != ExitCode::Done || condition == Condition::Application,
        format!("exit status 0, and it is {condition:?}"),
    );
    must(report.code == ExitCode::Done || said.is_some(), "a failure without an error event".into());
    must(report.code != ExitCode::Done || said.is_none(), "an error event with exit status 0".into());
    must(report.bytes_checked <= equal + filled, format!("{} bytes checked, {equal} are equal", report.bytes_checked));
    must(
        report.bytes_written + report.bytes_skipped <= total,
        format!("{} bytes written and {} skipped of {total}", report.bytes_written, report.bytes_skipped),
    );
    let touched = held != before;
    match report.state {
        None => must(!touched, "no state, and the unit was changed".into()),
        Some(UnitState::Unchanged | UnitState::UnchangedInUpdateMode) => {
            must(!touched, "said to be unchanged, and its application was changed".into());
            let whole = now == scene.before;
            must(whole, "said to be unchanged, and something was changed".into());
        }
        Some(UnitState::CheckedNotStarted | UnitState::Running) => {
            must(
                is_whole || report.check == vaka_core::event::Check::Accepted,
                "said to hold the image, and does not".into(),
            );
        }
        Some(UnitState::WrittenNotChecked) => {
            must(case.is_worn || equal > 0, "said to be written, and nothing is".into())
        }
        Some(UnitState::PartlyErased | UnitState::PartlyWritten) => {
            must(!is_whole || !touched || case.is_garbled, "said to be incomplete, and holds the image".into())
        }
        Some(UnitState::Restarted | UnitState::Unknown) => {}
    }
    if report.state == Some(UnitState::Running) {
        must(
            matches!(report.after, RestartState::Confirmed | RestartState::Seen),
            "running, and nothing confirmed it".into(),
        );
    }
    if let Some(said) = said {
        must(!said.remedies.is_empty(), format!("an error without a remedy: {said:?}"));
        must(
            said.unit_state() == report.state,
            format!("{:?} in the error, {:?} in the result", said.unit_state(), report.state),
        );
        // As the words of a failure have it; see `RunEffect` and the program's messages.
        let not_started = match &said.unit {
            Some(UnitCondition::AfterRun(effect)) => effect.not_restarted && effect.in_update_mode,
            _ => false,
        };
        // The display is updated while the unit's application runs.
        let runs = condition == Condition::Application && case.kind != 9;
        must(!not_started || !runs, "the error says not started".into());
        let claims_nothing = said.unit_state().is_some_and(UnitState::is_unchanged);
        must(!claims_nothing || !touched, "the error says unchanged".into());
    }
    let pending_undo: BTreeSet<String> = report.pending_undo.iter().cloned().collect();
    must(pending_undo == *in_force, format!("owed are {pending_undo:?}, in force are {in_force:?}"));
    untrue
}

/// The counters of the campaign.
#[derive(Default)]
struct Counts {
    runs: AtomicU64,
    failed: AtomicU64,
    disconnects: AtomicU64,
}

/// One run, its claims, and a second run without faults.
fn one(seed: u64, lengths: &BTreeMap<usize, u64>, counts: &Counts) -> Vec<String> {
    let case = case(seed, lengths);
    let claims = run(&case, seed);
    counts.runs.fetch_add(1, Ordering::Relaxed);
    let mut untrue = untruths(&case, &claims);
    case.scene.assert_unharmed(&case.words);
    counts.disconnects.fetch_add(u64::from(claims.report.disconnects > 0), Ordering::Relaxed);
    if claims.report.code != ExitCode::Done {
        counts.failed.fetch_add(1, Ordering::Relaxed);
        untrue.extend(second_run(&case));
    }
    untrue.iter().map(|what| format!("{what}\n- {}\n- {:?}", case.words, failure(&claims.events))).collect()
}

/// A second run without faults ends well, unless the flash is worn.
fn second_run(case: &Case) -> Option<String> {
    let scene = &case.scene;
    lock(&scene.world).clear_faults(support::PORT);
    scene.act("release SET".parse::<UserAction>().unwrap());
    if case.kind == 9 {
        // Its display is updated while the unit runs.
        scene.act(UserAction::Pull);
        scene.act(UserAction::Plug);
        scene.clock.sleep(Duration::from_secs(1));
    } else {
        scene.back_into_update_mode();
    }
    let (report, events) = scene.update();
    let base = lock(&scene.world).unit(support::PORT).unwrap().flash().base();
    let at = scene.start - base;
    let held = lock(&scene.world).unit(support::PORT).unwrap().flash().bytes()[at as usize..].to_vec();
    let is_whole = held.starts_with(scene.binary);
    match (report.code, is_whole) {
        (ExitCode::Done, true) => None,
        (ExitCode::Done, false) => Some("the second run ends well, and the content is wrong".to_owned()),
        _ if case.is_worn => None,
        (code, _) => Some(format!("the second run ends with {code:?}: {:?}", failure(&events))),
    }
}

#[test]
fn no_claim_is_untrue_whatever_goes_wrong() {
    let lengths: BTreeMap<usize, u64> = (0..KINDS.len())
        .map(|kind| {
            let words = KINDS[kind].to_owned();
            let case = Case { kind, scene: scene(kind, Vec::new()), is_worn: false, is_garbled: false, words };
            let claims = run(&case, 3);
            let said = failure(&claims.events);
            assert_eq!(claims.report.code, ExitCode::Done, "{}: {said:?}", case.words);
            assert!(untruths(&case, &claims).is_empty(), "{}: {:?}", case.words, untruths(&case, &claims));
            (kind, case.scene.transfers())
        })
        .collect();
    let counts = Counts::default();
    if let Ok(seed) = std::env::var("VAKA_CAMPAIGN_SEED") {
        let found = one(seed.parse().unwrap(), &lengths, &counts);
        assert!(found.is_empty(), "{}", found.join("\n"));
        return;
    }
    let runs = std::env::var("VAKA_CAMPAIGN").map_or(RUNS, |runs| runs.parse().unwrap());
    let found: Mutex<Vec<String>> = Mutex::default();
    std::thread::scope(|scope| {
        for worker in 0..WORKERS {
            let (lengths, counts, found) = (&lengths, &counts, &found);
            scope.spawn(move || {
                for seed in (1..=runs).filter(|seed| seed % WORKERS == worker) {
                    let untrue = one(seed, lengths, counts);
                    found.lock().unwrap().extend(untrue);
                }
            });
        }
    });
    let found = found.into_inner().unwrap();
    let shown: Vec<&str> = found.iter().take(12).map(String::as_str).collect();
    assert!(found.is_empty(), "{} untrue claims in {runs} runs:\n{}", found.len(), shown.join("\n"));
    // The faults must have been felt, or they did not happen.
    let (failed, disconnects) = (counts.failed.into_inner(), counts.disconnects.into_inner());
    assert!(failed > runs / 4 && disconnects > runs / 40, "{failed} failed, {disconnects} interrupted of {runs}");
}
