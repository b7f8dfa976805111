//! A programmer board that is made from a product sheet, and wired to a unit.

use std::sync::Arc;
use std::time::Duration;

use vaka_sim::flash::Flash;
use vaka_sim::pins::{Pins, Probe, Wiring};
use vaka_sim::unit::power::{ActionEffect, Power};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::usb::{Answer, Bulk, Descriptors, Setup};

use crate::design::Design;
use crate::dialect::{DialectMode, Engine};
use crate::mode::{Exit, Mode};

/// bcdDevice. Chosen by us.
const RELEASE: u16 = 0x0100;

/// A transfer that waits for the pins of the unit.
#[derive(Debug)]
enum QueuedTransfer {
    Out(u8, Vec<u8>),
    Control(Setup, Vec<u8>),
}

/// A programmer.
#[derive(Debug)]
pub struct SheetProgrammer {
    design: Arc<Design>,
    serial: String,
    target: String,
    wiring: Wiring,
    power: Power<DialectMode>,
    waiting: Vec<QueuedTransfer>,
    is_held: bool,
    /// Whether it lost the chip, which then starts.
    lets_go: bool,
    flash: Flash,
}

impl SheetProgrammer {
    /// The programmer of a design, wired to the unit at a port; `None` if the sheet has none.
    pub fn new(design: Arc<Design>, target: &str, serial: &str) -> Option<Self> {
        design.programmer_route()?;
        let (serial, target) = (serial.to_owned(), target.to_owned());
        let (power, flash) = (Power::new(), Flash::new(0, 1, 1));
        let (wiring, waiting) = (Wiring::Right, Vec::new());
        let mut board = Self { design, serial, target, wiring, power, waiting, is_held: false, lets_go: false, flash };
        board.show();
        Some(board)
    }

    fn mode(&self) -> Option<DialectMode> {
        let (route, role) = self.design.programmer_route()?;
        let dialect = route.kind.dialect()?;
        let engine = Engine::new(&dialect.dialect, role, &dialect.tells, (1, 1));
        Some(DialectMode::new(engine, Exit::Restart, 1))
    }

    fn show(&mut self) {
        let Some(mode) = self.mode() else { return };
        let Some((route, _)) = self.design.programmer_route() else { return };
        let Some(programmer) = route.kind.programmer() else { return };
        let ids = programmer.id.example().map_or((0, 0), |id| (id.vendor, id.product));
        let texts = ["Programmer", programmer.about.as_str(), self.serial.as_str()];
        let descriptors = Descriptors::new(ids, RELEASE, texts, mode.interfaces());
        self.power.boot(mode, descriptors);
    }

    fn lose(&mut self) {
        self.lets_go |= std::mem::take(&mut self.is_held);
        self.waiting.clear();
    }
}

impl Probe for SheetProgrammer {
    fn target(&self) -> &str {
        &self.target
    }

    fn work(&mut self, now: Duration, mut pins: Option<&mut dyn Pins>) {
        if std::mem::take(&mut self.lets_go)
            && let Some(pins) = pins.as_deref_mut()
        {
            pins.release(now);
        }
        let waiting = std::mem::take(&mut self.waiting);
        let (Some(mode), Some(pins)) = (self.power.mode(), pins.filter(|_| self.wiring == Wiring::Right)) else {
            return;
        };
        for one in waiting {
            if !std::mem::replace(&mut self.is_held, true) {
                pins.hold();
            }
            match one {
                QueuedTransfer::Out(endpoint, data) => drop(mode.pipe(now, pins.flash(), Bulk::Out(endpoint, &data))),
                QueuedTransfer::Control(setup, data) => drop(mode.control(now, pins.flash(), setup, &data)),
            }
        }
        if mode.advance(now, pins.flash()).is_some() {
            self.is_held = false;
            pins.release(now);
            // The next session starts like the first.
            mode.end_session();
        }
    }
}

impl Unit for SheetProgrammer {
    fn advance(&mut self, now: Duration) {
        if self.power.due(now).is_some() {
            self.show();
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        let Some(mode) = self.power.mode() else { return Answer::Stall };
        match mode.is_for_carrier(setup) {
            true => mode.control(now, &mut self.flash, setup, data),
            false if setup.kind & 0x80 == 0 => {
                self.waiting.push(QueuedTransfer::Control(setup, data.to_vec()));
                Answer::Done
            }
            false => Answer::Stall,
        }
    }

    fn standard(&mut self, _: Duration, setup: Setup) -> Option<Answer> {
        self.power.mode()?.standard(setup)
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        match (self.power.mode(), transfer) {
            (None, _) => Answer::Silent,
            (Some(_), Bulk::Out(endpoint, data)) => {
                self.waiting.push(QueuedTransfer::Out(endpoint, data.to_vec()));
                Answer::Done
            }
            (Some(mode), Bulk::In(..)) => mode.pipe(now, &mut self.flash, transfer),
        }
    }

    fn probe(&mut self) -> Option<&mut dyn Probe> {
        Some(self)
    }

    fn bus_reset(&mut self, _: Duration) {}

    fn act(&mut self, now: Duration, action: &UserAction) {
        if let UserAction::Wire(wiring) = action {
            self.lose();
            self.wiring = *wiring;
        }
        match self.power.apply(action) {
            ActionEffect::Pulled => {
                self.lose();
                self.power.unplug();
            }
            ActionEffect::Plugged => {
                let mode = self.mode();
                self.power.start(now, mode);
            }
            ActionEffect::Nothing | ActionEffect::Tapped(_) => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        self.power.condition(|_| Condition::Application)
    }

    fn revive(&mut self, _: Duration) {
        self.show();
    }
}
