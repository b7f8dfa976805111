//! The running application: what it shows, and the signals that it takes.

use std::time::Duration;

use vaka_base::version::Version;
use vaka_core::sheet::{Signal, VersionSource};
use vaka_sim::bootloader::dfu::{self, Quirks, state};
use vaka_sim::bootloader::disk::{self, Disk};
use vaka_sim::can::{CanFrame, Fate, Rates};
use vaka_sim::flash::Flash;
use vaka_sim::unit::stick::Stored;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use crate::design::Design;
use crate::dfu::TRANSFER_SIZE;
use crate::dialect::{DialectMode, Engine, Role, SerialCarrier, VersionLine};
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

/// The way to speak with the application, beside USB's own classes.
#[derive(Debug)]
enum Talk {
    /// A dialect, to enter update mode or to confirm that it works.
    Dialect(Box<DialectMode>),
    /// A serial port on which it prints its version.
    Port(SerialCarrier),
}

/// An application.
#[derive(Debug)]
pub(crate) struct Application {
    interfaces: Vec<DescribedInterface>,
    talk: Option<Talk>,
    detach: Option<Detach>,
    disk: Option<OwnDisk>,
}

impl Application {
    /// The application of a design; `files` is the volume of its disk, if it shows one.
    pub(crate) fn new(design: &Design, version: Option<&Version>, files: Option<Vec<u8>>, node: (u64, u8)) -> Self {
        let talk = Talk::new(design, version, node);
        let mut interfaces = talk.as_ref().map(Talk::interfaces).unwrap_or_default();
        interfaces.push(plain_interface("Data"));
        let detach = design.signalled(|signal| *signal == Signal::DfuDetach).first().map(|route| {
            interfaces.push(run_time_interface());
            let interface = u8::try_from(interfaces.len() - 1).unwrap_or(u8::MAX);
            Detach { interface, route: *route, until: None }
        });
        let ejected = design.signalled(|signal| *signal == Signal::Eject).first().copied();
        let disk = files.map(|bytes| {
            interfaces.push(interface());
            OwnDisk { disk: Disk::new(disk::Quirks::default()), stored: Stored::new(bytes), ejected }
        });
        Self { interfaces, talk, detach, disk }
    }
}

impl Talk {
    fn new(design: &Design, version: Option<&Version>, node: (u64, u8)) -> Option<Self> {
        let line = match design.sheet.version_source(&design.parts[0]) {
            VersionSource::Line { send, after, interface, .. } => {
                let text = version.map_or("unknown".to_owned(), Version::to_string);
                let line = VersionLine { send: send.clone(), line: format!("{after}{text}\r\n") };
                Some((line, *interface))
            }
            _ => None,
        };
        let property = match design.sheet.version_source(&design.parts[0]) {
            VersionSource::Told { name } => Some((name.clone(), version.cloned())),
            _ => None,
        };
        let own = design.application_dialect().map(|(dialect, route)| {
            let engine = Engine::new(&dialect, Role::Application { version: property }, &[], node);
            DialectMode::new(engine, route.map_or(Exit::Restart, Exit::Enter), node.1)
        });
        match (own, line) {
            (Some(own), Some((line, _))) if own.has_port() => Some(Self::Dialect(own.with_version(Some(line)).into())),
            (Some(own), _) => Some(Self::Dialect(own.into())),
            (None, Some((line, interface))) => Some(Self::Port(SerialCarrier::new(interface).with_version(Some(line)))),
            (None, None) => None,
        }
    }

    fn interfaces(&self) -> Vec<DescribedInterface> {
        match self {
            Self::Dialect(mode) => mode.interfaces(),
            Self::Port(port) => port.interfaces(),
        }
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

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let is_class = setup.kind & 0x60 == 0x20;
        match (&mut self.detach, &mut self.disk, &mut self.talk) {
            (Some(detach), ..) if is_class && setup.index == u16::from(detach.interface) => detach.control(now, setup),
            (_, Some(own), _) if matches!((setup.kind, setup.request), (0xA1, 0xFE) | (0x21, 0xFF)) => {
                own.disk.control(Setup { index: 0, ..setup })
            }
            (.., Some(Talk::Dialect(mode))) => mode.control(now, flash, setup, data),
            (.., Some(Talk::Port(port))) => port.control(now, setup, data).unwrap_or(Answer::Stall),
            _ => Answer::Stall,
        }
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match (&mut self.disk, &mut self.talk) {
            (Some(own), _) if disk::ENDPOINTS.contains(&transfer.endpoint()) => {
                own.disk.bulk(now, transfer, &mut own.stored)
            }
            (_, Some(Talk::Dialect(mode))) => mode.pipe(now, flash, transfer),
            (_, Some(Talk::Port(port))) => port.pipe_plain(now, transfer),
            _ => Answer::Stall,
        }
    }

    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        match &mut self.talk {
            Some(Talk::Dialect(mode)) => mode.standard(setup),
            _ => None,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let Some(Talk::Dialect(mode)) = &mut self.talk {
            mode.clear_halt(endpoint);
        }

        if let Some(own) = &mut self.disk {
            own.disk.clear_halt(endpoint);
        }
    }

    fn bus_reset(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        if let Some(Talk::Dialect(mode)) = &mut self.talk {
            mode.bus_reset(now, flash);
        }
        if let Some(own) = &mut self.disk {
            own.disk.bus_reset();
        }
        let detach = self.detach.as_mut()?;
        let is_due = detach.until.take().is_some_and(|until| now < until);
        is_due.then_some(Exit::Enter(detach.route))
    }

    fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        if let Some(Talk::Dialect(mode)) = &mut self.talk
            && let Some(exit) = mode.advance(now, flash)
        {
            return Some(exit);
        }
        let own = self.disk.as_ref()?;
        // Not before the host has the reply to its command.
        (own.stored.is_ejected && own.disk.is_idle()).then_some(Exit::Enter(own.ejected?))
    }

    fn rates(&self) -> Option<Rates> {
        if let Some(Talk::Dialect(mode)) = &self.talk { mode.rates() } else { None }
    }

    fn next_frame(&self) -> Option<(Duration, CanFrame)> {
        if let Some(Talk::Dialect(mode)) = &self.talk { mode.next_frame() } else { None }
    }

    fn frame_sent(&mut self, fate: Fate) {
        if let Some(Talk::Dialect(mode)) = &mut self.talk {
            mode.frame_sent(fate);
        }
    }

    fn hear(&mut self, at: Duration, flash: &mut Flash, frame: &CanFrame) {
        if let Some(Talk::Dialect(mode)) = &mut self.talk {
            mode.hear(at, flash, frame);
        }
    }

    fn disk(&self) -> &[u8] {
        self.disk.as_ref().map_or(&[], |own| &own.stored.bytes)
    }
}
