//! What moves a dialect's frames: one open device, and the transfers of its carrier.

use std::time::Duration;

use vaka_base::text;
use vaka_core::unit::MemoryChoice;
use vaka_dialect::{
    Carrier, Dialect, Exchange, FieldView, LineSetting, Memory, Name, Recipient, Report, RequestForm, Trouble, Value,
    Via,
};
use vaka_usb::counting::{Counting, TransferCount};
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::{Pipe, Setup, UsbDevice, strings};

use crate::context::Pace;
use crate::protocol::dfu::{Link, Work};
use crate::protocol::identity;
use crate::protocol::serial::{SerialPort, class_out, in_packets};
use crate::protocol::session::SessionError;

/// wLength of a request to the host whose reply does not say how long it is.
/// Chosen by us: more than any reply that is met; a unit may send less.
const LONG_REPLY: u16 = 1024;

/// HID class requests. Source: HID 1.11, section 7.2.
const GET_REPORT: u8 = 0x01;
const SET_REPORT: u8 = 0x09;

/// Interface classes. Source: the list of class codes that usb.org keeps.
const CLASS_HID: u8 = 0x03;

/// An open unit and the way its frames take.
pub(super) struct Wire {
    line: Line,
    count: TransferCount,
}

enum Line {
    Control { device: Counting, interface: u8 },
    Hid { device: Counting, interface: u8, pipe_in: Option<Pipe>, pipe_out: Option<Pipe> },
    Pipes { device: Counting, pipe_in: Pipe, pipe_out: Pipe },
    Serial(SerialPort),
    Dfu { link: Box<Link>, uploading: bool },
}

fn missing(what: &str) -> SessionError {
    SessionError::Misbehaved(format!("it has no {what}, which its dialect needs"))
}

impl Wire {
    /// Claims what the carrier needs, and sets the line.
    pub(super) fn open(
        mut device: Box<dyn UsbDevice>,
        dialect: &Dialect,
        pace: &mut Pace<'_>,
    ) -> Result<Self, SessionError> {
        let carrier = &dialect.carrier;
        if let Carrier::Dfu { interface } = carrier {
            return Self::open_dfu(device, *interface, pace);
        }
        let configuration = strings::configuration(&mut *device)?;
        let (mut device, count) = Counting::new(device);
        let line = match carrier {
            Carrier::Control { interface } => {
                if let Some(interface) = interface {
                    device.claim(*interface, 0)?;
                }
                Line::Control { device, interface: interface.unwrap_or(0) }
            }
            Carrier::Hid { interface, .. } => {
                let found = find(&configuration, *interface, |i| i.class == CLASS_HID)
                    .ok_or_else(|| missing("HID interface"))?;
                device.claim(found.number, 0)?;
                let pipe = |is_in| found.pipes.iter().find(|pipe| pipe.is_in() == is_in).copied();
                Line::Hid { device, interface: found.number, pipe_in: pipe(true), pipe_out: pipe(false) }
            }
            Carrier::Pipes { interface, pipe_out, pipe_in, .. } => {
                let has = |i: &Interface, wanted: Option<u8>, is_in: bool| {
                    i.pipes.iter().copied().find(|pipe| match wanted {
                        Some(address) => pipe.address == address,
                        None => pipe.is_in() == is_in,
                    })
                };
                let both = |i: &Interface| has(i, *pipe_out, false).zip(has(i, *pipe_in, true));
                let one = find(&configuration, *interface, |i| both(i).is_some());
                let (pipes, claims) = match one.and_then(|i| Some((both(i)?, vec![i]))) {
                    Some(found) => found,
                    // Pipes that are named may belong to two interfaces.
                    None => {
                        let of = |wanted: Option<u8>, is_in| {
                            let holds = |i: &&Interface| has(i, wanted, is_in).is_some();
                            let found = configuration.interfaces.iter().find(holds).filter(|_| wanted.is_some())?;
                            Some((found, has(found, wanted, is_in)?))
                        };
                        let ((a, out), (b, back)) = of(*pipe_out, false)
                            .zip(of(*pipe_in, true))
                            .filter(|_| interface.is_none())
                            .ok_or_else(|| missing("such pair of pipes"))?;
                        ((out, back), vec![a, b])
                    }
                };
                for claim in claims {
                    device.claim(claim.number, claim.alternate)?;
                }
                let (pipe_out, pipe_in) = pipes;
                Line::Pipes { device, pipe_in, pipe_out }
            }
            Carrier::Serial { interface, line, dtr, rts } => {
                let port = SerialPort::open(device, &configuration, *interface)?;
                let mut port = port.ok_or_else(|| missing("serial port (CDC-ACM)"))?;
                if let Some(line) = line {
                    port.set_line(*line)?;
                }
                port.signal(Some(*dtr), Some(*rts))?;
                Line::Serial(port)
            }
            Carrier::Dfu { .. } => return Err(missing("carrier")),
        };
        Ok(Self { line, count })
    }

    fn open_dfu(
        mut device: Box<dyn UsbDevice>,
        interface: Option<u8>,
        pace: &mut Pace<'_>,
    ) -> Result<Self, SessionError> {
        let identity = identity::identify(&mut *device)?;
        let choice = MemoryChoice { interface, ..MemoryChoice::default() };
        let opening = identity.first_opening(&choice).ok_or_else(|| missing("DFU interface"))?;
        let link = Link::open(device, opening, pace)?;
        let count = link.count();
        Ok(Self { line: Line::Dfu { link: Box::new(link), uploading: false }, count })
    }

    /// USB transfers so far.
    pub(super) fn transfers(&self) -> u64 {
        self.count.get()
    }

    /// Notes in a trace what is about to be done.
    pub(super) fn note(&mut self, dialect: &Dialect, operation: &str, given: &[(Name, Value)]) {
        if self.device().takes_notes() {
            let told = |(name, value): &(Name, Value)| (dialect.name_text(*name).to_owned(), written(value));
            let told: Vec<(String, String)> = given.iter().map(told).collect();
            self.device().note(&dialect.name, operation, &told);
        }
    }

    fn device(&mut self) -> &mut dyn UsbDevice {
        match &mut self.line {
            Line::Control { device, .. }
            | Line::Hid { device, .. }
            | Line::Pipes { device, .. }
            | Line::Serial(SerialPort { device, .. }) => device,
            Line::Dfu { link, .. } => &mut link.device,
        }
    }

    /// Waits until the unit has left the bus; whether it has.
    pub(super) fn has_left(&mut self, within: Duration) -> bool {
        self.device().has_left(within)
    }

    /// Sets speed and form of a serial line.
    pub(super) fn set_line(&mut self, line: LineSetting) -> Result<(), SessionError> {
        if let Line::Serial(port) = &mut self.line { port.set_line(line) } else { Ok(()) }
    }

    /// Sets the control lines that are named.
    pub(super) fn signal(&mut self, dtr: Option<bool>, rts: Option<bool>) -> Result<(), SessionError> {
        if let Line::Serial(port) = &mut self.line { port.signal(dtr, rts) } else { Ok(()) }
    }

    /// Sends the frame of an exchange.
    pub(super) fn send(
        &mut self,
        exchange: &Exchange,
        memory: &Memory,
        frame: &[u8],
        timeout: Duration,
        pace: &mut Pace<'_>,
    ) -> Result<(), SessionError> {
        match &mut self.line {
            Line::Control { device, interface } => {
                let Some(form) = &exchange.control.out else { return Ok(()) };
                let (setup, _) = setup(form, memory, *interface, false)?;
                Ok(device.control_out(setup, frame, timeout)?)
            }
            Line::Hid { device, interface, pipe_out, .. } => {
                send_report(device, *interface, *pipe_out, exchange, memory, frame, timeout)
            }
            Line::Pipes { device, pipe_out, .. } => match memory.dialect().carrier {
                Carrier::Pipes { empty_packet: true, .. } => pipe_out_ended(device, *pipe_out, frame, timeout),
                _ => pipe_out_all(device, *pipe_out, frame, timeout),
            },
            Line::Serial(port) => port.send(frame, timeout),
            Line::Dfu { link, uploading } => {
                if std::mem::take(uploading) {
                    link.abort(pace)?;
                }
                let block = block(exchange, memory)?;
                link.download(block, frame, work(timeout), pace).map_err(|(_, error)| error)
            }
        }
    }

    /// Receives what comes for an exchange: a frame, or of a stream at least a byte.
    pub(super) fn receive(
        &mut self,
        exchange: &Exchange,
        memory: &Memory,
        wanted: usize,
        timeout: Duration,
        pace: &mut Pace<'_>,
    ) -> Result<Vec<u8>, SessionError> {
        match &mut self.line {
            Line::Control { device, interface } => {
                let Some(form) = &exchange.control.back else { return Ok(Vec::new()) };
                let (setup, length) = setup(form, memory, *interface, true)?;
                let known = memory.reply_length(exchange).filter(|len| *len > 0);
                let known = known.map(|len| u16::try_from(len).unwrap_or(u16::MAX));
                Ok(device.control_in(setup, length.or(known).unwrap_or(LONG_REPLY), timeout)?)
            }
            Line::Hid { device, interface, pipe_in, .. } => {
                receive_report(device, *interface, *pipe_in, exchange, memory, timeout)
            }
            Line::Pipes { device, pipe_in, .. } => {
                let whole = if memory.dialect().framing.is_stream() { wanted } else { usize::from(pipe_in.packet) };
                Ok(device.pipe_in(*pipe_in, in_packets(*pipe_in, whole), timeout)?)
            }
            Line::Serial(port) => port.receive(wanted, timeout),
            Line::Dfu { link, uploading } => {
                if exchange.take == Some(Via::Status) {
                    return link.raw_status(pace);
                }
                if !*uploading {
                    link.abort(pace)?;
                }
                *uploading = true;
                let length = memory.reply_length(exchange).and_then(|len| u16::try_from(len).ok());
                let length = length.unwrap_or(link.opening.block_size).min(link.opening.block_size).max(1);
                link.upload(block(exchange, memory)?, length, pace)
            }
        }
    }

    /// Leaves the unit as another program would like to find it.
    pub(super) fn rest(&mut self, pace: &mut Pace<'_>) {
        if let Line::Dfu { link, uploading } = &mut self.line {
            let _ = link.go_idle(pace);
            *uploading = false;
        }
    }

    /// Throws away what comes unasked within a time; whether something came.
    pub(super) fn drain(&mut self, within: Duration) -> bool {
        match &mut self.line {
            Line::Pipes { device, pipe_in, .. }
            | Line::Serial(SerialPort { device, pipe_in, .. })
            | Line::Hid { device, pipe_in: Some(pipe_in), .. } => {
                device.pipe_in(*pipe_in, usize::from(pipe_in.packet), within).is_ok_and(|bytes| !bytes.is_empty())
            }
            Line::Control { .. } | Line::Hid { .. } | Line::Dfu { .. } => false,
        }
    }

    /// Makes both sides of a pipe agree again after a stall.
    pub(super) fn unhalt(&mut self) {
        let (device, pipes) = match &mut self.line {
            Line::Pipes { device, pipe_in, pipe_out } | Line::Serial(SerialPort { device, pipe_in, pipe_out, .. }) => {
                (device, [Some(*pipe_in), Some(*pipe_out)])
            }
            Line::Hid { device, pipe_in, pipe_out, .. } => (device, [*pipe_in, *pipe_out]),
            Line::Control { .. } | Line::Dfu { .. } => return,
        };
        for pipe in pipes.into_iter().flatten() {
            let _ = device.clear_halt(pipe);
        }
    }
}

/// A value as it stands in a record.
fn written(value: &Value) -> String {
    match value {
        Value::Int(number) => number.to_string(),
        Value::Bytes(bytes) => text::hex(bytes),
        Value::Truth(truth) => truth.to_string(),
    }
}

/// The longest work that a DFU unit may be at, for a deadline.
fn work(timeout: Duration) -> Work {
    if timeout > Duration::from_secs(10) { Work::Erase } else { Work::Block }
}

fn block(exchange: &Exchange, memory: &Memory) -> Result<u16, SessionError> {
    let number = exchange.block.as_ref().map_or(Ok(0), |block| memory.int(block));
    let number = number.map_err(|words| SessionError::Dialect { exchange: exchange.name.clone(), words })?;
    Ok((number & 0xFFFF).try_into().unwrap_or(0))
}

fn find(configuration: &Configuration, number: Option<u8>, fits: impl Fn(&Interface) -> bool) -> Option<&Interface> {
    configuration.interfaces.iter().find(|i| number.is_none_or(|number| i.number == number) && fits(i))
}

/// The setup packet of a request, and its length if the dialect says one.
fn setup(
    form: &RequestForm,
    memory: &Memory,
    interface: u8,
    is_in: bool,
) -> Result<(Setup, Option<u16>), SessionError> {
    let number = |of: &vaka_dialect::Expression, most: i128| {
        let number = memory.int(of).map_err(SessionError::Misbehaved)?;
        match number {
            number if (0..=most).contains(&number) => Ok(u16::try_from(number).unwrap_or(0)),
            number => {
                Err(SessionError::Misbehaved(format!("{number} does not fit a request's field of at most {most}")))
            }
        }
    };
    let word = |of: &Option<vaka_dialect::Expression>| of.as_ref().map(|of| number(of, 0xFFFF)).transpose();
    let recipient = match form.to {
        Recipient::Device => 0,
        Recipient::Interface => 1,
        Recipient::Endpoint => 2,
        Recipient::Other => 3,
    };
    let own = if form.to == Recipient::Interface { u16::from(interface) } else { 0 };
    let setup = Setup {
        kind: u8::from(is_in) << 7 | form.class << 5 | recipient,
        request: u8::try_from(number(&form.request, 0xFF)?).unwrap_or(0),
        value: word(&form.value)?.unwrap_or(0),
        index: word(&form.index)?.unwrap_or(own),
    };
    Ok((setup, word(&form.length)?))
}

fn pipe_out_all(device: &mut Counting, pipe: Pipe, frame: &[u8], timeout: Duration) -> Result<(), SessionError> {
    for piece in frame.chunks(vaka_usb::MAX_PIPE_TRANSFER) {
        device.pipe_out(pipe, piece, timeout)?;
    }
    Ok(())
}

/// A frame of whole packets, for a unit that waits for its end. Source: USB 2.0,
/// section 5.8.3.
fn pipe_out_ended(device: &mut Counting, pipe: Pipe, frame: &[u8], timeout: Duration) -> Result<(), SessionError> {
    pipe_out_all(device, pipe, frame, timeout)?;
    if !frame.is_empty() && frame.len().is_multiple_of(usize::from(pipe.packet)) {
        device.pipe_out(pipe, &[], timeout)?;
    }
    Ok(())
}

/// Report type in wValue. Source: HID 1.11, section 7.2.1.
fn report_type(report: Report) -> u16 {
    match report {
        Report::Input => 1,
        Report::Output => 2,
        Report::Feature => 3,
    }
}

fn send_report(
    device: &mut Counting,
    interface: u8,
    pipe: Option<Pipe>,
    exchange: &Exchange,
    memory: &Memory,
    frame: &[u8],
    timeout: Duration,
) -> Result<(), SessionError> {
    let Carrier::Hid { send, report, length, fill, .. } = &memory.dialect().carrier else { return Ok(()) };
    if frame.len() > *length {
        let words = format!("the frame has {} bytes, and a report holds {length}", frame.len());
        return Err(SessionError::Dialect { exchange: exchange.name.clone(), words });
    }
    let id = exchange.report.or(*report);
    let mut bytes = Vec::with_capacity(length + 1);
    bytes.extend(id);
    bytes.extend_from_slice(frame);
    bytes.resize(length + usize::from(id.is_some()), *fill);
    let kind = match exchange.via {
        Some(Via::Report(kind)) => kind,
        _ => *send,
    };
    match pipe {
        Some(pipe) if kind == Report::Output => Ok(device.pipe_out(pipe, &bytes, timeout)?),
        _ => {
            let value = report_type(kind) << 8 | u16::from(id.unwrap_or(0));
            Ok(device.control_out(class_out(SET_REPORT, value, interface), &bytes, timeout)?)
        }
    }
}

/// A report of another id than the one that was expected.
fn other_report(exchange: &Exchange, id: u8, bytes: Vec<u8>) -> SessionError {
    let found = bytes.first().map_or("nothing".to_owned(), |found| format!("report {found}"));
    let words = format!("at byte 0, the report's id: expected {id}; received {found}");
    let says = format!("expected report {id}; this is {found}");
    let fields = vec![FieldView { field: "(report id)".into(), bytes, says, is_wrong: true }];
    SessionError::Frame(Box::new(Trouble { exchange: exchange.name.clone(), words, fields }))
}

fn receive_report(
    device: &mut Counting,
    interface: u8,
    pipe: Option<Pipe>,
    exchange: &Exchange,
    memory: &Memory,
    timeout: Duration,
) -> Result<Vec<u8>, SessionError> {
    let Carrier::Hid { reply, report, reply_length, .. } = &memory.dialect().carrier else { return Ok(Vec::new()) };
    let id = exchange.report.or(*report);
    let length = reply_length + usize::from(id.is_some());
    let kind = match exchange.take {
        Some(Via::Report(kind)) => kind,
        _ => *reply,
    };
    let mut bytes = match pipe {
        Some(pipe) if kind == Report::Input => {
            device.pipe_in(pipe, length.next_multiple_of(usize::from(pipe.packet)), timeout)?
        }
        _ => {
            let value = report_type(kind) << 8 | u16::from(id.unwrap_or(0));
            let index = u16::from(interface);
            let setup = Setup { kind: Setup::CLASS_INTERFACE_IN, request: GET_REPORT, value, index };
            device.control_in(setup, u16::try_from(length).unwrap_or(u16::MAX), timeout)?
        }
    };
    if let Some(id) = id {
        if bytes.first() != Some(&id) {
            return Err(other_report(exchange, id, bytes));
        }
        bytes.remove(0);
    }
    Ok(bytes)
}
