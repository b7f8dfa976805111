//! A simulated unit in virtual time, and updates of it.

use std::cell::RefCell;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::adapter_source::AdapterSource;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::node_bus::NodeBus;
use vaka_boot::bench::programmer_bus::ProgrammerBus;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::Operator;
use vaka_boot::update::{self, Request};
use vaka_core::event::Report;
use vaka_core::matching::Question;
use vaka_core::sheet::Sheet;
use vaka_image::Image;
use vaka_sheet_sim::{BUS, Design, NamedStep, SheetProgrammer, SheetUnit};
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::in_process::SimBus;
use vaka_sim::scene::StartMode;
use vaka_sim::unit::Condition;
use vaka_sim::unit::can_adapter::CanAdapter;
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::{Bus, Clock};

use super::actor::{Actor, UserManner};

/// The port of the unit.
const PORT: &str = "1-1";

/// The port of its adapter, if it is a node.
const ADAPTER: &str = "2-1";

/// The port of the programmer that is wired to it, if it is written through one.
const BOARD: &str = "3-1";

/// Serial number of the unit.
const SERIAL: &str = "SIM-0001";

/// How long the cable is out, in virtual time.
const PULLED: Duration = Duration::from_millis(700);

/// Time for a unit to settle after a run, in virtual time.
const SETTLE: Duration = Duration::from_secs(2);

/// How a unit starts.
#[derive(Clone, Copy)]
pub struct Start {
    pub mode: StartMode,
    /// Whether a programmer is wired to it.
    pub through_programmer: bool,
}

/// One unit.
pub struct Bed {
    clock: Arc<VirtualClock>,
    world: SharedWorld,
    steps: Vec<NamedStep>,
    /// The port whose transfers write the unit.
    worker: &'static str,
}

/// The user as the tool knows him: acknowledges each step, and sees what the sheet promises.
struct User<'a> {
    actor: &'a RefCell<Actor>,
    clock: Arc<VirtualClock>,
}

impl Operator for User<'_> {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        None
    }

    fn is_there(&self) -> bool {
        true
    }

    fn sees(&mut self, _: &[String]) -> Option<bool> {
        Some(true)
    }

    fn await_done(&mut self, _: &str) -> bool {
        let left = self.actor.borrow().time_left();
        self.clock.sleep(left);
        true
    }

    fn take_ack(&mut self) -> bool {
        self.actor.borrow_mut().has_done()
    }
}

/// The end of an update, and the last failure.
pub struct UpdateEnd {
    pub report: Report,
    pub failure: Option<String>,
}

impl Bed {
    /// A unit; with `pulled_at` the cable is pulled at that transfer, that of the programmer if the unit is written
    /// through one.
    pub fn new(design: &Arc<Design>, start: Start, firmware: Option<&Image>, pulled_at: Option<u64>) -> Self {
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        let faults = pulled_at.map(|at| Fault { at, kind: FaultKind::Pull(Some(PULLED)) });
        let faults: Vec<Fault> = faults.into_iter().collect();
        let unit = SheetUnit::new(design.clone(), SERIAL, start.mode, firmware);
        let board = SheetProgrammer::new(design.clone(), PORT, "SIM-PROGRAMMER").filter(|_| start.through_programmer);
        let worker = if board.is_some() { BOARD } else { PORT };
        world.plug(PORT, Box::new(unit), if board.is_some() { Vec::new() } else { faults.clone() });
        if let Some(board) = board {
            world.plug(BOARD, Box::new(board), faults);
        }
        if design.is_node() {
            let ids = design.adapter_ids();
            let adapter = ids.map_or_else(
                || CanAdapter::new(BUS, "SIM-ADAPTER"),
                |ids| CanAdapter::posing_as(ids, BUS, "SIM-ADAPTER"),
            );
            world.plug(ADAPTER, Box::new(adapter), Vec::new());
        }
        Self { clock, world: world.shared(), steps: design.steps(), worker }
    }

    fn buses(&self, sheet: &Sheet) -> Vec<Arc<dyn Bus>> {
        let usb: Arc<dyn Bus> = Arc::new(SimBus::new(self.world.clone(), self.clock.clone()));
        let dialects = sheet.node_dialects();
        let mut buses = vec![usb.clone()];
        if !dialects.is_empty() {
            let source = match sheet.product.adapters.is_empty() {
                true => AdapterSource::port(usb, ADAPTER),
                false => AdapterSource::with_ids(usb, sheet.product.adapters.clone()),
            };
            buses.push(Arc::new(NodeBus::new(vec![source], dialects, self.clock.clone())));
        }
        if self.worker == BOARD {
            let plugged = buses.clone();
            buses.push(Arc::new(ProgrammerBus::new(plugged, std::slice::from_ref(sheet))));
        }
        buses
    }

    /// Updates the unit. The user does the steps that are shown, and before the start those of `unasked`.
    pub fn update(&self, sheet: &Sheet, request: &Request<'_>, manner: UserManner, unasked: &[String]) -> UpdateEnd {
        let actor = Actor::new(&self.world, self.clock.clone(), PORT, self.steps.clone(), manner);
        let actor = RefCell::new(actor);
        actor.borrow_mut().do_all(unasked);
        let mut failure = None;
        let mut tell = |event: Event| {
            actor.borrow_mut().hear(&event);
            if let Event::Error(error) = &event {
                failure = Some(vaka_messages::failure(error).message);
            }
        };
        let stop = AtomicBool::new(false);
        let mut cx = Context::new(&*self.clock, &mut tell, &stop);
        let sheets = std::slice::from_ref(sheet);
        let bench = Bench::new(self.buses(sheet), sheets);
        let mut user = User { actor: &actor, clock: self.clock.clone() };
        let report = update::run(&bench, request, &mut user, &mut cx);
        self.clock.sleep(SETTLE);
        UpdateEnd { report, failure }
    }

    /// Removes the faults that did not happen.
    pub fn clear_faults(&self) {
        lock(&self.world).clear_faults(self.worker);
    }

    /// Class, vendor and bulk transfers so far, or frames of a node.
    pub fn transfers(&self) -> u64 {
        lock(&self.world).transfers(self.worker)
    }

    /// The true memory.
    pub fn memory(&self) -> Vec<u8> {
        lock(&self.world).unit(PORT).map(|unit| unit.flash().bytes().to_vec()).unwrap_or_default()
    }

    /// Whether the true memory has an image.
    pub fn holds(&self, image: &Image) -> bool {
        let mut world = lock(&self.world);
        let Some(unit) = world.unit(PORT) else { return false };
        let is_there = |part: &vaka_image::Segment| {
            let at = part.start().to_u32();
            at.and_then(|at| unit.flash().read(at, part.data().len())) == Some(part.data())
        };
        image.segments().iter().all(is_there)
    }

    /// Whether the unit runs firmware that is not for it, or lost its bootloader.
    pub fn is_bricked(&self) -> bool {
        self.condition() == Some(Condition::Bricked)
    }

    /// Whether its application runs.
    pub fn runs(&self) -> bool {
        self.condition() == Some(Condition::Application)
    }

    fn condition(&self) -> Option<Condition> {
        lock(&self.world).unit(PORT).map(|unit| unit.condition())
    }
}
