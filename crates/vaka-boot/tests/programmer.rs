//! A probe that is written through a programmer, in virtual time: its content is right whatever goes wrong, and another chip
//! is never written.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use support::{FAULT_KINDS, failure, sheet_with};
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::programmer_bus::ProgrammerBus;
use vaka_boot::bench::selector::Selector;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::failure::FailureKind;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::event::{Check, ExitCode, Report, RestartState, RunOutcome, StepName, StepState};
use vaka_core::sheet::Sheet;
use vaka_core::unit_state::UnitState;
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::in_process::SimBus;
use vaka_sim::pins::{Pins, Wiring};
use vaka_sim::unit::avocet::avocet;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::linnet::Linnet;
use vaka_sim::unit::vendor_unit::VendorUnit;
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::{Bus, BusError, DeviceInfo, UsbDevice};

const SHEET: &str = include_str!("../../../demo/sheets/dunlin.toml");
const DIALECTS: [&str; 2] = [
    include_str!("../../../demo/sheets/dunlin.dialect.toml"),
    include_str!("../../../demo/sheets/linnet.dialect.toml"),
];
/// By `objcopy`, from the links of the demo's firmware.
const IMAGE: &[u8] = include_bytes!("../../../demo/firmware/out/dunlin-1.1.0.bin");
const LOADER: &[u8] = include_bytes!("../../../demo/firmware/out/dunlin-loader-1.0.0.hex");
const LOADER_BYTES: &[u8] = include_bytes!("../../../demo/firmware/out/dunlin-loader-1.0.0.bin");
const START: u32 = 0x1C00;

const BOARD: &str = "1-1";
const PROBE: &str = "1-2";
const BYSTANDER: &str = "1-3";

/// A bus that cannot be listed while `is_out` is set.
struct Flaky {
    bus: SimBus,
    is_out: Arc<AtomicBool>,
}

impl Bus for Flaky {
    fn name(&self) -> &str {
        self.bus.name()
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        if self.is_out.load(Ordering::SeqCst) {
            return Err(BusError::Unreachable { bus: "sim".into(), reason: "out of order".into() });
        }
        self.bus.list()
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        self.bus.open(port)
    }
}

/// A programmer that is wired to a unit, and another probe that is not.
struct Workbench {
    world: SharedWorld,
    clock: Arc<VirtualClock>,
    sheet: Sheet,
    bystander: Vec<u8>,
    /// Whether the bus cannot be listed between the read-back and the restart.
    is_out_before_restart: bool,
    /// Ports where further probes are attached at the restart.
    newcomers: &'static [&'static str],
}

impl Workbench {
    fn new(unit: VendorUnit, wiring: Wiring, of_board: Vec<Fault>) -> Self {
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        world.plug(BOARD, Box::new(Linnet::new(PROBE, "L-00004", wiring)), of_board);
        world.plug(PROBE, Box::new(unit), Vec::new());
        world.plug(BYSTANDER, Box::new(dunlin("N-00999")), Vec::new());
        let bystander = world.unit(BYSTANDER).unwrap().flash().bytes().to_vec();
        Self {
            world: world.shared(),
            clock,
            sheet: sheet_with(SHEET, &DIALECTS),
            bystander,
            is_out_before_restart: false,
            newcomers: &[],
        }
    }

    /// The stage with the bootloader.
    fn loader_stage(mut self) -> Self {
        let stage = self.sheet.stage("loader").unwrap().clone();
        self.sheet = self.sheet.for_stage(&stage);
        self
    }

    fn run(&self, file: &'static [u8], consents: &[&str]) -> (Report, Vec<Event>) {
        let sheets = [self.sheet.clone()];
        let is_out = Arc::new(AtomicBool::new(false));
        let bus = SimBus::new(self.world.clone(), self.clock.clone());
        let usb: Arc<dyn Bus> = Arc::new(Flaky { bus, is_out: is_out.clone() });
        let targets = ProgrammerBus::new(vec![usb.clone()], &sheets);
        let bench = Bench::new(vec![usb, Arc::new(targets)], &sheets);
        let request = Request {
            unit: Some(Selector::Programmer("linnet".into())),
            label: Some("n1".into()),
            consents: consents.iter().map(|id| (*id).to_owned()).collect(),
            wait: Duration::from_secs(4),
            ..Request::new(file)
        };
        let (stop, mut events) = (AtomicBool::new(false), Vec::new());
        let mut tell = |event| {
            if let Event::Step { step, state, .. } = &event {
                let (is_read, is_done) = (*step == StepName::ReadBack, *state == StepState::Done);
                is_out.store(self.is_out_before_restart && is_read && is_done, Ordering::SeqCst);
                for port in self.newcomers.iter().filter(|_| *step == StepName::Restart && !is_done) {
                    lock(&self.world).plug(port, Box::new(dunlin(port)), Vec::new());
                }
            }
            events.push(event);
        };
        let report = update::run(&bench, &request, &mut Unattended, &mut Context::new(&*self.clock, &mut tell, &stop));
        self.is_true(&report);
        (report, events)
    }

    /// Compares a report with the truth; the other probe is as it was.
    #[track_caller]
    fn is_true(&self, report: &Report) {
        let mut world = lock(&self.world);
        assert!(world.unit(BYSTANDER).unwrap().flash().bytes() == self.bystander, "the other probe: {report:?}");
        if report.code == ExitCode::Done {
            let runs = [Condition::Application, Condition::Boot].contains(&world.unit(PROBE).unwrap().condition());
            assert!(runs && report.after == RestartState::Confirmed, "{report:?}");
            assert_eq!(report.application.as_ref().unwrap().port, PROBE);
        }
    }

    fn holds(&self, at: u32, bytes: &[u8]) -> bool {
        lock(&self.world).unit(PROBE).unwrap().flash().read(at, bytes.len()) == Some(bytes)
    }

    fn memory(&self) -> Vec<u8> {
        lock(&self.world).unit(PROBE).unwrap().flash().bytes().to_vec()
    }

    fn condition(&self) -> Condition {
        // A released chip starts within this time.
        vaka_usb::Clock::sleep(&*self.clock, Duration::from_secs(1));
        lock(&self.world).unit(PROBE).unwrap().condition()
    }
}

#[test]
fn a_blank_chip_gets_its_bootloader_and_shows_up_on_its_own_port() {
    let bench = Workbench::new(dunlin("N-00301").blank(), Wiring::Right, Vec::new()).loader_stage();
    let (report, events) = bench.run(LOADER, &[]);
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(bench.holds(0, LOADER_BYTES));
    assert_eq!(report.programmer.as_deref(), Some("Linnet programmer"));
    assert_eq!((report.unit.as_deref(), report.serial.as_deref()), (Some(BOARD), Some("N-00301")));
    assert_eq!(bench.condition(), Condition::Boot);
}

#[test]
fn a_damaged_application_is_replaced_and_confirmed() {
    let bench = Workbench::new(dunlin("N-00301").damaged(), Wiring::Right, Vec::new());
    let (report, events) = bench.run(IMAGE, &[]);
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(bench.holds(START, IMAGE));
    assert_eq!(report.application.unwrap().version.unwrap().to_string(), "1.1.0");
    let (again, _) = bench.run(IMAGE, &[]);
    assert_eq!((again.code, again.outcome, again.bytes_written), (ExitCode::Done, RunOutcome::Unchanged, 0));
}

/// No chip, swapped wires, another chip: each is reported, nothing is changed, and a chip that answers runs
/// again.
#[test]
fn a_chip_that_is_not_reached_or_another_one_is_left_alone() {
    let words = |events: &[Event]| match &*failure(events).unwrap().kind {
        FailureKind::NoTarget { error, .. } => error.to_string(),
        other => panic!("{other:?}"),
    };
    for (wiring, says) in [(Wiring::Off, "no chip answers"), (Wiring::Crossed, "the data line is stuck")] {
        let bench = Workbench::new(dunlin("N-00301"), wiring, Vec::new());
        let before = bench.memory();
        let (report, events) = bench.run(IMAGE, &[]);
        assert_eq!(report.code, ExitCode::NoUnit);
        assert!(words(&events).contains(says), "{}", words(&events));
        let steps = events.iter().filter(|event| matches!(event, Event::ManualStep { .. })).count();
        assert_eq!(steps, 3, "the wiring is shown");
        assert!(bench.memory() == before);
        assert_eq!(bench.condition(), Condition::Application);
    }
    let bench = Workbench::new(avocet("V-00012"), Wiring::Right, Vec::new());
    let before = bench.memory();
    let (report, events) = bench.run(IMAGE, &[]);
    assert_eq!(report.code, ExitCode::Refused, "{:?}", failure(&events));
    assert_eq!(report.state, Some(UnitState::Unchanged), "{report:?}");
    assert!(bench.memory() == before);
    assert_eq!(bench.condition(), Condition::Application, "it is let go");
}

/// The wires are put on while the tool waits.
#[test]
fn a_chip_that_is_wired_meanwhile_is_found() {
    let bench = Workbench::new(dunlin("N-00301").damaged(), Wiring::Off, Vec::new());
    let wire = |after, wiring| {
        lock(&bench.world).act_later(BOARD, Duration::from_millis(after), UserAction::Wire(wiring));
    };
    wire(1200, Wiring::Crossed);
    wire(2600, Wiring::Right);
    let (report, events) = bench.run(IMAGE, &[]);
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(bench.holds(START, IMAGE));
}

/// A lock is lifted only with consent, and only where the bootloader is written too.
#[test]
fn a_locked_chip_is_erased_only_with_consent() {
    let locked = || {
        let mut unit = dunlin("N-00301");
        unit.lock();
        unit
    };
    let bench = Workbench::new(locked(), Wiring::Right, Vec::new()).loader_stage();
    let before = bench.memory();
    let (report, events) = bench.run(LOADER, &[]);
    assert!(matches!(*failure(&events).unwrap().kind, FailureKind::ReadProtected { .. }), "{report:?}");
    assert!(report.code == ExitCode::Refused && bench.memory() == before);
    assert_eq!(bench.condition(), Condition::Boot, "it is let go, and its bootloader listens");
    let (report, events) = bench.run(LOADER, &["unprotect"]);
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(bench.holds(0, LOADER_BYTES) && bench.holds(START, &[0xFF; 64]), "all else is erased");

    let bench = Workbench::new(locked(), Wiring::Right, Vec::new());
    let (report, _) = bench.run(IMAGE, &["unprotect"]);
    assert!(report.code == ExitCode::Refused && bench.memory() == before, "the bootloader would be lost");
}

/// Two probes that appear at the same time: neither is taken for the one that was written.
#[test]
fn another_probe_that_appears_is_not_the_confirmation() {
    let bench = Workbench::new(dunlin("N-00301").damaged(), Wiring::Right, Vec::new());
    // The probe's own cable is out: its chip has power from elsewhere.
    let mut world = lock(&bench.world);
    world.act(PROBE, &UserAction::Pull);
    drop(world);
    let (report, _) = bench.run(IMAGE, &[]);
    assert_eq!((report.code, report.after), (ExitCode::NotBack, RestartState::NotBack));
    assert!(bench.holds(START, IMAGE), "and yet it is written");
}

/// The bus cannot be listed before the restart: a probe that was there all the time is not taken for the one that
/// was written.
#[test]
fn a_probe_that_was_there_before_is_not_the_confirmation() {
    let mut bench = Workbench::new(dunlin("N-00301").damaged(), Wiring::Right, Vec::new());
    bench.is_out_before_restart = true;
    lock(&bench.world).act(PROBE, &UserAction::Pull);
    let (report, _) = bench.run(IMAGE, &[]);
    assert_eq!((report.code, report.after), (ExitCode::NotBack, RestartState::NotBack), "{report:?}");
    assert!(report.application.is_none() && bench.holds(START, IMAGE));
}

/// Two probes appear after the restart: which of them was written is not known, so nothing is confirmed.
#[test]
fn two_probes_that_appear_at_once_confirm_nothing() {
    let mut bench = Workbench::new(dunlin("N-00301").damaged(), Wiring::Right, Vec::new());
    bench.newcomers = &["1-4", "1-5"];
    lock(&bench.world).act(PROBE, &UserAction::Pull);
    let (report, _) = bench.run(IMAGE, &[]);
    assert_eq!((report.code, report.after), (ExitCode::NotBack, RestartState::NotBack), "{report:?}");
    assert!(report.application.is_none() && bench.holds(START, IMAGE));
}

/// Faults at the transfers of the programmer, and a programmer that loses its power.
#[test]
fn no_fault_at_a_transfer_of_the_programmer_ends_in_a_false_success() {
    let whole = Workbench::new(dunlin("N-00301").damaged(), Wiring::Right, Vec::new());
    assert_eq!(whole.run(IMAGE, &[]).0.code, ExitCode::Done);
    let count = lock(&whole.world).transfers(BOARD);
    let mut failed = 0;
    for at in (1..=count).filter(|at| *at < 24 || at % 29 == 0 || *at > count - 10) {
        for kind in FAULT_KINDS.iter().chain(&[FaultKind::Pull(None)]) {
            let what = format!("{kind:?} at transfer {at} of {count}");
            let bench =
                Workbench::new(dunlin("N-00301").damaged(), Wiring::Right, vec![Fault { at, kind: kind.clone() }]);
            let (first, events) = bench.run(IMAGE, &[]);
            if first.code == ExitCode::Done {
                assert!(bench.holds(START, IMAGE), "{what}: a false success");
                continue;
            }
            failed += 1;
            assert!(!failure(&events).unwrap().remedies.is_empty(), "{what}");
            let mut world = lock(&bench.world);
            world.clear_faults(BOARD);
            world.act(BOARD, &UserAction::Plug);
            drop(world);
            let (second, events) = bench.run(IMAGE, &[]);
            assert_eq!(second.code, ExitCode::Done, "{what}: {first:?} then {:?}", failure(&events));
            assert!(bench.holds(START, IMAGE), "{what}: the second run");
        }
    }
    assert!(failed > 30, "{failed} of {count}");
}
