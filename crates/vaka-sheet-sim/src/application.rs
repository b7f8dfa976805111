//! The running application: what it shows, and the signals that it takes.

use std::time::Duration;

use vaka_core::sheet::Signal;
use vaka_sim::bootloader::dfu::{self, Quirks, state};
use vaka_sim::bootloader::disk::{self, Disk};
use vaka_sim::flash::Flash;
use vaka_sim::unit::stick::Stored;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use crate::design::Design;
use crate::dfu::TRANSFER_SIZE;
use crate::disk::interface;
use crate::mode::{Exit, Mode, plain_interface};

/// How long a detach waits for the bus reset. Chosen by us.
const DETACH_TIME: Duration = Duration::from_secs(1);

/// DFU attributes of the run-time interface: it can be downloaded to, and waits for a bus reset. Source:
/// DFU 1.1, section 4.1.3.
const ATTRIBUTES: u8 = 0x05;

/// The progress of a detach.
#[derive(Debug)]
struct Detach {
    interface: u8,
    route: usize,
    /// Until when it waits for a bus reset.
    until: Option<Duration>,
}

/// A disk of the application; its eject may be a signal.
#[derive(Debug)]
struct OwnDisk {
    disk: Disk,
    stored: Stored,
    ejected: Option<usize>,
}

/// An application.
#[derive(Debug)]
pub(crate) struct Application {
    interfaces: Vec<DescribedInterface>,
    detach: Option<Detach>,
    disk: Option<OwnDisk>,
}

impl Application {
    /// The application of a design; `files` is the volume of its disk, if it shows one.
    pub(crate) fn new(design: &Design, files: Option<Vec<u8>>) -> Self {
        let mut interfaces = vec![plain_interface("Data")];
        let detach = design.signalled(|signal| *signal == Signal::DfuDetach).first().map(|route| {
            interfaces.push(run_time_interface());
            Detach { interface: 1, route: *route, until: None }
        });
        let ejected = design.signalled(|signal| *signal == Signal::Eject).first().copied();
        let disk = files.map(|bytes| {
            interfaces.push(interface());
            OwnDisk { disk: Disk::new(disk::Quirks::default()), stored: Stored::new(bytes), ejected }
        });
        Self { interfaces, detach, disk }
    }
}

fn run_time_interface() -> DescribedInterface {
    DescribedInterface {
        class: dfu::RUN_TIME_CLASS,
        names: vec!["Update".to_owned()],
        extra: Quirks::default().functional_descriptor(ATTRIBUTES, TRANSFER_SIZE, 0x0110),
        bulk: Vec::new(),
        interrupt: Vec::new(),
    }
}

impl Detach {
    /// A class request to the run-time interface. Source: DFU 1.1, sections 5.1 and 6.1.
    fn control(&mut self, now: Duration, setup: Setup) -> Answer {
        let waits = self.until.is_some_and(|until| now < until);
        let state = if waits { state::APP_DETACH } else { state::APP_IDLE };
        match (setup.kind, setup.request) {
            (0x21, 0) => {
                self.until = Some(now + DETACH_TIME);
                Answer::Done
            }
            (0xA1, 3) => dfu::status_reply(dfu::status::OK, 0, state),
            (0xA1, 5) => Answer::Data(vec![state]),
            _ => Answer::Stall,
        }
    }
}

impl Mode for Application {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        self.interfaces.clone()
    }

    fn control(&mut self, now: Duration, _: &mut Flash, setup: Setup, _: &[u8]) -> Answer {
        match (&mut self.detach, &mut self.disk) {
            (Some(detach), _) if setup.index == u16::from(detach.interface) => detach.control(now, setup),
            (_, Some(own)) => own.disk.control(Setup { index: 0, ..setup }),
            _ => Answer::Stall,
        }
    }

    fn pipe(&mut self, now: Duration, _: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match &mut self.disk {
            Some(own) => own.disk.bulk(now, transfer, &mut own.stored),
            None => Answer::Stall,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let Some(own) = &mut self.disk {
            own.disk.clear_halt(endpoint);
        }
    }

    fn bus_reset(&mut self, now: Duration, _: &mut Flash) -> Option<Exit> {
        if let Some(own) = &mut self.disk {
            own.disk.bus_reset();
        }
        let detach = self.detach.as_mut()?;
        let is_due = detach.until.take().is_some_and(|until| now < until);
        is_due.then_some(Exit::Enter(detach.route))
    }

    fn advance(&mut self, _: Duration, _: &mut Flash) -> Option<Exit> {
        let own = self.disk.as_ref()?;
        // Not before the host has the reply to its command.
        (own.stored.is_ejected && own.disk.is_idle()).then_some(Exit::Enter(own.ejected?))
    }

    fn disk(&self) -> &[u8] {
        self.disk.as_ref().map_or(&[], |own| &own.stored.bytes)
    }
}
