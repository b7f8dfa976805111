//! Two nodes on one CAN bus, in virtual time: the right one is updated, whatever goes wrong, and the
//! other never.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use support::sheet_with;
use vaka_boot::bench::adapter_source::AdapterSource;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::node_bus::NodeBus;
use vaka_boot::bench::selector::Selector;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::protocol::dialect::Interpreter;
use vaka_boot::update::{self, Request};
use vaka_core::event::{ExitCode, Report, RestartState, RunOutcome, StepName};
use vaka_core::sheet::Sheet;
use vaka_core::unit_state::UnitState;
use vaka_dialect::{Dialect, no_files};
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::flash::Flash;
use vaka_sim::in_process::SimBus;
use vaka_sim::unit::can_adapter::CanAdapter;
use vaka_sim::unit::turnstone::{Chip, Turnstone};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_testkit::Random;
use vaka_usb::Bus;

const SHEET: &str = include_str!("../../../demo/sheets/turnstone.toml");
const DIALECTS: [&str; 2] = [
    include_str!("../../../demo/sheets/turnstone.dialect.toml"),
    include_str!("../../../demo/sheets/turnstone-app.dialect.toml"),
];
const IMAGE: &[u8] = include_bytes!("../../../demo/firmware/out/turnstone-t1-1.1.0.bin");

/// The node that is updated, the other node, and the adapter.
const NODE: &str = "north";
const OTHER: &str = "south";
const ADAPTER: &str = "1-1";

/// A bus with two nodes.
struct Quay {
    world: SharedWorld,
    clock: Arc<VirtualClock>,
    sheet: Sheet,
    other: Vec<u8>,
}

impl Quay {
    fn new(node: Turnstone, of_node: Vec<Fault>, of_adapter: Vec<Fault>) -> Self {
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        world.plug(ADAPTER, Box::new(CanAdapter::new("quay", "CA-0007")), of_adapter);
        world.plug(NODE, Box::new(node), of_node);
        world.plug(OTHER, Box::new(Turnstone::new(Chip::T2, "quay", 9, 0x5A00_2B90)), Vec::new());
        let other = world.unit(OTHER).unwrap().flash().bytes().to_vec();
        Self { world: world.shared(), clock, sheet: sheet_with(SHEET, &DIALECTS), other }
    }

    /// Runs an update, and checks its report against the truth.
    #[track_caller]
    fn run(&self, what: &str) -> Report {
        let before = self.memory();
        let report = self.updated();
        if report.state == Some(UnitState::Unchanged) {
            assert!(self.memory() == before, "{what}: {report:?}");
        }
        self.is_true(&report, what);
        report
    }

    fn memory(&self) -> Vec<u8> {
        lock(&self.world).unit(NODE).unwrap().flash().bytes().to_vec()
    }

    fn updated(&self) -> Report {
        let sheets = [self.sheet.clone()];
        let usb: Arc<dyn Bus> = Arc::new(SimBus::new(self.world.clone(), self.clock.clone()));
        let source = AdapterSource::with_ids(usb.clone(), self.sheet.product.adapters.clone());
        let nodes = NodeBus::new(vec![source], self.sheet.node_dialects(), self.clock.clone());
        let bench = Bench::new(vec![usb, Arc::new(nodes)], &sheets);
        let request = Request {
            unit: Some(Selector::Node("5a0017c2".into())),
            label: Some("t1".into()),
            wait: Duration::from_secs(20),
            ..Request::new(IMAGE)
        };
        let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
        update::run(&bench, &request, &mut Unattended, &mut Context::new(&*self.clock, &mut quiet, &never))
    }

    fn holds(&self) -> bool {
        let mut world = lock(&self.world);
        let flash = world.unit(NODE).unwrap().flash();
        flash.read(Chip::T1.application().start, IMAGE.len()) == Some(IMAGE)
    }

    /// The truth about a run: a success has the content and the application, and the other node is as it
    /// was.
    #[track_caller]
    fn is_true(&self, report: &Report, what: &str) {
        let condition = lock(&self.world).unit(NODE).unwrap().condition();
        assert_ne!(condition, Condition::Bricked, "{what}");
        if report.code == ExitCode::Done {
            assert!(self.holds() && condition == Condition::Application, "{what}: {report:?}");
            assert_eq!(report.after, RestartState::Confirmed, "{what}");
        }
        assert!(lock(&self.world).unit(OTHER).unwrap().flash().bytes() == self.other, "{what}: the other node");
    }
}

fn node() -> Turnstone {
    Turnstone::new(Chip::T1, "quay", 4, 0x5A00_17C2)
}

#[test]
fn a_node_is_updated_from_its_application_and_confirmed() {
    let quay = Quay::new(node(), Vec::new(), Vec::new());
    let report = quay.run("from its application");
    assert_eq!((report.code, report.version_before.unwrap().to_string()), (ExitCode::Done, "1.0.0".into()));
    let application = report.application.unwrap();
    assert_eq!(application.serial.as_deref(), Some("5a0017c2"));
    assert_eq!(application.version.unwrap().to_string(), "1.1.0");
    // The second time nothing is left to do.
    assert_eq!(quay.run("again").outcome, RunOutcome::Unchanged);
}

/// Faults at the frames that the node hears, and at the transfers of the adapter.
#[test]
fn no_fault_at_a_frame_or_a_transfer_ends_in_a_false_success() {
    let frames: Vec<u64> = (1..30).chain((30..2000).step_by(131)).collect();
    let of_node = [FaultKind::Timeout, FaultKind::PowerFail(Duration::from_millis(300)), FaultKind::Pull(None)];
    let of_adapter = [
        FaultKind::Stall,
        FaultKind::Timeout,
        FaultKind::LostReply,
        FaultKind::Garbled,
        FaultKind::Short,
        FaultKind::Pull(Some(Duration::from_millis(400))),
    ];
    let mut ended_well = 0;
    for at in frames {
        let cases = of_node.iter().map(|kind| (Some(kind.clone()), None));
        for (node_fault, adapter_fault) in cases.chain(of_adapter.iter().map(|kind| (None, Some(kind.clone())))) {
            let what = format!("{node_fault:?} {adapter_fault:?} at {at}");
            let fault = |kind: Option<FaultKind>, at| kind.map(|kind| Fault { at, kind }).into_iter().collect();
            // An adapter has several transfers for each frame.
            let quay = Quay::new(node(), fault(node_fault, at), fault(adapter_fault, at * 4));
            let report = quay.run(&what);
            let mut world = lock(&quay.world);
            world.clear_faults(NODE);
            world.clear_faults(ADAPTER);
            world.act(NODE, &UserAction::Plug);
            drop(world);
            let second = quay.run(&what);
            ended_well += u32::from(second.code == ExitCode::Done);
            assert_eq!(second.code, ExitCode::Done, "{what}: {report:?} then {second:?}");
        }
    }
    assert!(ended_well > 300, "{ended_well}");
}

/// Nodes come and go while one is updated: the other one is never written.
#[test]
fn the_wrong_node_is_never_written() {
    for seed in 1..=20 {
        let mut numbers = Random(seed);
        let quay = Quay::new(node(), Vec::new(), Vec::new());
        for _ in 0..6 {
            let port = if numbers.below(2) == 0 { NODE } else { OTHER };
            let time = |number: usize| Duration::from_millis(u64::try_from(number).unwrap());
            let (off, on) = (time(numbers.below(6000)), time(50 + numbers.below(900)));
            let mut world = lock(&quay.world);
            world.act_later(port, off, UserAction::Pull);
            world.act_later(port, off + on, UserAction::Plug);
        }
        let first = quay.run(&format!("seed {seed}"));
        quay.clock_on(Duration::from_secs(20));
        let second = quay.run(&format!("seed {seed}, again"));
        assert_eq!(second.code, ExitCode::Done, "seed {seed}: {first:?} then {second:?}");
    }
}

/// An answer after the end of a discovery is received by the next one, and is not a second node.
#[test]
fn a_late_answer_is_not_a_second_node() {
    // By hand: node 40 answers after 41 times 150 µs, so later than 5 ms.
    let node = Turnstone::new(Chip::T1, "quay", 40, 0x5A00_17C2).in_boot_mode();
    let quay = Quay::new(node, Vec::new(), Vec::new());
    lock(&quay.world).act(OTHER, &UserAction::Pull);
    let text = DIALECTS[0].replace("for = \"100 ms\"", "for = \"5 ms\"");
    let dialect = Arc::new(Dialect::parse("turnstone", &text, &no_files).unwrap());
    let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
    let mut cx = Context::new(&*quay.clock, &mut quiet, &never);
    let adapter = SimBus::new(quay.world.clone(), quay.clock.clone()).open(ADAPTER).unwrap();
    let mut talk = Interpreter::open(adapter, dialect, None, &mut cx).unwrap();
    let mut discover = || Vec::from_iter(talk.discover(&mut cx).unwrap().into_iter().map(|node| node.id));
    assert!(discover().is_empty());
    assert_eq!(discover(), ["5a0017c2"]);
}

impl Quay {
    fn clock_on(&self, time: Duration) {
        vaka_usb::Clock::sleep(&*self.clock, time);
    }
}

/// In simulated time: a transfer uses at least 80 % of what the bit rate and the bootloader's replies allow.
#[test]
fn a_transfer_uses_most_of_the_bus() {
    let quay = Quay::new(node(), Vec::new(), Vec::new());
    let report = quay.run("timed");
    let took = report.durations_ms.iter().find(|(step, _)| *step == StepName::Write).unwrap().1;
    // By hand: 256 bytes are a message of 261, so 38 frames of 111 bits at 500 kbit/s; the node permits eight
    // frames at a time and replies after 150 µs.
    let frame = Duration::from_micros(222);
    let reply = Duration::from_micros(150) + frame;
    let one = frame * 38 + reply * 5 + reply + Flash::program_time(256);
    let allowed = one * u32::try_from(IMAGE.len().div_ceil(256)).unwrap();
    let share = allowed.as_secs_f64() / Duration::from_millis(took).as_secs_f64();
    assert!((0.8..=1.01).contains(&share), "{share:.3}: {took} ms, and {allowed:?} are needed");
}
