//! A mode of a unit that speaks a dialect: the carrier passes frames to the engine.

use std::time::Duration;

use vaka_dialect::Carrier;
use vaka_dialect::unit_side::{Arrival, SetupPacket, Status};
use vaka_sim::can::{CanFrame, Fate, Rates};
use vaka_sim::flash::Flash;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

use super::dfu::DfuCarrier;
use super::engine::{ArrivalOutcome, Engine, Reply, Work};
use super::hid::HidCarrier;
use super::node::NodeCarrier;
use super::pipes::PipesCarrier;
use super::scsi::ScsiCarrier;
use super::serial::{SerialCarrier, VersionLine};
use crate::mode::{Exit, Mode, plain_interface};

/// The device side of a carrier.
#[derive(Debug)]
enum CarrierSide {
    Control,
    Serial(SerialCarrier),
    Hid(HidCarrier),
    Pipes(PipesCarrier),
    Dfu(DfuCarrier),
    Scsi(ScsiCarrier),
    Can(NodeCarrier),
}

/// A mode in which a unit speaks a dialect.
#[derive(Debug)]
pub(crate) struct DialectMode {
    engine: Engine,
    carrier: CarrierSide,
    /// A reply that the host fetches with a control request.
    pending: Option<Reply>,
    /// The mode after this one.
    exit: Exit,
}

impl DialectMode {
    /// The mode of an engine; `exit` is where the unit goes when it is asked to leave, and `place` its place
    /// among the nodes of a bus.
    pub(crate) fn new(engine: Engine, exit: Exit, place: u8) -> Self {
        let dialect = engine.unit.dialect().clone();
        let carrier = match &dialect.carrier {
            Carrier::Control(_) => CarrierSide::Control,
            Carrier::Serial(serial) => CarrierSide::Serial(SerialCarrier::new(serial.interface)),
            Carrier::Hid(hid) => CarrierSide::Hid(HidCarrier::new(hid)),
            Carrier::Pipes(pipes) => CarrierSide::Pipes(PipesCarrier::new(pipes, &dialect.other_pipes())),
            Carrier::Dfu(_) => CarrierSide::Dfu(DfuCarrier::default()),
            Carrier::Scsi(scsi) => CarrierSide::Scsi(ScsiCarrier::new(scsi)),
            Carrier::Can(can) => CarrierSide::Can(NodeCarrier::new(can, place)),
        };
        Self { engine, carrier, pending: None, exit }
    }

    /// The same, with an application that also prints its version on its serial port.
    pub(crate) fn with_version(mut self, version: Option<VersionLine>) -> Self {
        self.carrier = match self.carrier {
            CarrierSide::Serial(carrier) => CarrierSide::Serial(carrier.with_version(version)),
            other => other,
        };
        self
    }

    /// Whether a request is one of the carrier itself, not one of the dialect.
    pub(crate) fn is_for_carrier(&self, setup: Setup) -> bool {
        setup.kind & 0x60 == 0x20 && !matches!(self.carrier, CarrierSide::Control | CarrierSide::Dfu(_))
    }

    /// The session is over; the next one begins as the first.
    pub(crate) fn end_session(&mut self) {
        self.engine.leaves_at = None;
    }

    /// Whether it has a serial port.
    pub(crate) fn has_port(&self) -> bool {
        matches!(self.carrier, CarrierSide::Serial(_))
    }

    /// A request of the dialect itself on endpoint 0, in any carrier.
    fn request(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let Setup { kind, request, value, index, length } = setup;
        let packet = SetupPacket { request_type: kind, request, value, index };
        let fit = |mut bytes: Vec<u8>| {
            bytes.truncate(length.into());
            Answer::Data(bytes)
        };
        if kind & 0x80 != 0
            && let Some(reply) = self.pending.take()
            && self.engine.unit.fetches(reply.exchange, packet)
        {
            return reply.bytes.map_or(Answer::Stall, fit);
        }
        let arrival = Arrival { bytes: data, is_whole: true, setup: Some(packet), ..Arrival::default() };
        match self.engine.handle(now, flash, arrival) {
            ArrivalOutcome::Request(_, reply) if kind & 0x80 != 0 => reply.bytes.map_or(Answer::Stall, fit),
            ArrivalOutcome::Request(_, reply) if reply.status == Status::Refused && reply.bytes.is_none() => {
                Answer::Stall
            }
            ArrivalOutcome::Request(_, reply) => {
                self.queue(reply);
                Answer::Done
            }
            ArrivalOutcome::More(_) | ArrivalOutcome::Unknown => Answer::Stall,
        }
    }

    /// A reply to a control request comes by another one, or by the carrier.
    fn queue(&mut self, reply: Reply) {
        let dialect = self.engine.unit.dialect();
        let exchange = dialect.exchange(reply.exchange);
        let is_fetched = exchange.control.back.is_some() || matches!(self.carrier, CarrierSide::Control);
        match &mut self.carrier {
            _ if is_fetched => self.pending = Some(reply),
            CarrierSide::Serial(carrier) => carrier.reply(&dialect.framing, reply),
            CarrierSide::Hid(carrier) => carrier.replies.push_back(reply),
            CarrierSide::Pipes(carrier) => carrier.reply(&dialect.framing, exchange, reply),
            CarrierSide::Control | CarrierSide::Dfu(_) | CarrierSide::Scsi(_) | CarrierSide::Can(_) => {
                self.pending = Some(reply);
            }
        }
    }
}

impl Mode for DialectMode {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        match &self.carrier {
            CarrierSide::Control => vec![plain_interface("Loader")],
            CarrierSide::Serial(carrier) => carrier.interfaces(),
            CarrierSide::Hid(carrier) => carrier.interfaces(),
            CarrierSide::Pipes(carrier) => carrier.interfaces(),
            CarrierSide::Dfu(carrier) => carrier.interfaces(),
            CarrierSide::Scsi(carrier) => carrier.interfaces(),
            CarrierSide::Can(_) => Vec::new(),
        }
    }

    fn frame_sent(&mut self, fate: Fate) {
        if let CarrierSide::Can(carrier) = &mut self.carrier {
            carrier.sent(fate);
        }
    }

    fn rates(&self) -> Option<Rates> {
        if let CarrierSide::Can(carrier) = &self.carrier { Some(carrier.rates()) } else { None }
    }

    fn next_frame(&self) -> Option<(Duration, CanFrame)> {
        if let CarrierSide::Can(carrier) = &self.carrier { carrier.next() } else { None }
    }

    fn hear(&mut self, at: Duration, flash: &mut Flash, frame: &CanFrame) {
        if let CarrierSide::Can(carrier) = &mut self.carrier {
            carrier.hear(at, flash, &mut self.engine, frame);
        }
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let work = &mut Work { now, flash: &mut *flash, engine: &mut self.engine };
        let own = match &mut self.carrier {
            CarrierSide::Control | CarrierSide::Pipes(_) | CarrierSide::Can(_) => None,
            CarrierSide::Serial(carrier) => carrier.control_with(now, work.engine, setup, data),
            CarrierSide::Hid(carrier) => carrier.control(work, setup, data),
            CarrierSide::Dfu(carrier) => carrier.control(work, setup, data),
            CarrierSide::Scsi(carrier) => carrier.control(setup),
        };
        own.unwrap_or_else(|| self.request(now, flash, setup, data))
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match &mut self.carrier {
            CarrierSide::Serial(carrier) => carrier.pipe(now, flash, &mut self.engine, transfer),
            CarrierSide::Hid(carrier) => carrier.pipe(&mut Work { now, flash, engine: &mut self.engine }, transfer),
            CarrierSide::Pipes(carrier) => carrier.pipe(now, flash, &mut self.engine, transfer),
            CarrierSide::Scsi(carrier) => carrier.pipe(now, flash, &mut self.engine, transfer),
            CarrierSide::Control | CarrierSide::Dfu(_) | CarrierSide::Can(_) => Answer::Stall,
        }
    }

    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        match &self.carrier {
            CarrierSide::Hid(carrier) => carrier.standard(setup),
            _ => None,
        }
    }

    fn clear_halt(&mut self, endpoint: u8) {
        if let CarrierSide::Scsi(carrier) = &mut self.carrier {
            carrier.disk.clear_halt(endpoint);
        }
    }

    fn bus_reset(&mut self, _: Duration, _: &mut Flash) -> Option<Exit> {
        if let CarrierSide::Scsi(carrier) = &mut self.carrier {
            carrier.disk.bus_reset();
        }
        None
    }

    fn advance(&mut self, now: Duration, _: &mut Flash) -> Option<Exit> {
        self.engine.leaves_at.is_some_and(|at| now >= at).then_some(self.exit)
    }

    fn was_asked(&self) -> bool {
        self.engine.was_asked
    }
}
