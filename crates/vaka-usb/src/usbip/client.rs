//! The client: a bus of devices that a USB/IP server has.
//!
//! Each list uses a connection of its own; each open device has one connection with at most one
//! transfer in flight. By the servers' rule, closing such a connection resets the device.

use std::io::{self, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::wire::{self, DEFAULT_PORT, DeviceRecord, Message, OpHeader, status};
use crate::bus::{Bus, BusError, DeviceInfo, InterfaceClass, Location, PolledWatch, Speed};
use crate::clock::SystemClock;
use crate::device::{EndpointInfo, MAX_PIPE_TRANSFER, PipeKind, Setup, TransferError, UsbDevice};
use crate::strings::{self, Patience};
use vaka_base::ParseError;

/// Time limit for connecting, listing and importing. Chosen by us: long enough for a busy machine
/// in the same building, short enough for a waiting user.
const SERVER_TIMEOUT: Duration = Duration::from_secs(4);

/// Time for a server to answer a cancellation. Chosen by us.
const UNLINK_TIMEOUT: Duration = Duration::from_secs(2);

/// Time for a server to release a closed device. Chosen by us.
const CLOSE_TIMEOUT: Duration = Duration::from_millis(300);

/// How long to retry a busy device: its former user may have just ended. Chosen by us; the
/// kernel's server resets the device first.
const BUSY_FOR: Duration = Duration::from_millis(700);

/// How long a server may still list a detached device. Chosen by us.
const LIST_SETTLES: Duration = Duration::from_millis(300);

/// More devices than a server can have ports for; a longer list is damaged.
const MAX_DEVICES: u32 = 4096;

/// Most bytes of messages that nothing waits for, during one transfer. Chosen by us: more than a
/// server can have pending.
const MOST_IGNORED: usize = 128 * 1024;

/// A USB/IP server as a bus. Nothing is connected until it is used.
#[derive(Clone, Debug)]
pub struct UsbIpBus {
    name: String,
    server: String,
    /// The last list and its time: many units request the list repeatedly.
    last: Arc<Mutex<Option<(Instant, Listed)>>>,
}

type Listed = Result<Vec<DeviceInfo>, BusError>;

impl UsbIpBus {
    /// A bus from `usbip://HOST[:PORT]`.
    ///
    /// # Errors
    /// `name` is not of that form.
    pub fn new(name: &str) -> Result<Self, ParseError> {
        let wrong =
            || ParseError::new(format!("'{name}' is not a bus; write it like usb, usbip://HOST or usbip://HOST:PORT"));
        let server = name.strip_prefix("usbip://").map(|rest| rest.trim_end_matches('/')).ok_or_else(wrong)?;
        let has_port = server.rsplit_once(':').is_some_and(|(host, port)| {
            !port.is_empty()
                && port.bytes().all(|byte| byte.is_ascii_digit())
                && (!host.contains(':') || host.ends_with(']'))
        });
        if server.is_empty() || server.starts_with(':') || server.contains('/') || server.contains('@') {
            return Err(wrong());
        }
        let server = if has_port { server.to_owned() } else { format!("{server}:{DEFAULT_PORT}") };
        Ok(Self { name: format!("usbip://{server}"), server, last: Arc::default() })
    }

    fn connect(&self) -> Result<ServerConnection, BusError> {
        let unreachable = |reason: String| BusError::Unreachable { bus: self.name.clone(), reason };
        let addresses = self.server.to_socket_addrs().map_err(|error| unreachable(error.to_string()))?;
        let mut last = "the name has no address".to_owned();
        for address in addresses {
            match TcpStream::connect_timeout(&address, SERVER_TIMEOUT) {
                Ok(stream) => return ServerConnection::new(stream).map_err(|error| unreachable(error.to_string())),
                Err(error) => last = error.to_string(),
            }
        }
        Err(unreachable(last))
    }

    /// Sends a request and reads the header of its reply.
    fn ask(&self, request: &[u8], reply: u16) -> Result<(ServerConnection, OpHeader), BusError> {
        let mut connection = self.connect()?;
        let deadline = Instant::now() + SERVER_TIMEOUT;
        connection.send(request).map_err(|error| self.failed(error))?;
        let header = connection.take::<{ wire::OP_HEADER_LEN }>(deadline).map_err(|error| self.failed(error))?;
        let header = OpHeader::parse(&header);
        if header.version != wire::VERSION {
            return Err(self.protocol(format!(
                "its version is {:04x}, expected {:04x}",
                header.version,
                wire::VERSION
            )));
        }
        if header.code != reply {
            return Err(self.protocol(format!("it replied with {:04x}, expected {reply:04x}", header.code)));
        }
        Ok((connection, header))
    }

    fn failed(&self, error: LinkError) -> BusError {
        match error {
            LinkError::TimedOut => BusError::Unreachable {
                bus: self.name.clone(),
                reason: "it accepts the connection, but does not reply".into(),
            },
            LinkError::Closed => self.protocol("it closed the connection in the middle of a reply".into()),
        }
    }

    fn protocol(&self, what: String) -> BusError {
        BusError::Protocol { bus: self.name.clone(), what }
    }

    fn info(&self, record: &DeviceRecord, interfaces: Vec<InterfaceClass>) -> DeviceInfo {
        DeviceInfo {
            location: Location { bus: self.name.clone(), port: record.busid.clone() },
            address: record.devid(),
            speed: speed(record.speed),
            vendor: record.vendor,
            product: record.product,
            release: record.release,
            interfaces,
            product_text: None,
            serial: None,
            node: None,
        }
    }
}

/// The kernel's numbers. Source: Linux, `uapi/linux/usb/ch9.h`.
fn speed(number: u32) -> Speed {
    match number {
        1 => Speed::Low,
        2 => Speed::Full,
        3 => Speed::High,
        5 => Speed::Super,
        6 => Speed::SuperPlus,
        _ => Speed::Unknown,
    }
}

impl Bus for UsbIpBus {
    fn name(&self) -> &str {
        &self.name
    }

    fn resets_on_close(&self) -> bool {
        true
    }

    /// One caller at a time requests the list; callers that waited meanwhile share the reply.
    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        let came = Instant::now();
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        match &*last {
            Some((asked, listed)) if *asked >= came => listed.clone(),
            _ => {
                let asked = Instant::now();
                let listed = self.ask_for_list();
                *last = Some((asked, listed.clone()));
                listed
            }
        }
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let give_up = Instant::now() + BUSY_FOR;
        loop {
            match self.try_open(port) {
                Err(BusError::Busy(_)) if Instant::now() < give_up => std::thread::sleep(PolledWatch::INTERVAL),
                other => return other,
            }
        }
    }
}

impl UsbIpBus {
    fn ask_for_list(&self) -> Listed {
        let request = OpHeader::new(wire::OP_REQ_DEVLIST, 0).emit();
        let (mut connection, header) = self.ask(&request, wire::OP_REP_DEVLIST)?;
        if header.status != 0 {
            return Err(self.protocol(format!("it rejected the list request with status {}", header.status)));
        }
        let deadline = Instant::now() + SERVER_TIMEOUT;
        let count = u32::from_be_bytes(connection.take(deadline).map_err(|error| self.failed(error))?);
        if count > MAX_DEVICES {
            return Err(self.protocol(format!("it states {count} devices")));
        }
        let mut devices = Vec::new();
        for _ in 0..count {
            let record = connection.take::<{ wire::DEVICE_LEN }>(deadline).map_err(|error| self.failed(error))?;
            let record = DeviceRecord::parse(&record);
            let mut interfaces = Vec::new();
            for _ in 0..record.interfaces {
                let [class, subclass, protocol, _] =
                    connection.take::<{ wire::INTERFACE_LEN }>(deadline).map_err(|error| self.failed(error))?;
                interfaces.push(InterfaceClass { class, subclass, protocol });
            }
            devices.push(self.info(&record, interfaces));
        }
        Ok(devices)
    }

    fn try_open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let location = Location { bus: self.name.clone(), port: port.to_owned() };
        let Some(busid) = wire::emit_busid(port) else { return Err(BusError::NotFound(location)) };
        let mut request = OpHeader::new(wire::OP_REQ_IMPORT, 0).emit().to_vec();
        request.extend_from_slice(&busid);
        let (mut connection, header) = self.ask(&request, wire::OP_REP_IMPORT)?;
        // Source: the kernel's tools, `usbip_common.h`. Servers that know only
        // 0 and 1 use 1 for all that fails.
        match header.status {
            0 => {}
            1 | 4 => return Err(BusError::NotFound(location)),
            2 => return Err(BusError::Busy(location)),
            3 => return Err(BusError::DeviceError(location)),
            other => return Err(self.protocol(format!("it rejected the import with status {other}"))),
        }
        let deadline = Instant::now() + SERVER_TIMEOUT;
        let record = connection.take::<{ wire::DEVICE_LEN }>(deadline).map_err(|error| self.failed(error))?;
        let record = DeviceRecord::parse(&record);
        Ok(Box::new(UsbIpDevice {
            connection,
            bus: self.clone(),
            port: port.to_owned(),
            devid: record.devid(),
            speed: speed(record.speed),
            is_configured: record.configuration != 0,
            seqnum: 0,
            cancelled: Vec::new(),
            over: None,
        }))
    }
}

/// The stream with a buffer, so that a time-out inside a message loses no data.
#[derive(Debug)]
struct ServerConnection {
    stream: TcpStream,
    buffer: Vec<u8>,
    /// Room for one read.
    piece: Box<[u8]>,
    /// The read time-out of the stream.
    patience: Option<Duration>,
}

/// Bytes that are read at once.
const PIECE: usize = 16 * 1024;

/// Why no more data arrived.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum LinkError {
    /// The deadline passed; the data so far is kept.
    TimedOut,
    /// The other end closed the connection.
    Closed,
}

impl ServerConnection {
    fn new(stream: TcpStream) -> io::Result<Self> {
        stream.set_nodelay(true)?;
        stream.set_write_timeout(Some(SERVER_TIMEOUT))?;
        Ok(Self { stream, buffer: Vec::new(), piece: vec![0; PIECE].into(), patience: None })
    }

    fn send(&mut self, bytes: &[u8]) -> Result<(), LinkError> {
        self.stream.write_all(bytes).map_err(|error| match error.kind() {
            io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut => LinkError::TimedOut,
            _ => LinkError::Closed,
        })
    }

    fn take<const N: usize>(&mut self, deadline: Instant) -> Result<[u8; N], LinkError> {
        self.fill(N, deadline)?;
        let mut bytes = [0; N];
        bytes.copy_from_slice(&self.buffer[..N]);
        self.buffer.drain(..N);
        Ok(bytes)
    }

    fn take_vec(&mut self, len: usize, deadline: Instant) -> Result<Vec<u8>, LinkError> {
        self.fill(len, deadline)?;
        Ok(self.buffer.drain(..len).collect())
    }

    /// Limits the next read. A time-out that is shorter, or hardly longer, stays: setting it costs a system call for
    /// each transfer.
    fn wait_at_most(&mut self, left: Duration) -> bool {
        if self.patience.is_none_or(|patience| patience > left + left / 16) {
            self.patience = self.stream.set_read_timeout(Some(left)).is_ok().then_some(left);
        }
        self.patience.is_some()
    }

    /// Reads until the buffer has `len` bytes.
    fn fill(&mut self, len: usize, deadline: Instant) -> Result<(), LinkError> {
        while self.buffer.len() < len {
            let left = deadline.saturating_duration_since(Instant::now());
            if left.is_zero() || !self.wait_at_most(left) {
                return Err(LinkError::TimedOut);
            }
            match self.stream.read(&mut self.piece) {
                Ok(0) => return Err(LinkError::Closed),
                Ok(count) => self.buffer.extend_from_slice(&self.piece[..count]),
                Err(error) => match error.kind() {
                    // The time-out of the stream may be shorter than what is left.
                    io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut => self.patience = None,
                    io::ErrorKind::Interrupted => {}
                    _ => return Err(LinkError::Closed),
                },
            }
        }
        Ok(())
    }
}

/// An imported device.
#[derive(Debug)]
struct UsbIpDevice {
    connection: ServerConnection,
    /// The server and the port, to check whether the device is still listed.
    bus: UsbIpBus,
    port: String,
    devid: u32,
    speed: Speed,
    /// The kernel's server exports devices without a configuration.
    is_configured: bool,
    seqnum: u32,
    /// Cancelled transfers whose result may still arrive: number and requested length (0 for
    /// OUT).
    cancelled: Vec<(u32, u32)>,
    /// The fatal error of the connection, if any.
    over: Option<TransferError>,
}

/// One transfer.
struct Transfer<'a> {
    /// Number without the direction; 0 for control transfers.
    endpoint: u8,
    interval: u32,
    /// Zeros for all but control transfers.
    setup: [u8; 8],
    is_in: bool,
    length: u32,
    data: &'a [u8],
}

impl<'a> Transfer<'a> {
    /// A transfer to the device on endpoint 0.
    fn control(setup: [u8; 8], length: u16, data: &'a [u8]) -> Self {
        Self { endpoint: 0, interval: 0, setup, is_in: false, length: u32::from(length), data }
    }
}

impl Drop for UsbIpDevice {
    /// Waits until the server has released the device too, so that the next user finds it free.
    fn drop(&mut self) {
        let stream = &mut self.connection.stream;
        let closed = stream.shutdown(std::net::Shutdown::Write);
        if closed.is_err() || stream.set_read_timeout(Some(CLOSE_TIMEOUT)).is_err() {
            return;
        }
        let deadline = Instant::now() + CLOSE_TIMEOUT;
        let mut rest = [0; 1024];
        while matches!(stream.read(&mut rest), Ok(count) if count > 0) && Instant::now() < deadline {}
    }
}

impl UsbIpDevice {
    /// An endpoint transfer in the form that the server's kernel requires.
    fn on_pipe<'a>(&self, pipe: EndpointInfo, length: usize, data: &'a [u8]) -> Result<Transfer<'a>, TransferError> {
        let length = u32::try_from(length).ok().filter(|length| *length <= wire::MAX_TRANSFER);
        let length = length.ok_or(TransferError::Unsupported("more than 64 KiB in one transfer"))?;
        let interval = match (pipe.kind, self.speed) {
            (PipeKind::Bulk, _) => 0,
            // Source: USB 2.0, table 9-13: milliseconds, or 2 to the power of
            // one less in microframes.
            (PipeKind::Interrupt, Speed::Low | Speed::Full | Speed::Unknown) => u32::from(pipe.interval.max(1)),
            (PipeKind::Interrupt, _) => 1 << (pipe.interval.clamp(1, 16) - 1),
        };
        Ok(Transfer { endpoint: pipe.address & 0x0F, interval, setup: [0; 8], is_in: pipe.is_in(), length, data })
    }

    fn transfer(&mut self, transfer: &Transfer<'_>, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        if let Some(error) = &self.over {
            return Err(error.clone());
        }
        let deadline = Instant::now() + timeout;
        let seqnum = self.submit(transfer)?;
        match self.result_of(seqnum, transfer, deadline) {
            Err(LinkError::TimedOut) => self.unlink(seqnum, transfer),
            Err(LinkError::Closed) => Err(self.closed()),
            Ok(result) => result,
        }
    }

    fn submit(&mut self, transfer: &Transfer<'_>) -> Result<u32, TransferError> {
        self.seqnum = self.seqnum.wrapping_add(1);
        let message = Message::Submit {
            devid: self.devid,
            is_in: transfer.is_in,
            endpoint: u32::from(transfer.endpoint),
            flags: if transfer.is_in { wire::FLAG_DIR_IN } else { 0 },
            length: transfer.length,
            interval: transfer.interval,
            setup: transfer.setup,
        };
        let mut bytes = message.emit(self.seqnum).to_vec();
        bytes.extend_from_slice(transfer.data);
        match self.connection.send(&bytes) {
            Ok(()) => Ok(self.seqnum),
            Err(LinkError::Closed) => Err(self.closed()),
            Err(LinkError::TimedOut) => Err(self.end(unresponsive())),
        }
    }

    /// Reads until the result of `seqnum` arrives.
    fn result_of(
        &mut self,
        seqnum: u32,
        transfer: &Transfer<'_>,
        deadline: Instant,
    ) -> Result<Result<Vec<u8>, TransferError>, LinkError> {
        for _ in 0..MOST_IGNORED / wire::HEADER_LEN {
            match self.message(deadline)? {
                Some((number, Message::Submitted { status, length })) if number == seqnum => {
                    let room = if transfer.is_in { transfer.length } else { 0 };
                    let Some(data) = self.payload(room, length)? else { return Ok(Err(self.nonsense())) };
                    return Ok(outcome(status).map(|()| data));
                }
                Some((number, Message::Submitted { length, .. })) => {
                    if !self.swallow(number, length)? {
                        return Ok(Err(self.nonsense()));
                    }
                }
                Some((_, Message::Unlinked { .. })) => {}
                _ => break,
            }
        }
        Ok(Err(self.nonsense()))
    }

    fn message(&mut self, deadline: Instant) -> Result<Option<(u32, Message)>, LinkError> {
        Ok(Message::parse(&self.connection.take(deadline)?))
    }

    /// The payload of a result; `None` if the server claims more than was requested. After its
    /// header, the payload has a time limit of its own.
    fn payload(&mut self, room: u32, length: u32) -> Result<Option<Vec<u8>>, LinkError> {
        if room == 0 {
            return Ok(Some(Vec::new()));
        }
        if length > room {
            return Ok(None);
        }
        let deadline = Instant::now() + UNLINK_TIMEOUT;
        // A payload that stops half-way leaves the stream out of step.
        let data = self.connection.take_vec(length as usize, deadline).map_err(|_| LinkError::Closed)?;
        Ok(Some(data))
    }

    /// Discards the late result of a cancelled transfer; false if there is none.
    fn swallow(&mut self, seqnum: u32, length: u32) -> Result<bool, LinkError> {
        let Some(at) = self.cancelled.iter().position(|(number, _)| *number == seqnum) else { return Ok(false) };
        let (_, room) = self.cancelled.swap_remove(at);
        Ok(self.payload(room, length)?.is_some())
    }

    /// Cancels a transfer that timed out. If the transfer completed before the server processed
    /// the cancellation, returns its result: the data is read from the device and would
    /// otherwise be lost. A result that arrives after the cancellation's reply is discarded.
    fn unlink(&mut self, target: u32, transfer: &Transfer<'_>) -> Result<Vec<u8>, TransferError> {
        let room = if transfer.is_in { transfer.length } else { 0 };
        self.seqnum = self.seqnum.wrapping_add(1);
        let seqnum = self.seqnum;
        let message = Message::Unlink { devid: self.devid, target };
        if self.connection.send(&message.emit(seqnum)).is_err() {
            return Err(self.end(unresponsive()));
        }
        let deadline = Instant::now() + UNLINK_TIMEOUT;
        for _ in 0..MOST_IGNORED / wire::HEADER_LEN {
            match self.message(deadline) {
                Ok(Some((number, Message::Unlinked { .. }))) if number == seqnum => {
                    self.cancelled.push((target, room));
                    return Err(TransferError::Timeout);
                }
                Ok(Some((_, Message::Unlinked { .. }))) => {}
                Ok(Some((number, Message::Submitted { status, length }))) if number == target => {
                    return match self.payload(room, length) {
                        Ok(Some(data)) => outcome(status).map(|()| data),
                        Ok(None) => Err(self.nonsense()),
                        Err(_) => Err(self.closed()),
                    };
                }
                Ok(Some((number, Message::Submitted { length, .. }))) => match self.swallow(number, length) {
                    Ok(true) => {}
                    Ok(false) => return Err(self.nonsense()),
                    Err(_) => return Err(self.closed()),
                },
                Ok(_) => return Err(self.nonsense()),
                Err(LinkError::TimedOut) => return Err(self.end(unresponsive())),
                Err(LinkError::Closed) => return Err(self.closed()),
            }
        }
        Err(self.nonsense())
    }

    /// Handles a connection that was closed during a transfer. A server closes it when the device
    /// is detached; but if the device is still listed unchanged, or if the server does not
    /// respond, only the connection was lost.
    fn closed(&mut self) -> TransferError {
        let (bus, port, devid) = (self.bus.clone(), self.port.clone(), self.devid);
        let is_same = |device: &DeviceInfo| device.location.port == port && device.address == devid;
        let deadline = Instant::now() + LIST_SETTLES;
        let error = loop {
            match bus.ask_for_list() {
                Err(_) => break TransferError::Failed(format!("the connection to {} was lost", bus.name)),
                Ok(devices) if !devices.iter().any(is_same) => break TransferError::Disconnected,
                Ok(_) if Instant::now() >= deadline => {
                    break TransferError::Failed(format!(
                        "the connection to {} was lost; the server still lists the unit",
                        bus.name
                    ));
                }
                Ok(_) => std::thread::sleep(PolledWatch::INTERVAL),
            }
        };
        self.end(error)
    }

    /// Ends the connection: every later transfer fails with the same error.
    fn end(&mut self, error: TransferError) -> TransferError {
        let _ = self.connection.stream.shutdown(std::net::Shutdown::Both);
        self.over.get_or_insert(error).clone()
    }

    fn nonsense(&mut self) -> TransferError {
        self.end(TransferError::Failed("the USB/IP server sent an unexpected message".into()))
    }
}

fn unresponsive() -> TransferError {
    TransferError::Failed("the USB/IP server stopped replying".into())
}

fn outcome(status: i32) -> Result<(), TransferError> {
    match status {
        0 => Ok(()),
        status::STALL => Err(TransferError::Stall),
        status::GONE | status::SHUT_DOWN => Err(TransferError::Disconnected),
        status::TOO_MUCH => Err(TransferError::Overflow),
        other => Err(TransferError::Failed(format!("the USB/IP server reports {other}"))),
    }
}

/// SET_CONFIGURATION. Source: USB 2.0, section 9.4.7.
const SET_CONFIGURATION: u8 = 0x09;
/// SET_INTERFACE. Source: USB 2.0, section 9.4.10.
const SET_INTERFACE: u8 = 0x0B;

impl UsbIpDevice {
    /// Sets the first configuration, if none is set yet.
    fn configure(&mut self) -> Result<(), TransferError> {
        if !self.is_configured {
            let value = u16::from(strings::configuration(self, &mut Patience::new(&SystemClock))?.value);
            let setup = Setup { kind: 0x00, request: SET_CONFIGURATION, value, index: 0 };
            self.control_out(setup, &[], SERVER_TIMEOUT)?;
            self.is_configured = true;
        }
        Ok(())
    }
}

impl UsbDevice for UsbIpDevice {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let setup = setup.bytes(length);
        // A transfer without data counts as OUT, regardless of its setup packet.
        let transfer = Transfer { is_in: length > 0, ..Transfer::control(setup, length, &[]) };
        self.transfer(&transfer, timeout)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let length = u16::try_from(data.len()).map_err(|_| TransferError::Unsupported("more than 65535 bytes"))?;
        self.transfer(&Transfer::control(setup.bytes(length), length, data), timeout).map(drop)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        self.configure()?;
        let setup =
            Setup { kind: 0x01, request: SET_INTERFACE, value: u16::from(alternate), index: u16::from(interface) };
        match self.control_out(setup, &[], SERVER_TIMEOUT) {
            // A device with setting 0 only may reject SET_INTERFACE; the kernel's server then
            // returns its own error.
            Err(TransferError::Stall | TransferError::Failed(_)) if alternate == 0 && self.over.is_none() => Ok(()),
            other => other,
        }
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        self.transfer(&self.on_pipe(pipe, length.min(MAX_PIPE_TRANSFER), &[])?, timeout)
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.transfer(&self.on_pipe(pipe, data.len(), data)?, timeout).map(drop)
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        // CLEAR_FEATURE(ENDPOINT_HALT); the kernel's server handles it like its own system call.
        // Source: USB 2.0, section 9.4.1.
        let setup = Setup { kind: 0x02, request: 1, value: 0, index: u16::from(pipe.address) };
        self.control_out(setup, &[], SERVER_TIMEOUT)
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        // The server closes the connection when the device is detached; other data is the late
        // result of a cancelled transfer, and is kept.
        let deadline = Instant::now() + within;
        while self.over.is_none() {
            let wanted = self.connection.buffer.len() + 1;
            match self.connection.fill(wanted, deadline) {
                Ok(()) => {}
                Err(LinkError::TimedOut) => break,
                Err(LinkError::Closed) => drop(self.end(TransferError::Disconnected)),
            }
        }
        self.over == Some(TransferError::Disconnected)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        match self.transfer(&Transfer::control(wire::PORT_RESET, 0, &[]), SERVER_TIMEOUT) {
            // The device returned with other descriptors, and the server released it.
            Err(TransferError::Disconnected) => Ok(()),
            other => other.map(drop),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bus_names_are_read() {
        for (name, full) in [
            ("usbip://bench", "usbip://bench:3240"),
            ("usbip://127.0.0.1:40001/", "usbip://127.0.0.1:40001"),
            ("usbip://[::1]", "usbip://[::1]:3240"),
            ("usbip://[::1]:99", "usbip://[::1]:99"),
        ] {
            assert_eq!(UsbIpBus::new(name).unwrap().name(), full);
        }
        for bad in ["usb", "usbip://", "usbip://:3240", "http://bench", "usbip://a/b", "usbip://me@bench"] {
            assert!(UsbIpBus::new(bad).is_err(), "{bad}");
        }
    }
}
